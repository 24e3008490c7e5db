"""Planning in position and orientation: RRT-Connect of the Open Motion Planning Library over the problem's own tests.

J. Kuffner and S. LaValle, "RRT-Connect: An Efficient Approach to Single-Query Path Planning", ICRA 2000; I. Şucan, M. Moll and L. Kavraki,
"The Open Motion Planning Library", IEEE Robotics & Automation Magazine 19(4), 2012. Lengths in mm, times in s.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable
from typing import Any

import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.extraction.problem import Budget, Problem
from kestrav.core.extraction.pulls import exit_travel
from kestrav.core.extraction.removal_poses import Pose, leaning, pose, pose_between

Array = NDArray[np.float64]
Tick = Callable[[float], None]

_RANGE = 0.15  # of the space across, that the planner goes at a time
_CUTS = 6  # corners tried to be cut
_LOOKS = np.linspace(0.125, 0.875, 7)  # shares of a leg at which its lean is looked at
_BEYOND = 2.0  # mm that goals lie farther out than needed


def goals(problem: Problem, allowed: list[Array]) -> list[Pose]:
    """Poses outside what must be left, unturned, nearest first: straight out along directions, whatever is in between; or the goal."""
    if problem.goal is not None:
        return [problem.goal]
    poses = []
    for direction in allowed:
        most = exit_travel(problem, Pose(), direction)
        if not np.isfinite(most):
            continue
        end = pose((most + _BEYOND) * direction)
        if problem.inside_room(end) and problem.slack(end, 1.0)[0] >= 0:
            poses.append((most, end))
    return [end for _, end in sorted(poses, key=lambda goal: goal[0])]


def plan(
    problem: Problem,
    ends: list[Pose],
    budget: Budget,
    seed: int,
    *,
    upright: bool = False,
    tilt: float | None = None,
    tick: Tick | None = None,
) -> list[Pose] | None:
    """A way from where the things stand to one of the ends, as poses between which they go straight; None if none is found within a
    budget.

    ``upright`` things are not turned at all; ``tilt`` in degrees is how far their upright may lean. The same seed finds the same way.
    """
    from ompl import base as ob, geometric as og

    if not ends:
        return None
    _seeded(seed)
    space, low, high = _space(problem, ends, upright=upright)

    def read(state: Any) -> Pose:
        return _pose_of(state, upright=upright)

    def valid(state: Any) -> bool:
        at = read(state)
        if tilt is not None and not upright and leaning(at) > tilt:
            return False
        return problem.inside_room(at) and problem.slack(at, 0.5)[0] >= 0

    class Motions(ob.MotionValidator):  # type: ignore[misc]
        """Motions between two states, gone along by what is left at each place."""

        def checkMotion(self, first: Any, second: Any, *_: Any) -> bool:
            return valid(second) and problem.likely_free(read(first), read(second))

    setup = og.SimpleSetup(space)
    setup.setStateValidityChecker(valid)
    information = setup.getSpaceInformation()
    information.setMotionValidator(Motions(information))
    start = space.allocState()
    _write(start, Pose(), upright=upright)
    target = ob.GoalStates(information)
    kept = []  # the library does not hold them
    for end in ends:
        state = space.allocState()
        _write(state, end, upright=upright)
        target.addState(state)
        kept.append(state)
    setup.setStartState(start)
    setup.setGoal(target)
    planner = og.RRTConnect(information)
    planner.setRange(_RANGE * float(np.linalg.norm(high - low)))
    setup.setPlanner(planner)
    stopped: list[BaseException] = []

    def over() -> bool:
        # what stops the work must not go through the library
        try:
            if tick is not None:
                tick(budget.share)
        except BaseException as stop:
            stopped.append(stop)
        return bool(stopped) or budget.spent

    setup.solve(ob.PlannerTerminationCondition(over))
    if stopped:
        raise stopped[0]
    if not setup.haveExactSolutionPath():
        return None
    path = setup.getSolutionPath()
    return [read(path.getState(k)) for k in range(path.getStateCount())]


def _seeded(seed: int) -> None:
    """Seed the library's numbers: all that draw some are made after this, so it says in vain that some were drawn before."""
    from ompl import util as ou

    ou.setLogLevel(ou.LogLevel.LOG_NONE)
    ou.RNG.setSeed(max(seed, 1))
    ou.setLogLevel(ou.LogLevel.LOG_ERROR)


def _space(problem: Problem, ends: list[Pose], *, upright: bool) -> tuple[Any, Array, Array]:
    from ompl import base as ob

    box = problem.moved_box(Pose())
    # no farther than all around what must be left
    size = float(np.linalg.norm(np.ptp(box, axis=0)))
    beyond = size + problem.margin + _BEYOND
    low = np.maximum(problem.room[0], problem.box[0] - beyond) - box[0]
    high = np.minimum(problem.room[1], problem.box[1] + beyond) - box[1]
    translations = np.array([end.translation for end in ends] + [(0.0, 0.0, 0.0)])
    low, high = np.minimum(low, translations.min(axis=0) - 1.0), np.maximum(high, translations.max(axis=0) + 1.0)
    bounds = ob.RealVectorBounds(3)
    for k in range(3):
        bounds.setLow(k, float(low[k]))
        bounds.setHigh(k, float(high[k]))
    space = ob.RealVectorStateSpace(3) if upright else ob.SE3StateSpace()
    space.setBounds(bounds)
    return space, low, high


def _write(state: Any, at: Pose, *, upright: bool) -> None:
    if upright:
        for k in range(3):
            state[k] = at.translation[k]
        return
    state.setXYZ(*at.translation)
    x, y, z, w = scipy.spatial.transform.Rotation.from_rotvec(at.turn).as_quat()
    turn = state.rotation()
    turn.x, turn.y, turn.z, turn.w = float(x), float(y), float(z), float(w)


def _pose_of(state: Any, *, upright: bool) -> Pose:
    if upright:
        return pose([state[k] for k in range(3)])
    turn = state.rotation()
    rotation = scipy.spatial.transform.Rotation.from_quat([turn.x, turn.y, turn.z, turn.w]).as_rotvec()
    return pose((state.getX(), state.getY(), state.getZ()), rotation)


def shortened(
    problem: Problem,
    poses: list[Pose],
    budget: Budget,
    seed: int,
    tilt: float | None = None,
    tick: Tick | None = None,
) -> list[Pose] | None:
    """A way with what can be left out left out, every leg of it shown free; None when one of its own legs is not.

    Pairs of poses, the farthest apart first and then by chance, are joined where the motion between them is free and leans by no more
    than ``tilt`` degrees. When the budget is spent it is left as it is.
    """
    rng = np.random.default_rng(seed)

    def late() -> bool:
        if tick is not None:
            tick(budget.share)
        return budget.spent

    def joined(one: Pose, two: Pose) -> bool:
        middles = [pose_between(one, two, share) for share in _LOOKS]
        fits = all(problem.inside_room(at) and (tilt is None or leaning(at) <= tilt) for at in middles)
        return fits and problem.likely_free(one, two) and problem.free_between(one, two)[0]

    legs = list(poses)
    k = 0
    while k < len(legs) - 2 and not late():
        far = next((j for j in range(len(legs) - 1, k + 1, -1) if joined(legs[k], legs[j])), k + 1)
        del legs[k + 1 : far]
        k += 1
    # corners are cut where a shorter way is free
    for _ in range(_CUTS):
        if len(legs) < 3 or late():
            break
        k = int(rng.integers(1, len(legs) - 1))
        a, b = rng.uniform(0.05, 0.95, 2)
        before, after = pose_between(legs[k - 1], legs[k], 1 - a), pose_between(legs[k], legs[k + 1], b)
        if joined(before, after):
            legs[k : k + 1] = [before, after]
    return legs if all(problem.free_between(a, b)[0] for a, b in itertools.pairwise(legs)) else None
