"""How deep pairs in contact get in a motion: looked at so often that what is shown of the whole motion is told with it.

Between two looks nothing of the one goes farther to the other than some way w, and a depth changes by no more than that: what is no
deeper than d at every look is no deeper than d + w / 2 between them. Lengths in mm, times in s.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.between import Between, Pairing, Window, between, pairing
from kestrav.core.clearance.bodies import Pair
from kestrav.core.clearance.contact_history import Contact, Held
from kestrav.core.clearance.depth_limit import DepthLimit, unlike
from kestrav.core.clearance.interference import deeper_than
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, turned_bounds
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.motion.bounds import of_box

Array = NDArray[np.float64]

_STEP = 2.0  # times the tolerance, that a pair goes between two looks
_MOST = 20_000  # looks at a pair; of a longer way they are farther apart
_FEWEST_OPEN, _MOST_OPEN = 60, 4000  # looks at a pair that neither boxes nor planes decide, at least and at most
_MOST_DOUBTFUL = 24  # poses of a pair at which it is worked out whether it is too deep
_ROUNDS = 2
_DEPTHS = 8  # depths that are measured of a pair
_MOST_IN_STEP = 4096  # looks in one step
_HELD = 20_000  # poses that are held together
_LIKE = 0.5  # of the way between looks, by which poses may differ and count as one
_HAIR = 1e-6  # mm
_SMALLER = 0.7  # of a box, that what meets must be for its own way to be worked out


@dataclass(frozen=True)
class Deeper:
    """A pair in contact that is deeper than allowed over a span of time: how deep at most, and when."""

    pair: Pair
    start: float
    end: float
    depth: float
    time: float
    allowed: float


@dataclass(frozen=True)
class Course:
    """What comes of contacts: where they are deeper than allowed, the contacts with how deep they are shown to be at most, and how many
    poses were looked at closely."""

    deeper: tuple[Deeper, ...]
    contacts: tuple[Contact, ...]
    measured: int


@dataclass(eq=False)
class _Near:
    """When boxes that the pairs between two groups sweep meet: the times of the steps (n,), and for each pair in which of them (n, p)
    and how far it goes there (n, p) where they can meet."""

    starts: list[Array] = field(default_factory=list)
    ends: list[Array] = field(default_factory=list)
    near: list[NDArray[np.bool_]] = field(default_factory=list)
    ways: list[Array] = field(default_factory=list)


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
        dataclasses.replace(pairing(project, meshes, contact.pair.moving, contact.pair.other), spans=contact.spans)
        for contact, _ in held
    ]
    borders = [t for contact, _ in held for t in contact.borders]
    moving = between(project, meshes, pairs, borders)
    contacts = [dataclasses.replace(contact, shown=limit.allowed) for contact, limit in held]
    deeper, measured = list[Deeper](), 0
    for g, near in _near(moving, over, tell).items():
        for k, times, seen, way in _looks(moving, g, near, [limit.allowed - contact.deep for contact, limit in held]):
            found, shown, count = _judged(*held[k], times, seen, way, tell)
            deeper += found
            measured += count
            contacts[k] = dataclasses.replace(contacts[k], shown=shown)
    return Course(tuple(deeper), tuple(contacts), measured)


def _near(moving: Between, over: tuple[float, float], tell: Callable[[], None]) -> dict[int, _Near]:
    """The steps in which boxes that pairs sweep meet while they are in contact, by the groups that they are between."""
    found: dict[int, _Near] = {}
    for window in moving.windows(over[1], over[0]):
        tell()
        far = moving.gaps(window) > 0
        for g in np.flatnonzero(~far.all(axis=0)):
            mine = [moving.pairs[k] for k in moving.groups.pairs[g]]
            near = moving.body_gaps(int(g), window) <= 0
            near &= np.stack([pair.looked_at(window.times) for pair in mine], axis=1)
            inner = np.flatnonzero(near.any(axis=1))
            if not len(inner):
                continue
            one, two = moving.led(int(g), window)
            seen = inverse_rigid(two) @ one
            ways = np.stack([_way(moving, window, pair, seen) for pair in mine], axis=1)
            kept = found.setdefault(int(g), _Near())
            kept.starts.append(window.times[inner])
            kept.ends.append(window.times[inner + 1])
            kept.near.append(near[inner])
            kept.ways.append(ways[inner])
    return found


def _way(moving: Between, window: Window, pair: Pairing, seen: Array) -> Array:
    """How far (n - 1,) points of a pair go to each other at most in each step of a window where they can meet: within both boxes."""
    whole = window.ways(pair)
    poses, boxes = moving.within(pair, seen), [shape.bounds for shape in pair.shapes]
    beyond = float(whole.max(initial=0.0))
    if not np.isfinite(beyond):
        return whole
    met = []
    for own, other, there in ((boxes[0], boxes[1], inverse_rigid(poses)), (boxes[1], boxes[0], poses)):
        bounds = turned_bounds(other, there)
        low, high = bounds[:, 0].min(axis=0) - beyond, bounds[:, 1].max(axis=0) + beyond
        met.append(np.array([np.maximum(own[0], low), np.minimum(own[1], high)]))
    if any((box[0] >= box[1]).any() for box in met):
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
    ways = np.where(close, np.concatenate(near.ways), 0.0)
    steps = np.maximum(_STEP * np.array([spare[k] for k in mine]), ways.sum(axis=0) / _MOST)
    with np.errstate(invalid="ignore"):
        each = np.where(np.isfinite(ways), ways / steps, _MOST_IN_STEP)
    counts = np.clip(np.ceil(each.max(axis=1)), 1, _MOST_IN_STEP).astype(int)
    of = np.repeat(np.arange(len(start)), counts + 1)
    first = np.concatenate([[0], np.cumsum(counts + 1)[:-1]])
    times = start[of] + (np.arange(len(of)) - first[of]) / counts[of] * (end - start)[of]
    led = np.concatenate([moving.seen(g, times[k : k + _HELD]) for k in range(0, len(times), _HELD)])
    for column, k in enumerate(mine):
        wanted = close[of, column]
        if wanted.any():
            way = float((ways[:, column] / counts).max())
            yield k, times[wanted], moving.within(moving.pairs[k], led[wanted]), way


def _judged(
    contact: Contact, limit: DepthLimit, times: Array, seen: Array, way: float, tell: Callable[[], None]
) -> tuple[list[Deeper], float | None, int]:
    """Where a contact is deeper than allowed at times (n,), how deep it is shown to be at most elsewhere (none: nothing is), and how many
    poses were looked at closely."""
    reach = float(np.linalg.norm(np.abs(limit.one.shape.bounds).max(axis=0)))
    poses, which = unlike(seen, max(_LIKE * way, 1e-9), reach)
    every = limit.open_at(poses)
    left, apart = _fewer(every, int(np.clip(limit.looks, _FEWEST_OPEN, _MOST_OPEN)))
    rooms = np.zeros(len(poses))
    for k in left:
        tell()
        rooms[k] = limit.room(poses[k], (apart + 1) * way)
    doubtful = left[rooms[left] <= 0]
    chosen, _ = _fewer(doubtful, _MOST_DOUBTFUL)
    depths = np.zeros(len(poses))
    depths[np.concatenate([np.setdiff1d(every, left), doubtful])] = np.nan  # not known
    deeper = [k for k in chosen if _told(tell) and deeper_than(limit.one, poses[k], limit.two, limit.allowed)]
    depths[chosen] = 0.0
    # how deep, where it may be deepest
    depths[deeper] = limit.allowed + _HAIR
    known = np.array(deeper, np.intp)
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
    beyond = _beyond(rooms[which[order]], np.isfinite(depths[which[order]]), way)
    told = limit.allowed + beyond if np.isfinite(beyond) else None
    if not (depths > limit.allowed).any():
        return [], told, len(left)
    order = order[np.isfinite(depths[which[order]])]
    at, deep = times[order], depths[which[order]]
    hits = np.flatnonzero(deep > limit.allowed)
    found = []
    for part in np.split(hits, np.flatnonzero(np.diff(hits) > 1) + 1):
        worst = part[int(np.argmax(deep[part]))]
        span = float(at[part[0]]), float(at[part[-1]])
        found.append(Deeper(contact.pair, *span, float(deep[worst]), float(at[worst]), limit.allowed))
    return found, told, len(left)


def _beyond(rooms: Array, known: NDArray[np.bool_], way: float) -> float:
    """By how much in mm a pair may be deeper between looks (n,) than allowed at most, of which those ``known`` tell by how much (``rooms``)
    it is at least less deep; from one to the next it goes no farther than a way, and what they stand for is off by a share of that."""
    at = np.flatnonzero(known)
    if not len(at):
        return np.inf
    room = np.maximum(rooms[at] - _LIKE * way, 0.0)
    inner = 0.5 * (np.diff(at) * way - room[:-1] - room[1:])
    ends = np.array([at[0] * way - room[0], (len(rooms) - 1 - at[-1]) * way - room[-1]])
    return float(max(inner.max(initial=0.0), ends.max(), 0.0) + _LIKE * way)


def _told(tell: Callable[[], None]) -> bool:
    tell()
    return True


def _fewer(numbers: NDArray[np.intp], most: int) -> tuple[NDArray[np.intp], int]:
    """About so many of some numbers at most, evenly and the last one too, and how far apart they are then."""
    apart = max(-(-len(numbers) // most), 1)
    return np.unique(np.concatenate([numbers[::apart], numbers[-1:]])), apart
