"""How fast a camera goes and turns, and how fast what it looks at crosses the frame. Angles in rad, lengths in mm."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.lens import extent
from kestrav.core.camera.obstacles import bodies
from kestrav.core.camera.subject import Subject
from kestrav.core.camera.views import Views, views
from kestrav.core.document.records import Camera, Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import inverse_rigid

Array = NDArray[np.float64]

_STEP = 1e-3  # s around a moment over which rates are looked at


def rates(
    project: Project, meshes: Mapping[str, Mesh], camera: Camera, times: Array, aspect: float
) -> tuple[Array, Array, Array]:
    """Speeds (n,) in mm/s, rates of turning the look (n,) in rad/s, and the angular velocities (n, 3) of that, at times (n,)."""
    around = np.concatenate([np.maximum(times - _STEP, 0.0), times + _STEP])
    seen = views(project, meshes, camera, around, aspect=aspect)
    count = len(times)
    spans = around[count:] - around[:count]
    speed = np.linalg.norm(seen.position[count:] - seen.position[:count], axis=1) / spans
    before, after = seen.forward[:count], seen.forward[count:]
    axis = np.cross(before, after)
    # by the tangent, which small angles tell well
    angle = np.arctan2(np.linalg.norm(axis, axis=1), np.einsum("ij,ij->i", before, after))
    size = np.linalg.norm(axis, axis=1, keepdims=True)
    turning = np.where(size > 0, axis / np.maximum(size, 1e-300), 0.0) * (angle / spans)[:, None]
    return speed, angle / spans, turning


def rolls(seen: Views) -> Array:
    """How far (n,) the horizon is rolled, in rad: that of the picture's right against level; 0 looking straight up or down."""
    forward = seen.forward
    right = np.cross(forward, seen.up)
    level = np.hypot(forward[:, 0], forward[:, 1])
    return np.where(level > 1e-6, np.arcsin(np.clip(right[:, 2], -1.0, 1.0)), 0.0)


def depths_ahead(project: Project, meshes: Mapping[str, Mesh], seen: Views, poses: Array) -> Array:
    """How far (n,) there is nothing in the middle of the picture, under world poses (n, parts, 4, 4)."""
    depths_ahead = np.full(len(poses), np.inf)
    forward = seen.forward
    for body in bodies(project, meshes):
        if body.opaque is None:
            continue
        back = inverse_rigid(body.poses(poses))
        starts = np.einsum("nij,nj->ni", back[:, :3, :3], seen.position) + back[:, :3, 3]
        directions = np.einsum("nij,nj->ni", back[:, :3, :3], forward)
        depths_ahead = np.minimum(depths_ahead, body.opaque.reach(starts, directions))
    return depths_ahead


def crossing_times(
    project: Project,
    meshes: Mapping[str, Mesh],
    camera: Camera,
    subject: Subject | None,
    times: Array,
    seen: Views,
    poses: Array,
    aspect: float,
) -> Array:
    """How long (n,) in s what is in the middle of the picture would take to cross the frame at the rate of the moment.

    Of a subject that the camera looks at it is the subject, wherever it moves; else what lies in the middle there and
    then, taken to stand still.
    """
    around = np.concatenate([np.maximum(times - _STEP, 0.0), times + _STEP])
    count = len(times)
    views_around = views(project, meshes, camera, around, aspect=aspect)
    spans = around[count:] - around[:count]
    if subject is not None:
        ends = _middles(subject, project, around)
        one, two = ends[:count], ends[count:]
    else:
        depth = np.minimum(depths_ahead(project, meshes, seen, poses), 1e6)
        one = two = seen.position + depth[:, None] * seen.forward
    places = []
    for rows, place in ((slice(0, count), one), (slice(count, None), two)):
        forward, up = views_around.forward[rows], views_around.up[rows]
        offset = place - views_around.position[rows]
        right = np.cross(forward, up)
        away = np.einsum("ij,ij->i", offset, forward)
        away = np.ones(count) if camera.parallel else np.where(np.abs(away) < 1e-6, 1e-6, away)
        places.append(
            np.stack([np.einsum("ij,ij->i", offset, right) / away, np.einsum("ij,ij->i", offset, up) / away], axis=1)
        )
    moved = np.abs(places[1] - places[0]) / spans[:, None]
    half = seen.half_height(camera, aspect, 1.0)
    frame = np.stack([2 * half * aspect, 2 * half], axis=1)
    with np.errstate(divide="ignore"):
        return np.asarray(np.min(frame / np.maximum(moved, 1e-12), axis=1))


def _middles(subject: Subject, project: Project, times: Array) -> Array:
    return np.asarray(0.5 * np.add(*extent(subject.places_at(project, times))))
