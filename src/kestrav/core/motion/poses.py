"""Poses of every part for many times at once, through the assembly's nesting."""

from __future__ import annotations

import itertools
from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.lookup import ancestors, subtree
from kestrav.core.document.records import (
    AlongHeading,
    Camera,
    CarriedHeading,
    FixedHeading,
    Part,
    Placement,
    PointAim,
    Project,
    TowardHeading,
)
from kestrav.core.geometry.meshes import turned_bounds
from kestrav.core.geometry.transforms import inverse_rigid, rigid, rotation_from_quaternion
from kestrav.core.motion.carriage import carried
from kestrav.core.motion.leaning import lean, rolled
from kestrav.core.motion.runs import Journey, active, journeys_of
from kestrav.core.motion.solids import solid_box

Array = NDArray[np.float64]

_ARRIVED = 1e-6  # mm before its end a run has arrived

AXES = {
    "+x": np.array([1.0, 0.0, 0.0]),
    "-x": np.array([-1.0, 0.0, 0.0]),
    "+y": np.array([0.0, 1.0, 0.0]),
    "-y": np.array([0.0, -1.0, 0.0]),
    "+z": np.array([0.0, 0.0, 1.0]),
    "-z": np.array([0.0, 0.0, -1.0]),
}


@lru_cache(maxsize=4096)
def placement_matrix(placement: Placement) -> Array:
    """A placement as a (4, 4) matrix; read-only, as it is kept."""
    found: Array = rigid(rotation_from_quaternion(placement.rotation), placement.position)
    found.flags.writeable = False
    return found


# by identity of the parts, of which two or three documents are shown in turn; the tuples are held, so theirs alone
_rest: list[tuple[tuple[Part, ...], Array]] = []
_REST_KEPT = 4


def rest_poses(project: Project) -> Array:
    """World matrices (parts, 4, 4) with no run under way; read-only, as they are kept."""
    for parts, known in _rest:
        if parts is project.parts:
            return known
    found = _rest_poses(project)
    found.flags.writeable = False
    _rest.append((project.parts, found))
    del _rest[:-_REST_KEPT]
    return found


def _rest_poses(project: Project) -> Array:
    """Level by level of the nesting, all parts of a level at once."""
    parts = project.parts
    row = {part.id: i for i, part in enumerate(parts)}
    matrices: Array = rigid(
        rotation_from_quaternion([p.placement.rotation for p in parts] or np.empty((0, 4))),
        np.array([p.placement.position for p in parts], float).reshape(-1, 3),
    )
    above = np.array([-1 if p.parent is None else row[p.parent] for p in parts], np.intp)
    depth = np.zeros(len(parts), int)
    for i, parent in enumerate(above.tolist()):
        if parent >= 0:
            depth[i] = depth[parent] + 1
    order = np.argsort(depth, kind="stable")
    starts = np.searchsorted(depth[order], np.arange(1, depth.max(initial=0) + 2))
    for first, last in itertools.pairwise(starts):
        level = order[first:last]
        matrices[level] = matrices[above[level]] @ matrices[level]
    return matrices


def riders(project: Project) -> list[str]:
    """Ids of the parts and assemblies that have runs, in the order of the document."""
    ridden = {run.rider for run in project.runs}
    return [part.id for part in project.parts if part.id in ridden]


def moving_groups(project: Project) -> dict[str, int]:
    """For each moving part its rigid group's number: the row of its nearest riding ancestor or itself."""
    ridden = set(riders(project))
    group: dict[str, int] = {}
    for i, part in enumerate(project.parts):
        if part.id in ridden:
            group[part.id] = i
        elif part.parent in group:
            group[part.id] = group[part.parent]
    return group


def world_poses(project: Project, times: ArrayLike) -> Array:
    """World matrices (n, parts, 4, 4) at times (n,) in s."""
    times = np.asarray(times, float)
    rest = rest_poses(project)
    poses = np.broadcast_to(rest, (len(times), *rest.shape)).copy()
    row = {part.id: i for i, part in enumerate(project.parts)}
    ridden = set(riders(project))
    moved: set[str] = set()
    for i, part in enumerate(project.parts):
        if part.id in ridden:
            poses[:, i] = _rider_poses(project, part, rest[i], times)
            moved.add(part.id)
        elif part.parent in moved:
            poses[:, i] = poses[:, row[part.parent]] @ placement_matrix(part.placement)
            moved.add(part.id)
    return poses


def _rider_poses(project: Project, part: Part, rest: Array, times: Array) -> Array:
    """World matrices (n, 4, 4) of a rider: its pivot lies on the path."""
    journeys = journeys_of(project, part.id)
    which = active(journeys, times)
    pivot = placement_matrix(part.pivot)
    rest_rotation = (rest @ pivot)[:3, :3]
    poses = np.empty((len(times), 4, 4))
    for k, trip in enumerate(journeys):
        mine = which == k
        if mine.any():
            places, rotation = _on_path(project, trip, times[mine], rest_rotation)
            poses[mine] = rigid(rotation, places) @ inverse_rigid(_seat(project, part, trip, pivot))
    return poses


def _on_path(project: Project, trip: Journey, times: Array, rest_rotation: Array) -> tuple[Array, Array]:
    """Where what sits on the path is (n, 3) at times (n,), and how the rider's pivot is turned (n, 3, 3)."""
    run, curve, stations = trip.run, trip.path.curve, trip.stations(times)
    heading, offset = run.heading, np.array(run.offset)
    # a run's last station belongs to the piece that it arrives on, also where the path goes on after a kink
    inside = np.where(stations >= trip.last - _ARRIVED, trip.last - _ARRIVED, stations)
    if isinstance(heading, CarriedHeading):
        rear, front, frames = carried(curve, stations, heading.wheelbase)
        places = rear + heading.share * (front - rear)
    else:
        places = curve.position(stations)
        needed = offset.any() or not isinstance(heading, FixedHeading)
        upright = not isinstance(heading, AlongHeading) or heading.upright
        frames = trip.path.frames(inside, upright) if needed else np.broadcast_to(np.eye(3), (len(stations), 3, 3))
    if offset.any():
        places = places + frames @ offset
    if isinstance(heading, FixedHeading):
        return places, np.broadcast_to(rest_rotation, (len(stations), 3, 3))
    if isinstance(heading, TowardHeading):
        frames = _toward(_aimed_at(project, heading, times) - places, frames)
    if run.lean.computed or run.lean.keys:
        frames = rolled(frames, lean(trip, inside))
    return places, frames @ _body(heading.forward, heading.flip).T


def _aimed_at(project: Project, heading: TowardHeading, times: Array) -> Array:
    """What a heading points at (n, 3): a point, or the middle of a part, which is where it is at rest if it does not ride
    by itself."""
    if isinstance(heading.aim, PointAim):
        return np.broadcast_to(np.array(heading.aim.point), (len(times), 3))
    target = heading.aim.part
    box = own_bounds(project, target).mean(axis=0)
    rest = rest_poses(project)
    row = next(i for i, part in enumerate(project.parts) if part.id == target)
    part = project.parts[row]
    rides = part.id in riders(project) and not any(
        isinstance(run.heading, TowardHeading) for run in project.runs if run.rider == part.id
    )
    poses = _rider_poses(project, part, rest[row], times) if rides else np.broadcast_to(rest[row], (len(times), 4, 4))
    found: Array = poses[:, :3, :3] @ box + poses[:, :3, 3]
    return found


def _toward(ways: Array, frames: Array) -> Array:
    """Frames (n, 3, 3) whose first axes are along ways (n, 3), their left level; those given where a way is nothing."""
    size = np.linalg.norm(ways, axis=1)
    forward = np.where(size[:, None] > 1e-6, ways / np.maximum(size, 1e-12)[:, None], frames[:, :, 0])
    flat = np.hypot(forward[:, 0], forward[:, 1])
    left = np.stack([-forward[:, 1], forward[:, 0], np.zeros(len(forward))], axis=1) / np.maximum(flat, 1e-12)[:, None]
    # straight up or down the path's own left is kept
    across = frames[:, :, 1] - np.einsum("ij,ij->i", frames[:, :, 1], forward)[:, None] * forward
    across /= np.maximum(np.linalg.norm(across, axis=1), 1e-12)[:, None]
    left = np.where(flat[:, None] > 1e-4, left, across)
    return np.stack([forward, left, np.cross(forward, left)], axis=-1)


def _seat(project: Project, part: Part, trip: Journey, pivot: Array) -> Array:
    """The matrix (4, 4) in the part's own coordinates of what sits on the path: the pivot, or it brought straight ahead to
    the front, back to the rear, or to the middle of the underside."""
    run = trip.run
    if run.seat == "pivot":
        return pivot
    box, found = own_bounds(project, part.id), pivot.copy()
    if run.seat == "bottom":
        found[:3, 3] = *box.mean(axis=0)[:2], box[0, 2]
        return found
    sense = 1.0 if run.seat == "front" else -1.0
    if isinstance(run.heading, FixedHeading):
        way = sense * pivot[:3, 0]
    else:
        way = sense * (-1.0 if run.heading.flip else 1.0) * (pivot[:3, :3] @ AXES[run.heading.forward])
    # straight ahead of the pivot, as far as the box reaches that way: the pivot's height and side are kept
    farthest = np.where(way > 0, box[1], box[0])
    found[:3, 3] += float((farthest - pivot[:3, 3]) @ way) * way
    return found


_own: list[tuple[tuple[Part, ...], str, Array]] = []
_OWN_KEPT = 64


def own_bounds(project: Project, part_id: str) -> Array:
    """Bounds (2, 3) of a part or assembly in its own coordinates, as it is at rest; kept by the parts."""
    for parts, known_id, box in _own:
        if parts is project.parts and known_id == part_id:
            return box
    rest = rest_poses(project)
    row = next(i for i, part in enumerate(project.parts) if part.id == part_id)
    found: Array = world_bounds(project, part_id, (inverse_rigid(rest[row]) @ rest)[None])[0]
    _own.append((project.parts, part_id, found))
    del _own[:-_OWN_KEPT]
    return found


@lru_cache(maxsize=16)
def _body(forward_axis: str, flip: bool) -> Array:
    """The rider's own forward, left and up as columns (3, 3)."""
    forward = AXES[forward_axis] * (-1 if flip else 1)
    up = AXES["+z"] if forward_axis[1] != "z" else AXES["+x"]
    return np.stack([forward, np.cross(up, forward), up], axis=-1)


def camera_positions(project: Project, camera: Camera, times: ArrayLike) -> Array:
    """Positions (n, 3) of a camera at times (n,)."""
    times = np.asarray(times, float)
    journeys = journeys_of(project, camera.id)
    positions = np.broadcast_to(np.asarray(camera.position, float), (len(times), 3)).copy()
    if journeys:
        which = active(journeys, times)
        for k, trip in enumerate(journeys):
            mine = which == k
            positions[mine] = trip.path.curve.position(trip.stations(times[mine]))
    return positions


def world_bounds(project: Project, part_id: str, poses: Array) -> Array:
    """Bounds (n, 2, 3) in space of a part or assembly, from world poses (n, parts, 4, 4).

    A thing without any geometry is a point at its own origin.
    """
    boxes = {g.hash: g for g in project.geometry}
    row = {part.id: i for i, part in enumerate(project.parts)}
    rows = [row[inner] for inner in subtree(project, part_id)]
    solids = [(i, solid_box(boxes, project.parts[i])) for i in rows if project.parts[i].geometry is not None]
    if not solids:
        origin = poses[:, row[part_id], :3, 3]
        return np.stack([origin, origin], axis=1)
    found = turned_bounds(np.sort([box for _, box in solids], axis=1), poses[:, [i for i, _ in solids]])
    return np.stack([found[:, :, 0].min(axis=1), found[:, :, 1].max(axis=1)], axis=1)


def all_bounds(project: Project, rest: Array) -> dict[str, Array]:
    """Bounds (2, 3) under poses (parts, 4, 4) of every solid and of every assembly that holds one."""
    boxes = {g.hash: g for g in project.geometry}
    solids = [(i, part) for i, part in enumerate(project.parts) if part.geometry is not None]
    if not solids:
        return {}
    own = np.sort([solid_box(boxes, part) for _, part in solids], axis=1)
    found = dict(zip((p.id for _, p in solids), turned_bounds(own, rest[[i for i, _ in solids]]), strict=True))
    for part in reversed(project.parts):
        if part.parent is None or part.id not in found:
            continue
        mine, above = found[part.id], found.get(part.parent)
        found[part.parent] = (
            mine.copy() if above is None else np.array([np.minimum(above[0], mine[0]), np.maximum(above[1], mine[1])])
        )
    return found


def top_bounds(project: Project) -> list[Array]:
    """Bounds (2, 3) at rest of every top-level thing."""
    rest = rest_poses(project)
    known = all_bounds(project, rest)
    return [
        known[part.id] if part.id in known else np.stack([rest[i, :3, 3]] * 2)
        for i, part in enumerate(project.parts)
        if part.parent is None
    ]


def mover_bounds(project: Project) -> list[Array]:
    """Bounds (2, 3) at rest of the top-level things that riders belong to, and of the riders' paths."""
    found = []
    rest = rest_poses(project)[None]
    for rider in riders(project):
        top = [*ancestors(project, rider), rider][0]
        found.append(world_bounds(project, top, rest)[0])
        for trip in journeys_of(project, rider):
            line = trip.path.curve.position(np.linspace(0.0, trip.path.length, 50))
            found.append(np.array([line.min(axis=0), line.max(axis=0)]))
    return found
