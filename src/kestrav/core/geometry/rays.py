"""Rays against meshes: which triangle a ray meets first. Lengths in mm."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.later import later
from kestrav.core.memo import Memo

embree_meshes, embree_scenes = later("embreex.mesh_construction"), later("embreex.rtcore_scene")
Array = NDArray[np.float64]

_BOX_SLACK = 1e-6  # mm
_KEPT = 4096


class Hit(msgspec.Struct, frozen=True):
    """The body met, its triangle, how far along the ray in mm, and the place (3,) in space."""

    body: int
    triangle: int
    distance: float
    place: Array


class Tree:
    """Embree's tree over a mesh, scaled to a size at which single precision does well."""

    def __init__(self, shape: Mesh) -> None:
        low, high = shape.bounds
        self.middle = 0.5 * (low + high)
        self.scale = 100.0 / max(float(np.linalg.norm(high - low)), 1e-9)
        self.scene = embree_scenes.EmbreeScene()
        embree_meshes.TriangleMesh(
            self.scene, ((shape.vertices - self.middle) * self.scale).astype(np.float32), shape.triangles
        )

    def first(self, origins: Array, directions: Array) -> NDArray[np.int64]:
        """The triangle first met by each ray, or -1."""
        starts = ((origins - self.middle) * self.scale).astype(np.float32)
        return np.asarray(self.scene.run(starts, directions.astype(np.float32)), np.int64)

    def reach(self, origins: Array, directions: Array) -> Array:
        """How far (n,) rays go along unit directions before they meet it, in single precision; infinite where they do not."""
        starts = ((origins - self.middle) * self.scale).astype(np.float32)
        distances = np.asarray(self.scene.run(starts, directions.astype(np.float32), query="DISTANCE"), float)
        # embree says 1e37 where nothing is met
        return np.where(distances < 1e30, distances / self.scale, np.inf)


_trees: Memo[Tree] = Memo(4096)


def tree(shape: Mesh) -> Tree:
    """Embree's tree over a mesh, kept by content hash."""
    return _trees.get((), lambda: Tree(shape), shape.hash)


def first_hits(shape: Mesh, origins: ArrayLike, directions: ArrayLike) -> tuple[Array, NDArray[np.int64]]:
    """Distances (n,) along unit directions and triangles (n,) first met; infinite and -1 where none is.

    Embree works in single precision; the distance is that to the triangle's plane in double.
    """
    origins = np.asarray(origins, float).reshape(-1, 3)
    directions = np.broadcast_to(np.asarray(directions, float), origins.shape)
    # rays begin near the mesh, where single precision tells places apart
    low, high = shape.bounds
    near, _ = box_spans(origins, directions, np.stack([low, high])[None])
    ahead = np.where(np.isfinite(near[:, 0]), np.maximum(near[:, 0] - 1.0, 0.0), 0.0)
    triangles = tree(shape).first(origins + ahead[:, None] * directions, directions)
    distances = np.full(len(origins), np.inf)
    met = np.flatnonzero(triangles >= 0)
    if len(met):
        corners = shape.vertices[shape.triangles[triangles[met]]]
        normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        slope = np.einsum("ij,ij->i", directions[met], normal)
        height = np.einsum("ij,ij->i", corners[:, 0] - origins[met], normal)
        with np.errstate(divide="ignore", invalid="ignore"):
            exact = height / slope
        distances[met] = np.where(np.isfinite(exact), exact, np.inf)
    triangles[~np.isfinite(distances)] = -1
    return distances, triangles


def box_spans(origins: Array, directions: Array, boxes: Array) -> tuple[Array, Array]:
    """Where rays (n,) enter and leave boxes (k, 2, 3): (n, k) each; entry is infinite where they miss.

    The slab method (T. Kay, J. Kajiya, "Ray tracing complex scenes", SIGGRAPH 1986).
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        inverse = 1.0 / directions[:, None, :]
        first = (boxes[None, :, 0] - _BOX_SLACK - origins[:, None]) * inverse
        second = (boxes[None, :, 1] + _BOX_SLACK - origins[:, None]) * inverse
    near = np.fmax.reduce(np.fmin(first, second), axis=2)
    far = np.fmin.reduce(np.fmax(first, second), axis=2)
    missed = (near > far) | (far < 0)
    return np.where(missed, np.inf, np.maximum(near, 0.0)), np.where(missed, -np.inf, far)


def cast(
    origin: ArrayLike,
    direction: ArrayLike,
    shapes: Sequence[Mesh],
    poses: ArrayLike,
    boxes: ArrayLike,
    clip: tuple[Array, Array] | None = None,
) -> Hit | None:
    """The first triangle that one ray meets among meshes under rigid poses (k, 4, 4) with bounds (k, 2, 3).

    ``clip`` is a point and normal of a plane; what lies on the side that the normal shows is not there.
    """
    origin, direction = np.asarray(origin, float), np.asarray(direction, float)
    start = 0.0
    if clip is not None:
        point, normal = clip
        height, slope = float((origin - point) @ normal), float(direction @ normal)
        if height > 0:
            if slope >= 0:
                return None
            start = height / -slope
    poses, boxes = np.asarray(poses, float), np.asarray(boxes, float)
    near, far = box_spans(origin[None], direction[None], boxes)
    best: Hit | None = None
    for body in np.argsort(near[0]):
        entry = max(float(near[0, body]), start)
        if not np.isfinite(near[0, body]) or (best is not None and entry > best.distance):
            break
        if far[0, body] < start:
            continue
        back = inverse_rigid(poses[body])
        begin = apply(back, (origin + start * direction)[None])
        distance, triangle = first_hits(shapes[body], begin, (back[:3, :3] @ direction)[None])
        if triangle[0] < 0:
            continue
        reach = start + float(distance[0])
        # what is met beyond the plane that cuts the view is cut away
        if clip is not None and float((origin + reach * direction - clip[0]) @ clip[1]) > _BOX_SLACK:
            continue
        if best is None or reach < best.distance:
            best = Hit(int(body), int(triangle[0]), reach, origin + reach * direction)
    return best
