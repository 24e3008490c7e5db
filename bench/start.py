"""Time from the start of the program to what is on the screen, against a bare window of PySide6 and VTK."""

import statistics
import subprocess
import sys
import time

from bench.demo import PROJECT

_PICTURE, _USABLE, _DEMO, _RATIO = 1.0, 3.0, 5.0, 1.5  # s, and of the bare window's time

_PROGRAM = """
import sys
from pathlib import Path
from PySide6.QtCore import QTimer
from kestrav.app.shell import start, start_picture
shown = start_picture.start_picture
def start_picture_told(file):
    made = shown(file)
    print("picture", flush=True)
    from kestrav.app.stage.stage import Stage
    usual = Stage.draw
    def draw(stage):
        usual(stage)
        if stage.drawings:
            print("drawn", flush=True)
    Stage.draw = draw
    return made
start_picture.start_picture = start_picture_told
from PySide6.QtWidgets import QApplication
def watch():
    window = next((w for w in QApplication.topLevelWidgets() if hasattr(w, "stage")), None)
    # its charts come after its first picture
    if window is None or "timeline" not in vars(window):
        return QTimer.singleShot(5, watch)
    print("usable", flush=True)
    window.session.undo.setClean()
    window.close()
start.make_application()
QTimer.singleShot(5, watch)
start.run_window(Path(sys.argv[1]) if len(sys.argv) > 1 else None)
"""
_BARE = """
import sys
from PySide6.QtWidgets import QApplication, QMainWindow
from vtkmodules.qt.QVTKRenderWindowInteractor import QVTKRenderWindowInteractor
import vtkmodules.vtkRenderingOpenGL2
from vtkmodules.vtkRenderingCore import vtkRenderer
application = QApplication(sys.argv[:1])
window = QMainWindow()
view = QVTKRenderWindowInteractor(window)
view.GetRenderWindow().AddRenderer(vtkRenderer())
window.setCentralWidget(view)
window.setGeometry(0, 0, 1280, 800)
window.show()
application.processEvents()
view.GetRenderWindow().Render()
print("usable", flush=True)
"""


def _told(program, *arguments):
    """When a program that was started tells of each thing it does, in s."""
    began, times = time.perf_counter(), {}
    process = subprocess.Popen([sys.executable, "-c", program, *arguments], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    for line in process.stdout:
        times.setdefault(line.strip(), time.perf_counter() - began)
    process.wait(60)
    return times


def _middle(taken, name):
    return statistics.median(times[name] for times in taken)


def first_frame(_in_turns):
    rounds = [(_told(_PROGRAM), _told(_BARE), _told(_PROGRAM, str(PROJECT))) for _ in range(4)][1:]
    empty, bare, demo = zip(*rounds, strict=True)
    picture, drawn, usable = (_middle(empty, name) for name in ("picture", "drawn", "usable"))
    plain, first = _middle(bare, "usable"), _middle(demo, "drawn")
    return (
        f"start: something on the screen after {picture:.1f} s (at most {_PICTURE:g}), the empty window drawn after {drawn:.1f} s and usable "
        f"after {usable:.1f} s (at most {_USABLE:g}), {usable / plain:.2f} times a bare window of PySide6 and VTK (at most {_RATIO:g}); the demo's first picture after "
        f"{first:.1f} s (at most {_DEMO:g})",
        picture <= _PICTURE and usable <= _USABLE and usable <= _RATIO * plain and first <= _DEMO,
    )
