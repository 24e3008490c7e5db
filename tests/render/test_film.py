"""Pictures and film, read back."""

import os
from fractions import Fraction
from pathlib import Path

import av
import msgspec
import numpy as np
import pytest
from PIL import Image
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import Camera, PointAim, Shot
from kestrav.core.document.shots import film_frames
from kestrav.core.errors import BadInput, Cancelled
from kestrav.render import film, sinks
from kestrav.render.frames import FrameStore, packed, read_frame, unpacked
from kestrav.render.picture import Studio, plain_studio


@pytest.fixture(scope="module")
def filmed():
    """A red cube that moves to the right before a grey background."""
    opened = make_project(
        {"Cube": (box_mesh(60, 60, 60), (-200, 0, 0))}, straight((-200, 0, 0), (200, 0, 0)), duration=1.0
    )
    project = edits.update(opened.project, "part-1", colour="#cc2200")
    camera = Camera("camera-1", "Eye", PointAim((0, 0, 0)), position=(0.0, -900.0, 0.0))
    shot = Shot("shot-1", "Take", "camera-1", 0.0, 1.0, 320, 180, 25.0, "#808080")
    return edits.add(project, camera, shot), opened.meshes


def shot_of(project, **fields):
    return msgspec.structs.replace(project.shots[0], **fields)


def red_centre(picture):
    """Mean column of the reddish pixels."""
    red = picture[:, :, 0].astype(int) - picture[:, :, 2] > 60
    return np.argwhere(red)[:, 1].mean()


def test_the_picture_shows_the_part_where_the_pinhole_puts_it(filmed):
    project, meshes = filmed
    studio = plain_studio(project, meshes, 320, 180, "#808080")
    for time, x in ((0.25, -100.0), (0.5, 0.0), (0.75, 100.0)):
        # the cube's near face is 870 mm away; its column follows from f = 35 mm on 36 mm over 320 pixels
        expected = 159.5 + x / 870 * 35 / 36 * 320
        assert red_centre(studio.picture(project.cameras[0], time)) == pytest.approx(expected, abs=5)
    corner = studio.picture(project.cameras[0], 0.5)[2, 2]
    assert corner == pytest.approx([128, 128, 128], abs=2)
    studio.close()


def test_paths_are_in_a_picture_only_when_asked_for(filmed):
    project, meshes = filmed
    pictures = []
    for paths in (False, True):
        studio = plain_studio(project, meshes, 320, 180, "#808080", paths=paths)
        pictures.append(studio.picture(project.cameras[0], 0.0).astype(int))
        studio.close()
    changed = np.argwhere(np.abs(pictures[1] - pictures[0]).max(axis=2) > 24)
    # a level line through the middle of the picture, on both sides of the cube
    assert len(changed) > 40 and np.abs(changed[:, 0] - 89.5).max() < 8


def test_a_film_has_its_frames_size_rate_duration_and_colour(filmed, tmp_path):
    project, meshes = filmed
    shot = shot_of(project, width=161, height=91)
    target = film.render_shot(project, meshes, shot, tmp_path / "take.mp4")
    with av.open(str(target)) as container:
        stream = container.streams.video[0]
        assert stream.codec_context.name == "h264"
        assert stream.average_rate == Fraction(25)
        # odd sides cannot be coded with halved colour, and are rounded down
        assert (stream.width, stream.height) == (160, 90)
        assert (stream.codec_context.colorspace, stream.codec_context.color_primaries) == (1, 1)
        frames = list(container.decode(stream))
    assert len(frames) == 25
    assert float(frames[-1].time + 1 / 25) == pytest.approx(1.0)
    columns = [red_centre(f.to_ndarray(format="rgb24")) for f in frames]
    assert (np.diff(columns) > 1).all()


def test_a_sequence_is_complete_and_numbered(filmed, tmp_path):
    project, meshes = filmed
    told = []
    target = film.render_shot(
        project, meshes, shot_of(project, end=0.2), tmp_path / "take", lambda done, total: told.append((done, total))
    )
    assert sorted(p.name for p in target.iterdir()) == [f"frame_{i:05d}.png" for i in range(5)]
    assert told[-1] == (5, 5)


def made_frames(monkeypatch):
    """The times of the frames that are made from now on."""
    times = []
    real = Studio.picture

    def picture(self, camera, time):
        times.append(round(time, 6))
        return real(self, camera, time)

    monkeypatch.setattr(Studio, "picture", picture)
    return times


@pytest.mark.parametrize("name", ["take.mp4", "take"])
def test_a_cancelled_job_keeps_its_finished_frames_and_goes_on_from_them(filmed, tmp_path, monkeypatch, name):
    project, meshes = filmed
    times = made_frames(monkeypatch)

    def stop(done, total):
        if done == 10:
            raise Cancelled

    with pytest.raises(Cancelled):
        film.render_shot(project, meshes, project.shots[0], tmp_path / name, stop)
    assert [p.name for p in tmp_path.iterdir()] == [f".{name}.frames"]
    assert len(times) == 10
    # what moves is told otherwise only after the middle: frames before it are as they were
    film.render_shot(project, meshes, project.shots[0], tmp_path / name, resume=True)
    assert len(times) == 25 and len(set(times)) == 25
    assert [p.name for p in tmp_path.iterdir()] == [name]


def test_after_an_edit_only_frames_that_show_it_are_made_again(filmed, tmp_path, monkeypatch):
    project, meshes = filmed
    shot = shot_of(project, end=0.4)
    times = made_frames(monkeypatch)

    def stop(done, total):
        if done == total - 1:
            raise Cancelled

    with pytest.raises(Cancelled):
        film.render_shot(project, meshes, shot, tmp_path / "take", stop)
    assert times == pytest.approx(np.arange(9) / 25)
    # a second run of the cube from 0.2 s on
    later = edits.add(project, edits.change(project.runs[0], id="run-2", start=0.2, backwards=True))
    film.render_shot(later, meshes, shot, tmp_path / "take", resume=True)
    assert times[9:] == pytest.approx(np.arange(5, 10) / 25)
    # and without being told to go on, all are made
    del times[:]
    film.render_shot(later, meshes, shot, tmp_path / "take", overwrite=True)
    assert len(times) == 10


def test_a_damaged_frame_is_made_again(filmed, tmp_path, monkeypatch):
    project, meshes = filmed

    def stop(done, total):
        if done == 3:
            raise Cancelled

    with pytest.raises(Cancelled):
        film.render_shot(project, meshes, project.shots[0], tmp_path / "take.mp4", stop)
    kept = sorted((tmp_path / ".take.mp4.frames").glob("*.frame"))
    kept[0].write_bytes(b"cut off")
    flipped = bytearray(kept[1].read_bytes())
    flipped[len(flipped) // 2] ^= 16
    kept[1].write_bytes(flipped)
    assert read_frame(kept[0]) is None is read_frame(kept[1])
    film.render_shot(project, meshes, project.shots[0], tmp_path / "take.mp4", resume=True)
    assert (tmp_path / "take.mp4").exists()


@pytest.mark.parametrize("channels", [3, 4])
def test_a_frame_is_kept_without_loss(random, channels):
    picture = random.integers(0, 256, (31, 47, channels), np.uint8)
    data = packed(picture)
    assert (unpacked(data) == picture).all()
    for broken in (b"", data[:9], data[:-5], b"PNG!" + data[4:], data[:4] + b"\x00" + data[5:]):
        with pytest.raises(ValueError):
            unpacked(broken)


def test_several_processes_make_the_same_pixels(written, tmp_path):
    project, meshes = written.project, written.meshes
    shot = project.shots[0]
    one = film.render_shot(project, meshes, shot, tmp_path / "one", processes=1)
    told = []
    two = film.render_shot(project, meshes, shot, tmp_path / "two", lambda d, n: told.append(d), processes=2)
    for name in sorted(p.name for p in one.iterdir()):
        a, b = (np.asarray(Image.open(folder / name)) for folder in (one, two))
        assert (a == b).all(), name
    assert told[-1] == 10 and told == sorted(told)


def test_a_killed_worker_is_replaced(filmed, tmp_path, monkeypatch):
    project, meshes = filmed
    pools, real = [], film.Pool

    class Dying(real):
        """A pool of which the first one loses a process."""

        def submit(self, work, *arguments):
            if len(pools) == 1:
                super().submit(os._exit, 1)
            return super().submit(work, *arguments)

    def pool(*arguments, **options):
        pools.append(None)
        return Dying(*arguments, **options)

    monkeypatch.setattr(film, "Pool", pool)
    film.render_shot(project, meshes, shot_of(project, end=0.2), tmp_path / "take", processes=2)
    assert len(list((tmp_path / "take").iterdir())) == 5
    assert len(pools) > 1


def test_a_bad_frame_is_tried_twice_and_named(filmed, tmp_path, monkeypatch):
    project, meshes = filmed
    real, failed = Studio.picture, []

    def picture(self, camera, time):
        if abs(time - 0.12) < 1e-6 and len(failed) < limit:
            failed.append(time)
            raise RuntimeError("no memory")
        return real(self, camera, time)

    monkeypatch.setattr(Studio, "picture", picture)
    limit = 1
    film.render_shot(project, meshes, shot_of(project, end=0.2), tmp_path / "one")
    assert len(failed) == 1
    limit = 5
    with pytest.raises(
        BadInput, match=r"0\.120 s of “Take” could not be made, twice: no memory; 3 finished frames are kept"
    ):
        film.render_shot(project, meshes, shot_of(project, end=0.2), tmp_path / "two")


def test_too_full_a_disk_is_told_before_anything_is_made(filmed, tmp_path, monkeypatch):
    project, meshes = filmed
    monkeypatch.setattr(film.shutil, "disk_usage", lambda _: film.shutil._ntuple_diskusage(10, 9, 1000))
    with pytest.raises(BadInput, match="frames need about"):
        film.render_shot(project, meshes, project.shots[0], tmp_path / "take.mp4")
    assert not list(tmp_path.iterdir())


# formats


def video(target):
    with av.open(str(target)) as container:
        stream = container.streams.video[0]
        frames = [f.to_ndarray(format="rgb24") for f in container.decode(stream)]
        return stream.codec_context, stream.average_rate, dict(container.metadata), frames


@pytest.mark.parametrize(
    ("name", "codec", "known"),
    [("a.mp4", "h264", "h264"), ("a.mp4", "av1", "av1"), ("a.webm", "h264", "vp9"), ("a.webm", "av1", "av1")],
)
def test_films_of_every_codec_are_read_back(filmed, tmp_path, name, codec, known):
    project, meshes = filmed
    target = film.render_shot(project, meshes, shot_of(project, end=0.6), tmp_path / name, codec=codec)
    context, rate, told, frames = video(target)
    assert known in context.name.replace("libdav1d", "av1").replace("libvpx-vp9", "vp9")
    assert (rate, context.width, context.height, len(frames)) == (Fraction(25), 320, 180, 15)
    assert (context.colorspace, context.color_range) == (1, 1)
    told = {k.lower(): v for k, v in told.items()}
    assert told["title"] == project.name
    assert "Take; 320 × 180, 25 frames a second, 15 frames" in told["comment"]
    still = film.render_still(project, meshes, project.shots[0], 0.0, tmp_path / "still.png")
    first = np.asarray(Image.open(still)).astype(int)
    assert np.abs(frames[0].astype(int) - first).mean() < 6


@pytest.mark.parametrize("fps", [24, 25, 30, 50, 60, 12.5])
def test_rates_are_kept(filmed, tmp_path, fps):
    project, meshes = filmed
    target = film.render_shot(
        project, meshes, shot_of(project, end=0.4, fps=float(fps), width=64, height=36), tmp_path / "a.mp4"
    )
    _, rate, _, frames = video(target)
    assert float(rate) == pytest.approx(fps)
    assert len(frames) == round(0.4 * fps)


@pytest.mark.parametrize("name", ["a.gif", "a.webp"])
def test_animations_are_read_back(filmed, tmp_path, name):
    project, meshes = filmed
    target = film.render_shot(project, meshes, shot_of(project, end=0.4, fps=30.0), tmp_path / name)
    with Image.open(target) as image:
        assert (image.n_frames, image.size) == (12, (320, 180))
        total = 0
        for frame in range(image.n_frames):
            image.seek(frame)
            image.load()
            total += image.info["duration"]
        assert total == pytest.approx(400, abs=10)
        assert abs(red_centre(np.asarray(image.convert("RGB"))) - 159.5) < 60


def test_hundredths_of_a_second_add_up():
    from kestrav.render.sinks import durations

    assert set(durations(30, 30.0, 10)) == {30, 40}
    assert sum(durations(30, 30.0, 10)) == 1000


@pytest.mark.parametrize("name", ["a", "a.webp", "a.webm"])
def test_without_background_the_picture_lets_through(filmed, tmp_path, name):
    project, meshes = filmed
    target = film.render_shot(project, meshes, shot_of(project, start=0.4, end=0.6), tmp_path / name, alpha=True)
    if name == "a":
        picture = np.asarray(Image.open(target / "frame_00000.png"))
    elif name == "a.webp":
        picture = np.asarray(Image.open(target).convert("RGBA"))
    else:
        # the alpha of VP9 is told by libvpx's own decoder
        with av.open(str(target)) as container:
            stream = container.streams.video[0]
            assert stream.metadata.get("alpha_mode") == "1"
        return
    assert picture.shape[2] == 4
    assert picture[2, 2, 3] == 0
    assert picture[90, 150, 3] == 255


@pytest.mark.parametrize(
    ("name", "options", "told"),
    [
        ("a.mp4", {"alpha": True}, "no alpha"),
        ("a.gif", {"codec": "av1"}, "cannot hold AV1"),
        ("a.webm", {"codec": "av1", "alpha": True}, "AV1, which has no alpha"),
        ("a.mov", {}, "not known"),
    ],
)
def test_what_a_format_cannot_do_is_refused(filmed, tmp_path, name, options, told):
    project, meshes = filmed
    with pytest.raises(BadInput, match=told):
        film.render_shot(project, meshes, project.shots[0], tmp_path / name, **options)
    assert not list(tmp_path.iterdir())


def test_pictures_say_what_they_are_of(filmed, tmp_path):
    project, meshes = filmed
    target = film.render_still(project, meshes, project.shots[0], 0.5, tmp_path / "still.png")
    with Image.open(target) as image:
        assert image.text["Title"] == project.name
        assert "Take" in image.text["Comment"]


# films of several shots


def test_a_film_is_its_shots_in_order_with_cross_fades(filmed, tmp_path):
    project, meshes = filmed
    one = shot_of(project, end=0.4, background="#000000")
    two = shot_of(project, id="shot-2", name="Second", start=0.6, end=1.0, background="#ffffff", fade=0.2)
    target = film.render_film(project, meshes, [one, two], tmp_path / "film")
    pictures = [np.asarray(Image.open(p))[2, 2].mean() for p in sorted(target.iterdir())]
    # 0.4 + 0.4 − 0.2 s at 25 a second
    assert len(pictures) == 15
    assert pictures[:5] == pytest.approx([0] * 5, abs=1)
    assert pictures[5:10] == pytest.approx([255 * k / 5 for k in range(5)], abs=2)
    assert pictures[10:] == pytest.approx([255] * 5, abs=1)


def test_cuts_follow_at_once_and_too_long_fades_are_refused(filmed):
    project, _ = filmed
    one, two = shot_of(project, end=0.4), shot_of(project, id="shot-2", start=0.5, end=0.7)
    frames = film_frames([one, two], 25.0)
    assert [f.over for f in frames] == [None] * 15
    assert [f.shot.id for f in frames] == ["shot-1"] * 10 + ["shot-2"] * 5
    assert frames[10].time == pytest.approx(0.5)
    with pytest.raises(BadInput, match="too short for cross-fades"):
        film_frames([one, msgspec.structs.replace(two, fade=0.15), shot_of(project, id="shot-3", fade=0.1)], 25.0)
    with pytest.raises(BadInput, match="no shot in the film"):
        film_frames([], 25.0)


@pytest.mark.parametrize("name", ["take.mp4", "take", "take.png"])
def test_nothing_is_overwritten_unasked(filmed, tmp_path, name):
    project, meshes = filmed
    (tmp_path / name).write_bytes(b"mine")
    with pytest.raises(BadInput, match="is there already"):
        film.render_shot(project, meshes, project.shots[0], tmp_path / name)
    assert (tmp_path / name).read_bytes() == b"mine"


def test_a_full_disk_is_told_and_leaves_nothing(filmed, tmp_path, monkeypatch):
    project, meshes = filmed

    def full(*_, **__):
        raise OSError(28, os.strerror(28))

    monkeypatch.setattr(Image.Image, "save", full)
    monkeypatch.setattr(Path, "write_bytes", full)
    for target, render in (
        (tmp_path / "take", lambda t: film.render_shot(project, meshes, shot_of(project, end=0.2), t)),
        (tmp_path / "still.png", lambda t: film.render_still(project, meshes, project.shots[0], 0.5, t)),
    ):
        with pytest.raises(BadInput, match="No space left"):
            render(target)
    assert not list(tmp_path.iterdir())


def test_a_film_cut_off_by_a_full_disk_is_told(filmed, tmp_path, monkeypatch):
    # /dev/full takes no bytes, as a full disk does
    project, meshes = filmed
    target = tmp_path / "take.mp4"
    part = tmp_path / "part"
    part.symlink_to("/dev/full")
    monkeypatch.setattr(sinks, "part_of", lambda _: part)
    with pytest.raises(BadInput, match=r"cannot be written.*25 finished frames are kept"):
        film.render_shot(project, meshes, project.shots[0], target)
    assert [p.name for p in tmp_path.iterdir()] == [".take.mp4.frames"]


def test_a_sequence_replaces_its_own_frames_and_nothing_else(filmed, tmp_path):
    project, meshes = filmed
    shot = shot_of(project, width=64, height=48, end=0.2, fps=10.0)
    folder = tmp_path / "papers"
    folder.mkdir()
    (folder / "thesis.pdf").write_bytes(b"years of work")
    (folder / ".notes").write_bytes(b"more")
    for target in (folder, tmp_path / "papers" / "..", tmp_path):
        with pytest.raises(BadInput, match="holds other things"):
            film.render_shot(project, meshes, shot, target, overwrite=True)
    assert sorted(p.name for p in folder.iterdir()) == [".notes", "thesis.pdf"]
    # a new folder in it will do; frames of a longer film before go, pictures of others under such names stay
    inner = folder / "film"
    film.render_shot(project, meshes, msgspec.structs.replace(shot, end=0.5), inner)
    assert len(list(inner.iterdir())) == 5
    Image.new("RGB", (4, 4)).save(inner / "frame_00009.png")
    with pytest.raises(BadInput, match=r"holds 6 frames, frame_00000\.png to frame_00009\.png"):
        film.render_shot(project, meshes, shot, inner)
    assert film.replaced_by(inner) == "6 frames, frame_00000.png to frame_00009.png"
    film.render_shot(project, meshes, shot, inner, overwrite=True)
    assert sorted(p.name for p in inner.iterdir()) == ["frame_00000.png", "frame_00001.png", "frame_00009.png"]
    assert sorted(p.name for p in folder.iterdir()) == [".notes", "film", "thesis.pdf"]
    # what is kept of a film in the making is Kestrav's; what somebody put beside it is not
    store = FrameStore(tmp_path / ".x.frames")
    store.keep("a", b"x")
    (store.folder / "mine.txt").write_text("mine")
    store.clear()
    assert [p.name for p in store.folder.iterdir()] == ["mine.txt"]
