"""Pairs of bodies in motion to each other: what moves as one, the boxes that are swept, and how far anything can have gone.

Lengths in mm, times in s.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import ancestors, get, get_as
from kestrav.core.document.records import Part, Project
from kestrav.core.geometry.meshes import Mesh, box_corners, box_distances, turned_bounds
from kestrav.core.geometry.models import Nearest, at_rest, model, nearest, placed
from kestrav.core.geometry.roundness import facet_error
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.kinematics.bounds import WORLD, Points, of_box
from kestrav.core.kinematics.displacement import Displacement
from kestrav.core.kinematics.law_changes import with_changes
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.poses import moving_groups
from kestrav.core.mechanisms.joints import joints
from kestrav.core.mechanisms.linkage import unit
from kestrav.core.parts.rest import placement_matrix, rest_poses, rows
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

_MOST_TURN = 0.2  # rad that anything may turn in a step, so that what it sweeps is not much more than where it is
_MOST_FINER = 256  # parts into which a step is divided at most for that
_WINDOW = 60  # steps looked at together
_TINY = 1e-4  # mm
_STAYS = 1e-8  # mm, by which what stays may seem to go, by rounding errors
_SETTLED = 2e-3  # mm, which that comes to at most over as many steps as are looked at together
_MOMENT = 1e-9  # s by which a step may reach into a span and not be in it
_MOST_AT_ONCE = 20_000  # steps whose poses are held together
_FINE_KEPT = 64  # steps whose fine poses are kept


class Pairing(msgspec.Struct, eq=False):
    """Two bodies with their meshes, collision models and corners, and what is required of them in mm; ``touching`` is for whoever goes
    through time with it, ``spans`` in s are those in which this is looked at (none: always)."""

    a: str
    b: str
    shapes: tuple[Mesh, Mesh]
    models: tuple[Any, Any]
    corners: tuple[Points, Points]
    need: float = 0.0
    touching: bool = False
    spans: tuple[tuple[float, float], ...] | None = None

    def looked_at(self, times: Array) -> NDArray[np.bool_]:
        """Whether steps (n,) between times (n + 1,) are looked at; its spans' borders are among the times, or a step that holds one is
        looked at."""
        if self.spans is None:
            return np.ones(len(times) - 1, bool)
        looked = np.zeros(len(times) - 1, bool)
        for start, end in self.spans:
            looked |= (times[:-1] < end - _MOMENT) & (times[1:] > start + _MOMENT)
        return looked


def pairing(project: Project, meshes: Mapping[str, Mesh], a: str, b: str, need: float = 0.0) -> Pairing:
    """Two solids as a pair, of which a clearance in mm is required."""
    one, two = get(project, a), get(project, b)
    assert isinstance(one, Part) and isinstance(two, Part)
    first, second = solid_mesh(meshes, one), solid_mesh(meshes, two)
    return Pairing(
        a, b, (first, second), (model(first), model(second)), (of_box(first.bounds), of_box(second.bounds)), need
    )


class Rounded(msgspec.Struct, frozen=True, eq=False):
    """A pair that turns about what is round: the corners of both, with the lines about which turns change nothing, and the ``error`` in mm
    by which they may, as facets are not round.

    ``held`` are those lines (2, 3) of what turns, the first or the second (0, 1), in its coordinates that are the axis of the other one,
    with where that is there: it has to stay.
    """

    corners: tuple[Points, Points]
    error: float
    held: tuple[tuple[int, Array, Array], ...]

    def holds(self, seen: Array) -> bool:
        """Whether it is so at poses (n, 4, 4) of the first body as the second sees them."""
        for side, line, there in self.held:
            poses = seen if side == 0 else inverse_rigid(seen)
            axles = line @ np.swapaxes(poses[:, :3, :3], 1, 2) + poses[:, None, :3, 3]
            if np.abs(axles - there).max() > _STAYS:
                return False
        return True


def rounded(project: Project, pair: Pairing, seen: Array) -> Rounded | None:
    """How a pair turns about what is round, by the axles of wheels, rotations and gears that carry it, the first body at a pose (4, 4) as
    the second sees it; None where it does not."""
    poses = (seen, inverse_rigid(seen))
    corners, held, error = list(pair.corners), [], 0.0
    for side, body in enumerate((pair.a, pair.b)):
        mine, other = pair.shapes[side], pair.shapes[1 - side]
        best, where = np.inf, -1
        lines = [_line(axle, mine.bounds, other.bounds, poses[side]) for axle in _axles(project, body)]
        for k, line in enumerate(lines):
            there = apply(poses[side], line)
            own = facet_error(mine, line.mean(axis=0), line[1] - line[0])
            apart = facet_error(other, there.mean(axis=0), there[1] - there[0]) + _SETTLED
            for number, solid in ((2 * k, own), (2 * k + 1, apart)):
                if solid < best:
                    best, where = solid, number
        if np.isfinite(best):
            line = lines[where // 2]
            corners[side] = Points(pair.corners[side].centres, pair.corners[side].radii, line)
            error += best
            if where % 2:
                held.append((side, line, apply(poses[side], line)))
    return Rounded((corners[0], corners[1]), error, tuple(held)) if error > 0 else None


def _axles(project: Project, body: str) -> Iterator[tuple[Array, Array]]:
    """The axles, by origin and direction (3,) in a body's coordinates, about which it or what it lies in is turned."""
    within = np.eye(4)
    for part in (body, *reversed(ancestors(project, body))):
        for joint in joints(project).get(part, ()):
            if joint.role == "turns":
                inverse = inverse_rigid(within)
                yield apply(inverse, np.array([joint.axle.origin]))[0], inverse[:3, :3] @ unit(joint.axle.direction)
        item = get_as(project, part, Part)
        within = placement_matrix(item.placement) @ within


def _line(axle: tuple[Array, Array], mine: Array, other: Array, seen: Array) -> Array:
    """Two points (2, 3) of an axle that are as far from their middle as anything of two boxes (2, 3) is, the first of which the other sees
    at a pose (4, 4)."""
    origin, direction = axle
    corners = np.concatenate([box_corners(mine), apply(inverse_rigid(seen), box_corners(other))])
    along = (corners - origin) @ direction
    middle = origin + 0.5 * (along.min() + along.max()) * direction
    far = float(np.linalg.norm(corners - middle, axis=1).max())
    return np.array([middle - far * direction, middle + far * direction])


class Groups(msgspec.Struct, frozen=True, eq=False, dict=True):
    """What moves as one: its leader and box (2, 3) in the leader's coordinates, each body's place in its leader's, and which
    groups pairs are between."""

    leaders: list[str]
    boxes: Array
    within: dict[str, Array]
    bounds: dict[str, Array]
    one: NDArray[np.intp]
    two: NDArray[np.intp]
    pairs: list[list[int]]

    @cached_property
    def corners(self) -> list[Points]:
        """The corners of each leader's box."""
        return [of_box(box) for box in self.boxes]


def led_by(project: Project, bodies: Sequence[str]) -> tuple[list[str], Array]:
    """The leader of what each body (k) moves as one with, itself where nothing moves it, and its pose (k, 4, 4) in that one's coordinates."""
    rest, row, group = rest_poses(project), rows(project), moving_groups(project)
    own = np.array([row[body] for body in bodies], np.intp)
    lead = np.array([group.get(body, row[body]) for body in bodies], np.intp)
    return [project.parts[k].id for k in lead], inverse_rigid(rest[lead]) @ rest[own]


def groups_of(project: Project, meshes: Mapping[str, Mesh], pairs: Sequence[Pairing]) -> Groups:
    """What pairs are between."""
    row = rows(project)
    leaders: dict[str, int] = {}
    boxes: list[list[Array]] = []
    within, bounds, of = {}, {}, {}
    bodies = list(dict.fromkeys(i for pair in pairs for i in (pair.a, pair.b)))
    for body, leader, there in zip(bodies, *led_by(project, bodies), strict=True):
        of[body] = k = leaders.setdefault(leader, len(leaders))
        if k == len(boxes):
            boxes.append([])
        within[body] = there
        bounds[body] = solid_mesh(meshes, project.parts[row[body]]).bounds
        boxes[k].append(turned_bounds(bounds[body], within[body]))
    between: dict[tuple[int, int], list[int]] = {}
    for k, pair in enumerate(pairs):
        between.setdefault((of[pair.a], of[pair.b]), []).append(k)
    return Groups(
        list(leaders),
        np.array([[np.min([b[0] for b in mine], axis=0), np.max([b[1] for b in mine], axis=0)] for mine in boxes]),
        within,
        bounds,
        np.array([a for a, _ in between], np.intp),
        np.array([b for _, b in between], np.intp),
        list(between.values()),
    )


def swept_bounds(boxes: Array, poses: Array, distances: Array) -> Array:
    """The bounds (n - 1, k, 2, 3) that boxes (k, 2, 3) sweep in each step of poses (n, k, 4, 4), in which their corners go at most so far
    (n - 1, k): each is within half its way of where it is at one of both ends."""
    bounds = turned_bounds(boxes, poses)
    swept = np.stack(
        [np.minimum(bounds[:-1, :, 0], bounds[1:, :, 0]), np.maximum(bounds[:-1, :, 1], bounds[1:, :, 1])], axis=2
    )
    beyond = 0.5 * distances + _TINY
    swept[:, :, 0] -= beyond[..., None]
    swept[:, :, 1] += beyond[..., None]
    return swept


def clearances_between(swept: Array, groups: Groups) -> Array:
    """How far (n, g) in mm swept bounds (n, k, 2, 3) of groups are apart, for all groups that pairs are between."""
    return box_distances(swept[:, groups.one], swept[:, groups.two])


def led_poses(project: Project, motion: Motion, leaders: Sequence[str], times: Array) -> Array:
    """World matrices (n, k, 4, 4) of leaders (k) at times (n,); what nothing moves is where it rests."""
    rest, row, group = rest_poses(project), rows(project), moving_groups(project)
    return np.stack(
        [motion.poses(i, times) if i in group else np.broadcast_to(rest[row[i]], (len(times), 4, 4)) for i in leaders],
        axis=1,
    )


def displacement_between(corners: Array, before: Array, after: Array) -> Array:
    """How far (...,) the corner (..., 8, 3) that goes farthest goes between two poses (..., 4, 4), broadcast together: of a box no point
    goes farther, as a rigid displacement is largest at a corner."""
    step = after - before
    moved = corners @ np.swapaxes(step[..., :3, :3], -1, -2) + step[..., None, :3, 3]
    displacement: Array = np.linalg.norm(moved, axis=-1).max(axis=-1)
    return displacement


def distance_of(pair: Pairing, seen: Array, below: float = np.inf) -> Nearest | None:
    """The least distance of a pair, the first body at a pose (4, 4) as the second sees it; None where not below a bound."""
    return nearest(pair.models[0], placed(seen), pair.models[1], at_rest(), below)


def fine_times(project: Project, motion: Motion, parts: Sequence[str]) -> Array:
    """The grid of a motion, as much finer as is needed for nothing that carries these parts to turn far within a step."""
    grid = motion.grid
    most = 0.0
    for part in dict.fromkeys(i for p in parts for i in (*ancestors(project, p), p)):
        for joint in joints(project).get(part, ()):
            if joint.role == "turns":
                most = max(most, float(np.abs(np.diff(motion.amount(joint, grid))).max(initial=0.0)))
    finer = int(np.clip(np.ceil(most / _MOST_TURN), 1, _MOST_FINER))
    return grid if finer == 1 else np.linspace(grid[0], grid[-1], finer * (len(grid) - 1) + 1)


class Stage(msgspec.Struct, eq=False):
    """Some of a motion's time: times (n,), the leaders' poses there (n, k, 4, 4), and how far things go between them at most."""

    times: Array
    led: Array
    moves: Displacement
    _distances: dict[tuple[str, str, bool], Array] = msgspec.field(default_factory=dict)
    _all: Array | None = None

    @property
    def sudden(self) -> NDArray[np.bool_]:
        """Steps (n - 1,) in which something may jump: all else stays within them as it is."""
        return self.moves.sudden

    def all_distances(self, things: Sequence[str], corners: Sequence[Points]) -> Array:
        """How far (n - 1, k) in mm points of things go at most in the room in each step; kept, as it is asked for window by window."""
        if self._all is None:
            self._all = np.stack(
                [self.moves.of(i, WORLD, c).distance for i, c in zip(things, corners, strict=True)], axis=1
            )
        return self._all

    def distances(self, pair: Pairing, turning: Rounded | None = None) -> Array:
        """How far (n - 1,) in mm the bodies of a pair go at most to each other in each step, but for turns about what is round."""
        key = (pair.a, pair.b, turning is not None)
        if key not in self._distances:
            one, two = pair.corners if turning is None else turning.corners
            self._distances[key] = self.moves.between(pair.a, one, pair.b, two)
        return self._distances[key]


class Window(msgspec.Struct, frozen=True, eq=False):
    """Steps of a stage that are looked at together, from one of its times on: the share of the whole that is done before."""

    share: float
    stage: Stage
    first: int
    last: int

    @property
    def times(self) -> Array:
        """Times (n,)."""
        return self.stage.times[self.first : self.last + 1]

    @property
    def led(self) -> Array:
        """The leaders' poses (n, k, 4, 4)."""
        return self.stage.led[self.first : self.last + 1]

    @property
    def steps(self) -> slice:
        """Its steps among the stage's."""
        return slice(self.first, self.last)

    def distances(self, pair: Pairing, turning: Rounded | None = None) -> Array:
        """How far (n - 1,) in mm the bodies of a pair go at most to each other in each step, but for turns about what is round."""
        return self.stage.distances(pair, turning)[self.steps]

    def distances_of(self, thing: str, corners: Points) -> Array:
        """How far (n - 1,) in mm points of a thing go at most in the room in each step."""
        return self.stage.moves.of(thing, WORLD, corners).distance[self.steps]


class Between(msgspec.Struct, eq=False):
    """Pairs in motion, to be gone through in time."""

    project: Project
    motion: Motion
    pairs: Sequence[Pairing]
    groups: Groups
    times: Array
    # the first leader's poses (n, 4, 4) as the second sees them, at the fine times of a step, for all pairs between two groups
    _known: dict[tuple[int, float, float], tuple[Array, Array, Displacement]] = msgspec.field(default_factory=dict)
    _rounded: dict[tuple[str, str], Rounded | None] = msgspec.field(default_factory=dict)

    def windows(self, end: float, begin: float | None = None) -> Iterator[Window]:
        """Windows of time, from the start to the first time at or after an end; or cut at a beginning and the end exactly."""
        times = self.times[: max(int(np.searchsorted(self.times, end)), 1) + 1]
        if begin is not None:
            times = np.array([begin, *times[(times > begin) & (times < end)], max(end, begin)])
        count = len(times) - 1
        for start in range(0, count, _MOST_AT_ONCE):
            mine = times[start : min(start + _MOST_AT_ONCE, count) + 1]
            stage = self.stage(mine)
            for first in range(0, len(mine) - 1, _WINDOW):
                yield Window((start + first) / count, stage, first, min(first + _WINDOW, len(mine) - 1))

    def stage(self, times: Array) -> Stage:
        """Some of the time at once: what moves together asks for the same again, so it is kept by the array."""
        led = led_poses(self.project, self.motion, self.groups.leaders, self.motion.hold(times))
        return Stage(times, led, Displacement(self.motion, times))

    def gaps(self, window: Window) -> Array:
        """How far (n - 1, g) in mm what the groups sweep is apart, for all groups that pairs are between."""
        groups = self.groups
        distances = window.stage.all_distances(groups.leaders, groups.corners)[window.steps]
        return clearances_between(swept_bounds(groups.boxes, window.led, distances), groups)

    def led(self, g: int, window: Window) -> tuple[Array, Array]:
        """World matrices (n, 4, 4) of two groups' leaders over a window."""
        return window.led[:, self.groups.one[g]], window.led[:, self.groups.two[g]]

    def leaders(self, g: int, times: Array) -> Array:
        """World matrices (2, n, 4, 4) of two groups' leaders at times (n,)."""
        ids = [self.groups.leaders[side[g]] for side in (self.groups.one, self.groups.two)]
        return np.swapaxes(led_poses(self.project, self.motion, ids, times), 0, 1)

    def seen(self, g: int, times: Array) -> Array:
        """The first leader's poses (n, 4, 4) as the second one sees them, at times (n,)."""
        one, two = self.leaders(g, times)
        seen: Array = inverse_rigid(two) @ one
        return seen

    def fine(self, g: int, start: float, end: float, step: float) -> tuple[Array, Array, Displacement]:
        """Times (n,) of a step, so far apart at most, the first leader's poses there as the second sees them, and how far things go."""
        key = (g, start, step)
        if key not in self._known:
            if len(self._known) > _FINE_KEPT:
                self._known.clear()
            times = np.linspace(start, end, max(int(np.ceil((end - start) / step)), 1) + 1)
            self._known[key] = (times, self.seen(g, times), Displacement(self.motion, times))
        return self._known[key]

    def rounded(self, pair: Pairing, seen: Array) -> Rounded | None:
        """How a pair turns about what is round, where it does so at all of some poses (n, 4, 4) of the first body as the second sees it."""
        key = (pair.a, pair.b)
        if key not in self._rounded:
            self._rounded[key] = rounded(self.project, pair, seen[0])
        solid = self._rounded[key]
        return solid if solid is not None and solid.holds(seen) else None

    def within(self, pair: Pairing, led: Array) -> Array:
        """The first body's poses (n, 4, 4) as the second sees them, from those of their groups' leaders."""
        pose: Array = inverse_rigid(self.groups.within[pair.b]) @ led @ self.groups.within[pair.a]
        return pose

    def body_clearances(self, g: int, window: Window) -> Array:
        """How far (n - 1, p) the boxes that bodies sweep are apart in mm, of all pairs between two groups."""
        mine = [self.pairs[k] for k in self.groups.pairs[g]]
        swept = []
        for side, led in zip(([p.a for p in mine], [p.b for p in mine]), self.led(g, window), strict=True):
            bodies = list(dict.fromkeys(side))
            poses = np.stack([led @ self.groups.within[body] for body in bodies], axis=1)
            boxes = np.array([self.groups.bounds[body] for body in bodies])
            distances = np.stack(
                [window.distances_of(i, of_box(box)) for i, box in zip(bodies, boxes, strict=True)], axis=1
            )
            bounds = swept_bounds(boxes, poses, distances)
            place = {body: k for k, body in enumerate(bodies)}
            swept.append(bounds[:, [place[body] for body in side]])
        return box_distances(swept[0], swept[1])


def speed_past(one: Array, two: Array, place: Array, seconds: float) -> Array:
    """How fast (3,) in mm/s the first of two bodies goes past the second at a place (3,), from the poses (2, 4, 4) of both before and
    at a moment."""
    paces = [place - (m[0] @ (inverse_rigid(m[1]) @ np.append(place, 1.0)))[:3] for m in (one, two)]
    speed_past: Array = (paces[0] - paces[1]) / seconds
    return speed_past


def between(
    project: Project, meshes: Mapping[str, Mesh], pairs: Sequence[Pairing], more: Sequence[float] = ()
) -> Between:
    """Pairs to be gone through in time; ``more`` times in s are among those looked at."""
    motion = Motion(project)
    parts = list(dict.fromkeys(i for pair in pairs for i in (pair.a, pair.b)))
    grid = fine_times(project, motion, parts)
    inner = [t for t in more if grid[0] < t < grid[-1]]
    times = with_changes(motion, np.unique([*grid, *inner]) if inner else grid)
    return Between(project, motion, pairs, groups_of(project, meshes, pairs), times)
