"""Ways out: found in stages, shown free, smoothed and certified. Lengths in mm, angles in degrees, times in s."""

from __future__ import annotations

import contextlib
import itertools
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import Annotated, Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.certificate import Certificate
from kestrav.core.document.fields import quantity
from kestrav.core.document.lookup import solids
from kestrav.core.document.records import Placement, Project
from kestrav.core.errors import BadInput
from kestrav.core.extraction.extraction_runs import SPOT, extraction_run, smoothed_path
from kestrav.core.extraction.planning import goals, plan, shortened
from kestrav.core.extraction.pose_tree import grown
from kestrav.core.extraction.problem import LEAST_STEP, Budget, Problem, problem_of
from kestrav.core.extraction.pulls import (
    Pull,
    blockers_along,
    directions,
    exit_travel,
    least_blockers,
    legged_pull,
    legs_to_goal,
    straight_pulls,
    turned_pull,
)
from kestrav.core.extraction.removal_poses import Pose, leaning, length_of, pose, pose_between
from kestrav.core.extraction.snaps import Snap, snaps_of
from kestrav.core.extraction.targets import pose_at, pose_on
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh

Array = NDArray[np.float64]
Tell = Callable[[str, float, str], None]
"""Told what is being tried, how far all of it is and the best so far; may raise to stop the work."""

Stage = Literal["straight pull", "two legs", "three legs", "turned", "planned"]
_SHARES = (0.5, 0.35, 0.25, 0.15, 0.08, 0.04)  # of a leg, over which a turn on the spot is tried to be made
# of all the work, from where to where each stage goes
_SPANS = {
    "reading": (0.0, 0.02),
    "straight pull": (0.02, 0.1),
    "two legs": (0.1, 0.2),
    "three legs": (0.2, 0.35),
    "turned": (0.35, 0.45),
    "planned": (0.45, 0.8),
    "shortening": (0.8, 0.9),
    "certifying": (0.9, 0.95),
    "what blocks it": (0.95, 1.0),
}
_GLANCE = 8.0  # mm of way in which it is looked whether what blocks comes out itself
CHECKS = 200_000  # distances looked at in each stage, if nothing else is said: about a minute
_UNTURNED, _TURNED = 0.15, 0.65  # of what may be spent on planning; what is left is for planning from outside too
_PARTED_FIRST = 0.6  # of that, for what comes off its contacts first
_LIFTS = (1.25, 2.5, 5.0)  # times the clearance required, that it goes to come off them
_SHORTENING, _PLAN_SHORTENING = 0.1, 0.5  # of the budget of a stage


class ExtractionRequest(msgspec.Struct, frozen=True):
    """What an extraction path must keep to.

    The clearance required in mm (none: the project's); whether the things stay ``upright`` and unturned, and how far they may lean in
    degrees; the directions allowed, when not all are (then they are pulled and turned on the spot, and not planned for); the room's
    bounds. Where to: a ``target`` placement of the first thing's pivot in the room, ``onto`` a part or assembly, or else out of what holds them.
    ``aside`` are things that may be taken away first where they block, ``margin`` in mm is how far beyond what held them they are out
    (none: so that it can be seen).
    ``checks`` is how many distances to look at in each stage at most: what is found hangs on that and on the ``seed`` of the plan's
    numbers alone. ``seconds`` is the outer cap of each stage; what it cuts off is said.
    """

    required: Annotated[
        float | None, quantity("Required clearance", "mm", "Least distance to all other parts", 2, low=0)
    ] = None
    upright: bool = False
    tilt: float | None = None
    allowed: tuple[tuple[float, float, float], ...] = ()
    room: tuple[tuple[float, float, float], tuple[float, float, float]] | None = None
    target: Placement | None = None
    onto: str | None = None
    aside: tuple[str, ...] = ()
    margin: Annotated[
        float | None,
        quantity(
            "Exit margin",
            "mm",
            "Distance beyond the surroundings at which a part counts as out",
            1,
            10,
            zero="a quarter of its size",
            low=0,
        ),
    ] = None
    checks: Annotated[
        int,
        quantity(
            "Effort",
            "thousand checks",
            "Number of distances that each search stage measures before it gives up; equal effort and seed give the same result",
            0,
            50,
            factor=1e-3,
            above=0,
        ),
    ] = CHECKS
    seconds: Annotated[
        float,
        quantity(
            "Time limit",
            "s",
            "Greatest duration of each search stage; a stage that is cut short is reported",
            0,
            60,
            above=0,
        ),
    ] = 600.0
    seed: Annotated[
        int, quantity("Seed", "", "Start of the random numbers; another seed tries other motions", 0, low=1)
    ] = 1


class ExtractionPath(msgspec.Struct, frozen=True):
    """An extraction path: by which stage, its poses, the pivot's way in mm, the least clearance in mm beyond what is required or may be there as
    it stands (never below 0), the greatest lean, and what was tried before.

    ``rounding`` is by which share of their shorter side corners are rounded, ``certificate`` that of the run. ``aside`` are things taken
    away first.
    """

    stage: Stage
    poses: tuple[Pose, ...]
    length: float
    slack: float
    tilt: float
    required: float
    seed: int
    seconds: float
    tried: tuple[str, ...]
    pulls: tuple[Pull, ...] = ()
    rounding: float = 0.0
    certificate: Certificate | None = None
    aside: tuple[str, ...] = ()


class NoExtractionPath(msgspec.Struct, frozen=True):
    """That none was found: what was tried, how far each pull goes and what blocks it, the fewest parts whose removal frees a pull,
    straight or by one part less in two legs, with its direction at last; and contacts that would have to get deeper for it to come
    straight out."""

    tried: tuple[str, ...]
    pulls: tuple[Pull, ...]
    blockers: tuple[str, ...]
    direction: tuple[float, float, float] | None
    required: float
    seed: int
    seconds: float
    snaps: tuple[Snap, ...] = ()


class _Spent(Exception):
    """A stage has spent its budget."""


class _Search(msgspec.Struct, eq=False):
    """A search under way."""

    project: Project
    meshes: Mapping[str, Mesh]
    things: list[str]
    request: ExtractionRequest
    problem: Problem
    directions: list[Array]
    tell: Tell
    began: float
    best: str = ""
    tried: list[str] = msgspec.field(default_factory=list)
    pulls: list[Pull] = msgspec.field(default_factory=list)
    aside: tuple[str, ...] = ()
    budget: Budget | None = None  # that of the stage under way

    def say(self, stage: str, share: float) -> None:
        """Tell how far it is within a stage; gives the stage up when its budget is spent."""
        if self.budget is not None and self.budget.spent:
            raise _Spent
        begin, end = _SPANS[stage]
        self.tell(stage, begin + min(share, 1.0) * (end - begin), self.best)

    def in_time(self, look: Callable[[], list[Pose] | None]) -> tuple[list[Pose] | None, str]:
        """What a stage finds within its budget, and what came of it in words."""
        budget = self.budget = self.allowance()
        try:
            poses = look()
        except _Spent:
            return None, budget.in_words()
        finally:
            self.budget = None
        return poses, "free" if poses is not None else "none free"

    def allowance(self, share: float = 1.0, problem: Problem | None = None) -> Budget:
        """What a stage may spend, or a share of it, on this or another problem."""
        return Budget(
            problem or self.problem, max(round(share * self.request.checks), 1), max(share, 0.1) * self.request.seconds
        )

    def shortened(self, poses: list[Pose], share: float, problem: Problem | None = None) -> list[Pose] | None:
        """A way with what can be left out left out, shown free in this or another problem; where it cannot be shown, that is told of what was
        tried last."""
        tick, problem = partial(self.say, "shortening"), problem or self.problem
        good = shortened(problem, poses, self.allowance(share, problem), self.request.seed, self.request.tilt, tick)
        if good is None:
            self.tried[-1] += ", but not shown to be free"
        return good

    def plan_made_good(self, poses: list[Pose], problem: Problem, start: Pose | None) -> list[Pose] | None:
        """A planned way, shortened and shown free, from where the things stand; ``start`` is where it begins otherwise."""
        self.best = f"planned, {length_of(poses):,.0f} mm in {len(poses) - 1} legs"
        good = self.shortened(poses, _PLAN_SHORTENING, problem)
        return None if good is None else [*([] if start is None else [Pose()]), *without_spots(problem, good)]


def find_extraction_path(
    project: Project,
    meshes: Mapping[str, Mesh],
    things: Iterable[str],
    request: ExtractionRequest | None = None,
    tell: Tell | None = None,
) -> ExtractionPath | NoExtractionPath:
    """A way for things to be taken, together, out of what they are in or to where they are to go: the first stage that serves, of a
    straight pull, two and three legs, a turn on the spot before the last leg, and a plan in position and orientation.

    Every leg of it is shown to be free, its corners are rounded as far as that stays so, and the run that comes of it is certified.
    Raises BadInput when the things have no geometry or the request cannot be met.
    """
    request, ids = request or ExtractionRequest(), list(things)
    if not request.seconds > 0:
        raise BadInput(f"{request.seconds:g} s to look for an extraction path are not possible; give more than 0")
    if request.checks < 1:
        raise BadInput(f"{request.checks} checks to look for an extraction path are not possible; give 1 or more")
    if request.target is not None and request.onto is not None:
        raise BadInput("the parts can go to a placement or onto something, not both; give one")
    say = tell or (lambda _stage, _share, _best: None)
    began = time.monotonic()
    say("reading", 0.0, "")
    search = _Search(project, meshes, ids, request, *_asked(project, meshes, ids, request), say, began)
    result = _look(search)
    if result is not None:
        return result
    if _put_aside(search):
        result = _look(search)
        if result is not None:
            return result
    search.say("what blocks it", 0.0)
    problem = search.problem
    snaps = snaps_of(problem, search.directions, partial(search.say, "what blocks it"))
    blockers, direction = least_blockers(problem, search.directions, partial(search.say, "what blocks it"))
    if len(blockers) > 1 and problem.goal is None:
        search.budget = search.allowance()
        with contextlib.suppress(_Spent):
            alone = _alone_in_the_way(search)
            if alone is not None:
                blockers, direction = [alone[0]], alone[1]
        search.budget = None
    return NoExtractionPath(
        tuple(search.tried),
        tuple(search.pulls),
        tuple(blockers),
        None if direction is None else vector(direction),
        problem.required,
        request.seed,
        time.monotonic() - began,
        snaps,
    )


def _asked(
    project: Project, meshes: Mapping[str, Mesh], ids: list[str], request: ExtractionRequest
) -> tuple[Problem, list[Array]]:
    goal = None
    if request.target is not None:
        goal = pose_at(project, ids, request.target)
    elif request.onto is not None:
        goal = pose_on(project, meshes, ids, request.onto)
    room = None if request.room is None else np.array(request.room, float)
    problem = problem_of(project, meshes, ids, request.required, room, goal=goal, margin=request.margin)
    return problem, directions(problem, allowed=[np.array(d) for d in request.allowed])


def _look(search: _Search) -> ExtractionPath | None:
    """Go through the stages."""
    for stage, poses in _stages(search):
        if poses is None:
            continue
        search.say("certifying", 0.0)
        smooth = smoothed_path(search.project, search.meshes, search.problem, search.things, poses)
        if smooth is None:
            search.tried[-1] += ", found but its run could not be certified"
            continue
        return _way_out(search, stage, poses, *smooth)
    return None


def _stages(search: _Search) -> Iterator[tuple[Stage, list[Pose] | None]]:
    problem, request, directions = search.problem, search.request, search.directions
    note = f" without {len(search.aside)} taken away" if search.aside else ""
    main = [
        direction
        for direction in directions
        if request.allowed or np.isclose(np.abs(direction).max(), 1.0) or _along(problem, direction)
    ]
    pulled = _pulls(search, note)
    yield "straight pull", pulled
    stages: tuple[tuple[int, Stage], ...] = ((2, "two legs"), (3, "three legs"))
    for legs, stage in stages:
        tick = partial(search.say, stage)
        look = legged_pull if problem.goal is None else legs_to_goal
        poses, reason = search.in_time(partial(look, problem, main, legs, tick))
        search.tried.append(f"{stage}, {reason}{note}")
        if poses is not None:
            search.best = f"{stage}, {length_of(poses):,.0f} mm"
            # what goes to a goal has been shown free as it was found
            yield stage, poses if problem.goal is not None else search.shortened(poses, _SHORTENING)
    if not request.upright and problem.goal is None:
        poses, reason = search.in_time(partial(turned_pull, problem, main, request.tilt, partial(search.say, "turned")))
        search.tried.append(f"turned on the spot, {reason}{note}")
        good = None if poses is None else search.shortened(poses, _SHORTENING)
        if good is not None:
            search.best = f"turned, {length_of(good):,.0f} mm"
            yield "turned", without_spots(problem, good)
    if request.allowed:
        search.tried.append("not planned, as it may only go along the directions allowed")
        return
    yield "planned", _planned(search, note)


def _pulls(search: _Search, note: str) -> list[Pose] | None:
    problem = search.problem
    search.pulls = straight_pulls(problem, search.directions, partial(search.say, "straight pull"))
    free = [pull for pull in search.pulls if pull.free]
    search.tried.append(f"{len(search.directions)} straight pulls, {len(free)} free{note}")
    if search.pulls:
        far = search.pulls[0]
        search.best = f"{far.travel:,.0f} mm straight{'' if far.free else ', then blocked'}"
    if problem.goal is not None:
        poses = legs_to_goal(problem, search.directions, 1)
        search.tried.append(f"straight there, {'free' if poses is not None else 'not free'}{note}")
        return poses
    return [Pose(), pose(free[0].travel * np.array(free[0].direction))] if free else None


def _planned(search: _Search, note: str) -> list[Pose] | None:
    problem, request = search.problem, search.request
    if problem.slack(Pose(), 1.0)[0] < 0:
        search.tried.append(f"not planned, as it is too near others as it stands{note}")
        return None
    tick = partial(search.say, "planned")
    # what need not be turned is found much sooner without
    kinds = [("planned without turning", _UNTURNED, True)] + ([] if request.upright else [("planned", _TURNED, False)])
    tries: list[tuple[str, float, bool, Problem, Pose | None]] = []
    lifted = lifted_off(problem, search.directions)
    if lifted is not None:
        # what has parted from its contacts has to keep its clearance, as a way that comes near them again would not
        tries += [(name, _PARTED_FIRST * share, upright, *lifted) for name, share, upright in kinds]
        kinds = [(f"{name} in contact", (1.0 - _PARTED_FIRST) * share, upright) for name, share, upright in kinds]
    tries += [(name, share, upright, problem, None) for name, share, upright in kinds]
    for name, share, upright, own, start in tries:
        budget = search.allowance(share, own)
        poses = grown(
            own, search.directions, budget, request.seed, upright=upright, tilt=request.tilt, tick=tick, start=start
        )
        search.tried.append(f"{name}, {'free' if poses is not None else budget.in_words()}{note}")
        good = None if poses is None else search.plan_made_good(poses, own, start)
        if good is not None:
            return good
    ends, budget = goals(problem, search.directions), search.allowance(1.0 - _UNTURNED - _TURNED)
    poses = plan(problem, ends, budget, request.seed, upright=request.upright, tilt=request.tilt, tick=tick)
    if poses is None:
        text = f"planned from outside, {budget.in_words()}" if ends else "planned: there is no free place outside"
        search.tried.append(text + note)
        return None
    search.tried.append(f"planned from outside, free{note}")
    return search.plan_made_good(poses, problem, None)


def lifted_off(problem: Problem, directions: list[Array]) -> tuple[Problem, Pose] | None:
    """The problem of things that have parted from what they are in contact with, and where they have, the least way along a direction from
    where they stand; None where they are in contact with nothing, or do not come off it so."""
    if not problem.held:
        return None
    clear, least = problem.parted(), max(problem.required, LEAST_STEP)
    for far in _LIFTS:
        for direction in directions:
            at = pose(far * least * direction)
            if clear.free_at(at) and problem.likely_free(Pose(), at):
                return clear, at
    return None


def _put_aside(search: _Search) -> bool:
    """Take away the fewest of what may be that frees a straight pull, or else all of that; whether there is anything."""
    problem, project = search.problem, search.project
    whose = {part.id: thing for thing in search.request.aside for part in solids(project, thing)}
    number = {j: whose[body.id] for j, body in enumerate(problem.obstacles) if body.id in whose}
    if not number:
        return False
    sets = [[whose.get(part) for part in blockers_along(problem, direction)] for direction in search.directions]
    # a pull that nothing blocks leads elsewhere than asked for
    fit = [{thing for thing in things if thing is not None} for things in sets if things and None not in things]
    chosen = min(fit, key=len, default=set(number.values()))
    search.aside = tuple(thing for thing in search.request.aside if thing in chosen)
    problem.ignored = frozenset(j for j, thing in number.items() if thing in chosen)
    return True


def _alone_in_the_way(search: _Search) -> tuple[str, Array] | None:
    """One part whose removal frees a pull in two legs, of those that block pulls and come straight out themselves; and the extraction path at
    last."""
    problem, before = search.problem, search.problem.ignored
    first = list(dict.fromkeys(pull.blocker for pull in search.pulls if pull.blocker is not None))
    number = {body.id: j for j, body in enumerate(problem.obstacles)}
    tick = partial(search.say, "what blocks it")
    for done, part in enumerate(first):
        tick(done / len(first))
        own = problem_of(search.project, search.meshes, [part], search.request.required)
        own.least_step = _GLANCE
        axes = directions(own, allowed=[*np.eye(3), *-np.eye(3)])
        if not any(own.travel(Pose(), axis, far)[0] >= far for axis in axes if (far := exit_travel(own, Pose(), axis))):
            continue
        problem.ignored = before | {number[part]}
        main = [direction for direction in search.directions if np.isclose(np.abs(direction).max(), 1.0)]
        try:
            direction = legged_pull(problem, main, 2, tick)
        finally:
            problem.ignored = before
        if direction is not None:
            last = np.subtract(direction[-1].translation, direction[-2].translation)
            return part, last / np.linalg.norm(last)
    return None


def add_extraction_path(project: Project, things: Sequence[str], path: ExtractionPath, start: float = 0.0) -> Project:
    """The project with an extraction path as a path and a run, or key poses where it turns on the spot; the last ones. Raises BadInput for
    several things that turn on the spot."""
    return extraction_run(project, things, path.poses, path.rounding, start)


def without_spots(problem: Problem, poses: list[Pose]) -> list[Pose]:
    """A way whose turns on the spot are made while going on, or before, where that is free: a run turns by its way only."""
    legs = list(poses)
    for k in range(1, len(legs)):
        if np.linalg.norm(np.subtract(legs[k].translation, legs[k - 1].translation)) > SPOT:
            continue
        later = [(k, pose_between(legs[k], legs[k + 1], share)) for share in _SHARES] if k + 1 < len(legs) else []
        sooner = [(k - 1, pose_between(legs[k - 1], legs[k - 2], share)) for share in _SHARES] if k > 1 else []
        for place, at in (*later, *sooner):
            others = (legs[k - 1], at) if place == k else (at, legs[k])
            if problem.free_between(*others)[0]:
                legs[place] = at
                break
    return legs


def _along(problem: Problem, direction: Array) -> bool:
    """Whether a direction is along one of the things' own axes."""
    return bool(np.abs(problem.axes.T @ direction).max() > 0.999)


def _way_out(
    search: _Search, stage: Stage, poses: list[Pose], rounding: float, certificate: Certificate
) -> ExtractionPath:
    problem = search.problem
    legs = list(itertools.pairwise(poses))
    return ExtractionPath(
        stage,
        tuple(poses),
        length_of(poses),
        min(problem.free_between(a, b)[1] for a, b in legs),
        max(leaning(pose_between(a, b, share)) for a, b in legs for share in np.linspace(0.0, 1.0, 9)),
        problem.required,
        search.request.seed,
        time.monotonic() - search.began,
        tuple(search.tried),
        tuple(search.pulls),
        rounding,
        certificate,
        search.aside,
    )
