"""The tour, walked through in the real window as a person does it."""

import pytest
from PySide6.QtCore import QPoint, QSettings, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kestrav.core.document.records import Project
from kestrav.core.files import project_file


@pytest.fixture
def walker(make_hand):
    hand = make_hand(project_file.Opened(Project(), {}))
    hand.window.welcome.tour_asked.emit()
    return hand


def at(hand, chapter, number):
    """Wait until the tour is at a step."""
    tour = hand.window.tour
    hand.qtbot.waitUntil(
        lambda: (tour.steps[tour.number][0].title, tour.steps[tour.number][1]) == (chapter, number), timeout=120_000
    )
    assert tour.panel.isVisible() and chapter in tour.panel.title.text()


def play_and_read(hand):
    chapter = "Play and read a finding"
    at(hand, chapter, 0)
    assert any(not bar.isHidden() for bar in hand.window.tour.outline.bars)
    QTest.mouseClick(hand.window.timeline.transport.play, Qt.MouseButton.LeftButton)
    at(hand, chapter, 1)
    hand.key(Qt.Key.Key_Space)
    at(hand, chapter, 2)
    hand.checked()
    hand.key(Qt.Key.Key_N)
    at(hand, chapter, 3)
    hand.key(Qt.Key.Key_Right)


def fix(hand):
    chapter, panel = "Fix it", hand.window.findings
    at(hand, chapter, 0)
    hand.qtbot.waitUntil(lambda: any(f.fix is not None for f in panel.findings), timeout=180_000)
    panel.fix_asked.emit(next(f.fix for f in panel.findings if f.fix is not None))
    at(hand, chapter, 1)
    assert hand.window.preview_bar.isVisible()
    hand.window.preview_bar.accepted.emit()
    at(hand, chapter, 2)
    hand.qtbot.waitUntil(lambda: hand.window.checking.current, timeout=180_000)


def draw(hand):
    chapter = "Draw a path"
    at(hand, chapter, 0)
    hand.session.select(None)
    hand.key(Qt.Key.Key_D)
    at(hand, chapter, 1)
    middle = hand.stage.rect().center()
    for aside in (-60, 0, 50):
        hand.click(middle + QPoint(aside, 40))
    at(hand, chapter, 2)
    hand.key(Qt.Key.Key_Return)


def time_it(hand):
    chapter = "Time it"
    at(hand, chapter, 1)  # the path is selected, as it was just drawn
    gate = next(p.id for p in hand.session.project.parts if p.name == "Swing gate")
    hand.choose("Rider", gate)
    at(hand, chapter, 2)
    hand.type_in("Duration", "1.2*2 s")
    at(hand, chapter, 3)
    hand.type_in("Start", "1 s")


def roll(hand):
    chapter = "Roll a wheel"
    at(hand, chapter, 0)
    hand.window.contents.choose(hand.session.project.wheels[0].id)
    at(hand, chapter, 1)
    hand.type_in("Radius", "50")
    at(hand, chapter, 2)
    hand.session.undo.undo()


def frame_and_render(hand):
    chapter = "Frame and render"
    at(hand, chapter, 0)
    hand.window.contents.choose(next(c.id for c in hand.session.project.cameras if c.name == "Orbit camera"))
    at(hand, chapter, 1)
    hand.type_in("Focal length", "28 mm")
    at(hand, chapter, 2)
    seen = []

    def look():
        # the dialog is modal: what is seen while it is open is looked at from within
        seen.append(hand.window.tour.steps[hand.window.tour.number][1])
        QApplication.activeModalWidget().reject()

    QTimer.singleShot(1500, look)
    hand.window.header.main.click()
    assert seen == [3]


def test_the_tour_is_walked_through(walker):
    assert walker.window.documents.shows_demo()
    for chapter in (play_and_read, fix, draw, time_it, roll, frame_and_render):
        chapter(walker)
    walker.qtbot.waitUntil(lambda: not walker.window.tour.running, timeout=30_000)
    assert QSettings().value("tour/step") is None and walker.window.tour.panel.isHidden()
    assert "F1" in walker.window.tools.hint.text()


def test_the_tour_is_left_and_goes_on_where_it_was(walker, make_hand):
    tour = walker.window.tour
    for _ in range(5):
        tour.panel.skipped.emit(1)
    assert tour.steps[tour.number][1] == 1
    tour.panel.skipped.emit(-1)
    tour.panel.skipped.emit(1)
    tour.panel.left.emit()
    assert not tour.running and tour.panel.isHidden() and all(bar.isHidden() for bar in tour.outline.bars)
    tour.begin()
    assert tour.running and tour.steps[tour.number][1] == 1
    tour.leave()
    walker.session.undo.setClean()
    walker.window.close()
    # in a project opened anew its chapter begins anew
    settings = {key: QSettings().value(key) for key in QSettings().allKeys()}
    again = make_hand(project_file.Opened(Project(), {}))
    for key, value in settings.items():
        QSettings().setValue(key, value)
    again.window.tour.begin()
    chapter, number = again.window.tour.steps[again.window.tour.number]
    assert again.window.documents.shows_demo() and (chapter.title, number) == ("Fix it", 0)
    again.window.tour.leave()
