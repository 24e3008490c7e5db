"""Pictures and film, read back."""

import os
from fractions import Fraction

import av
import msgspec
import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import Camera, PointAim, Shot
from kestrav.core.errors import BadInput, Cancelled
from kestrav.render import film
from kestrav.render.picture import Studio


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
    studio = Studio(project, meshes, 320, 180, "#808080")
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
        studio = Studio(project, meshes, 320, 180, "#808080", paths)
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


@pytest.mark.parametrize("name", ["take.mp4", "take"])
def test_a_cancelled_job_leaves_nothing(filmed, tmp_path, name):
    project, meshes = filmed

    def stop(done, total):
        if done == 3:
            raise Cancelled

    with pytest.raises(Cancelled):
        film.render_shot(project, meshes, project.shots[0], tmp_path / name, stop)
    assert not list(tmp_path.iterdir())


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

    monkeypatch.setattr(film.Image.Image, "save", full)
    for target, render in (
        (tmp_path / "take", lambda t: film.render_shot(project, meshes, shot_of(project, end=0.2), t)),
        (tmp_path / "still.png", lambda t: film.render_still(project, meshes, project.shots[0], 0.5, t)),
    ):
        with pytest.raises(BadInput, match="No space left"):
            render(target)
    assert not list(tmp_path.iterdir())


def test_a_film_cut_off_by_a_full_disk_is_told(filmed, tmp_path):
    # /dev/full takes no bytes, as a full disk does
    project, meshes = filmed
    target = tmp_path / "take.mp4"
    (tmp_path / ".take.mp4.part").symlink_to("/dev/full")
    with pytest.raises(BadInput, match="cannot be written"):
        film.render_shot(project, meshes, project.shots[0], target)
    assert not list(tmp_path.iterdir())
