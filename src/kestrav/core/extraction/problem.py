"""What is to be taken out of what: bodies, how near they may come, and whether a motion between two poses is free.

A pose is that of the thing's pivot, as a turn about it from how it stands and a way from where it stands. Between two poses the way goes
straight and the turn about one axis, both evenly: then no point goes farther than the way and the turn times its distance from the
pivot, and from the slack at both ends follows how much is left between. Lengths in mm, angles in rad.
"""

from __future__ import annotations

import itertools
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from kestrav.core.clearance.depth import Solid, overlap_of
from kestrav.core.document.lookup import ancestors, get, shown_parts, subtree, topmost
from kestrav.core.document.records import Part, Project
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh, box_corners, box_gaps, joined, turned_bounds
from kestrav.core.geometry.models import built, nearest, placed
from kestrav.core.geometry.transforms import apply, rigid
from kestrav.core.motion.resting import rest_and_pivot, rest_poses, rows
from kestrav.core.motion.solids import solid_mesh

Array = NDArray[np.float64]

SKIN = 0.3  # mm taken off where bodies touch as they stand, so that they may slide on each other
FINEST = 0.01  # mm of way below which a motion is not halved any more
LEFT_OUT = -1.0  # mm; what is needed of pairs that are not looked at
LEAST_STEP = 1.0  # mm of way in which a free travel is looked for


@lru_cache(maxsize=4096)
def _rotation(turn: tuple[float, float, float]) -> Array:
    """A rotation vector as a matrix (3, 3); most motions are straight, and so have but one."""
    found: Array = Rotation.from_rotvec(turn).as_matrix()
    return found


@dataclass(frozen=True)
class Pose:
    """A way (3,) from where the thing stands, and a turn about its pivot as a rotation vector (3,) in the room's axes."""

    way: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turn: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def matrix(self, pivot: Array) -> Array:
        """The motion (4, 4) from how the thing stands, its pivot being at a point (3,)."""
        rotation = _rotation(self.turn)
        return rigid(rotation, pivot + np.array(self.way) - rotation @ pivot)


def pose(way: Iterable[float], turn: Iterable[float] = (0.0, 0.0, 0.0)) -> Pose:
    """A pose of plain numbers."""
    x, y, z = (float(v) + 0.0 for v in way)
    a, b, c = (float(v) + 0.0 for v in turn)
    return Pose((x, y, z), (a, b, c))


def pose_of(matrix: Array, pivot: Array) -> Pose:
    """The pose of a motion (4, 4) from how the thing stands, its pivot being at a point (3,)."""
    turn = Rotation.from_matrix(matrix[:3, :3]).as_rotvec()
    return pose(apply(matrix, pivot[None])[0] - pivot, turn)


def part_way(one: Pose, two: Pose, share: float) -> Pose:
    """The pose at a share of the motion between two."""
    way = np.array(one.way) + share * (np.array(two.way) - np.array(one.way))
    if one.turn == two.turn:
        return pose(way, one.turn)
    turn = (Rotation.from_rotvec(share * _step(one, two).as_rotvec()) * Rotation.from_rotvec(one.turn)).as_rotvec()
    return pose(way, turn)


def turn_between(one: Pose, two: Pose) -> float:
    """The angle in rad between two poses' turns."""
    return 0.0 if one.turn == two.turn else float(_step(one, two).magnitude())


def _step(one: Pose, two: Pose) -> Rotation:
    return Rotation.from_rotvec(two.turn) * Rotation.from_rotvec(one.turn).inv()


def length_of(way: Sequence[Pose]) -> float:
    """How far the pivot goes in mm."""
    return float(sum(stir(a, b, 0.0) for a, b in itertools.pairwise(way)))


def stir(one: Pose, two: Pose, reach: float) -> float:
    """How far any point goes at most between two poses that is no farther than ``reach`` from the pivot."""
    far = float(np.linalg.norm(np.subtract(two.way, one.way)))
    return far + turn_between(one, two) * reach


def leaning(at: Pose) -> float:
    """How far in degrees what stood upright leans at a pose."""
    up = Rotation.from_rotvec(at.turn).apply([0.0, 0.0, 1.0])
    return float(np.degrees(np.arccos(np.clip(up[2], -1.0, 1.0))))


@dataclass(eq=False)
class Budget:
    """How much may be spent on a part of a search: so many ``checks`` of distances, and, as the outer cap, so many ``seconds``.

    Checks are counted, so that what is found hangs on the machine only where the cap cuts it off; that is told by ``late``.
    """

    problem: Problem
    checks: int
    seconds: float

    def __post_init__(self) -> None:
        self._first, self._began = self.problem.measured, time.monotonic()

    @property
    def share(self) -> float:
        """How much of it is spent, from 0 to 1."""
        return min(max((self.problem.measured - self._first) / self.checks, self._lasted / self.seconds), 1.0)

    @property
    def spent(self) -> bool:
        """Whether nothing is left of it."""
        return self.problem.measured - self._first >= self.checks or self.late

    @property
    def late(self) -> bool:
        """Whether its time is over."""
        return self._lasted >= self.seconds

    @property
    def _lasted(self) -> float:
        return time.monotonic() - self._began

    def told(self) -> str:
        """What it was given up after, in words."""
        if self.late:
            return f"given up after {self.seconds:g} s, after {self.problem.measured - self._first:,} of {self.checks:,} checks"
        return f"given up after {self.checks:,} checks"


@dataclass(frozen=True, eq=False)
class Body:
    """A solid as it stands: its part's id, and its mesh and box (2, 3) in space."""

    id: str
    shape: Mesh
    box: Array

    @cached_property
    def model(self) -> Any:
        """Its collision model."""
        return built(self.shape)

    @cached_property
    def solid(self) -> Solid:
        """It, as depths are measured of."""
        return Solid(self.shape, self.model, self.shape.watertight)

    @cached_property
    def thinner(self) -> Mesh:
        """Its mesh with a skin taken off."""
        return without_skin(self.shape)

    @cached_property
    def skinned(self) -> Any:
        """The collision model of that."""
        return built(self.thinner)


@dataclass(frozen=True, eq=False)
class Layer:
    """Bodies to move, as one, against bodies in the way, as one, that may come as near as ``need`` mm; ``owner`` tells for each triangle
    of the latter which obstacle it is of."""

    mover: Any
    corners: Array
    other: Any
    box: Array
    owner: NDArray[np.intp]
    need: float

    def gap(self, matrix: Array) -> float:
        """How far the boxes are apart in mm beyond what is needed, under a motion (4, 4)."""
        here = self.corners @ matrix[:3, :3].T + matrix[:3, 3]
        return float(box_gaps(np.array([here.min(axis=0), here.max(axis=0)]), self.box)) - self.need

    def slack(self, matrix: Array, below: float) -> tuple[float, int]:
        """By how much in mm they are farther apart than needed, or ``below`` if that is less, and the obstacle that is nearest."""
        found = nearest(self.mover, placed(matrix), self.other, _AT_REST, below + self.need)
        if found is None or found.distance - self.need >= below:
            return below, -1
        which = int(self.owner[found.triangle]) if 0 <= found.triangle < len(self.owner) else -1
        # surfaces that cross tell no depth
        return (found.distance - self.need if found.distance > 0 else -max(self.need, FINEST)), which


_AT_REST = placed(np.eye(4))


@dataclass(eq=False)
class Problem:
    """Bodies to move, bodies in the way, and how near they may come.

    Pairs that are nearer than ``required`` as they stand may be as near as that, less a little; those that touch may go on touching, for
    which a skin is taken off the moved one. ``special`` are these pairs, by numbers of mover and obstacle, with what they need in
    mm and the mover's mesh. ``box`` (2, 3) is what must be left, unless there is a ``goal`` to come to; ``room`` (2, 3) is what must not
    be left. ``overlaps`` are pairs that cut into each other as they stand by more than a skin, with how deep they do.
    """

    things: tuple[str, ...]
    movers: list[Body]
    obstacles: list[Body]
    special: dict[tuple[int, int], tuple[float, Mesh]]
    pivot: Array
    reach: float
    box: Array
    room: Array
    required: float
    overlaps: tuple[tuple[str, str, float], ...] = ()
    goal: Pose | None = None
    axes: Array = field(default_factory=lambda: np.eye(3))  # the things' own, as columns
    measured: int = 0
    _layers: dict[frozenset[int], list[Layer]] = field(default_factory=dict)
    _models: dict[tuple[int, ...], tuple[Any, Array]] = field(default_factory=dict)
    ignored: frozenset[int] = frozenset()  # obstacles taken away
    least_step: float = LEAST_STEP  # mm of way in which free travels are looked for at least

    def layers(self) -> list[Layer]:
        """The bodies in as few layers as what they need allows, without what is taken away."""
        if self.ignored not in self._layers:
            self._layers[self.ignored] = self._made()
        return self._layers[self.ignored]

    def _made(self) -> list[Layer]:
        near_movers, near_others = {i for i, _ in self.special}, {j for _, j in self.special}
        every = [j for j in range(len(self.obstacles)) if j not in self.ignored]
        all_movers = [body.shape for body in self.movers]
        found = [self._layer(all_movers, [j for j in every if j not in near_others], self.required)]
        far_movers = [body.shape for i, body in enumerate(self.movers) if i not in near_movers]
        found.append(self._layer(far_movers, [j for j in every if j in near_others], self.required))
        for i in sorted(near_movers):
            ordinary = [j for j in every if j in near_others and (i, j) not in self.special]
            found.append(self._layer([self.movers[i].shape], ordinary, self.required))
        for (_, j), (need, shape) in self.special.items():
            if j in every and need > LEFT_OUT:
                found.append(self._layer([shape], [j], need))
        return [layer for layer in found if layer is not None]

    def _layer(self, movers: list[Mesh], others: list[int], need: float) -> Layer | None:
        if not movers or not others:
            return None
        mine, corners = self._kept(movers)
        shapes = [self.obstacles[j].shape for j in others]
        theirs, there = self._kept(shapes)
        owner = np.repeat(np.array(others, np.intp), [len(shape.triangles) for shape in shapes])
        return Layer(mine, corners, theirs, np.array([there.min(axis=0), there.max(axis=0)]), owner, need)

    def _kept(self, shapes: list[Mesh]) -> tuple[Any, Array]:
        """The collision model of shapes as one, and the corners (8, 3) of its box; the problem holds the shapes, so their ids tell them."""
        key = tuple(id(shape) for shape in shapes)
        if key not in self._models:
            whole = joined(shapes)
            self._models[key] = (built(whole), box_corners(whole.bounds))
        return self._models[key]

    def against(self, j: int) -> frozenset[int]:
        """What is to be ignored for one obstacle to be alone in the way."""
        return frozenset(range(len(self.obstacles))) - {j}

    def slack(self, at: Pose, enough: float = np.inf) -> tuple[float, int]:
        """By how much in mm everything is farther apart than it must be, or ``enough`` if that is less; and which obstacle is the nearest
        (-1: none)."""
        matrix = at.matrix(self.pivot)
        best, which = enough, -1
        for gap, layer in sorted(((layer.gap(matrix), layer) for layer in self.layers()), key=lambda item: item[0]):
            if gap >= best:
                break
            self.measured += 1
            found, nearest_one = layer.slack(matrix, best)
            if found < best:
                best, which = found, nearest_one
            if best < 0:
                break
        return best, which

    def out(self, at: Pose) -> bool:
        """Whether the thing has come where it is to go: to its goal, or out of what it must leave by what is required."""
        if self.goal is not None:
            return stir(at, self.goal, self.reach) < FINEST
        box = self.moved_box(at)
        gap = np.maximum(box[0] - self.box[1], self.box[0] - box[1]).max()
        return bool(gap >= self.required)

    def inside_room(self, at: Pose) -> bool:
        """Whether the thing is within the room."""
        box = self.moved_box(at)
        return bool((box[0] >= self.room[0]).all() and (box[1] <= self.room[1]).all())

    def moved_box(self, at: Pose) -> Array:
        """Bounds (2, 3) of the thing at a pose, of its bodies' boxes."""
        boxes = turned_bounds(np.array([b.box for b in self.movers]), at.matrix(self.pivot))
        return np.array([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)])

    def free_between(self, one: Pose, two: Pose) -> tuple[bool, float, int]:
        """Whether the whole motion between two poses is free, surely; the least slack met, and the obstacle that is nearest there."""
        whole = stir(one, two, self.reach)
        least, which = np.inf, -1
        for layer in self.layers():
            free, near, other = self._free_in(layer, one, two, whole)
            if near < least:
                least, which = near, other
            if not free:
                return False, least, which
        return True, least, which

    def _free_in(self, layer: Layer, one: Pose, two: Pose, whole: float) -> tuple[bool, float, int]:
        known: dict[float, tuple[float, int]] = {}

        def slack(share: float) -> tuple[float, int]:
            if share not in known:
                matrix = part_way(one, two, share).matrix(self.pivot)
                gap = layer.gap(matrix)
                self.measured += 1
                # boxes that are far apart are enough
                known[share] = (gap, -1) if gap > whole else layer.slack(matrix, 2 * whole + 1.0)
            return known[share]

        waiting = [(0.0, 1.0)]
        while waiting:
            a, b = waiting.pop()
            low, high = slack(a)[0], slack(b)[0]
            far = (b - a) * whole
            if min(low, high) < 0 or (far < FINEST and low + high < far):
                return False, *min(known.values(), key=lambda s: s[0])
            if low + high < far:
                middle = 0.5 * (a + b)
                waiting += [(middle, b), (a, middle)]
        return True, *min(known.values(), key=lambda s: s[0])

    def likely_free(self, one: Pose, two: Pose) -> bool:
        """Whether a motion between two poses looks free, gone along in steps as large as what is left allows, and no smaller than a
        quarter of what is required: quicker than to show it, and as good while looking for a way."""
        whole = stir(one, two, self.reach)
        least_step = max(0.25 * self.required, self.least_step)
        gone = 0.0
        while True:
            slack, _ = self.slack(part_way(one, two, gone / whole) if whole > 0 else one, max(whole - gone, 1.0))
            if slack < 0:
                return False
            if gone >= whole:
                return True
            gone = min(gone + max(slack, least_step), whole)

    def travel(self, start: Pose, direction: Array, most: float) -> tuple[float, int]:
        """How far the thing can go straight from a pose, up to ``most`` mm, and which obstacle stops it (-1: none).

        Looked for in steps of at least a quarter of what is required; what goes on by this is to be shown free by itself.
        """
        least_step = max(0.25 * self.required, self.least_step)
        gone = 0.0
        while True:
            slack, which = self.slack(pose(np.array(start.way) + gone * direction, start.turn), most + 1.0)
            if slack < 0:
                return max(gone - least_step, 0.0), which
            if gone >= most:
                return most, -1
            gone = min(gone + max(slack, least_step), most)


def problem_of(
    project: Project,
    meshes: Mapping[str, Mesh],
    things: Iterable[str],
    required: float | None = None,
    room: Array | None = None,
    poses: Array | None = None,
    goal: Pose | None = None,
    going_on: bool = False,
    within: str | None = None,
) -> Problem:
    """The problem of taking things, together, out of what they are in; as all stands at rest, or under world poses (parts, 4, 4).

    What must be left is the box of the outermost assembly that holds them (or of that which they are ``within``), or of everything if
    none does; unless there is a ``goal``.
    What overlaps as it stands never comes free; ``going_on`` leaves such pairs out. Raises BadInput when the things have no geometry,
    are outside the room, or overlap something at their goal.
    """
    wanted = project.settings.required_clearance if required is None else required
    if wanted < 0:
        raise BadInput(f"a clearance of {wanted:g} mm cannot be required; give 0 or more")
    ids = topmost(project, things)
    for thing in ids:
        if not isinstance(get(project, thing), Part):
            raise BadInput(f"“{get(project, thing).name}” is no part, so it cannot be taken out")
    inner = {i for thing in ids for i in subtree(project, thing)}
    rest = rest_poses(project) if poses is None else poses
    row, shown = rows(project), shown_parts(project)
    solids = [p for p in project.parts if p.geometry is not None and (p.id in inner or p.id in shown)]
    movers = [_body(meshes, p, rest[row[p.id]]) for p in solids if p.id in inner]
    obstacles = [_body(meshes, p, rest[row[p.id]]) for p in solids if p.id not in inner]
    if not movers:
        raise BadInput("what is to be taken out has no geometry")
    pivot = (rest[row[ids[0]]] @ rest_and_pivot(project, ids[0])[1])[:3, 3]
    special, overlaps = _needs(movers, obstacles, wanted)
    if going_on:
        mover, other = {b.id: i for i, b in enumerate(movers)}, {b.id: j for j, b in enumerate(obstacles)}
        for a, b, _ in overlaps:
            special[mover[a], other[b]] = (LEFT_OUT, movers[mover[a]].shape)
    if goal is not None:
        _need_at(project, special, movers, obstacles, wanted, goal.matrix(pivot))
    box = _holding(project, ids, within, inner, movers, obstacles)
    every = np.array([b.box for b in (*movers, *obstacles)])
    size = float(np.linalg.norm(np.ptp(np.array([b.box for b in movers]).reshape(-1, 3), axis=0)))
    if room is None:
        room = np.array([every[:, 0].min(axis=0) - 2 * size - wanted, every[:, 1].max(axis=0) + 2 * size + wanted])
    room = np.asarray(room, float)
    now = np.array([b.box for b in movers])
    if (now[:, 0].min(axis=0) < room[0]).any() or (now[:, 1].max(axis=0) > room[1]).any():
        raise BadInput("what is to be taken out is not within the room’s bounds as it stands; make them wider")
    corners = np.concatenate([box_corners(b.box) for b in movers])
    reach = float(np.linalg.norm(corners - pivot, axis=1).max())
    return Problem(
        tuple(ids),
        movers,
        obstacles,
        special,
        pivot,
        reach,
        box,
        room,
        wanted,
        tuple(overlaps),
        axes=rest[row[ids[0]]][:3, :3],
        goal=goal,
    )


def _body(meshes: Mapping[str, Mesh], part: Part, at: Array) -> Body:
    shape = solid_mesh(meshes, part)
    there = Mesh(apply(at, shape.vertices), shape.triangles)
    return Body(part.id, there, there.bounds)


def _needs(
    movers: list[Body], obstacles: list[Body], wanted: float
) -> tuple[dict[tuple[int, int], tuple[float, Mesh]], list[tuple[str, str, float]]]:
    """Pairs that may be as near as they stand; with a skin off what touches. And pairs that overlap, with how deep."""
    special: dict[tuple[int, int], tuple[float, Mesh]] = {}
    overlaps = []
    for i, j, distance, one, two in _near_pairs(movers, obstacles, wanted, np.eye(4)):
        special[i, j] = _allowed(movers[i], distance, wanted)
        if distance <= 2 * SKIN and nearest(one.skinned, _AT_REST, two.model, _AT_REST, FINEST) is not None:
            depth = overlap_of(one.solid, np.eye(4), two.solid, np.eye(4)).depth
            overlaps.append((movers[i].id, obstacles[j].id, depth))
    return special, overlaps


def _need_at(
    project: Project,
    special: dict[tuple[int, int], tuple[float, Mesh]],
    movers: list[Body],
    obstacles: list[Body],
    wanted: float,
    there: Array,
) -> None:
    """Let pairs be as near as they are at a goal, under a motion (4, 4). Raises BadInput when they overlap there."""
    for i, j, distance, one, two in _near_pairs(movers, obstacles, wanted, there):
        if distance <= 2 * SKIN and nearest(one.skinned, placed(there), two.model, _AT_REST, FINEST) is not None:
            depth = overlap_of(one.solid, there, two.solid, np.eye(4)).depth
            names = (get(project, body.id).name for body in (movers[i], obstacles[j]))
            raise BadInput(f"there “{'” would overlap “'.join(names)}” by {depth:.2f} mm; choose another place")
        found = _allowed(movers[i], distance, wanted)
        if (i, j) not in special or found[0] < special[i, j][0]:
            special[i, j] = found


def _allowed(mover: Body, distance: float, wanted: float) -> tuple[float, Mesh]:
    """What a pair needs that is so near, and the mover's mesh for it."""
    if distance > 2 * SKIN:
        return max(min(wanted, distance) - SKIN, 0.0), mover.shape
    return 0.0, mover.thinner


def _near_pairs(
    movers: list[Body], obstacles: list[Body], wanted: float, there: Array
) -> Iterator[tuple[int, int, float, Body, Body]]:
    """Pairs nearer than required under a motion (4, 4) of the movers: their numbers, how near, and both bodies."""
    for i, body in enumerate(movers):
        box = turned_bounds(body.box, there)
        for j, other in enumerate(obstacles):
            if box_gaps(box, other.box) >= wanted + SKIN:
                continue
            found = nearest(body.model, placed(there), other.model, _AT_REST, wanted + SKIN)
            if found is not None:
                yield i, j, found.distance, body, other
            elif _holds(body, there, other):
                yield i, j, 0.0, body, other


def _holds(body: Body, there: Array, other: Body) -> bool:
    return overlap_of(body.solid, there, other.solid, np.eye(4)).depth > 0


def without_skin(shape: Mesh) -> Mesh:
    """A mesh with its surface drawn in by a skin, along its vertices' normals."""
    body = shape.body
    return Mesh(np.asarray(body.vertices) - SKIN * np.asarray(body.vertex_normals), np.asarray(body.faces, np.int32))


def _holding(
    project: Project, ids: list[str], within: str | None, inner: set[str], movers: list[Body], obstacles: list[Body]
) -> Array:
    """The box (2, 3) that must be left: of the outermost assembly that holds the things, without them; of all obstacles if none does."""
    tops = {[*ancestors(project, i), i][0] for i in ids} if within is None else {within}
    held = {i for top in tops for i in subtree(project, top)} - inner
    chosen = [b.box for b in obstacles if b.id in held] or [b.box for b in obstacles] or [b.box for b in movers]
    return np.array([np.min([b[0] for b in chosen], axis=0), np.max([b[1] for b in chosen], axis=0)])
