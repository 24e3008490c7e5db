"""The real window on a (virtual) display."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QCoreApplication, QEvent, QPoint, QPointF, QSettings, Qt, QTimer
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QPushButton

from kestrav.app.shell.window import Window
from kestrav.app.widgets import style
from kestrav.core.camera.orbits import add_orbit
from kestrav.render.viewpoint import to_display

LONGEST_QUESTION = 120  # s


@pytest.fixture(scope="session")
def dressed(qapp, tmp_path_factory):
    """The application with its look, and settings of its own."""
    qapp.setOrganizationName("Kestrav")
    qapp.setApplicationName("Kestrav tests")
    QSettings.setPath(
        QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(tmp_path_factory.mktemp("settings"))
    )
    style.apply_style(qapp)
    return qapp


@pytest.fixture(autouse=True)
def no_question_waits_for_ever(qapp):
    """Close a question that nobody answers, and fail, as a test would wait for ever for its end."""
    unanswered, seen = [], {}

    def look():
        box = QApplication.activeModalWidget() or QApplication.activePopupWidget()
        key = None if box is None else id(box)
        seen[key] = seen.get(key, 0) + 1 if key in seen else 0
        for other in set(seen) - {key}:
            del seen[other]
        if box is not None and seen[key] > LONGEST_QUESTION:
            texts = [label.text() for label in box.findChildren(QLabel) if label.text()]
            texts += [action.text() for action in box.actions()]
            unanswered.append(f"{box.windowTitle()}: {' '.join(texts)}")
            box.close()

    timer = QTimer(interval=1000)
    timer.timeout.connect(look)
    timer.start()
    yield
    timer.stop()
    assert not unanswered, f"nobody answered {unanswered}"


class Hand:
    """A person at the window."""

    def __init__(self, window, qtbot):
        self.window, self.qtbot = window, qtbot
        self.session, self.stage = window.session, window.stage

    def at(self, *place):
        """Where in the stage a point in space is seen."""
        self.stage.draw()
        x, y, _ = to_display(self.stage.main, place)[0]
        return QPoint(round(x), self.stage.height() - 1 - round(y))

    def click(self, position, keys=Qt.KeyboardModifier.NoModifier):
        QTest.mouseClick(self.stage.view, Qt.MouseButton.LeftButton, keys, position)

    def drag(self, start, *way, keys=Qt.KeyboardModifier.NoModifier, button=Qt.MouseButton.LeftButton):
        QTest.mousePress(self.stage.view, button, keys, start)
        last = start
        for place in way:
            # QTest's own move carries neither buttons nor keys
            for share in (0.5, 1.0):
                here = QPointF(last + (place - last) * share)
                there = QPointF(self.stage.view.mapToGlobal(here.toPoint()))
                event = QMouseEvent(QEvent.Type.MouseMove, here, there, Qt.MouseButton.NoButton, button, keys)
                QApplication.sendEvent(self.stage.view, event)
            last = place
        QTest.mouseRelease(self.stage.view, button, keys, last)

    def key(self, key, keys=Qt.KeyboardModifier.NoModifier):
        QTest.keyClick(self.stage.view, key, keys)

    def checked(self):
        """Wait for the check of the document as it is."""
        self.qtbot.waitUntil(lambda: self.window.checking.current, timeout=300_000)

    def field(self, name):
        """A field of the card by its label."""
        self.window.card.reveal(name)
        found = self.window.card.form.field(name)
        assert found is not None, name
        return found

    def press(self, text):
        """Press a button of the card by its text, or by how that begins."""
        self.window.card.reveal(text)
        buttons = self.window.card.form.findChildren(QPushButton)
        next(b for b in buttons if b.text() == text or b.text().startswith(f"{text} ")).click()

    def choose(self, name, key):
        """Choose one of a choice's options by its key."""
        field = self.field(name)
        index = field.findData(key)
        assert index >= 0, (name, key)
        field.setCurrentIndex(index)
        field.activated.emit(index)

    def said(self):
        """What the card says, with plain spaces."""
        self.window.card.fold_all(False)
        told = " ".join(w.text() for w in self.window.card.form.findChildren(QLabel))
        return told.replace("\u2009", " ")

    def type_in(self, name, text):
        field = self.field(name)
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, text)
        QTest.keyClick(field, Qt.Key.Key_Return)


@pytest.fixture
def make_hand(dressed, qtbot):
    """Opens a project in a window, with the settings of somebody who starts for the first time."""
    QSettings().clear()
    windows = []

    def make(opened, file=None):
        window = Window()
        window.setGeometry(0, 0, 1280, 800)
        # before it is drawn, as nobody looks at the empty one
        window.session.open(opened.project, opened.meshes, file)
        window.show()
        # it is laid out by the time that somebody does something, as after the first picture
        assert window.timeline is not None
        # shortcuts go to the active window; without a window manager somebody must say which it is
        window.activateWindow()
        qtbot.waitUntil(window.isActiveWindow, timeout=60_000)
        windows.append(window)
        window.stage.draw()
        return Hand(window, qtbot)

    yield make
    for window in windows:
        window.session.undo.setClean()
        window.close()
        window.deleteLater()
        dressed.processEvents()
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


@pytest.fixture
def hand(make_hand, passing, saved):
    """The small project with a camera that orbits its post."""
    project = add_orbit(passing.project, passing.meshes, ["part-2"], offset=400.0, duration=2.0)
    return make_hand(type(passing)(project, passing.meshes), saved)
