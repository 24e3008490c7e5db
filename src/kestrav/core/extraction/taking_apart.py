"""Taking several things apart: which block which, in which order they come out, and runs of it. Lengths in mm, times in s."""

from __future__ import annotations

import dataclasses
import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import add, change
from kestrav.core.document.lookup import ancestors, get, subtree
from kestrav.core.document.records import Cue, Project
from kestrav.core.errors import BadInput
from kestrav.core.extraction.poses import Pose, length_of, pose
from kestrav.core.extraction.problem import Problem, problem_of
from kestrav.core.extraction.pulls import blockers_along, directions, exit_travel, legged_pull
from kestrav.core.extraction.way_runs import straight_run
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh, box_corners
from kestrav.core.motion.making import pivot_on_it
from kestrav.core.motion.placing import shift, transform
from kestrav.core.motion.resting import rest_and_pivot, rest_poses, rows

Array = NDArray[np.float64]
Tick = Callable[[float], None]

_SAME_WAY = 0.5  # cosine between directions above which things come out the same way
_SPARE = 1.0  # mm
_MOST_THINGS = 200


@dataclass(frozen=True)
class Removal:
    """One thing that comes out: along which direction (3,) at last, how far it goes until it is out, and the places (3,) from where it
    stands that it goes through, straight from one to the next."""

    thing: str
    direction: tuple[float, float, float]
    travel: float
    ways: tuple[tuple[float, float, float], ...]

    @property
    def gone(self) -> Array:
        """How far (3,) it has gone at the end."""
        return np.array(self.ways[-1], float)


def _removal(thing: str, poses: Sequence[Pose]) -> Removal:
    last = np.subtract(poses[-1].way, poses[-2].way)
    return Removal(thing, vector(last / np.linalg.norm(last)), length_of(poses), tuple(at.way for at in poses))


@dataclass(frozen=True)
class Order:
    """The order in which things come out; what is ``left`` does not, and for each of that which of the things, or other parts, block the
    straight pull that is blocked by the fewest."""

    removals: tuple[Removal, ...]
    left: tuple[str, ...]
    blockers: Mapping[str, tuple[str, ...]]


def blocking(
    project: Project, meshes: Mapping[str, Mesh], things: Iterable[str], required: float | None = None
) -> dict[str, dict[tuple[float, float, float], tuple[str, ...]]]:
    """The directional blocking graph: for each thing and each direction of its axes what blocks its straight pull, of the things by
    theirs, of other parts by their ids.

    R. Wilson and J.-C. Latombe, "Geometric reasoning about mechanical assembly", Artificial Intelligence 71(2), 1994.
    """
    ids = _checked(things)
    whose = _whose(project, ids)
    found = {}
    for thing in ids:
        problem = problem_of(project, meshes, [thing], required)
        found[thing] = {
            vector(way): tuple(dict.fromkeys(whose.get(part, part) for part in blockers_along(problem, way)))
            for way in _axes(problem)
        }
    return found


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
    """The order in which things come out, straight or else in two or three legs, one after another, what is out being out of the way: of those that can, the one with
    the shortest way first. A thing that is in another one of them comes out of that after it, where it has come to. Raises BadInput for none."""
    ids = _checked(things)
    whose = _whose(project, ids)
    holder = {thing: _holder(project, thing, ids) for thing in ids}
    problems = {thing: problem_of(project, meshes, [thing], required) for thing in ids if holder[thing] is None}
    left, removals = list(ids), list[Removal]()
    while left:
        if tick is not None:
            tick(len(removals) / len(ids))
        out = {r.thing for r in removals}
        ready = [thing for thing in left if holder[thing] is None or holder[thing] in out]
        for thing in ready:
            if thing not in problems:
                problems[thing] = _held_problem(project, meshes, thing, str(holder[thing]), removals, required)
            problem = problems[thing]
            problem.ignored = frozenset(
                j for j, body in enumerate(problem.obstacles) if holder[thing] is None and whose.get(body.id) in out
            )
        best = _straight(problems, ready) or _in_legs(problems, ready)
        if best is None:
            break
        removals.append(best)
        left.remove(best.thing)
    # what comes out of another one would have to be looked at anew, where that has gone farther
    if not any(holder.values()):
        removals = _out_of_each_others_way(problems, removals)
    for thing in left:
        problems.setdefault(thing, problem_of(project, meshes, [thing], required))
    blockers = {}
    for thing in left:
        sets = [blockers_along(problems[thing], way) for way in _axes(problems[thing])]
        fewest = min(sets, key=len)
        blockers[thing] = tuple(dict.fromkeys(whose.get(part, part) for part in fewest))
    return Order(tuple(removals), tuple(left), blockers)


def _straight(problems: Mapping[str, Problem], things: Iterable[str]) -> Removal | None:
    """The shortest straight pull that takes one of some things out."""
    best: Removal | None = None
    for thing in things:
        problem = problems[thing]
        for way in _axes(problem):
            most = exit_travel(problem, Pose(), way)
            if best is not None and most >= best.travel:
                continue
            if problem.travel(Pose(), way, most)[0] >= most and problem.free_between(Pose(), pose(most * way))[0]:
                best = _removal(thing, [Pose(), pose(most * way)])
    return best


def _in_legs(problems: Mapping[str, Problem], things: Iterable[str]) -> Removal | None:
    """The shortest pull in two legs, or else three, that takes one of some things out."""
    for legs in (2, 3):
        found = []
        for thing in things:
            problem = problems[thing]
            way = legged_pull(problem, _axes(problem), legs)
            if way is not None and all(problem.free_between(a, b)[0] for a, b in itertools.pairwise(way)):
                found.append(_removal(thing, way))
        if found:
            return min(found, key=lambda removal: removal.travel)
    return None


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
        for inner in subtree(project, removal.thing):
            poses[row[inner]] = shift(removal.gone) @ poses[row[inner]]
    return problem_of(project, meshes, [thing], required, poses=poses, within=holder)


def _out_of_each_others_way(problems: Mapping[str, Problem], removals: list[Removal]) -> list[Removal]:
    """Removals of which what comes out first goes on, to leave room for what comes out the same way after it."""
    found: list[Removal] = []
    ends: list[tuple[Array, float]] = []  # of what comes out later: its direction, and how far ahead along it it ends
    for number in range(len(removals) - 1, -1, -1):
        removal = removals[number]
        problem, way = problems[removal.thing], np.array(removal.direction)
        before = pose(removal.gone)
        corners = box_corners(problem.moved_box(before)) @ way
        ahead = [end for other, end in ends if float(other @ way) > _SAME_WAY]
        more = max([0.0, *(end + problem.required + _SPARE - float(corners.min()) for end in ahead)])
        gone = {r.thing for r in removals[:number]}
        problem.ignored = problem.ignored | {j for j, body in enumerate(problem.obstacles) if body.id in gone}
        after = pose(removal.gone + more * way)
        if more > 0 and problem.free_between(before, after)[0]:
            removal = dataclasses.replace(removal, travel=removal.travel + more, ways=(*removal.ways[:-1], after.way))
        else:
            more = 0.0
        found.append(removal)
        ends.append((way, float(corners.max()) + more))
    return found[::-1]


def gone_with(project: Project, thing: str, order: Order) -> Array:
    """How far (3,) a thing has gone with those that it is in, as they came out before it."""
    above = set(ancestors(project, thing))
    found = np.zeros(3)
    for removal in itertools.takewhile(lambda r: r.thing != thing, order.removals):
        if removal.thing in above:
            found += removal.gone
    return found


def add_sequence(project: Project, order: Order, start: float = 0.0) -> Project:
    """The project with a path and a run for each thing that comes out, each beginning as the one before arrives; backwards in time it
    is the assembly."""
    lead: str | None = None
    for removal in order.removals:
        project = pivot_on_it(project, removal.thing)
        rest, pivot = rest_and_pivot(project, removal.thing)
        stands = (rest @ pivot)[:3, 3] + gone_with(project, removal.thing, order)
        name = f"{get(project, removal.thing).name} comes out"
        places = [stands + np.array(way) for way in removal.ways]
        path, run = straight_run(project, removal.thing, places, name, start)
        if lead is not None:
            run = change(run, cue=Cue(lead))
        project = add(project, path, run)
        lead = run.id
    return project


def exploded(project: Project, order: Order, spread: float = 1.0) -> Project:
    """The project with things moved apart along the directions in which they come out, by a share of their way; what came out first goes
    farthest."""
    if not spread > 0:
        raise BadInput(f"a spread of {spread:g} is not possible; give more than 0")
    count = len(order.removals)
    for number, removal in enumerate(order.removals):
        project = transform(project, [removal.thing], shift(spread * (count - number) / count * removal.gone))
    return project
