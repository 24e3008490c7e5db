"""How deep pairs in contact get in a motion: looked at so often that what is shown of the whole motion is told with it.

Between two looks nothing of the one goes farther to the other than some way w, and a depth changes by no more than that: what is no
deeper than d at every look is no deeper than d + w / 2 between them. Lengths in mm, times in s.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.alike import far, off, spread, unlike
from kestrav.core.clearance.between import Between, Pairing, Window, between, pairing
from kestrav.core.clearance.bodies import Pair
from kestrav.core.clearance.contact_history import Contact, Held
from kestrav.core.clearance.depth_limit import DepthLimit
from kestrav.core.clearance.interference import deeper_than
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, bounds_within, turned_bounds
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.bounds import of_box

Array = NDArray[np.float64]

_STEP = 2.0  # times the tolerance, that a pair goes between two looks
_MOST = 20_000  # looks at a pair; of a longer way they are farther apart
_LOOKS = 2  # times as many as where only frames are looked at
_FEWEST_OPEN, _MOST_OPEN = 60, 4000  # looks at a pair that neither boxes nor planes decide, at least and at most
_MOST_DOUBTFUL = 24  # poses of a pair at which it is worked out whether it is too deep
_ROUNDS = 2
_DEPTHS = 8  # depths that are measured of a pair
_MOST_IN_STEP = 4096  # looks in one step
_HELD = 20_000  # poses that are held together
_LIKE = 0.5  # of the way between looks, by which poses may differ and count as one
_WIDER = 0.1  # than a box asked for, in which it is looked what a mesh has there
_IN_ONE_GO = 200  # looks, until whoever waits is told
_HAIR = 1e-6  # mm
_SMALLER = 0.7  # of a box, that what meets must be for its own way to be worked out


class Deeper(msgspec.Struct, frozen=True):
    """A pair in contact that is deeper than allowed over a span of time: how deep at most, and when."""

    pair: Pair
    start: float
    end: float
    depth: float
    time: float
    allowed: float


class Course(msgspec.Struct, frozen=True):
    """What comes of contacts: where they are deeper than allowed, the contacts with how deep they are shown to be at most, and how many
    poses were looked at closely."""

    deeper: tuple[Deeper, ...]
    contacts: tuple[Contact, ...]
    measured: int


class _Near(msgspec.Struct, eq=False):
    """When boxes that the pairs between two groups sweep meet: the times of the steps (n,), and for each pair in which of them (n, p)
    and how far it goes there (n, p) where they can meet."""

    starts: list[Array] = msgspec.field(default_factory=list)
    ends: list[Array] = msgspec.field(default_factory=list)
    near: list[NDArray[np.bool_]] = msgspec.field(default_factory=list)
    distances: list[Array] = msgspec.field(default_factory=list)


def contact_course(
    project: Project,
    meshes: Mapping[str, Mesh],
    held: Sequence[Held],
    over: tuple[float, float],
    tell: Callable[[], None] = lambda: None,
) -> Course:
    """What comes of contacts over a span of time in s. ``tell`` is called again and again, and may raise to stop the work."""
    if not held:
        return Course((), (), 0)
    pairs = [
        msgspec.structs.replace(pairing(project, meshes, contact.pair.moving, contact.pair.other), spans=contact.spans)
        for contact, _ in held
    ]
    borders = [t for contact, _ in held for t in contact.borders]
    moving = between(project, meshes, pairs, borders)
    contacts = [msgspec.structs.replace(contact, shown=limit.allowed) for contact, limit in held]
    deeper, measured = list[Deeper](), 0
    for g, near in _near(moving, over, tell).items():
        for k, times, seen, step in _looks(moving, g, near, [limit.allowed - contact.deep for contact, limit in held]):
            deepest, shown, count = _judged(*held[k], times, seen, step, tell)
            deeper += deepest
            measured += count
            contacts[k] = msgspec.structs.replace(contacts[k], shown=shown)
    return Course(tuple(deeper), tuple(contacts), measured)


def _near(moving: Between, over: tuple[float, float], tell: Callable[[], None]) -> dict[int, _Near]:
    """The steps in which boxes that pairs sweep meet while they are in contact, by the groups that they are between."""
    near_pairs: dict[int, _Near] = {}
    within = _Within()
    for window in moving.windows(over[1], over[0]):
        tell()
        far = moving.gaps(window) > 0
        for g in np.flatnonzero(~far.all(axis=0)):
            mine = [moving.pairs[k] for k in moving.groups.pairs[g]]
            near = moving.body_clearances(int(g), window) <= 0
            near &= np.stack([pair.looked_at(window.times) for pair in mine], axis=1)
            inner = np.flatnonzero(near.any(axis=1))
            if not len(inner):
                continue
            one, two = moving.led(int(g), window)
            seen = inverse_rigid(two) @ one
            distances = np.stack([_way(moving, window, pair, seen, within) for pair in mine], axis=1)
            kept = near_pairs.setdefault(int(g), _Near())
            kept.starts.append(window.times[inner])
            kept.ends.append(window.times[inner + 1])
            kept.near.append(near[inner])
            kept.distances.append(distances[inner])
    return near_pairs


class _Within(msgspec.Struct, eq=False):
    """What meshes have within boxes, found once for a box that is large enough for many."""

    _known: dict[tuple[int, int], tuple[Array, Array]] = msgspec.field(default_factory=dict)

    def bounds(self, key: tuple[int, int], shape: Mesh, box: Array) -> Array:
        """Bounds (2, 3) that hold what a mesh has within a box (2, 3); ``key`` tells what for."""
        if key not in self._known or (box[0] < self._known[key][0][0]).any() or (box[1] > self._known[key][0][1]).any():
            wide = box + np.array([[-1.0], [1.0]]) * (_WIDER * (box[1] - box[0]) + _HAIR)
            if key in self._known:
                before = self._known[key][0]
                wide = np.array([np.minimum(wide[0], before[0]), np.maximum(wide[1], before[1])])
            bounds = bounds_within(shape, wide)
            self._known[key] = wide, np.array([box[1], box[0]]) if bounds is None else bounds
        own = self._known[key][1]
        return np.array([np.maximum(box[0], own[0]), np.minimum(box[1], own[1])])


def _way(moving: Between, window: Window, pair: Pairing, seen: Array, within: _Within) -> Array:
    """How far (n - 1,) points of a pair go to each other at most in each step of a window where they can meet: within both boxes."""
    whole = window.distances(pair)
    poses, boxes = moving.within(pair, seen), [shape.bounds for shape in pair.shapes]
    beyond = float(whole.max(initial=0.0))
    if not np.isfinite(beyond):
        return whole
    met = []
    for mine, (other, there) in enumerate(((boxes[1], inverse_rigid(poses)), (boxes[0], poses))):
        own, bounds = boxes[mine], turned_bounds(other, there)
        low, high = bounds[:, 0].min(axis=0) - beyond, bounds[:, 1].max(axis=0) + beyond
        box = np.array([np.maximum(own[0], low), np.minimum(own[1], high)])
        if (box[0] <= box[1]).all():
            box = within.bounds((id(pair), mine), pair.shapes[mine], box)
        met.append(box)
    if any((box[0] > box[1]).any() for box in met):
        return whole
    if all(
        np.linalg.norm(box[1] - box[0]) > _SMALLER * np.linalg.norm(own[1] - own[0])
        for box, own in zip(met, boxes, strict=True)
    ):
        return whole
    moves = window.stage.moves
    return np.minimum(whole, moves.between(pair.a, of_box(met[0]), pair.b, of_box(met[1]))[window.steps])


def _looks(moving: Between, g: int, near: _Near, spare: Sequence[float]) -> Iterator[tuple[int, Array, Array, float]]:
    """For each pair between two groups the times (n,) at which it is looked at, the first body's poses then as the second sees them, and
    how far it goes at most between two of them."""
    mine = moving.groups.pairs[g]
    start, end, close = np.concatenate(near.starts), np.concatenate(near.ends), np.concatenate(near.near)
    distances = np.where(close, np.concatenate(near.distances), 0.0)
    steps = np.maximum(_STEP * np.array([spare[k] for k in mine]), distances.sum(axis=0) / _MOST)
    with np.errstate(invalid="ignore"):
        each = np.where(np.isfinite(distances), distances / steps, _MOST_IN_STEP)
    counts = np.clip(np.ceil(each.max(axis=1)), 1, _MOST_IN_STEP).astype(int)
    of = np.repeat(np.arange(len(start)), counts + 1)
    first = np.concatenate([[0], np.cumsum(counts + 1)[:-1]])
    times = start[of] + (np.arange(len(of)) - first[of]) / counts[of] * (end - start)[of]
    led = np.concatenate([moving.seen(g, times[k : k + _HELD]) for k in range(0, len(times), _HELD)])
    for column, k in enumerate(mine):
        wanted = close[of, column]
        if wanted.any():
            step = float((distances[:, column] / counts).max())
            yield k, times[wanted], moving.within(moving.pairs[k], led[wanted]), step


def _judged(
    contact: Contact, limit: DepthLimit, times: Array, seen: Array, step: float, tell: Callable[[], None]
) -> tuple[list[Deeper], float | None, int]:
    """Where a contact is deeper than allowed at times (n,), how deep it is shown to be at most elsewhere (none: nothing is), and how many
    poses were looked at closely."""
    box = _met(limit, seen)
    fine, like = unlike(seen, box, max(_LIKE * step, _HAIR))
    poses = seen[fine]
    rooms = limit.separation(poses)
    every = np.flatnonzero(rooms <= 0)
    near = max(_LIKE * max(step, limit.allowed), _HAIR)
    chosen = every[spread(poses[every], box, near, int(np.clip(_LOOKS * limit.looks, _FEWEST_OPEN, _MOST_OPEN)))]
    clear = np.zeros(len(chosen), bool)
    for k in range(0, len(chosen), _IN_ONE_GO):
        tell()
        clear[k : k + _IN_ONE_GO] = limit.clear(poses[chosen[k : k + _IN_ONE_GO]])
    # the first of them lie farthest from each other
    tried = chosen[np.flatnonzero(~clear)[:_MOST_DOUBTFUL]]
    too_deep = [k for k in tried if _told(tell) and deeper_than(limit.one, poses[k], limit.two, limit.allowed)]
    looked = np.sort(np.concatenate([chosen[clear], tried]))
    # any other pose is as deep as the nearest of these, but for how far it is from that
    rooms[every] = -off(poses[every], poses[looked], box)
    depths = np.zeros(len(poses))
    depths[too_deep] = limit.allowed + _HAIR
    # how deep, where it may be deepest
    known = np.sort(np.array(too_deep, np.intp))
    for _ in range(_ROUNDS):
        if not len(known):
            break
        some = known[np.unique(np.linspace(0, len(known) - 1, _DEPTHS).astype(int))]
        for k in some:
            tell()
            depths[k] = max(limit.measured(poses[k]).depth, limit.allowed + _HAIR)
        # and then about the deepest, among what was left out too
        worst = int(np.argmax(depths[some]))
        low, high = some[max(worst - 1, 0)], some[min(worst + 1, len(some) - 1)]
        known = every[(every >= low) & (every <= high)]
    order = np.argsort(times, kind="stable")
    beyond = _beyond((rooms[like] - far(seen, poses[like], box))[order], step)
    allowed = limit.allowed + beyond if np.isfinite(beyond) else None
    if not (depths > limit.allowed).any():
        return [], allowed, len(chosen)
    # what was not looked at parts no breach in two
    seen_at = np.ones(len(poses), bool)
    seen_at[np.setdiff1d(every, looked)] = False
    seen_at |= depths > limit.allowed
    order = order[seen_at[like[order]]]
    at, deep = times[order], depths[like[order]]
    hits = np.flatnonzero(deep > limit.allowed)
    deeper = []
    for part in np.split(hits, np.flatnonzero(np.diff(hits) > 1) + 1):
        worst = part[int(np.argmax(deep[part]))]
        span = float(at[part[0]]), float(at[part[-1]])
        deeper.append(Deeper(contact.pair, *span, float(deep[worst]), float(at[worst]), limit.allowed))
    return deeper, allowed, len(chosen)


def _met(limit: DepthLimit, seen: Array) -> Array:
    """Bounds (2, 3) of what the first solid has within the second one's box at any of poses (n, 4, 4), the second seeing it."""
    own = limit.one.shape.bounds
    there = turned_bounds(limit.two.shape.bounds, inverse_rigid(seen))
    low, high = np.maximum(own[0], there[:, 0].min(axis=0)), np.minimum(own[1], there[:, 1].max(axis=0))
    box = bounds_within(limit.one.shape, np.array([low, high])) if (low <= high).all() else None
    return own if box is None else box


def _beyond(rooms: Array, step: float) -> float:
    """By how much in mm a pair may be deeper than allowed at most at looks (n,) and between them, when it is known by how much it is less
    deep at least there (below 0: deeper; -inf: not known) and it goes no farther than a way from one to the next."""
    at = np.flatnonzero(np.isfinite(rooms))
    if not len(at):
        return np.inf
    room = rooms[at]
    inner = 0.5 * (np.diff(at) * step - room[:-1] - room[1:])
    ends = np.array([at[0] * step - room[0], (len(rooms) - 1 - at[-1]) * step - room[-1]])
    return float(max(inner.max(initial=0.0), ends.max(), -room.min(), 0.0))


def _told(tell: Callable[[], None]) -> bool:
    tell()
    return True
