"""The lens's picture in its own window: it grows, rests, stops, becomes finer, is made in part and saved; and the queue over a restart."""

from concurrent.futures import ThreadPoolExecutor

import cv2
import msgspec
import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog
from shapes import box_mesh, make_project, straight

from kestrav.app.film.render_dialog import RenderDialog
from kestrav.app.film.still_view import StillView
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, Colourway, PointAim, Shot

SHOT = Shot("shot-1", "Take", "camera-1", 0.0, 0.2, 320, 180, 25.0, "#808080", quality="finished", samples=8)


@pytest.fixture
def hand(make_hand):
    made = make_project(
        {"Cube": (box_mesh(120, 120, 120), (0, 0, 60))}, straight((0, 0, 60), (300, 0, 60)), duration=1.0
    )
    camera = Camera("camera-1", "Front", PointAim((0, 0, 60)), position=(0.0, -900.0, 300.0))
    ways = (Colourway("colourway-1", "Red"), Colourway("colourway-2", "Blue/green"))
    project = msgspec.structs.replace(edits.add(made.project, camera, SHOT), colourways=ways)
    found = make_hand(type(made)(project, made.meshes))
    found.session.select("shot-1")
    return found


def view_of(hand):
    views = [w for w in hand.window.findChildren(StillView) if w.isVisible()]
    return views[0] if views else None


def ready(hand, view):
    hand.qtbot.waitUntil(lambda: not view.working, timeout=180_000)


def test_one_key_makes_the_lens_picture_which_grows_and_becomes_finer(hand, tmp_path, monkeypatch):
    hand.session.edit("Samples", lambda p: edits.update(p, "shot-1", samples=4096))
    hand.key(Qt.Key.Key_F6)
    hand.qtbot.waitUntil(lambda: view_of(hand) is not None, timeout=10_000)
    view = view_of(hand)
    hand.qtbot.waitUntil(lambda: "noise" in view.message.text() and "left" in view.message.text(), timeout=180_000)
    # at rest nothing comes any more
    QTest.mouseClick(view.pause_button, Qt.MouseButton.LeftButton)
    assert view.pause_button.text() == "Resume" and "paused" in view.message.text()
    hand.qtbot.wait(400)
    before = view.bar.value()
    hand.qtbot.wait(1200)
    assert view.bar.value() == before and not view.save_button.isEnabled()
    QTest.mouseClick(view.pause_button, Qt.MouseButton.LeftButton)
    QTest.mouseClick(view.stop_button, Qt.MouseButton.LeftButton)
    ready(hand, view)
    first = view.samples
    assert 0 < first < 4096 and f"{first} samples" in view.message.text()
    QTest.mouseClick(view.finer_button, Qt.MouseButton.LeftButton)
    ready(hand, view)
    assert view.samples == pytest.approx(2 * first, rel=0.2)
    # it is saved as it is, in 16 bits
    monkeypatch.setattr(
        QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "a"), "PNG picture, 16 bits (*.png)")
    )
    QTest.mouseClick(view.save_button, Qt.MouseButton.LeftButton)
    hand.qtbot.waitUntil(lambda: "Written" in view.message.text(), timeout=60_000)
    saved = cv2.imread(str(tmp_path / "a.png"), cv2.IMREAD_UNCHANGED)
    assert saved.shape == (180, 320, 3) and saved.dtype == np.uint16
    view.close()


def test_a_drawn_region_alone_is_made_anew_and_stays_in_the_picture(hand, tmp_path):
    hand.window.filming.look()
    view = view_of(hand)
    ready(hand, view)
    before = view.box.image.copy()
    frame = view.box.frame()
    at = lambda x, y: QPoint(frame.left() + round(x * frame.width()), frame.top() + round(y * frame.height()))  # noqa: E731
    QTest.mousePress(view.box, Qt.MouseButton.LeftButton, pos=at(0.4, 0.3))
    QTest.mouseMove(view.box, at(0.5, 0.5))
    QTest.mouseRelease(view.box, Qt.MouseButton.LeftButton, pos=at(0.6, 0.7))
    assert view.working and view.box.region == pytest.approx((128, 54, 192, 126), abs=3)
    ready(hand, view)
    after = view.box.image
    # what lies beside the region was not touched
    assert all(before.pixel(x, 10) == after.pixel(x, 10) for x in range(0, 320, 7))
    view.save(tmp_path / "a.exr", 32)
    hand.qtbot.waitUntil(lambda: "Written" in view.message.text(), timeout=60_000)
    QTest.mouseClick(view.whole_button, Qt.MouseButton.LeftButton)
    assert view.box.region is None
    ready(hand, view)
    view.close()


def test_a_quick_picture_is_there_at_once_and_has_8_bits(hand, tmp_path):
    hand.session.edit("Quality", lambda p: edits.update(p, "shot-1", quality="preview"))
    hand.window.filming.look()
    view = view_of(hand)
    ready(hand, view)
    assert not view.finer_button.isVisible() and not view.stop_button.isVisible()
    view.save(tmp_path / "a.exr", 32)
    hand.qtbot.waitUntil(lambda: "8 bits" in view.message.text(), timeout=60_000)
    view.save(tmp_path / "a.png")
    hand.qtbot.waitUntil(lambda: (tmp_path / "a.png").exists(), timeout=60_000)
    QTest.keyClick(view, Qt.Key.Key_Escape)
    hand.qtbot.waitUntil(lambda: view_of(hand) is None, timeout=10_000)


def test_what_was_being_rendered_goes_on_in_the_next_window(hand, tmp_path):
    home = tmp_path / "to-render"
    long = msgspec.structs.replace(SHOT, quality="good", fps=400.0)
    hand.window.filming.keep_queue(home)
    hand.window.filming.start([long], tmp_path / "a.gif")
    hand.window.filming.start([msgspec.structs.replace(long, quality="preview", fps=10.0)], tmp_path / "b.gif")
    hand.qtbot.waitUntil(lambda: len(list(home.glob("*/request.json"))) == 2, timeout=60_000)
    # as if the process had ended: its locks are let go of, and nothing is tidied
    hand.window.job.stop()
    hand.window.job_bar._end()
    hand.window.job_bar.waiting.clear()
    hand.window.filming.close_queue()
    hand.window.filming._keeping = ThreadPoolExecutor(1)
    hand.window.filming.keep_queue(home)
    assert hand.window.job is not None and hand.window.job_bar.queue.text() == "1 waiting"
    # what is taken out is not wanted the next time either
    hand.window.job_bar.cancel.click()
    hand.qtbot.waitUntil(lambda: (tmp_path / "b.gif").exists() and hand.window.job is None, timeout=180_000)
    hand.qtbot.waitUntil(lambda: not list(home.iterdir()), timeout=10_000)
    assert not (tmp_path / "a.gif").exists()


def test_the_dialog_offers_depth_and_colourways(hand, tmp_path, monkeypatch):
    dialog = RenderDialog(hand.window, hand.session.project, hand.session.used_meshes(), SHOT, tmp_path)
    dialog.show()
    dialog.shot = msgspec.structs.replace(SHOT, quality="preview", end=0.1)
    kind = dialog.findChild(QComboBox, "field-Format")
    kind.setCurrentIndex(kind.findData("png"))
    kind.activated.emit(kind.currentIndex())
    depth = dialog.findChild(QComboBox, "field-Colour depth")
    depth.setCurrentIndex(depth.findData("16"))
    depth.activated.emit(depth.currentIndex())
    assert dialog.bits == 16
    next(box for box in dialog.findChildren(QCheckBox) if "each of 2" in box.text()).click()
    assert dialog.colourways
    dialog.target.setText(str(tmp_path / "frames"))
    dialog._start()
    assert dialog.result() == 1
    hand.window.filming.start_in_colourways(dialog.shots(), dialog.chosen, bits=dialog.bits)
    hand.qtbot.waitUntil(lambda: hand.window.job is None and not hand.window.job_bar.waiting, timeout=180_000)
    hand.qtbot.wait(300)
    hand.qtbot.waitUntil(lambda: hand.window.job is None, timeout=180_000)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["frames Blue-green", "frames Red"]
    # linear light is of finished pictures only
    kind = dialog.findChild(QComboBox, "field-Format")
    kind.setCurrentIndex(kind.findData("exr"))
    kind.activated.emit(kind.currentIndex())
    dialog.show()
    dialog._start()
    assert "linear light" in dialog.fault.text()
    dialog.close()
