"""Time from the start of the program to the first drawn frame of the demo."""

import statistics
import subprocess
import sys
import time

from bench.demo import PROJECT

_PROGRAM = """
import sys, time
from pathlib import Path
from kestrav.app.shell.start import make_application
from kestrav.core.files import project_file
application = make_application()
from kestrav.app.jobs.jobs import hold_back, let_begin
from kestrav.app.shell.window import Window
hold_back()
opened = project_file.load(Path(sys.argv[1]))
window = Window()
window.stage.drawn.connect(let_begin)
window.show()
window.session.open(opened.project, opened.meshes, None)
drawn = []
window.stage.drawn.connect(lambda: drawn.append(1))
while not drawn:
    application.processEvents()
print("drawn", flush=True)
window.session.undo.setClean()
window.close()
"""


def first_frame(_in_turns):
    took = []
    for _ in range(3):
        began = time.perf_counter()
        process = subprocess.Popen([sys.executable, "-c", _PROGRAM, str(PROJECT)], stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        process.stdout.readline()
        took.append(time.perf_counter() - began)
        process.wait(60)
    middle = statistics.median(took)
    return f"start to the first drawn frame of the demo: {middle:.1f} s (no limit set)", True
