"""Cameras in the window: made, moved in the lens, walked, shown side by side, charted and mended."""

import cv2
import numpy as np
import pytest
from PySide6.QtCore import QPoint, QSettings, Qt
from PySide6.QtTest import QTest
from shapes import box_mesh, make_project, straight

from kestrav.app.actions import camera_actions
from kestrav.app.dialogs.camera_dialogs import FollowDialog, OrbitDialog
from kestrav.core.camera.measured_curves import CURVES
from kestrav.core.camera.views import views
from kestrav.core.document import edits
from kestrav.core.document.records import AlongAim, Camera, Fade, FreeAim, LookKey, OrbitShape, PartAim, PointAim
from kestrav.core.document.requests import GridRequest
from kestrav.core.findings.model import Finding
from kestrav.core.parts.rest import world_bounds


@pytest.fixture
def hand(make_hand):
    """A cart that goes past a product on a floor, beside a screen; nothing looks yet."""
    QSettings().remove("frame")
    made = make_project(
        {
            "Cart": (box_mesh(400, 300, 200), (-1500, -1500, 110)),
            "Product": (box_mesh(600, 500, 800), (0, 0, 410)),
            "Screen": (box_mesh(900, 40, 1000), (0, 1300, 510)),
            "Floor": (box_mesh(7000, 7000, 20), (0, 0, 0)),
        },
        straight((-1500, -1500, 110), (1500, -1500, 110)),
        duration=3.0,
    )
    found = make_hand(made)
    found.session.edit("No contact", lambda p: edits.settings(p, lanes=("clearance", "speed")))
    return found


@pytest.fixture
def looking(hand):
    """The same with a camera that stands and looks at the product, and its shot."""
    from kestrav.core.camera.making import add_standing

    hand.session.edit("Camera", lambda p: add_standing(p, (2500.0, -2500.0, 1500.0), "part-2"))
    hand.session.select(hand.session.project.cameras[0].id)
    hand.stage.draw()
    return hand


def seen(hand, time=None):
    session = hand.session
    return views(session.shown, session.meshes, session.camera, [session.time if time is None else time])


def in_lens(hand):
    """The middle of the lens, in the stage's pixels."""
    return hand.stage.lens_rect.center()


def test_no_two_actions_of_the_window_have_one_key(hand):
    from collections import Counter

    from PySide6.QtGui import QAction

    keys = Counter(
        key.toString()
        for action in hand.window.findChildren(QAction)
        for key in action.shortcuts()
        if not key.isEmpty()
    )
    assert not [key for key, count in keys.items() if count > 1]


def test_a_camera_from_here_sees_what_the_stage_shows(hand):
    hand.session.select("part-2")
    hand.key(Qt.Key.Key_C, Qt.KeyboardModifier.ShiftModifier)
    view, (camera,) = hand.stage.panes["main"].viewpoint, hand.session.project.cameras
    assert camera.position == pytest.approx(view.position, abs=0.01)
    assert seen(hand).forward[0] == pytest.approx(view.forward, abs=1e-5)
    shot = hand.session.project.shots[0]
    assert seen(hand).vertical_angle(camera, shot.width, shot.height)[0] == pytest.approx(view.angle, rel=5e-3)
    assert camera.subject == "part-2"
    assert hand.session.selection == camera.id
    hand.session.undo.undo()
    assert not hand.session.project.cameras


def test_an_orbit_is_asked_for_previewed_and_made(hand, monkeypatch):
    tried = []

    def run(dialog):
        assert isinstance(dialog, OrbitDialog)
        dialog.show()
        tried.append(len(hand.session.shown.cameras))
        dialog.set_shape(kind="hull", offset=900.0, height=1200.0)
        hand.qtbot.waitUntil(lambda: hand.session.shown.paths[-1].shape.kind == "hull")
        # the lens looks through what would be made
        assert hand.session.camera_id == hand.session.shown.cameras[-1].id
        dialog.set_shape(laps=0.0)
        hand.qtbot.waitUntil(lambda: "laps" in dialog.fault.text())
        assert not dialog.buttons.buttons()[0].isEnabled()
        dialog.set_shape(laps=1.0)
        hand.qtbot.waitUntil(lambda: not dialog.fault.text())
        dialog.accept()
        return dialog.result()

    monkeypatch.setattr(OrbitDialog, "exec", run)
    hand.session.select("part-2")
    hand.key(Qt.Key.Key_O, Qt.KeyboardModifier.ShiftModifier)
    project = hand.session.project
    assert tried == [1]
    shape = project.paths[-1].shape
    assert isinstance(shape, OrbitShape) and (shape.kind, shape.offset, shape.height) == ("hull", 900.0, 1200.0)
    assert project.shots[0].loops
    assert hand.session.fix is None
    # in the card of its path everything can be typed
    hand.session.select(project.paths[-1].id)
    hand.window.card.open_section("Shape")
    hand.type_in("Offset", "1.1 m")
    hand.choose("Shape", "circle")
    shape = hand.session.project.paths[-1].shape
    assert (shape.kind, shape.offset) == ("circle", 1100.0)
    hand.press("Start at the view")
    place = hand.stage.panes["main"].viewpoint.position
    assert seen(hand, 0.0).position[0] == pytest.approx(place, abs=0.05)


def test_an_orbit_around_nothing_says_what_to_select(hand):
    hand.session.select(None)
    hand.window.cameras.orbit()
    assert "select the subject of the orbit" in hand.window.card.fault.text().lower()


def test_following_by_the_dialog(hand, monkeypatch):
    def run(dialog):
        dialog.show()
        dialog.set(mode="path", distance=300.0, height=500.0)
        hand.qtbot.waitUntil(lambda: hand.session.shown.runs[-1].follows is not None)
        dialog.accept()
        return dialog.result()

    monkeypatch.setattr(FollowDialog, "exec", run)
    hand.session.select("part-2")
    hand.window.cameras.follow()
    assert "does not move" in hand.window.card.fault.text()
    hand.session.select("part-1")
    hand.window.cameras.follow()
    run_ = hand.session.project.runs[-1]
    assert run_.follows.distance == 300.0
    assert hand.session.camera.aim == PartAim("part-1")


def test_a_walk_is_clicked_on_the_floor_and_goes_around_the_product(hand):
    hand.stage.viewpoint.look_from((0.2, -0.6, 0.8))
    hand.stage.views.fit_all()
    hand.key(Qt.Key.Key_G, Qt.KeyboardModifier.ShiftModifier)
    tool = hand.window.cameras.walk_tool
    assert hand.stage.tool is tool
    hand.click(hand.at(-2500, -900, 10))
    hand.click(hand.at(2500, 300, 10))
    assert len(tool.points) == 2
    assert "kept" in tool.summary
    hand.key(Qt.Key.Key_Backspace)
    hand.click(hand.at(2500, 900, 10))
    tool.set(distance=500.0)
    hand.key(Qt.Key.Key_Return)
    project = hand.session.project
    camera = project.cameras[0]
    assert camera.walk.distance == 500.0
    assert hand.stage.tool is hand.window.tools.select_tool
    assert seen(hand, 0.0).position[0, 2] == pytest.approx(1610.0, abs=1.0)
    from kestrav.core.camera.judged import of_shot

    judged = of_shot(project, hand.session.meshes, project.shots[0], camera)
    still = judged.near.distance[judged.near.row != 0]
    assert still.min() >= 499.0


def test_a_walk_of_one_waypoint_is_refused_and_escape_leaves(hand):
    hand.window.cameras.walk()
    tool = hand.window.cameras.walk_tool
    tool.add(np.array([-2500.0, -900.0, 0.0]))
    said = []
    hand.stage.said.connect(said.append)
    hand.key(Qt.Key.Key_Return)
    assert "two waypoints" in said[-1]
    hand.key(Qt.Key.Key_Escape)
    assert not hand.session.project.cameras


def test_dragging_in_the_lens_orbits_shifts_and_dollies_the_camera(looking):
    hand = looking
    before = seen(hand)
    away = np.linalg.norm(before.target[0] - before.position[0])
    at = in_lens(hand)
    hand.drag(at, at + QPoint(60, 0))
    turned = seen(hand)
    assert np.linalg.norm(turned.target[0] - turned.position[0]) == pytest.approx(away, abs=0.1)
    assert np.linalg.norm(turned.position[0] - before.position[0]) > 300
    count = hand.session.undo.count()
    QTest.qWait(10)
    from PySide6.QtCore import QPointF
    from PySide6.QtGui import QWheelEvent
    from PySide6.QtWidgets import QApplication

    for _ in range(2):
        event = QWheelEvent(
            QPointF(at), QPointF(hand.stage.view.mapToGlobal(at)), QPoint(), QPoint(0, 120),
            Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(hand.stage.view, event)
    near = seen(hand)
    assert np.linalg.norm(near.target[0] - near.position[0]) == pytest.approx(away * 0.93**2, rel=1e-3)
    # both notches are one edit
    assert hand.session.undo.count() == count + 1
    hand.drag(at, at + QPoint(0, 30), button=Qt.MouseButton.MiddleButton)
    assert abs(seen(hand).position[0, 2] - near.position[0, 2]) > 50
    hand.session.undo.undo()
    hand.session.undo.undo()
    hand.session.undo.undo()
    assert seen(hand).position[0] == pytest.approx(before.position[0])
    # and the stage's own view stayed as it was
    assert hand.stage.tool is hand.window.tools.select_tool


def test_with_alt_it_looks_and_a_free_aim_is_keyed_at_the_playhead(looking):
    hand = looking
    camera = hand.session.camera.id
    at = in_lens(hand)
    hand.drag(at, at + QPoint(40, 0), keys=Qt.KeyboardModifier.AltModifier)
    assert "keeps looking at" in hand.window.card.fault.text()
    hand.window.card.open_section("Aim")
    hand.choose("Aim", "free")
    assert isinstance(hand.session.camera.aim, FreeAim)
    hand.session.set_time(2.0)
    hand.drag(at, at + QPoint(40, 0))
    keys = hand.session.camera.aim.keys
    assert [k.time for k in keys] == [0.0, 2.0]
    assert keys[1].yaw - keys[0].yaw == pytest.approx(10.0, abs=0.3)
    hand.type_in("Azimuth here", "100")
    assert hand.session.camera.aim.keys[1].yaw == pytest.approx(100.0)
    hand.press("Delete key")
    assert len(hand.session.camera.aim.keys) == 1
    assert hand.session.camera.id == camera


def test_the_keyboard_turns_and_dollies_the_large_lens(looking):
    hand = looking
    hand.key(Qt.Key.Key_W)
    before = seen(hand).position[0]
    hand.key(Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert np.linalg.norm(seen(hand).position[0] - before) > 50
    hand.key(Qt.Key.Key_Plus)
    assert np.linalg.norm(seen(hand).position[0] - before) > 100


def test_the_card_sets_lens_angle_aim_roll_and_limits(looking):
    hand = looking
    card = hand.window.card
    card.open_section("Lens")
    hand.type_in("Angle of view", "39.6")
    assert hand.session.camera.focal_length == pytest.approx(50.0, abs=0.05)
    assert "39.6°" in hand.said()
    hand.type_in("Focal length", "0")
    assert hand.session.camera.focal_length == pytest.approx(50.0, abs=0.05)
    assert "focal length" in card.fault.text()
    hand.field("Parallel").setChecked(True)
    assert hand.session.camera.parallel
    hand.type_in("View height", "1.5 m")
    assert hand.session.camera.view_height == 1500.0
    hand.session.undo.undo()
    hand.session.undo.undo()
    hand.press("Fit by lens")
    card.open_section("Aim")
    hand.type_in("Roll", "5")
    assert hand.session.camera.roll[0].angle == 5.0
    hand.choose("Aim", "along")
    assert hand.session.camera.aim == AlongAim()
    hand.choose("Aim", "point")
    assert isinstance(hand.session.camera.aim, PointAim)
    hand.choose("Aim", "part")
    card.open_section("Frame")
    hand.choose("Subject", "part-2")
    hand.type_in("Minimum size", "40")
    assert hand.session.camera.framing.least == pytest.approx(0.4)
    hand.choose("Keep size", "lens")
    kept = hand.session.camera
    assert kept.keeps == "lens" and 0.1 < kept.size < 1.0


def test_fitting_by_a_key_has_the_subject_whole(looking):
    hand = looking
    hand.key(Qt.Key.Key_F)
    from kestrav.core.camera.judged import of_camera

    judged = of_camera(hand.session.project, hand.session.meshes, hand.session.camera, [0.0])
    assert judged.framed.margin[0] == pytest.approx(0.08, abs=0.01)


def test_guides_are_drawn_over_the_lens_and_remembered(looking, make_hand, passing):
    hand = looking
    actions = hand.window.cameras._guide_actions
    hand.session.edit("Lower", lambda p: edits.update(p, "camera-1", position=(2500.0, -2500.0, 700.0)))
    actions["thirds"].trigger()
    actions["horizon"].trigger()
    assert hand.stage.guides.thirds and hand.stage.guides.horizon
    hand.stage.draw()
    assert hand.stage.lens_view.marks._dark.GetVisibility()
    assert hand.stage.lens_view.marks._horizon.GetVisibility()
    assert make_hand(passing).stage.guides.thirds
    actions["thirds"].trigger()
    actions["horizon"].trigger()
    hand.stage.draw()
    assert not hand.stage.lens_view.marks._dark.GetVisibility()


def test_grid_and_mask_are_typed(looking, monkeypatch):
    monkeypatch.setattr(camera_actions, "ask_request", lambda *_, **__: GridRequest(5, 4, 1.0))
    looking.window.cameras.ask_grid()
    assert (looking.stage.guides.grid, looking.stage.guides.mask) == ((5, 4), 1.0)
    looking.stage.arrangement.swap()
    # a full mask shows the frame alone
    assert looking.stage.lens_view.frame == (0.0, 0.0, 1.0, 1.0)
    monkeypatch.setattr(camera_actions, "ask_request", lambda *_, **__: GridRequest(0, 0, 0.5))
    looking.window.cameras.ask_grid()
    left, low, right, high = looking.stage.lens_view.frame
    assert 0 < left < right < 1 and 0 < low < high < 1
    frame = looking.stage.lens_rect
    assert frame.width() / frame.height() == pytest.approx(looking.stage.arrangement.aspect, rel=0.02)
    assert looking.stage.rect().contains(frame)


@pytest.mark.parametrize("large", [False, True])
def test_the_lens_in_the_stage_shows_corners_where_opencv_says(looking, large):
    """As quick and finished pictures do (tests/render/test_same_pixels.py), within half a pixel of a picture of 1280."""
    hand, session = looking, looking.session
    if large:
        hand.stage.arrangement.swap()
    hand.stage.draw()
    project, shot, camera = session.project, session.project.shots[0], session.camera
    look = views(project, session.meshes, camera, [session.time], None, shot.width / shot.height)
    ahead, up = look.forward[0], look.up[0]
    right = np.cross(ahead, up)
    turn = np.stack([right, -np.cross(right, ahead), ahead])
    focal = 0.5 * 720 / np.tan(0.5 * look.vertical_angle(camera, shot.width, shot.height)[0])
    matrix = np.array([[focal, 0, 640.0], [0, focal, 360.0], [0, 0, 1]])
    low, high = world_bounds(project, "part-2", session.poses()[None])[0]
    corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    expected = cv2.projectPoints(corners, cv2.Rodrigues(turn)[0], -turn @ look.position[0], matrix, None)[0][:, 0]
    renderer, (left, bottom, r, t) = hand.stage.lens_view.renderer, hand.stage.lens_view.frame
    (x, y), (wide, tall) = renderer.GetOrigin(), renderer.GetSize()
    for corner, place in zip(corners, expected, strict=True):
        renderer.SetWorldPoint(*corner, 1.0)
        renderer.WorldToDisplay()
        across, above = (np.array(renderer.GetDisplayPoint()[:2]) - (x, y)) / (wide, tall)
        found = (across - left) / (r - left) * 1280, (1.0 - (above - bottom) / (t - bottom)) * 720
        # the lens is as many pixels high as there is room, and so a little wider or narrower than its picture
        assert np.abs(np.array(found) - place).max() < 0.5 + 320 / min(wide, tall), (found, place)


def test_cameras_side_by_side_and_a_click_chooses_one(looking):
    hand = looking
    from kestrav.core.camera.making import add_standing

    hand.session.edit("Camera", lambda p: add_standing(p, (-2500.0, -2500.0, 1500.0), "part-2"))
    hand.key(Qt.Key.Key_L, Qt.KeyboardModifier.ShiftModifier)
    hand.stage.draw()
    tiles = hand.stage.tiles
    assert [t.camera for t in tiles] == [c.id for c in hand.session.project.cameras]
    first, second = hand.session.project.cameras
    at = tiles[1].rect.center()
    hand.drag(at, at + QPoint(40, 0))
    assert hand.session.camera_id == second.id
    assert hand.session.project.cameras[1].position != second.position
    assert hand.session.project.cameras[0] == first
    hand.key(Qt.Key.Key_L, Qt.KeyboardModifier.ShiftModifier)
    assert hand.stage.tiles is None
    hand.stage.draw()


def test_the_lanes_of_the_camera_follow_it(looking):
    hand = looking
    timeline = hand.window.timeline
    timeline.show_lanes(["subject size", "visible", "nearest", "pan"])
    hand.qtbot.waitUntil(lambda: timeline.camera_current, timeout=60_000)
    before = timeline.every["subject size"].value_at(1.0)
    assert 5 < before < 100
    assert timeline.every["visible"].value_at(1.0) > 90
    assert set(timeline.camera_curves.curves) == set(CURVES)
    hand.session.edit("Lens", lambda p: edits.update(p, "camera-1", focal_length=70.0))
    assert not timeline.camera_current
    hand.qtbot.waitUntil(lambda: timeline.camera_current, timeout=60_000)
    assert timeline.every["subject size"].value_at(1.0) == pytest.approx(2 * before, rel=0.01)


def test_a_hidden_subject_is_found_shown_and_mended(looking):
    hand = looking
    hand.session.edit("Screen", lambda p: edits.update(p, "camera-1", position=(0.0, 3500.0, 700.0)))
    hand.checked()
    finding = next(f for f in hand.window.checking.result.findings if f.rule == "subject-hidden")
    assert isinstance(finding, Finding)
    hand.window.checking.go_to(finding)
    # the lens shows it; the stage goes where the camera is
    assert hand.session.camera_id == "camera-1"
    hand.window.session.preview(finding.fix)
    hand.session.accept()
    hand.checked()
    assert not [f for f in hand.window.checking.result.findings if f.rule == "subject-hidden"]


def test_what_is_faint_is_so_in_the_lens_alone_and_only_then(looking):
    hand = looking
    fade = Fade("part-3", 1.0, 2.0, 0.1)
    hand.session.edit("Fade", lambda p: edits.update(p, "camera-1", position=(0.0, 3500.0, 700.0), fades=(fade,)))
    hand.stage.arrangement.swap()

    def picture(time):
        hand.session.set_time(time)
        hand.stage.draw()
        from kestrav.render.picture import grab

        return grab(hand.stage.view.GetRenderWindow()).astype(int)

    opaque, faint = picture(0.5), picture(1.5)
    # the product shows through the screen
    rect = hand.stage.lens_rect
    inside = np.s_[rect.top() : rect.bottom(), rect.left() : rect.right()]
    # besides the cart that goes on, a good part of the picture is another one
    assert (np.abs(opaque[inside] - faint[inside]).max(axis=2) > 8).mean() > 0.1
    batch = next(b for b in hand.stage.scene.batches if b.kind.apart == "part-3")
    assert batch.final.GetProperty().GetOpacity() == 1.0


def test_the_film_strip_goes_to_the_moment_chosen(looking):
    hand = looking
    hand.session.edit("Short", lambda p: edits.update(p, p.shots[0].id, end=2.0, width=320, height=180))
    hand.window.cameras.show_strip()
    strip = hand.window.cameras.strip
    hand.qtbot.waitUntil(lambda: strip.list.count() > 0, timeout=60_000)
    assert strip.list.count() == len(strip.frames())
    strip.list.setCurrentRow(3)
    assert hand.session.time == pytest.approx(strip.frames()[3] / hand.session.project.shots[0].fps)
    strip.show_every(20)
    hand.qtbot.waitUntil(lambda: strip.list.count() == len(strip.frames()), timeout=60_000)
    strip.close()


def test_a_run_of_a_camera_can_stop_and_look(looking):
    hand = looking
    from kestrav.core.camera.making import add_on_path

    hand.session.edit("Direction", lambda p: add_on_path(p, "path-1", AlongAim(), 6.0))
    run = hand.session.project.runs[-1].id
    hand.session.edit("Hold", lambda p: edits.update(p, run, duration=8.0))
    hand.session.set_time(3.0)
    hand.session.select(run)
    hand.window.card.open_section("Links")
    hand.press("Add hold here")
    hand.choose("Aim", "part-2")
    hold = hand.session.project.runs[-1].holds[0]
    assert hold.look == PartAim("part-2")


def test_keys_of_look_move_with_their_camera_in_time(looking):
    hand = looking
    aim = FreeAim((LookKey(0.0, 0.0), LookKey(1.0, 90.0)))
    hand.session.edit("Aim", lambda p: edits.update(p, "camera-1", aim=aim))
    from kestrav.core.editing.timing import stretched

    after = stretched(hand.session.project, ["camera-1"], 2.0)
    assert isinstance(after.cameras[0], Camera)
    assert [k.time for k in after.cameras[0].aim.keys] == [0.0, 2.0]


def test_the_lens_is_opened_and_focused_in_the_card(looking):
    hand = looking

    def camera():
        return hand.session.project.cameras[0]

    hand.window.card.open_section("Depth of field")
    hand.type_in("F-number", "2.8")
    assert camera().f_number == 2.8 and "opening" in hand.said()
    hand.choose("Focus", "part")
    assert camera().focus.part == "part-2"
    hand.choose("Focus on", "part-1")
    assert camera().focus.part == "part-1"
    hand.choose("Focus", "keys")
    hand.session.set_time(1.0)
    hand.type_in("Focus key 1 distance", "900 mm")
    hand.press("Add focus key here")
    assert [(key.time, key.distance) for key in camera().focus.keys] == [(0.0, 900.0), (1.0, 900.0)]
    hand.type_in("Focus key 1 time", "1.5 s")
    assert [key.time for key in camera().focus.keys] == [1.0, 1.5]
    # of two at one time the one that is changed stays
    hand.type_in("Focus key 1 distance", "700 mm")
    hand.type_in("Focus key 1 time", "1.5 s")
    assert [(key.time, key.distance) for key in camera().focus.keys] == [(1.5, 700.0)]
    hand.choose("Focus", "point")
    hand.type_in("Focus at x", "120")
    assert camera().focus.point[0] == 120.0 and not camera().focus.keys
