"""Requirements, the table of breaches, the faded rest, live clearance, reports and swept volumes in the window."""

import json

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QDialogButtonBox, QLabel
from shapes import box_mesh, make_project, straight

from kestrav.app.actions import clearance_actions
from kestrav.app.dialogs.requirement_dialog import RequirementDialog
from kestrav.core.clearance.live import LiveClearance
from kestrav.core.clearance.sweep import sweep
from kestrav.core.document import edits
from kestrav.core.document.requests import SweptRequest


@pytest.fixture
def hand(make_hand):
    """A cube that passes two posts, 3 and 4 mm beside its way; 5 mm are required."""
    made = make_project(
        {
            "Cube": (box_mesh(20, 20, 20), (0, 0, 0)),
            "Post": (box_mesh(10, 10, 60), (100, 18.0, 0)),
            "Pole": (box_mesh(10, 10, 60), (300, 19.0, 0)),
        },
        straight((0, 0, 0), (100, 0, 0), (200, 0, 0), (300, 0, 0), (400, 0, 0), kind="smooth"),
        duration=2.0,
    )
    found = make_hand(made)
    found.qtbot.waitUntil(
        lambda: found.window.checking.current and found.window.checking.result is not None, timeout=60_000
    )
    return found


def checked(hand):
    hand.qtbot.waitUntil(lambda: hand.window.checking.current, timeout=60_000)


def test_the_table_lists_breaches_sorts_them_and_goes_there(hand):
    hand.window.clearing.show_table()
    table = hand.window.clearing.table.table
    assert table.rowCount() == 2 and table.item(0, 0).text() == "Cube to Post"
    assert float(table.item(0, 3).text()) == pytest.approx(3.0, abs=0.01)
    table.horizontalHeader().sectionClicked.emit(1)
    table.sortItems(1, Qt.SortOrder.DescendingOrder)  # the latest first
    assert table.item(0, 0).text() == "Cube to Pole"
    QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=table.visualItemRect(table.item(0, 0)).center())
    session = hand.session
    # it is as near all the while that the cube is beside the pole
    assert session.time == pytest.approx(1.5, abs=0.08)
    # both parts as they are, all else faded in the stage
    assert session.pair == {"part-1", "part-3"}
    hand.stage.draw()
    faded = {m.part: batch.kind.faded for batch in hand.stage.scene.batches for m in batch.members}
    assert faded == {"part-1": False, "part-2": True, "part-3": False}
    session.select(None)
    assert session.pair is None
    hand.window.clearing.table.close()


def test_the_table_follows_the_next_check(hand):
    hand.window.clearing.show_table()
    hand.session.edit("Wider", lambda p: edits.settings(p, required_clearance=3.5))
    table = hand.window.clearing.table.table
    hand.qtbot.waitUntil(lambda: hand.window.checking.current and table.rowCount() == 1, timeout=60_000)
    hand.window.clearing.table.close()


def test_a_clearance_is_required_of_a_pair_and_edited_on_its_card(hand, monkeypatch):
    session, window = hand.session, hand.window

    def run(dialog):
        dialog.show()
        amount = dialog.form.field("Clearance")
        amount.selectAll()
        QTest.keyClicks(amount, "2")
        dialog.findChild(QDialogButtonBox).button(QDialogButtonBox.StandardButton.Ok).click()
        return dialog.result()

    monkeypatch.setattr(RequirementDialog, "exec", run)
    session.select_parts(["part-1", "part-2"])
    window.clearing.ask_requirement()
    (item,) = session.project.requirements
    assert (item.things, item.others, item.required) == (("part-1",), ("part-2",), 2.0)
    assert session.selection == item.id and window.card.title.text() == item.name
    checked(hand)
    assert {row.pair.other for row in window.checking.result.table} == {"part-3"}
    assert "sampled" in hand.said() or "certified" in hand.said()
    hand.choose("Required", "off")
    checked(hand)
    assert not session.project.requirements[0].checked and window.checking.result.clearance.unchecked == 1
    hand.choose("Required", "own")
    hand.type_in("Clearance", "3.5")
    assert session.project.requirements[0].required == 3.5
    hand.choose("Add", "part-3")
    session.undo.undo()
    assert session.project.requirements[0].others == ("part-2",)
    hand.press("Delete requirement")
    assert not session.project.requirements


def test_two_selected_parts_are_meant_to_touch(hand):
    hand.session.select("part-1")
    hand.window.clearing.intend()
    assert "meant to touch" in hand.window.card.fault.text()
    hand.session.select_parts(["part-1", "part-2"])
    hand.window.clearing.intend()
    checked(hand)
    assert {row.pair.other for row in hand.window.checking.result.table} == {"part-3"}


def test_while_a_point_is_dragged_the_clearance_follows_along_the_stretch(hand):
    window, session = hand.window, hand.session
    seen = []
    window.checking.checker.now.connect(seen.append)
    for step in range(4):
        session.edit(
            "Move point",
            lambda p, y=-float(step + 1): edits.set_point(p, "path-1", 1, position=(100.0, y, 0.0)),
            "drag",
        )
        hand.qtbot.waitUntil(lambda n=step: len(seen) > n, timeout=30_000)
    told = seen[-1]
    assert isinstance(told, LiveClearance) and told.stretch is not None
    # what it tells is so at the very times that it was looked at, however many these were
    assert told.distance == pytest.approx(sweep(session.project, session.meshes, told.times).distance, abs=1e-6)
    assert window.timeline.live is told or window.checking.current
    checked(hand)
    assert window.timeline.live is None
    assert float(window.checking.result.clearance.distance.min()) == pytest.approx(4.0, abs=0.3)


def test_reports_are_written_as_page_tables_text_and_json(hand, tmp_path, monkeypatch):
    window = hand.window
    for name in ("a.txt", "a.json"):
        window.clearing.write_report(tmp_path / name)
    assert json.loads((tmp_path / "a.json").read_text())["table"][0]["pair"] == ["Cube", "Post"]
    assert "Cube to Post" in (tmp_path / "a.txt").read_text()
    for name in ("a.html", "a.csv"):
        monkeypatch.setattr(
            clearance_actions.QFileDialog, "getSaveFileName", lambda *_, n=name: (str(tmp_path / n), "")
        )
        window.clearing.ask_report()
        hand.qtbot.waitUntil(lambda: window.job is None, timeout=60_000)
    page = (tmp_path / "a.html").read_text()
    assert "data:image/png;base64" in page and "Cube to Post" in page
    assert (tmp_path / "a.csv").exists() and (tmp_path / "a-frames.csv").exists()


def test_a_swept_space_becomes_a_part_and_is_worked_out_again(hand, monkeypatch, tmp_path):
    window, session = hand.window, hand.session
    session.select("part-2")
    monkeypatch.setattr(clearance_actions, "ask_request", lambda *_, **__: SweptRequest(2.0, 0.0, 4.0))
    session.select("part-1")
    window.clearing.ask_swept()
    hand.qtbot.waitUntil(lambda: len(session.project.parts) == 4, timeout=60_000)
    part = session.project.parts[-1]
    assert session.selection == part.id and part.swept.thing == "part-1"
    assert "swept by Cube" in hand.said()
    monkeypatch.setattr(clearance_actions.QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "s.stl"), ""))
    window.clearing.ask_write_part()
    assert (tmp_path / "s.stl").stat().st_size > 1000
    session.edit("Longer", lambda p: edits.set_point(p, "path-1", 4, position=(450.0, 0.0, 0.0)))
    hand.press("Recompute")
    hand.qtbot.waitUntil(lambda: session.project.parts[-1].geometry != part.geometry, timeout=60_000)
    assert len(session.project.parts) == 4
    session.undo.undo()
    session.undo.undo()
    session.undo.undo()
    assert len(session.project.parts) == 3 and not session.project.requirements


def test_the_check_tells_how_far_it_is_and_can_be_stopped(hand):
    window = hand.window
    hand.session.edit("Wider", lambda p: edits.settings(p, required_clearance=3.5))
    assert not window.checking.current and window.findings.stop.isVisible()
    window.checking.checker.progress.emit(0.4)
    assert "40%" in window.findings.count.text()
    window.findings.stop.click()
    assert "stopped" in window.findings.count.text() and not window.findings.stop.isVisible()
    hand.session.edit("Narrower", lambda p: edits.settings(p, required_clearance=3.4))
    checked(hand)
    assert not window.findings.stop.isVisible()


def test_what_was_checked_before_is_known_at_once_when_one_comes_back_to_it(hand):
    window = hand.window
    known = lambda: window.checking.current and window.checking.result.certificate is not None  # noqa: E731
    hand.qtbot.waitUntil(known, timeout=60_000)
    before = window.checking.result
    hand.session.edit("Wider", lambda p: edits.settings(p, required_clearance=30.0))
    hand.session.undo.undo()
    assert window.checking.current and window.checking.result is before
    assert not window.findings.stop.isVisible()
    # and what is new is checked as ever
    hand.session.undo.redo()
    hand.qtbot.waitUntil(known, timeout=60_000)
    assert window.checking.result is not before and window.checking.result.has_breach


def test_contacts_at_rest_are_listed_filtered_accepted_in_one_step_and_exported(make_hand, monkeypatch, tmp_path):
    made = make_project(
        {
            "Table": (box_mesh(400, 400, 10), (0, 0, -5)),
            "Foot 1": (box_mesh(10, 10, 10), (0, 0, 4.8)),
            "Foot 2": (box_mesh(10, 10, 10), (50, 0, 4.8)),
            "Lamp": (box_mesh(20, 10, 10), (-50, 0, 5)),
        }
    )
    hand = make_hand(made)
    clearing_ = hand.window.clearing
    clearing_.ask_fits()
    hand.qtbot.waitUntil(lambda: clearing_.fits is not None and clearing_.fits.isVisible(), timeout=60_000)
    dialog = clearing_.fits
    table = dialog.table
    assert "3 pairs in contact at rest, 2 of them interfere" in dialog.summary.text()
    assert table.item(0, 1).text() == "interferes" and table.item(0, 2).text() == "0.200"  # the deepest first
    dialog.kind.setCurrentIndex(dialog.kind.findData("touches"))
    shown = [line for line in range(table.rowCount()) if not table.isRowHidden(line)]
    assert [table.item(line, 0).text() for line in shown] == ["Table and Lamp"]
    dialog.kind.setCurrentIndex(0)
    QTest.keyClicks(dialog.name, "foot")
    assert sum(not table.isRowHidden(line) for line in range(table.rowCount())) == 2
    table.selectRow(0)
    dialog.accept_alike.click()
    assert len(hand.session.project.contacts) == 2
    assert sum(table.item(line, 6).text() == "yes" for line in range(table.rowCount())) == 2
    hand.session.undo.undo()
    assert not hand.session.project.contacts
    target = tmp_path / "contacts.csv"
    monkeypatch.setattr(clearance_actions.QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    clearing_._export_fits()
    assert len(target.read_text().splitlines()) == 4
    dialog.close()


def test_the_card_says_how_long_pairs_are_in_contact_and_how_deep_they_may_be(make_hand):
    made = make_project(
        {"Block": (box_mesh(20, 20, 20), (0, 0, 10)), "Table": (box_mesh(400, 400, 10), (0, 0, -5))},
        straight((0, 0, 10), (0, 0, 60)),
        duration=1.0,
    )
    hand = make_hand(made)
    hand.qtbot.waitUntil(
        lambda: hand.window.checking.result is not None and hand.window.checking.result.certificate is not None,
        timeout=60_000,
    )
    hand.window.contents.choose("Checks")
    told = " ".join(label.text() for label in hand.window.card.findChildren(QLabel))
    assert "Block on Table: in contact until 0.1" in told and "0.00\u2009mm deep, 0.05\u2009mm allowed" in told


def test_with_another_project_nothing_of_the_one_before_is_held_or_told(hand):
    hand.checked()
    checker, result = hand.window.checking.checker, hand.window.checking.result
    process = checker._process
    assert process is not None and result is not None
    other = make_project({"Plate": (box_mesh(70, 70, 5), (0, 0, 0))})
    hand.session.open(other.project, other.meshes, None)
    assert not process.process.is_alive() and checker._process is not process
    hand.checked()
    assert hand.window.checking.result is not result
