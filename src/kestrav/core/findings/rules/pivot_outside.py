"""Pivot outside its part: a rider that is carried by a point not on it flies beside its path."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.document.lookup import get_as
from kestrav.core.document.records import FixedOrientation, Part
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.geometry.transforms import apply
from kestrav.core.kinematics.motion_segments import courses_of, movers
from kestrav.core.parts.placing import pivot_at_side
from kestrav.core.parts.rest import rest_poses, world_bounds

ALLOWED = 1.0  # mm outside the box; common practice, no source: rounding in CAD origins is far smaller


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each mover whose pivot lies outside its bounds at rest."""
    project = evidence.project
    rest = rest_poses(project)
    row = {part.id: i for i, part in enumerate(project.parts)}
    findings = []
    moved = movers(project)
    for rider in evidence.movers:
        all_courses = courses_of(project, rider)
        if rider in moved and not any(course.run.reference == "pivot" for course in all_courses):
            # something else of it sits on its path, or it goes by key poses about its pivot, wherever that is
            continue
        if all_courses and all(isinstance(course.run.orientation, FixedOrientation) for course in all_courses):
            # what is never turned goes the same way wherever its pivot is
            continue
        part = get_as(project, rider, Part)
        pose = rest[row[rider]]
        low, high = world_bounds(project, rider, rest[None])[0]
        pivot = apply(pose, np.array([part.pivot.position]))[0]
        outside = np.maximum(np.maximum(low - pivot, pivot - high), 0.0)
        distance = float(np.linalg.norm(outside))
        if distance <= ALLOWED:
            continue
        start = all_courses[0].start if all_courses else 0.0
        findings.append(
            Finding(
                rule="pivot-outside",
                severity="warning",
                subject=(rider,),
                title=f"Pivot of {part.name} lies off it",
                detail=f"{distance:.1f} mm outside its bounds, so it travels beside its path",
                time=start,
                value=distance,
                unit="mm",
                limit=ALLOWED,
                place=point(pivot),
                gap=(point(pivot), point(np.clip(pivot, low, high))),
                fix=Fix("Centre the pivot", partial(pivot_at_side, part_id=rider, side="middle")),
            )
        )
    return findings
