"""Children that are forked, in a process that has drawn nothing."""

import subprocess
import sys

import numpy as np
from PIL import Image

_SCRIPT = """
import os, signal, time
from kestrav.render.forks import Fork, may_fork, note_drawing

assert may_fork()
done, ended, failed = Fork(lambda: len(os.environ["TOLD"]), {"TOLD": "abc"}), Fork(lambda: time.sleep(60) or 0, {}), Fork(lambda: 1 // 0, {})
assert ended.poll() is None and "TOLD" not in os.environ
ended.terminate()
assert (done.wait(), ended.wait(), failed.wait()) == (3, -signal.SIGTERM, 1)
assert (done.poll(), done.wait()) == (3, 3)
note_drawing()
assert not may_fork()
"""


def test_a_fork_tells_its_outcome_and_can_be_ended():
    told = subprocess.run([sys.executable, "-c", _SCRIPT], stderr=subprocess.PIPE, text=True)
    assert told.returncode == 0, told.stderr
    assert "ZeroDivisionError" in told.stderr


def rendered(saved, target, processes):
    command = [sys.executable, "-m", "kestrav.cli", "render", str(saved), "-o", str(target)]
    options = ["--processes", str(processes)]
    told = subprocess.run([*command, *options], capture_output=True, text=True)
    assert told.returncode == 0, told.stderr
    return {p.name: np.asarray(Image.open(p)) for p in sorted(target.iterdir())}


def test_forked_processes_make_the_same_pixels_as_one(written_file, tmp_path):
    one, two = (rendered(written_file, tmp_path / f"{count}", count) for count in (1, 2))
    assert len(one) == 10 and one.keys() == two.keys()
    assert all((one[name] == two[name]).all() for name in one)
