"""Clearance over frames between what moves and what stays.

For every frame the least distance over all pairs is found exactly (as far as the meshes are), with its
pair and nearest points, and with every pair that comes nearer than the required clearance. Far pairs
cost almost nothing: a pair is measured only when neither its bounding boxes nor how far it has moved
since it was last measured show it to be far.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.asked import GENERAL, Asked, asked_of, required_by
from kestrav.core.clearance.between import stirred
from kestrav.core.clearance.depth import Solid, overlap_of
from kestrav.core.document.lookup import named_parts, shown_parts, solids, subtree
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, box_corners, box_gaps, encloses, turned_bounds
from kestrav.core.geometry.models import model, nearest, placed
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.motion.poses import moving_groups, world_poses
from kestrav.core.motion.resting import rest_poses
from kestrav.core.motion.runs import begins, journey
from kestrav.core.motion.solids import solid_mesh

Array = NDArray[np.float64]
Progress = Callable[[float], None]

_HAIR = 1e-9  # mm
_CHUNK = 8  # frames whose bounds are worked out together; bounds memory, and sets how often progress is told


@dataclass(frozen=True)
class Pair:
    """Two parts: the moving one first."""

    moving: str
    other: str


@dataclass(frozen=True)
class Breach:
    """A pair nearer than required: frame intervals (first, last), its worst frame, what is required of it in mm, and the worst frame of
    each interval with the distance there.

    Below 0 the distance is how deep they overlap.
    """

    pair: Pair
    intervals: tuple[tuple[int, int], ...]
    frame: int
    distance: float
    points: Array
    required: float
    worst: tuple[tuple[int, float], ...] = ()


@dataclass(frozen=True)
class Tally:
    """Per frame the least distance (n,) in mm of the pairs that one requirement is about, or none in particular, with its pair and
    nearest points (n, 2, 3)."""

    requirement: str | None
    required: float
    pairs_checked: int
    distance: Array
    pairs: tuple[Pair | None, ...]
    points: Array


@dataclass(frozen=True)
class Clearance:
    """Sampled clearance: per frame the distance (n,) in mm of the pair that is nearest to what is required of it (n,), its pair and
    nearest points (n, 2, 3).

    ``distance`` is below 0 by how deep they overlap, and infinite, the pair being None, where there is nothing to measure. ``short``
    tells the frames (n,) in which some pair is nearer than required. ``contacts`` are the pairs left out because they are meant to touch; ``unchecked`` is how many others are not asked for.
    """

    times: Array
    required: float
    distance: Array
    needs: Array
    pairs: tuple[Pair | None, ...]
    points: Array
    short: NDArray[np.bool_]
    breaches: tuple[Breach, ...]
    contacts: tuple[Pair, ...]
    tallies: tuple[Tally, ...] = ()
    unchecked: int = 0
    measured: int = 0

    @property
    def worst(self) -> int | None:
        """The frame of the least distance."""
        if not len(self.distance) or not np.isfinite(self.distance).any():
            return None
        return int(np.argmin(self.distance))

    def intervals(self) -> tuple[tuple[int, int], ...]:
        """Frame intervals in which some pair is nearer than required."""
        return intervals_of(np.flatnonzero(self.short))


def intervals_of(frames: NDArray[np.intp]) -> tuple[tuple[int, int], ...]:
    """Runs of consecutive numbers in an increasing array, as (first, last)."""
    if not len(frames):
        return ()
    cuts = np.flatnonzero(np.diff(frames) > 1)
    first = np.concatenate([[frames[0]], frames[cuts + 1]])
    last = np.concatenate([frames[cuts], [frames[-1]]])
    return tuple((int(a), int(b)) for a, b in zip(first, last, strict=True))


@dataclass
class Bodies:
    """Arrays over the bodies (parts with geometry that are shown) and over the pairs between them."""

    ids: list[str]
    rows: NDArray[np.intp]
    meshes: list[Mesh]
    boxes: Array
    models: list[Any]
    watertight: list[bool]
    still: NDArray[np.bool_]
    first: NDArray[np.intp] = field(default_factory=lambda: np.empty(0, np.intp))
    second: NDArray[np.intp] = field(default_factory=lambda: np.empty(0, np.intp))

    def pairs(self) -> list[tuple[str, str]]:
        """The ids of the bodies of each pair, the moving one first."""
        return [(self.ids[a], self.ids[b]) for a, b in zip(self.first, self.second, strict=True)]


def _bodies(project: Project, meshes: Mapping[str, Mesh]) -> Bodies:
    closed = {g.hash: g.watertight for g in project.geometry}
    shown = shown_parts(project)
    chosen = [(row, part) for row, part in enumerate(project.parts) if part.geometry is not None and part.id in shown]
    group = moving_groups(project)
    shapes = [solid_mesh(meshes, part) for _, part in chosen]
    groups = np.array([group.get(part.id, -1) for _, part in chosen], int)
    bodies = Bodies(
        [part.id for _, part in chosen],
        np.array([row for row, _ in chosen], np.intp),
        shapes,
        np.array([m.bounds for m in shapes]).reshape(-1, 2, 3),
        [model(m) for m in shapes],
        [closed.get(part.geometry or "", False) for _, part in chosen],
        groups < 0,
    )
    moving = np.flatnonzero(groups >= 0)
    first = np.repeat(moving, len(chosen))
    second = np.tile(np.arange(len(chosen)), len(moving))
    # two moving bodies make one pair, not two
    keep = (groups[first] != groups[second]) & ((groups[second] < 0) | (groups[first] < groups[second]))
    bodies.first, bodies.second = first[keep], second[keep]
    return bodies


def moving_pairs(project: Project, meshes: Mapping[str, Mesh]) -> list[tuple[str, str]]:
    """Pairs of shown solids of which at least one moves, and not with the other; the moving one first."""
    return _bodies(project, meshes).pairs()


def touching_at_rest(project: Project, meshes: Mapping[str, Mesh], within: float | None = None) -> tuple[Pair, ...]:
    """Pairs that touch with no run under way, proposed as intended contact; or that are within a distance in mm."""
    return _touching(project, _bodies(project, meshes), within)


def _touching(project: Project, bodies: Bodies, within: float | None = None) -> tuple[Pair, ...]:
    limit = project.settings.contact_distance if within is None else within
    rest = rest_poses(project)[bodies.rows]
    bounds = turned_bounds(bodies.boxes, rest)
    close = np.flatnonzero(box_gaps(bounds[bodies.first], bounds[bodies.second]) <= limit)
    transforms = [placed(m) for m in rest]
    found = []
    for k in close:
        a, b = bodies.first[k], bodies.second[k]
        if nearest(bodies.models[a], transforms[a], bodies.models[b], transforms[b], limit + _HAIR) is not None:
            found.append(Pair(bodies.ids[a], bodies.ids[b]))
    return tuple(found)


def working_pairs(project: Project) -> tuple[Pair, ...]:
    """Pairs that work on each other, and so are as near as they are built: both ends of drives, rods and what hangs on their pins."""
    links: list[tuple[str, str]] = [(drive.a.part, drive.b.part) for drive in project.drives]
    for rod in project.rods:
        links += [(rod.part, other) for other in named_parts(rod)[1:]]
    found = []
    for one, two in links:
        sides = [[part.id for part in solids(project, thing)] for thing in (one, two)]
        found += [Pair(a, b) for a in sides[0] for b in sides[1] if a != b]
    return tuple(found)


def _met(project: Project, bodies: Bodies) -> tuple[Pair, ...]:
    """Pairs that touch as one begins to ride with the other or is put down onto it, and wheels with what they stand on as the runs begin
    and end: proposed as intended contact."""
    row = {i: k for k, i in enumerate(bodies.ids)}
    wheels = {part.id for roll in project.rolls for part in solids(project, roll.part)} & row.keys()
    looks: dict[float, set[tuple[str, str]]] = {}
    for carry in project.carries:
        start = begins(project, carry)
        ends = [(start, carry.carrier)]
        if carry.end is not None and carry.onto is not None:
            ends.append((carry.end, carry.onto))
        for time, other in ends:
            if np.isfinite(time):
                looks.setdefault(time, set()).update(
                    (a.id, b.id) for a in solids(project, carry.rider) for b in solids(project, other) if a.id != b.id
                )
    grounds = [i for i, still in zip(bodies.ids, bodies.still, strict=True) if still]
    for run in project.runs if wheels else ():
        trip = journey(project, run)
        if wheels & set(subtree(project, run.rider)):
            for time in (trip.start, trip.end):
                looks.setdefault(time, set()).update((a, b) for a in wheels for b in grounds)
    times = sorted(time for time in looks if np.isfinite(time))
    if not times:
        return ()
    found: dict[Pair, None] = {}
    for time, poses in zip(times, world_poses(project, times)[:, bodies.rows], strict=True):
        bounds = turned_bounds(bodies.boxes, poses)
        for one, two in looks[time]:
            a, b = row.get(one), row.get(two)
            if a is None or b is None or Pair(one, two) in found:
                continue
            limit = project.settings.contact_distance
            if box_gaps(bounds[a], bounds[b]) > limit or (one in wheels and bounds[b, 1, 2] > bounds[a, 0, 2] + limit):
                continue
            if (
                nearest(bodies.models[a], placed(poses[a]), bodies.models[b], placed(poses[b]), limit + _HAIR)
                is not None
            ):
                found[Pair(one, two)] = None
    return tuple(found)


def _intended(project: Project, bodies: Bodies) -> tuple[Pair, ...]:
    """The pairs that are meant to touch: those that do at rest, as something is taken up or put down, or under wheels; those that work on
    each other; and the recorded ones, less those recorded as not intended."""
    said = {frozenset((c.a, c.b)): c for c in project.contacts}
    proposed = (*_touching(project, bodies), *_met(project, bodies))
    every = {frozenset((p.moving, p.other)): p for p in (*working_pairs(project), *proposed)}
    kept = [p for key, p in every.items() if key not in said]
    return (*kept, *(Pair(c.a, c.b) for c in project.contacts if c.intended))


def sweep(
    project: Project,
    meshes: Mapping[str, Mesh],
    times: Array,
    progress: Progress | None = None,
    only: Collection[str] | None = None,
) -> Clearance:
    """Clearance at times (n,), of all that moves or ``only`` of some parts with the rest.

    ``progress`` is told shares from 0 to 1 and may raise to stop the work.
    """
    ready = prepared(project, meshes, only)
    bodies = ready.bodies
    state = _Sweep(bodies, ready.asked, len(times), len(project.requirements))
    for start in range(0, len(times), _CHUNK):
        if progress is not None:
            progress(start / len(times))
        state.chunk(start, world_poses(project, times[start : start + _CHUNK])[:, bodies.rows])
    return state.result(project, times, ready.contacts, ready.unchecked)


@dataclass(frozen=True, eq=False)
class Prepared:
    """What is to be measured: the bodies with the pairs between them that are checked, what is asked of these, the intended contacts,
    and how many pairs are not asked for."""

    bodies: Bodies
    asked: Asked
    contacts: tuple[Pair, ...]
    unchecked: int


def prepared(project: Project, meshes: Mapping[str, Mesh], only: Collection[str] | None = None) -> Prepared:
    """Which pairs of all that moves, or ``only`` of some parts with the rest, are to be measured."""
    bodies = _bodies(project, meshes)
    contacts = _intended(project, bodies)
    left_out = {frozenset((c.moving, c.other)) for c in contacts}
    pairs = bodies.pairs()
    asked = asked_of(project, pairs)
    meant = np.array([frozenset(pair) not in left_out for pair in pairs], bool)
    wanted = meant & np.array([only is None or a in only or b in only for a, b in pairs], bool)
    keep = wanted & asked.checked
    bodies.first, bodies.second = bodies.first[keep], bodies.second[keep]
    unchecked = int(np.count_nonzero(wanted & ~keep))
    return Prepared(bodies, Asked(asked.need[keep], asked.whose[keep]), contacts, unchecked)


class _Sweep:
    """Bookkeeping of one sweep: what each pair's distance is known to be at least, and the nearest pair of each requirement (the last
    column: of none)."""

    def __init__(self, bodies: Bodies, asked: Asked, frames: int, requirements: int) -> None:
        self.bodies, self.need, self.whose = bodies, asked.need, asked.whose
        self.distance = np.full((frames, requirements + 1), np.inf)
        self.pair = np.full((frames, requirements + 1), -1)
        self.points = np.zeros((frames, requirements + 1, 2, 3))
        self.at_least = np.zeros(len(bodies.first))
        self.inside = np.zeros(len(bodies.first), bool)
        self.within = np.zeros(len(bodies.first), bool)
        self.close: dict[int, list[tuple[int, float, Array]]] = {}
        self.last_poses: Array | None = None
        self.last_hits: list[tuple[int, float, Array]] = []
        self.ways: dict[int, Array] = {}  # along which pairs that overlap come apart
        self.measured = 0
        self.corners = np.array([box_corners(b) for b in bodies.boxes]).reshape(-1, 8, 3)
        self.static_transform: dict[int, tuple[Array, Any]] = {}

    def chunk(self, start: int, poses: Array) -> None:
        """Measure frames ``start`` and following at body poses (n, k, 4, 4)."""
        if not len(self.bodies.first):
            return
        bounds = turned_bounds(self.bodies.boxes, poses)
        for offset in range(len(poses)):
            self._frame(start + offset, poses[offset], bounds[offset])

    def _frame(self, frame: int, poses: Array, bounds: Array) -> None:
        first, second = self.bodies.first, self.bodies.second
        if self.last_poses is not None:
            if np.array_equal(poses, self.last_poses):
                self._repeat(frame)
                return
            stir = stirred(self.corners, self.last_poses, poses)
            self.at_least -= stir[first] + stir[second]
        self.last_poses = poses
        gap = np.maximum(box_gaps(bounds[first], bounds[second]), self.at_least)
        self.at_least = gap
        contained = self._containment(poses, bounds)
        hits = list[tuple[int, float, Array]]()
        for k in self._order(frame, gap):
            own = self.whose[k]
            bound = max(float(self.distance[frame, own]), self.need[k])
            if gap[k] >= bound:
                continue
            a, b = first[k], second[k]
            self.measured += 1
            found = nearest(
                self.bodies.models[a],
                self._transform(a, poses[a]),
                self.bodies.models[b],
                self._transform(b, poses[b]),
                bound,
            )
            if found is None:
                self.at_least[k] = bound
                continue
            distance, points = found.distance, np.stack([found.first, found.second])
            self.at_least[k] = 0.0 if contained[k] else distance
            if contained[k] or distance == 0.0:
                distance = -self._depth(k, poses)
            else:
                self.ways.pop(k, None)
            if distance < self.need[k]:
                hits.append((k, distance, points))
            if distance < self.distance[frame, own]:
                self.distance[frame, own], self.pair[frame, own], self.points[frame, own] = distance, k, points
        self.last_hits = hits
        for k, distance, points in hits:
            self.close.setdefault(k, []).append((frame, distance, points))

    def _depth(self, k: int, poses: Array) -> float:
        """How deep a pair overlaps."""
        a, b = self.bodies.first[k], self.bodies.second[k]
        one, two = (Solid(self.bodies.meshes[i], self.bodies.models[i], self.bodies.watertight[i]) for i in (a, b))
        found = overlap_of(one, poses[a], two, poses[b], self.ways.get(k))
        self.ways[k] = found.way
        return found.depth

    def _order(self, frame: int, gap: Array) -> Iterator[int]:
        """Pairs to look at: the last frame's nearest first, since they bound the rest, then by their gap."""
        seeds = [int(k) for k in self.pair[frame - 1] if k >= 0] if frame > 0 else []
        yield from seeds
        near = np.flatnonzero(gap < np.maximum(self.distance[frame][self.whose], self.need))
        yield from (int(k) for k in near[np.argsort(gap[near], kind="stable")] if k not in seeds)

    def _repeat(self, frame: int) -> None:
        self.distance[frame], self.pair[frame] = self.distance[frame - 1], self.pair[frame - 1]
        self.points[frame] = self.points[frame - 1]
        for k, distance, points in self.last_hits:
            self.close[k].append((frame, distance, points))

    def _transform(self, body: int, matrix: Array) -> Any:
        known = self.static_transform.get(body)
        if known is None or not np.array_equal(known[0], matrix):
            known = self.static_transform[body] = (matrix, placed(matrix))
        return known[1]

    def _containment(self, poses: Array, bounds: Array) -> NDArray[np.bool_]:
        """Pairs of which one lies wholly inside the other's closed solid, where surfaces do not meet.

        Passing in or out crosses the surface, so it is enough to look again when the boxes begin to nest.
        """
        first, second = self.bodies.first, self.bodies.second
        a, b = bounds[first], bounds[second]
        a_in_b = np.all((a[:, 0] >= b[:, 0]) & (a[:, 1] <= b[:, 1]), axis=1)
        b_in_a = np.all((b[:, 0] >= a[:, 0]) & (b[:, 1] <= a[:, 1]), axis=1)
        nested: NDArray[np.bool_] = a_in_b | b_in_a
        for k in np.flatnonzero(nested & ~self.within):
            inner, outer = (first[k], second[k]) if a_in_b[k] else (second[k], first[k])
            if self.bodies.watertight[outer]:
                point = apply(poses[inner], self.bodies.meshes[inner].vertices[:1])
                local = apply(inverse_rigid(poses[outer]), point)[0]
                self.inside[k] = encloses(self.bodies.meshes[outer], local)
        self.inside = self.inside & nested
        self.within = nested
        return self.inside

    def _named(self, k: int) -> Pair:
        return Pair(self.bodies.ids[self.bodies.first[k]], self.bodies.ids[self.bodies.second[k]])

    def result(self, project: Project, times: Array, contacts: tuple[Pair, ...], unchecked: int) -> Clearance:
        """Everything found, breaches sorted by how far they fall short of what is required."""
        breaches = []
        for k, hits in self.close.items():
            worst = min(hits, key=lambda hit: hit[1])
            frames = intervals_of(np.array([hit[0] for hit in hits], np.intp))
            lows = tuple(
                min(((f, d) for f, d, _ in hits if first <= f <= last), key=lambda low: low[1])
                for first, last in frames
            )
            breaches.append(Breach(self._named(k), frames, *worst, float(self.need[k]), lows))
        breaches.sort(key=lambda breach: (breach.distance - breach.required, breach.frame))
        general = project.settings.required_clearance
        needs = np.array([*(required_by(project, item) for item in project.requirements), general])
        # the requirement whose nearest pair is the worst off, in each frame
        own = np.argmin(self.distance - needs, axis=1)
        frame = np.arange(len(times))
        return Clearance(
            times,
            general,
            self.distance[frame, own],
            needs[own],
            self._pairs(self.pair[frame, own]),
            self.points[frame, own],
            _within(len(times), breaches),
            tuple(breaches),
            contacts,
            tuple(self._tally(project, t, float(need)) for t, need in enumerate(needs)),
            unchecked,
            self.measured,
        )

    def _tally(self, project: Project, t: int, need: float) -> Tally:
        ids = [item.id for item in project.requirements]
        own = self.whose == (t if t < len(ids) else GENERAL)
        return Tally(
            ids[t] if t < len(ids) else None,
            need,
            int(np.count_nonzero(own)),
            self.distance[:, t],
            self._pairs(self.pair[:, t]),
            self.points[:, t],
        )

    def _pairs(self, numbers: NDArray[np.int_]) -> tuple[Pair | None, ...]:
        return tuple(self._named(int(k)) if k >= 0 else None for k in numbers)


def _within(count: int, breaches: list[Breach]) -> NDArray[np.bool_]:
    """The frames (n,) in which any of the breaches is."""
    found = np.zeros(count, bool)
    for breach in breaches:
        for first, last in breach.intervals:
            found[first : last + 1] = True
    return found
