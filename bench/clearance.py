"""The clearance sweep of the demo against coal's distance on every pair at every frame."""

import time

import coal
import numpy as np

from bench.demo import PROJECT
from kestrav.core.clearance.asked import GENERAL, asked_of
from kestrav.core.clearance.bodies import moving_pairs
from kestrav.core.clearance.sweep import prepared, sweep
from kestrav.core.files import project_file
from kestrav.core.geometry.models import model, placed
from kestrav.core.kinematics.poses import moving_groups, world_poses
from kestrav.core.kinematics.runs import frame_times

SHARE = 0.02  # of the frames that the bare loop is run on; it takes minutes for all


def sweep_against_every_pair(in_turns):
    opened = project_file.load(PROJECT)
    project, meshes = opened.project, opened.meshes
    times = frame_times(project)
    group = moving_groups(project)
    rows = [i for i, p in enumerate(project.parts) if p.geometry]
    models = {i: model(meshes[project.parts[i].geometry]) for i in rows}
    found = sweep(project, meshes, times)
    # what is in contact, stands nearer than required, has a requirement of its own or is not to be checked is no distance to be told of
    general = next(t for t in found.tallies if t.requirement is None)
    ready = prepared(project, meshes)
    told_of = [each.pair for each in ready.contacts] + [each.pair for each in ready.near.values()]
    skip = {frozenset((pair.moving, pair.other)) for pair in told_of}
    every = moving_pairs(project, meshes)
    skip |= {
        frozenset(pair) for pair, whose in zip(every, asked_of(project, every).whose, strict=True) if whose != GENERAL
    }
    pairs = [
        (a, b)
        for a in rows
        for b in rows
        if project.parts[a].id in group
        and group.get(project.parts[b].id) != group[project.parts[a].id]
        and frozenset((project.parts[a].id, project.parts[b].id)) not in skip
    ]
    row = {p.id: i for i, p in enumerate(project.parts)}

    def named(pair):
        """The numbers of a pair's parts: it may be one that stood near before."""
        return row[pair.moving], row[pair.other]

    # an even choice of frames, with the worst among them
    chosen = np.unique(np.append(np.arange(0, len(times), round(1 / SHARE)), found.worst))
    poses = world_poses(project, times[chosen])
    least = []
    began = time.perf_counter()
    for k, frame in zip(chosen, poses, strict=True):
        transforms = {i: placed(frame[i]) for i in rows}
        request = coal.DistanceRequest()
        least.append(
            min(
                coal.distance(models[a], transforms[a], models[b], transforms[b], request, coal.DistanceResult())
                for a, b in [*pairs, named(general.pairs[k])]
            )
        )
    bare = (time.perf_counter() - began) * len(times) / len(chosen)
    runs = []
    for _ in range(3):
        began = time.perf_counter()
        sweep(project, meshes, times)
        runs.append(time.perf_counter() - began)
    ours = sorted(runs)[1]
    # below 0 it is how deep parts overlap, which coal measures in another way
    worst = float(np.abs(np.maximum(least, 0.0) - np.maximum(general.distance[chosen], 0.0)).max())
    fine = bare / ours >= 10 and worst <= 1e-6
    return (
        f"clearance sweep, {len(times)} frames, {len(pairs)} pairs: {ours:.2f} s against {bare:.0f} s of coal on every pair "
        f"(timed on {len(chosen)} frames): {bare / ours:.0f} times faster (at least 10), minima differ by {worst:.1e} mm",
        fine,
    )
