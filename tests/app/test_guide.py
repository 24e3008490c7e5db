"""The guide in the program, opened by its key at what is selected."""

import re

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrav.app.shell import guide


def opened(hand, keys=Qt.KeyboardModifier.NoModifier):
    QTest.keyClick(hand.window, Qt.Key.Key_F1, keys)
    return hand.window.look_up.guide


@pytest.mark.parametrize(
    ("selected", "title"),
    [
        (None, "The window"),
        ("part-1", "Preparing a product"),
        ("path-1", "Paths"),
        ("run-1", "Runs"),
        ("camera-1", "Cameras"),
    ],
)
def test_it_opens_at_the_page_of_what_is_selected(hand, selected, title):
    hand.session.select(selected)
    page = opened(hand)
    assert page.isVisible() and page.page.document().firstBlock().text() == title
    QTest.keyClick(page, Qt.Key.Key_Escape)
    assert not page.isVisible()


def test_settings_of_the_checks_have_their_page(hand):
    hand.window.card.show_checks()
    assert "Clearance" in opened(hand).page.document().firstBlock().text()


def test_all_pages_are_there_with_pictures_no_wider_than_their_text(hand):
    window = opened(hand)
    for k in range(window.list.count()):
        window.list.setCurrentRow(k)
        assert len(window.page.toPlainText()) > 500
        hand.qtbot.wait(20)
        assert window.page.horizontalScrollBar().maximum() == 0
    for name, file in guide.pages().items():
        for target in re.findall(r"^!\[[^]]*\]\(([^)]+)\)", file.read_text(), re.M):
            assert (file.parent / target).exists(), (name, target)


def test_a_text_is_found_in_a_page_again_and_again(hand):
    hand.session.select("run-1")
    window = opened(hand)
    QTest.keyClicks(window.search, "path")
    first = window.page.textCursor().selectionStart()
    assert window.page.textCursor().selectedText().casefold() == "path"
    QTest.keyClick(window.search, Qt.Key.Key_Return)
    assert window.page.textCursor().selectionStart() > first
    for _ in range(200):
        QTest.keyClick(window.search, Qt.Key.Key_Return)
        if window.page.textCursor().selectionStart() == first:
            break
    else:
        raise AssertionError("it never begins again")


def test_the_sheet_has_every_key_of_the_window(hand):
    text = opened(hand, Qt.KeyboardModifier.ShiftModifier).page.toPlainText()
    for action in hand.window.actions():
        if not action.shortcut().isEmpty():
            assert action.shortcut().toString() in text, action.text()
