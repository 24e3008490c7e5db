"""Drives, rods, balls, contacts, putting down and knocking over in the window."""

import numpy as np
import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDialogButtonBox, QListWidget
from shapes import box_mesh, gear_mesh, straight, tyre

from kestrav.app.actions import contact_actions, extraction_actions, motion_actions
from kestrav.app.dialogs.asking import ask_request
from kestrav.app.dialogs.extraction_dialog import ExtractionDialog
from kestrav.app.dialogs.questions import ask_remedy
from kestrav.app.dialogs.sequence_dialog import SequenceDialog
from kestrav.app.widgets.quantity_edit import QuantityEdit
from kestrav.core.document import edits
from kestrav.core.document.records import (
    Attachment,
    Axle,
    ContactTrigger,
    KeyPose,
    Part,
    Path,
    Placement,
    PoseTrack,
    Project,
    Run,
    TimedRotation,
)
from kestrav.core.document.requests import ExplodedRequest, KnockRequest
from kestrav.core.files import project_file
from kestrav.core.kinematics.motion import Motion
from kestrav.core.parts.solids import geometry_record

UP = Axle((0, 0, 0), (0, 0, 1))


def opened(*records, **shapes):
    """Solids at places by name (their ids too), and what moves them."""
    parts = tuple(Part(name, name, placement=Placement(at), geometry=m.hash) for name, (m, at) in shapes.items())
    meshes = {m.hash: m for m, _ in shapes.values()}
    made = Project(parts=parts, geometry=tuple(geometry_record(m) for m in meshes.values()))
    return project_file.Opened(edits.add(made, *records), meshes)


def back_to(hand, project):
    while hand.session.undo.canUndo():
        hand.session.undo.undo()
    assert hand.session.project == project


def test_gears_are_made_from_two_parts_and_edited(make_hand):
    gears = {"one": (gear_mesh(17, 2.0, 0.1), (0, 0, 0)), "two": (gear_mesh(40, 2.0, 0.33), (57, 0, 0))}
    start = opened(TimedRotation("rotation-1", "One spins", "one", UP, end=4.0, turns=2.0, rpm=None), **gears)
    hand = make_hand(start)
    session, motion = hand.session, hand.window.motion
    session.select("one")
    motion.add_gear("external")
    assert "two parts" in hand.window.card.fault.text()
    session.select_parts(["one", "two"])
    motion.add_gear("external")
    assert session.item.a.teeth == 17 and session.item.b.teeth == 40
    assert "2 × 17 = 34.000 mm pitch diameter" in hand.said() and "one turns two" in hand.said()
    assert hand.window.contents.number("gear-1") == "2.353 to 1"
    hand.window.timeline.show_lanes(["wheel", "rolled", "rate", "mesh"])
    timeline = hand.window.timeline
    assert np.ptp(timeline.wheel.y) == pytest.approx(2 * 17 / 40, abs=1e-3)
    assert timeline.rolled.y.max() == pytest.approx(2 * np.pi * 34, rel=1e-3)
    assert timeline.rate.y.min() == pytest.approx(-30 * 17 / 40, rel=1e-3) and timeline.mesh.y.max() < 0.01
    hand.stage.draw()  # with the arrows of sense
    assert hand.stage.marks.turns.arcs.GetVisibility()
    hand.type_in("Phase angle", "3")
    hand.window.timeline.refresh()
    assert timeline.mesh.y.max() > 0.05
    hand.press("Mesh gears")
    hand.window.timeline.refresh()
    assert timeline.mesh.y.max() < 0.01
    hand.type_in("Teeth two", "80")
    hand.choose("Standard", "1")
    assert session.item.b.teeth == 80 and session.item.pitch == 1.0
    hand.choose("Kind", "belt")
    hand.type_in("Teeth one", "0")
    hand.type_in("Teeth two", "0")
    hand.type_in("Radius one", "10")
    hand.type_in("Radius two", "30")
    assert "30 ÷ 10 = <b>3.0000 to 1</b>" in hand.said()
    hand.press("Delete gear")
    assert not session.project.gears
    back_to(hand, start.project)


def test_a_slider_crank_is_made_from_three_parts_and_copied(make_hand):
    start = opened(
        TimedRotation("rotation-1", "Crank spins", "crank", UP, end=4.0, turns=2.0, rpm=None),
        crank=(box_mesh(80, 10, 10), (0, 0, 0)),
        rod=(box_mesh(130, 8, 8), (105, 0, 20)),
        slider=(box_mesh(30, 30, 30), (170, 0, 20)),
        wheel=(tyre(), (0, 300, 0)),
    )
    hand = make_hand(start)
    session, motion = hand.session, hand.window.motion
    session.select_parts(["rod", "crank"])
    motion.add_rod("slider")
    assert "other end" in hand.window.card.fault.text()
    session.select_parts(["rod", "crank", "slider"])
    motion.add_rod("slider")
    assert "stroke <b>80.000 mm</b>" in hand.said() and "the rod reaches at all times" in hand.said()
    hand.window.timeline.show_lanes(["wheel", "rate"])
    assert hand.window.timeline.wheel.title == "Slider" and np.ptp(hand.window.timeline.wheel.y) == pytest.approx(
        80, abs=0.1
    )
    hand.type_in("Length", "30")
    assert "short" in hand.said()
    session.undo.undo()
    hand.type_in("Count", "3")
    hand.type_in("Phase", "120")
    hand.press("Make copies")
    assert len(session.project.rods) == 3 and len(session.project.parts) == 8
    session.select("rod-1")
    hand.press("Unlink")
    hand.choose("Motion", "level")
    hand.choose("Couple part", "wheel")
    assert session.project.rods[0].coupled[0].part == "wheel"
    hand.press("Without wheel")
    hand.press("Delete rod")
    back_to(hand, start.project)


def test_a_ball_rolls_and_tells_its_sum(make_hand):
    start = opened(
        Path("path-1", "P", straight((0, 0, 25), (400, 0, 25))),
        Run("run-1", "R", "ball", "path-1", duration=2.0),
        ball=(box_mesh(50, 50, 50), (0, 0, 25)),
        table=(box_mesh(900, 900, 20), (200, 0, -10)),
    )
    hand = make_hand(start)
    hand.session.select("ball")
    hand.window.motion.add_ball()
    assert "400.0 ÷ 157.080 = <b>2.5465 turns</b>" in hand.said()
    assert hand.window.contents.number("ball-1") == "2.55 turns"
    hand.choose("Rolls on", "table")
    assert hand.session.item.normals[0] == pytest.approx((0, 0, 1))
    hand.type_in("Radius", "20")
    assert hand.session.item.radius == 20
    hand.press("Delete ball")
    back_to(hand, start.project)


def ramming(*records):
    return opened(
        Path("path-1", "P", straight((0, 0, 120), (290, 0, 120))),
        Run("run-1", "Rams", "ram", "path-1", duration=1.0),
        *records,
        ram=(box_mesh(40, 200, 20), (0, 0, 120)),
        box=(box_mesh(60, 60, 200), (300, 0, 100)),
    )


def test_contacts_are_listed_gone_to_and_start_things(make_hand, monkeypatch):
    keys = (KeyPose(0.0, Placement((300, 0, 100))), KeyPose(0.5, Placement((600, 0, 100))))
    start = ramming(PoseTrack("pose-track-1", "Box is pushed", "box", keys, start=0.95))
    hand = make_hand(start)
    session, window = hand.session, hand.window
    window.card.show_checks()
    window.checking.checker.check(session.project, session.meshes, 0.0)
    hand.checked()
    hand.press("List contacts")
    hand.qtbot.waitUntil(lambda: window.contacts.of is session.project, timeout=60_000)
    told = 250 / 290
    assert f"ram touches box: {told:.4f} s, 290 mm/s" in hand.said()
    hand.press("Go there")
    assert session.time == pytest.approx(told, abs=1e-4)
    window.card.show_checks()
    monkeypatch.setattr(contact_actions, "ask_choice", lambda *_: "pose-track-1")
    hand.press("Use as trigger …")
    trigger = session.project.pose_tracks[0].trigger
    assert isinstance(trigger, ContactTrigger) and trigger.time == pytest.approx(told, abs=1e-4)
    assert f"starts at {told:.4f} s" in hand.said()
    hand.type_in("Delay", "0.1")
    assert session.project.pose_tracks[0].trigger.delay == pytest.approx(0.1)
    # live: where the ram is slower the touch is later
    session.edit("Slower", lambda p: edits.update(p, "run-1", duration=2.0))
    assert session.project.pose_tracks[0].trigger.time == pytest.approx(2 * told, abs=1e-4)
    hand.choose("Trigger", "")
    assert session.project.pose_tracks[0].trigger is None
    hand.choose("Trigger", "contact")
    assert session.project.pose_tracks[0].trigger.time == pytest.approx(2 * told, abs=1e-4)
    window.card.show_checks()
    assert "has changed" in hand.said()
    back_to(hand, start.project)


def test_a_box_is_knocked_over(make_hand, monkeypatch):
    start = ramming()
    hand = make_hand(start)
    hand.session.select_parts(["ram"])
    hand.window.motion.knock()
    assert "striking part" in hand.window.card.fault.text()
    monkeypatch.setattr(motion_actions, "ask_request", lambda *_, **__: KnockRequest(15, 60.0, 90.0))
    hand.session.select_parts(["ram", "box"])
    hand.window.motion.knock()
    poses = hand.session.project.pose_tracks[0]
    assert hand.session.selection == poses.id and poses.trigger.time == pytest.approx(250 / 290, abs=1e-4)
    assert Motion(hand.session.project).poses("box", [5.0])[0, 2, 3] == pytest.approx(30, abs=0.2)
    back_to(hand, start.project)


def test_several_quantities_are_asked_together(dressed):
    def answer():
        dialog = dressed.activeModalWidget()
        field = dialog.findChildren(QuantityEdit)[1]
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, "12 cm")
        QTest.keyClick(field, Qt.Key.Key_Return)
        if dialog.isVisible():
            dialog.accept()

    QTimer.singleShot(50, answer)
    assert ask_request(None, "Ask", KnockRequest(10, 50.0)) == KnockRequest(10, 120.0)


def test_what_rides_is_put_down_at_the_playhead(make_hand):
    start = opened(
        Path("path-1", "P", straight((0, 0, 500), (800, 0, 500))),
        Run("run-1", "Swings", "hook", "path-1", duration=2.0),
        Attachment("attachment-1", "Hangs", "crate", "hook"),
        hook=(box_mesh(20, 20, 20), (0, 0, 500)),
        crate=(box_mesh(100, 80, 60), (0, 0, 430)),
        cart=(box_mesh(300, 200, 100), (800, 0, 50)),
    )
    hand = make_hand(start)
    session = hand.session
    session.select("hook")
    hand.window.motion.put_down()
    assert "an attachment" in hand.window.card.fault.text()
    session.select("attachment-1")
    session.set_time(2.0)
    hand.press("Set down at playhead")
    assert session.project.attachments[0].end == pytest.approx(2.0)
    assert Motion(session.project).poses("crate", [2.0])[0, :3, 3] == pytest.approx((800, 0, 130), abs=0.01)
    hand.type_in("Lowering", "0.5")
    hand.press("Do not set down")
    assert session.project.attachments[0].put is None
    hand.press("Set down at position")
    assert session.project.attachments[0].put.position == pytest.approx((800, 0, 430), abs=0.01)
    back_to(hand, start.project)


def test_several_spin_alike_mirrored_or_the_other_way_and_have_bars(make_hand):
    start = opened(left=(tyre(), (0, 0, 50)), right=(tyre(), (0, 300, 50)))
    hand = make_hand(start)
    session = hand.session
    session.select_parts(["left", "right"])
    hand.window.motion.add_rotation()
    assert len(session.project.rotations) == 2
    hand.choose("Set by", "turns")
    hand.type_in("Angle", "180")
    assert [s.turns for s in session.project.rotations] == [0.5, 0.5]
    hand.field("").click()
    assert session.project.rotations[1].mirrored
    hand.choose("Direction", "cw")
    assert [s.turns for s in session.project.rotations] == [-0.5, -0.5]
    bars = {bar.item_id for bar in hand.window.timeline.drawn_bars}
    assert {"rotation-1", "rotation-2"} <= bars
    hand.window.timeline.move_bar("rotation-1", 1.0, free=True)
    assert session.project.rotations[0].start == pytest.approx(1.0)
    back_to(hand, start.project)


def test_an_axle_is_picked_in_the_stage(make_hand):
    start = opened(TimedRotation("rotation-1", "Spins", "drum", Axle((0, 0, 9), (0, 1, 0))), drum=(tyre(), (0, 0, 50)))
    hand = make_hand(start)
    session = hand.session
    session.select("rotation-1")
    hand.stage.viewpoint.look_from((0.3, -0.9, 0.2))
    hand.stage.views.look_at(np.array([[-60.0, -60, -10], [70, 60, 110]]))
    hand.press("Pick axis")
    assert hand.stage.tool is hand.window.preparing.pick_tool
    place = hand.at(5.0, -10.0, 99.0)
    hand.stage.tool.hover(place, Qt.KeyboardModifier.NoModifier)
    hand.click(place)
    axle = session.project.rotations[0].axle
    assert axle.origin[0] == pytest.approx(5.0, abs=0.05) and axle.origin[2] == pytest.approx(0.0, abs=0.05)
    assert axle.direction == pytest.approx((0, 1, 0), abs=1e-3)


def answered(monkeypatch, fill):
    """The dialog of ways out filled in by typing and choosing, and agreed to."""

    def run(dialog):
        dialog.show()
        fill(dialog)
        dialog.findChild(QDialogButtonBox).button(QDialogButtonBox.StandardButton.Ok).click()
        return dialog.result()

    monkeypatch.setattr(ExtractionDialog, "exec", run)


def typed(field, text):
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)


def test_a_way_out_is_found_as_a_job_and_becomes_a_run(make_hand, monkeypatch):
    start = opened(
        block=(box_mesh(60, 40, 40), (0, 0, 0)),
        floor=(box_mesh(60, 100, 10), (0, 0, -35)),
        left=(box_mesh(60, 10, 80), (0, 35, 0)),
        right=(box_mesh(60, 10, 80), (0, -35, 0)),
    )
    hand = make_hand(start)
    window, session = hand.window, hand.session
    session.select(None)
    window.extracting.ask()
    assert "to extract" in window.card.fault.text()

    def fill(dialog):
        typed(dialog.form.field("Required clearance"), "2")
        typed(dialog.form.field("Effort"), "20")
        typed(dialog.form.field("Seed"), "7")
        for name in ("+x", "-x"):
            dialog.directions[name].click()  # not along x
        assert not {"Onto", "Position x"} & set(dialog.form.labels())

    answered(monkeypatch, fill)
    session.select("block")
    window.extracting.ask()
    hand.qtbot.waitUntil(lambda: window.extracting.outcome is not None, timeout=60_000)
    found = window.extracting.outcome
    assert found.stage == "straight pull" and found.seed == 7 and found.poses[-1].translation[2] > 0
    assert found.certificate.status == "certified"
    assert session.item.rider == "block" and len(session.project.paths) == 1
    back_to(hand, start.project)


def test_a_thing_is_taken_to_a_typed_place_with_what_blocks_taken_away(make_hand, monkeypatch):
    start = opened(
        block=(box_mesh(40, 40, 40), (0, 0, 0)),
        lid=(box_mesh(60, 60, 10), (0, 0, 40)),
        table=(box_mesh(200, 200, 20), (0, 0, -60)),
    )
    hand = make_hand(start)
    window, session = hand.window, hand.session

    def fill(dialog):
        where = dialog.form.field("Destination")
        where.setCurrentIndex(where.findData("place"))
        where.activated.emit(where.currentIndex())
        hand.qtbot.waitUntil(lambda: "Position x" in dialog.form.labels())
        for axis, text in zip("xyz", ("0", "0", "200"), strict=True):
            typed(dialog.findChild(QuantityEdit, f"field-Position {axis}"), text)
        removable = dialog.findChild(QListWidget)
        (lid,) = removable.findItems("lid", Qt.MatchFlag.MatchExactly)
        lid.setCheckState(Qt.CheckState.Checked)
        for name in ("+x", "-x", "+y", "-y"):
            dialog.directions[name].click()

    answered(monkeypatch, fill)
    session.select("block")
    window.extracting.ask()
    hand.qtbot.waitUntil(lambda: window.extracting.outcome is not None, timeout=60_000)
    found = window.extracting.outcome
    assert found.aside == ("lid",) and found.poses[-1].translation == pytest.approx((0, 0, 200))
    # what was asked for is there the next time
    assert window.extracting.request.target.position == (0.0, 0.0, 200.0)


def test_what_blocks_a_way_out_is_said(make_hand, monkeypatch):
    walls = {"left": ((10, 120, 120), (-55, 0, 0)), "right": ((10, 120, 120), (55, 0, 0))}
    walls |= {"back": ((100, 10, 120), (0, 55, 0)), "front": ((100, 10, 120), (0, -55, 0))}
    walls |= {"floor": ((100, 100, 10), (0, 0, -55)), "lid": ((100, 100, 10), (0, 0, 55))}
    start = opened(block=(box_mesh(84, 84, 84), (0, 0, 0)), **{n: (box_mesh(*s), at) for n, (s, at) in walls.items()})
    hand = make_hand(start)
    said = []

    def fill(dialog):
        typed(dialog.form.field("Required clearance"), "1")
        typed(dialog.form.field("Maximum tilt"), "0")
        typed(dialog.form.field("Effort"), "4")

    answered(monkeypatch, fill)
    offered, answers = [], ["Remove blocking parts first", None]

    def remedy(_, title, text, remedies):
        said.append(f"{title}: {text}")
        offered.append([label for label, _ in remedies])
        answer = answers.pop(0)
        return None if answer is None else offered[-1].index(answer)

    monkeypatch.setattr(extraction_actions, "ask_remedy", remedy)
    hand.session.select("block")
    hand.window.extracting.ask()
    hand.qtbot.waitUntil(lambda: hand.window.extracting.outcome is not None and hand.window.job is None, timeout=60_000)
    assert "No extraction path" in said[0] and "it could be pulled out along" in said[0]
    assert offered[0] == [
        "Remove blocking parts first",
        "Disassembly sequence",
        "Search without limits",
        "Search longer",
    ]
    # the first of them was taken: what blocks goes first, and then there is a path
    hand.qtbot.waitUntil(lambda: bool(hand.session.project.paths) or len(said) > 1, timeout=120_000)
    assert hand.session.project.paths and hand.window.extracting.request.aside


def test_what_would_help_is_offered_as_buttons(hand):
    taken = []

    def press():
        box = QApplication.activeModalWidget()
        button = next(b for b in box.buttons() if b.text() == "Search longer")
        taken.append(button.toolTip())
        button.click()

    QTimer.singleShot(200, press)
    remedies = [("Search without limits", "in any direction"), ("Search longer", "four times as long")]
    assert ask_remedy(hand.window, "No extraction path", "it is stuck", remedies) == 1
    assert taken == ["four times as long"]
    QTimer.singleShot(200, lambda: QApplication.activeModalWidget().reject())
    assert ask_remedy(hand.window, "No extraction path", "it is stuck", remedies) is None


def test_what_was_typed_the_last_time_is_there_again(hand):
    def accept(text):
        def act():
            dialog = QApplication.activeModalWidget()
            field = dialog.findChildren(QuantityEdit)[0]
            seen.append(field.value)
            field.setText(text)
            dialog.findChild(QDialogButtonBox).button(QDialogButtonBox.StandardButton.Ok).click()

        QTimer.singleShot(200, act)

    seen = []
    for text in ("150 %", "80 %"):
        accept(text)
        asked = ask_request(hand.window, "Exploded view", ExplodedRequest(), remember="spread")
    assert seen == [100.0, 150.0] and asked == ExplodedRequest(0.8)


def test_several_are_taken_apart_in_order_and_moved_apart(make_hand, monkeypatch):
    start = opened(
        tray=(box_mesh(100, 100, 10), (0, 0, -30)),
        lower=(box_mesh(60, 60, 20), (0, 0, 0)),
        upper=(box_mesh(60, 60, 20), (0, 0, 25)),
        left=(box_mesh(10, 100, 100), (45, 0, 20)),
        right=(box_mesh(10, 100, 100), (-45, 0, 20)),
        back=(box_mesh(80, 10, 100), (0, 45, 20)),
        front=(box_mesh(80, 10, 100), (0, -45, 20)),
    )
    hand = make_hand(start)
    window, session = hand.window, hand.session
    session.select("lower")
    window.extracting.disassemble()
    assert "several parts" in window.card.fault.text()
    steps = []

    def answered(dialog):
        """What somebody does who makes one step of both, undoes that, and wants it put together at 250 mm/s."""
        dialog.table.selectAll()
        dialog.join.click()
        steps.append([dialog.table.item(row, 0).text() for row in range(2)])
        dialog.part.click()
        steps.append([dialog.table.item(row, 0).text() for row in range(2)])
        dialog.set(speed=250.0, motion="together")
        return True

    monkeypatch.setattr(SequenceDialog, "exec", answered)
    session.select_parts(["lower", "upper"])
    window.extracting.disassemble()
    hand.qtbot.waitUntil(lambda: window.extracting.order is not None, timeout=60_000)
    assert steps == [["1", "1"], ["1", "2"]]
    assert [r.rider for r in session.project.runs] == ["upper", "lower"]
    upper, lower = session.project.runs
    assert upper.speed == lower.speed == 250.0 and upper.backwards and lower.start < upper.start
    session.undo.undo()
    # nothing is made where the dialog is given up
    window.extracting.order = None
    monkeypatch.setattr(SequenceDialog, "exec", lambda dialog: False)
    window.extracting.disassemble()
    hand.qtbot.waitUntil(lambda: window.extracting.order is not None, timeout=60_000)
    assert not session.project.runs
    window.extracting.order = None
    monkeypatch.setattr(extraction_actions, "ask_request", lambda *_, **__: ExplodedRequest(0.5))
    session.select_parts(["lower", "upper"])
    window.extracting.explode()
    hand.qtbot.waitUntil(lambda: window.extracting.order is not None, timeout=60_000)
    heights = {p.id: p.placement.position[2] for p in session.project.parts}
    assert heights["upper"] > 40 and heights["lower"] > 10
    back_to(hand, start.project)
