"""Processes that share work, forked in a process that has drawn nothing."""

import subprocess
import sys

import numpy as np
from PIL import Image

_SCRIPT = """
import multiprocessing, os, time
from concurrent.futures.process import BrokenProcessPool
from kestrav.core.processes import Pool, may_fork, note_drawing

where = multiprocessing.get_start_method
kept = []

def begin(value):
    kept.append(value)

def answer():
    return kept[0], os.environ["TOLD"]

def work(pool):
    return pool.submit(os.getpid).result(), pool.submit(os.getenv, "TOLD").result()

# forked: with all that is in memory, this script's functions too
assert may_fork()
with Pool(2, begin, "known", surroundings={"TOLD": "abc"}) as pool:
    assert pool.submit(answer).result() == ("known", "abc") and "TOLD" not in os.environ
# one that dies is told, and what goes on is ended where the block is left by a fault
with Pool(1) as pool:
    try:
        pool.submit(os._exit, 3).result()
    except BrokenProcessPool:
        print("died")
began = time.monotonic()
try:
    with Pool(1) as pool:
        pool.submit(time.sleep, 60)
        raise KeyError("left")
except KeyError:
    pass
assert time.monotonic() - began < 20 and not multiprocessing.active_children()
# started anew, without this script being run once more, as it is not guarded against that
note_drawing()
assert not may_fork()
with Pool(2, surroundings={"TOLD": "abc"}) as pool:
    other, told = work(pool)
    assert other != os.getpid() and told == "abc"
print("ran")
"""


def test_a_pool_works_in_processes_forked_or_started_anew(tmp_path):
    script = tmp_path / "script.py"
    script.write_text(_SCRIPT)
    told = subprocess.run([sys.executable, str(script)], capture_output=True, text=True, timeout=120)
    assert told.returncode == 0, told.stderr
    assert told.stdout.split() == ["died", "ran"]


def rendered(saved, target, processes):
    command = [sys.executable, "-m", "kestrav.cli", "render", str(saved), "-o", str(target)]
    options = ["--processes", str(processes)]
    told = subprocess.run([*command, *options], capture_output=True, text=True)
    assert told.returncode == 0, told.stderr
    return {p.name: np.asarray(Image.open(p)) for p in sorted(target.iterdir())}


_FREES = """
from kestrav.core.processes import give_memory_back

def resident():
    with open("/proc/self/statm") as file:
        return int(file.read().split()[1]) * 4096

blocks = [bytes(2000) for _ in range(100_000)]
kept = blocks[::100]  # what is still used lies between what is free
del blocks
before = resident()
give_memory_back()
print(before - resident(), sum(map(len, kept)))
"""


def test_memory_that_is_free_between_what_is_used_is_given_back():
    told = subprocess.run([sys.executable, "-c", _FREES], capture_output=True, text=True, check=True)
    given, kept = map(int, told.stdout.split())
    assert given > 100e6 and kept == 2_000_000


def test_forked_processes_make_the_same_pixels_as_one(written_file, tmp_path):
    one, two = (rendered(written_file, tmp_path / f"{count}", count) for count in (1, 2))
    assert len(one) == 10 and one.keys() == two.keys()
    assert all((one[name] == two[name]).all() for name in one)
