"""Commands: shortcuts that can be changed, the menu of the selection, the list of edits."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QContextMenuEvent, QKeySequence
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton

from kestrav.app.shell.commands import ShortcutsDialog
from kestrav.app.shell.edit_list import EditListDialog
from kestrav.core.document.lookup import get


def texts_of(menu):
    """What stands in a menu, with the menus in it."""
    found = []
    for action in menu.actions():
        found.append(action.text())
        if action.menu() is not None:
            found += [f"{action.text()} > {inner.text()}" for inner in action.menu().actions()]
    return [text for text in found if text]


def command(hand, name):
    return next(c for c in hand.window.commands.all if c.name == name)


def test_a_shortcut_is_changed_and_kept(make_hand, passing):
    hand = make_hand(passing)
    dialog = ShortcutsDialog(hand.window, hand.window.commands)
    names = [dialog.table.item(row, 0).text() for row in range(dialog.table.rowCount())]
    dialog.table.selectRow(names.index("Measure"))
    dialog.edit.setKeySequence(QKeySequence("M"))
    assert "taken from “Move”" in dialog.note.text()
    dialog.give.click()
    assert command(hand, "Measure").keys == ("M",) and command(hand, "Move").keys == ()
    hand.key(Qt.Key.Key_M)
    assert hand.stage.tool is hand.window.preparing.measure_tool
    assert "(M)" in command(hand, "Measure").action.toolTip()
    dialog.close()
    hand.window.close()
    again = make_hand(passing)
    again.key(Qt.Key.Key_M)
    assert again.stage.tool is again.window.preparing.measure_tool
    dialog = ShortcutsDialog(again.window, again.window.commands)
    dialog._reset()
    assert command(again, "Move").keys == ("M",) and command(again, "Measure").keys == ("E",)


def test_tooltips_tell_a_changed_key_wherever_they_are(hand):
    button = hand.window.tools.buttons["draw"]
    usual = button.toolTip()
    assert usual.endswith("(D)")
    hand.window.commands.give(command(hand, "Draw path"), ("Ctrl+Shift+D",))
    assert button.toolTip().endswith("(Ctrl+Shift+D)")
    hand.session.select("part-1")
    drawn = next(b for b in hand.window.card.findChildren(QPushButton) if b.text() == "Draw path")
    assert drawn.toolTip().endswith("(Ctrl+Shift+D)")
    hand.window.commands.give(command(hand, "Draw path"), ())
    assert "(" not in button.toolTip()
    hand.window.commands.reset()
    assert button.toolTip() == usual


def test_commands_are_found_in_the_list(hand):
    dialog = ShortcutsDialog(hand.window, hand.window.commands)
    dialog.search.setText("findings")
    shown = [
        dialog.table.item(row, 0).text() for row in range(dialog.table.rowCount()) if not dialog.table.isRowHidden(row)
    ]
    assert "Collapse findings" in shown and "Measure" not in shown


def test_no_two_commands_have_one_key(hand):
    # a key for one widget may mean something else in another
    everywhere = [key for c in hand.window.commands.all if not c.where for key in c.keys]
    assert len(everywhere) == len(set(everywhere))


@pytest.mark.parametrize(
    ("kind", "wanted"), [("run", "Pick point …"), ("path", "Extend from end"), ("camera", "Fit by distance")]
)
def test_the_menu_of_a_selection_has_what_its_card_has(hand, kind, wanted):
    item = {"run": "run-1", "path": hand.session.project.paths[0].id, "camera": hand.session.project.cameras[0].id}[
        kind
    ]
    hand.session.select(item)
    menu = hand.window.selection_menu
    menu.pop_up()
    texts = texts_of(menu.menu)
    assert {"Rename", "Copy settings", "Paste settings", "Delete"} <= set(texts)
    assert any(text.endswith(wanted) for text in texts), texts
    menu.menu.close()


def test_an_action_of_the_menu_acts_on_the_selection(hand):
    hand.session.select("run-1")
    menu = hand.window.selection_menu
    menu.pop_up()
    every = [inner for a in menu.menu.actions() for inner in (a.menu().actions() if a.menu() else [a])]
    next(a for a in every if a.text() == "Convert to pose track").trigger()
    assert hand.session.project.pose_tracks and all(run.id != "run-1" for run in hand.session.project.runs)
    menu.menu.close()


def test_a_right_click_in_the_stage_selects_what_is_there(hand):
    middle = hand.at(*get(hand.session.project, "part-2").placement.position)
    for _ in range(2):
        hand.stage.menu_asked.emit(middle)
        menu = hand.window.selection_menu.menu
        assert "Rename" in texts_of(menu) and hand.session.selection is not None
        menu.close()
    hand.stage.menu_asked.emit(hand.stage.rect().topRight() + type(middle)(-30, 120))
    assert hand.session.selection is None and "Rename" not in texts_of(hand.window.selection_menu.menu)
    hand.window.selection_menu.menu.close()


def test_what_lasts_has_its_times_in_the_menu_and_a_bar_has_that_menu(hand):
    timeline, menu = hand.window.timeline, hand.window.selection_menu
    bar = next(bar for bar in timeline.drawn_bars if bar.item_id == "run-1")
    place = timeline.chart.mapFromScene(bar.on_screen().center())
    QTest.mouseClick(timeline.chart.viewport(), Qt.MouseButton.RightButton, Qt.KeyboardModifier.NoModifier, place)
    assert hand.session.selection == "run-1"
    assert any(text.startswith("Time > Stretch") for text in texts_of(menu.menu))
    menu.menu.close()


def test_the_view_is_cut_open_through_what_is_selected(hand):
    hand.session.select("part-2")
    menu = hand.window.selection_menu
    menu.pop_up()
    assert {"Section", "Measure", "See through or solid"} <= set(texts_of(menu.menu))
    next(a for a in menu.menu.actions() if a.text() == "Section").trigger()
    menu.menu.close()
    axis, at, _ = hand.window.preparing.section
    assert at == pytest.approx(get(hand.session.project, "part-2").placement.position["xyz".index(axis)], abs=1)
    assert hand.stage.cut is not None


def test_rows_of_all_kinds_have_a_menu(hand):
    tree = hand.window.contents.tree
    hand.window.contents.choose("run-1")
    place = tree.visualRect(tree.currentIndex()).center()
    event = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, place, tree.viewport().mapToGlobal(place))
    QApplication.sendEvent(tree.viewport(), event)
    assert "Rename" in texts_of(hand.window.selection_menu.menu)
    hand.window.selection_menu.menu.close()


def test_edits_are_listed_and_gone_back_to(hand):
    hand.session.select("run-1")
    for value in ("1", "2", "3"):
        hand.type_in("Start", value)
    dialog = EditListDialog(hand.window, hand.session)
    assert dialog.list.count() == 4 and "saved" in dialog.list.item(0).text()
    assert dialog.list.currentRow() == 3 and "Start" in dialog.list.item(2).text()
    dialog.list.setCurrentRow(1)
    dialog._go()
    assert get(hand.session.project, "run-1").start == 1.0
    # what was undone is still there to be redone
    dialog = EditListDialog(hand.window, hand.session)
    dialog.list.setCurrentRow(3)
    dialog._go()
    assert get(hand.session.project, "run-1").start == 3.0
