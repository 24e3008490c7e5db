"""Snap fits: extraction paths that only what is in contact stands in, and how much deeper it would get on them. Lengths in mm."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import set_contact
from kestrav.core.document.records import Project
from kestrav.core.extraction.layers import Held
from kestrav.core.extraction.problem import Problem, problem_of
from kestrav.core.extraction.pulls import exit_travel
from kestrav.core.extraction.removal_poses import Pose, pose
from kestrav.core.geometry.meshes import Mesh

Array = NDArray[np.float64]
Tick = Callable[[float], None]

_LOOKS, _ROUNDS, _ZOOM = 60, 3, 9  # depths measured along a pull, and then about the deepest
_MOST = 0.25  # of the size of what is taken out, that a snap may be deep
_SPARE = 1.05  # times as deep as it gets, that is to be allowed


class Snap(msgspec.Struct, frozen=True):
    """A straight pull (``direction``, (3,)) that would be free if two parts in contact (ids) could get deeper: by how much than they may,
    and after how much of the way that is."""

    part: str
    other: str
    deeper: float
    distance: float
    direction: tuple[float, float, float]


def snaps_of(problem: Problem, directions: Sequence[Array], tick: Tick | None = None) -> tuple[Snap, ...]:
    """The contacts that alone block the straight pull on which they get least deeper; none where no pull is blocked by contacts alone."""
    if not problem.held or problem.goal is not None:
        return ()
    without = msgspec.structs.replace(problem, held={}, contactless=frozenset(problem.held), _layers={})
    best: tuple[Snap, ...] = ()
    for number, direction in enumerate(directions):
        if tick is not None:
            tick(number / len(directions))
        most = exit_travel(without, Pose(), direction)
        end = pose(most * direction)
        if not np.isfinite(most) or without.travel(Pose(), direction, most)[0] < most:
            continue
        if not (problem.inside_room(end) and without.free_between(Pose(), end)[0]):
            continue
        snaps = _along(problem, direction, most)
        if snaps and (not best or max(s.deeper for s in snaps) < max(s.deeper for s in best)):
            best = snaps
    return best


def _along(problem: Problem, direction: Array, most: float) -> tuple[Snap, ...]:
    """Which contacts get deeper than they may on a straight pull, and by how much; none if any gets far too deep."""
    snaps, far_too_deep = list[Snap](), _MOST * float(np.ptp(problem.moved_box(Pose()), axis=0).min())
    for (i, _), held in problem.held.items():
        low, high = 0.0, most
        at, worst = 0.0, -np.inf
        for k in range(_ROUNDS):
            places = np.linspace(low, high, _LOOKS if k == 0 else _ZOOM)
            for place in places:
                deeper = _deeper(problem, held, float(place) * direction)
                if deeper > far_too_deep:
                    # a depth takes long to work out, and one is enough
                    return ()
                if deeper > worst:
                    at, worst = float(place), deeper
            step = places[1] - places[0]
            low, high = max(at - step, 0.0), min(at + step, most)
        if worst > 0:
            x, y, z = (float(v) for v in direction)
            other = problem.obstacles[held.other].id
            snaps.append(Snap(problem.movers[i].id, other, round(worst * _SPARE, 3), at, (x, y, z)))
    return tuple(snaps)


def _deeper(problem: Problem, held: Held, direction: Array) -> float:
    """By how much in mm a contact is deeper than it may be when the things have gone a way (3,); 0 or less where it is told quickly that
    it is not."""
    at = pose(direction).matrix(problem.pivot)
    room = held.separation(at[None])[0]
    return -float(room) if room > 0 or held.skins_clear(at) else held.limit.measured(at).depth - held.limit.allowed


def allowed(project: Project, snaps: Sequence[Snap]) -> Project:
    """The project with what snaps let get as much deeper as they need."""
    for snap in snaps:
        project = set_contact(project, snap.part, snap.other, intended=True, deeper=snap.deeper)
    return project


def contacts_deeper(project: Project, meshes: Mapping[str, Mesh], things: Sequence[str], by: float) -> Project:
    """The project in which all that things are in contact with as they stand may get deeper by so much in mm."""
    problem = problem_of(project, meshes, things)
    for i, j in problem.held:
        project = set_contact(project, problem.movers[i].id, problem.obstacles[j].id, intended=True, deeper=by)
    return project
