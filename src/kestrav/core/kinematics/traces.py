"""Where riders and points of parts are in time. Lengths in mm, times in s."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import course_of

Array = NDArray[np.float64]


class RiderMark(msgspec.Struct, frozen=True):
    """Where a run's rider is at a round time: the time, the station and the place (3,)."""

    time: float
    station: float
    place: Array


def rider_marks(project: Project, path_id: str, most: int = 40) -> list[RiderMark]:
    """Where the riders of a path are when their runs begin and end, and at each second between; or every 2, 5, 10 …
    when that is too many."""
    rider_marks: list[RiderMark] = []
    for run in project.runs:
        if run.path != path_id:
            continue
        course = course_of(project, run)
        step = next(m * 10.0**p for p in range(6) for m in (1, 2, 5) if course.duration / (m * 10.0**p) <= most)
        rounds = np.arange(np.ceil(course.start / step - 1e-9), np.floor(course.end / step + 1e-9) + 1) * step
        times = np.unique(np.round(np.concatenate([[course.start], rounds, [course.end]]), 9))
        stations = course.stations(times)
        places = course.path.curve.position(stations)
        rider_marks += [RiderMark(float(t), float(s), p) for t, s, p in zip(times, stations, places, strict=True)]
    return rider_marks


def trace(project: Project, part_id: str, point: ArrayLike, times: ArrayLike) -> Array:
    """Where a point (3,) in a part's own coordinates is at times (n,): places (n, 3)."""
    row = next((i for i, part in enumerate(project.parts) if part.id == part_id), None)
    if row is None:
        raise BadInput(f"the project holds no part “{part_id}”")
    poses = world_poses(project, times)[:, row]
    places: Array = poses[:, :3, :3] @ np.asarray(point, float) + poses[:, :3, 3]
    return places
