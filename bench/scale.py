"""Clearance as scenes grow: many parts, many frames, very fine meshes, and while something is dragged."""

import resource
import time
from pathlib import Path

import coal
import numpy as np
import trimesh

from kestrav.core.clearance.live import Live
from kestrav.core.clearance.sweep import sweep
from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Part,
    Path as PathRecord,
    PathPoint,
    Placement,
    PointShape,
    Project,
    Run,
    Settings,
)
from kestrav.core.files import project_file
from kestrav.core.geometry.meshes import mesh
from kestrav.core.geometry.models import model, placed
from kestrav.core.kinematics.poses import moving_groups, world_poses
from kestrav.core.kinematics.runs import frame_times
from kestrav.core.parts.solids import geometry_record
from kestrav.core.paths.path_curves import path_curve

DEMO = Path(__file__).parent.parent / "demo" / "fan-cassette.kestrav"
_AISLE = 250.0  # mm from the middle of the way in which nothing stands
_MOVING = 10  # parts of what moves
_LIVE = 0.058  # s that an answer may take, as the window asks for it
_LIVE_FRAMES = 16  # that are looked at for it, likewise
_EVERY = 40  # frames, of which the bare loop is timed on one


def hall(count):
    """A cart of ten parts that winds its way through a hall of so many parts in 20 s at 30 frames a second."""
    rng = np.random.default_rng(5)
    shapes = [
        trimesh.creation.icosphere(2, 40.0),
        trimesh.creation.cylinder(30.0, 120.0, sections=32),
        trimesh.creation.box((90, 60, 120)),
        trimesh.creation.torus(60.0, 15.0, major_sections=32, minor_sections=12),
    ]
    kept = [mesh(s.vertices, s.faces) for s in shapes]
    parts = [Part("cart", "Cart", placement=Placement((0.0, 0.0, 100.0)))]
    for k in range(_MOVING):
        at = (60.0 * (k % 5) - 120.0, 70.0 * (k // 5) - 35.0, 0.0)
        parts.append(Part(f"cart-{k}", f"Cart {k}", "cart", Placement(at), geometry=kept[k % 4].hash))
    side = float(np.sqrt(count)) * 320.0
    way = [PathPoint((-side / 2 + side * k / 5, side * 0.3 * (-1) ** k, 100.0)) for k in range(6)]
    aisle = path_curve(PathRecord("path-1", "Way", PointShape(tuple(way)))).curve
    trod = aisle.position(np.linspace(0.0, aisle.length, 400))[:, :2]
    for k in range(count - _MOVING):
        # what stands in the way would be run into; how deep is more than the bare loop tells
        place = rng.uniform(-side / 2, side / 2, 2)
        while np.linalg.norm(trod - place, axis=1).min() < _AISLE:
            place = rng.uniform(-side / 2, side / 2, 2)
        x, y = (float(v) for v in place)
        parts.append(Part(f"part-{k}", f"Part {k}", placement=Placement((x, y, 90.0)), geometry=kept[k % 4].hash))
    project = Project(
        parts=tuple(parts),
        geometry=tuple(geometry_record(m) for m in kept),
        settings=Settings(fps=30.0),
        paths=(PathRecord("path-1", "Way", PointShape(tuple(way))),),
        runs=(Run("run-1", "Run", "cart", "path-1", duration=20.0, orientation=AlongOrientation()),),
    )
    return project, {m.hash: m for m in kept}


def _every_pair(project, meshes, times, left_out):
    """The least distance at each time, by the bare library on every pair."""
    group = moving_groups(project)
    rows = [i for i, p in enumerate(project.parts) if p.geometry]
    models = {i: model(meshes[project.parts[i].geometry]) for i in rows}
    moving = [i for i in rows if project.parts[i].id in group]
    pairs = [(a, b) for a in moving for b in rows if project.parts[b].id not in group]
    pairs = [(a, b) for a, b in pairs if frozenset((project.parts[a].id, project.parts[b].id)) not in left_out]
    request, found = coal.DistanceRequest(), []
    for poses in world_poses(project, times):
        at = {i: placed(poses[i]) for i in rows}
        found.append(
            min(coal.distance(models[a], at[a], models[b], at[b], request, coal.DistanceResult()) for a, b in pairs)
        )
    return np.maximum(found, 0.0)


def many_parts_against_every_pair(_in_turns):
    """200 parts and 600 frames: the sweep against the bare loop, timed on one frame in forty and scaled."""
    project, meshes = hall(200)
    times = np.arange(600) / 30.0
    began = time.perf_counter()
    ours = sweep(project, meshes, times)
    took = time.perf_counter() - began
    some = times[::_EVERY]
    began = time.perf_counter()
    bare = _every_pair(project, meshes, some, {frozenset((c.pair.moving, c.pair.other)) for c in ours.contacts})
    bare_took = (time.perf_counter() - began) * len(times) / len(some)
    worst = float(np.abs(np.maximum(ours.distance[::_EVERY], 0.0) - bare).max())
    ratio = bare_took / took
    text = f"sweep of 200 parts and 600 frames: {took:.1f} s, {ratio:.0f} times faster than every pair, minima within {worst:.1e} mm"
    return f"{text} (30 times, 1e-6)", ratio >= 30 and worst <= 1e-6


def live_while_dragging(_in_turns):
    """Updates a second while a point of the demo's way out is dragged: at the playhead and along what changed."""
    opened = project_file.load(DEMO)
    project, live = opened.project, Live()
    live.checked(project, opened.meshes)
    path = next(p for p in project.paths if p.name == "Extraction path")
    place = np.array(path.shape.points[2].position, float)
    took, frames = [], []
    for k in range(40):
        now = edits.set_point(project, path.id, 2, position=tuple(np.add(place, (0.25 * k, 0.0, 0.0))))
        began = time.perf_counter()
        told = live.follow(now, opened.meshes, 49 / 30, _LIVE_FRAMES, _LIVE)
        took.append(time.perf_counter() - began)
        frames.append(len(told.times) - 1)
    rate = 1.0 / float(np.median(took[5:]))
    text = f"live clearance in the demo: {rate:.0f} updates a second, {np.median(frames[5:]):.0f} frames of the stretch in each"
    return f"{text} (15)", rate >= 15


def growing_scenes(_in_turns):
    """Time and memory of a sweep from 50 to 2,000 parts."""
    took, counts = [], (50, 200, 800, 2000)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    for count in counts:
        project, meshes = hall(count)
        times = frame_times(project)[::4]
        began = time.perf_counter()
        sweep(project, meshes, times)
        took.append(time.perf_counter() - began)
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    growth = took[-1] / took[0]
    told = ", ".join(f"{n}: {t:.2f} s" for n, t in zip(counts, took, strict=True))
    text = f"sweep of 150 frames as parts grow: {told}; {growth:.0f} times for 40 times the parts, {more:.0f} MB more at the most"
    return f"{text} (40 times, 500 MB)", growth <= 40 and more <= 500


def two_million_triangles(_in_turns):
    """A part of two million triangles: made ready once and measured."""
    fine = trimesh.creation.icosphere(8, 100.0)
    shape = mesh(
        np.vstack([fine.vertices, np.add(fine.vertices, (0.0, 0.0, 201.0))]),
        np.vstack([fine.faces, fine.faces + len(fine.vertices)]),
    )
    began = time.perf_counter()
    model(shape)
    took = time.perf_counter() - began
    other, there = model(hall(50)[1].popitem()[1]), placed(np.eye(4))
    began = time.perf_counter()
    for k in range(100):
        at = np.eye(4)
        at[:3, 3] = (200.0 + k, 0.0, 0.0)
        coal.distance(model(shape), there, other, placed(at), coal.DistanceRequest(), coal.DistanceResult())
    each = (time.perf_counter() - began) / 100
    text = (
        f"{len(shape.triangles) / 1e6:.1f} million triangles: ready in {took:.1f} s, a distance in {1000 * each:.2f} ms"
    )
    return f"{text} (60 s, 50 ms)", took <= 60 and each <= 0.05
