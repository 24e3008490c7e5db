"""The search box over actions, things and settings, by keys in the real window."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrav.app.cards.project import PROJECT_FIELDS
from kestrav.app.shell.finder import MOST, OTHER_WORDS, Entry, matching


def entry(text, where="View", words=""):
    return Entry(text, where, "", words, True, lambda: None)


def looked_for(hand, text):
    """What is found for a text that is typed after the shortcut."""
    QTest.keyClick(hand.window, Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    finder = hand.window.finder
    assert finder.hasFocus()
    finder.clear()
    QTest.keyClicks(finder, text)
    return [found.text for found in finder.shown_entries]


def test_what_begins_so_comes_first_and_things_after_actions():
    entries = [entry("Fit all"), entry("Export all"), entry("All time"), entry("All-round bracket", "Part")]
    assert [e.text for e in matching(entries, "all")] == ["All time", "Fit all", "Export all", "All-round bracket"]
    assert [e.text for e in matching(entries, "FIT a")] == ["Fit all"]
    assert matching(entries, " ") == [] and matching(entries, "nothing of the kind") == []
    many = [entry(f"Bolt {k}", "Part") for k in range(100)]
    assert len(matching(many, "bolt")) == MOST


def test_other_words_lead_to_what_is_meant(hand):
    for word, meant in (
        ("explode", "Exploded view …"),
        ("keyframe", "Add key pose"),
        ("disassemble", "Disassembly sequence …"),
    ):
        assert any(found.startswith(meant.rstrip(" …")) for found in looked_for(hand, word)), word
        QTest.keyClick(hand.window.finder, Qt.Key.Key_Escape)
    # no other word leads nowhere
    names = [e.text.casefold() for e in hand.window.look_up.entries()] + ["bolt"]
    lost = [w for w, meant in OTHER_WORDS.items() if not any(m in name for name in names for m in meant.split())]
    assert not lost


def test_an_action_is_found_and_done_by_keys_alone(hand):
    assert looked_for(hand, "measure")[0] == "Measure"
    QTest.keyClick(hand.window.finder, Qt.Key.Key_Return)
    assert hand.window.tools.buttons["measure"].isChecked()
    # the letters typed were no shortcuts of tools
    assert not hand.window.finder.list.isVisible() and hand.window.finder.text() == ""


def test_arrows_choose_and_escape_leaves(hand):
    found = looked_for(hand, "path")
    finder = hand.window.finder
    QTest.keyClick(finder, Qt.Key.Key_Down)
    assert finder.list.currentItem().text() == found[1]
    QTest.keyClick(finder, Qt.Key.Key_Up)
    QTest.keyClick(finder, Qt.Key.Key_Up)
    assert finder.list.currentItem().text() == found[-1]
    QTest.keyClick(finder, Qt.Key.Key_Escape)
    assert not finder.list.isVisible() and not finder.hasFocus()


def test_a_thing_is_found_and_selected(hand):
    part = hand.session.project.parts[1]
    assert part.name in looked_for(hand, part.name[:3])
    finder = hand.window.finder
    finder.list.setCurrentRow([e.text for e in finder.shown_entries].index(part.name))
    QTest.keyClick(finder, Qt.Key.Key_Return)
    assert hand.session.selection == part.id


@pytest.mark.parametrize("field", PROJECT_FIELDS)
def test_a_setting_of_the_project_is_found_and_takes_the_keys(hand, field):
    hand.session.select("part-1")
    looked_for(hand, field)
    finder = hand.window.finder
    finder.list.setCurrentRow([(e.text, e.where) for e in finder.shown_entries].index((field, "Project")))
    QTest.keyClick(finder, Qt.Key.Key_Return)
    assert hand.session.selection is None
    assert hand.window.focusWidget().objectName() == f"field-{field}"


def test_a_setting_of_what_is_selected_is_found(hand):
    hand.session.select("run-1")
    hand.window.card.rebuild()
    assert "Duration" in looked_for(hand, "durat")
