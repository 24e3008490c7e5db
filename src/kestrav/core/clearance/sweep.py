"""Clearance over frames between what moves and what stays.

For every frame the least distance over all pairs is found exactly (as far as the meshes are), with its
pair and nearest points, and with every pair that comes nearer than the required clearance. Far pairs
cost almost nothing: a pair is measured only when neither its bounding boxes nor how far it has moved
since it was last measured show it to be far.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.alike import unlike
from kestrav.core.clearance.asked import GENERAL, Asked, asked_of, required_by
from kestrav.core.clearance.between import displacement_between
from kestrav.core.clearance.bodies import Bodies, Pair, bodies_of
from kestrav.core.clearance.contact_history import Contact, Held, Nearness, contacts_of, nearness_of, within
from kestrav.core.clearance.interference import interference_of
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, box_corners, box_distances, encloses, turned_bounds
from kestrav.core.geometry.models import nearest, placed
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.progress import Progress, one_by_one, portion

Array = NDArray[np.float64]

_DEPTHS = 5  # frames at which it is measured how deep a pair in contact is where it is too deep
_MOST_DEPTHS = 400  # places at which it is measured how deep pairs overlap, in all their passages through each other; of each one at least
# shares of a sweep that its frames and what overlaps in them usually take; the rest goes to what is in contact
_FRAMES, _CROSSINGS = 0.4, 0.2
_CHUNK = 8  # frames whose bounds are worked out together; bounds memory, and sets how often progress is told


class Breach(msgspec.Struct, frozen=True):
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


class Tally(msgspec.Struct, frozen=True):
    """Per frame the least distance (n,) in mm of the pairs that one requirement is about, or none in particular, with its pair and
    nearest points (n, 2, 3)."""

    requirement: str | None
    required: float
    pairs_checked: int
    distance: Array
    pairs: tuple[Pair | None, ...]
    points: Array


class Clearance(msgspec.Struct, frozen=True):
    """Sampled clearance: per frame the distance (n,) in mm of the pair that is nearest to what is required of it (n,), its pair and
    nearest points (n, 2, 3).

    ``distance`` is below 0 by how deep they overlap, and infinite, the pair being None, where there is nothing to measure. ``short``
    tells the frames (n,) in which some pair is nearer than required. ``contacts`` are the pairs in contact, which
    are breaches where they get deeper than they may; ``unchecked`` is how many pairs are not asked for.
    """

    times: Array
    required: float
    distance: Array
    needs: Array
    pairs: tuple[Pair | None, ...]
    points: Array
    short: NDArray[np.bool_]
    breaches: tuple[Breach, ...]
    contacts: tuple[Contact, ...]
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
    portion(progress, 0.0, 1.0)(0.0)
    ready = prepared(project, meshes, only)
    bodies = ready.bodies
    state = _Sweep(ready, times, len(project.requirements))
    for start in one_by_one(range(0, len(times), _CHUNK), portion(progress, 0.0, _FRAMES)):
        state.chunk(start, world_poses(project, times[start : start + _CHUNK])[:, bodies.rows])
    state.depths(portion(progress, _FRAMES, _FRAMES + _CROSSINGS))
    motion = Motion(project)
    state.in_contact(
        lambda chosen: np.stack([motion.poses(bodies.ids[k], times) for k in chosen], axis=1),
        portion(progress, _FRAMES + _CROSSINGS, 1.0),
    )
    return state.result(project)


class Prepared(msgspec.Struct, frozen=True, eq=False):
    """What is to be measured: the bodies with the pairs between them that are checked, what is asked of these, which of them (by number)
    are in contact or stand nearer than required, and how many pairs are not asked for."""

    bodies: Bodies
    asked: Asked
    held: Mapping[int, Held]
    near: Mapping[int, Nearness]
    unchecked: int

    @property
    def contacts(self) -> tuple[Contact, ...]:
        """The contacts among the pairs."""
        return tuple(contact for contact, _ in self.held.values())


def prepared(project: Project, meshes: Mapping[str, Mesh], only: Collection[str] | None = None) -> Prepared:
    """Which pairs of all that moves, or ``only`` of some parts with the rest, are to be measured."""
    bodies = bodies_of(project, meshes)
    pairs = bodies.pairs()
    asked = asked_of(project, pairs)
    wanted = np.array([only is None or a in only or b in only for a, b in pairs], bool)
    keep = wanted & asked.checked
    bodies.first, bodies.second = bodies.first[keep], bodies.second[keep]
    unchecked = int(np.count_nonzero(wanted & ~keep))
    asked = Asked(asked.need[keep], asked.whose[keep])
    number = {frozenset(pair): k for k, pair in enumerate(bodies.pairs())}
    need = {pair: float(asked.need[k]) for pair, k in number.items()}
    held = {
        number[frozenset((contact.pair.moving, contact.pair.other))]: (contact, limit)
        for contact, limit in contacts_of(project, meshes, bodies, need)
    }
    return Prepared(bodies, asked, held, nearness_of(project, meshes, bodies, asked, held), unchecked)


class _Crossing(msgspec.Struct, frozen=True, eq=False):
    """How the first and the second of a pair that overlaps stand (4, 4), whether one lies wholly inside the other, a point (2, 3) of the
    overlap, and how far apart they must be in mm."""

    first: Array
    second: Array
    contained: bool
    points: Array
    need: float


class _Sweep:
    """Bookkeeping of one sweep: what each pair's distance is known to be at least, and the nearest pair of each requirement (the last
    column: of none)."""

    def __init__(self, ready: Prepared, times: Array, requirements: int) -> None:
        self.ready, self.times, self.bodies = ready, times, ready.bodies
        bodies, frames = ready.bodies, len(times)
        self.need, self.whose = ready.asked.need, ready.asked.whose
        self.touching = np.zeros((frames, len(bodies.first)), bool)  # which pairs are in contact
        for k, (contact, _) in ready.held.items():
            self.touching[:, k] = contact.at(times)
        self.near = {k: within(near.spans, times) for k, near in ready.near.items()}
        self.distance = np.full((frames, requirements + 1), np.inf)
        self.pair = np.full((frames, requirements + 1), -1)
        self.points = np.zeros((frames, requirements + 1, 2, 3))
        self.at_least = np.zeros(len(bodies.first))
        self.inside = np.zeros(len(bodies.first), bool)
        self.within = np.zeros(len(bodies.first), bool)
        self.close: dict[int, list[tuple[int, float, Array]]] = {}
        self.last_poses: Array | None = None
        self.last_hits: list[tuple[int, float, Array]] = []
        self.crossing: dict[
            int, list[tuple[int, _Crossing]]
        ] = {}  # frames in which pairs overlap, and how they stand then
        self.last_crossing: list[tuple[int, _Crossing]] = []
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
            stir = displacement_between(self.corners, self.last_poses, poses)
            self.at_least -= stir[first] + stir[second]
        self.last_poses = poses
        hits, crossings = list[tuple[int, float, Array]](), list[tuple[int, _Crossing]]()
        need, stands_near = self._needed(frame)
        for k in self._order(frame, poses, bounds, need, stands_near):
            own = self.whose[k]
            bound = need[k] if stands_near[k] else max(float(self.distance[frame, own]), need[k])
            if self.at_least[k] >= bound:
                continue
            a, b = first[k], second[k]
            self.measured += 1
            apart = nearest(
                self.bodies.models[a],
                self._transform(a, poses[a]),
                self.bodies.models[b],
                self._transform(b, poses[b]),
                bound,
            )
            if apart is None:
                self.at_least[k] = bound
                continue
            distance, points = apart.distance, np.stack([apart.first, apart.second])
            self.at_least[k] = 0.0 if self.inside[k] else distance
            if self.inside[k] or distance == 0.0:
                # how deep is looked for when it is known how much there is to look for
                distance = 0.0
                crossings.append((k, _Crossing(poses[a], poses[b], bool(self.inside[k]), points, float(need[k]))))
            elif distance < need[k]:
                hits.append((k, distance, points))
            if distance < need[k] or not stands_near[k]:
                self._keep(frame, k, distance, points)
        self.last_hits, self.last_crossing = hits, crossings
        self._note(frame)

    def _note(self, frame: int) -> None:
        """Keep what was found in the last frame that was measured as that of a frame."""
        for k, distance, points in self.last_hits:
            self.close.setdefault(k, []).append((frame, distance, points))
        for k, crossing in self.last_crossing:
            self.crossing.setdefault(k, []).append((frame, crossing))

    def depths(self, progress: Progress) -> None:
        """Measure how deep pairs overlap while they pass through each other: at every place that they take where these are few in all,
        otherwise at some of each passage, and between these as the line through them has it."""
        passages = [
            (k, [entry for entry in overlap if first <= entry[0] <= last])
            for k, overlap in self.crossing.items()
            for first, last in intervals_of(np.array([frame for frame, _ in overlap], np.intp))
        ]
        places = sum(len({id(crossing) for _, crossing in passage}) for _, passage in passages)
        each = len(self.times) if places <= _MOST_DEPTHS else max(_MOST_DEPTHS // len(passages), 1)
        for k, passage in one_by_one(passages, progress):
            self._passage(k, passage, each)

    def _passage(self, k: int, passage: list[tuple[int, _Crossing]], most: int) -> None:
        """The depths of a pair in the frames of one passage, measured at ``most`` places at most."""
        a, b = self.bodies.solid(self.bodies.first[k]), self.bodies.solid(self.bodies.second[k])
        # where nothing moves, frames share a place
        places = list({id(crossing): (frame, crossing) for frame, crossing in reversed(passage)}.values())[::-1]
        some = places
        if most < len(places):
            some = [places[n] for n in np.unique(np.linspace(0, len(places) - 1, most + 2)[1:-1].astype(int))]
        interferences = [interference_of(a, c.first, b, c.second) for _, c in some]
        at, depths = [float(frame) for frame, _ in some], [deep.depth for deep in interferences]
        if some is not places:
            # before the first frame and after the last one they are apart
            at, depths = [passage[0][0] - 1.0, *at, passage[-1][0] + 1.0], [0.0, *depths, 0.0]
        measured = {id(crossing): n for n, (_, crossing) in enumerate(some)}
        for frame, crossing in passage:
            n = measured.get(id(crossing))
            depth = float(np.interp(frame, at, depths)) if n is None else interferences[n].depth
            points = crossing.points
            if n is not None and depth > 0 and not crossing.contained:
                points = np.stack([interferences[n].place, interferences[n].place])
            if -depth < crossing.need:
                self.close.setdefault(k, []).append((frame, -depth, points))
                self._keep(frame, k, -depth, points)

    def in_contact(self, poses: Callable[[Sequence[int]], Array], progress: Progress) -> None:
        """Look how deep what is in contact is in each other; ``poses`` gives bodies' poses (n, k, 4, 4) in all frames."""
        for k, (_, limit) in one_by_one(list(self.ready.held.items()), progress):
            frames = np.flatnonzero(self.touching[:, k])
            if not len(frames):
                continue
            a, b = self.bodies.first[k], self.bodies.second[k]
            both = poses([int(a), int(b)])[frames]
            seen = inverse_rigid(both[:, 1]) @ both[:, 0]
            first, which = unlike(seen, limit.one.shape.bounds)
            seen = seen[first]
            self.measured += len(seen)
            deep = set(limit.too_deep(seen).tolist())
            bad = frames[[int(n) in deep for n in which]]
            if not len(bad):
                continue
            # measured at some of them, and between these as the line through them has it
            some = bad[np.unique(np.linspace(0, len(bad) - 1, _DEPTHS).astype(int))]
            measured = {int(f): limit.measured(seen[which[np.searchsorted(frames, f)]]) for f in some}
            depths = np.interp(bad, some, [measured[int(f)].depth for f in some])
            for frame, depth in zip(bad, depths, strict=True):
                at_two = both[np.searchsorted(frames, frame), 1]
                nearest_told = measured[int(some[np.argmin(np.abs(some - frame))])]
                points = np.repeat(apply(at_two, nearest_told.place[None]), 2, axis=0)
                self.close.setdefault(int(k), []).append((int(frame), -float(depth), points))
                self._keep(int(frame), int(k), -float(depth), points)

    def _keep(self, frame: int, k: int, distance: float, points: Array) -> None:
        """A pair's distance, if it is the least of its requirement's."""
        own = self.whose[k]
        if distance < self.distance[frame, own]:
            self.distance[frame, own], self.pair[frame, own], self.points[frame, own] = distance, k, points

    def _needed(self, frame: int) -> tuple[Array, NDArray[np.bool_]]:
        """How far apart the pairs (p,) must be in a frame, and which of them stand nearer than required of all: these are no distance to be
        told of unless they come nearer."""
        need, near = self.need, np.zeros(len(self.need), bool)
        here = [k for k, at in self.near.items() if at[frame]]
        if here:
            need = need.copy()
            need[here], near[here] = [self.ready.near[k].keeps for k in here], True
        return need, near

    def _order(self, frame: int, poses: Array, bounds: Array, need: Array, near: NDArray[np.bool_]) -> Iterator[int]:
        """Pairs to look at: the last frame's nearest first, since they bound the rest, then by their gap. What is in contact is no
        distance."""
        seeds = np.array(
            [k for k in self.pair[frame - 1] if k >= 0 and not self.touching[frame, k]] if frame > 0 else [], np.intp
        )
        self._narrow(seeds, poses, bounds)
        yield from seeds.tolist()
        far = np.where(near, need, np.maximum(self.distance[frame][self.whose], need))
        left = np.flatnonzero((self.at_least < far) & ~self.touching[frame])
        left = left[~np.isin(left, seeds)]
        self._narrow(left, poses, bounds)
        left = left[self.at_least[left] < far[left]]
        yield from left[np.argsort(self.at_least[left], kind="stable")].tolist()

    def _narrow(self, pairs: NDArray[np.intp], poses: Array, bounds: Array) -> None:
        """What the boxes of some pairs (n,) tell of them: how far apart they are at least, and which lie wholly inside each other."""
        boxes = bounds[self.bodies.first[pairs]], bounds[self.bodies.second[pairs]]
        self.at_least[pairs] = np.maximum(box_distances(*boxes), self.at_least[pairs])
        self._containment(pairs, poses, *boxes)

    def _repeat(self, frame: int) -> None:
        self.distance[frame], self.pair[frame] = self.distance[frame - 1], self.pair[frame - 1]
        self.points[frame] = self.points[frame - 1]
        self._note(frame)

    def _transform(self, body: int, matrix: Array) -> Any:
        known = self.static_transform.get(body)
        if known is None or not np.array_equal(known[0], matrix):
            known = self.static_transform[body] = (matrix, placed(matrix))
        return known[1]

    def _containment(self, pairs: NDArray[np.intp], poses: Array, a: Array, b: Array) -> None:
        """Tell of which pairs (n,), with boxes (n, 2, 3), one lies wholly inside the other's closed solid, where surfaces do not meet.

        Passing in or out crosses the surface, so it is enough to look again when the boxes begin to nest, and pairs that are known to be
        apart need no look.
        """
        a_in_b = np.all((a[:, 0] >= b[:, 0]) & (a[:, 1] <= b[:, 1]), axis=1)
        b_in_a = np.all((b[:, 0] >= a[:, 0]) & (b[:, 1] <= a[:, 1]), axis=1)
        nested: NDArray[np.bool_] = a_in_b | b_in_a
        first, second = self.bodies.first, self.bodies.second
        for n in np.flatnonzero(nested & ~self.within[pairs]):
            k = pairs[n]
            inner, outer = (first[k], second[k]) if a_in_b[n] else (second[k], first[k])
            if self.bodies.watertight[outer]:
                point = apply(poses[inner], self.bodies.meshes[inner].vertices[:1])
                local = apply(inverse_rigid(poses[outer]), point)[0]
                self.inside[k] = encloses(self.bodies.meshes[outer], local)
        self.inside[pairs] &= nested
        self.within[pairs] = nested

    def _named(self, k: int) -> Pair:
        return Pair(self.bodies.ids[self.bodies.first[k]], self.bodies.ids[self.bodies.second[k]])

    def result(self, project: Project) -> Clearance:
        """Everything found, breaches sorted by how far they fall short of what is required."""
        breaches = []
        for k, reading in self.close.items():
            hits = sorted(reading, key=lambda hit: hit[0])
            worst = min(hits, key=lambda hit: hit[1])
            frames = intervals_of(np.array([hit[0] for hit in hits], np.intp))
            lows = tuple(
                min(((f, d) for f, d, _ in hits if first <= f <= last), key=lambda low: low[1])
                for first, last in frames
            )
            breaches.append(Breach(self._named(k), frames, *worst, self._required(k, worst[0]), lows))
        breaches.sort(key=lambda breach: (breach.distance - breach.required, breach.frame))
        general = project.settings.required_clearance
        needs = np.array([*(required_by(project, item) for item in project.requirements), general])
        # the requirement whose nearest pair is the worst off, in each frame
        own = np.argmin(self.distance - needs, axis=1)
        frame = np.arange(len(self.times))
        return Clearance(
            self.times,
            general,
            self.distance[frame, own],
            needs[own],
            self._pairs(self.pair[frame, own]),
            self.points[frame, own],
            _within(len(self.times), breaches),
            tuple(breaches),
            self.ready.contacts,
            tuple(self._tally(project, t, float(need)) for t, need in enumerate(needs)),
            self.ready.unchecked,
            self.measured,
        )

    def _required(self, k: int, frame: int) -> float:
        """How far a pair must be apart in a frame; of a pair in contact it is below 0, how deep it may be."""
        return -self.ready.held[k][0].allowed if self.touching[frame, k] else float(self._needed(frame)[0][k])

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
    inside = np.zeros(count, bool)
    for breach in breaches:
        for first, last in breach.intervals:
            inside[first : last + 1] = True
    return inside
