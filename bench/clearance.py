"""The clearance sweep of the demo against coal's distance on every pair at every frame."""

import time

import coal
import numpy as np

from bench.demo import PROJECT
from kestrav.core.clearance.sweep import sweep
from kestrav.core.files import project_file
from kestrav.core.geometry.models import model, placed
from kestrav.core.kinematics.poses import moving_groups, world_poses
from kestrav.core.kinematics.runs import frame_times

SHARE = 0.06  # of the frames that the bare loop is run on; it takes minutes for all


def sweep_against_every_pair(in_turns):
    opened = project_file.load(PROJECT)
    project, meshes = opened.project, opened.meshes
    times = frame_times(project)
    group = moving_groups(project)
    rows = [i for i, p in enumerate(project.parts) if p.geometry]
    models = {i: model(meshes[project.parts[i].geometry]) for i in rows}
    found = sweep(project, meshes, times)
    skip = {frozenset((c.pair.moving, c.pair.other)) for c in found.contacts}
    pairs = [
        (a, b)
        for a in rows
        for b in rows
        if project.parts[a].id in group
        and group.get(project.parts[b].id) != group[project.parts[a].id]
        and frozenset((project.parts[a].id, project.parts[b].id)) not in skip
    ]
    # an even choice of frames, with the worst among them
    chosen = np.unique(np.append(np.arange(0, len(times), round(1 / SHARE)), found.worst))
    poses = world_poses(project, times[chosen])
    least = []
    began = time.perf_counter()
    for frame in poses:
        transforms = {i: placed(frame[i]) for i in rows}
        request = coal.DistanceRequest()
        least.append(
            min(
                coal.distance(models[a], transforms[a], models[b], transforms[b], request, coal.DistanceResult())
                for a, b in pairs
            )
        )
    bare = (time.perf_counter() - began) * len(times) / len(chosen)
    runs = []
    for _ in range(3):
        began = time.perf_counter()
        sweep(project, meshes, times)
        runs.append(time.perf_counter() - began)
    ours = sorted(runs)[1]
    worst = float(np.abs(np.maximum(least, 0.0) - found.distance[chosen]).max())
    fine = bare / ours >= 10 and worst <= 1e-6
    return (
        f"clearance sweep, {len(times)} frames, {len(pairs)} pairs: {ours:.2f} s against {bare:.0f} s of coal on every pair "
        f"(timed on {len(chosen)} frames): {bare / ours:.0f} times faster (at least 10), minima differ by {worst:.1e} mm",
        fine,
    )
