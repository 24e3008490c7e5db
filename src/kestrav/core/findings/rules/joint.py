"""A joint between two paths, of runs that follow each other, that does not meet or is not tangent."""

from __future__ import annotations

import itertools
from functools import partial

import numpy as np

from kestrav.core.document.lookup import get, get_as
from kestrav.core.document.records import AlongOrientation, CarriedOrientation, Path, PointShape, Project
from kestrav.core.editing.joining import bring_start, turn_start
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.findings.rules.hand_over import blend_fix, joined_by_path
from kestrav.core.kinematics.motion_segments import courses_of, segment_of
from kestrav.core.kinematics.poses import riders
from kestrav.core.kinematics.runs import RunCourse

GAP = 0.1  # mm
ANGLE = 1.0  # degrees


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each joint: the rider jumps over a gap, or turns at once where the paths are not tangent."""
    project = evidence.project
    findings = []
    movers = [*riders(project), *(c.id for c in project.cameras), *(c.id for c in project.lights)]
    for rider in movers:
        for one, two in itertools.pairwise(courses_of(project, rider)):
            if not np.isfinite(two.start) or two.run.blend > 0:
                continue
            end = one.path.curve.position([one.arrives_at])[0]
            start = two.path.curve.position([two.sets_out_at])[0]
            gap = float(np.linalg.norm(start - end))
            if gap > GAP:
                findings.append(_finding(evidence, rider, one, two, gap, None))
                continue
            if one.run.backwards or two.run.backwards:
                continue
            turns = all(
                isinstance(course.run.orientation, (AlongOrientation, CarriedOrientation)) for course in (one, two)
            )
            if one.run.path == two.run.path or not turns:
                continue
            tangents = one.path.curve.tangent([one.last], before=True)[0], two.path.curve.tangent([two.first])[0]
            angle = float(np.degrees(np.arccos(np.clip(tangents[0] @ tangents[1], -1, 1))))
            if angle > ANGLE:
                findings.append(_finding(evidence, rider, one, two, gap, angle))
    return findings


def _finding(
    evidence: Evidence, rider: str, one: RunCourse, two: RunCourse, gap: float, angle: float | None
) -> Finding:
    project = evidence.project
    first, second = get(project, one.run.path).name, get(project, two.run.path).name
    time = two.start
    frame = evidence.frame(time)
    fixes = [m for m in _fixes(project, rider, one, two, angle) if m is not None]
    pair = f"{first} and {second}" if first != second else f"Two portions of {first}"
    return Finding(
        rule="joint",
        severity="breach" if angle is None else "warning",
        subject=(two.run.path, rider, one.run.id, two.run.id),
        title=f"{pair} do not meet" if angle is None else f"{pair} are not tangent",
        detail=(
            f"{get(project, rider).name} jumps {gap:,.1f} mm at {time:.2f} s, {GAP:g} mm allowed"
            if angle is None
            else f"{get(project, rider).name} turns {angle:.1f}° at once at {time:.2f} s, {ANGLE:g}° allowed"
        ),
        time=time,
        value=gap if angle is None else angle,
        unit="mm" if angle is None else "°",
        limit=GAP if angle is None else ANGLE,
        intervals=((frame, frame),),
        place=point(two.path.curve.position([two.sets_out_at])[0]),
        fix=fixes[0],
        also=tuple(fixes[1:]),
    )


def _fixes(project: Project, rider: str, one: RunCourse, two: RunCourse, angle: float | None) -> list[Fix | None]:
    fixes = [_fix(project, one, two, angle), None, blend_fix(segment_of(project, two.run))]
    if angle is None:
        fixes[1] = Fix("Join them by a path", partial(joined_by_path, thing=rider, one=one.run.id, two=two.run.id))
    return fixes


def _fix(project: Project, one: RunCourse, two: RunCourse, angle: float | None) -> Fix | None:
    path = get_as(project, two.run.path, Path)
    if one.run.path == path.id:
        return None
    if angle is None:
        place = one.path.curve.position([one.arrives_at])[0]
        label = f"Bring the start of {path.name} there"
        return Fix(label, partial(bring_start, path_id=path.id, place=point(place), station=two.sets_out_at))
    if not isinstance(path.shape, PointShape) or two.run.begin > 0 or path.shape.closed:
        return None
    direction = one.path.curve.tangent([one.last], before=True)[0]
    return Fix(f"Let {path.name} leave tangent", partial(turn_start, path_id=path.id, direction=point(direction)))
