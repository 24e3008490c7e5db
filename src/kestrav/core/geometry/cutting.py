"""Solids cut by a plane."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from kestrav.core.geometry.manifolds import manifold
from kestrav.core.geometry.meshes import Mesh, mesh


def cut_by(shape: Mesh, point: ArrayLike, normal: ArrayLike) -> Mesh | None:
    """What of a mesh lies on the side that a plane's normal points away from; None where nothing does.

    A closed solid is closed again where it was cut, by Manifold; of others, and of those that are no manifolds, the surface alone is left.
    """
    away = np.asarray(normal, float) / max(float(np.linalg.norm(normal)), 1e-12)
    ahead = (shape.vertices - np.asarray(point, float)) @ away
    if (ahead <= 0).all():
        return shape
    if (ahead >= 0).all():
        return None
    solid = manifold(shape) if shape.watertight else None
    if solid is not None:
        # what is kept is on the side that its own normal points to
        left = solid.trim_by_plane(tuple(-away), -float(np.asarray(point, float) @ away))
        if left.is_empty():
            return None
        found = left.to_mesh64()
        return mesh(np.asarray(found.vert_properties)[:, :3], np.asarray(found.tri_verts, np.int32))
    from trimesh import intersections

    slice_mesh: Any = intersections.slice_mesh_plane  # it tells no types
    with np.errstate(invalid="ignore"):
        # where the plane goes through a corner, a triangle without area has no normal
        cut = slice_mesh(shape.body, -away, np.asarray(point, float))
    return mesh(cut.vertices, cut.faces) if len(cut.faces) else None
