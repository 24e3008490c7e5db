"""Other ways than bending to keep clear: raising a path, or letting a run begin later. Lengths in mm, times in s."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import msgspec
import numpy as np

from kestrav.core.clearance.bending import Renew, as_it_is, is_of, near_run, of_rider
from kestrav.core.clearance.sweep import Breach
from kestrav.core.document.edits import point_shape, set_point, update
from kestrav.core.document.lookup import ancestors, get_as
from kestrav.core.document.records import Project, Run
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.motion_segments import movers
from kestrav.core.kinematics.runs import span

_HIGHEST = 512.0  # mm that a path is raised at most
_LATEST = 60.0  # s that a run is delayed at most
_EXACT = 0.1  # mm, to which the least raise is found
_UPRIGHT = 0.25  # sine of the gap's slope from which raising is worth trying


def raised(
    project: Project, meshes: Mapping[str, Mesh], run_id: str, worst: Breach, renew: Renew = as_it_is
) -> tuple[Project, float] | None:
    """The project with the inner points of a run's path raised by the least height that keeps its rider clear, and that height.

    None where that is not the way: what it comes near to lies beside it, or it does not clear it.
    """
    run = _run(project, run_id)
    gap = worst.points[0] - worst.points[1]
    size = float(np.linalg.norm(gap))
    rider_first = is_of(project, run, worst.pair.moving)
    upward = 0.0 if size < 1e-9 else float(gap[2]) / size * (1 if rider_first else -1)
    if upward < _UPRIGHT or len(point_shape(project, run.path).points) < 3:
        return None

    def lifted(height: float) -> Project:
        edited = project
        for index in range(1, len(point_shape(project, run.path).points) - 1):
            place = np.add(point_shape(project, run.path).points[index].position, (0.0, 0.0, height))
            edited = set_point(edited, run.path, index, position=vector(np.round(place, 4)))
        return renew(edited)

    short = worst.required - worst.distance
    least = _least(lambda height: _clear(lifted(height), meshes, run_id), short, _HIGHEST, _EXACT)
    if least is None or not _clear(lifted(least + _EXACT), meshes, run_id):
        return None
    # a little more than the looks needed, as between them it may be a hair nearer
    return lifted(least + _EXACT), least + _EXACT


def delayed(
    project: Project, meshes: Mapping[str, Mesh], run_id: str, worst: Breach, renew: Renew = as_it_is
) -> tuple[Project, float] | None:
    """The project with a run that begins later by the least time, in whole frames, that keeps its rider clear, and that time.

    None where what it comes near to does not move, or waiting does not clear it.
    """
    run = _run(project, run_id)
    other = worst.pair.other if is_of(project, run, worst.pair.moving) else worst.pair.moving
    if not {other, *ancestors(project, other)} & movers(project):
        return None
    frame = 1.0 / project.settings.fps
    most = min(span(project), _LATEST)
    least = _least(
        lambda n: _clear(renew(later(project, run_id, round(n) * frame)), meshes, run_id), 4.0, most / frame, 1.0
    )
    return None if least is None else (later(project, run_id, round(least) * frame), round(least) * frame)


def later(project: Project, run_id: str, seconds: float) -> Project:
    """The project with a run that begins later."""
    run = _run(project, run_id)
    if run.trigger is not None:
        return update(project, run_id, trigger=msgspec.structs.replace(run.trigger, delay=run.trigger.delay + seconds))
    return update(project, run_id, start=run.start + seconds)


def _least(serves: Callable[[float], bool], first: float, most: float, exact: float) -> float | None:
    """The least amount that serves, by doubling from a first one and halving then; None if none up to ``most`` does."""
    low, high = 0.0, min(first, most)
    while not serves(high):
        if high >= most:
            return None
        low, high = high, min(2.0 * high, most)
    while high - low > exact:
        middle = 0.5 * (low + high)
        low, high = (low, middle) if serves(middle) else (middle, high)
    return high


def _clear(project: Project, meshes: Mapping[str, Mesh], run_id: str) -> bool:
    run = _run(project, run_id)
    return not any(of_rider(project, run, breach) for breach in near_run(project, meshes, run).breaches)


def _run(project: Project, run_id: str) -> Run:
    run = get_as(project, run_id, Run)
    return run
