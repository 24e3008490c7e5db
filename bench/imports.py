"""Reading the cabinet's STEP file against cascadio alone."""

import tempfile
from pathlib import Path

import cascadio

from bench.demo import STEP
from kestrav.core.files.product_import import ANGLE_TOLERANCE, CHORD_TOLERANCE, read_product


def step_against_cascadio(in_turns):
    with tempfile.TemporaryDirectory() as folder:
        target = str(Path(folder) / "bare.glb")
        ours, bare = in_turns(
            lambda: read_product(STEP),
            lambda: cascadio.step_to_glb(str(STEP), target, CHORD_TOLERANCE, ANGLE_TOLERANCE),
            5,
        )
    return (
        f"STEP import of the cabinet: {ours:.2f} s against {bare:.2f} s of bare cascadio: "
        f"{ours / bare:.2f} times its time (at most 1.3)",
        ours / bare <= 1.3,
    )
