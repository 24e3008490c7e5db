"""Bending a path away from what its rider comes too near to: the smallest change of its points that clears it. Lengths in mm, times in s."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.clearance.sweep import Breach, Clearance, sweep
from kestrav.core.document.edits import point_shape, set_point
from kestrav.core.document.lookup import ancestors, get, get_as, subtree
from kestrav.core.document.records import Part, Project, Run
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import course_of

Array = NDArray[np.float64]

_ROUNDS = 12
_MORE = 0.05  # mm beyond what is required, as points are moved by what is linear about it
_PROBE = 0.5  # mm by which a point is moved to see what that does
_FINER = 2  # looks a frame
_MOST_LOOKS = 400


Renew = Callable[[Project], Project]
"""A project that is tried, with what hangs on it worked out."""


def as_it_is(project: Project) -> Project:
    """A project on which nothing hangs."""
    return project


def bent_away(project: Project, meshes: Mapping[str, Mesh], run_id: str, renew: Renew = as_it_is) -> Project:
    """The project with a run's path bent so that its rider keeps the required clearance all along.

    Of all moves of the path's inner points the least one (in the sum of squares) is taken that opens every gap that is too small, as far as
    this is linear, and so on until all are wide enough. Raises BadInput when the path is not made of
    points, has none between its ends, or cannot clear it so.
    """
    run = get_as(project, run_id, Run)
    if len(point_shape(project, run.path).points) < 3:
        raise BadInput(f"“{get(project, run.path).name}” has no point between its ends; put one in first")
    for _ in range(_ROUNDS):
        near = near_run(project, meshes, run)
        breaches = [b for b in near.breaches if of_rider(project, run, b)]
        if not breaches:
            return project
        rows, needs = [], []
        influence = _influence(project, run, near.times)
        for breach in breaches:
            frames = [k for first, last in breach.intervals for k in range(first, last + 1)]
            for k in frames:
                # only the worst frame's points are kept by the sweep; the others open along the same way
                gap = breach.points[0] - breach.points[1]
                size = float(np.linalg.norm(gap))
                if size < 1e-9 or breach.distance <= 0:
                    raise BadInput(
                        f"“{get(project, run.rider).name}” overlaps “{get(project, breach.pair.other).name}”; "
                        "which way to bend the path cannot be told"
                    )
                rows.append((gap / size) @ influence[k])
                needs.append(breach.required + _MORE - breach.distance if k == breach.frame else 0.0)
        step = _least_step(np.array(rows), np.array(needs))
        if step is None:
            break
        project = renew(_moved(project, run, step))
    left = [b for b in near_run(project, meshes, run).breaches if of_rider(project, run, b)]
    if left:
        raise BadInput(
            f"bending “{get(project, run.path).name}” does not clear it: {left[0].distance:.2f} mm stay of {left[0].required:g} mm, at "
            f"“{get(project, left[0].pair.other).name}”"
        )
    return project


def near_run(project: Project, meshes: Mapping[str, Mesh], run: Run) -> Clearance:
    """The clearance over the run, looked at more often than frame by frame."""
    course = course_of(project, run)
    count = int(np.clip((course.end - course.start) * project.settings.fps * _FINER, 8, _MOST_LOOKS))
    parts = {i for thing in (run.rider, *run.companions) for i in subtree(project, thing)}
    return sweep(project, meshes, np.linspace(course.start, course.end, count + 1), only=parts)


def is_of(project: Project, run: Run, part: str) -> bool:
    """Whether a part is one of a run's rider or companions, or in one."""
    return bool({part, *ancestors(project, part)} & {run.rider, *run.companions})


def of_rider(project: Project, run: Run, breach: Breach) -> bool:
    """Whether a breach is one of the run's rider or company."""
    return any(is_of(project, run, part) for part in (breach.pair.moving, breach.pair.other))


def _influence(project: Project, run: Run, times: Array) -> Array:
    """How the rider goes (n, 3, 3 m) at times (n,) as the m inner points of its path are moved, for each mm."""
    inner = range(1, len(point_shape(project, run.path).points) - 1)
    before = Motion(project).poses(run.rider, times)
    columns = []
    for index in inner:
        for axis in range(3):
            place = np.array(point_shape(project, run.path).points[index].position, float)
            place[axis] += _PROBE
            moved = set_point(project, run.path, index, position=vector(place))
            after = Motion(moved).poses(run.rider, times)
            columns.append((after[:, :3, 3] - before[:, :3, 3]) / _PROBE)
    return np.stack(columns, axis=-1)


def _least_step(rows: Array, needs: Array) -> Array | None:
    """The least step x with rows @ x >= needs; None when there is none.

    Least distance programming by non-negative least squares (C. Lawson and R. Hanson, "Solving Least Squares Problems", 1974, chapter
    23).
    """
    stacked = np.vstack([rows.T, needs])
    target = np.zeros(len(stacked))
    target[-1] = 1.0
    weights, _ = scipy.optimize.nnls(stacked, target)
    left = stacked @ weights - target
    if np.linalg.norm(left) < 1e-9 or abs(left[-1]) < 1e-12:
        return None
    return np.asarray(-left[:-1] / left[-1])


def _moved(project: Project, run: Run, step: Array) -> Project:
    for index, by in enumerate(step.reshape(-1, 3), 1):
        place = np.array(point_shape(project, run.path).points[index].position, float) + by
        project = set_point(project, run.path, index, position=vector(np.round(place, 4)))
    return project


def can_bend(project: Project, run: Run) -> bool:
    """Whether a run's path has points to be bent by: made of points, with one between its ends, its rider a part."""
    if not isinstance(get(project, run.rider), Part):
        return False
    try:
        return len(point_shape(project, run.path).points) > 2
    except BadInput:
        return False
