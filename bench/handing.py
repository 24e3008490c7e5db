"""Animated glTF against writing every sample, and what it costs to go on with a film that is nearly done."""

import contextlib
import tempfile
import time
from pathlib import Path

import msgspec
import numpy as np

from bench.demo import PROJECT
from kestrav.core.errors import Cancelled
from kestrav.core.files import project_file
from kestrav.core.files.gltf_export import animated
from kestrav.core.motion.poses import riders
from kestrav.core.motion.runs import span
from kestrav.render.film import render_shot


def gltf_against_every_sample(_in_turns):
    """Keys and bytes of the motion against a key of place and rotation for each sample and moving part."""
    opened = project_file.load(PROJECT)
    project = opened.project
    began = time.perf_counter()
    data, told = animated(project, opened.meshes)
    took = time.perf_counter() - began
    still = len(
        animated(msgspec.structs.replace(project, settings=project.settings), opened.meshes, times=np.zeros(1))[0]
    )
    moving = len(riders(project)) + len(project.cameras)
    # in single precision: times once, places of three and rotations of four numbers
    every = still + 4 * told.samples * (1 + 7 * moving)
    return (
        f"animated glTF of the demo ({span(project):g} s at 120 a second): {told.keys} keys of {2 * told.moving * told.samples}, "
        f"{len(data) / 1e6:.2f} MB, {(len(data) - still) / max(every - still, 1):.2f} of the motion of every sample (at most 0.5), in {took:.1f} s",
        (len(data) - still) / max(every - still, 1) <= 0.5,
    )


def going_on_with_a_film(_in_turns):
    """A film whose frames are all there but one, against making all of them."""
    opened = project_file.load(PROJECT)
    shot = msgspec.structs.replace(opened.project.shots[0], width=320, height=180, end=2.0)
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder) / "film.mp4"
        began = time.perf_counter()
        render_shot(opened.project, opened.meshes, shot, target, processes=1)
        whole = time.perf_counter() - began

        def stop(done, total):
            if done == total - 1:
                raise Cancelled

        with contextlib.suppress(Cancelled):
            render_shot(opened.project, opened.meshes, shot, target, stop, overwrite=True, processes=1)
        began = time.perf_counter()
        render_shot(opened.project, opened.meshes, shot, target, overwrite=True, resume=True, processes=1)
        rest = time.perf_counter() - began
    return (
        f"going on with a film of 60 frames that has all but one: {rest:.1f} s against {whole:.1f} s for all: "
        f"{rest / whole:.2f} (at most 0.4)",
        rest / whole <= 0.4,
    )
