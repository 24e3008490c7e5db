"""What the rules about paths share: who follows a path and when a place of it is reached."""

from __future__ import annotations

from kestrav.core.document.lookup import find
from kestrav.core.document.records import Camera, Part, Path as PathRecord, PathPoint, PointShape, Project, Run
from kestrav.core.kinematics.runs import course_of
from kestrav.core.paths.path_curves import PathCurve


def followers(project: Project, path_id: str) -> list[Run]:
    """The runs along a path."""
    return [run for run in project.runs if run.path == path_id]


def moment(project: Project, path_id: str, station: float) -> float:
    """When the first of a path's riders is at a station, in s; 0 when none comes there."""
    for run in followers(project, path_id):
        course = course_of(project, run)
        if course.first - 1e-6 <= station <= course.last + 1e-6:
            return float(course.times_at([min(max(station, course.first), course.last)])[0])
    return 0.0


def least_radius(project: Project, path_id: str) -> tuple[float, str]:
    """The largest least radius that a path's riders state, in mm, and the name of that rider; 0 when none does."""
    stated = [(0.0, "")]
    for run in followers(project, path_id):
        rider = find(project, run.rider)
        if isinstance(rider, (Part, Camera)):
            stated.append((rider.least_radius, rider.name))
    return max(stated)


def point_at(path: PathRecord, curve: PathCurve, station: float) -> int:
    """The number of a path's point nearest to a station."""
    away = [abs(s - station) for s in curve.point_stations()]
    return away.index(min(away))


def straight_beside(shape: PointShape, index: int) -> bool:
    """Whether a corner has straight sides to both its neighbours, so that a radius can round it."""
    count = len(shape.points)
    if shape.points[index].kind != "corner" or (not shape.closed and index in (0, count - 1)):
        return False
    return all(_ends_straight(shape, i % count) for i in (index - 1, index + 1))


def _ends_straight(shape: PointShape, index: int) -> bool:
    point: PathPoint = shape.points[index]
    at_end = not shape.closed and index in (0, len(shape.points) - 1)
    return point.kind == "corner" or (at_end and point.kind == "smooth")
