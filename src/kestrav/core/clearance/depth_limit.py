"""Whether two solids are in each other deeper than allowed, at many poses at once. Lengths in mm.

Three looks, each dearer than the one before, and each for what the one before leaves open. None is too deep where their boxes are apart.
None is where a plane that one of the solids lies behind has no more than the allowed depth of the other one behind it: from there
the way out along its normal is no longer. And none is where neither solid, drawn in by what is allowed, meets the other: no point of a
surface is farther from the drawn-in one than that. What is left is measured.
"""

from __future__ import annotations

from functools import cached_property, lru_cache
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.alike import spread
from kestrav.core.clearance.depth import Solid
from kestrav.core.clearance.interference import Interference, deeper_than, interference_of
from kestrav.core.geometry.meshes import Mesh, box_corners, box_distances, encloses_each, turned_bounds
from kestrav.core.geometry.models import at_rest, built, meets, nearest, placed
from kestrav.core.geometry.skin import drawn_in
from kestrav.core.geometry.transforms import inverse_rigid

Array = NDArray[np.float64]

_PLANES = 12  # of a convex hull that are tried, the largest first
_FEW = 16  # poses, for which all planes are tried together
_AT_ONCE = 4_000_000  # heights that are worked out together
_LOOKED, _FEWEST = 100_000, 40  # triangles looked at in all, and poses at least
_HAIR = 1e-3  # mm


class DepthLimit(msgspec.Struct, frozen=True, eq=False, dict=True):
    """Two solids that may be in each other up to a depth in mm."""

    one: Solid
    two: Solid
    allowed: float

    def separation(self, seen: Array) -> Array:
        """By how much in mm (n,) boxes and planes tell that the first solid is less deep than allowed at least at poses (n, 4, 4), as seen
        by the second; 0 where they do not tell that it is no deeper."""
        room = np.zeros(len(seen))
        gaps = box_distances(turned_bounds(self.one.shape.bounds, seen), self.two.shape.bounds)
        room[gaps > 0] = self.allowed + gaps[gaps > 0]
        left = np.flatnonzero(gaps <= 0)
        if 0 < len(left) <= _FEW:
            room[left] = np.maximum(self.allowed - self._behind(seen[left]), 0.0)
            return room
        for plane in self._planes:
            if not len(left):
                break
            separations = self.allowed - plane.behind(seen[left])
            room[left] = np.maximum(separations, 0.0)
            left = left[separations <= 0]
        return room

    def too_deep(self, seen: Array) -> NDArray[np.intp]:
        """The numbers of those poses (n, 4, 4) of the first solid as seen by the second at which it is deeper than allowed.

        Of meshes that are large, so that a look takes long, only some of many poses are looked at; all are where one of these is too deep.
        """
        left = np.flatnonzero(self.separation(seen) <= 0)
        some = left[spread(seen[left], self.one.shape.bounds, _HAIR, self.looks)]
        deeper = self._deeper_of(seen, np.sort(some))
        return deeper if len(some) == len(left) or not len(deeper) else self._deeper_of(seen, left)

    @property
    def looks(self) -> int:
        """How many poses may be looked at closely, by how large the meshes are."""
        return max(_LOOKED // (len(self.one.shape.triangles) + len(self.two.shape.triangles)), _FEWEST)

    def _deeper_of(self, seen: Array, left: NDArray[np.intp]) -> NDArray[np.intp]:
        doubtful = left[~self.clear(seen[left])]
        deeper = [k for k in doubtful if deeper_than(self.one, seen[k], self.two, self.allowed)]
        return np.array(deeper, np.intp)

    def room(self, seen: Array, enough: float = np.inf) -> float:
        """By how much in mm planes and the solids drawn in tell that they are less deep than allowed at least, the first one being seen by
        the second at a pose (4, 4), or ``enough`` if that is less; 0 where they do not tell that it is allowed."""
        room = self.allowed - float(self._behind(seen[None])[0])
        if room > 0:
            return float(min(room, enough))
        least = enough
        for inner, outer, there in ((self.one, self.two, seen), (self.two, self.one, inverse_rigid(seen))):
            thin, model = _thinned(inner.shape, self.allowed)
            distance = nearest(model, placed(there), outer.model, at_rest(), least)
            least = least if distance is None else distance.distance
            if least <= 0 or enclosed(thin, there[None], outer)[0]:
                return 0.0
        return least

    def measured(self, seen: Array) -> Interference:
        """The interference at a pose (4, 4), its place as the second one sees it."""
        return interference_of(self.one, seen, self.two, np.eye(4))

    def clear(self, seen: Array, spare: float = 0.0) -> NDArray[np.bool_]:
        """At which of poses (n, 4, 4) neither solid drawn in meets the other, nor comes as near as a spare in mm: there they are less deep
        than allowed, by so much."""
        clear = np.ones(len(seen), bool)
        for inner, outer, there in ((self.one, self.two, seen), (self.two, self.one, inverse_rigid(seen))):
            thin, model = _thinned(inner.shape, self.allowed)
            for k in np.flatnonzero(clear):
                clear[k] = not meets(model, there[k], outer.model, spare)
            left = np.flatnonzero(clear)
            clear[left] = ~enclosed(thin, there[left], outer)
        return clear

    def skins_clear(self, seen: Array) -> bool:
        """Whether the surface of neither solid drawn in crosses that of the other at a pose (4, 4): enough where they came there little by
        little."""
        return not any(
            meets(_thinned(inner.shape, self.allowed)[1], there, outer.model)
            for inner, outer, there in ((self.one, self.two, seen), (self.two, self.one, inverse_rigid(seen)))
        )

    def _behind(self, seen: Array) -> Array:
        """How far (n,) either solid reaches behind that plane of the other that it reaches least behind, at poses (n, 4, 4)."""
        mine, theirs = (_hull(solid.shape) for solid in (self.one, self.two))
        each = ((theirs[1], mine[0], seen), (mine[1], theirs[0], inverse_rigid(seen)))
        behind: Array = np.min([_behind(planes, corners, there).min(axis=1) for planes, corners, there in each], axis=0)
        return behind

    @cached_property
    def _planes(self) -> list[_Plane]:
        mine, theirs = (_hull(solid.shape) for solid in (self.one, self.two))
        planes = [_Plane(plane, mine[0], of_second=True) for plane in theirs[1]]
        return [*planes, *(_Plane(plane, theirs[0], of_second=False) for plane in mine[1])]


class _Plane(msgspec.Struct, frozen=True, eq=False):
    """A plane (4,: outward normal and distance from the origin) that one solid lies behind, with the corners (k, 3) of the other."""

    plane: Array
    corners: Array
    of_second: bool

    def behind(self, seen: Array) -> Array:
        """How far (n,) the other solid reaches behind it, the first one at poses (n, 4, 4) as seen by the second."""
        there = seen if self.of_second else inverse_rigid(seen)
        behind = np.empty(len(seen))
        step = max(_AT_ONCE // len(self.corners), 1)
        for k in range(0, len(seen), step):
            behind[k : k + step] = _behind(self.plane[None], self.corners, there[k : k + step])[:, 0]
        return behind


def _behind(planes: Array, corners: Array, there: Array) -> Array:
    """How far (n, p) corners (k, 3) at poses (n, 4, 4) reach behind planes (p, 4)."""
    normals = planes[:, :3] @ there[:, :3, :3]
    far = planes[:, 3] - there[:, :3, 3] @ planes[:, :3].T
    # one product of all of them takes an eighth of the time of many small ones
    least = (normals.reshape(-1, 3) @ corners.T).min(axis=1)
    behind: Array = far - least.reshape(far.shape)
    return behind


# by identity of the mesh; a cache of the work and not of the result
@lru_cache(maxsize=1024)
def _hull(shape: Mesh) -> tuple[Array, Array]:
    """The corners (k, 3) of a mesh's convex hull, and its largest planes (p, 4); of a flat mesh those of its box."""
    import trimesh

    try:
        hull = trimesh.convex.convex_hull(shape.vertices)
        corners, normals = np.asarray(hull.vertices), np.asarray(hull.face_normals)
        areas = np.asarray(hull.area_faces)
    except Exception:  # qhull's own errors, of what has no thickness
        corners, normals, areas = box_corners(shape.bounds), np.vstack([np.eye(3), -np.eye(3)]), np.ones(6)
    far = (corners @ normals.T).max(axis=0)
    alike, which = np.unique(np.round(np.column_stack([normals, far]), 6), axis=0, return_inverse=True)
    order = np.argsort(-np.bincount(which.reshape(-1), weights=areas))[:_PLANES]
    # the rounding must not bring a plane nearer
    alike[:, :3] /= np.linalg.norm(alike[:, :3], axis=1, keepdims=True)
    alike[:, 3] = (corners @ alike[:, :3].T).max(axis=0)
    return corners, alike[order]


@lru_cache(maxsize=1024)
def _thinned(shape: Mesh, by: float) -> tuple[Mesh, Any]:
    """A mesh drawn in, and its collision model."""
    thin = drawn_in(shape, by)
    return thin, built(thin)


def enclosed(inner: Mesh, there: Array, outer: Solid) -> NDArray[np.bool_]:
    """At which of poses (n, 4, 4) a mesh, whose surface does not meet that of a closed solid, has a piece inside it."""
    inside = np.zeros(len(there), bool)
    if not outer.closed:
        return inside
    low, high = outer.shape.bounds
    for piece in inner.pieces:
        points = there[:, :3, :3] @ piece + there[:, :3, 3]
        within = np.flatnonzero((points > low).all(axis=1) & (points < high).all(axis=1) & ~inside)
        inside[within] = encloses_each(outer.shape, points[within])
    return inside


def nested(one: Solid, seen: Array, two: Solid) -> bool:
    """Whether one of two solids whose surfaces do not meet lies inside the other, the first one seen by the second at a pose (4, 4)."""
    return bool(enclosed(one.shape, seen[None], two)[0] or enclosed(two.shape, inverse_rigid(seen)[None], one)[0])
