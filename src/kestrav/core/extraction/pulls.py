"""Straight pulls: which directions are free, what blocks the others, and pulls in two or three legs. Lengths in mm."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.extraction.layers import FINEST
from kestrav.core.extraction.problem import Budget, Problem
from kestrav.core.extraction.removal_poses import Pose, leaning, pose
from kestrav.core.geometry.meshes import box_distances

Array = NDArray[np.float64]
Tick = Callable[[float], None]

_CELLS = 10  # across what was reached; of the stops in one cell only the nearest is gone on from
_STOPS = 10  # places along a blocked leg from which the next one is tried
_DISTINCT = 0.05  # of a surface, that faces along one axis more than along another for it to be an axis of the shape
_FLATS, _LARGE = 6, 0.04  # flats whose normals are tried at most, and of the surface that each must be
_ALIKE = 0.999  # cosine above which two directions are one


class Pull(msgspec.Struct, frozen=True):
    """A straight pull: its direction (3,), how far it goes until it is out or blocked, the least slack beyond what is required, whether it
    leads out, and the part that blocks it if not."""

    direction: tuple[float, float, float]
    travel: float
    slack: float
    free: bool
    blocker: str | None


def directions(problem: Problem, more: Iterable[Array] = (), allowed: Iterable[Array] = ()) -> list[Array]:
    """Unit directions to pull along: the allowed ones only, if there are some; otherwise the 26 between neighbouring axes, those of the
    things' own axes and of their shape, and more."""
    given = [np.asarray(d, float) / np.linalg.norm(d) for d in allowed]
    if given:
        return given
    directions: list[Array] = []
    steps = sorted(itertools.product((-1, 0, 1), repeat=3), key=lambda s: sum(map(abs, s)))
    own = problem.axes
    for candidate in (
        *(np.array(s, float) for s in steps if any(s)),
        *(sense * own[:, k] for k in range(3) for sense in (1.0, -1.0)),
        *(sense * axis for axis in shape_axes(problem) for sense in (1.0, -1.0)),
        *more,
    ):
        unit = np.asarray(candidate, float) / np.linalg.norm(candidate)
        if all(float(unit @ known) < _ALIKE for known in directions):
            directions.append(unit)
    return directions


def shape_axes(problem: Problem) -> list[Array]:
    """Unit axes that the things' shape has: those along which or across which most of their surface faces, as a pin's does across its
    axis, and the normals of their largest flats."""
    normals, areas, flats = [], [], list[tuple[float, Array]]()
    for body in (mover.shape.body for mover in problem.movers):
        normals.append(np.asarray(body.face_normals))
        areas.append(np.asarray(body.area_faces))
        flats += [(float(area), body.facets_normal[k]) for k, area in enumerate(body.facets_area)]
    faces, weights = np.concatenate(normals), np.concatenate(areas)
    whole = max(float(weights.sum()), 1e-12)
    shares, axes = np.linalg.eigh((faces * weights[:, None]).T @ faces / whole)
    candidates = [
        axes[:, k]
        for k in range(3)
        # two alike leave their axes open
        if min(abs(shares[k] - shares[j]) for j in range(3) if j != k) > _DISTINCT
    ]
    candidates += [
        normal for area, normal in sorted(flats, key=lambda flat: -flat[0])[:_FLATS] if area > _LARGE * whole
    ]
    kept: list[Array] = []
    for axis in candidates:
        if all(abs(float(axis @ known)) < _ALIKE for known in kept):
            clean = np.round(np.asarray(axis, float), 9) + 0.0
            kept.append(clean / np.linalg.norm(clean))
    return kept


def exit_travel(problem: Problem, start: Pose, direction: Array) -> float:
    """How far in mm the thing must go straight from a pose to leave what it must leave; infinite if it never does."""
    box = problem.moved_box(start)
    best = np.inf
    for k in range(3):
        if direction[k] > 1e-9:
            best = min(best, (problem.box[1, k] + problem.margin - box[0, k]) / direction[k])
        elif direction[k] < -1e-9:
            best = min(best, (box[1, k] - problem.box[0, k] + problem.margin) / -direction[k])
    return max(float(best), 0.0) + FINEST


def straight_pulls(problem: Problem, directions: list[Array], tick: Tick | None = None) -> list[Pull]:
    """Every direction with how far it goes, the free ones first and the shortest of those."""
    pulls = []
    start = Pose()
    for number, direction in enumerate(directions):
        if tick is not None:
            tick(number / len(directions))
        most = exit_travel(problem, start, direction)
        end = pose(most * direction)
        travel, which = problem.travel(start, direction, most)
        free = travel >= most and problem.inside_room(end)
        free, slack, near = problem.free_between(start, end) if free else (False, 0.0, which)
        which = which if free or which >= 0 else near
        blocker = None if which < 0 else problem.obstacles[which].id
        x, y, z = (float(v) for v in direction)
        pulls.append(Pull((x, y, z), travel, slack, free, blocker))
    return sorted(pulls, key=lambda pull: (not pull.free, pull.travel if pull.free else -pull.travel))


def legged_pull(
    problem: Problem, directions: list[Array], legs: int, tick: Tick | None = None, budget: Budget | None = None
) -> list[Pose] | None:
    """The shortest extraction path found in so many straight legs, as poses with the first one where it stands; None when there is none among
    the stops tried, all of them or what a budget is enough for."""
    best: tuple[float, list[Pose]] | None = None
    waiting: list[tuple[float, list[Pose], Array | None]] = [(0.0, [Pose()], None)]
    for leg in range(legs):
        coming: list[tuple[float, list[Pose], Array | None]] = []
        for number, (length, so_far, last) in enumerate(waiting):
            if tick is not None:
                tick((leg + number / len(waiting)) / legs)
            if budget is not None and budget.spent:
                return None if best is None else best[1]
            for direction in directions:
                if last is not None and abs(float(direction @ last)) > _ALIKE:
                    continue
                start = so_far[-1]
                most = exit_travel(problem, start, direction)
                if best is not None and length + most >= best[0]:
                    most_here = best[0] - length
                else:
                    most_here = most
                travel, _ = problem.travel(start, direction, min(most, max(most_here, 0.0)))
                end = pose(np.array(start.translation) + travel * direction)
                if travel >= most and problem.inside_room(end):
                    best = (length + travel, [*so_far, end])
                elif leg < legs - 1 and travel > 1.0:
                    count = _STOPS if legs == 2 else _STOPS // 2
                    for share in np.linspace(1.0 / count, 1.0, count):
                        stop = pose(np.array(start.translation) + (share * travel) * direction)
                        coming.append((length + share * travel, [*so_far, stop], direction))
        # what is near to another stop leads to nothing else
        waiting = _spread(coming)
    return None if best is None else best[1]


def _spread(stops: list[tuple[float, list[Pose], Array | None]]) -> list[tuple[float, list[Pose], Array | None]]:
    """Stops of which no two are in one cell, the shortest of each."""
    if not stops:
        return []
    reach = max(np.abs(np.array([s[1][-1].translation for s in stops])).max(), 1.0)
    cell = reach / _CELLS
    kept: dict[tuple[int, ...], tuple[float, list[Pose], Array | None]] = {}
    for stop in sorted(stops, key=lambda s: s[0]):
        key = tuple(int(v) for v in np.floor(np.array(stop[1][-1].translation) / cell))
        kept.setdefault(key, stop)
    return list(kept.values())


def in_corridor(problem: Problem, direction: Array, most: float) -> list[int]:
    """The numbers of the obstacles, without those taken away, whose boxes meet what a straight pull sweeps."""
    ends = np.array([problem.moved_box(Pose()), problem.moved_box(pose(most * direction))])
    corridor = np.array([ends[:, 0].min(axis=0) - problem.required, ends[:, 1].max(axis=0) + problem.required])
    gaps = box_distances(corridor, np.array([body.box for body in problem.obstacles]).reshape(-1, 2, 3))
    return [int(j) for j in np.flatnonzero(gaps <= 0) if j not in problem.ignored]


def blocks(problem: Problem, direction: Array, most: float, j: int) -> float | None:
    """How far a straight pull gets before one obstacle, alone in the way, stops it; None if it does not."""
    with problem.alone(j):
        travel, _ = problem.travel(Pose(), direction, most)
    return travel if travel < most else None


def blockers_along(problem: Problem, direction: Array, enough: int | None = None) -> list[str]:
    """All parts that stand in the way of a straight pull, in the order in which they are met; no more than ``enough`` need be found."""
    most = exit_travel(problem, Pose(), direction)
    if not np.isfinite(most):
        return []
    blockers: list[tuple[float, int]] = []
    for j in in_corridor(problem, direction, most):
        travel = blocks(problem, direction, most, j)
        if travel is not None:
            blockers.append((travel, j))
        if enough is not None and len(blockers) >= enough:
            break
    return [problem.obstacles[j].id for _, j in sorted(blockers)]


def least_blockers(
    problem: Problem, directions: list[Array], tick: Tick | None = None
) -> tuple[list[str], Array | None]:
    """The fewest parts whose removal frees a straight pull, and its direction."""
    best: tuple[list[str], Array | None] = ([], None)
    for number, direction in enumerate(directions):
        if tick is not None:
            tick(number / len(directions))
        parts = blockers_along(problem, direction, None if best[1] is None else len(best[0]))
        if best[1] is None or len(parts) < len(best[0]):
            best = (parts, direction)
    return best


def turned_pull(
    problem: Problem, directions: list[Array], tilt: float | None = None, tick: Tick | None = None
) -> list[Pose] | None:
    """The shortest extraction path found that goes straight for a while or not at all, turns on the spot about one of the axes, and goes straight
    out; None when there is none among those tried. ``tilt`` in degrees is how far the upright may lean."""
    starts = [[Pose()]]
    for direction in directions:
        travel, _ = problem.travel(Pose(), direction, exit_travel(problem, Pose(), direction))
        starts += [[Pose(), pose(share * travel * direction)] for share in (0.34, 0.67, 1.0) if travel > 1.0]
    axes = [*np.eye(3), *(axis for axis in problem.axes.T if np.abs(axis).max() < _ALIKE)]
    turns = [np.radians(angle) * axis for angle in (90, -90, 45, -45, 30, -30, 180) for axis in axes]
    turns = [t for t in turns if tilt is None or leaning(pose((0, 0, 0), t)) <= tilt]
    best: tuple[float, list[Pose]] | None = None
    for number, (so_far, turn) in enumerate(itertools.product(starts, turns)):
        if tick is not None and number % 16 == 0:
            tick(number / (len(starts) * len(turns)))
        start = so_far[-1]
        turned = pose(start.translation, turn)
        travel = float(np.linalg.norm(start.translation))
        if (best is not None and travel >= best[0]) or problem.slack(turned, 0.5)[0] < 0:
            continue
        if not problem.likely_free(start, turned):
            continue
        for direction in directions:
            most = exit_travel(problem, turned, direction)
            if best is not None and travel + most >= best[0]:
                continue
            if problem.travel(turned, direction, most)[0] >= most:
                end = pose(np.array(turned.translation) + most * direction, turn)
                if problem.inside_room(end):
                    best = (travel + most, [*so_far, turned, end])
    return None if best is None else best[1]


def legs_to_goal(problem: Problem, directions: list[Array], legs: int, tick: Tick | None = None) -> list[Pose] | None:
    """The shortest way to the problem's goal found in so many legs, all but the last or middle one straight along directions: direct;
    out and across; or out, across and in. None when there is none among the stops tried."""
    goal = problem.goal
    assert goal is not None
    start = Pose()
    if legs == 1:
        return [start, goal] if problem.free_between(start, goal)[0] else None
    size = float(np.linalg.norm(np.ptp(problem.moved_box(start), axis=0)))
    most = 2.0 * size + float(np.linalg.norm(np.subtract(goal.translation, start.translation)))
    outs = [(0.0, [start]), *_stops(problem, start, directions, most)]
    ins = [(0.0, [goal]), *(_stops(problem, goal, directions, most) if legs == 3 else [])]
    pairs = sorted(
        (
            (a + b + float(np.linalg.norm(np.subtract(one[-1].translation, two[-1].translation))), [*one, *two[::-1]])
            for (a, one), (b, two) in itertools.product(outs, ins)
        ),
        key=lambda pair: pair[0],
    )
    for number, (_, direction) in enumerate(pairs):
        if tick is not None and number % 8 == 0:
            tick(number / len(pairs))
        if all(problem.likely_free(*leg) for leg in itertools.pairwise(direction)) and all(
            problem.free_between(*leg)[0] for leg in itertools.pairwise(direction)
        ):
            return direction
    return None


def _stops(problem: Problem, start: Pose, directions: list[Array], most: float) -> list[tuple[float, list[Pose]]]:
    """Places along straight pulls from a pose, with how far they are."""
    stops = []
    for direction in directions:
        travel, _ = problem.travel(start, direction, most)
        for share in np.linspace(1.0 / _STOPS, 1.0, _STOPS):
            end = pose(np.array(start.translation) + share * travel * direction, start.turn)
            if travel > 1.0 and problem.inside_room(end):
                stops.append((share * travel, [start, end]))
    return stops
