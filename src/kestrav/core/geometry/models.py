"""A narrow door to coal: meshes as collision models, and one distance at a time."""

from __future__ import annotations

from functools import cache
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.geometry.meshes import Mesh
from kestrav.core.later import later
from kestrav.core.memo import Memo

if TYPE_CHECKING:
    import coal
else:
    coal = later("coal")

Array = NDArray[np.float64]

_models: Memo[Any] = Memo(16_384)


def model(mesh: Mesh) -> Any:
    """A bounding volume hierarchy (oriented boxes and swept spheres) over a mesh, kept by content hash: building is slow, and a product may
    be placed many times."""
    return _models.get((), lambda: built(mesh), mesh.hash)


def built(mesh: Mesh) -> Any:
    """A model of a mesh that is not kept by its content: of one that is used in one piece of work only."""
    tree = coal.BVHModelOBBRSS()
    tree.beginModel(len(mesh.triangles), len(mesh.vertices))
    tree.addVertices(np.ascontiguousarray(mesh.vertices, float))
    tree.addTriangles(np.ascontiguousarray(mesh.triangles, np.int64))
    tree.endModel()
    return tree


def placed(matrix: Array) -> Any:
    """A rigid (4, 4) matrix as coal's transform."""
    return coal.Transform3s(matrix[:3, :3], matrix[:3, 3])


@cache
def at_rest() -> Any:
    """Where a model is as it stands, as coal's transform."""
    return placed(np.eye(4))


@cache
def _request() -> Any:
    return coal.DistanceRequest()


class Nearest(msgspec.Struct, frozen=True):
    """Least distance in mm (0 when the surfaces cross) and where it is, in space; and on which triangle of the second model."""

    distance: float
    first: Array
    second: Array
    triangle: int = -1


def nearest(first: Any, at_first: Any, second: Any, at_second: Any, below: float = np.inf) -> Nearest | None:
    """The least distance between two models, or None when it is not under ``below`` mm.

    The bound is handed to coal's traversal, so far pairs are given up at once.
    """
    result = coal.DistanceResult()
    if np.isfinite(below):
        result.min_distance = below
    distance = coal.distance(first, at_first, second, at_second, _request(), result)
    if not distance < below:
        return None
    return Nearest(
        max(distance, 0.0),
        np.array(result.getNearestPoint1()),
        np.array(result.getNearestPoint2()),
        int(result.b2),
    )


def meets(first: Any, at_first: Array, second: Any, within: float = 0.0) -> bool:
    """Whether the surface of a model at a pose (4, 4) meets that of another one as it stands, or is as near as so many mm: several times
    quicker than to tell how near."""
    request, result = coal.CollisionRequest(coal.CollisionRequestFlag.NO_REQUEST, 1), coal.CollisionResult()
    request.security_margin = within
    return bool(coal.collide(first, placed(at_first), second, at_rest(), request, result))
