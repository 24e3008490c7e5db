"""A rider that travels sideways or backwards without being asked to."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.document.edits import update
from kestrav.core.document.records import (
    AlongOrientation,
    CarriedOrientation,
    FixedOrientation,
    KeyedOrientation,
    TowardOrientation,
)
from kestrav.core.editing.run_making import arrives_backwards
from kestrav.core.findings.model import Evidence, Finding, Fix, name_of, point
from kestrav.core.geometry.transforms import rotation_from_quaternion
from kestrav.core.kinematics.runs import course_of

SIDEWAYS = (
    45.0  # degrees between a thing's front and its travel above which it goes sideways (common practice, no source)
)
BACKWARDS = 135.0
_TURNED = 1e-6


def find(evidence: Evidence) -> list[Finding]:
    """A note for each run along its path whose rider's own front does not look ahead.

    A front is the pivot's x axis. It says something only where somebody has turned it, and where the run turns its rider:
    what is lifted out of a cabinet may go any way.
    """
    project = evidence.project
    row = {part.id: i for i, part in enumerate(project.parts)}
    findings = []
    for run in project.runs:
        if (
            run.rider not in row
            or isinstance(run.orientation, (FixedOrientation, TowardOrientation, KeyedOrientation))
            or arrives_backwards(run)
        ):
            continue
        part = project.parts[row[run.rider]]
        if abs(abs(part.pivot.rotation[0]) - 1.0) < _TURNED:
            continue
        course = course_of(project, run)
        if not np.isfinite(course.start):
            continue
        time = course.start + 0.5 * min(course.once, course.duration)
        pivot = rotation_from_quaternion(part.pivot.rotation)
        frame = evidence.frame(time)
        front = evidence.poses[frame, row[run.rider], :3, :3] @ pivot[:, 0]
        direction = course.path.curve.tangent(course.stations([evidence.times[frame]]))[0]
        angle = float(np.degrees(np.arccos(np.clip(front @ direction, -1, 1))))
        if angle < SIDEWAYS:
            continue
        how = "backwards" if angle > BACKWARDS else "sideways"
        assert isinstance(run.orientation, (AlongOrientation, CarriedOrientation))
        ahead = type(run.orientation)
        fields = {name: getattr(run.orientation, name) for name in run.orientation.__struct_fields__}
        facing = ahead(**(fields | {"forward": "+x", "flip": False}))
        findings.append(
            Finding(
                rule="facing",
                severity="note",
                subject=(run.id,),
                title=f"{name_of(project, run.rider)} travels {how}",
                detail=f"Its front points {angle:.0f}° away from its direction of travel, {SIDEWAYS:g}° allowed",
                time=float(evidence.times[frame]),
                value=angle,
                unit="°",
                limit=SIDEWAYS,
                intervals=((frame, frame),),
                place=point(course.path.curve.position(course.stations([evidence.times[frame]]))[0]),
                fix=Fix("Face ahead", partial(update, item_id=run.id, orientation=facing)),
            )
        )
    return findings
