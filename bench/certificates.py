"""The demo's certificate against sampling so often that it would give the same certainty."""

import time

import numpy as np

from bench.demo import PROJECT
from kestrav.core.clearance.certificate import certify
from kestrav.core.clearance.sweep import sweep
from kestrav.core.files import project_file
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import span

CLOSE = 0.1  # mm that anything may go between two samples for them to say as much
TRIED = 24  # samples that are timed


def certificate_against_sampling(in_turns):
    opened = project_file.load(PROJECT)
    project, meshes = opened.project, opened.meshes
    certify(project, meshes)
    began = time.perf_counter()
    told = certify(project, meshes)
    ours = time.perf_counter() - began
    grid = np.linspace(0.0, span(project), 1201)
    places = world_poses(project, grid)[:, :, :3, 3]
    fastest = float(np.linalg.norm(np.diff(places, axis=0), axis=-1).max()) / (grid[1] - grid[0])
    needed = span(project) * fastest / CLOSE
    chosen = np.linspace(0.0, span(project), TRIED)
    began = time.perf_counter()
    sweep(project, meshes, chosen)
    bare = (time.perf_counter() - began) / TRIED * needed
    return (
        f"certificate of {told.pairs} pairs: {ours:.1f} s ({told.status}, at least {told.at_least:.3f} mm elsewhere) against "
        f"{bare:.0f} s of {needed:.0f} samples {CLOSE:g} mm apart (timed on {TRIED}): {bare / ours:.0f} times faster (at least 10)",
        bare / ours >= 10,
    )
