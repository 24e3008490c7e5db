"""How much of its subject a camera sees, by rays against everything in the way. Lengths in mm."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.camera.framing import seen_places
from kestrav.core.camera.lens import extent
from kestrav.core.camera.obstacles import STILL, Body, bodies
from kestrav.core.camera.subject import Subject
from kestrav.core.camera.views import Views
from kestrav.core.document.records import Camera, Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.rays import Tree
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.memo import Memo

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]

RAYS = 256  # a frame
_CHUNK = 400_000  # rays at a time
_BEFORE = 0.05  # mm and more by which what hides something lies before it
_WIDEST = 20.0  # half frames to the sides beyond which nothing is looked for


class Sight(msgspec.Struct, frozen=True):
    """Shares of the subject as it would be seen with nothing else there and without end: ``visible`` in the frame with nothing before
    it, ``hidden`` in the frame behind something, ``outside`` the frame (all (n,)); for each frame the row of the part that hides most of
    it, or −1; and ``crossed``, the share of its ``middle`` (the half of its width and height about it) that is behind something, of what
    of that is in the frame."""

    visible: Array
    hidden: Array
    outside: Array
    hiding: NDArray[np.intp]
    crossed: Array


def _ways(count: int) -> Array:
    """Places (count, 2) spread evenly over the unit square: a Sobol sequence, scrambled with a fixed seed."""
    # scipy.stats takes most of a second to load, and the window's start needs no rays

    return np.asarray(scipy.stats.qmc.Sobol(2, rng=1).random(count))


def sight(
    project: Project,
    meshes: Mapping[str, Mesh],
    camera: Camera,
    subject: Subject,
    seen: Views,
    times: Array,
    poses: Array,
    aspect: float,
    rays: int = RAYS,
) -> Sight:
    """How much of a subject a camera sees at n times, by ``rays`` (a power of two) over its extent in each frame.

    ``poses`` are world matrices (n, parts, 4, 4). See-through parts hide nothing, nor do things that are faint to the camera.
    """
    apart = tuple(dict.fromkeys(fade.thing for fade in camera.fades))
    every = bodies(project, meshes, apart)
    own, belongs = set(subject.rows), {*subject.rows, *subject.belongs}
    count = len(times)
    sight = Sight(np.zeros(count), np.zeros(count), np.zeros(count), np.full(count, -1, np.intp), np.zeros(count))
    directions = _ways(rays)
    step = max(_CHUNK // rays, 1)
    for first in range(0, count, step):
        some = slice(first, min(first + step, count))
        _look(project, camera, subject, seen, times, poses, aspect, directions, every, own, belongs, some, sight)
    return sight


def _look(
    project: Project,
    camera: Camera,
    subject: Subject,
    seen: Views,
    times: Array,
    poses: Array,
    aspect: float,
    ways: Array,
    every: tuple[Body, ...],
    own: set[int],
    belongs: set[int],
    some: slice,
    sight: Sight,
) -> None:
    poses, times = poses[some], times[some]
    position, forward, up = seen.position[some], seen.forward[some], seen.up[some]
    half = seen.half_height(camera, aspect, 1.0)[some]
    places = seen_places(subject, poses, position, forward, up, half, aspect, parallel=camera.parallel)
    low, high = extent(places)
    low, high = np.maximum(low, -_WIDEST), np.minimum(high, _WIDEST)
    at = low[:, None] + ways * np.maximum(high - low, 0.0)[:, None]  # (n, rays, 2)
    origins, directions = _rays(position, forward, up, half, aspect, parallel=camera.parallel, at=at)
    count, rays = at.shape[:2]
    reach = np.full((count, rays), np.inf)
    blocked = np.full((count, rays), np.inf)
    by = np.full((count, rays), -1, np.intp)
    others: list[Body] = []
    for body in every:
        mine = np.array([row in own for row in body.rows])
        if mine.any():
            _meet(_part_of(body, mine), body, poses, origins, directions, reach)
        foreign = np.array([row not in belongs for row in body.rows])
        if foreign.any():
            others.append(body if foreign.all() else _rest_of(body, foreign))
    struck = np.isfinite(reach)
    inside = struck & (np.abs(at) <= 1.0).all(axis=2)
    axis, spread = _bundle(directions, parallel=camera.parallel)
    farthest = np.max(np.where(inside, reach, 0.0), axis=1)
    for body in others:
        near = _in_the_way(
            body, poses, position, origins, axis, spread, farthest, parallel=camera.parallel
        ) & inside.any(axis=1)
        if body.faint:
            near &= ~_faint(camera, body.faint, times)
        rows = np.flatnonzero(near)
        if not len(rows) or body.opaque is None:
            continue
        met = np.full((len(rows), rays), np.inf)
        _meet(body.opaque, body, poses[rows], origins[rows], directions[rows], met, inside[rows])
        closer = met < blocked[rows]
        blocked[rows] = np.where(closer, met, blocked[rows])
        by[rows] = np.where(closer, body.row if body.row != STILL else -2, by[rows])
    total = np.maximum(struck.sum(axis=1), 1)
    hidden = inside & (blocked < reach - np.maximum(_BEFORE, 1e-5 * np.where(struck, reach, 0.0)))
    sight.visible[some] = (inside & ~hidden).sum(axis=1) / total
    sight.hidden[some] = hidden.sum(axis=1) / total
    central = inside & (np.abs(ways - 0.5) <= 0.25).all(axis=1)
    sight.crossed[some] = (hidden & central).sum(axis=1) / np.maximum(central.sum(axis=1), 1)
    # what no ray meets, as it is thinner than their spacing, is taken as out of the frame if its middle is
    none = ~struck.any(axis=1)
    sight.outside[some] = np.where(none, 1.0, (struck & ~inside).sum(axis=1) / total)
    for k in np.flatnonzero(hidden.any(axis=1)):
        sight.hiding[some.start + k] = _most(every, belongs, poses[k], origins[k], directions[k], hidden[k], by[k])


def _rays(
    position: Array, forward: Array, up: Array, half: Array, aspect: float, *, parallel: bool, at: Array
) -> tuple[Array, Array]:
    """Origins and unit directions (n, rays, 3) of the rays of sight through places (n, rays, 2) of the frame."""
    right = np.cross(forward, up)
    aside = (at[..., 0] * half[:, None] * aspect)[..., None] * right[:, None]
    aside = aside + (at[..., 1] * half[:, None])[..., None] * up[:, None]
    if parallel:
        return position[:, None] + aside, np.broadcast_to(forward[:, None], aside.shape)
    directions = forward[:, None] + aside
    directions /= np.linalg.norm(directions, axis=2, keepdims=True)
    return np.broadcast_to(position[:, None], directions.shape), directions


def _meet(
    tree: Tree | None,
    body: Body,
    poses: Array,
    origins: Array,
    directions: Array,
    reach: Array,
    only: Flags | None = None,
) -> None:
    """Shorten reaches (n, rays) to where rays meet a body first; ``only`` these rays."""
    if tree is None:
        return
    back = inverse_rigid(body.poses(poses))
    wanted = np.ones(reach.shape, bool) if only is None else only
    frames = np.nonzero(wanted)[0]
    if body.row == STILL:
        starts, rays = origins[wanted], directions[wanted]
    else:
        turn = back[frames, :3, :3]
        starts = np.einsum("nij,nj->ni", turn, origins[wanted]) + back[frames, :3, 3]
        rays = np.einsum("nij,nj->ni", turn, directions[wanted])
    reach[wanted] = np.minimum(reach[wanted], tree.reach(starts, rays))


_splits: Memo[tuple[Tree | None, Body]] = Memo(64)


def _split(body: Body, mine: Flags) -> tuple[Tree | None, Body]:
    """A body's parts of the subject as a tree, and the rest of it as a body; kept by the body."""

    def split() -> tuple[Tree | None, Body]:
        return _some(body, mine).whole, _some(body, ~mine, faint=True)

    return _splits.get((body,), split, mine.tobytes())


def _some(body: Body, which: Flags, *, faint: bool = False) -> Body:
    """Some of a body's parts as a body, with or without what of it is faint."""
    rows = np.flatnonzero(which)
    mine = (body.rows[k] for k in rows)
    shapes = tuple(body.shapes[k] for k in rows)
    return Body(body.row, tuple(mine), shapes, body.places[rows], body.clear[rows], body.faint if faint else "")


def _part_of(body: Body, mine: Flags) -> Tree | None:
    return body.whole if mine.all() else _split(body, mine)[0]


def _rest_of(body: Body, others: Flags) -> Body:
    return _split(body, ~others)[1]


def _bundle(directions: Array, *, parallel: bool) -> tuple[Array, Array]:
    """The axis (n, 3) of bundles of rays (n, rays, 3) and their half angle (n,) in rad."""
    axis = directions.mean(axis=1)
    axis /= np.linalg.norm(axis, axis=1, keepdims=True)
    if parallel:
        return axis, np.zeros(len(axis))
    least = np.einsum("nrj,nj->nr", directions, axis).min(axis=1)
    return axis, np.arccos(np.clip(least, -1.0, 1.0))


def _in_the_way(
    body: Body,
    poses: Array,
    position: Array,
    origins: Array,
    axis: Array,
    spread: Array,
    farthest: Array,
    *,
    parallel: bool,
) -> Flags:
    """Whether (n,) a body's ball meets the bundles of rays before they are at their end."""
    middle, radius = body.ball
    placed = body.poses(poses)
    centre = placed[:, :3, :3] @ middle + placed[:, :3, 3]
    if parallel:
        start = origins.mean(axis=1)
        wide = np.linalg.norm(origins - start[:, None], axis=2).max(axis=1)
        away = centre - start
        along = np.einsum("ij,ij->i", away, axis)
        aside = np.linalg.norm(away - along[:, None] * axis, axis=1)
        return np.asarray((aside <= wide + radius) & (along > -radius) & (along - radius < farthest))
    away = centre - position
    distance = np.linalg.norm(away, axis=1)
    around = distance <= radius
    angle = np.arccos(np.clip(np.einsum("ij,ij->i", away, axis) / np.maximum(distance, 1e-9), -1.0, 1.0))
    width = np.arcsin(np.clip(radius / np.maximum(distance, 1e-9), 0.0, 1.0))
    return np.asarray(around | ((angle <= spread + width) & (distance - radius < farthest)))


def _faint(camera: Camera, thing: str, times: Array) -> Flags:
    """Whether (n,) a thing is shown faint to a camera."""
    faint = np.zeros(len(times), bool)
    for fade in camera.fades:
        if fade.thing == thing:
            faint |= (times >= fade.start - 1e-9) & (times <= fade.end + 1e-9)
    return faint


def _most(
    every: tuple[Body, ...], own: set[int], poses: Array, origins: Array, directions: Array, hidden: Flags, by: Array
) -> int:
    """The row of the part that hides most of what is hidden in one frame."""
    wanted = int(np.bincount(by[hidden] + 2).argmax()) - 2
    row = STILL if wanted == -2 else wanted
    best, most = -1, 0
    for body in every:
        if body.row != row:
            continue
        back = inverse_rigid(body.poses(poses[None])[0])
        starts = origins[hidden] @ back[:3, :3].T + back[:3, 3]
        rays = directions[hidden] @ back[:3, :3].T
        low, high = body.boxes[:, 0], body.boxes[:, 1]
        near = _boxes_met(starts, rays, low, high)
        for k in np.flatnonzero(near.any(axis=0)):
            if body.rows[k] in own or body.clear[k]:
                continue
            count = int(np.isfinite(_own_tree(body, int(k)).reach(starts, rays)).sum())
            if count > most:
                best, most = body.rows[k], count
    return best


_single: Memo[Tree] = Memo(512)


def _own_tree(body: Body, k: int) -> Tree:
    def tree() -> Tree:
        alone = Body(body.row, body.rows[k : k + 1], body.shapes[k : k + 1], body.places[k : k + 1], body.clear[:0])
        tree = alone._tree(np.array([0]))
        assert tree is not None
        return tree

    return _single.get((body,), tree, k)


def _boxes_met(origins: Array, directions: Array, low: Array, high: Array) -> Flags:
    """Which boxes (k) rays (n) meet, (n, k)."""
    with np.errstate(divide="ignore", invalid="ignore"):
        inverse = 1.0 / directions[:, None]
        one, two = (low - origins[:, None]) * inverse, (high - origins[:, None]) * inverse
    near, far = np.fmin(one, two).max(axis=2), np.fmax(one, two).min(axis=2)
    return np.asarray((near <= far) & (far > 0))
