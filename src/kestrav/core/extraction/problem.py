"""What is to be taken out of what: bodies, how near they may come, and whether a motion between two poses is free.

Between two poses no point goes farther than the way and the turn times its distance from the pivot, and from the slack at both ends
follows how much is left between. Lengths in mm, angles in rad.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from functools import cached_property
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.asked import NEARER
from kestrav.core.clearance.contact_history import deeper_by, rounded_up, tolerance_of
from kestrav.core.clearance.depth_limit import DepthLimit, nested
from kestrav.core.clearance.interference import interference_of
from kestrav.core.document.lookup import ancestors, get, shown_parts, subtree, topmost
from kestrav.core.document.records import Part, Project
from kestrav.core.editing.run_making import pivot_on_it
from kestrav.core.errors import BadInput
from kestrav.core.extraction.layers import FINEST, Body, Held, Layer
from kestrav.core.extraction.removal_poses import Pose, motions, pose, pose_between, stir
from kestrav.core.geometry.meshes import Mesh, box_corners, box_distances, joined, turned_bounds
from kestrav.core.geometry.models import at_rest, built, nearest, placed
from kestrav.core.geometry.transforms import apply
from kestrav.core.parts.rest import rest_and_pivot, rest_poses, rows
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

CLEAR = 0.25  # of the mean size of what is taken out, that it goes beyond what it must leave, if nothing else is said
_HELD_AT_ONCE = 2000  # looks at a contact that are prepared together
_FIRST_LOOKS = 8  # along a motion that are prepared together, then twice as many and so on
_TIGHT = 6  # steps that are gone where it is tight before it is looked how tight
LEAST_STEP = 1.0  # mm of way in which a free travel is looked for


class Budget:
    """How much may be spent on a part of a search: so many ``checks`` of distances, and, as the outer cap, so many ``seconds``.

    Checks are counted, so that what is found hangs on the machine only where the cap cuts it off; that is told by ``late``.
    """

    def __init__(self, problem: Problem, checks: int, seconds: float) -> None:
        self.problem, self.checks, self.seconds = problem, checks, seconds
        self._first, self._began = problem.measured, time.monotonic()

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

    def in_words(self) -> str:
        """What it was given up after, in words."""
        if self.late:
            return f"given up after {self.seconds:g} s, after {self.problem.measured - self._first:,} of {self.checks:,} checks"
        return f"given up after {self.checks:,} checks"


class Problem(msgspec.Struct, eq=False, dict=True):
    """Bodies to move, bodies in the way, and how near they may come.

    Pairs that are nearer than ``required`` as they stand may be as near as that, less a little (``near``, by numbers of mover and obstacle,
    with what they need in mm); those in contact may slide and part but not get deeper (``held``). ``box`` (2, 3) is what must be left by a
    ``margin`` in mm, unless there is a ``goal`` to come to; ``room`` (2, 3) is what must not be left.
    """

    things: tuple[str, ...]
    movers: list[Body]
    obstacles: list[Body]
    near: dict[tuple[int, int], float]
    held: dict[tuple[int, int], Held]
    pivot: Array
    reach: float
    box: Array
    room: Array
    required: float
    margin: float
    goal: Pose | None = None
    axes: Array = msgspec.field(default_factory=lambda: np.eye(3))  # the things' own, as columns
    measured: int = 0
    _layers: dict[frozenset[int], list[Layer | Held]] = msgspec.field(default_factory=dict)
    _models: dict[tuple[int, ...], tuple[Any, Array]] = msgspec.field(default_factory=dict)
    ignored: frozenset[int] = frozenset()  # obstacles taken away
    contactless: frozenset[tuple[int, int]] = frozenset()  # pairs in contact that are not looked at
    least_step: float = LEAST_STEP  # mm of way in which free travels are looked for at least

    def layers(self) -> list[Layer | Held]:
        """The bodies in as few layers as what they need allows, without what is taken away."""
        if self.ignored not in self._layers:
            self._layers[self.ignored] = self._made()
        return self._layers[self.ignored]

    def _made(self) -> list[Layer | Held]:
        apart = {*self.near, *self.held, *self.contactless}
        near_movers, near_others = {i for i, _ in apart}, {j for _, j in apart}
        every = [j for j in range(len(self.obstacles)) if j not in self.ignored]
        all_movers = [body.shape for body in self.movers]
        layers = [self._layer(all_movers, [j for j in every if j not in near_others], self.required)]
        far_movers = [body.shape for i, body in enumerate(self.movers) if i not in near_movers]
        layers.append(self._layer(far_movers, [j for j in every if j in near_others], self.required))
        for i in sorted(near_movers):
            ordinary = [j for j in every if j in near_others and (i, j) not in apart]
            layers.append(self._layer([self.movers[i].shape], ordinary, self.required))
        for (i, j), need in self.near.items():
            if j in every:
                layers.append(self._layer([self.movers[i].shape], [j], need))
        held = [one for (_, j), one in self.held.items() if j in every]
        return [*(layer for layer in layers if layer is not None), *held]

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
            alone = next((body for body in (*self.movers, *self.obstacles) if body.shape is shapes[0]), None)
            if len(shapes) == 1 and alone is not None:
                self._models[key] = (alone.model, box_corners(alone.box))
            else:
                whole = joined(shapes)
                self._models[key] = (built(whole), box_corners(whole.bounds))
        return self._models[key]

    @contextmanager
    def alone(self, j: int) -> Iterator[None]:
        """Within this, one obstacle is alone in the way."""
        before, self.ignored = self.ignored, self.against(j)
        try:
            yield
        finally:
            self.ignored = before

    def against(self, j: int) -> frozenset[int]:
        """What is to be ignored for one obstacle to be alone in the way."""
        return frozenset(range(len(self.obstacles))) - {j}

    def parted(self) -> Problem:
        """The problem once the things have parted from all that they are in contact with: from then on they keep their clearance."""
        return msgspec.structs.replace(self, held={}, _layers={})

    def slack(self, at: Pose, enough: float = np.inf) -> tuple[float, int]:
        """By how much in mm everything is farther apart than it must be, or ``enough`` if that is less; and which obstacle is the nearest
        (-1: none)."""
        matrix = at.matrix(self.pivot)
        best, which = enough, -1
        for gap, layer in sorted(((layer.gap(matrix), layer) for layer in self.layers()), key=lambda item: item[0]):
            if gap >= best:
                break
            self.measured += 1
            slack, nearest_one = layer.slack(matrix, best)
            if slack < best:
                best, which = slack, nearest_one
            if best < 0:
                break
        return best, which

    def out(self, at: Pose) -> bool:
        """Whether the thing has come where it is to go: to its goal, or out of what it must leave by what is required."""
        if self.goal is not None:
            return stir(at, self.goal, self.reach) < FINEST
        box = self.moved_box(at)
        gap = np.maximum(box[0] - self.box[1], self.box[0] - box[1]).max()
        return bool(gap >= self.margin)

    def inside_room(self, at: Pose) -> bool:
        """Whether the thing is within the room."""
        box = self.moved_box(at)
        return bool((box[0] >= self.room[0]).all() and (box[1] <= self.room[1]).all())

    def moved_box(self, at: Pose) -> Array:
        """Bounds (2, 3) of the thing at a pose, of its bodies' boxes."""
        boxes = turned_bounds(self._boxes, at.matrix(self.pivot))
        return np.array([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)])

    def free_between(self, one: Pose, two: Pose) -> tuple[bool, float, int]:
        """Whether the whole motion between two poses is free, surely; the least slack met, and the obstacle that is nearest there."""
        whole = stir(one, two, self.reach)
        least, which = np.inf, -1
        for layer in self.layers():
            if isinstance(layer, Held):
                free, near, other = self._held_free(layer, one, two, whole)
            else:
                free, near, other = self._free_in(layer, one, two, whole)
            if near < least:
                least, which = near, other
            if not free:
                return False, least, which
        return True, least, which

    def _held_free(self, layer: Held, one: Pose, two: Pose, whole: float) -> tuple[bool, float, int]:
        """The same for one contact, of which no slack is told: looked at so often that it gets deeper between by no more than its leeway."""
        shares = np.linspace(0.0, 1.0, max(int(np.ceil(whole / max(2.0 * layer.leeway, FINEST))), 1) + 1)
        for first in range(0, len(shares), _HELD_AT_ONCE):
            matrices = motions(one, two, shares[first : first + _HELD_AT_ONCE], self.pivot)
            for k in np.flatnonzero(layer.separation(matrices) <= 0):
                self.measured += 1
                ends = first + k in (0, len(shares) - 1)
                # to work it out takes long, and seldom finds it free where the solids drawn in do not tell so
                look = layer.clear if ends and layer.told_at_rest else layer.quickly_free
                if not look(matrices[k]):
                    return False, -FINEST, layer.other
        return True, np.inf, -1

    def _free_in(self, layer: Layer, one: Pose, two: Pose, whole: float) -> tuple[bool, float, int]:
        known: dict[float, tuple[float, int]] = {}

        def slack(share: float) -> tuple[float, int]:
            if share not in known:
                matrix = pose_between(one, two, share).matrix(self.pivot)
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

    def free_until(self, one: Pose, two: Pose, shares: Array, spare: float = 0.0) -> int:
        """At how many of shares (n,) of a motion between two poses, from the first on, all is within the room and as far apart as it must
        be, and by a spare in mm more where it is not in contact: as far as can be told quickly, so that what is in contact may be held to
        be too deep where it is nearly so."""
        done, some = 0, _FIRST_LOOKS
        while done < len(shares):
            matrices = motions(one, two, shares[done : done + some], self.pivot)
            boxes = turned_bounds(self._boxes[:, None], matrices)
            within = ((boxes[..., 0, :] >= self.room[0]) & (boxes[..., 1, :] <= self.room[1])).all(axis=(0, 2))
            doubts = [(layer, layer.doubtful(matrices, spare)) for layer in self.layers()]
            for k, matrix in enumerate(matrices):
                self.measured += 1
                if not within[k] or not all(layer.quickly_free(matrix, spare) for layer, doubt in doubts if doubt[k]):
                    return done + k
            done += len(matrices)
            some *= 2
        return len(shares)

    def free_at(self, at: Pose, spare: float = 0.0) -> bool:
        """The same of one pose."""
        return self.free_until(at, at, np.zeros(1), spare) == 1

    @cached_property
    def _boxes(self) -> Array:
        return np.array([body.box for body in self.movers])

    def _ahead(self, at: Pose, most: float, least: float, likely: float) -> tuple[float, int]:
        """How far in mm anything may go on from a pose, up to so many, where so many are ``likely``: no less than the least step where it
        is free; below 0 with the obstacle where it is not."""
        matrix = at.matrix(self.pivot)
        ahead = max(most, least)
        for gap, layer in sorted(((layer.gap(matrix), layer) for layer in self.layers()), key=lambda item: item[0]):
            if gap >= ahead:
                break
            self.measured += 1
            if isinstance(layer, Held):
                if gap <= 0 and not layer.quickly_free(matrix):
                    return -1.0, layer.other
                ahead = min(ahead, max(gap, least))
                continue
            spare = layer.spare(matrix, ahead, likely, least) if ahead > least else 0.0
            if spare <= 0 and not layer.free(matrix):
                # what is exactly as far apart as needed is free too, which only its distance tells
                slack, which = layer.slack(matrix, least)
                if slack < 0:
                    return -1.0, which
            ahead = min(ahead, max(spare, least))
        return ahead, -1

    def _along(self, at: Callable[[float], Pose], whole: float) -> tuple[float, bool, int]:
        """How far in mm it gets along a motion, gone along in steps as large as what is left allows, and no smaller than a quarter of what
        is required; whether that is all of it, and which obstacle stops it, if that is known (-1). Where it is tight some steps are gone
        before it is looked how tight it is."""
        least = max(0.25 * self.required, self.least_step)
        travel, tight, likely = 0.0, 0, 8.0 * least
        while True:
            ahead, which = self._ahead(at(travel), least if tight else max(whole - travel, 1.0), least, likely)
            if ahead < 0:
                return travel, False, which
            if travel >= whole:
                return whole, True, -1
            likely = max(ahead, 2.0 * least)
            tight = tight - 1 if tight else (_TIGHT if ahead < 2.0 * least else 0)
            travel = min(travel + ahead, whole)

    def likely_free(self, one: Pose, two: Pose) -> bool:
        """Whether a motion between two poses looks free: quicker than to show it, and as good while looking for a way."""
        whole = stir(one, two, self.reach)
        return self._along(lambda travel: pose_between(one, two, travel / whole) if whole > 0 else one, whole)[1]

    def travel(self, start: Pose, direction: Array, most: float) -> tuple[float, int]:
        """How far the thing can go straight from a pose, up to ``most`` mm, and which obstacle stops it (-1: none). What goes on by this
        is to be shown free by itself."""
        travel, free, which = self._along(
            lambda travel: pose(np.array(start.translation) + travel * direction, start.turn), most
        )
        return (travel, -1) if free else (max(travel - max(0.25 * self.required, self.least_step), 0.0), which)


def problem_of(
    project: Project,
    meshes: Mapping[str, Mesh],
    things: Iterable[str],
    required: float | None = None,
    room: Array | None = None,
    poses: Array | None = None,
    goal: Pose | None = None,
    within: str | None = None,
    margin: float | None = None,
    known: dict[str, Body] | None = None,
) -> Problem:
    """The problem of taking things, together, out of what they are in; as all stands at rest, or under world poses (parts, 4, 4).

    What must be left is the box of the outermost assembly that holds them (or of that which they are ``within``), or of everything if
    none does, and of all that they touch or that holds them; by a ``margin`` in mm (none: so that it can be seen); unless there is a
    ``goal``. ``known`` bodies, as they stand, are used and added to. Raises BadInput when the things have no geometry, are outside the room, or would be in something at their goal.
    """
    wanted = project.settings.required_clearance if required is None else required
    if wanted < 0:
        raise BadInput(f"a clearance of {wanted:g} mm cannot be required; give 0 or more")
    ids = topmost(project, things)
    for thing in ids:
        if not isinstance(get(project, thing), Part):
            raise BadInput(f"“{get(project, thing).name}” is no part, so it cannot be taken out")
    project = pivot_on_it(project, ids[0])
    inner = {i for thing in ids for i in subtree(project, thing)}
    rest = rest_poses(project) if poses is None else poses
    row, shown = rows(project), shown_parts(project)
    solids = [p for p in project.parts if p.geometry is not None and (p.id in inner or p.id in shown)]
    bodies = {} if known is None else known
    for part in solids:
        if part.id not in bodies:
            bodies[part.id] = _body(meshes, part, rest[row[part.id]])
    movers = [bodies[p.id] for p in solids if p.id in inner]
    obstacles = [bodies[p.id] for p in solids if p.id not in inner]
    if not movers:
        raise BadInput("what is to be taken out has no geometry")
    pivot = (rest[row[ids[0]]] @ rest_and_pivot(project, ids[0])[1])[:3, 3]
    near, held = _needs(project, movers, obstacles, wanted)
    if goal is not None:
        _need_at(project, near, held, movers, obstacles, wanted, goal.matrix(pivot))
    box = _holding(project, ids, within, inner, movers, obstacles, {j for _, j in held})
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
        near,
        held,
        pivot,
        reach,
        box,
        room,
        wanted,
        _margin(movers, wanted) if margin is None else margin,
        axes=rest[row[ids[0]]][:3, :3],
        goal=goal,
    )


def _body(meshes: Mapping[str, Mesh], part: Part, at: Array) -> Body:
    shape = solid_mesh(meshes, part)
    there = Mesh(apply(at, shape.vertices), shape.triangles)
    return Body(part.id, there, there.bounds)


def _margin(movers: list[Body], wanted: float) -> float:
    """How far things go beyond what they must leave if nothing else is said: so that it can be seen."""
    boxes = np.array([b.box for b in movers])
    return max(wanted, CLEAR * float(np.ptp([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)], axis=0).mean()))


def _needs(
    project: Project, movers: list[Body], obstacles: list[Body], wanted: float
) -> tuple[dict[tuple[int, int], float], dict[tuple[int, int], Held]]:
    """Pairs that may be as near as they stand, and those that are in contact."""
    near, held = {}, {}
    for i, j, distance in _near_pairs(movers, obstacles, wanted, np.eye(4)):
        if distance > project.settings.contact_distance:
            near[i, j] = max(min(wanted, distance - min(NEARER, 0.5 * distance)), 0.0)
        else:
            held[i, j] = _in_contact(project, movers[i], obstacles, j, np.eye(4))
    return near, held


def _in_contact(project: Project, body: Body, obstacles: list[Body], j: int, there: Array) -> Held:
    """Two bodies that touch under a motion (4, 4) of the first one, with how deep they may be."""
    other = obstacles[j]
    deep = interference_of(body.solid, there, other.solid, np.eye(4)).depth
    tolerance = tolerance_of(project, body.shape, other.shape)
    deeper = deeper_by(project, body.id, other.id)
    limit = DepthLimit(body.solid, other.solid, rounded_up(deep + tolerance + deeper))
    return Held(limit, box_corners(body.shape.bounds), other.box, j, tolerance, deeper)


def _need_at(
    project: Project,
    near: dict[tuple[int, int], float],
    held: dict[tuple[int, int], Held],
    movers: list[Body],
    obstacles: list[Body],
    wanted: float,
    there: Array,
) -> None:
    """Let pairs be as near as they are at a goal, under a motion (4, 4). Raises BadInput when they are in each other there."""
    for i, j, distance in _near_pairs(movers, obstacles, wanted, there):
        if (i, j) in held:
            continue
        if distance > project.settings.contact_distance:
            near[i, j] = min(near.get((i, j), wanted), max(distance - min(NEARER, 0.5 * distance), 0.0))
            continue
        touching = _in_contact(project, movers[i], obstacles, j, there)
        deep = touching.limit.allowed - touching.leeway
        if deep > touching.leeway:
            names = (get(project, body.id).name for body in (movers[i], obstacles[j]))
            raise BadInput(f"there “{'” would overlap “'.join(names)}” by {deep:.2f} mm; choose another place")
        near.pop((i, j), None)
        held[i, j] = touching


def _near_pairs(
    movers: list[Body], obstacles: list[Body], wanted: float, there: Array
) -> Iterator[tuple[int, int, float]]:
    """Pairs nearer than required under a motion (4, 4) of the movers: their numbers, and how near."""
    for i, body in enumerate(movers):
        box = turned_bounds(body.box, there)
        for j, other in enumerate(obstacles):
            if box_distances(box, other.box) >= wanted + NEARER:
                continue
            apart = nearest(body.model, placed(there), other.model, at_rest(), wanted + NEARER)
            if apart is None and not nested(body.solid, there, other.solid):
                continue
            distance = 0.0 if apart is None else apart.distance
            if distance < wanted or distance == 0.0:
                yield i, j, distance


def _holding(
    project: Project,
    ids: list[str],
    within: str | None,
    inner: set[str],
    movers: list[Body],
    obstacles: list[Body],
    touched: set[int],
) -> Array:
    """The box (2, 3) that must be left: of the outermost assembly that holds the things, without them, or of all obstacles if none does;
    and of what they touch, and of what is all around them."""
    tops = {[*ancestors(project, i), i][0] for i in ids} if within is None else {within}
    held = {i for top in tops for i in subtree(project, top)} - inner
    own = np.array([np.min([b.box[0] for b in movers], axis=0), np.max([b.box[1] for b in movers], axis=0)])
    chosen = [
        b.box
        for j, b in enumerate(obstacles)
        if b.id in held or (within is None and (j in touched or _around(b.box, own)))
    ]
    chosen = chosen or [b.box for b in obstacles] or [b.box for b in movers]
    return np.array([np.min([b[0] for b in chosen], axis=0), np.max([b[1] for b in chosen], axis=0)])


def _around(box: Array, inner: Array) -> bool:
    """Whether a box (2, 3) is all around another one."""
    return bool((box[0] <= inner[0]).all() and (box[1] >= inner[1]).all())
