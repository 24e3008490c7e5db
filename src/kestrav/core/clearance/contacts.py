"""When things in motion touch: the instants, the places and the speeds, between frames too.

A pair is looked at only where the boxes that it sweeps meet. From a known distance it is free for as long as no corner of the one's
box has gone that far as seen by the other (conservative advancement; B. Mirtich and J. Canny, "Impulse-based Simulation of
Rigid Bodies", Symposium on Interactive 3D Graphics, 1995); where that is less than a step the step is looked through in
ten-thousandths of a second. Lengths in mm, times in s.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.models import Nearest, model, nearest, placed
from kestrav.core.clearance.sweep import moving_pairs, touching_at_rest
from kestrav.core.document.lookup import get, subtree
from kestrav.core.document.records import Part, Project
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector as point
from kestrav.core.geometry.meshes import Mesh, box_corners, turned_bounds
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.motion.kinematics import Motion
from kestrav.core.motion.poses import moving_groups
from kestrav.core.motion.resting import rest_poses, rows
from kestrav.core.motion.runs import span
from kestrav.core.motion.solids import solid_mesh

Array = NDArray[np.float64]
Progress = Callable[[float], None]

FINE = 1e-4  # s, to which an instant is found at least
_EXACT = 1e-7  # s, to which it is narrowed down then
_NARROW = 40  # parts into which an interval is divided for that
_FINE_KEPT = 64  # steps whose fine poses are kept
TOUCH = 1e-4  # mm; nearer than this is touching
_MOST_AT_ONCE = 20_000  # steps whose poses are held together
_WINDOW = 60  # steps looked at together
_MARGIN = 1.05  # by how much a corner may go farther than the chords of its steps


@dataclass(frozen=True)
class Touch:
    """Two parts that come to touch: when, where (3,), how fast they go past or into each other there, and how fast they close.

    ``way`` (3,) is the direction in which the first one goes there as seen by the second.
    """

    a: str
    b: str
    time: float
    place: tuple[float, float, float]
    speed: float
    closing: float
    way: tuple[float, float, float] = (0.0, 0.0, 0.0)


@dataclass(eq=False)
class _Pair:
    """Two bodies, and whether they touched when they were last looked at."""

    a: str
    b: str
    models: tuple[Any, Any]
    corners: Array
    touching: bool = False


def first_touch(project: Project, meshes: Mapping[str, Mesh], a: str, b: str, end: float | None = None) -> Touch | None:
    """The first instant at which parts or assemblies touch after having been apart, until an end in s; None if they never do.

    Raises BadInput when one holds the other or one has no geometry.
    """
    pairs = _between(project, meshes, a, b)
    found = _search(project, meshes, pairs, span(project) if end is None else end, first=True)
    return found[0] if found else None


def touches(
    project: Project, meshes: Mapping[str, Mesh], progress: Progress | None = None, meant: bool = False
) -> tuple[Touch, ...]:
    """Every coming together of what moves with the rest, in the order of time; or only of what is meant to touch.

    Of pairs that touch at rest there are none, nor of those meant to touch that are as near at rest as they are built.
    """
    if meant and not project.contacts:
        return ()
    near = touching_at_rest(project, meshes, project.settings.required_clearance)
    intended = {frozenset((c.a, c.b)) for c in project.contacts if c.intended}
    left_out = {frozenset((p.moving, p.other)) for p in touching_at_rest(project, meshes)}
    left_out |= {key for p in near if (key := frozenset((p.moving, p.other))) in intended}
    wanted = [pair for pair in moving_pairs(project, meshes) if frozenset(pair) not in left_out]
    pairs = [_pair(project, meshes, a, b) for a, b in wanted if not meant or frozenset((a, b)) in intended]
    return tuple(_search(project, meshes, pairs, span(project), progress=progress))


def _between(project: Project, meshes: Mapping[str, Mesh], a: str, b: str) -> list[_Pair]:
    sides = []
    for thing in (a, b):
        if not isinstance(get(project, thing), Part):
            raise BadInput(f"“{get(project, thing).name}” is no part, so it touches nothing")
        sides.append([i for i in subtree(project, thing) if _geometry(project, i)])
        if not sides[-1]:
            raise BadInput(f"“{get(project, thing).name}” has no geometry that could touch something")
    if set(sides[0]) & set(sides[1]):
        raise BadInput(f"“{get(project, a).name}” and “{get(project, b).name}” are parts of each other")
    return [_pair(project, meshes, i, j) for i in sides[0] for j in sides[1]]


def _geometry(project: Project, part_id: str) -> bool:
    part = get(project, part_id)
    return isinstance(part, Part) and part.geometry is not None


def _pair(project: Project, meshes: Mapping[str, Mesh], a: str, b: str) -> _Pair:
    one, two = get(project, a), get(project, b)
    assert isinstance(one, Part) and isinstance(two, Part)
    first, second = solid_mesh(meshes, one), solid_mesh(meshes, two)
    return _Pair(a, b, (model(first), model(second)), box_corners(first.bounds))


def _search(
    project: Project,
    meshes: Mapping[str, Mesh],
    pairs: Sequence[_Pair],
    end: float,
    first: bool = False,
    progress: Progress | None = None,
) -> list[Touch]:
    """The touches of pairs from 0 to an end, in the order of time; only up to the first one if that is all that is asked for."""
    if not pairs or end <= 0:
        return []
    groups = _groups(project, meshes, pairs)
    motion = Motion(project)
    times = motion.grid
    count = max(int(np.searchsorted(times, end)), 1)
    # what wheels need at these times too is known; a very long project is looked at by and by
    whole = _led(project, motion, groups.leaders, times) if count <= _MOST_AT_ONCE else None
    look = _Look(motion, groups, first)
    for start in range(0, count, _WINDOW):
        if progress is not None:
            progress(start / count)
        window = times[start : start + _WINDOW + 1]
        led = whole[start : start + _WINDOW + 1] if whole is not None else _led(project, motion, groups.leaders, window)
        far = _apart(_swept(groups.boxes, led), groups.one, groups.two)
        for g in np.flatnonzero(far[-1]):
            for k in groups.pairs[g]:
                pairs[k].touching = False
        for g in np.flatnonzero(~far.all(axis=0)):
            _window(look, int(g), pairs, window, led[:, groups.one[g]], led[:, groups.two[g]])
        if first and look.found:
            break
    # the last step may go beyond the end
    found = sorted((touch for touch in look.found if touch.time <= end + FINE), key=lambda touch: touch.time)
    return found[:1] if first else found


@dataclass(eq=False)
class _Look:
    """A search under way: what was found, and from when on nothing more is asked for."""

    motion: Motion
    groups: _Groups
    first: bool
    until: float = np.inf
    found: list[Touch] = field(default_factory=list)
    # poses (n, 4, 4) of two groups' leaders at the fine times of a step, as seen by the second, for all pairs between them
    known: dict[tuple[int, float], tuple[Array, Array]] = field(default_factory=dict)

    def fine(self, g: int, start: float, end: float) -> tuple[Array, Array]:
        """Fine times (n,) of a step between two groups, and the first leader's poses as the second sees them."""
        if (g, start) not in self.known:
            if len(self.known) > _FINE_KEPT:
                self.known.clear()
            times = np.linspace(start, end, max(int(np.ceil((end - start) / FINE)), 1) + 1)
            self.known[g, start] = (times, self.seen(g, times))
        return self.known[g, start]

    def seen(self, g: int, times: Array) -> Array:
        """The first leader's poses (n, 4, 4) as the second one sees them, at times (n,)."""
        one, two = self.leaders(g, times)
        found: Array = inverse_rigid(two) @ one
        return found

    def leaders(self, g: int, times: Array) -> Array:
        """World matrices (2, n, 4, 4) of both groups' leaders at times (n,)."""
        ids = [self.groups.leaders[side[g]] for side in (self.groups.one, self.groups.two)]
        found = _led(self.motion.project, self.motion, ids, times)
        return np.swapaxes(found, 0, 1)

    def keep(self, touch: Touch) -> None:
        """Keep a touch; where the first is asked for, nothing after it is."""
        self.found.append(touch)
        if self.first:
            self.until = min(self.until, touch.time)


def _led(project: Project, motion: Motion, leaders: Sequence[str], times: Array) -> Array:
    """World matrices (n, k, 4, 4) of leaders (k) at times (n,); what nothing moves is where it rests."""
    rest, row, group = rest_poses(project), rows(project), moving_groups(project)
    return np.stack(
        [motion.poses(i, times) if i in group else np.broadcast_to(rest[row[i]], (len(times), 4, 4)) for i in leaders],
        axis=1,
    )


@dataclass(frozen=True, eq=False)
class _Groups:
    """What moves as one: its leader and box (2, 3) in the leader's coordinates, each body's place in its leader's, and which
    groups pairs are between."""

    leaders: list[str]
    boxes: Array
    within: dict[str, Array]
    bounds: dict[str, Array]
    one: NDArray[np.intp]
    two: NDArray[np.intp]
    pairs: list[list[int]]


def _groups(project: Project, meshes: Mapping[str, Mesh], pairs: Sequence[_Pair]) -> _Groups:
    rest, row, group = rest_poses(project), rows(project), moving_groups(project)
    leaders: dict[str, int] = {}
    boxes: list[list[Array]] = []
    within, bounds, of = {}, {}, {}
    for body in dict.fromkeys(i for pair in pairs for i in (pair.a, pair.b)):
        leader = project.parts[group.get(body, row[body])].id
        of[body] = k = leaders.setdefault(leader, len(leaders))
        if k == len(boxes):
            boxes.append([])
        part = project.parts[row[body]]
        within[body] = inverse_rigid(rest[row[leader]]) @ rest[row[body]]
        bounds[body] = solid_mesh(meshes, part).bounds
        boxes[k].append(turned_bounds(bounds[body], within[body]))
    between: dict[tuple[int, int], list[int]] = {}
    for k, pair in enumerate(pairs):
        between.setdefault((of[pair.a], of[pair.b]), []).append(k)
    return _Groups(
        list(leaders),
        np.array([[np.min([b[0] for b in mine], axis=0), np.max([b[1] for b in mine], axis=0)] for mine in boxes]),
        within,
        bounds,
        np.array([a for a, _ in between], np.intp),
        np.array([b for _, b in between], np.intp),
        list(between.values()),
    )


def _swept(boxes: Array, poses: Array) -> Array:
    """The bounds (n - 1, k, 2, 3) that boxes (k, 2, 3) sweep in each step of poses (n, k, 4, 4)."""
    bounds = turned_bounds(boxes, poses)
    swept = np.stack(
        [np.minimum(bounds[:-1, :, 0], bounds[1:, :, 0]), np.maximum(bounds[:-1, :, 1], bounds[1:, :, 1])], axis=2
    )
    # what goes round within a step goes a little beyond both its ends
    beyond = (_MARGIN - 1) * np.linalg.norm(np.diff(bounds.mean(axis=2), axis=0), axis=-1) + TOUCH
    swept[:, :, 0] -= beyond[..., None]
    swept[:, :, 1] += beyond[..., None]
    return swept


def _apart(swept: Array, one: NDArray[np.intp], two: NDArray[np.intp]) -> NDArray[np.bool_]:
    """Whether swept bounds (n, k, 2, 3) of pairs (p,) are apart, in each step (n, p)."""
    found: NDArray[np.bool_] = np.any(
        (swept[:, one, 0] > swept[:, two, 1]) | (swept[:, two, 0] > swept[:, one, 1]), axis=-1
    )
    return found


def _window(look: _Look, g: int, pairs: Sequence[_Pair], times: Array, one: Array, two: Array) -> None:
    """Look through a window for pairs between two groups, whose leaders are at poses (n, 4, 4)."""
    groups = look.groups
    mine = [pairs[k] for k in groups.pairs[g]]
    swept = []
    for side, led in (([p.a for p in mine], one), ([p.b for p in mine], two)):
        bodies = list(dict.fromkeys(side))
        poses = np.stack([led @ groups.within[body] for body in bodies], axis=1)
        bounds = _swept(np.array([groups.bounds[body] for body in bodies]), poses)
        place = {body: k for k, body in enumerate(bodies)}
        swept.append(bounds[:, [place[body] for body in side]])
    both = np.concatenate(swept, axis=1)
    apart = _apart(both, np.arange(len(mine)), len(mine) + np.arange(len(mine)))
    seen = inverse_rigid(two) @ one
    # the earliest to come near first, as nothing is asked for after the first touch
    for k in np.argsort(np.argmin(apart, axis=0), kind="stable"):
        pair = mine[k]
        if apart[:, k].all():
            pair.touching = False
            continue
        own = inverse_rigid(groups.within[pair.b]) @ seen @ groups.within[pair.a]
        _follow(look, g, pair, times, own, ~apart[:, k])
        if apart[-1, k]:
            pair.touching = False


def _follow(look: _Look, g: int, pair: _Pair, times: Array, seen: Array, near: NDArray[np.bool_]) -> None:
    """Look through the steps of a window in which a pair's swept boxes meet."""
    gone = _gone(pair.corners, seen)
    k = 0
    while k < len(near) and times[k] <= look.until:
        if not near[k]:
            pair.touching = False
            k += 1
            continue
        last = k + int(np.argmin(np.append(near[k:], False)))  # the step after the last near one
        k = _through(look, g, pair, times, seen, gone, k, last)


def _through(look: _Look, g: int, pair: _Pair, times: Array, seen: Array, gone: Array, k: int, last: int) -> int:
    """Look through the steps from one to another; the step after."""
    while k < last and times[k] <= look.until:
        left = _MARGIN * float(gone[last] - gone[k])
        away = _distance(pair, seen[k], left + 2 * TOUCH)
        if away is None:
            pair.touching = False
            return last
        if away.distance <= TOUCH:
            pair.touching = True
            # as long as nothing moves to each other it goes on touching
            k = max(k + 1, min(int(np.searchsorted(gone, gone[k], side="right")) - 1, last))
            continue
        pair.touching = False
        free = min(int(np.searchsorted(gone, gone[k] + away.distance / _MARGIN, side="left")) - 1, last)
        if free > k:
            k = free
            continue
        _closely(look, g, pair, float(times[k]), float(times[k + 1]))
        k += 1
    return last


def _closely(look: _Look, g: int, pair: _Pair, start: float, end: float) -> None:
    """Look through one step in fine ones, from apart to touching or to its end."""
    times, led = look.fine(g, start, end)
    seen = _within(look, pair, led)
    gone = _gone(pair.corners, seen)
    k = 0
    while k < len(times) and times[k] <= look.until:
        away = _distance(pair, seen[k])
        assert away is not None
        if away.distance <= TOUCH:
            if k > 0:
                _record(look, g, pair, float(times[k - 1]), float(times[k]))
            pair.touching = True
            return
        free = int(np.searchsorted(gone, gone[k] + away.distance / _MARGIN, side="left")) - 1
        k = max(k + 1, free)


def _within(look: _Look, pair: _Pair, led: Array) -> Array:
    """The first body's poses (n, 4, 4) as the second sees them, from those of their groups' leaders."""
    found: Array = inverse_rigid(look.groups.within[pair.b]) @ led @ look.groups.within[pair.a]
    return found


def _record(look: _Look, g: int, pair: _Pair, free: float, touching: float) -> None:
    """Narrow down between a free and a touching instant, and keep the touch."""
    while touching - free > _EXACT:
        times = np.linspace(free, touching, _NARROW + 1)
        seen = _within(look, pair, look.seen(g, times))
        low, high = 0, _NARROW
        while high - low > 1:
            middle = (low + high) // 2
            away = _distance(pair, seen[middle])
            assert away is not None
            low, high = (low, middle) if away.distance <= TOUCH else (middle, high)
        free, touching = float(times[low]), float(times[high])
    around = np.array([touching - FINE, touching])
    led = look.leaders(g, around)
    one, two = (led[k] @ look.groups.within[body] for k, body in enumerate((pair.a, pair.b)))
    here = nearest(pair.models[0], placed(one[1]), pair.models[1], placed(two[1]))
    earlier = nearest(pair.models[0], placed(one[0]), pair.models[1], placed(two[0]))
    assert here is not None and earlier is not None
    place = 0.5 * (here.first + here.second)
    paces = [place - (m[0] @ (inverse_rigid(m[1]) @ np.append(place, 1.0)))[:3] for m in (one, two)]
    past = paces[0] - paces[1]
    size = float(np.linalg.norm(past))
    way = point(past / size) if size > 0 else (0.0, 0.0, 0.0)
    closing = (earlier.distance - here.distance) / FINE
    look.keep(Touch(pair.a, pair.b, touching, point(place), size / FINE, closing, way))


def _gone(corners: Array, seen: Array) -> Array:
    """How far (n,) the corner that goes farthest in each step has gone since the first pose."""
    step = np.diff(seen, axis=0)
    moved = np.einsum("nij,cj->nci", step[:, :3, :3], corners) + step[:, None, :3, 3]
    return np.concatenate([[0.0], np.cumsum(np.linalg.norm(moved, axis=-1).max(axis=-1))])


def _distance(pair: _Pair, seen: Array, below: float = np.inf) -> Nearest | None:
    return nearest(pair.models[0], placed(seen), pair.models[1], _AT_REST, below)


_AT_REST = placed(np.eye(4))
