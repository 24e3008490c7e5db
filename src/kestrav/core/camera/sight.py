"""Lines of sight: from where a place can be seen."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.lookup import shown_parts
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import apply
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

_CLEAR = 0.5  # mm from the place at which rays begin, so that the surface it lies on does not hide it


def free_lengths(
    project: Project, meshes: Mapping[str, Mesh], poses: Array, place: ArrayLike, directions: ArrayLike
) -> Array:
    """How far (n,) one sees from a place (3,) along unit directions (n, 3); infinite where nothing is.

    ``poses`` are world matrices (parts, 4, 4). See-through parts hide nothing.
    """
    directions = np.asarray(directions, float)
    vertices, triangles, count = [], [], 0
    shown = shown_parts(project)
    for row, part in enumerate(project.parts):
        if part.geometry is None or part.opacity < 1 or part.id not in shown:
            continue
        shape = solid_mesh(meshes, part)
        vertices.append(apply(poses[row], shape.vertices))
        triangles.append(shape.triangles + count)
        count += len(shape.vertices)
    lengths = np.full(len(directions), np.inf)
    if not vertices:
        return lengths
    import trimesh
    from trimesh.ray.ray_pyembree import RayMeshIntersector

    body = trimesh.Trimesh(np.concatenate(vertices), np.concatenate(triangles), process=False)
    origins = np.asarray(place, float) + _CLEAR * directions
    hits, rays, _ = RayMeshIntersector(body).intersects_location(origins, directions, multiple_hits=False)
    lengths[rays] = np.linalg.norm(hits - np.asarray(place, float), axis=1)
    return lengths


def best_sight(
    project: Project,
    meshes: Mapping[str, Mesh],
    poses: Array,
    place: ArrayLike,
    gap: ArrayLike | None,
    preferred: ArrayLike,
    distance: float,
) -> Array:
    """The unit direction (3,) from a place towards the viewer who sees it best.

    Nothing must hide the place within ``distance`` mm; a ``gap`` (2, 3) is to be seen from the side, where
    it is longest; and the viewer should move as little from the ``preferred`` direction as can be.
    """
    azimuths, heights = np.meshgrid(np.radians(np.arange(0, 360, 7.5)), np.radians([-20, 0, 15, 30, 45, 60, 75]))
    directions = np.stack(
        [np.cos(heights) * np.cos(azimuths), np.cos(heights) * np.sin(azimuths), np.sin(heights)], axis=-1
    ).reshape(-1, 3)
    free = np.minimum(free_lengths(project, meshes, poses, place, directions), distance) / distance
    nearness = directions @ np.asarray(preferred, float)
    sideways = np.ones(len(directions))
    if gap is not None:
        along = np.subtract(*np.asarray(gap, float))
        length = np.linalg.norm(along)
        if length > 1e-9:
            sideways = np.sqrt(np.maximum(1.0 - (directions @ (along / length)) ** 2, 0.0))
    best: Array = directions[int(np.argmax(4.0 * free + 2.0 * sideways + nearness))]
    return best
