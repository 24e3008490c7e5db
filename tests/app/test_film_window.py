"""The film in the window: looks, what is written, played over cuts and cross-fades, trimmed, queued and paused."""

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QFileDialog, QLabel
from shapes import box_mesh, make_project, straight
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkUnsignedCharArray

from kestrav.app.film.render_dialog import RenderDialog
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, OnPicture, PointAim, Section, Shot


@pytest.fixture
def hand(make_hand):
    """A red cube that rides from 1 to 2 s before a blue wall, and two shots of it: one from the front, one from above."""
    made = make_project(
        {"Cube": (box_mesh(120, 120, 120), (-300, 0, 60)), "Wall": (box_mesh(1600, 20, 900), (0, 400, 450))},
        straight((-300, 0, 60), (300, 0, 60)),
        duration=1.0,
    )
    project = edits.update(made.project, "run-1", start=1.0)
    project = edits.update(edits.update(project, "part-1", colour="#cc2211"), "part-2", colour="#2244cc")
    front = Camera("camera-1", "Front", PointAim((0, 0, 60)), position=(0.0, -1500.0, 300.0))
    above = Camera("camera-2", "Above", PointAim((0, 0, 0)), position=(0.0, -300.0, 1800.0))
    shots = (
        Shot("shot-1", "From the front", "camera-1", 0.0, 2.0, 320, 180, 25.0, "#808080", quality="preview"),
        Shot("shot-2", "From above", "camera-2", 1.0, 3.0, 320, 180, 25.0, "#204020", quality="preview", fade=0.4),
    )
    found = make_hand(type(made)(edits.add(project, front, above, *shots), made.meshes))
    found.session.select("shot-1")
    return found


@pytest.fixture
def film(hand):
    """The film, with its small pictures."""
    hand.window.filming.show_film()
    view = hand.window.filming.view
    hand.qtbot.waitUntil(lambda: view.job is None and bool(view.rows), timeout=120_000)
    yield view
    view.close()


def lens_picture(hand):
    """What the lens shows."""
    stage = hand.stage
    stage.kept.forget()
    stage.draw()
    window = stage.view.GetRenderWindow()
    (left, bottom), (width, height) = stage.lens.GetOrigin(), stage.lens.GetSize()
    pixels = vtkUnsignedCharArray()
    window.GetPixelData(left, bottom, left + width - 1, bottom + height - 1, 0, pixels, 0)
    return vtk_to_numpy(pixels).reshape(height, width, 3)[::-1].astype(int)


def shot_of(hand, shot_id="shot-1"):
    return next(s for s in hand.session.project.shots if s.id == shot_id)


def reddish(picture):
    return float((picture[..., 0] - picture[..., 2] > 60).mean())


def test_the_lens_shows_the_look_and_the_background_of_its_shot(hand):
    hand.window.card.open_section("Picture")
    plain = lens_picture(hand)
    bluish = float((plain[..., 2] - plain[..., 0] > 60).mean())
    assert bluish > 0.1
    hand.choose("Style", "ghost")
    ghost = lens_picture(hand)
    assert float((ghost[..., 2] - ghost[..., 0] > 60).mean()) < 0.3 * bluish
    hand.choose("Style", "wire")
    wire = lens_picture(hand)
    assert reddish(wire) < 0.01 < reddish(plain)
    hand.type_in("Background", "#ffffff:#000000")
    graded = lens_picture(hand)
    assert graded[3, 3].max() < 90 and shot_of(hand).background_top == "#000000"
    for _ in range(3):
        hand.window.undo_action.trigger()
    assert np.abs(lens_picture(hand) - plain).mean() < 1


def test_a_section_is_set_moved_and_taken_off(hand):
    hand.window.card.open_section("Picture")
    whole = reddish(lens_picture(hand))
    hand.choose("Section", "−y")
    assert shot_of(hand).section == Section((0.0, 0.0, 60.0), (0.0, -1.0, 0.0))
    hand.type_in("Plane at y", "100 mm")
    # all of the cube lies before the plane
    assert shot_of(hand).section.point[1] == 100.0 and reddish(lens_picture(hand)) < 0.1 * whole
    hand.choose("Section", "")
    assert shot_of(hand).section is None


def test_what_is_written_shows_in_a_lens_that_is_large_enough(hand):
    small = lens_picture(hand)
    hand.session.edit("Title", lambda p: edits.update(p, "shot-1", shows=OnPicture(title="A red cube")))
    assert np.abs(lens_picture(hand) - small).mean() < 1
    hand.window.undo_action.trigger()
    hand.stage.arrangement.swap()
    hand.window.card.open_section("Overlays")
    plain = lens_picture(hand)
    hand.type_in("Title", "A red cube")
    titled = lens_picture(hand)
    changed = np.abs(titled - plain).max(axis=2) > 60
    high, wide = changed.shape
    assert changed[: high // 2, : wide // 2].mean() > 0.03 > changed[high // 2 :].mean()
    hand.field("Time").click()
    hand.choose("Label", "part-1")
    assert shot_of(hand).shows.clock and shot_of(hand).shows.labels == ("part-1",)
    hand.press("Unlabel Cube")
    hand.press("Clear overlays")
    assert np.abs(lens_picture(hand) - plain).mean() < 1


def test_dead_ends_are_trimmed_from_the_card(hand):
    hand.window.card.open_section("Film")
    hand.press("Trim dead ends")
    assert (shot_of(hand).start, shot_of(hand).end) == pytest.approx((1.0, 2.0))
    hand.press("Trim dead ends")
    assert "no dead time" in hand.window.card.fault.text()
    hand.window.undo_action.trigger()
    assert shot_of(hand).start == 0.0


def test_the_film_lists_its_shots_with_pictures_and_their_dead_time(film):
    assert "2 of 2 shots · 3.60" in film.title.text() and "90 frames at 25 fps" in film.title.text()
    words = [label.text() for label in film.list.findChildren(QLabel)]
    assert any("From the front" in w and "first" in w for w in words)
    assert any("From above" in w and "0.4\u2009s cross-fade" in w for w in words)
    assert any("1.00\u2009s still at its beginning" in w for w in words)
    for _, strip, _ in film.rows:
        assert not strip.pixmap().isNull()


def test_the_film_takes_the_timelines_place_and_gives_it_back(hand):
    window, stage = hand.window, hand.stage
    sizes = window.panels.right.sizes()
    for swapped in (False, True):
        if swapped:
            stage.arrangement.swap()
        window.filming.show_film()
        view = window.filming.view
        assert view.isVisible() and not window.timeline.isVisible() and view.height() >= 300
        assert stage.swapped and stage.lens_alone and not stage.arrangement.lens_head.isVisible()
        assert not any(b.isVisible() for b in window.tools.buttons.values())
        # all of the frame is in the large lens
        assert stage.lens.GetSize()[0] / stage.lens.GetSize()[1] == pytest.approx(16 / 9, abs=0.02)
        QTest.keyClick(view, Qt.Key.Key_Escape)
        assert (
            not view.isVisible()
            and window.timeline.isVisible()
            and window.panels.right.sizes() == pytest.approx(sizes, abs=1)
        )
        assert stage.swapped is swapped and not stage.lens_alone and hand.session.film is None
        assert all(b.isVisible() for b in window.tools.buttons.values())


def test_the_film_plays_from_its_start_to_its_end_in_the_lens(hand, film):
    seen = []
    hand.window.player.at_frame.connect(lambda frame: seen.append((frame, hand.session.shot.id, hand.session.time)))
    film.slider.setValue(40)
    assert hand.stage.swapped and hand.session.film is not None
    QTest.keyClick(film, Qt.Key.Key_Space)
    hand.qtbot.waitUntil(lambda: not hand.window.player.playing, timeout=60_000)
    frames = [frame for frame, *_ in seen]
    assert frames[-1] == 89 and frames == sorted(frames)
    assert seen[-1][1] == "shot-2" and seen[-1][2] == pytest.approx(3.0 - 1 / 25)
    assert "3.56 of 3.60" in film.where.text()
    film.close()
    assert not hand.stage.swapped and hand.session.film is None


def test_the_lens_follows_edits_of_the_film(hand, film):
    film.slider.setValue(80)
    film.toggle()
    hand.session.edit("Style", lambda p: edits.update(p, "shot-2", look="wire", end=2.6))
    assert not hand.window.player.playing
    assert hand.session.film.shot is shot_of(hand, "shot-2") and film.slider.value() == 79
    hand.session.edit("Film", lambda p: edits.update(edits.update(p, "shot-1", in_film=False), "shot-2", in_film=False))
    assert hand.session.film is None and "0 of 2 shots" in film.title.text()
    for _ in range(2):
        hand.window.undo_action.trigger()
    assert "2 of 2 shots" in film.title.text()


def test_a_cross_fade_is_a_mixture_of_both_shots(hand, film):
    pictures = []
    for frame in (39, 45, 51):
        film.slider.setValue(frame)
        pictures.append(lens_picture(hand))
    # backgrounds: grey of the one, dark green of the other, and half way between them half of each
    high, wide = pictures[0].shape[:2]
    grey, mixed, green = (p[high // 2, wide // 8] for p in pictures)
    assert np.abs(grey - 0x80).max() < 4 and np.abs(green - [0x20, 0x40, 0x20]).max() < 4
    assert mixed == pytest.approx(0.5 * (grey + green), abs=8)


def test_shots_are_moved_taken_out_and_trimmed_in_the_film(hand, film):
    film.list.setCurrentRow(0)
    QTest.keyClick(film, Qt.Key.Key_Down, Qt.KeyboardModifier.ControlModifier)
    assert [s.id for s in hand.session.project.shots] == ["shot-2", "shot-1"]
    film.list.setCurrentRow(1)
    film.take_in_or_out()
    assert not shot_of(hand).in_film and "1 of 2 shots" in film.title.text()
    film.take_in_or_out()
    film.trim()
    assert shot_of(hand).start == pytest.approx(1.0)
    assert shot_of(hand, "shot-2").end == pytest.approx(2.04)
    before = hand.session.project
    film.trim()
    assert hand.session.project is before and "No shot has dead time" in film.fault.text()
    for _ in range(4):
        hand.window.undo_action.trigger()
    assert [s.id for s in hand.session.project.shots] == ["shot-1", "shot-2"] and shot_of(hand).start == 0.0


def test_a_film_that_cannot_be_is_told(hand, film):
    hand.session.edit("Fade", lambda p: edits.update(p, "shot-2", fade=1.99))
    hand.session.edit("Short", lambda p: edits.update(p, "shot-1", start=1.0))
    film.follow()
    assert "too short for cross-fades" in film.fault.text()
    film.toggle()
    assert not hand.window.player.playing


def test_renders_wait_for_each_other_and_can_be_taken_out(hand, tmp_path):
    shots = [shot_of(hand), shot_of(hand, "shot-2"), shot_of(hand)]
    for k, shot in enumerate(shots):
        hand.window.filming.start([shot], tmp_path / f"{k}.gif")
    bar = hand.window.job_bar
    assert bar.queue.text() == "2 waiting" and bar.queue.isVisible()
    bar.take_out(1)
    assert bar.queue.text() == "1 waiting"
    hand.qtbot.waitUntil(lambda: hand.window.job is None and not bar.waiting, timeout=180_000)
    hand.qtbot.wait(200)
    hand.qtbot.waitUntil(lambda: hand.window.job is None, timeout=180_000)
    assert (tmp_path / "0.gif").exists() and (tmp_path / "1.gif").exists() and not (tmp_path / "2.gif").exists()


def test_a_render_rests_shows_its_last_picture_and_goes_on(hand, tmp_path):
    import msgspec

    long = msgspec.structs.replace(shot_of(hand), fps=200.0, quality="good")
    hand.window.filming.start([long], tmp_path / "film.mp4")
    bar, store = hand.window.job_bar, tmp_path / ".film.mp4.frames"
    count = lambda: len(list(store.glob("[!.]*.frame")))  # noqa: E731
    hand.qtbot.waitUntil(lambda: count() > 4 and bar.picture.isVisible(), timeout=180_000)
    assert not bar.picture.pixmap().isNull()
    bar.rest.click()
    assert bar.left.text() == "paused" and bar.rest.text() == "Resume"
    hand.qtbot.wait(300)
    rests = count()
    hand.qtbot.wait(1500)
    assert count() == rests
    bar.rest.click()
    hand.qtbot.waitUntil(lambda: count() > rests, timeout=60_000)
    bar.rest.click()
    bar.cancel.click()
    hand.qtbot.waitUntil(lambda: hand.window.job is None, timeout=60_000)
    assert count() > rests and not (tmp_path / "film.mp4").exists()


def test_the_dialog_tells_what_a_frame_costs(hand, qtbot, tmp_path):
    dialog = RenderDialog(hand.window, hand.session.project, hand.session.used_meshes(), shot_of(hand), tmp_path)
    dialog.show()
    qtbot.waitUntil(lambda: "a frame on one core" in _worked(dialog), timeout=120_000)
    assert "× 50" in _worked(dialog)
    quality = dialog.findChild(QComboBox, "field-Quality")
    quality.setCurrentIndex(quality.findData("good"))
    quality.activated.emit(quality.currentIndex())
    assert dialog.shot.quality == "good" and "trying out" in _worked(dialog)
    dialog.close()


def _worked(dialog):
    return " ".join(label.text() for label in dialog.findChildren(QLabel))


def test_a_contact_sheet_is_made(hand, tmp_path, monkeypatch):
    target = tmp_path / "sheet"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(target), ""))
    hand.window.sheet_action.trigger()
    hand.qtbot.waitUntil(lambda: hand.window.job is None, timeout=120_000)
    with Image.open(tmp_path / "sheet.png") as image:
        assert image.width == 1642


def test_the_lanes_are_written_as_a_chart(hand, tmp_path):
    hand.checked()
    for name in ("lanes.svg", "lanes.png"):
        hand.window.handing_on.write("Chart of the lanes", tmp_path / name)
        hand.qtbot.waitUntil(lambda: hand.window.job is None, timeout=60_000)
    text = (tmp_path / "lanes.svg").read_text(encoding="utf-8")
    assert all(lane.title in text for lane in hand.window.timeline.lanes if np.isfinite(lane.y).any())
    assert Image.open(tmp_path / "lanes.png").width > 1000
