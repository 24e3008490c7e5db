"""What the first picture does without, what a closed window leaves, and who throws away what is unreachable."""

import gc
import os
import subprocess
import sys
import threading
import weakref

import pytest

from kestrav.app.shell.start import collect_garbage


def printed(script, folder):
    """The words that a script prints in a process of its own, with settings in a folder."""
    environment = {**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)}
    done = subprocess.run(
        [sys.executable, "-c", script, str(folder)], capture_output=True, text=True, timeout=120, env=environment
    )
    assert done.stdout, done.stderr[-2000:]
    return done.stdout.split()


class Knot:
    """Something that holds itself."""

    def __init__(self):
        self.own = self


@pytest.fixture
def by_hand():
    gc.collect()
    gc.disable()
    yield
    gc.enable()


def test_cycles_go_once_there_are_many(by_hand):
    gone = []
    first = Knot()
    weakref.finalize(first, lambda: gone.append(threading.current_thread()))
    del first
    # too few to be worth it
    collect_garbage()
    assert not gone
    kept = [Knot() for _ in range(2 * gc.get_threshold()[0])]
    del kept
    collect_garbage()
    assert gone == [threading.main_thread()]


_CLOSED = """
import gc, sys, weakref
from PySide6.QtCore import QCoreApplication, QEvent, QSettings
QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, sys.argv[1])
from kestrav.app.shell import start
from kestrav.app.jobs.jobs import hold_back
application = start.make_application()
from kestrav.app.shell.window import Window
hold_back()
windows = []
for _ in range(3):
    window = Window()
    window.show()
    window.timeline
    for _ in range(20):
        application.processEvents()
    windows.append(weakref.ref(window))
    window.close()
    window.deleteLater()
    del window
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    gc.collect()
print(*(window() is None for window in windows[:-1]))
"""


def test_a_window_that_was_closed_leaves_nothing_behind(tmp_path):
    # of the last one fields of numbers still hold what takes their notes
    assert printed(_CLOSED, tmp_path) == ["True", "True"]


_SCRIPT = """
import gc, sys, threading, weakref
from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication
QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, sys.argv[1])
from kestrav.app.shell import start

class Knot:
    def __init__(self):
        self.own = self

where = []

def make():
    for _ in range(5000):
        weakref.finalize(Knot(), lambda: where.append(threading.current_thread() is threading.main_thread()))

def look():
    window = next((w for w in QApplication.topLevelWidgets() if hasattr(w, "stage")), None)
    if not where:
        return QTimer.singleShot(100, look)
    print(not gc.isenabled(), all(where), flush=True)
    window.session.undo.setClean()
    window.close()

application = start.make_application()
QTimer.singleShot(8000, lambda: threading.Thread(target=make).start())
QTimer.singleShot(8100, look)
start.run_window(None)
"""


def test_what_other_threads_leave_is_thrown_away_by_the_windows(tmp_path):
    assert printed(_SCRIPT, tmp_path) == ["True", "True"]


_MIRROR = """
from PySide6 import QtCore, QtWidgets
import kestrav.app.timeline
from pyqtgraph.Qt import QtCore as their_core, QtWidgets as their_widgets
print(their_core.QTimer is QtCore.QTimer, "QCalendarWidget" in vars(their_widgets), "QCalendarWidget" in dir(QtWidgets))
print(their_widgets.QCalendarWidget is QtWidgets.QCalendarWidget)
"""


def test_the_charts_library_takes_names_of_qt_when_they_are_used(tmp_path):
    assert printed(_MIRROR, tmp_path) == ["True", "False", "True", "True"]


_FIRST = """
import sys
from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication
QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, sys.argv[1])
from kestrav.app.stage.stage import Stage

first = []
usual = Stage.draw

def drawn(stage):
    usual(stage)
    if stage.drawings and not first:
        first.extend(name for name in ("pyqtgraph", "coal", "shapely", "typer", "PIL") if name in sys.modules)
        first.append("drawn")
        QTimer.singleShot(50, look)

def look():
    window = next(w for w in QApplication.topLevelWidgets() if hasattr(w, "stage"))
    # by itself: to ask for it would make it
    if "timeline" not in vars(window):
        return QTimer.singleShot(50, look)
    print(*first, window.timeline.isVisible(), window.timeline.transport.play.icon().isNull(), flush=True)
    window.session.undo.setClean()
    window.close()

Stage.draw = drawn
from kestrav.cli import main
main([])
"""


def test_the_first_picture_waits_for_neither_charts_nor_libraries_of_geometry(tmp_path):
    assert printed(_FIRST, tmp_path) == ["drawn", "True", "False"]
