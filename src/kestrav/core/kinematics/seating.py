"""How a rider sits on its path: where what sits on it is, and how it is turned. Lengths in mm, times in s."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from itertools import pairwise

import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.document.records import (
    AlongOrientation,
    CarriedOrientation,
    FixedOrientation,
    KeyedOrientation,
    OrientationKey,
    PointAim,
    Project,
    Run,
    TowardOrientation,
)
from kestrav.core.geometry.transforms import inverse_rigid, rigid
from kestrav.core.kinematics.banking import bank, rolled
from kestrav.core.kinematics.carriage import carried
from kestrav.core.kinematics.roughness import deviations
from kestrav.core.kinematics.runs import RunCourse
from kestrav.core.parts.rest import own_bounds, rest_and_pivot

Array = NDArray[np.float64]
Where = Callable[[str, Array], Array]
"""World matrices (n, 4, 4) of a part at times (n,)."""

_ARRIVED = 1e-6  # mm before its end a run has arrived

AXES = {
    "+x": np.array([1.0, 0.0, 0.0]),
    "-x": np.array([-1.0, 0.0, 0.0]),
    "+y": np.array([0.0, 1.0, 0.0]),
    "-y": np.array([0.0, -1.0, 0.0]),
    "+z": np.array([0.0, 0.0, 1.0]),
    "-z": np.array([0.0, 0.0, -1.0]),
}


def rider_poses(project: Project, course: RunCourse, times: Array, where: Where) -> Array:
    """World matrices (n, 4, 4) of a run's rider at times (n,)."""
    rest, pivot = rest_and_pivot(project, course.run.rider)
    places, rotation = _on_path(project, course, times, (rest @ pivot)[:3, :3], where)
    rider_poses: Array = rigid(rotation, places) @ inverse_rigid(reference_matrix(project, course.run, pivot))
    return rider_poses


def path_frames(project: Project, course: RunCourse, times: Array) -> Array:
    """Frames (n, 3, 3), columns along, left and up, by which a run's rider is carried beside its path."""
    stations = course.stations(times)
    inside = np.where(np.abs(stations - course.last) <= _ARRIVED, course.last - _ARRIVED, stations)
    return _places(project, course, stations, inside, framed=True)[1]


def _on_path(
    project: Project, course: RunCourse, times: Array, rest_rotation: Array, where: Where
) -> tuple[Array, Array]:
    """Where what sits on the path is (n, 3) at times (n,), and how the rider's pivot is turned (n, 3, 3)."""
    run, stations = course.run, course.stations(times)
    orientation = run.orientation
    # a run's last station belongs to the piece that it arrives on, also where the path goes on after a kink
    inside = np.where(np.abs(stations - course.last) <= _ARRIVED, course.last - _ARRIVED, stations)
    places, frames = _places(project, course, stations, inside)
    wander: dict[str, Array] = {}
    if run.roughness:
        wander = deviations(run.roughness, stations, course.moments(times))
    if run.roughness or any(run.offset):
        beside = [np.broadcast_to(wander.get(axis, 0.0), len(stations)) for axis in ("along", "side", "up")]
        shift = np.array(run.offset) + np.column_stack(beside)
        places = places + np.einsum("nij,nj->ni", frames, shift)
    if isinstance(orientation, FixedOrientation):
        own = _own_turn(run, wander, len(stations))
        fixed = np.broadcast_to(rest_rotation, (len(stations), 3, 3))
        return places, fixed if own is None else fixed @ own
    if isinstance(orientation, TowardOrientation):
        frames = _toward(_aimed_at(project, orientation, times, where) - places, frames)
    elif isinstance(orientation, KeyedOrientation):
        turned = keyed_turns(orientation.keys, inside / course.path.length, smooth=orientation.smooth)
        frames = turned if orientation.room else frames @ turned
    if run.bank.computed or run.bank.keys:
        frames = rolled(frames, bank(course, inside))
    own = _own_turn(run, wander, len(stations))
    if own is not None:
        frames = frames @ own
    return places, frames @ body_axes(orientation.forward, flip=orientation.flip, up_axis=orientation.up).T


def _places(
    project: Project, course: RunCourse, stations: Array, inside: Array, *, framed: bool = False
) -> tuple[Array, Array]:
    """Places (n, 3) on the path, or on the ground below it, and the frames (n, 3, 3) there."""
    run, curve = course.run, course.path.curve
    orientation, ground = run.orientation, run.ground
    heights = None if ground is None or not ground.heights else np.array(ground.heights)
    if isinstance(orientation, CarriedOrientation):
        onto = None if heights is None else lambda s, p: _on_ground(heights, s / course.path.length, p)
        rear, front, frames = carried(curve, stations, orientation.wheelbase, onto)
        return rear + orientation.share * (front - rear), frames
    places = curve.position(stations)
    if heights is not None:
        places = _on_ground(heights, stations / course.path.length, places)
    if not (framed or _needs_frames(run)):
        return places, np.broadcast_to(np.eye(3), (len(stations), 3, 3))
    stance = orientation.stance if isinstance(orientation, AlongOrientation) else "slope"
    frames = course.path.frames(inside, upright=stance != "free")
    if stance == "level" or heights is not None:
        frames = _levelled(frames)
    if heights is not None and ground is not None and ground.tilted:
        reach = 0.5 * float(np.ptp(own_bounds(project, run.rider)[:, :2], axis=0).max())
        frames = _tilted(frames, heights, stations, course, ground.width, reach)
    return places, frames


def _needs_frames(run: Run) -> bool:
    return any(run.offset) or bool(run.roughness) or not isinstance(run.orientation, FixedOrientation)


def _on_ground(heights: Array, shares: Array, places: Array) -> Array:
    seated = places.copy()
    seated[:, 2] = np.interp(shares, np.linspace(0.0, 1.0, len(heights)), heights[:, 1])
    return seated


def _levelled(frames: Array) -> Array:
    """Frames (n, 3, 3) with their left kept level and their up made vertical."""
    left = frames[:, :, 1].copy()
    left[:, 2] = 0.0
    left /= np.maximum(np.linalg.norm(left, axis=1), 1e-12)[:, None]
    up = np.broadcast_to([0.0, 0.0, 1.0], left.shape)
    return np.stack([np.cross(left, up), left, up], axis=-1)


def _tilted(frames: Array, heights: Array, stations: Array, course: RunCourse, width: float, reach: float) -> Array:
    """Level frames (n, 3, 3) pitched and rolled with the ground, taken over a rider's own length and width in mm."""
    length = course.path.length
    shares = np.linspace(0.0, 1.0, len(heights))

    def at(places: Array, line: int) -> Array:
        return np.interp(places / length, shares, heights[:, line])

    step = max(reach, 1.0)
    before, after = np.maximum(stations - step, 0.0), np.minimum(stations + step, length)
    pitch = np.arctan2(at(after, 1) - at(before, 1), np.maximum(after - before, 1e-9))
    roll = np.arctan2(at(stations, 0) - at(stations, 2), max(width, 1e-9)) if width > 0 else np.zeros(len(stations))
    c, s = np.cos(pitch)[:, None], np.sin(pitch)[:, None]
    pitched = frames.copy()
    pitched[:, :, 0] = c * frames[:, :, 0] + s * frames[:, :, 2]
    pitched[:, :, 2] = -s * frames[:, :, 0] + c * frames[:, :, 2]
    return rolled(pitched, -roll)


def _own_turn(run: Run, wander: dict[str, Array], count: int) -> Array | None:
    """The rider's own rotation (n, 3, 3) in its frame: yaw about up, pitch (front up) about left, roll about forward."""
    if not any(run.turn) and not {"yaw", "pitch", "roll"} & wander.keys():
        return None
    yaw, pitch, roll = (
        np.broadcast_to(angle + wander.get(axis, 0.0), count)
        for axis, angle in zip(("yaw", "pitch", "roll"), run.turn, strict=True)
    )
    own_turn: Array = scipy.spatial.transform.Rotation.from_euler(
        "ZYX", np.column_stack([yaw, -pitch, roll]), degrees=True
    ).as_matrix()
    return own_turn


def keyed_turns(keys: tuple[OrientationKey, ...], shares: Array, *, smooth: bool) -> Array:
    """Rotations (n, 3, 3) at shares (n,) of a path between keys; held before the first and after the last one."""
    places = np.array([key.place for key in keys])
    turns = scipy.spatial.transform.Rotation.from_quat(np.roll([key.rotation for key in keys], -1, axis=1))
    if len(keys) == 1:
        return np.broadcast_to(turns.as_matrix()[0], (len(shares), 3, 3))
    between = (
        scipy.spatial.transform.RotationSpline(places, turns)
        if smooth and len(keys) > 2
        else scipy.spatial.transform.Slerp(places, turns)
    )
    keyed_turns: Array = between(np.clip(shares, places[0], places[-1])).as_matrix()
    return keyed_turns


_PARTS = 16  # between two keys


def keyed_gauge(keys: tuple[OrientationKey, ...], *, smooth: bool) -> tuple[Array, Array]:
    """How far a keyed rotation has turned at most since the first key: shares (k,) of the path and rad (k,), between which it grows evenly.

    A rotation vector's rate bounds that of the rotation, as the exponential map's derivative has no value above 1; of SciPy's spline it is
    a square polynomial in each part, within the hull of its Bernstein coefficients.
    """
    places = np.array([key.place for key in keys])
    turns = scipy.spatial.transform.Rotation.from_quat(np.roll([key.rotation for key in keys], -1, axis=1))
    if len(keys) == 1:
        return np.array([0.0, 1.0]), np.zeros(2)
    if not (smooth and len(keys) > 2):
        return places, np.concatenate([[0.0], np.cumsum((turns[:-1].inv() * turns[1:]).magnitude())])
    vectors = scipy.spatial.transform.RotationSpline(places, turns).interpolator
    parts = np.unique(np.concatenate([np.linspace(a, b, _PARTS + 1) for a, b in pairwise(places)]))
    step = np.diff(parts)[:, None]
    first, last = vectors(parts[:-1], 1), vectors(np.nextafter(parts[1:], -np.inf), 1)
    controls = [first, first + 0.5 * step * vectors(parts[:-1], 2), last]
    fastest = np.max([np.linalg.norm(c, axis=1) for c in controls], axis=0)
    return parts, np.concatenate([[0.0], np.cumsum(fastest * step[:, 0])])


def _aimed_at(project: Project, orientation: TowardOrientation, times: Array, where: Where) -> Array:
    """What a heading points at (n, 3): a point, or the middle of a part."""
    if isinstance(orientation.aim, PointAim):
        return np.broadcast_to(np.array(orientation.aim.point), (len(times), 3))
    box = own_bounds(project, orientation.aim.part).mean(axis=0)
    poses = where(orientation.aim.part, times)
    centres: Array = poses[:, :3, :3] @ box + poses[:, :3, 3]
    return centres


def _toward(directions: Array, frames: Array) -> Array:
    """Frames (n, 3, 3) whose first axes are along ways (n, 3), their left level; those given where a way is nothing."""
    size = np.linalg.norm(directions, axis=1)
    forward = np.where(size[:, None] > 1e-6, directions / np.maximum(size, 1e-12)[:, None], frames[:, :, 0])
    flat = np.hypot(forward[:, 0], forward[:, 1])
    left = np.stack([-forward[:, 1], forward[:, 0], np.zeros(len(forward))], axis=1) / np.maximum(flat, 1e-12)[:, None]
    # straight up or down the path's own left is kept
    across = frames[:, :, 1] - np.einsum("ij,ij->i", frames[:, :, 1], forward)[:, None] * forward
    across /= np.maximum(np.linalg.norm(across, axis=1), 1e-12)[:, None]
    left = np.where(flat[:, None] > 1e-4, left, across)
    return np.stack([forward, left, np.cross(forward, left)], axis=-1)


def reference_matrix(project: Project, run: Run, pivot: Array) -> Array:
    """The matrix (4, 4) in the part's own coordinates of what sits on the path: the pivot, or it brought straight ahead to
    the front, back to the rear, to the middle of the underside, or to a picked point."""
    if run.reference == "pivot":
        return pivot
    box, reference_matrix = own_bounds(project, run.rider), pivot.copy()
    if run.reference == "point":
        reference_matrix[:3, 3] = run.reference_point
        return reference_matrix
    if run.reference == "bottom":
        reference_matrix[:3, 3] = *box.mean(axis=0)[:2], box[0, 2]
        return reference_matrix
    sense = 1.0 if run.reference == "front" else -1.0
    if isinstance(run.orientation, FixedOrientation):
        direction = sense * pivot[:3, 0]
    else:
        direction = sense * (-1.0 if run.orientation.flip else 1.0) * (pivot[:3, :3] @ AXES[run.orientation.forward])
    # straight ahead of the pivot, as far as the box reaches that way: the pivot's height and side are kept
    farthest = np.where(direction > 0, box[1], box[0])
    reference_matrix[:3, 3] += float((farthest - pivot[:3, 3]) @ direction) * direction
    return reference_matrix


@lru_cache(maxsize=64)
def body_axes(forward_axis: str, *, flip: bool, up_axis: str) -> Array:
    """The rider's own forward, left and up as columns (3, 3)."""
    forward = AXES[forward_axis] * (-1 if flip else 1)
    up = AXES[up_axis] if forward_axis[1] != up_axis[1] else AXES["+x"] if up_axis[1] != "x" else AXES["+z"]
    return np.stack([forward, np.cross(up, forward), up], axis=-1)
