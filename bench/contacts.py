"""The instant at which the demo's trolley touches the gate, against coal's collide every ten-thousandth of a second."""

import time

import coal
import msgspec
import numpy as np

from bench.demo import PROJECT
from kestrav.core.clearance.contacts import first_touch
from kestrav.core.document import edits
from kestrav.core.document.base import ContactTrigger
from kestrav.core.document.lookup import subtree
from kestrav.core.files import project_file
from kestrav.core.geometry.models import model, placed
from kestrav.core.kinematics.poses import world_poses

STEP = 1e-4  # s
WINDOW = 0.02  # s before the contact in which the bare loop is run; it is scaled to all of the time before


def search_against_every_instant(in_turns):
    opened = project_file.load(PROJECT)
    project, meshes = opened.project, opened.meshes
    gate = next(s for s in project.rotations if isinstance(s.trigger, ContactTrigger))
    a, b = gate.trigger.a, gate.trigger.b
    # as before anything is started by it
    project = edits.update(project, gate.id, trigger=msgspec.structs.replace(gate.trigger, time=None))
    row = {p.id: i for i, p in enumerate(project.parts)}
    sides = [[i for i in subtree(project, thing) if project.parts[row[i]].geometry] for thing in (a, b)]
    models = {i: model(meshes[project.parts[row[i]].geometry]) for side in sides for i in side}
    found = first_touch(project, meshes, a, b)
    times = np.arange(found.time - WINDOW, found.time + 5 * STEP, STEP)
    poses = world_poses(project, times)
    request, met = coal.CollisionRequest(), None
    began = time.perf_counter()
    for moment, frame in zip(times, poses, strict=True):
        at = {i: placed(frame[row[i]]) for i in models}
        if any(
            coal.collide(models[i], at[i], models[j], at[j], request, coal.CollisionResult())
            for i in sides[0]
            for j in sides[1]
        ):
            met = float(moment)
            break
    looked = int(np.searchsorted(times, met if met is not None else times[-1])) + 1
    bare = (time.perf_counter() - began) / looked * found.time / STEP
    ours = []
    for k in range(5):
        moved = edits.update(project, "run-1", start=0.5 + 1e-6 * (k + 1))  # nothing is known of this document yet
        began = time.perf_counter()
        first_touch(moved, meshes, a, b)
        ours.append(time.perf_counter() - began)
    took = sorted(ours)[2]
    off = abs(found.time - met) if met is not None else np.inf
    return (
        f"contact of trolley and gate: {1000 * took:.0f} ms against {bare:.0f} s of coal at every {STEP:g} s (timed on {looked}): "
        f"{bare / took:.0f} times faster (at least 50), instants {off:.1e} s apart (at most {STEP:g})",
        bare / took >= 50 and off <= STEP + 1e-9,
    )
