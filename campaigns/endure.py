"""The real window under random hands: no exception, no warning of Qt, a valid document, and back to the first one by undo.

``python -m campaigns.endure [--minutes M] [--seed S] [PROJECT]`` on a display; the exit code is 1 when anything else happened.
"""

from __future__ import annotations

import argparse
import gc
import random
import sys
import tempfile
import threading
import time
import traceback
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from PySide6.QtCore import QPoint, QSettings, Qt, QtMsgType, qInstallMessageHandler
from PySide6.QtGui import QAction
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractSpinBox, QApplication, QLineEdit, QListWidget, QTreeWidget, QWidget

from kestrav.core.document.validation import validate
from kestrav.core.files import project_file
from kestrav.core.processes import give_memory_back

if TYPE_CHECKING:
    from kestrav.app.shell.window import Window

PROJECT = Path(__file__).parent.parent / "demo" / "fan-cassette.kestrav"
# what asks for files, leaves the program, or works for minutes
LEFT_OUT = (
    "open",
    "quit",
    "save",
    "render",
    "export",
    "new",
    "read",
    "import",
    "film",
    "report",
    "manual",
    "browser",
    "extract",
    "take",
)
KEYS = (Qt.Key.Key_Space, Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Delete, Qt.Key.Key_Escape, Qt.Key.Key_Return, Qt.Key.Key_Home,
        Qt.Key.Key_End, Qt.Key.Key_Insert, Qt.Key.Key_M, Qt.Key.Key_T, Qt.Key.Key_K, Qt.Key.Key_X, Qt.Key.Key_W)  # fmt: skip
TYPED = ("0", "12", "-5", "1e9", "nan", "3.5 m", "2 1/4 in", "abc", "99999999999", "", "π", "٣", "=1+1")
SETTLED = 0.3  # of the time, after which memory is to stay level
GROWTH = 0.10  # of what it was then
IGNORED = ("propagateSizeHints", "XDG_RUNTIME_DIR", "This plugin does not support raise")


class Endured(msgspec.Struct, eq=False):
    """What came of it: how often each hand was laid on, what went wrong, and the memory in MB at times in s."""

    done: Counter[str] = msgspec.field(default_factory=Counter)
    wrong: list[str] = msgspec.field(default_factory=list)
    memory: list[tuple[float, float]] = msgspec.field(default_factory=list)

    @property
    def grown(self) -> float:
        """By which share memory grew since it had settled."""
        if not self.memory:
            return 0.0
        until = self.memory[-1][0]
        later = [mb for at, mb in self.memory if at >= SETTLED * until]
        return later[-1] / later[0] - 1.0


def resident() -> float:
    """Memory of this process in MB."""
    with Path("/proc/self/statm").open() as stream:
        return int(stream.read().split()[1]) * 4096 / 1e6


class Hands:
    """Random hands at a window."""

    def __init__(self, window: Window, rng: random.Random) -> None:
        self.window, self.rng = window, rng
        self.session, self.stage = window.session, window.stage
        self.last = ""  # what was done last
        self.actions = [a for a in window.findChildren(QAction) if a.text() and not a.menu() and not a.isSeparator()]

    def one(self) -> str:
        """Do something; tells what."""
        kinds = (
            self.click,
            self.drag,
            self.key,
            self.choose,
            self.seek,
            self.act,
            self.undo,
            self.redo,
            self.type,
            self.wheel,
        )
        kind = self.rng.choices(kinds, (4, 4, 4, 6, 4, 6, 5, 2, 6, 2))[0]
        self.last = kind.__name__
        kind()
        return kind.__name__

    def _somewhere(self) -> QPoint:
        return QPoint(self.rng.randrange(self.stage.view.width()), self.rng.randrange(self.stage.view.height()))

    def _held(self) -> Qt.KeyboardModifier:
        return self.rng.choice(
            (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier)
        )

    def click(self) -> None:
        """Somewhere in the stage."""
        QTest.mouseClick(
            self.stage.view,
            self.rng.choice((Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton)),
            self._held(),
            self._somewhere(),
        )

    def drag(self) -> None:
        """From somewhere in the stage to somewhere else."""
        QTest.mousePress(self.stage.view, Qt.MouseButton.LeftButton, self._held(), self._somewhere())
        for _ in range(self.rng.randrange(1, 4)):
            QTest.mouseMove(self.stage.view, self._somewhere())
        QTest.mouseRelease(self.stage.view, Qt.MouseButton.LeftButton, self._held(), self._somewhere())

    def wheel(self) -> None:
        """Zoom in the timeline's time, or show all of it."""
        self.window.timeline.zoom(self.rng.choice((0.5, 2.0)))

    def key(self) -> None:
        """A key in the stage."""
        QTest.keyClick(self.stage.view, self.rng.choice(KEYS), self._held())

    def choose(self) -> None:
        """Something in the document."""
        project = self.session.project
        groups = (project.parts, project.paths, project.runs, project.cameras, project.shots)
        ids = [thing.id for group in groups for thing in group]
        if ids:
            self.session.select(self.rng.choice(ids))

    def seek(self) -> None:
        """Another time."""
        self.session.set_time(self.rng.choice((0.0, 1e6, self.rng.uniform(0.0, 20.0))))

    def act(self) -> None:
        """Something of the menus and bars."""
        able = [a for a in self.actions if a.isEnabled() and not any(word in a.text().lower() for word in LEFT_OUT)]
        chosen = self.rng.choice(able)
        self.last = f"act: {chosen.text()}"
        chosen.trigger()

    def undo(self) -> None:
        """Take back."""
        self.session.undo.undo()

    def redo(self) -> None:
        """Do again."""
        self.session.undo.redo()

    def type(self) -> None:
        """Something in a field, or choose in a list."""
        fields = [f for f in self.window.findChildren(QWidget) if f.isVisible() and f.isEnabled()]
        fields = [f for f in fields if isinstance(f, (QLineEdit, QAbstractSpinBox, QListWidget, QTreeWidget))]
        if not fields:
            return
        one = self.rng.choice(fields)
        if isinstance(one, QLineEdit):
            one.setFocus()
            one.selectAll()
            text = self.rng.choice(TYPED)
            # QTest has no keys for other scripts
            QTest.keyClicks(one, text) if text.isascii() else one.insert(text)
        QTest.keyClick(one, self.rng.choice((Qt.Key.Key_Return, Qt.Key.Key_Down, Qt.Key.Key_Up, Qt.Key.Key_Escape)))


def endured(file: Path, seed: int, seconds: float, most: int | None = None) -> Endured:
    """What comes of random hands at a window with a project."""
    from kestrav.app.shell.window import Window

    told, application = Endured(), QApplication.instance()
    hooks = sys.excepthook, threading.excepthook, sys.unraisablehook

    def note(kind: str, text: str) -> None:
        told.wrong.append(f"{kind}: {text}")

    sys.excepthook = lambda *fault: note("exception", "".join(traceback.format_exception(*fault)[-4:]))
    threading.excepthook = lambda fault: note("exception of a thread", f"{fault.exc_type.__name__}: {fault.exc_value}")
    sys.unraisablehook = lambda fault: note("exception that could not be raised", str(fault.exc_value))

    def said(kind: QtMsgType, _context: object, text: str) -> None:
        if kind != QtMsgType.QtDebugMsg and not any(word in text for word in IGNORED):
            note("Qt", text)

    handler = qInstallMessageHandler(said)
    opened, threads = project_file.load(file), threading.active_count()
    window = Window()
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    window.session.open(opened.project, opened.meshes, None)
    first, hands = window.session.project, Hands(window, random.Random(seed))
    application.processEvents()
    began = time.monotonic()
    # dialogs and menus that come up are left again, by hand as well
    closing = _Closing()
    try:
        while time.monotonic() - began < seconds and (most is None or sum(told.done.values()) < most):
            before = len(told.wrong)
            what = "start"
            try:
                what = hands.one()
                application.processEvents()
                validate(window.session.project)
            except Exception:
                note("exception", traceback.format_exc(limit=-5))
            told.done[what] += 1
            if len(told.wrong) > before:
                told.wrong[before] = f"after {sum(told.done.values())} hands ({hands.last}): {told.wrong[before]}"
            if sum(told.done.values()) % 200 == 0:
                gc.collect()
                # what is free is nobody's
                give_memory_back()
                told.memory.append((time.monotonic() - began, resident()))
        while window.session.undo.canUndo():
            window.session.undo.undo()
        application.processEvents()
        if window.session.project != first:
            note("undo", "taking back everything does not lead to the first document")
    finally:
        closing.end()
        window.session.undo.setClean()
        window.close()
        window.deleteLater()
        application.processEvents()
        sys.excepthook, threading.excepthook, sys.unraisablehook = hooks
        qInstallMessageHandler(handler)
    until = time.monotonic() + 10.0
    while threading.active_count() > threads + _SPARE and time.monotonic() < until:
        time.sleep(0.1)
    if threading.active_count() > threads + _SPARE:
        told.wrong.append(f"threads are left: {[t.name for t in threading.enumerate()]}")
    return told


_SPARE = 3  # threads of libraries that stay


class _Closing:
    """Leaves whatever comes up over the window."""

    def __init__(self) -> None:
        from PySide6.QtCore import QTimer

        self.timer = QTimer()
        self.timer.setInterval(150)
        self.timer.timeout.connect(self._leave)
        self.timer.start()

    def _leave(self) -> None:
        for over in (QApplication.activePopupWidget(), QApplication.activeModalWidget()):
            if over is not None:
                over.close()

    def end(self) -> None:
        """No more."""
        self.timer.stop()


def main() -> int:
    """Run it for some minutes."""
    from kestrav.app.shell.start import make_application

    parser = argparse.ArgumentParser()
    parser.add_argument("project", type=Path, nargs="?", default=PROJECT)
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    make_application()
    with tempfile.TemporaryDirectory() as settings:
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, settings)
        told = endured(given.project, given.seed, 60 * given.minutes)
    if told.grown > GROWTH and given.minutes >= 5:
        told.wrong.append(f"memory grew by {told.grown:.0%}")
    print("\n".join(told.wrong))
    memory = f", memory {told.memory[0][1]:.0f} to {told.memory[-1][1]:.0f} MB" if told.memory else ""
    print(f"{sum(told.done.values())} hands, {len(told.wrong)} wrong{memory}")
    return 1 if told.wrong else 0


if __name__ == "__main__":
    sys.exit(main())
