"""Closed meshes as manifolds, for what is worked out with whole solids (the library Manifold)."""

from __future__ import annotations

import atexit
from functools import lru_cache
from typing import Any

import numpy as np

from kestrav.core.geometry.meshes import Mesh

_KEPT = 256


# by identity of the mesh; a cache of the work and not of the result
@lru_cache(maxsize=_KEPT)
def manifold(shape: Mesh) -> Any | None:
    """A closed mesh as a manifold; None where it is none, as where it crosses itself along an edge."""
    import manifold3d

    body = shape.body
    triangles = np.ascontiguousarray(body.faces, np.uint64)
    if float(body.volume) < 0:
        triangles = np.ascontiguousarray(triangles[:, ::-1])
    solid = manifold3d.Manifold(manifold3d.Mesh64(np.ascontiguousarray(body.vertices, float), triangles))
    sound = solid.status() == manifold3d.Error.NoError and not solid.is_empty()
    return solid.as_original() if sound else None


# what is kept to the very end would be told as leaked
atexit.register(manifold.cache_clear)
