"""How deep two solids overlap: the least straight way that takes them apart. Lengths in mm.

This is the translational penetration depth (S. Cameron and R. Culley, "Determining the minimum translational distance between two
convex polyhedra", ICRA 1986), looked for along the normals of the faces that cross and the 26 directions between neighbouring axes; of
solids that are not convex it is the nearest place at which they are free along these.
"""

from __future__ import annotations

import itertools
from functools import cache
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.geometry.meshes import Mesh, encloses
from kestrav.core.geometry.models import at_rest, placed
from kestrav.core.geometry.transforms import apply, inverse_rigid, rigid
from kestrav.core.later import later

if TYPE_CHECKING:
    import coal
else:
    coal = later("coal")

Array = NDArray[np.float64]

_EXACT = 2e-5  # mm, to which the way is narrowed down
_DIGITS = 4
_FIRST = 0.01  # mm, the first way tried; it is doubled from there
_CROSSINGS = 24  # pairs of triangles that cross whose normals are tried
_ALIKE = 0.9999  # cosine above which two directions are one
_GRID = np.array([s for s in itertools.product((-1.0, 0.0, 1.0), repeat=3) if any(s)])
_GRID /= np.linalg.norm(_GRID, axis=1, keepdims=True)


class Solid(msgspec.Struct, frozen=True):
    """A mesh with its collision model, and whether it closes a volume."""

    shape: Mesh
    model: Any
    closed: bool


class Overlap(msgspec.Struct, frozen=True):
    """How deep two solids overlap in mm, and the direction (3,) along which the first one leaves the second by that."""

    depth: float
    direction: Array


def overlap_of(one: Solid, at_one: Array, two: Solid, at_two: Array) -> Overlap:
    """How deep the first solid at a pose (4, 4) overlaps the second at another; 0 where they are apart."""
    seen = inverse_rigid(at_two) @ at_one

    def free(direction: Array) -> bool:
        moved = rigid(np.eye(3), direction) @ seen
        return not _meet(one.model, placed(moved), two.model) and not _holds(one, moved, two)

    if free(np.zeros(3)):
        return Overlap(0.0, np.array([0.0, 0.0, 1.0]))
    turn = at_two[:3, :3]
    directions = _directions(one, seen, two)
    most = _size(one) + _size(two)
    best, best_direction = most, directions[0]
    for direction in directions:
        # what is not free a little before the best so far is no better
        if best < most and not free((best - _EXACT) * direction):
            continue
        overlap = _until_free(free, direction, best)
        if overlap < best:
            best, best_direction = overlap, direction
    return Overlap(round(best, _DIGITS), turn @ best_direction)


def _until_free(free: Any, direction: Array, most: float) -> float:
    low, high = 0.0, min(_FIRST, most)
    while not free(high * direction):
        if high >= most:
            return np.inf
        low, high = high, min(2.0 * high, most)
    while high - low > _EXACT:
        middle = 0.5 * (low + high)
        low, high = (low, middle) if free(middle * direction) else (middle, high)
    return high


@cache
def _one_contact() -> Any:
    return coal.CollisionRequest(coal.CollisionRequestFlag.NO_REQUEST, 1)


def _meet(one: Any, at: Any, two: Any) -> bool:
    return bool(coal.collide(one, at, two, at_rest(), _one_contact(), coal.CollisionResult()))


def _holds(one: Solid, seen: Array, two: Solid) -> bool:
    """Whether one of two solids whose surfaces do not meet lies inside the other."""
    inner = apply(seen, one.shape.vertices[:1])[0]
    if two.closed and _in_box(two.shape.bounds, inner) and encloses(two.shape, inner):
        return True
    inner = apply(inverse_rigid(seen), two.shape.vertices[:1])[0]
    return one.closed and _in_box(one.shape.bounds, inner) and encloses(one.shape, inner)


def _in_box(bounds: Array, place: Array) -> bool:
    return bool((place > bounds[0]).all() and (place < bounds[1]).all())


def _size(solid: Solid) -> float:
    return float(np.linalg.norm(np.ptp(solid.shape.bounds, axis=0)))


def _directions(one: Solid, seen: Array, two: Solid) -> list[Array]:
    """Directions worth trying, in the second solid's coordinates: normals of faces that cross, and those between axes."""
    request = coal.CollisionRequest(coal.CollisionRequestFlag.NO_REQUEST, _CROSSINGS)
    result = coal.CollisionResult()
    coal.collide(one.model, placed(seen), two.model, at_rest(), request, result)
    pairs = np.array([(c.b1, c.b2) for c in result.getContacts()], int).reshape(-1, 2)
    mine = -_normals(one.shape, np.unique(pairs[:, 0])) @ seen[:3, :3].T
    theirs = _normals(two.shape, np.unique(pairs[:, 1]))
    rest = (*_GRID, *(_GRID @ seen[:3, :3].T))
    directions: list[Array] = []
    for direction in (*mine, *theirs, *rest):
        if not directions or np.max(np.array(directions) @ direction) < _ALIKE:
            directions.append(direction)
    return directions


def _normals(shape: Mesh, triangles: NDArray[np.int_]) -> Array:
    a, b, c = (shape.vertices[shape.triangles[triangles, k]] for k in range(3))
    across = np.cross(b - a, c - a)
    normals: Array = across / np.linalg.norm(across, axis=1, keepdims=True)
    return normals
