"""Taking several things apart: which block which, in which order they come out, and runs of it. Lengths in mm, times in s."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import add, change
from kestrav.core.document.lookup import get, subtree
from kestrav.core.document.records import Cue, Project
from kestrav.core.errors import BadInput
from kestrav.core.extraction.problem import Pose, Problem, pose, problem_of
from kestrav.core.extraction.pulls import blockers_along, directions, exit_travel
from kestrav.core.extraction.way_runs import straight_run
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh, box_corners
from kestrav.core.motion.placing import shift, transform
from kestrav.core.motion.resting import rest_and_pivot

Array = NDArray[np.float64]
Tick = Callable[[float], None]

_SAME_WAY = 0.5  # cosine between directions above which things come out the same way
_SPARE = 1.0  # mm
_MOST_THINGS = 200


@dataclass(frozen=True)
class Removal:
    """One thing that comes straight out: along which direction (3,), and how far until it is out."""

    thing: str
    direction: tuple[float, float, float]
    travel: float


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
    """The order in which things come straight out, one after another, what is out being out of the way: of those that can, the one with
    the shortest way first. Raises BadInput for none."""
    ids = _checked(things)
    whose = _whose(project, ids)
    problems = {thing: problem_of(project, meshes, [thing], required) for thing in ids}
    left, removals = list(ids), list[Removal]()
    while left:
        if tick is not None:
            tick(len(removals) / len(ids))
        out = {r.thing for r in removals}
        best: Removal | None = None
        for thing in left:
            problem = problems[thing]
            problem.ignored = frozenset(
                j for j, body in enumerate(problem.obstacles) if whose.get(body.id) in out
            )  # fmt: skip
            for way in _axes(problem):
                most = exit_travel(problem, Pose(), way)
                if best is not None and most >= best.travel:
                    continue
                if problem.travel(Pose(), way, most)[0] >= most and problem.free_between(Pose(), pose(most * way))[0]:
                    best = Removal(thing, vector(way), most)
        if best is None:
            break
        removals.append(best)
        left.remove(best.thing)
    removals = _out_of_each_others_way(problems, removals)
    blockers = {}
    for thing in left:
        sets = [blockers_along(problems[thing], way) for way in _axes(problems[thing])]
        fewest = min(sets, key=len)
        blockers[thing] = tuple(dict.fromkeys(whose.get(part, part) for part in fewest))
    return Order(tuple(removals), tuple(left), blockers)


def _out_of_each_others_way(problems: Mapping[str, Problem], removals: list[Removal]) -> list[Removal]:
    """Removals of which what comes out first goes on, to leave room for what comes out the same way after it."""
    found: list[Removal] = []
    ends: list[tuple[Array, float]] = []  # of what comes out later: its direction, and how far ahead along it it ends
    for number in range(len(removals) - 1, -1, -1):
        removal = removals[number]
        problem, way = problems[removal.thing], np.array(removal.direction)
        corners = box_corners(problem.moved_box(Pose())) @ way
        ahead = [end for other, end in ends if float(other @ way) > _SAME_WAY]
        far = max([removal.travel, *(end + problem.required + _SPARE - float(corners.min()) for end in ahead)])
        gone = {r.thing for r in removals[:number]}
        problem.ignored = problem.ignored | {j for j, body in enumerate(problem.obstacles) if body.id in gone}
        if far > removal.travel and not problem.free_between(pose(removal.travel * way), pose(far * way))[0]:
            far = removal.travel
        found.append(Removal(removal.thing, removal.direction, far))
        ends.append((way, float(corners.max()) + far))
    return found[::-1]


def add_sequence(project: Project, order: Order, start: float = 0.0) -> Project:
    """The project with a path and a run for each thing that comes out, each beginning as the one before arrives; backwards in time it
    is the assembly."""
    lead: str | None = None
    for removal in order.removals:
        rest, pivot = rest_and_pivot(project, removal.thing)
        stands = (rest @ pivot)[:3, 3]
        name = f"{get(project, removal.thing).name} comes out"
        end = stands + removal.travel * np.array(removal.direction)
        path, run = straight_run(project, removal.thing, (stands, end), name, start)
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
        way = spread * removal.travel * (count - number) / count
        project = transform(project, [removal.thing], shift(way * np.array(removal.direction)))
    return project
