"""What a person does in the window."""

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import QModelIndex, QPoint, QPointF, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QMessageBox, QPushButton
from shapes import DEMO, box_mesh, make_project
from vtkmodules.util.numpy_support import vtk_to_numpy

from kestrav.app.contents.contents_model import HEALTH
from kestrav.app.dialogs.camera_dialogs import OrbitDialog
from kestrav.app.jobs.jobs import Job
from kestrav.app.shell.findings_panel import _Card
from kestrav.app.stage.drawing_tool import DrawTool
from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import (
    AlongOrientation,
    Bank,
    BankKey,
    Camera,
    CarriedOrientation,
    Eased,
    FixedOrientation,
    PartAim,
    PathPoint,
    Placement,
    PointAim,
)
from kestrav.core.files import project_file
from kestrav.core.files.project_file import Opened
from kestrav.core.geometry.meshes import box_corners
from kestrav.core.parts.rest import world_bounds
from kestrav.core.paths.path_curves import path_curve
from kestrav.render.picture import grab
from kestrav.render.viewpoint import to_display

ABOVE = (0.0, -0.5, 0.87)


def look(hand, direction=ABOVE, distance=700.0):
    hand.stage.viewpoint.look_from(direction)
    hand.stage.viewpoint.focus[:] = (0, 0, 0)
    hand.stage.viewpoint.distance = distance
    hand.stage.draw()


def path_of(hand, number=0):
    return hand.session.project.paths[number].shape


# selecting


def test_a_click_on_a_part_selects_it_and_beside_everything_nothing(hand):
    look(hand)
    hand.click(hand.at(-104, 6, 10))
    assert hand.session.selection == "part-1"
    assert hand.window.contents.current == "Cube"
    assert hand.window.card.title.text() == "Cube"
    look(hand, distance=4000.0)
    hand.click(QPoint(60, hand.stage.height() - 60))
    assert hand.session.selection is None


def test_clicks_go_from_the_assembly_one_level_deeper(make_hand, demo):
    hand = make_hand(demo)
    names = {p.name: p.id for p in demo.project.parts}
    chain = [names["Heat-pump cabinet"], names["Fan cassette"], names["Housing"]]
    housing = names["Housing"]
    found = []
    for _ in chain:
        hand.session.select(hand.stage.click_part(housing, deepest=False))
        found.append(hand.session.selection)
    assert found == chain
    assert hand.stage.click_part(housing, deepest=True) == housing
    # the way down is shown, and each step of it can be clicked
    assert "Heat-pump cabinet" in hand.window.card.title.text()
    hand.window.card.title.linkActivated.emit(chain[1])
    assert hand.session.selection == chain[1]
    # what would move is highlighted whole
    hand.stage.draw()
    assert len(hand.stage.marks.outline.parts) > 25
    # its impeller turns by itself, and each finish is drawn by itself
    drawn = [len(members) for _, members in hand.stage.scene.outlines_of(hand.stage.marks.outline.parts)]
    assert sum(drawn) == 29 and len(drawn) > 2


def test_choosing_a_row_selects_its_item(hand):
    contents = hand.window.contents
    contents.choose("run-1")
    assert hand.session.selection == "run-1"
    assert hand.window.card.title.text() == "Run · 2.00\u2009s"


# paths


def test_dragging_a_point_moves_it_live_and_is_one_undo(hand):
    look(hand)
    hand.session.edit("Aim", lambda p: edits.update(p, "camera-1", aim=PartAim("part-1")))
    hand.session.set_time(2.0)
    hand.session.undo.clear()
    hand.checked()
    hand.session.select("path-1")
    aims = []
    hand.stage.drawn.connect(lambda: aims.append(hand.stage.lens.GetActiveCamera().GetFocalPoint()[1]))
    lengths = []
    hand.session.edited.connect(lambda: lengths.append(hand.window.timeline.axis_journey().length))
    clearance = []
    hand.window.checking.checker.now.connect(lambda c: clearance.append(float(c.distance[0])))
    hand.drag(hand.at(100, 0, 0), hand.at(100, -60, 0), hand.at(100, -120, 0))
    moved = path_of(hand).points[1].position
    assert moved[0] == pytest.approx(100, abs=2)
    assert moved[1] == pytest.approx(-120, abs=2)
    assert moved[2] == 0
    # everything followed while the mouse was down
    assert len(lengths) >= 3
    hand.stage.draw()
    assert aims[-1] == pytest.approx(moved[1], abs=1)
    assert hand.session.point == 1
    assert hand.session.undo.count() == 1
    hand.qtbot.waitUntil(lambda: bool(clearance), timeout=30_000)
    hand.checked()
    hand.window.undo_action.trigger()
    assert path_of(hand).points[1].position == (100, 0, 0)
    hand.window.redo_action.trigger()
    assert path_of(hand).points[1].position == moved


def test_shift_lifts_a_point(hand):
    look(hand, (0.0, -0.95, 0.3))
    hand.session.select("path-1")
    hand.drag(hand.at(100, 0, 0), hand.at(100, 0, 40), hand.at(100, 0, 80), keys=Qt.KeyboardModifier.ShiftModifier)
    x, y, z = path_of(hand).points[1].position
    assert (x, y) == (100, 0)
    assert z == pytest.approx(80, abs=2)


def test_a_point_cannot_be_dragged_onto_its_neighbour(hand):
    look(hand)
    hand.session.select("path-1")
    hand.drag(hand.at(100, 0, 0), hand.at(-60, 0, 0), hand.at(-100, 0, 0))
    points = [p.position for p in path_of(hand).points]
    assert points[0] != points[1]


def test_double_click_inserts_delete_takes_out_and_k_changes_the_kind(hand):
    look(hand)
    hand.session.select("path-1")
    QTest.mouseDClick(hand.stage.view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, hand.at(50, 0, 0))
    assert len(path_of(hand).points) == 3
    assert path_of(hand).points[1].position[0] == pytest.approx(50, abs=2)
    assert (hand.session.selection, hand.session.point) == ("path-1", 1)
    hand.key(Qt.Key.Key_K)
    assert path_of(hand).points[1].kind == "free"
    hand.key(Qt.Key.Key_K)
    assert path_of(hand).points[1].kind == "corner"
    hand.key(Qt.Key.Key_Delete)
    assert len(path_of(hand).points) == 2
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert len(path_of(hand).points) == 3


def test_a_free_points_handle_is_dragged(hand):
    hand.session.edit("x", lambda p: edits.set_point(p, "path-1", 0, kind="free", handle_out=(60.0, 0.0, 0.0)))
    look(hand)
    hand.session.select("path-1")
    hand.drag(hand.at(-40, 0, 0), hand.at(-40, 30, 0), hand.at(-40, 60, 0))
    handle = path_of(hand).points[0].handle_out
    assert handle[1] == pytest.approx(60, abs=2)
    assert path_of(hand).points[0].position == (-100, 0, 0)


def test_a_path_is_drawn_on_the_floor(hand):
    look(hand)
    hand.session.select(None)
    hand.key(Qt.Key.Key_D)
    assert hand.window.tools.draw_tool.settings.on == "floor"
    for place in ((-150, -80, 0), (0, -120, 0), (150, -60, 0)):
        QTest.mouseMove(hand.stage.view, hand.at(*place))
        hand.click(hand.at(*place))
    assert hand.window.tools.hint.isVisible()
    hand.key(Qt.Key.Key_Backspace)
    hand.click(hand.at(140, -70, 0))
    hand.key(Qt.Key.Key_Return)
    made = hand.session.project.paths[-1]
    assert [p.position[2] for p in made.shape.points] == [0, 0, 0]
    assert made.shape.points[2].position[0] == pytest.approx(140, abs=3)
    assert hand.session.selection == made.id
    assert hand.window.tools.buttons["select"].isChecked()
    assert len(hand.session.project.runs) == 2


def test_with_a_part_selected_the_path_leaves_its_pivot_and_it_runs_along(hand):
    look(hand, (0.0, -1.0, 0.1))
    hand.session.select("part-2")
    hand.window.tools.buttons["draw"].click()
    assert hand.window.tools.draw_tool.settings.on == "upright"
    hand.click(hand.at(60, 19, 60))
    hand.click(hand.at(120, 19, 40))
    hand.key(Qt.Key.Key_Return)
    path, run = hand.session.project.paths[-1], hand.session.project.runs[-1]
    assert path.shape.points[0].position == (0, 19, 0)
    # the plane is upright: nothing leaves it
    assert {p.position[1] for p in path.shape.points} == {19}
    assert run.rider == "part-2"
    assert run.path == path.id
    hand.window.undo_action.trigger()
    assert len(hand.session.project.paths) == 2
    assert len(hand.session.project.runs) == 2


def test_escape_drops_a_drawing_and_one_point_is_no_path(hand):
    look(hand)
    hand.key(Qt.Key.Key_D)
    hand.click(hand.at(0, -100, 0))
    hand.key(Qt.Key.Key_Return)
    assert "two points" in hand.window.card.fault.text()
    hand.key(Qt.Key.Key_Escape)
    assert len(hand.session.project.paths) == 2
    assert hand.session.undo.count() == 0


# numbers in the card


def test_numbers_are_typed_with_units(hand):
    hand.session.select("path-1", 1)
    hand.type_in("Position y", "4 cm")
    assert path_of(hand).points[1].position == (100, 40, 0)
    hand.session.select("run-1")
    hand.type_in("Duration", "0.05 min")
    assert hand.session.project.runs[0].duration == pytest.approx(3.0)
    assert "÷" in hand.window.card.form.findChild(QLabel, "worked").text()


def test_what_makes_no_sense_is_refused_and_the_field_goes_back(hand):
    hand.session.select("run-1")
    hand.type_in("Duration", "-2")
    assert "above 0" in hand.window.card.fault.text()
    assert hand.session.project.runs[0].duration == 2.0
    hand.type_in("Duration", "soon")
    assert "not a number" in hand.window.card.fault.text()
    assert hand.field("Duration").text().startswith("2.000")


def test_a_runs_pacing_heading_and_speed_are_chosen(hand):
    hand.session.select("run-1")

    def choose(name, key):
        field = hand.field(name)
        index = field.findData(key)
        field.setCurrentIndex(index)
        field.activated.emit(index)
        return hand.session.project.runs[0]

    hand.window.card.open_section("Speed")
    assert choose("Speed profile", "eased").speed_profile == Eased()
    hand.type_in("Soft start, mm", "80")
    assert hand.session.project.runs[0].speed_profile == Eased(80.0, 100.0)
    hand.window.card.open_section("Run")
    assert choose("Set by", "speed").speed == pytest.approx((200 + 180 * 200 / 180) / 2, rel=0.2)
    hand.window.card.open_section("Orientation")
    assert choose("Orientation", "along").orientation == AlongOrientation()
    assert choose("Forward axis", "-y").orientation.forward == "-y"
    hand.window.card.rebuild()
    next(b for b in hand.window.card.form.findChildren(QPushButton) if b.text() == "Face the other way").click()
    assert hand.session.project.runs[0].orientation.flip
    assert choose("Orientation", "fixed").orientation == FixedOrientation()


def test_every_pacing_has_its_numbers_and_sums(hand):
    hand.session.select("run-1")
    hand.window.card.open_section("Speed")

    def speed_profile():
        return hand.session.project.runs[0].speed_profile

    def said():
        hand.window.card.rebuild()
        return " ".join(w.text() for w in hand.window.card.form.findChildren(QLabel) if w.objectName() == "worked")

    choose(hand, "Speed profile", "eased")
    choose(hand, "Soft start", "s")
    hand.type_in("Soft start, s", "0.4")
    choose(hand, "Soft stop", "frames")
    hand.type_in("Soft stop, frames", "15")
    assert speed_profile() == Eased(100.0, 100.0, 0.4, 15 / hand.session.project.settings.fps)
    choose(hand, "Speed profile", "law:3-4-5 polynomial")
    assert "1.875 ×" in said() and "5.774 ×" in said()
    choose(hand, "Speed profile", "limited")
    for name, value in (("Top speed", "0.3 m/s"), ("Lateral", "400"), ("Braking", "0")):
        hand.type_in(name, value)
    assert (speed_profile().top, speed_profile().sideways, speed_profile().braking) == (300, 400, 0)
    next(b for b in hand.window.card.form.findChildren(QPushButton) if b.text() == "Add a speed zone").click()
    hand.type_in("Zone 1 speed", "120")
    hand.type_in("Zone 1 from", "70")
    assert "must go forward" in hand.window.card.fault.text()
    assert speed_profile().zones[0].speed == 120 and speed_profile().zones[0].begin == 0.4
    assert "within its limits" in said()
    choose(hand, "Speed profile", "keyed")
    count = len(speed_profile().keys)
    hand.session.set_time(0.9)
    hand.window.card.rebuild()
    next(b for b in hand.window.card.form.findChildren(QPushButton) if b.text() == "Add key here").click()
    assert len(speed_profile().keys) == count + 1
    hand.type_in("Key 3, s", "9")
    assert "times go forward" in hand.window.card.fault.text()
    hand.window.card.open_section("Run")
    hand.type_in("Arrival", "5")
    assert hand.session.project.runs[0].duration == 5.0
    hand.field("Backwards").click()
    assert hand.session.project.runs[0].backwards
    while hand.session.undo.canUndo():
        hand.session.undo.undo()
    assert hand.session.undo.isClean()


def test_headings_lean_and_what_sits_on_the_path(hand):
    hand.session.select("run-1")

    def run():
        return hand.session.project.runs[0]

    def press(text):
        hand.window.card.rebuild()
        next(b for b in hand.window.card.form.findChildren(QPushButton) if b.text() == text).click()

    choose(hand, "Point on path", "front")
    hand.type_in("Offset from path y", "25")
    assert run().reference == "front" and run().offset == (0, 25, 0)
    hand.window.card.open_section("Orientation")
    choose(hand, "Orientation", "carried")
    hand.type_in("Wheelbase", "6 cm")
    hand.type_in("Pivot position", "100")
    assert run().orientation == CarriedOrientation(wheelbase=60.0, share=1.0)
    choose(hand, "Orientation", "toward")
    assert run().orientation.aim == PartAim("part-2")
    choose(hand, "Target", "")
    hand.type_in("Point z", "300")
    assert run().orientation.aim == PointAim((0, 0, 300))
    choose(hand, "Orientation", "along")
    hand.field("Computed").click()
    hand.type_in("Maximum", "12")
    press("Add bank key")
    hand.type_in("Key 1 bank", "5")
    assert run().bank == Bank((BankKey(0.5, 5.0),), True, 12.0)
    press("Delete last key")
    assert not run().bank.keys
    hand.window.timeline.show_lanes(["clearance", "bank"])
    assert len(hand.window.timeline.roll.y)
    hand.window.timeline.show_lanes(["clearance", "speed"])


def test_a_part_is_placed_turned_and_its_pivot_centred(hand):
    hand.session.select("part-2")
    hand.window.card.open_section("Place")
    hand.type_in("Position x", "30")
    hand.type_in("Rotation z", "90")
    part = hand.session.project.parts[1]
    assert part.placement.position == (30, 19, 0)
    assert part.placement.rotation == pytest.approx((0.7071068, 0, 0, 0.7071068))
    hand.window.card.open_section("Pivot and front")
    hand.type_in("Pivot z", "70")
    choose(hand, "Set pivot to", "middle")
    assert hand.session.project.parts[1].pivot.position == pytest.approx((0, 0, 0))


def choose(hand, name, key):
    """Choose an option of a card's choice by its key."""
    field = hand.field(name)
    field.setCurrentIndex(field.findData(key))
    field.activated.emit(field.currentIndex())


def press(hand, text):
    hand.window.card.rebuild()
    next(b for b in hand.window.card.form.findChildren(QPushButton) if b.text().startswith(text)).click()


def test_an_orbit_is_made_from_the_card_and_filmed_by_the_lens(hand, monkeypatch):
    monkeypatch.setattr(OrbitDialog, "exec", lambda _: True)
    hand.session.select("part-1")
    press(hand, "Orbit")
    camera = hand.session.item
    assert isinstance(camera, Camera)
    assert hand.session.camera is camera
    hand.stage.draw()
    assert hand.stage.arrangement.lens_head.isVisible()
    hand.type_in("Focal length", "85")
    hand.stage.draw()
    assert hand.stage.lens.GetActiveCamera().GetViewAngle() == pytest.approx(13.6, abs=0.2)


# checks, findings, chart


def test_the_breach_is_shown_in_chart_list_and_findings(hand):
    hand.checked()
    finding = hand.window.findings.findings[0]
    assert "Cube too close to Post" in finding.title
    assert len(hand.window.timeline.clearance.breaches) == 1
    assert hand.window.timeline.clearance.limit.isVisible()
    assert hand.window.contents.heading("Checks").data(HEALTH) == "breach"


def test_go_there_moves_the_playhead_and_draws_the_gap(hand):
    hand.checked()
    card = hand.window.findings.findChild(_Card)
    next(b for b in card.findChildren(QPushButton) if b.text() == "Go there").click()
    finding = hand.window.findings.findings[0]
    assert hand.session.time == pytest.approx(finding.time)
    hand.stage.draw()
    assert hand.stage.marks.dimension.actor.GetVisibility()
    assert hand.stage.marks.label.isVisible()
    assert "4.0" in hand.stage.marks.label.text()
    assert "5\u2009mm required" in hand.stage.marks.label.text()
    middle = hand.at(*finding.place)
    assert abs(middle.x() - hand.stage.width() / 2) < 60
    assert abs(middle.y() - hand.stage.height() / 2) < 60


def test_an_old_result_is_never_shown_as_current(hand):
    hand.checked()
    hand.session.edit("x", lambda p: edits.settings(p, required_clearance=2.0))
    assert not hand.window.checking.current
    hand.window.timeline.follow()
    assert "lags" in hand.window.timeline.clearance.label.text()
    assert "checking" in hand.window.findings.count.text()
    hand.checked()
    # the small project's shot has but 20 frames a second; nothing else is wrong
    assert [f.rule for f in hand.window.findings.findings] == ["frame-rate"]
    assert "lags" not in hand.window.timeline.clearance.label.text()


def test_a_mend_is_previewed_then_accepted_or_dropped(hand):
    off = Placement((0.0, -80.0, 0.0))
    # a run that turns its rider by its pivot
    run = hand.session.project.runs[0].id
    hand.session.edit("y", lambda p: edits.update(p, run, orientation=AlongOrientation()))
    hand.session.edit("x", lambda p: edits.update(p, "part-1", pivot=off))
    hand.checked()

    def fix():
        finding = next(f for f in hand.window.findings.findings if f.rule == "pivot-outside")
        hand.window.session.preview(finding.fix)
        return finding.fix

    fix()
    assert hand.window.preview_bar.isVisible()
    assert hand.session.project.parts[0].pivot == off
    assert hand.session.shown.parts[0].pivot != off
    next(b for b in hand.window.preview_bar.findChildren(QPushButton) if b.text() == "Discard").click()
    assert hand.session.shown.parts[0].pivot == off
    hand.checked()
    finding = next(f for f in hand.window.findings.findings if f.rule == "pivot-outside")
    # edited after the finding was made: accepting its mend keeps the edit
    hand.session.edit("x", lambda p: edits.rename_project(p, "Later"))
    hand.window.session.preview(finding.fix)
    next(b for b in hand.window.preview_bar.findChildren(QPushButton) if b.text() == "Accept").click()
    assert hand.session.project.parts[0].pivot.position == pytest.approx((0, 0, 0))
    assert hand.session.project.name == "Later"
    hand.window.undo_action.trigger()
    assert hand.session.project.parts[0].pivot == off


def test_a_contact_is_taken_back_into_the_check(hand):
    hand.checked()
    hand.window.contents.choose("Checks")
    press(hand, "Require clearance")
    assert not hand.session.project.contacts[0].intended
    hand.checked()
    assert any(f.rule == "collision" for f in hand.window.findings.findings)


def test_playing_stepping_and_scrubbing_move_the_playhead(hand):
    fps = hand.session.project.settings.fps
    hand.key(Qt.Key.Key_Right)
    assert hand.session.time == pytest.approx(1 / fps)
    hand.key(Qt.Key.Key_End)
    assert hand.session.time == pytest.approx(2.0)
    hand.key(Qt.Key.Key_Home)
    hand.key(Qt.Key.Key_Space)
    hand.qtbot.waitUntil(lambda: hand.session.time > 0.2, timeout=20_000)
    hand.key(Qt.Key.Key_Space)
    stopped = hand.session.time
    hand.qtbot.wait(100)
    assert hand.session.time == stopped
    timeline = hand.window.timeline
    plot = timeline.clearance.plot.sceneBoundingRect()
    x = timeline.plots[0].getViewBox().mapViewToScene(timeline.plots[0].getViewBox().viewRect().topLeft()).x()
    right = plot.right()
    middle = QPoint(round((x + right) / 2), round(plot.center().y()))
    QTest.mouseClick(timeline.chart.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, middle)
    assert hand.session.time == pytest.approx(1.0, abs=0.1)


def test_the_chart_turns_to_distance_and_back(hand):
    hand.checked()
    hand.key(Qt.Key.Key_X)
    timeline = hand.window.timeline
    assert timeline.by_distance
    hand.session.set_time(1.0)
    assert timeline.playheads[0].value() == pytest.approx(100.0)
    assert timeline.clearance.x[-1] == pytest.approx(200.0)
    hand.key(Qt.Key.Key_X)
    assert timeline.clearance.x[-1] == pytest.approx(2.0)


def test_a_bar_is_dragged_in_time(hand):
    timeline = hand.window.timeline
    timeline.bar_drags += 1
    for start in (0.13, 0.31):
        timeline.move_bar("run-1", start)
    assert hand.session.project.runs[0].start == pytest.approx(0.3)
    assert hand.session.undo.count() == 1
    shot = hand.session.project.shots[0]
    timeline.move_bar(shot.id, 1.0)
    assert hand.session.project.shots[0].end - hand.session.project.shots[0].start == pytest.approx(
        shot.end - shot.start
    )


# looking


def test_the_view_turns_shifts_and_zooms(hand):
    look(hand)
    view = hand.stage.viewpoint
    azimuth, focus, distance = view.azimuth, view.focus.copy(), view.distance
    middle = QPoint(hand.stage.width() // 2, 120)
    hand.drag(middle, middle + QPoint(80, 0))
    assert view.azimuth != azimuth
    hand.drag(middle, middle + QPoint(0, 60), button=Qt.MouseButton.RightButton)
    assert abs(view.focus - focus).max() > 1
    hand.key(Qt.Key.Key_Plus)
    assert view.distance < distance
    hand.session.select("part-1")
    hand.key(Qt.Key.Key_C)
    assert view.focus == pytest.approx([-100, 0, 0], abs=1)


def test_lens_and_stage_change_places(hand):
    hand.stage.draw()
    small = hand.stage.lens.GetViewport()
    hand.key(Qt.Key.Key_W)
    assert hand.stage.swapped
    big = hand.stage.lens.GetViewport()
    assert big[2] - big[0] > 2 * (small[2] - small[0])
    # the frame keeps its aspect, whatever is drawn outside of it
    width, height = hand.stage.lens.GetSize()
    left, bottom, right, top = hand.stage.lens_view.frame
    assert width * (right - left) / (height * (top - bottom)) == pytest.approx(16 / 9, rel=0.02)
    hand.key(Qt.Key.Key_W)
    assert not hand.stage.swapped
    hand.key(Qt.Key.Key_L)
    assert not hand.stage.arrangement.lens_head.isVisible()
    hand.key(Qt.Key.Key_L)
    assert hand.stage.arrangement.lens_head.isVisible()


def test_the_stage_returns_when_the_lens_loses_its_camera(hand):
    hand.stage.draw()
    hand.key(Qt.Key.Key_W)
    hand.session.edit("x", lambda p: edits.remove(p, "camera-1"))
    hand.stage.draw()
    assert not hand.stage.swapped
    assert hand.stage.main.GetDraw()
    assert not hand.stage.arrangement.lens_head.isVisible()
    hand.window.undo_action.trigger()
    hand.stage.draw()
    assert hand.stage.arrangement.lens_head.isVisible()


def test_the_lens_is_sized_by_its_heading(hand):
    before = hand.stage.arrangement.inset()
    head = hand.stage.arrangement.lens_head
    QTest.mousePress(head, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(8, 12))
    QTest.mouseMove(head, QPoint(-52, 12))
    QTest.mouseRelease(head, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(8, 12))
    after = hand.stage.arrangement.inset()
    assert after.width() > before.width() + 30
    assert after.width() / after.height() == pytest.approx(16 / 9, rel=0.02)
    assert after.bottomRight() == before.bottomRight()


def test_space_presses_the_button_that_has_the_keyboard(hand):
    hand.session.select("part-1")
    hand.window.card.rebuild()
    button = next(b for b in hand.window.card.findChildren(QPushButton) if b.text() == "Draw path")
    button.setFocus()
    QTest.keyClick(button, Qt.Key.Key_Space)
    assert not hand.window.player.playing
    assert isinstance(hand.stage.tool, DrawTool)


def test_findings_fold_away(hand):
    before = hand.window.contents.height()
    hand.key(Qt.Key.Key_F8)
    hand.qtbot.waitUntil(lambda: hand.window.contents.height() > before + 50, timeout=30_000)


@pytest.mark.parametrize(
    ("key", "part"), [(Qt.Key.Key_F7, "contents"), (Qt.Key.Key_F9, "card"), (Qt.Key.Key_F10, "timeline")]
)
def test_panels_fold_away_and_stay_so(make_hand, passing, key, part):
    hand = make_hand(passing)
    size = hand.stage.size()
    hand.key(key)
    hand.qtbot.waitUntil(lambda: hand.stage.width() > size.width() + 50 or hand.stage.height() > size.height() + 50)
    assert not getattr(hand.window, part).isVisible()
    hand.window.close()
    again = make_hand(passing)
    assert not getattr(again.window, part).isVisible()
    again.key(key)
    assert getattr(again.window, part).isVisible()


# files


def test_saving_opening_and_the_unsaved_question(hand, tmp_path, passing):
    window, session = hand.window, hand.session
    session.edit("x", lambda p: edits.rename_project(p, "Other"))
    assert "not saved" in window.header.name.text()
    target = tmp_path / "other.kestrav"
    assert window.documents._save_to(target)
    assert "not saved" not in window.header.name.text()
    assert project_file.load(target).project == session.project

    def answer(text):
        def act():
            box = QApplication.activeModalWidget()
            if not isinstance(box, QMessageBox):
                QTimer.singleShot(50, act)
                return
            next(b for b in box.buttons() if b.text() == text).click()

        QTimer.singleShot(50, act)

    session.edit("x", lambda p: edits.rename_project(p, "Third"))
    answer("Cancel")
    window.documents.new()
    assert session.project.name == "Third"
    answer("Save")
    window.documents.new()
    assert session.project.name == "Untitled"
    assert project_file.load(target).project.name == "Third"
    assert window.documents.open(target)
    assert session.project.name == "Third"
    session.edit("x", lambda p: edits.rename_project(p, "Fourth"))
    answer("Don't save")
    window.documents.new()
    assert project_file.load(target).project.name == "Third"


def test_a_broken_file_is_told_and_what_is_open_stays(hand, tmp_path):
    broken = tmp_path / "broken.kestrav"
    broken.write_bytes(b"no")
    told = []

    def act():
        box = QApplication.activeModalWidget()
        if not isinstance(box, QMessageBox):
            QTimer.singleShot(50, act)
            return
        told.append(box.text())
        box.buttons()[0].click()

    QTimer.singleShot(50, act)
    before = hand.session.project
    assert not hand.window.documents.open(broken)
    assert "broken.kestrav" in told[0]
    assert hand.session.project is before


def test_a_product_is_added_in_a_job_and_can_be_undone(hand, demo):
    hand.window.bringing.add([DEMO.parent / "swing-gate.step"])
    assert hand.window.job_bar.isVisible()
    hand.qtbot.waitUntil(lambda: hand.window.job is None, timeout=120_000)
    assert any(p.name == "Swing gate" for p in hand.session.project.parts)
    hand.stage.draw()
    assert len(hand.stage.scene.shown_parts()) == 3 + 14
    hand.window.undo_action.trigger()
    hand.stage.draw()
    assert len(hand.stage.scene.shown_parts()) == 3


# long work


def test_a_film_is_rendered_while_the_window_stays_usable(hand, tmp_path):
    shot = msgspec.structs.replace(hand.session.project.shots[0], width=160, height=90)
    target = tmp_path / "film.mp4"
    hand.window.filming.start([shot], target)
    hand.session.select("part-1")
    hand.key(Qt.Key.Key_Right)
    assert hand.session.frame == 1
    hand.qtbot.waitUntil(lambda: hand.window.job is None, timeout=180_000)
    assert target.exists()


def test_a_render_is_cancelled_and_goes_on_from_its_frames(hand, tmp_path):
    shot = msgspec.structs.replace(hand.session.project.shots[0], fps=500.0)
    hand.window.filming.start([shot], tmp_path / "film.mp4")
    hand.qtbot.waitUntil(lambda: hand.window.job_bar.progress.value() > 0, timeout=180_000)
    assert "%" in hand.window.job_bar.left.text()
    hand.window.job_bar.cancel.click()
    hand.qtbot.waitUntil(lambda: hand.window.job is None, timeout=60_000)
    assert not (tmp_path / "film.mp4").exists()
    kept = len(list((tmp_path / ".film.mp4.frames").glob("*.frame")))
    assert kept > 0
    short = msgspec.structs.replace(shot, end=shot.start + kept / 500.0)
    hand.window.filming.start([short], tmp_path / "film.mp4")
    hand.qtbot.waitUntil(lambda: hand.window.job is None, timeout=180_000)
    assert [p.name for p in tmp_path.glob("*film*")] == ["film.mp4"]


def die(report):
    import os

    os._exit(3)


def test_work_that_dies_is_told(dressed, qtbot):
    job = Job("Dying", die)
    told = []
    job.failed.connect(told.append)
    qtbot.waitUntil(lambda: bool(told), timeout=30_000)
    assert "ended before it was finished" in told[0]


def test_the_window_layout_is_remembered(make_hand, passing):
    first = make_hand(passing)
    first.window.panels.left.setSizes([300, 420])
    sizes = first.window.panels.left.sizes()
    first.window.close()
    second = make_hand(passing)
    assert second.window.panels.left.sizes() == pytest.approx(sizes, abs=3)


def test_every_control_says_what_it_does(hand):
    hand.session.select("run-1")
    hand.window.card.rebuild()
    silent = [b.text() for b in hand.window.findChildren(QPushButton) if b.isVisible() and not b.toolTip()]
    assert silent == []


def test_an_empty_project_invites(make_hand):
    from kestrav.core.document.records import Project

    hand = make_hand(Opened(Project(), {}))
    hand.checked()
    assert "Add a product" in " ".join(label.text() for label in hand.window.card.form.findChildren(QLabel))
    assert not hand.stage.arrangement.lens_head.isVisible()
    hand.window.filming.ask()
    assert "no shot" in hand.window.card.fault.text()


def test_closed_path_and_second_handle_from_the_card(hand):
    hand.session.edit("x", lambda p: edits.insert_point(p, "path-1", 1, (0.0, -80.0, 0.0)))
    hand.session.select("path-1", 1)
    hand.field("Closed").click()
    assert path_of(hand).closed
    hand.session.edit("x", lambda p: edits.set_kind(p, "path-1", 1, "free"))
    hand.field("Handles").click()
    point = path_of(hand).points[1]
    assert isinstance(point, PathPoint)
    assert point.handle_in == tuple(-v for v in point.handle_out)


@pytest.mark.parametrize("size", [4.0, 900.0, 800_000.0])
def test_the_floor_has_as_many_lines_at_every_size(make_hand, size):
    hand = make_hand(make_project({"Block": (box_mesh(size, 0.5 * size, 0.2 * size), (0, 0, 0.1 * size))}))
    lines = hand.stage.marks.floor.GetMapper().GetInput()
    assert 16 <= lines.GetNumberOfLines() <= 60
    low, high = np.array(lines.GetBounds()).reshape(3, 2).T
    assert (low[:2] <= [-0.5 * size, -0.25 * size]).all() and (high[:2] >= [0.5 * size, 0.25 * size]).all()
    assert high[2] < 1e-3 * size


def test_what_was_said_can_be_read_again(hand):
    window = hand.window
    window.tools.say_for("Written: out.csv", 1)
    window.tools.say_for("Written: out.csv", 1)
    window.card.complain("select the part to turn first")
    hand.qtbot.wait(30)
    shown = []

    def read():
        (dialog,) = [w for w in QApplication.topLevelWidgets() if w.windowTitle() == "Messages" and w.isVisible()]
        shown.append(dialog.text.toPlainText())
        dialog.reject()

    QTimer.singleShot(100, read)
    window.messages_action.trigger()
    lines = shown[0].splitlines()
    assert [line[10:] for line in lines[:2]] == ["Select the part to turn first", "Written: out.csv"]
    assert sum("out.csv" in line for line in lines) == 1


# the stage tells what it shows


def test_the_direction_of_view_is_told(hand):
    compass = hand.stage.arrangement.compass
    for where, told in (("front", "front"), ("right", "right"), ("top", "from above"), ("bottom", "from below")):
        hand.stage.views.stand(where)
        hand.stage.draw()
        assert compass.isVisible() and compass.text == told
    hand.stage.viewpoint.azimuth, hand.stage.viewpoint.elevation = np.radians(-135.0), np.radians(30.0)
    hand.stage.draw()
    assert compass.text == "front left, 30° above"
    hand.stage.arrangement.swap()
    assert not compass.isVisible()


def test_what_is_under_the_pointer_is_named(hand):
    tool = hand.window.tools.select_tool
    place = get(hand.session.project, "part-2").placement.position
    text = tool.name_at(hand.at(*place))
    assert text.startswith(get(hand.session.project, "part-2").name) and text.endswith("mm")
    path = hand.session.project.paths[0]
    free = path_curve(path).curve.position([45.0])[0]  # beside the part that starts there
    assert path.name in tool.name_at(hand.at(*free))
    assert tool.name_at(hand.stage.rect().topLeft() + QPoint(4, 120)) == ""


def outline_of(stage):
    """The picture over the stage that outlines the selection: alphas (h, w)."""
    image = stage.marks.outline.picture._image
    width, height, _ = image.GetDimensions()
    return vtk_to_numpy(image.GetPointData().GetScalars()).reshape(height, width, 4)[..., 3]


def test_a_selected_part_is_outlined_around_its_silhouette(hand):
    hand.session.select("part-2")
    hand.stage.draw()
    alpha = outline_of(hand.stage)
    rows, columns = np.nonzero(alpha)
    corners = world_bounds(hand.session.project, "part-2", hand.session.poses()[None])[0]
    seen = to_display(hand.stage.main, box_corners(corners))[:, :2]
    # as far as the part is seen, and the line beside it
    assert columns.min() == pytest.approx(seen[:, 0].min(), abs=5) and columns.max() == pytest.approx(
        seen[:, 0].max(), abs=5
    )
    assert rows.min() == pytest.approx(seen[:, 1].min(), abs=5) and rows.max() == pytest.approx(seen[:, 1].max(), abs=5)
    assert hand.stage.marks.outline.picture.renderer.GetDraw()
    hand.session.select(None)
    hand.stage.draw()
    assert not hand.stage.marks.outline.picture.renderer.GetDraw()


def test_the_outline_is_seen_on_the_screen(hand):
    hand.session.select(None)
    hand.stage.draw()
    before = grab(hand.stage.view.GetRenderWindow()).astype(int)
    hand.session.select("part-2")
    hand.stage.draw()
    after = grab(hand.stage.view.GetRenderWindow()).astype(int)
    alpha = outline_of(hand.stage)[::-1]
    petrol = np.array([13, 107, 116])
    line = alpha == 255
    # marks of the selection, and the lens, lie over it in places
    assert np.mean(np.abs(after[: alpha.shape[0], : alpha.shape[1]][line] - petrol).max(axis=1) < 12) > 0.6
    assert np.abs(after - before).max(axis=2)[alpha == 0].mean() < 3


# empty lists and charts, and what is shown of full ones


def empty_of_motion():
    return make_project({"Cube": (box_mesh(20, 20, 20), (0, 0, 0))}, None)


def rows_under(hand, heading):
    contents = hand.window.contents
    index = contents.heading(heading)
    return [str(contents.model.index(i, 0, index).data()) for i in range(contents.model.rowCount(index))]


def test_empty_headings_and_the_empty_chart_offer_the_first_step(make_hand):
    made = empty_of_motion()
    hand = make_hand(made)
    assert rows_under(hand, "Paths") == ["Draw a path …"] and rows_under(hand, "Product") == ["Cube"]
    told = hand.window.timeline.empty
    assert told.isVisible() and "Nothing moves yet" in told.text()
    hand.window.contents.choose("hint:Paths")
    assert hand.stage.tool is hand.window.tools.draw_tool
    hand.window.contents.choose("hint:Lights")
    assert len(hand.session.project.lights) == 1 and rows_under(hand, "Lights") == ["Point light"]
    hand.session.select("part-1")
    told.linkActivated.emit("pose")
    assert hand.session.project.pose_tracks and not told.isVisible()


def test_contents_are_filtered_by_kind_and_by_finding(make_hand, passing):
    camera = Camera("camera-1", "Eye", PointAim((0, 0, 0)), position=(0.0, -900.0, 0.0))
    hand = make_hand(project_file.Opened(edits.add(passing.project, camera), passing.meshes))
    contents = hand.window.contents
    hand.checked()

    def shown():
        return [
            name
            for name in ("Product", "Paths", "Runs", "Cameras")
            if not contents.tree.isRowHidden(contents.heading(name).row(), QModelIndex())
        ]

    contents.kind_actions["Runs"].setChecked(True)
    contents.kind_actions["Cameras"].setChecked(True)
    assert shown() == ["Runs", "Cameras"] and contents.filter.text() == "Filter on"
    contents.show_everything()
    assert len(shown()) == 4 and contents.filter.text() == "Filter"
    whole = contents.model.rowCount(contents.heading("Product"))
    contents.found_action.setChecked(True)
    assert rows_under(hand, "Paths") == [] and 0 < contents.model.rowCount(contents.heading("Product")) < whole
    contents.show_everything()
    assert contents.model.rowCount(contents.heading("Product")) == whole


def test_lanes_are_ordered_sized_and_folded_and_stay_so(make_hand, passing):
    hand = make_hand(passing)
    timeline = hand.window.timeline
    layout = timeline.layout_
    timeline.show_lanes(["clearance", "speed", "height"])
    layout.move("height", 0)
    assert timeline.shown_lanes() == ["height", "clearance", "speed"]
    hand.qtbot.waitUntil(
        lambda: (
            timeline.every["height"].plot.sceneBoundingRect().top()
            < timeline.every["clearance"].plot.sceneBoundingRect().top()
        )
    )

    def name_of(lane):
        rect = timeline.every[lane].plot.sceneBoundingRect()
        return QPointF(30, rect.center().y()), QPointF(30, rect.bottom())

    # by the mouse on the names: dragged below the next, its edge pulled, pressed twice
    middle, _ = name_of("height")
    assert layout.press(middle) and layout.drag(name_of("clearance")[0] + QPointF(0, 6)) and layout.release()
    assert timeline.shown_lanes() == ["clearance", "height", "speed"]
    hand.qtbot.wait(50)
    _, edge = name_of("clearance")
    assert layout.on_edge(edge) and layout.press(edge) and layout.drag(edge + QPointF(0, 40)) and layout.release()
    hand.qtbot.waitUntil(
        lambda: timeline.every["clearance"].plot.sceneBoundingRect().height() == layout.height("clearance")
    )
    assert layout.double_click(name_of("speed")[0]) and layout.is_folded("speed")
    hand.qtbot.waitUntil(lambda: timeline.every["speed"].plot.sceneBoundingRect().height() < 25)
    hand.window.close()
    again = make_hand(passing).window.timeline
    assert again.layout_.is_folded("speed") and again.layout_.height("clearance") == layout.height("clearance")
    again.layout_.reset()
    assert not again.layout_.is_folded("speed")


def test_the_timeline_scrolls_when_its_lanes_need_more_than_there_is(hand):
    timeline = hand.window.timeline
    bar = timeline.area.verticalScrollBar()
    timeline.show_lanes(["clearance", "speed"])
    hand.qtbot.waitUntil(lambda: bar.maximum() == 0)
    timeline.show_lanes(list(timeline.every)[:12])
    hand.qtbot.waitUntil(lambda: bar.maximum() > 50)
    lowest = timeline.lanes[-1].plot.sceneBoundingRect()
    assert lowest.height() >= 25 and lowest.bottom() <= timeline.chart.height() + 1


def test_bars_lie_by_what_they_move(make_hand, demo):
    hand = make_hand(demo)
    timeline = hand.window.timeline
    plain = {bar.item_id: bar.row for bar in timeline.drawn_bars}
    timeline.transport.group_action.setChecked(True)
    grouped = {bar.item_id: bar.row for bar in timeline.drawn_bars}
    assert grouped != plain
    names = [name for _, name in sorted(timeline.group_names.items())]
    assert "Service trolley" in names and "Fan cassette" in names
    # no row holds bars of two movers
    first_rows = sorted(timeline.group_names)
    groups = {row: max(f for f in first_rows if f <= row) for row in grouped.values() if row < timeline._rows[0]}
    movers_of = {}
    for run in hand.session.project.runs:
        movers_of.setdefault(groups[grouped[run.id]], set()).add(run.rider)
    assert all(len(riders) == 1 for riders in movers_of.values())
    timeline.transport.group_action.setChecked(False)
    assert {bar.item_id: bar.row for bar in timeline.drawn_bars} == plain
