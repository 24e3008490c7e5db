"""Taking several things apart: which block which, in which order they come out, and runs of it. Lengths in mm, times in s."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import add, change
from kestrav.core.document.lookup import ancestors, get, solids, subtree
from kestrav.core.document.records import Project, Trigger
from kestrav.core.editing.run_making import pivot_on_it
from kestrav.core.editing.timing import reversed_in_time
from kestrav.core.errors import BadInput, Cancelled
from kestrav.core.extraction.extraction_runs import straight_run
from kestrav.core.extraction.fasteners import fastener_axis
from kestrav.core.extraction.layers import Body
from kestrav.core.extraction.problem import Budget, Problem, problem_of
from kestrav.core.extraction.pulls import (
    blockers_along,
    blocks,
    directions,
    exit_travel,
    in_corridor,
    legged_pull,
    shape_axes,
)
from kestrav.core.extraction.removal_poses import Pose, length_of, pose
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh, box_corners, box_distances
from kestrav.core.parts.placing import shift, transform
from kestrav.core.parts.rest import rest_and_pivot, rest_poses, rows

Array = NDArray[np.float64]
Tick = Callable[[float, str], None]
"""Told how far it is, from 0 to 1, and what has come out."""

_SAME_WAY = 0.5  # cosine between directions above which things come out the same way
_SPARE = 1.0  # mm
_MOST_THINGS = 1000
_MOST_IN_LEGS = 6  # things, the smallest ones, for which pulls in legs are tried where none comes straight out
_MOST_LOOKS = 400  # at pairs, until it is given up to find what must come out together
_LEG_CHECKS, _LEG_SECONDS = 20_000, 45.0  # that each of these may take


class Removal(msgspec.Struct, frozen=True):
    """One thing that comes out, with its ``companions`` if it must: along which direction (3,) at last, how far it goes until it is out, and
    the places (3,) from where it stands that it goes through, straight from one to the next. What has the same ``step`` can go at once.
    ``fastener`` tells whether its shape is that of a screw or the like."""

    thing: str
    direction: tuple[float, float, float]
    travel: float
    translations: tuple[tuple[float, float, float], ...]
    companions: tuple[str, ...] = ()
    step: int = 0
    fastener: bool = False

    @property
    def things(self) -> tuple[str, ...]:
        """All that comes out."""
        return (self.thing, *self.companions)

    @property
    def displacement(self) -> Array:
        """How far (3,) it has gone at the end."""
        return np.array(self.translations[-1], float)


def _removal(things: Sequence[str], poses: Sequence[Pose], *, fastener: bool = False) -> Removal:
    last = np.subtract(poses[-1].translation, poses[-2].translation)
    return Removal(
        things[0],
        vector(np.round(last / np.linalg.norm(last), 9) + 0.0),
        length_of(poses),
        tuple(at.translation for at in poses),
        tuple(things[1:]),
        fastener=fastener,
    )


class Order(msgspec.Struct, frozen=True):
    """The order in which things come out; what is ``left`` does not, and for each of that which of the things, or other parts, block the
    straight pull that is blocked by the fewest. Where the search was ``stopped`` what is left was not looked at to the end. What all else was taken
    off ``stays``."""

    removals: tuple[Removal, ...]
    left: tuple[str, ...]
    blockers: Mapping[str, tuple[str, ...]]
    stopped: bool = False
    stays: str | None = None


def blocking(
    project: Project, meshes: Mapping[str, Mesh], things: Iterable[str], required: float | None = None
) -> dict[str, dict[tuple[float, float, float], tuple[str, ...]]]:
    """The directional blocking graph: for each thing and each direction of its axes what blocks its straight pull, of the things by
    theirs, of other parts by their ids.

    R. Wilson and J.-C. Latombe, "Geometric reasoning about mechanical assembly", Artificial Intelligence 71(2), 1994.
    """
    ids = _checked(things)
    whose = _whose(project, ids)
    blocking = {}
    for thing in ids:
        problem = problem_of(project, meshes, [thing], required)
        blocking[thing] = {
            vector(direction): tuple(
                dict.fromkeys(whose.get(part, part) for part in blockers_along(problem, direction))
            )
            for direction in _axes(problem)
        }
    return blocking


def _checked(things: Iterable[str]) -> list[str]:
    ids = list(dict.fromkeys(things))
    if not 1 <= len(ids) <= _MOST_THINGS:
        raise BadInput(f"{len(ids)} things cannot be taken apart together; choose 1 to {_MOST_THINGS}")
    return ids


def _whose(project: Project, ids: Iterable[str]) -> dict[str, str]:
    return {inner: thing for thing in ids for inner in subtree(project, thing)}


def _axes(problem: Problem) -> list[Array]:
    return directions(problem, allowed=[*np.eye(3), *-np.eye(3)])


def order_of(
    project: Project,
    meshes: Mapping[str, Mesh],
    things: Iterable[str],
    required: float | None = None,
    tick: Tick | None = None,
) -> Order:
    """The order in which things come out, one after another, what is out being out of the way: fasteners first, then of those that come
    straight out the one with the shortest way; where none does, one in two or three legs, or else the fewest that come out together.

    A thing that is in another one of them comes out of that after it, where it has come to. ``tick`` is told how far it is and what has
    come out; where it raises :class:`Cancelled` what was found so far is kept. Raises BadInput for no things.
    """
    ids = _checked(things)
    return _Apart(project, meshes, ids, required, tick or (lambda _share, _text: None)).order()


class _Apart:
    """Taking things apart, under way. That one part blocks another along a direction is looked at once, and only where it matters: what
    is known to be blocked by something still there is not looked at again."""

    def __init__(
        self, project: Project, meshes: Mapping[str, Mesh], ids: list[str], required: float | None, tell: Tick
    ) -> None:
        self.project, self.meshes, self.ids, self.required, self.tell = project, meshes, ids, required, tell
        self.whose = _whose(project, ids)
        self.holder = {thing: _holder(project, thing, ids) for thing in ids}
        self.left, self.removals = list(ids), list[Removal]()
        self._known: dict[str, Body] = {}
        self._problems: dict[str, Problem] = {}
        self._axes_of: dict[str, list[Array]] = {}
        self._fasteners: dict[str, Array | None] = {}
        self._looked: dict[tuple[str, int, int], bool] = {}
        self._witness: dict[tuple[str, int], int] = {}
        self._step = 0

    def order(self) -> Order:
        """The order, as far as it is found."""
        stopped, stays = False, None
        try:
            while self.left:
                if self._alone():
                    stays = self.left.pop()
                    break
                ready = self._next()
                if not ready:
                    break
                for removal in ready:
                    self.removals.append(removal)
                    self.left = [thing for thing in self.left if thing not in removal.things]
        except Cancelled:
            if not self.removals:
                raise
            stopped = True
        # what comes out of another one would have to be looked at anew, where that has gone farther
        removals = self.removals
        if not any(self.holder.values()) and not any(r.companions for r in removals):
            removals = _out_of_each_others_way({r.thing: self._free_of(r) for r in removals}, removals)
        blockers = {} if stopped else {thing: self._held_by(thing) for thing in self.left}
        return Order(tuple(removals), tuple(self.left), blockers, stopped, stays)

    def _alone(self) -> bool:
        """Whether all else was taken off the last thing."""
        if len(self.left) > 1 or not self.removals or self.holder[self.left[0]] is not None:
            return False
        problem = self._problem(self.left[0])
        return len(problem.ignored) == len(problem.obstacles)

    def _next(self) -> list[Removal]:
        """What comes out next: all fasteners that can, or one thing, or some together; nothing if none can."""
        out = {thing for removal in self.removals for thing in removal.things}
        ready = [thing for thing in self.left if self.holder[thing] is None or self.holder[thing] in out]
        self._step += 1
        screws = []
        for thing in ready:
            self._tell()
            head = self._fastener(thing)
            if head is None:
                continue
            far = exit_travel(self._problem(thing), Pose(), head)
            if np.isfinite(far) and not self._blocked(
                thing, self._problem(thing), self._number(thing, head), head, far
            ):
                screw = _removal([thing], [Pose(), pose(far * head)], fastener=True)
                screws.append(msgspec.structs.replace(screw, step=self._step))
        if screws:
            return self._alike_together(screws)
        # the shortest ways are looked at first, and what is largest last: the rest is taken off it
        base = max(self.ids, key=lambda thing: float(np.prod(np.ptp(self._box(thing), axis=0))))
        pulls = sorted(
            (thing == base, far, n, k)
            for n, thing in enumerate(ready)
            for k, direction in enumerate(self._axes(thing))
            if np.isfinite(far := exit_travel(self._problem(thing), Pose(), direction))
        )
        for _, far, n, k in pulls:
            self._tell()
            direction = self._axes(ready[n])[k]
            if not self._blocked(ready[n], self._problem(ready[n]), k, direction, far):
                return [msgspec.structs.replace(_removal([ready[n]], [Pose(), pose(far * direction)]), step=self._step)]
        removals = self._in_legs(ready) or self._together(ready)
        return [] if removals is None else [msgspec.structs.replace(removals, step=self._step)]

    def _tell(self) -> None:
        last = get(self.project, self.removals[-1].thing).name if self.removals else ""
        text = f"{len(self.ids) - len(self.left)} of {len(self.ids)} out" + (f", last {last}" if last else "")
        self.tell((len(self.ids) - len(self.left)) / len(self.ids), text)

    def _alike_together(self, screws: list[Removal]) -> list[Removal]:
        """Fasteners of one shape that go the same way follow each other in one step; each other kind in a step of its own."""
        kinds: dict[tuple[object, ...], list[Removal]] = {}
        for screw in screws:
            shape = self._problem(screw.thing).movers[0].shape
            alike = (float(f"{shape.area:.2g}"), float(f"{shape.volume:.2g}"), *np.round(screw.direction, 3))
            kinds.setdefault(alike, []).append(screw)
        alike_together = []
        for mine in kinds.values():
            alike_together += [msgspec.structs.replace(screw, step=self._step) for screw in mine]
            self._step += 1
        self._step -= 1
        return alike_together

    # what is asked of one thing

    def _problem(self, thing: str) -> Problem:
        if thing not in self._problems:
            holder = self.holder[thing]
            self._problems[thing] = (
                problem_of(self.project, self.meshes, [thing], self.required, known=self._known)
                if holder is None or holder in self.left
                else _held_problem(self.project, self.meshes, thing, holder, self.removals, self.required)
            )
        problem = self._problems[thing]
        if self.holder[thing] is None:
            out = {other for removal in self.removals for other in removal.things}
            problem.ignored = frozenset(j for j, body in enumerate(problem.obstacles) if self.whose.get(body.id) in out)
        return problem

    def _free_of(self, removal: Removal) -> Problem:
        """The problem of what came out, with what was out before taken away."""
        problem = self._problems[removal.thing]
        before = {r.thing for r in itertools.takewhile(lambda r: r is not removal, self.removals)}
        problem.ignored = frozenset(j for j, body in enumerate(problem.obstacles) if self.whose.get(body.id) in before)
        return problem

    def _axes(self, thing: str) -> list[Array]:
        if thing not in self._axes_of:
            problem = self._problem(thing)
            self._axes_of[thing] = directions(
                problem,
                allowed=_unlike([*np.eye(3), *-np.eye(3), *(s * a for a in shape_axes(problem) for s in (1, -1))]),
            )
        return self._axes_of[thing]

    def _fastener(self, thing: str) -> Array | None:
        if thing not in self._fasteners:
            self._fasteners[thing] = fastener_axis(self._problem(thing))
        return self._fasteners[thing]

    def _box(self, thing: str) -> Array:
        return self._problem(thing).moved_box(Pose())

    def _blocked(self, thing: str, problem: Problem, k: int, direction: Array, most: float) -> bool:
        """Whether anything still there blocks a straight pull, of which the whole motion is shown free if not."""
        known = self._witness.get((thing, k))
        if known is not None and known not in problem.ignored:
            return True
        # what it slides on takes longest to look at, and seldom blocks it where nothing else does
        touched = {j for _, j in problem.held}
        for j in sorted(in_corridor(problem, direction, most), key=lambda j: (j in touched, self._near(problem, j))):
            if self._blocks(thing, problem, k, direction, most, j):
                self._witness[thing, k] = j
                return True
        return False

    def _blocks(self, thing: str, problem: Problem, k: int, direction: Array, most: float, j: int) -> bool:
        key = (thing, k, j)
        if key not in self._looked:
            self._tell()
            # in contact it is shown at once, as that stops as soon
            touching = any((i, j) in problem.held for i in range(len(problem.movers)))
            stops = not touching and blocks(problem, direction, most, j) is not None
            if not stops:
                with problem.alone(j):
                    stops = not problem.free_between(Pose(), pose(most * direction))[0]
            self._looked[key] = stops
        return self._looked[key]

    def _near(self, problem: Problem, j: int) -> float:
        return float(box_distances(problem.moved_box(Pose()), problem.obstacles[j].box))

    def _held_by(self, thing: str) -> tuple[str, ...]:
        """What blocks the straight pull of a thing that is blocked by the fewest."""
        problem = self._problem(thing)
        sets = [blockers_along(problem, direction) for direction in self._axes(thing)]
        return tuple(dict.fromkeys(self.whose.get(part, part) for part in min(sets, key=len)))

    # where nothing comes straight out alone

    def _in_legs(self, things: Iterable[str]) -> Removal | None:
        """The shortest pull in two legs, or else three, that takes one of some things out."""
        few = sorted(things, key=lambda thing: self._problem(thing).reach)[:_MOST_IN_LEGS]
        for legs in (2, 3):
            steps = []
            for thing in few:
                self._tell()
                problem = self._problem(thing)
                budget = Budget(problem, _LEG_CHECKS, _LEG_SECONDS)
                poses = legged_pull(problem, self._axes(thing), legs, lambda _share: self._tell(), budget)
                if poses is not None and all(problem.free_between(a, b)[0] for a, b in itertools.pairwise(poses)):
                    steps.append(_removal([thing], poses))
            if steps:
                return min(steps, key=lambda removal: removal.travel)
        return None

    def _together(self, things: Sequence[str]) -> Removal | None:
        """The fewest things that come straight out together: one, what blocks it, what blocks that, and so on, none of which is to stay."""
        if len(things) < 2:
            return None
        # not nearly all that is there: then it is the rest that comes out
        others = any(body.id not in self.whose for body in self._problem(things[0]).obstacles)
        most_things = len(things) if others else len(things) // 2
        enough = len(self._looked) + _MOST_LOOKS
        best: tuple[int, float, list[str], list[Pose]] | None = None
        for thing in things:
            problem = self._problem(thing)
            for direction in self._axes(thing):
                most = exit_travel(problem, Pose(), direction)
                if not np.isfinite(most) or len(self._looked) > enough:
                    continue
                mine = self._closure(thing, direction, most_things if best is None else best[0] - 1)
                if mine is None or len(mine) < 2:
                    continue
                together = problem_of(self.project, self.meshes, mine, self.required, known=self._known)
                out = {other for removal in self.removals for other in removal.things}
                together.ignored = frozenset(
                    j for j, body in enumerate(together.obstacles) if self.whose.get(body.id) in out
                )
                far = exit_travel(together, Pose(), direction)
                end = pose(far * direction)
                if (
                    np.isfinite(far)
                    and together.travel(Pose(), direction, far)[0] >= far
                    and together.free_between(Pose(), end)[0]
                ):
                    best = (len(mine), far, mine, [Pose(), end])
        return None if best is None else _removal(best[2], best[3])

    def _closure(self, thing: str, direction: Array, most_things: int) -> list[str] | None:
        """A thing and all that must go with it along a direction, if these are things that are left and no more than so many."""
        closure, waiting = [thing], [thing]
        while waiting:
            one = waiting.pop()
            problem = self._problem(one)
            most = exit_travel(problem, Pose(), direction)
            for j in in_corridor(problem, direction, most):
                self._tell()
                if not self._blocks(one, problem, self._number(one, direction), direction, most, j):
                    continue
                other = self.whose.get(problem.obstacles[j].id)
                if other is None or other not in self.left:
                    return None
                if other not in closure:
                    closure.append(other)
                    waiting.append(other)
                if len(closure) > most_things:
                    return None
        return closure

    def _number(self, thing: str, direction: Array) -> int:
        """The number of a direction among a thing's axes; one that is not is added."""
        axes = self._axes(thing)
        for k, axis in enumerate(axes):
            if float(axis @ direction) > 0.999:
                return k
        axes.append(direction)
        return len(axes) - 1


def _unlike(directions: Iterable[Array]) -> list[Array]:
    unlike: list[Array] = []
    for direction in directions:
        if all(float(direction @ known) < 0.999 for known in unlike):
            unlike.append(np.asarray(direction, float))
    return unlike


def _holder(project: Project, thing: str, ids: Iterable[str]) -> str | None:
    """The innermost of the other things that a thing is in."""
    return next((above for above in reversed(ancestors(project, thing)) if above in set(ids)), None)


def _held_problem(
    project: Project,
    meshes: Mapping[str, Mesh],
    thing: str,
    holder: str,
    removals: Sequence[Removal],
    required: float | None,
) -> Problem:
    """The problem of taking a thing out of another one that is out already, all standing where it has come to."""
    poses, row = rest_poses(project).copy(), rows(project)
    for removal in removals:
        for inner in (i for other in removal.things for i in subtree(project, other)):
            poses[row[inner]] = shift(removal.displacement) @ poses[row[inner]]
    return problem_of(project, meshes, [thing], required, poses=poses, within=holder)


def _out_of_each_others_way(problems: Mapping[str, Problem], removals: list[Removal]) -> list[Removal]:
    """Removals of which what comes out first goes on, to leave room for what comes out the same way after it and would come where it is."""
    apart: list[Removal] = []
    ends: list[tuple[Array, Array]] = []  # of what comes out later: its direction, and the corners of where it ends
    for number in range(len(removals) - 1, -1, -1):
        removal = removals[number]
        problem, direction = problems[removal.thing], np.array(removal.direction)
        before = pose(removal.displacement)
        corners = box_corners(problem.moved_box(before))
        ahead = [
            float((there @ direction).max())
            for other, there in ends
            if float(other @ direction) > _SAME_WAY and _beside(corners, there, direction) < problem.required + _SPARE
        ]
        more = max([0.0, *(end + problem.required + _SPARE - float((corners @ direction).min()) for end in ahead)])
        removed = {r.thing for r in removals[:number]}
        problem.ignored = problem.ignored | {j for j, body in enumerate(problem.obstacles) if body.id in removed}
        after = pose(removal.displacement + more * direction)
        if more > 0 and problem.free_between(before, after)[0]:
            removal = msgspec.structs.replace(
                removal, travel=removal.travel + more, translations=(*removal.translations[:-1], after.translation)
            )
        else:
            more = 0.0
        apart.append(removal)
        ends.append((direction, corners + more * direction))
    return apart[::-1]


def _beside(one: Array, two: Array, direction: Array) -> float:
    """How far corners (n, 3) of one thing are beside those of another in mm, seen along a direction."""
    across = np.linalg.svd(direction[None])[2][1:]
    low, high = (one @ across.T).min(axis=0), (one @ across.T).max(axis=0)
    other_low, other_high = (two @ across.T).min(axis=0), (two @ across.T).max(axis=0)
    return float(np.linalg.norm(np.maximum(np.maximum(low - other_high, other_low - high), 0.0)))


def displacement_with(project: Project, thing: str, order: Order) -> Array:
    """How far (3,) a thing has gone with those that it is in, or that it went with, as they came out before it."""
    above = {*ancestors(project, thing), thing}
    displacement = np.zeros(3)
    for removal in itertools.takewhile(lambda r: r.thing != thing, order.removals):
        if above & set(removal.things):
            displacement += removal.displacement
    return displacement


def parts_of(project: Project, things: Sequence[str]) -> list[str]:
    """What is taken apart: several things, or the solids that one assembly is made of."""
    if len(things) != 1:
        return list(things)
    return [part.id for part in solids(project, things[0])]


def in_one_step(order: Order, numbers: Iterable[int]) -> Order:
    """The order with some of its removals, by their numbers, and those between them in one step."""
    chosen = sorted(numbers)
    first, last = chosen[0], chosen[-1]
    return _restepped(order, [first if first <= k <= last else k for k in range(len(order.removals))], {first})


def in_own_steps(order: Order, numbers: Iterable[int]) -> Order:
    """The order with some of its removals, by their numbers, each in a step of its own."""
    return _restepped(order, list(range(len(order.removals))), set(), set(numbers))


def _restepped(order: Order, marks: list[int], joined: set[int], alone: set[int] | None = None) -> Order:
    """Steps numbered anew: what had the same step keeps it, but for what is joined under a mark or stands alone."""
    step, removals, before = 0, list[Removal](), None
    for number, removal in enumerate(order.removals):
        if marks[number] in joined:
            here: tuple[str, int] = ("joined", marks[number])
        elif alone is not None and number in alone:
            here = ("alone", number)
        else:
            here = ("step", removal.step)
        step += here != before
        before = here
        removals.append(msgspec.structs.replace(removal, step=step))
    return msgspec.structs.replace(order, removals=tuple(removals))


def add_sequence(
    project: Project, order: Order, start: float = 0.0, speed: float | None = None, *, together: bool = False
) -> Project:
    """The project with a path and a run for each removal, those of one step at once and each step beginning as the one before arrives;
    or, putting it ``together``, all that backwards in time. ``speed`` in mm/s is that of all (none: the usual one)."""
    lead: str | None = None
    edited = []
    for _, step in itertools.groupby(order.removals, key=lambda removal: removal.step):
        before, last = lead, 0.0
        for removal in step:
            project = pivot_on_it(project, removal.thing)
            rest, pivot = rest_and_pivot(project, removal.thing)
            origin = (rest @ pivot)[:3, 3] + displacement_with(project, removal.thing, order)
            name = f"{get(project, removal.thing).name} comes out"
            places = [origin + np.array(leg) for leg in removal.translations]
            path, run = straight_run(project, removal.thing, places, name, start)
            run = change(run, companions=removal.companions, speed=run.speed if speed is None else speed)
            if before is not None:
                run = change(run, trigger=Trigger(before))
            project = add(project, path, run)
            edited.append(run.id)
            # the next step begins as the one that goes farthest arrives
            if removal.travel > last:
                lead, last = run.id, removal.travel
    return reversed_in_time(project, edited) if together and edited else project


def exploded(project: Project, order: Order, spread: float = 1.0) -> Project:
    """The project with things moved apart along the directions in which they come out, by a share of their way; what came out first goes
    farthest."""
    if not spread > 0:
        raise BadInput(f"a spread of {spread:g} is not possible; give more than 0")
    count = len(order.removals)
    for number, removal in enumerate(order.removals):
        project = transform(project, removal.things, shift(spread * (count - number) / count * removal.displacement))
    return project
