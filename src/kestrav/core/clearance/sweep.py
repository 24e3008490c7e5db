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

from kestrav.core.clearance.models import model, nearest, placed
from kestrav.core.document.lookup import named_parts, shown_parts, subtree
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, box_corners, box_gaps, encloses, turned_bounds
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.motion.poses import moving_groups, world_poses
from kestrav.core.motion.resting import rest_poses
from kestrav.core.motion.solids import solid_mesh

Array = NDArray[np.float64]
Progress = Callable[[float], None]

_CHUNK = 24  # frames whose bounds are worked out together; bounds memory, and sets how often progress is told


@dataclass(frozen=True)
class Pair:
    """Two parts: the moving one first."""

    moving: str
    other: str


@dataclass(frozen=True)
class Breach:
    """A pair nearer than required: frame intervals (first, last), and its worst frame."""

    pair: Pair
    intervals: tuple[tuple[int, int], ...]
    frame: int
    distance: float
    points: Array


@dataclass(frozen=True)
class Clearance:
    """Sampled clearance: per frame the least distance (n,) in mm, its pair and nearest points (n, 2, 3).

    ``distance`` is infinite and the pair None where there is nothing to measure. ``contacts`` are the
    pairs left out because they are meant to touch.
    """

    times: Array
    required: float
    distance: Array
    pairs: tuple[Pair | None, ...]
    points: Array
    breaches: tuple[Breach, ...]
    contacts: tuple[Pair, ...]
    measured: int = 0

    @property
    def worst(self) -> int | None:
        """The frame of the least distance."""
        if not len(self.distance) or not np.isfinite(self.distance).any():
            return None
        return int(np.argmin(self.distance))

    def intervals(self) -> tuple[tuple[int, int], ...]:
        """Frame intervals in which some pair is nearer than required."""
        return intervals_of(np.flatnonzero(self.distance < self.required))


def intervals_of(frames: NDArray[np.intp]) -> tuple[tuple[int, int], ...]:
    """Runs of consecutive numbers in an increasing array, as (first, last)."""
    if not len(frames):
        return ()
    cuts = np.flatnonzero(np.diff(frames) > 1)
    first = np.concatenate([[frames[0]], frames[cuts + 1]])
    last = np.concatenate([frames[cuts], [frames[-1]]])
    return tuple((int(a), int(b)) for a, b in zip(first, last, strict=True))


@dataclass
class _Bodies:
    """Arrays over the bodies (parts with geometry that are shown) and over the pairs between them."""

    ids: list[str]
    rows: NDArray[np.intp]
    meshes: list[Mesh]
    boxes: Array
    models: list[Any]
    watertight: list[bool]
    first: NDArray[np.intp] = field(default_factory=lambda: np.empty(0, np.intp))
    second: NDArray[np.intp] = field(default_factory=lambda: np.empty(0, np.intp))


def _bodies(project: Project, meshes: Mapping[str, Mesh]) -> _Bodies:
    closed = {g.hash: g.watertight for g in project.geometry}
    shown = shown_parts(project)
    chosen = [(row, part) for row, part in enumerate(project.parts) if part.geometry is not None and part.id in shown]
    group = moving_groups(project)
    shapes = [solid_mesh(meshes, part) for _, part in chosen]
    bodies = _Bodies(
        [part.id for _, part in chosen],
        np.array([row for row, _ in chosen], np.intp),
        shapes,
        np.array([m.bounds for m in shapes]).reshape(-1, 2, 3),
        [model(m) for m in shapes],
        [closed.get(part.geometry or "", False) for _, part in chosen],
    )
    groups = np.array([group.get(part.id, -1) for _, part in chosen], int)
    moving = np.flatnonzero(groups >= 0)
    first = np.repeat(moving, len(chosen))
    second = np.tile(np.arange(len(chosen)), len(moving))
    # two moving bodies make one pair, not two
    keep = (groups[first] != groups[second]) & ((groups[second] < 0) | (groups[first] < groups[second]))
    bodies.first, bodies.second = first[keep], second[keep]
    return bodies


def moving_pairs(project: Project, meshes: Mapping[str, Mesh]) -> list[tuple[str, str]]:
    """Pairs of shown solids of which at least one moves, and not with the other; the moving one first."""
    bodies = _bodies(project, meshes)
    return [(bodies.ids[a], bodies.ids[b]) for a, b in zip(bodies.first, bodies.second, strict=True)]


def touching_at_rest(project: Project, meshes: Mapping[str, Mesh], within: float | None = None) -> tuple[Pair, ...]:
    """Pairs that touch with no run under way, proposed as intended contact; or that are within a distance in mm."""
    return _touching(project, _bodies(project, meshes), within)


def _touching(project: Project, bodies: _Bodies, within: float | None = None) -> tuple[Pair, ...]:
    limit = project.settings.contact_distance if within is None else within
    rest = rest_poses(project)[bodies.rows]
    bounds = turned_bounds(bodies.boxes, rest)
    close = np.flatnonzero(box_gaps(bounds[bodies.first], bounds[bodies.second]) <= limit)
    transforms = [placed(m) for m in rest]
    found = []
    for k in close:
        a, b = bodies.first[k], bodies.second[k]
        if nearest(bodies.models[a], transforms[a], bodies.models[b], transforms[b], limit + 1e-9) is not None:
            found.append(Pair(bodies.ids[a], bodies.ids[b]))
    return tuple(found)


def working_pairs(project: Project) -> tuple[Pair, ...]:
    """Pairs that work on each other, and so are as near as they are built: both ends of drives, rods and what hangs on their pins."""
    links: list[tuple[str, str]] = [(drive.a.part, drive.b.part) for drive in project.drives]
    for rod in project.rods:
        links += [(rod.part, other) for other in named_parts(rod)[1:]]
    solid = {p.id for p in project.parts if p.geometry is not None}
    found = []
    for one, two in links:
        sides = [[i for i in subtree(project, thing) if i in solid] for thing in (one, two)]
        found += [Pair(a, b) for a in sides[0] for b in sides[1] if a != b]
    return tuple(found)


def intended_contacts(project: Project, proposed: tuple[Pair, ...]) -> tuple[Pair, ...]:
    """The proposed pairs, those that work on each other, and the recorded ones, less those recorded as not intended."""
    said = {frozenset((c.a, c.b)): c for c in project.contacts}
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
    required = project.settings.required_clearance
    bodies = _bodies(project, meshes)
    contacts = intended_contacts(project, _touching(project, bodies))
    left_out = {frozenset((c.moving, c.other)) for c in contacts}
    keep = np.array(
        [
            frozenset((bodies.ids[a], bodies.ids[b])) not in left_out
            and (only is None or bodies.ids[a] in only or bodies.ids[b] in only)
            for a, b in zip(bodies.first, bodies.second, strict=True)
        ],
        bool,
    )
    bodies.first, bodies.second = bodies.first[keep], bodies.second[keep]
    state = _Sweep(bodies, required, len(times))
    for start in range(0, len(times), _CHUNK):
        if progress is not None:
            progress(start / len(times))
        state.chunk(start, world_poses(project, times[start : start + _CHUNK])[:, bodies.rows])
    return state.result(times, contacts)


class _Sweep:
    """Bookkeeping of one sweep: what each pair's distance is known to be at least."""

    def __init__(self, bodies: _Bodies, required: float, frames: int) -> None:
        self.bodies, self.required = bodies, required
        self.distance = np.full(frames, np.inf)
        self.pair = np.full(frames, -1)
        self.points = np.zeros((frames, 2, 3))
        self.at_least = np.zeros(len(bodies.first))
        self.inside = np.zeros(len(bodies.first), bool)
        self.within = np.zeros(len(bodies.first), bool)
        self.close: dict[int, list[tuple[int, float, Array]]] = {}
        self.last_poses: Array | None = None
        self.last_hits: list[tuple[int, float, Array]] = []
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
            # a rigid displacement is largest at a corner of the box, being affine in the point
            stir = _largest_moves(self.corners, self.last_poses, poses)
            self.at_least -= stir[first] + stir[second]
        self.last_poses = poses
        gap = np.maximum(box_gaps(bounds[first], bounds[second]), self.at_least)
        self.at_least = gap
        contained = self._containment(poses, bounds)
        best, hits = np.inf, list[tuple[int, float, Array]]()
        for k in self._order(frame, gap):
            bound = max(best, self.required)
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
            if contained[k]:
                distance = 0.0
            self.at_least[k] = distance
            if distance < self.required:
                hits.append((k, distance, points))
            if distance < best:
                best = distance
                self.distance[frame], self.pair[frame], self.points[frame] = distance, k, points
        self.last_hits = hits
        for k, distance, points in hits:
            self.close.setdefault(k, []).append((frame, distance, points))

    def _order(self, frame: int, gap: Array) -> Iterator[int]:
        """Pairs to look at: the last frame's nearest first, since it bounds the rest, then by their gap."""
        seed = int(self.pair[frame - 1]) if frame > 0 else -1
        if seed >= 0:
            yield seed
        near = np.flatnonzero(gap < max(float(self.distance[frame]), self.required))
        yield from (int(k) for k in near[np.argsort(gap[near], kind="stable")] if k != seed)

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

    def result(self, times: Array, contacts: tuple[Pair, ...]) -> Clearance:
        """Everything found, breaches sorted by their distance."""
        breaches = []
        for k, hits in self.close.items():
            worst = min(hits, key=lambda hit: hit[1])
            frames = intervals_of(np.array([hit[0] for hit in hits], np.intp))
            breaches.append(Breach(self._named(k), frames, worst[0], worst[1], worst[2]))
        breaches.sort(key=lambda breach: (breach.distance, breach.frame))
        pairs = tuple(self._named(k) if k >= 0 else None for k in self.pair)
        return Clearance(
            times, self.required, self.distance, pairs, self.points, tuple(breaches), contacts, self.measured
        )


def _largest_moves(corners: Array, before: Array, after: Array) -> Array:
    """How far (k,) any corner (k, 8, 3) goes between two poses (k, 4, 4)."""
    step = after - before
    moved = np.einsum("kij,kcj->kci", step[:, :3, :3], corners) + step[:, None, :3, 3]
    found: Array = np.linalg.norm(moved, axis=-1).max(axis=-1)
    return found
