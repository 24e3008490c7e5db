"""Solids cut by a plane."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.manifolds import manifold
from kestrav.core.geometry.meshes import GRID, Mesh, mesh

Array = NDArray[np.float64]
_ON_THE_CUT = 4 * GRID


def cut_by(shape: Mesh, point: ArrayLike, normal: ArrayLike) -> Mesh | None:
    """What of a mesh lies on the side that a plane's normal points away from; None where nothing does.

    A closed solid is closed again where it was cut, by Manifold; of others, and of those that are no manifolds, the surface alone is left.
    Tints and places on pictures stay where they were; faces of the cut have the part's own colour, and no place (nan) on pictures.
    """
    away = np.asarray(normal, float) / max(float(np.linalg.norm(normal)), 1e-12)
    ahead = (shape.vertices - np.asarray(point, float)) @ away
    if (ahead <= 0).all():
        return shape
    if (ahead >= 0).all():
        return None
    solid = manifold(shape) if shape.watertight else None
    if solid is None:
        return _surface_left(shape, point, away)
    # what is kept is on the side that its own normal points to
    left = solid.trim_by_plane(tuple(-away), -float(np.asarray(point, float) @ away))
    if left.is_empty():
        return None
    cut = left.to_mesh64()
    whole = mesh(np.asarray(cut.vert_properties)[:, :3], np.asarray(cut.tri_verts, np.int32))
    if shape.uv is None and shape.tint_of is None:
        return whole
    surface = _surface_left(shape, point, away)
    return whole if surface is None else _closed(surface, whole, point, away)


def _surface_left(shape: Mesh, point: ArrayLike, away: Array) -> Mesh | None:
    """What of a mesh's surface is left, with its looks."""
    from trimesh import intersections

    slice_faces: Any = intersections.slice_faces_plane  # it tells no types
    count = len(shape.triangles)
    tint = np.zeros(count) if shape.tint_of is None else shape.tint_of
    uv = np.zeros((count, 3, 2)) if shape.uv is None else shape.uv
    # numbers at the corners of triangles of their own: what is alike at all three of them stays so
    looks = np.concatenate([uv, np.repeat(tint, 3).reshape(count, 3, 1)], axis=2).reshape(-1, 3)
    corners = shape.vertices[shape.triangles].reshape(-1, 3)
    with np.errstate(invalid="ignore"):
        # where the plane goes through a corner, a triangle without area has no normal
        points, faces, looks = slice_faces(
            corners, np.arange(3 * count).reshape(-1, 3), -away, np.asarray(point, float), uv=looks
        )
    if not len(faces):
        return None
    on = looks[faces]
    tint_of = None if shape.tint_of is None else np.rint(on[:, 0, 2]).astype(np.int32)
    return mesh(points, faces, (), None, shape.tints, tint_of, None if shape.uv is None else on[:, :, :2])


def _closed(surface: Mesh, whole: Mesh, point: ArrayLike, away: Array) -> Mesh:
    """A surface that was cut, with what closes it of the same solid without looks."""
    ahead = np.abs((whole.vertices - np.asarray(point, float)) @ away)
    faces = whole.triangles[(ahead[whole.triangles] < _ON_THE_CUT).all(axis=1)]
    tints, tint_of, uv = surface.tints, surface.tint_of, surface.uv
    if tint_of is not None:
        tints = tints if "" in tints else (*tints, "")
        tint_of = np.concatenate([tint_of, np.full(len(faces), tints.index(""), np.int32)])
    if uv is not None:
        uv = np.concatenate([uv, np.full((len(faces), 3, 2), np.nan, np.float32)])
    points = np.concatenate([surface.vertices, whole.vertices])
    triangles = np.concatenate([surface.triangles, faces + len(surface.vertices)])
    return mesh(points, triangles, (), None, tints, tint_of, uv)
