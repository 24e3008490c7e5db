"""Reading the cabinet's STEP file against cascadio and trimesh alone: time, and the most memory held."""

import io
import multiprocessing
from functools import partial
from pathlib import Path

import cascadio
import trimesh

from bench.demo import STEP
from kestrav.core.files.cad_kernel import ANGLE_TOLERANCE
from kestrav.core.files.product_import import COARSEST_CHORD, read_product


def bare():
    """What the two libraries do with the file when nothing is made of it."""
    data = cascadio.load(STEP.read_bytes(), "step", tol_linear=COARSEST_CHORD, tol_angular=ANGLE_TOLERANCE)
    return trimesh.load_scene(io.BytesIO(data), file_type="glb", process=False)


def ours():
    return read_product(STEP)


def _kept(name):
    """MiB that Linux says of this process: VmRSS held now, VmHWM at most."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith(name):
            return int(line.split()[1]) / 1024
    return float("nan")


def _peak(work, answer):
    Path("/proc/self/clear_refs").write_text("5")  # forget the peak of starting
    before = _kept("VmRSS")
    held = work()
    answer.put(_kept("VmHWM") - before)
    del held


def peak(work):
    """MiB that a fresh process comes to hold over what it had before."""
    context = multiprocessing.get_context("spawn")
    answer = context.Queue()
    process = context.Process(target=partial(_peak, work, answer))
    process.start()
    found = answer.get()
    process.join()
    return found


def step_against_cascadio_and_trimesh(in_turns):
    mine, theirs = in_turns(ours, bare, 5)
    held, bare_held = peak(ours), peak(bare)
    return (
        f"STEP import of the cabinet: {mine:.2f} s against {theirs:.2f} s of bare cascadio and trimesh: "
        f"{mine / theirs:.2f} times their time (at most 1.3); at most {held:.0f} MiB more held against {bare_held:.0f}: "
        f"{held / bare_held:.2f} times theirs (at most 1.5)",
        mine / theirs <= 1.3 and held / bare_held <= 1.5,
    )
