"""Motion in the window: bars, lanes and keys of the timeline, key poses, rides, lights, and what a run goes with."""

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from shapes import box_mesh, make_project, straight, wheeled

from kestrav.app.actions import motion_actions
from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Attachment,
    Bank,
    BankKey,
    Following,
    Ground,
    Hold,
    Keyed,
    KeyedOrientation,
    KeyPose,
    Light,
    LightKey,
    Limited,
    OrientationKey,
    Path,
    Placement,
    PoseTrack,
    Roughness,
    Run,
    SpeedKey,
    TimedRotation,
    Trigger,
)
from kestrav.core.document.requests import FitRequest, ShiftRequest, StretchRequest
from kestrav.core.editing import run_making
from kestrav.core.editing.wheel_making import turns_of
from kestrav.core.files import project_file
from kestrav.core.kinematics.runs import course_of

NONE = Qt.KeyboardModifier.NoModifier
KEYED = Keyed((SpeedKey(0, 0), SpeedKey(0.5, 0.5), SpeedKey(1, 1)))


def opened(**run):
    fields = {"duration": 2.0, "start": 1.0} | run
    made = make_project(
        {"Cube": (box_mesh(20, 20, 20), (-100, 0, 10)), "Post": (box_mesh(10, 10, 60), (0, 80, 30))},
        straight((-100, 0, 10), (300, 0, 10)),
        **fields,
    )
    project = edits.add(
        made.project,
        Path("path-2", "Second", straight((0, 80, 30), (0, 300, 30))),
        Run("run-2", "Post goes", "part-2", "path-2", start=4.0, duration=2.0),
    )
    return type(made)(project, made.meshes)


class Chart:
    """A person at the chart."""

    def __init__(self, hand):
        self.hand, self.timeline = hand, hand.window.timeline
        self.view = self.timeline.chart.viewport()
        QApplication.processEvents()

    def at(self, lane, x, y):
        QApplication.processEvents()
        plot = self.timeline.bars if lane == "bars" else self.timeline.every[lane].plot
        scene = plot.getViewBox().mapViewToScene(QPointF(x, y))
        return self.timeline.chart.mapFromScene(scene)

    def drag(self, start, *way, keys=NONE, button=Qt.MouseButton.LeftButton):
        QTest.mousePress(self.view, button, keys, start)
        last = start
        for place in way:
            for share in (0.5, 1.0):
                here = QPointF(last + (place - last) * share)
                there = QPointF(self.view.mapToGlobal(here.toPoint()))
                event = QMouseEvent(QEvent.Type.MouseMove, here, there, Qt.MouseButton.NoButton, button, keys)
                QApplication.sendEvent(self.view, event)
            last = place
        QTest.mouseRelease(self.view, button, keys, last)

    def wheel(self, at, turned, keys=NONE):
        there = QPointF(self.view.mapToGlobal(at))
        event = QWheelEvent(
            QPointF(at),
            there,
            QPoint(),
            QPoint(0, turned),
            Qt.MouseButton.NoButton,
            keys,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(self.view, event)

    def bar(self, item, share=0.5):
        QApplication.processEvents()
        bar = next(b for b in self.timeline.drawn_bars if b.item_id == item)
        rect = bar.on_screen()
        return self.timeline.chart.mapFromScene(QPointF(rect.left() + share * rect.width(), rect.center().y()))

    def shown(self):
        return self.timeline.bars.getViewBox().viewRange()[0]


@pytest.fixture
def hand_of(make_hand):
    """A window with the project of a run, and its chart."""

    def make(**run):
        hand = make_hand(opened(**run))
        hand.window.timeline.show_lanes(["clearance", "speed"])
        return hand, Chart(hand)

    return make


def run_of(hand, number=0):
    return hand.session.project.runs[number]


# bars


def test_bars_are_moved_stretched_and_snap_to_each_other(hand_of):
    hand, chart = hand_of()
    # to where the other run begins, nearly: it catches it
    chart.drag(chart.bar("run-1"), chart.bar("run-1") + chart.at("bars", 0.97, 0.5) - chart.at("bars", 0.0, 0.5))
    assert course_of(hand.session.project, run_of(hand)).end == pytest.approx(4.0)
    assert hand.session.undo.count() == 1
    chart.drag(chart.bar("run-2", 0.99), chart.at("bars", 7.01, 0.5))
    course = course_of(hand.session.project, run_of(hand, 1))
    assert (course.start, course.end) == (4.0, pytest.approx(7.0, abs=0.1))
    chart.drag(chart.bar("run-2", 0.01), chart.at("bars", 5.0, 0.5))
    later = course_of(hand.session.project, run_of(hand, 1))
    assert later.end == pytest.approx(course.end) and later.start == pytest.approx(5.0, abs=0.06)
    hand.session.undo.undo()
    hand.session.undo.undo()
    assert run_of(hand, 1).duration == 2.0


def test_alt_leaves_snapping_out_and_so_does_the_button(hand_of):
    hand, chart = hand_of()
    by = chart.at("bars", 1.957, 0.5) - chart.at("bars", 0.0, 0.5)
    chart.drag(chart.bar("run-1"), chart.bar("run-1") + by, keys=Qt.KeyboardModifier.AltModifier)
    assert run_of(hand).start == pytest.approx(2.957, abs=0.02) and run_of(hand).start != 3.0
    hand.session.undo.undo()
    chart.timeline.transport.snap.click()
    chart.drag(chart.bar("run-1"), chart.bar("run-1") + by)
    assert run_of(hand).start != 3.0
    chart.timeline.transport.snap.click()


def test_bars_taken_together_move_together(hand_of):
    hand, chart = hand_of()
    QTest.mouseClick(chart.view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, chart.bar("run-1"))
    QTest.mouseClick(chart.view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, chart.bar("run-2"))
    assert set(chart.timeline.marked) == {"run-1", "run-2"}
    chart.drag(chart.bar("run-2"), chart.bar("run-2") + chart.at("bars", 1.0, 0.5) - chart.at("bars", 0.0, 0.5))
    assert run_of(hand).start == pytest.approx(2.0, abs=0.06)
    assert run_of(hand, 1).start - run_of(hand).start == pytest.approx(3.0)


def test_the_axis_is_zoomed_panned_and_shown_whole_again(hand_of):
    hand, chart = hand_of()
    whole = chart.shown()
    at = chart.at("speed", 3.0, 0.0)
    chart.wheel(at, 240)
    low, high = chart.shown()
    assert high - low < 0.8 * (whole[1] - whole[0]) and low < 3.0 < high
    # what is under the pointer stays there
    assert chart.at("speed", 3.0, 0.0).x() == pytest.approx(at.x(), abs=1)
    chart.wheel(at, -120, Qt.KeyboardModifier.ShiftModifier)
    assert chart.shown()[0] > low
    before = chart.shown()
    chart.drag(at, at + QPoint(60, 0), button=Qt.MouseButton.MiddleButton)
    assert chart.shown()[0] < before[0]
    QTest.keyClick(hand.window, Qt.Key.Key_0, Qt.KeyboardModifier.ControlModifier)
    assert chart.shown() == pytest.approx(whole)
    chart.timeline.zoom(0.5)
    hand.session.set_time(2.0)
    assert chart.shown() != pytest.approx(whole)
    chart.timeline.show_all()


def test_more_rows_than_there_is_room_for_are_gone_through(hand_of):
    hand, chart = hand_of()
    made = hand.session.project
    for k in range(3, 12):
        made = edits.add(made, Run(f"run-{k}", f"Run {k}", "part-2", "path-2", start=0.1 * k, duration=5.0))
    hand.session.edit("More", lambda _: made)
    assert chart.timeline.bars.getViewBox().viewRange()[1] == pytest.approx([0, 8])
    names = chart.at("bars", 0.0, 4.0)
    chart.wheel(QPoint(40, names.y()), -120)
    assert chart.timeline.bars.getViewBox().viewRange()[1] == pytest.approx([1, 9])


def test_the_pointer_reads_the_curve(hand_of):
    hand, chart = hand_of()
    hand.session.edit("Limit", lambda p: edits.settings(p, speed_limit=300.0))
    QTest.mouseMove(chart.view, chart.at("speed", 2.0, 0.1))
    event = QMouseEvent(
        QEvent.Type.MouseMove,
        QPointF(chart.at("speed", 2.0, 0.1)),
        QPointF(),
        Qt.MouseButton.NoButton,
        Qt.MouseButton.NoButton,
        NONE,
    )
    QApplication.sendEvent(chart.view, event)
    text = chart.timeline.pointer.text().replace("\u2009", " ")
    assert chart.timeline.pointer.isVisible() and "0.20 m/s" in text and "limit 0.30 m/s" in text


def test_limits_are_dragged(hand_of):
    hand, chart = hand_of()
    hand.session.edit("Limit", lambda p: edits.settings(p, speed_limit=180.0))
    chart.drag(chart.at("speed", 1.5, 0.18), chart.at("speed", 1.5, 0.1))
    assert hand.session.project.settings.speed_limit == pytest.approx(100, abs=8)
    own = Limited(top=200.0, forward=400.0, braking=400.0)
    hand.session.edit(
        "Speed profile", lambda p: edits.update(p, "run-1", speed_profile=own, duration=None, speed=200.0)
    )
    hand.session.select("run-1")
    chart.drag(chart.at("speed", 2.0, 0.2), chart.at("speed", 2.0, 0.15))
    assert (
        run_of(hand).speed_profile.top == pytest.approx(150, abs=8)
        and run_of(hand).speed == run_of(hand).speed_profile.top
    )
    hand.checked()
    required = hand.session.project.settings.required_clearance
    chart.drag(chart.at("clearance", 2.0, required), chart.at("clearance", 2.0, required + 4))
    assert hand.session.project.settings.required_clearance == pytest.approx(required + 4, abs=1)


# keys


def test_keys_of_distance_are_dragged_typed_added_and_deleted(hand_of):
    hand, chart = hand_of(speed_profile=KEYED)
    hand.session.select("run-1")
    chart.timeline.show_lanes(["distance"])
    chart.drag(chart.at("distance", 2.0, 200.0), chart.at("distance", 2.3, 120.0))
    key = run_of(hand).speed_profile.keys[1]
    assert key.time == pytest.approx(0.65, abs=0.02) and key.distance == pytest.approx(0.3, abs=0.02)
    assert run_of(hand).speed_profile.keys[0] == KEYED.keys[0] and run_of(hand).speed_profile.keys[2] == KEYED.keys[2]
    # it is chosen now: what it says can be typed
    assert chart.timeline.transport.key_value.isVisible()
    for field, text in ((chart.timeline.transport.key_at, "2.5"), (chart.timeline.transport.key_value, "10 cm")):
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, text)
        QTest.keyClick(field, Qt.Key.Key_Return)
    key = run_of(hand).speed_profile.keys[1]
    assert (key.time, key.distance) == (pytest.approx(0.75), pytest.approx(0.25))
    handle = next(g for g in chart.timeline.grips_shown if g.side == "handle")
    chart.drag(chart.at("distance", handle.x, handle.y), chart.at("distance", handle.x, 100.0))
    assert run_of(hand).speed_profile.keys[1].slope == pytest.approx(0.0, abs=0.1)
    assert chart.timeline.hand.add_key("distance", 1.5, 60.0)
    key = run_of(hand).speed_profile.keys[1]
    assert (key.time, key.distance) == (pytest.approx(0.25), pytest.approx(0.15))
    QTest.mouseDClick(chart.view, Qt.MouseButton.LeftButton, NONE, chart.at("distance", 2.0, 80.0))
    assert len(run_of(hand).speed_profile.keys) == 5
    QTest.mouseClick(chart.view, Qt.MouseButton.LeftButton, NONE, chart.at("distance", 1.5, 60.0))
    hand.window.delete()
    assert len(run_of(hand).speed_profile.keys) == 4 and len(hand.session.project.runs) == 2
    QTest.mouseClick(chart.view, Qt.MouseButton.LeftButton, NONE, chart.at("distance", 1.0, 0.0))
    hand.window.delete()
    assert "cannot be deleted" in hand.window.card.fault.text() and len(run_of(hand).speed_profile.keys) == 4


def test_keys_of_lean_and_heading_are_dragged(hand_of):
    turned = (float(np.cos(0.25)), 0.0, 0.0, float(np.sin(0.25)))
    hand, chart = hand_of(
        orientation=KeyedOrientation(
            keys=(OrientationKey(0.0), OrientationKey(0.5, turned), OrientationKey(1.0)), room=True
        ),
        bank=Bank((BankKey(0.25, 5.0), BankKey(0.75, -5.0))),
    )
    hand.session.select("run-1")
    chart.timeline.show_lanes(["bank", "orientation"])
    chart.drag(chart.at("bank", 1.5, 5.0), chart.at("bank", 1.75, 3.0))
    key = run_of(hand).bank.keys[0]
    assert key.place == pytest.approx(0.375, abs=0.02) and key.angle == pytest.approx(3.0, abs=0.6)
    grip = next(g for g in chart.timeline.grips_shown if g.lane == "orientation" and g.index == 1)
    chart.drag(chart.at("orientation", grip.x, grip.y), chart.at("orientation", grip.x, grip.y - 15))
    w, _, _, z = run_of(hand).orientation.keys[1].rotation
    assert np.degrees(2 * np.arctan2(z, w)) == pytest.approx(grip.y - 15, abs=1.5)
    assert chart.timeline.hand.add_key("bank", 2.2, 0.0) and len(run_of(hand).bank.keys) == 3
    hand.key(Qt.Key.Key_X)
    assert chart.timeline.by_distance
    bank = [g for g in chart.timeline.grips_shown if g.lane == "bank"]
    assert [g.x for g in bank] == pytest.approx([k.place * 400 for k in run_of(hand).bank.keys])


def test_keys_of_a_light_and_of_poses_are_dragged(hand_of):
    hand, chart = hand_of()
    hand.session.edit(
        "Add",
        lambda p: edits.add(
            p,
            Light("light-1", "Lamp", keys=(LightKey(1.0, 100.0), LightKey(3.0, 500.0))),
            PoseTrack("pose-track-1", "Nods", "part-2", (KeyPose(0), KeyPose(0.6, Placement((5, 0, 0)))), 0.5),
        ),
    )
    chart.timeline.show_lanes(["strength"])
    chart.drag(chart.at("strength", 1.0, 100.0), chart.at("strength", 2.0, 300.0))
    key = hand.session.project.lights[0].keys[0]
    assert key.time == pytest.approx(2.0, abs=0.06) and key.strength == pytest.approx(300, abs=15)
    row = chart.timeline.row_of("pose-track-1") + 0.5
    chart.drag(chart.at("bars", 1.1, row), chart.at("bars", 2.0, row))
    assert hand.session.project.pose_tracks[0].keys[1].time == pytest.approx(1.5, abs=0.06)


def test_a_drag_of_a_key_is_one_edit_and_its_charts_follow(hand_of):
    hand, chart = hand_of(speed_profile=KEYED)
    hand.session.select("run-1")
    chart.timeline.show_lanes(["distance", "speed"])
    before = float(chart.timeline.speed.y.max())
    chart.drag(chart.at("distance", 2.0, 200.0), chart.at("distance", 2.1, 100.0), chart.at("distance", 2.2, 60.0))
    assert hand.session.undo.count() == 1 and float(chart.timeline.speed.y.max()) > before
    hand.session.undo.undo()
    assert run_of(hand).speed_profile == KEYED


def test_lanes_are_kept_with_the_project(hand_of, tmp_path, make_hand):
    hand, chart = hand_of()
    chart.timeline.show_lanes(["orientation", "bank"])
    file = tmp_path / "lanes.kestrav"
    hand.session.save(file, chart.timeline.shown_lanes())
    again = project_file.load(file)
    assert again.project.settings.lanes == ("orientation", "bank")
    other = make_hand(again)
    assert other.window.timeline.shown_lanes() == ["orientation", "bank"]


# the menu of motion


@pytest.fixture
def asked(monkeypatch):
    """What is given to the dialogs that ask."""
    given = {}
    monkeypatch.setattr(motion_actions, "ask_request", lambda *_, **__: given["request"])
    monkeypatch.setattr(motion_actions, "ask_choice", lambda *_: given["choice"])
    return given


def test_time_is_stretched_fitted_moved_and_reversed(hand_of, asked):
    hand, _ = hand_of()
    motion = hand.window.motion
    hand.session.select("run-1")
    asked["request"] = StretchRequest(2.0)
    motion.stretch()
    assert (run_of(hand).start, run_of(hand).duration) == (1.0, 4.0)
    asked["request"] = ShiftRequest(2.0)
    motion.move()
    assert run_of(hand).start == 3.0
    hand.session.select(None)
    asked["request"] = FitRequest(12.0)
    motion.fit()
    assert course_of(hand.session.project, run_of(hand)).end - run_of(hand).start > 4.0
    hand.session.select("run-1")
    motion.reverse()
    assert run_of(hand).backwards
    asked["request"] = None
    before = hand.session.project
    motion.stretch()
    assert hand.session.project is before


def test_a_run_is_split_and_held_at_the_playhead(hand_of):
    hand, _ = hand_of()
    hand.window.motion.split()
    assert "select a run first" in hand.window.card.fault.text().lower()
    hand.session.select("run-1")
    hand.session.set_time(2.0)
    hand.key(Qt.Key.Key_Slash)
    assert [r.name for r in hand.session.project.runs] == ["Run", "Run, second part", "Post goes"]
    hand.session.undo.undo()
    hand.window.motion.hold()
    assert run_of(hand).holds == (Hold(0.5, 1.0),) and run_of(hand).duration == 3.0


def test_a_thing_is_posed_by_moving_it_at_times(hand_of):
    hand, _ = hand_of()
    hand.session.edit("Free", lambda p: edits.remove(p, "run-2"))
    hand.session.select("part-2")
    hand.session.set_time(0.5)
    hand.key(Qt.Key.Key_P)
    assert len(hand.session.project.pose_tracks) == 1
    hand.session.set_time(2.5)
    hand.window.tools.use("move")
    hand.window.preparing.move_tool.move_by(50, 0, 20)
    poses = hand.session.project.pose_tracks[0]
    assert [k.time for k in poses.keys] == pytest.approx([0.0, 2.0])
    assert poses.keys[1].placement.position == pytest.approx((50, 80, 50))
    assert hand.session.part_now("part-2")[:3, 3] == pytest.approx([50, 80, 50])
    # its own place is as it was
    assert hand.session.project.parts[1].placement.position == (0, 80, 30)


def test_key_poses_are_dragged_in_the_stage_and_typed_in_the_card(hand_of):
    hand, _ = hand_of()
    keys = (KeyPose(0, Placement((0, 80, 30))), KeyPose(2, Placement((120, 80, 30))))
    hand.session.edit(
        "Poses", lambda p: edits.add(edits.remove(p, "run-2"), PoseTrack("pose-track-1", "Goes", "part-2", keys, 0.5))
    )
    hand.session.select("pose-track-1")
    hand.stage.viewpoint.look_from((0.0, -0.02, 1.0))
    hand.stage.views.look_at(np.array([[-100, -100, 0], [300, 200, 60]]))
    hand.drag(hand.at(120, 80, 30), hand.at(160, 120, 30))
    assert hand.session.project.pose_tracks[0].keys[1].placement.position == pytest.approx((160, 120, 30), abs=3)
    assert hand.session.point == 1
    hand.type_in("2: after", "3")
    hand.type_in("2: rotation x", "90")
    key = hand.session.project.pose_tracks[0].keys[1]
    assert key.time == 3.0 and key.placement.rotation == pytest.approx((np.sqrt(0.5), 0, 0, np.sqrt(0.5)))
    hand.choose("Interpolation", "by hand")
    hand.type_in("2: in y", "60")
    assert hand.session.project.pose_tracks[0].keys[1].handle_in == (0, 60, 0)
    hand.drag(hand.at(160, 180, 30), hand.at(100, 180, 30))
    assert hand.session.project.pose_tracks[0].keys[1].handle_in == pytest.approx((-60, 60, 0), abs=6)
    hand.press("Add key pose")
    assert len(hand.session.project.pose_tracks[0].keys) == 3 or "begins" in hand.said()
    hand.choose("Interpolation", "smooth")
    hand.press("Convert to path and run")
    assert not hand.session.project.pose_tracks and isinstance(hand.session.item, Run)
    hand.window.card.open_section("Links")
    hand.press("Convert to pose track")
    assert isinstance(hand.session.item, PoseTrack)


def test_rides_and_lights_are_added_and_edited(hand_of, asked):
    hand, _ = hand_of()
    hand.session.edit("Free", lambda p: edits.remove(p, "run-2"))
    hand.session.select("part-2")
    hand.session.set_time(1.5)
    asked["choice"] = "part-1"
    hand.window.motion.attach()
    (attachment,) = hand.session.project.attachments
    assert (attachment.rider, attachment.carrier, attachment.start) == ("part-2", "part-1", 1.5)
    assert "is attached to" in hand.said()
    hand.type_in("To", "2.5")
    assert hand.session.project.attachments[0].end == 2.5
    hand.choose("Trigger", "run-1")
    hand.choose("Event", "station")
    hand.type_in("Station", "25")
    assert hand.session.project.attachments[0].trigger == Trigger("run-1", "station", 0.25)
    assert "starts at 1.500" in hand.said()
    for kind in ("point", "spot", "area", "sun"):
        hand.window.motion.light(kind)
    lights = hand.session.project.lights
    assert [light.kind for light in lights] == ["point", "spot", "area", "sun"]
    hand.session.select("light-2")
    hand.type_in("Intensity", "1.5 kcd")
    hand.type_in("Cone", "35")
    hand.choose("Aim", "part-1")
    hand.press("Add key here")
    hand.type_in("Key 1 intensity", "700")
    light = hand.session.project.lights[1]
    assert (light.strength, light.cone, light.aim.part) == (1500, 35, "part-1")
    assert light.keys == (LightKey(1.5, 700.0),)
    hand.choose("Move along", "path-2")
    assert hand.session.item.rider == "light-2"
    assert "rides" not in hand.window.contents.number("light-2")
    hand.stage.draw()
    hand.session.select("light-3")
    hand.stage.draw()


def test_what_a_run_goes_with_is_chosen_in_its_card(hand_of):
    hand, _ = hand_of()
    card = hand.window.card
    hand.session.select("run-2")
    card.open_section("Links")
    hand.choose("Trigger", "run-1")
    assert run_of(hand, 1).trigger == Trigger("run-1")
    hand.type_in("Delay", "0.5")
    assert course_of(hand.session.project, run_of(hand, 1)).start == 3.5
    hand.choose("Trigger", "")
    hand.choose("Follow", "run-1")
    hand.type_in("Distance behind", "12 cm")
    assert run_of(hand, 1).follows == Following("run-1", 120.0)
    hand.choose("Follow", "")
    hand.type_in("Blend", "0.4")
    assert run_of(hand, 1).blend == 0.4
    hand.session.select("run-1")
    hand.choose("Add companion", "part-2")
    assert run_of(hand).companions == ("part-2",)
    hand.press("Without Post")
    assert run_of(hand).companions == ()
    hand.session.set_time(2.0)
    hand.press("Add hold here")
    hand.type_in("Hold 1 at", "100")
    assert run_of(hand).holds[0].place == pytest.approx(0.25)
    hand.press("Delete last hold")
    hand.type_in("Count", "3")
    hand.type_in("Spacing", "60")
    hand.press("Make convoy")
    assert len(hand.session.project.runs) == 4 and "follows" in hand.session.project.runs[-1].name
    hand.press("Unlink")
    assert run_of(hand).link == ""
    hand.choose("Add linked run", "part-2")
    assert hand.session.item.rider == "part-2" and hand.session.item.link


def test_marks_passes_ground_and_roughness_are_chosen_in_the_card(hand_of):
    hand, _ = hand_of()
    card = hand.window.card
    hand.session.select("run-1")
    card.open_section("Run")
    hand.type_in("Mark", "350")
    hand.press("Stop at the mark")
    assert run_of(hand).end == pytest.approx(340 / 400)
    hand.type_in("Arrive by", "2.5")
    assert run_of(hand).arrive_by == 2.5
    hand.type_in("Passes", "2")
    hand.field("Back and forth").click()
    assert run_of(hand).returns and "2 ×" in hand.said()
    hand.choose("After", "rests")
    assert run_of(hand).after == "rests"
    hand.type_in("Passes", "no end")
    assert run_of(hand).passes == 0 and "no end" in hand.said()
    hand.type_in("Passes", "1")
    hand.choose("Point on path", "point")
    hand.type_in("Point z", "-10")
    assert run_of(hand).reference_point == (0, 0, -10)
    hand.press("Move path to rider")
    assert hand.session.project.paths[0].shape.points[0].position == pytest.approx((-100, 0, 0))
    card.open_section("Orientation")
    hand.choose("Orientation", "along")
    hand.press("Quarter turn")
    assert run_of(hand).orientation == AlongOrientation("-y")
    hand.choose("Up axis", "-z")
    hand.choose("Frame", "level")
    assert (run_of(hand).orientation.up, run_of(hand).orientation.stance) == ("-z", "level")
    hand.type_in("Rotation offset x", "15")
    assert run_of(hand).turn == (15, 0, 0)
    hand.field("Ground").click()
    hand.type_in("Reach", "50")
    ground = run_of(hand).ground
    assert ground.reach == 50 and len(ground.heights) > 100 and all(ground.found)
    hand.field("Follow slope").click()
    assert run_of(hand).ground.tilted and run_of(hand).ground.heights
    hand.press("Add roughness")
    hand.type_in("1: amplitude", "2")
    hand.choose("1: by", "time")
    hand.type_in("1: about", "3")
    assert run_of(hand).roughness == (Roughness("up", 2.0, 200.0, 3.0),)
    hand.choose("Orientation", "keyed")
    hand.session.set_time(2.0)
    hand.press("Add key here")
    hand.type_in("Key 2 x", "40")
    assert len(run_of(hand).orientation.keys) == 3
    assert run_of(hand).ground == Ground(
        50.0, True, run_of(hand).ground.width, run_of(hand).ground.heights, run_of(hand).ground.found
    )
    while hand.session.undo.canUndo():
        hand.session.undo.undo()
    assert run_of(hand) == opened().project.runs[0]


def test_the_list_has_what_moves_and_shines(hand_of):
    hand, _ = hand_of()
    hand.session.edit(
        "Add",
        lambda p: edits.add(
            p,
            PoseTrack("pose-track-1", "Nods", "part-2", (KeyPose(0), KeyPose(1.5)), 7.0),
            Attachment("attachment-1", "Rides", "part-2", "part-1", 9.0),
            Light("light-1", "Lamp"),
            Run("run-3", "Waits", "part-2", "path-2", start=11.0, trigger=Trigger("run-1", "station", 1.0)),
        ),
    )
    contents = hand.window.contents
    assert contents.number("pose-track-1").startswith("7.0–8.5") and contents.number("attachment-1").startswith("9.0–…")
    assert contents.number("light-1") == "point light" and contents.number("Runs") == "5"
    contents.choose("attachment-1")
    assert hand.session.selection == "attachment-1"
    hand.window.delete()
    assert not hand.session.project.attachments


def test_what_is_selected_together_runs_together(hand_of):
    hand, _ = hand_of()
    hand.session.edit("Free", lambda p: edits.remove(edits.remove(p, "run-1"), "run-2"))
    hand.session.select_parts(["part-2", "part-1"])
    hand.window.card.open_section("Place")
    hand.choose("Move along", "path-1")
    (run,) = hand.session.project.runs
    assert (run.rider, run.companions) == ("part-1", ("part-2",))


def test_wheels_castors_and_spins_are_made_and_edited(make_hand):
    project, meshes = wheeled()
    hand = make_hand(project_file.Opened(project, meshes))
    motion, session = hand.window.motion, hand.session
    session.select(None)
    motion.add_wheel()
    assert "select the part first" in hand.window.card.fault.text().lower()
    session.select("part-3")
    motion.add_wheel()
    assert session.item.radius == 50 and "1 000.0 ÷ 314.159" in hand.said().replace("\u2009", " ")
    hand.type_in("Circumference", "300")
    assert session.project.wheels[0].radius == pytest.approx(300 / (2 * np.pi))
    hand.press("From CAD cylinder")
    hand.type_in("Target turns", "4")
    assert course_of(session.project, run_of(hand)).length == pytest.approx(4 * 2 * np.pi * 50)
    hand.type_in("Marks per turn", "8")  # 4 turns end on one of eight marks already
    assert "ends on a mark" in hand.said()
    hand.type_in("Target turns", "4.05")
    for begins, whole in (("Radius", True), ("Path", True), ("Start at", False), ("Accept", True)):
        hand.press(begins)
        made = turns_of(session.project, session.project.wheels[0])
        assert (made == pytest.approx(4.0, abs=1e-6)) == whole
        session.undo.undo()
    hand.press("Start at")
    hand.type_in("Slip", "5")
    assert session.project.wheels[0].slip == pytest.approx(0.05)
    session.select("part-2")
    motion.add_castor()
    hand.type_in("Trail", "20")
    assert session.project.castors[0].trail == 20
    session.select("part-3")
    motion.add_rotation()
    hand.choose("Set by", "turns")
    hand.type_in("Turns", "3")
    hand.type_in("Soft stop", "1")
    spin = session.project.rotations[0]
    assert (spin.turns, spin.rpm, spin.ramp_out) == (3, None, 1)
    hand.window.timeline.show_lanes(["wheel"])
    assert hand.window.timeline.wheel.y.max() == pytest.approx(3, abs=0.01)
    contents = hand.window.contents
    assert (
        contents.number("wheel-1") == "4.25 turns"
        and contents.number("castor-1") == "castor"
        and contents.number("rotation-1") == "3 turns"
    )
    hand.stage.draw()
    hand.stage.views.look_at_selection()
    while session.undo.canUndo():
        session.undo.undo()
    assert session.project == project


def test_the_contents_hold_motions_under_what_they_move(hand):
    contents, model = hand.window.contents, hand.window.contents.model
    assert not [row for row in model.rows if row.startswith("moved:")]  # one run needs no row above it
    hand.session.edit("Key pose", lambda p: run_making.add_pose(p, "part-1", 5.0))
    hand.session.edit("Rotation", lambda p: edits.add(p, TimedRotation("rotation-1", "Mast", "part-2")))
    (group,) = [row for row in model.rows if row.startswith("moved:")]
    index = model.at(group)
    assert index.data() == hand.session.project.parts[0].name and contents.number(group) == "2"
    assert model.at("run-1").parent() == index and model.at("rotation-1").parent() == contents.heading("Runs")
    # what is selected elsewhere is shown, however deep it lies
    contents.tree.collapse(index)
    hand.session.select("run-1")
    assert contents.tree.isExpanded(index) and contents.current == hand.session.item.name
    # its row means the thing, and stays the one chosen
    contents.choose(group)
    assert hand.session.selection == "part-1" and contents.tree.currentIndex().data() == index.data()
    # a part of what moves belongs to that
    hand.session.edit("Parent", lambda p: edits.update(p, "part-2", parent="part-1"))
    assert model.at("rotation-1").parent() == model.at(group) and contents.number(group) == "3"
    hand.session.undo.setIndex(0)
    assert not [row for row in model.rows if row.startswith("moved:")]
