"""Watching the floor under what is placed by key poses: how far it digs in, and keys that keep it on the surface. Lengths in mm."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from functools import lru_cache

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.edits import update
from kestrav.core.document.lookup import get_as, solids
from kestrav.core.document.records import KeyPose, PoseTrack, Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.kinematics.ground import heights_below, standing
from kestrav.core.kinematics.key_poses import pivot_poses
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import segment_of
from kestrav.core.parts.placing import placement, shift
from kestrav.core.parts.rest import rest_poses, rows
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

_LOOK = 50.0  # mm above a point from which the surface below it is looked for
_MOST_POINTS = 300  # of a thing's hull that are watched
_MOST_KEYS = 40  # that are added at most
_AT_A_KEY = 1e-3  # s
_TOLD = 1e-3  # mm to which a key is raised beyond


@lru_cache(maxsize=256)
def hull_of(shape: Mesh) -> Array:
    """The corners (k, 3) of a solid's hull; all its vertices where it is flat."""
    points = np.unique(shape.vertices, axis=0)
    try:
        return np.asarray(points[scipy.spatial.ConvexHull(points).vertices])
    except scipy.spatial.QhullError:
        return points


def hull_points(project: Project, meshes: Mapping[str, Mesh], thing: str) -> Array:
    """The points (k, 3), in a thing's own coordinates, that are the outermost of it."""
    rest, row = rest_poses(project), rows(project)
    back = inverse_rigid(rest[row[thing]])
    hulls = [apply(back @ rest[row[p.id]], hull_of(solid_mesh(meshes, p))) for p in solids(project, thing)]
    if not hulls:
        return np.zeros((1, 3))
    points = np.concatenate(hulls)
    with contextlib.suppress(scipy.spatial.QhullError):
        points = points[scipy.spatial.ConvexHull(points).vertices]
    if len(points) > _MOST_POINTS:
        points = points[np.linspace(0, len(points) - 1, _MOST_POINTS).astype(int)]
    return np.asarray(points)


def depths(project: Project, meshes: Mapping[str, Mesh], thing: str, times: ArrayLike) -> tuple[Array, Array]:
    """How deep (n,) in mm a part's lowest point is in the floor, or in what stands there, at times (n,), and where (n, 3).

    Below 0 it is above all that lies within 50 mm under its points, or the floor.
    """
    times = np.asarray(times, float)
    points = apply(Motion(project).poses(thing, times), hull_points(project, meshes, thing))
    flat = points.reshape(-1, 3)
    met = heights_below(project, meshes, flat + np.array([0.0, 0.0, _LOOK]), standing(project))
    ground = np.maximum(np.where(met >= flat[:, 2] - _LOOK, met, -np.inf), np.where(flat[:, 2] > -_LOOK, 0.0, -np.inf))
    deep = (ground - flat[:, 2]).reshape(points.shape[:2])
    worst = np.argmax(deep, axis=1)
    each = np.arange(len(times))
    return deep[each, worst], points[each, worst]


def watched_times(project: Project, poses: PoseTrack) -> Array:
    """Times (n,) at which key poses are watched: two for each frame, and their keys."""
    segment = segment_of(project, poses)
    if not np.isfinite(segment.start):
        return np.empty(0)
    count = max(int(np.ceil(2 * project.settings.fps * (segment.end - segment.start))), 2)
    keys = segment.start + np.array([key.time for key in poses.keys])
    watched_times: Array = np.unique(np.concatenate([np.linspace(segment.start, segment.end, count + 1), keys]))
    return watched_times


def kept_on_surface(project: Project, meshes: Mapping[str, Mesh], poses_id: str, allowed: float) -> Project:
    """The project with the keys that keep what key poses place out of the floor, by more than ``allowed`` mm: one where it is deepest,
    raised by as much, and so on."""
    for _ in range(_MOST_KEYS):
        poses = get_as(project, poses_id, PoseTrack)
        times = watched_times(project, poses)
        if not len(times):
            return project
        deep, _ = depths(project, meshes, poses.rider, times)
        worst = int(np.argmax(deep))
        if deep[worst] <= allowed:
            return project
        since = float(times[worst]) - segment_of(project, poses).start
        project = update(project, poses_id, keys=_raised(poses, since, float(deep[worst]) + _TOLD))
    return project


def _raised(poses: PoseTrack, since: float, by: float) -> tuple[KeyPose, ...]:
    """Keys with the one at a time, or a new one there, raised."""
    there = placement(shift(np.array([0.0, 0.0, by])) @ pivot_poses(poses, [since])[0])
    keys = list(poses.keys)
    near = min(range(len(keys)), key=lambda k: abs(keys[k].time - since))
    if abs(keys[near].time - since) < _AT_A_KEY:
        keys[near] = msgspec.structs.replace(keys[near], placement=there)
    else:
        keys.append(KeyPose(since, there))
    return tuple(sorted(keys, key=lambda key: key.time))
