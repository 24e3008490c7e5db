"""A view of solids in lines, hidden ones left out: edges between faces and outlines against what is behind. Lengths in mm.

Each edge is looked at in places a fraction of a line's width apart, by rays towards the eye (Appel's point test, A. Appel, "The notion of
quantitative invisibility", ACM 1967, in its plainest form); where what hides it begins is halved to a tenth of that.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.comments import SavedView
from kestrav.core.geometry.meshes import Mesh, box_corners
from kestrav.core.geometry.rays import tree
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.memo import Memo

Array = NDArray[np.float64]

SHARP = np.radians(28.0)  # from which on an edge between facets is drawn, where no face says so
_FINE = 4e-3  # of the frame's height between looks at an edge
_OFF = 1.2e-3  # of the frame's height that what is looked at is held off the surface
_HALVINGS = 4


class Placed(msgspec.Struct, frozen=True):
    """A solid: its mesh, where it stands (4, 4), and whether it is one of those that the drawing is about."""

    mesh: Mesh
    pose: Array
    heavy: bool = False


class Sight(msgspec.Struct, frozen=True, eq=False):
    """How a viewpoint sees: the axes to the right, up and towards the eye (3, 3), its place, and half the frame's height as a slope."""

    axes: Array
    position: Array
    slope: float

    @property
    def away(self) -> Array:
        """The unit vector (3,) of looking."""
        return np.asarray(-self.axes[2])

    def seen(self, points: Array) -> Array:
        """Where points (n, 3) are in the frame (n, 2): −1 to 1 upwards, and to the right by the same measure. What is behind is not a number."""
        local = (points - self.position) @ self.axes.T
        depth = -local[:, 2]
        with np.errstate(divide="ignore", invalid="ignore"):
            flat = local[:, :2] / (depth[:, None] * self.slope)
        return np.where(depth[:, None] > 1e-6, flat, np.nan)

    def depth(self, points: Array) -> Array:
        """How far (n,) points are ahead of the eye."""
        return np.asarray((points - self.position) @ self.away)


def sight_of(view: SavedView) -> Sight:
    """How a viewpoint sees."""
    position, target = np.array(view.position), np.array(view.target)
    toward = position - target
    toward /= np.linalg.norm(toward)
    up = np.array(view.up) - (np.array(view.up) @ toward) * toward
    if np.linalg.norm(up) < 1e-6:
        up = np.array([0.0, 1.0, 0.0]) - toward[1] * toward
    up /= np.linalg.norm(up)
    return Sight(np.stack([np.cross(up, toward), up, toward]), position, float(np.tan(np.radians(0.5 * view.angle))))


class _Edges(msgspec.Struct, frozen=True, eq=False):
    """Edges (n, 2, 3) of a mesh that are always drawn; and those (m, 2, 3) between facets with normals (m, 2, 3) that are drawn where
    one faces the eye and the other does not."""

    fixed: Array
    smooth: Array
    normals: Array


_edges: Memo[_Edges] = Memo(4096)


def _edges_of(mesh: Mesh) -> _Edges:
    return _edges.get((), lambda: _found_edges(mesh), mesh.hash)


def _found_edges(mesh: Mesh) -> _Edges:
    body = mesh.body
    pairs = np.asarray(body.face_adjacency)
    ends = np.asarray(body.vertices)[np.asarray(body.face_adjacency_edges)]
    sharp = np.asarray(body.face_adjacency_angles) > SHARP
    if mesh.face_of is not None and len(mesh.face_of) == len(body.faces):
        # within one CAD face nothing is an edge; between two something is, unless they go over into each other
        apart = mesh.face_of[pairs[:, 0]] != mesh.face_of[pairs[:, 1]]
        sharp = apart & (np.asarray(body.face_adjacency_angles) > np.radians(8.0))
    lone = np.asarray(body.edges_sorted)
    edges, counts = np.unique(lone, axis=0, return_counts=True)
    border = np.asarray(body.vertices)[edges[counts == 1]]
    normals = np.asarray(body.face_normals)[pairs]
    return _Edges(np.concatenate([ends[sharp], border]), ends[~sharp], normals[~sharp])


def line_drawing(solids: Sequence[Placed], view: SavedView, aspect: float) -> tuple[Array, NDArray[np.bool_]]:
    """The visible lines (n, 2, 2) of solids in the frame, as :meth:`Sight.seen` has them, and which of them (n,) are of heavy ones."""
    sight = sight_of(view)
    lines, heavy = [], []
    bounds = [_frame_bounds(sight, one) for one in solids]
    inside = [b is not None and b[0][0] < aspect and b[1][0] > -aspect and b[0][1] < 1 and b[1][1] > -1 for b in bounds]
    for one, near in zip(solids, inside, strict=True):
        if not near:
            continue
        ends = _drawn_edges(sight, one)
        lines.append(ends)
        heavy.append(np.full(len(ends), one.heavy))
    if not lines:
        return np.empty((0, 2, 2)), np.empty(0, bool)
    ends, marks = np.concatenate(lines), np.concatenate(heavy)
    ends, marks = _in_frame(sight, ends, marks, aspect)
    before = [one for one, near in zip(solids, inside, strict=True) if near]
    return _visible(sight, ends, marks, before)


def _frame_bounds(sight: Sight, one: Placed) -> tuple[Array, Array] | None:
    box = box_corners(one.mesh.bounds)
    there = sight.seen(apply(one.pose, box))
    if np.isnan(there).any():
        return (np.full(2, -1e9), np.full(2, 1e9)) if not np.isnan(there).all() else None
    return there.min(axis=0), there.max(axis=0)


def _drawn_edges(sight: Sight, one: Placed) -> Array:
    """The edges (n, 2, 3) in space of a solid that are drawn from where one looks."""
    edges = _edges_of(one.mesh)
    eye = apply(inverse_rigid(one.pose), sight.position[None])[0]
    toward = eye - edges.smooth.mean(axis=1)
    facing = np.einsum("nki,ni->nk", edges.normals, toward) > 0
    outline = edges.smooth[facing[:, 0] != facing[:, 1]]
    own = np.concatenate([edges.fixed, outline])
    return np.asarray(apply(one.pose, own.reshape(-1, 3)).reshape(-1, 2, 3))


def _in_frame(sight: Sight, ends: Array, marks: NDArray[np.bool_], aspect: float) -> tuple[Array, NDArray[np.bool_]]:
    """Those edges that may be in the frame."""
    seen = sight.seen(ends.reshape(-1, 3)).reshape(-1, 2, 2)
    low, high = seen.min(axis=1), seen.max(axis=1)
    with np.errstate(invalid="ignore"):
        kept = (low[:, 0] < aspect) & (high[:, 0] > -aspect) & (low[:, 1] < 1) & (high[:, 1] > -1)
    return ends[kept], marks[kept]


def _visible(
    sight: Sight, ends: Array, marks: NDArray[np.bool_], solids: Sequence[Placed]
) -> tuple[Array, NDArray[np.bool_]]:
    """What of edges (n, 2, 3) nothing stands before, as lines in the frame."""
    flat = sight.seen(ends.reshape(-1, 3)).reshape(-1, 2, 2)
    long = np.linalg.norm(flat[:, 1] - flat[:, 0], axis=1)
    counts = np.clip(np.ceil(long / (2 * _FINE)).astype(int), 1, 400)
    owner = np.repeat(np.arange(len(ends)), counts + 1)
    first = np.concatenate([[0], np.cumsum(counts + 1)[:-1]])
    # ends are looked at a little inwards, where other edges do not meet them
    inset = np.clip(0.5 * _FINE / np.maximum(long, 1e-9), 0.0, 0.25)
    share = (np.arange(len(owner)) - first[owner]) / counts[owner]
    share = inset[owner] + (1.0 - 2.0 * inset[owner]) * share
    open_ = _free(sight, _along(ends, owner, share), solids)
    pairs = np.flatnonzero(owner[:-1] == owner[1:])
    begin, end = share[pairs].copy(), share[pairs + 1].copy()
    a, b, of = open_[pairs], open_[pairs + 1], owner[pairs]
    # where one end shows and the other does not, the place between is looked for
    mixed = np.flatnonzero(a != b)
    low, high = begin[mixed].copy(), end[mixed].copy()
    for _ in range(_HALVINGS):
        middle = 0.5 * (low + high)
        shows = _free(sight, _along(ends, of[mixed], middle), solids)
        same = shows == a[mixed]
        low, high = np.where(same, middle, low), np.where(same, high, middle)
    place = 0.5 * (low + high)
    end[mixed] = np.where(a[mixed], place, end[mixed])
    begin[mixed] = np.where(a[mixed], begin[mixed], place)
    kept = a | b
    begin, end, of = begin[kept], end[kept], of[kept]
    near, far = inset[of] + 1e-12, 1.0 - inset[of] - 1e-12
    begin, end = np.where(begin <= near, 0.0, begin), np.where(end >= far, 1.0, end)
    # pieces of one edge that go on from each other are one line
    joined = (of[1:] == of[:-1]) & (np.abs(begin[1:] - end[:-1]) < 1e-9) if len(of) else np.empty(0, bool)
    starts = np.flatnonzero(np.concatenate([[True], ~joined])) if len(of) else np.empty(0, int)
    lasts = np.concatenate([starts[1:] - 1, [len(of) - 1]]).astype(int) if len(of) else np.empty(0, int)
    of, begin, end = of[starts], begin[starts], end[lasts]
    lines = np.stack([sight.seen(_along(ends, of, begin)), sight.seen(_along(ends, of, end))], axis=1)
    sound = np.isfinite(lines).all(axis=(1, 2))
    return lines[sound], marks[of][sound]


def _along(ends: Array, of: NDArray[np.integer], share: Array) -> Array:
    return np.asarray(ends[of, 0] + share[:, None] * (ends[of, 1] - ends[of, 0]))


def _free(sight: Sight, points: Array, solids: Sequence[Placed]) -> NDArray[np.bool_]:
    """Which points (n, 3) nothing stands before."""
    toward = sight.position - points
    far = np.linalg.norm(toward, axis=1, keepdims=True)
    toward = toward / np.maximum(far, 1e-9)
    starts = points + toward * (_OFF * far * sight.slope * 2)
    free = np.ones(len(points), bool)
    for one in solids:
        here = np.flatnonzero(free)
        if not len(here):
            break
        back = inverse_rigid(one.pose)
        low, high = one.mesh.bounds
        begin, directions = apply(back, starts[here]), toward[here] @ back[:3, :3].T
        near = _meets(begin, directions, low, high)
        if near.any():
            hit = tree(one.mesh).first(begin[near], directions[near]) >= 0
            free[here[near][hit]] = False
    return free


def _meets(origins: Array, directions: Array, low: Array, high: Array) -> NDArray[np.bool_]:
    """Which rays (n,) may meet a box."""
    with np.errstate(divide="ignore", invalid="ignore"):
        first, second = (low - origins) / directions, (high - origins) / directions
    near, far = np.fmin(first, second), np.fmax(first, second)
    return np.asarray((np.nanmax(near, axis=1) <= np.nanmin(far, axis=1) + 1e-6) & (np.nanmin(far, axis=1) >= 0))
