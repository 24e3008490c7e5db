"""How solids interfere: the greatest depth of one's surface inside the other, and the volume that they share. Lengths in mm.

What two closed solids share is worked out by Manifold (its guaranteed-manifold booleans: J. Smith and N. Dodgson, "A topologically
robust algorithm for Boolean operations on polyhedral shapes using approximate arithmetic", Computer-Aided Design 39(2), 2007). Its
surface consists of the parts of both surfaces that lie inside the other solid; over these the distance to the other's surface is
maximised, triangle by triangle: the distance to one triangle is convex, so over another one it is greatest at a corner.
Open meshes enclose nothing; of them the least straight way apart is told instead.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.depth import Solid, overlap_of
from kestrav.core.geometry.manifolds import manifold
from kestrav.core.geometry.models import at_rest, nearest, placed
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.later import later
from kestrav.core.memo import Memo

if TYPE_CHECKING:
    import coal
else:
    coal = later("coal")

Array = NDArray[np.float64]

_SHARE, _EXACT = 0.01, 5e-3  # to which a depth is told: of itself, or in mm, whichever is more
_DIGITS = 4
_MOST_LOOKS = 400  # distances that are measured for one depth, at most, besides those of a first look
_AT_ONCE = 48  # pieces that are cut together, those first that may be deepest
_NOTHING = 1e-9  # mm³
_HAIR = 1e-7  # mm
_COPLANAR = 1.0 - 1e-9  # cosine between normals
_KEPT = 256  # shapes, and places of two shapes to each other

_depths: Memo[Interference] = Memo(_KEPT)


class Interference(msgspec.Struct, frozen=True):
    """How deep in mm the surface of one of two solids goes into the other at most, the volume in mm³ that they share (None where a mesh
    is open), and the deepest place (3,) in space."""

    depth: float
    volume: float | None
    place: Array


def interference_of(one: Solid, at_one: Array, two: Solid, at_two: Array) -> Interference:
    """How the first solid at a pose (4, 4) interferes with the second one at another; a depth of 0 where they are apart or only touch."""
    seen = inverse_rigid(at_two) @ at_one

    def measured() -> Interference:
        # the other way round it is the same, seen from the other
        other = _depths.known((), *_key(two, inverse_rigid(seen), one))
        if other is None:
            return _measured(one, seen, two)
        return Interference(other.depth, other.volume, apply(seen, other.place[None])[0])

    interference = _depths.get((), measured, *_key(one, seen, two))
    return Interference(interference.depth, interference.volume, apply(at_two, interference.place[None])[0])


def deeper_than(one: Solid, seen: Array, two: Solid, depth: float) -> bool:
    """Whether two solids, the first one seen by the second at a pose (4, 4), are in each other deeper than some depth: quicker than to
    measure it."""
    known = _depths.known((), *_key(one, seen, two))
    if known is not None:
        return known.depth > depth
    shared = _shared(one, seen, two)
    if shared is None:
        return _measured(one, seen, two).depth > depth
    return any(
        _deepest(pieces, solid, depth)[0] > depth for pieces, solid in ((shared.mine, two), (shared.theirs, one))
    )


def _key(one: Solid, seen: Array, two: Solid) -> tuple[str, str, bytes]:
    return one.shape.hash, two.shape.hash, np.round(seen, 7).tobytes()


class _Shared(msgspec.Struct, frozen=True, eq=False):
    """What two solids share: its volume, and its surface, triangles (n, 3, 3) of the first one's as seen by the second and of the
    second one's as seen by the first."""

    volume: float
    mine: Array
    theirs: Array


def _shared(one: Solid, seen: Array, two: Solid) -> _Shared | None:
    """None where one of them encloses nothing."""
    both = [manifold(solid.shape) if solid.closed else None for solid in (one, two)]
    if both[0] is None or both[1] is None:
        return None
    shared = both[0].transform(np.ascontiguousarray(seen[:3])) ^ both[1]
    volume = float(shared.volume()) if not shared.is_empty() else 0.0
    if volume < _NOTHING:
        return _Shared(0.0, np.empty((0, 3, 3)), np.empty((0, 3, 3)))
    mesh = shared.to_mesh64()
    corners = np.asarray(mesh.vert_properties, float)[:, :3]
    triangles = np.asarray(mesh.tri_verts, np.int64)
    mine = np.zeros(len(triangles), bool)
    starts = [int(k) // 3 for k in mesh.run_index]
    for number, first, last in zip(mesh.run_original_id, starts[:-1], starts[1:], strict=True):
        mine[first:last] = number == both[0].original_id()
    back = inverse_rigid(seen)
    return _Shared(volume, corners[triangles[mine]], apply(back, corners)[triangles[~mine]])


def _measured(one: Solid, seen: Array, two: Solid) -> Interference:
    """The interference in the second one's coordinates."""
    shared = _shared(one, seen, two)
    if shared is None:
        overlap = overlap_of(one, seen, two, np.eye(4))
        touching = nearest(one.model, placed(seen), two.model, placed(np.eye(4)))
        assert touching is not None
        return Interference(overlap.depth, None, 0.5 * (touching.first + touching.second))
    if shared.volume == 0:
        return Interference(0.0, 0.0, seen[:3, 3])
    into_two, into_one = _deepest(shared.mine, two), _deepest(shared.theirs, one)
    if into_two[0] >= into_one[0]:
        return Interference(round(into_two[0], _DIGITS), shared.volume, into_two[1])
    return Interference(round(into_one[0], _DIGITS), shared.volume, apply(seen, into_one[1][None])[0])


def _deepest(pieces: Array, solid: Solid, enough: float = np.inf) -> tuple[float, Array]:
    """How far triangles (n, 3, 3) inside a solid are from its surface at most, to a hundredth, and where (3,); or whether that is more
    than ``enough``."""
    if not len(pieces):
        return 0.0, np.zeros(3)
    surface = solid.shape.vertices[solid.shape.triangles]
    look = _Looks(solid.model)
    best, place = 0.0, pieces[0, 0]
    waiting, promised = pieces[:0], np.empty(0)
    most = None
    while len(pieces) and (most is None or look.count < most):
        points = np.concatenate([pieces, pieces.mean(axis=1)[:, None]], axis=1)
        values = [[look.at(p) for p in four] for four in points]
        away = np.array([[t[0] for t in four] for four in values])
        beside = np.array([[t[1] for t in four] for four in values], np.intp)
        if away.max() > best:
            best, place = float(away.max()), points.reshape(-1, 3)[int(np.argmax(away))]
            if best > enough:
                break
        more = max(_SHARE * best, _EXACT, enough - best if np.isfinite(enough) else 0.0)
        # where it is the same at the corners and in the middle, it is so all over
        open_ = np.flatnonzero(np.ptp(away, axis=1) > more)
        # the most that a piece can be away: least over the triangles that are nearest to its corners
        bound = _farthest(pieces[open_], surface[beside[open_]]).min(axis=1)
        most = look.count + _MOST_LOOKS if most is None else most
        cut = [
            (_cut(pieces[k], surface[beside[k, :3]]), b) for k, b in zip(open_, bound, strict=True) if b > best + more
        ]
        waiting = np.concatenate([waiting, *(halves for halves, _ in cut)])
        promised = np.concatenate([promised, *(np.full(len(halves), b) for halves, b in cut)])
        keep = np.flatnonzero(promised > best + more)
        keep = keep[np.argsort(-promised[keep], kind="stable")]
        pieces = waiting[keep[:_AT_ONCE]]
        waiting, promised = waiting[keep[_AT_ONCE:]], promised[keep[_AT_ONCE:]]
    return best, place


def _farthest(pieces: Array, targets: Array) -> Array:
    """How far (n, k) the corners of triangles (n, 3, 3) are at most from k other triangles each (n, k, 3, 3)."""
    from trimesh.triangles import closest_point

    if not len(pieces):
        return np.empty(targets.shape[:2])
    closest: Any = closest_point
    each = np.broadcast_to(targets[:, :, None], (*targets.shape[:2], 3, 3, 3)).reshape(-1, 3, 3)
    corners = np.broadcast_to(pieces[:, None], (*targets.shape[:2], 3, 3)).reshape(-1, 3)
    away = np.linalg.norm(corners - closest(each, corners), axis=1)
    farthest: Array = away.reshape(*targets.shape[:2], 3).max(axis=2)
    return farthest


def _cut(piece: Array, beside: Array) -> Array:
    """A triangle (3, 3) in pieces (n, 3, 3): where it is as far from one of the triangles beside its corners (3, 3, 3) as from another,
    or in halves."""
    for one, two in ((0, 1), (1, 2), (2, 0)):
        if np.array_equal(beside[one], beside[two]):
            continue
        plane = _between(beside[one], beside[two])
        if plane is None:
            continue
        sides = piece @ plane[:3] - plane[3]
        if sides.max() > _HAIR and sides.min() < -_HAIR:
            return _split(piece, sides)
    lengths = np.linalg.norm(piece - np.roll(piece, -1, axis=0), axis=1)
    a, b, c = np.roll(piece, -int(np.argmax(lengths)), axis=0)
    middle = 0.5 * (a + b)
    return np.array([[a, middle, c], [middle, b, c]])


def _between(one: Array, two: Array) -> Array | None:
    """The plane (4,), its unit normal and its distance from the origin, on which points are as far from the one triangle's plane as
    from the other's; of coplanar ones that through their common edge, if they have one."""
    normals = [_cross(t[1] - t[0], t[2] - t[0]) for t in (one, two)]
    normals = [n / np.linalg.norm(n) for n in normals]
    if normals[0] @ normals[1] < _COPLANAR:
        across = normals[0] - normals[1]
        far = normals[0] @ one[0] - normals[1] @ two[0]
    else:
        common = [p for p in one if np.linalg.norm(two - p, axis=1).min() < _HAIR]
        if len(common) != 2:
            return None
        across = _cross(normals[0], common[1] - common[0])
        far = across @ common[0]
    size = float(np.linalg.norm(across))
    return np.append(across, far) / size if size > 0 else None


def _cross(a: Array, b: Array) -> Array:
    """The product (3,) of two vectors; numpy's own is slow on single ones."""
    return np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


def _split(piece: Array, sides: Array) -> Array:
    """A triangle (3, 3) cut by a plane from which its corners are at signed distances (3,), as triangles (2 or 3, 3, 3)."""
    above = sides > 0
    # the corner that is alone on its side comes first
    alone = int(np.argmax(above if np.count_nonzero(above) == 1 else ~above))
    a, b, c = np.roll(piece, -alone, axis=0)
    u, v, w = np.roll(sides, -alone)
    left, right = a + (b - a) * u / (u - v), a + (c - a) * u / (u - w)
    return np.array([[a, left, right], [left, b, right], [right, b, c]])


class _Looks:
    """How far points are from a surface, and its nearest triangle."""

    def __init__(self, model: Any) -> None:
        self._model, self._point = model, coal.Sphere(1e-12)
        self._unturned, self._request = np.eye(3), coal.DistanceRequest()
        self._known: dict[bytes, tuple[float, int]] = {}
        self.count = 0

    def at(self, point: Array) -> tuple[float, int]:
        """The distance of a point (3,) in mm, and the number of the nearest triangle."""
        key = point.tobytes()
        if key not in self._known:
            self.count += 1
            result = coal.DistanceResult()
            away = coal.distance(
                self._model, at_rest(), self._point, coal.Transform3s(self._unturned, point), self._request, result
            )
            self._known[key] = (max(float(away), 0.0), int(result.b1))
        return self._known[key]
