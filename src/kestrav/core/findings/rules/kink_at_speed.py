"""Kink taken at speed: the velocity jumps where a path turns sharply and the rider does not stop."""

from __future__ import annotations

import numpy as np

from kestrav.core.document.lookup import get_as
from kestrav.core.document.records import Path
from kestrav.core.findings.model import Evidence, Finding, point
from kestrav.core.findings.rules.kink_in_path import kink_fixes
from kestrav.core.kinematics.runs import course_of


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each kink that a run passes faster than the limit allows.

    At a kink of angle a passed at speed v the velocity jumps by 2 v sin(a / 2).
    """
    project, limit = evidence.project, evidence.project.settings.kink_step
    findings = []
    for run in project.runs:
        course = course_of(project, run)
        if not np.isfinite(course.start):
            continue
        curve = course.path.curve
        inside = (curve.kink_stations > course.first + 1e-6) & (curve.kink_stations < course.last - 1e-6)
        stations, angles = curve.kink_stations[inside], curve.kink_angles[inside]
        times = course.times_at(stations)
        speeds = course.speeds(times)
        steps = 2.0 * speeds * np.sin(angles / 2.0)
        for station, angle, time, speed, step in zip(stations, angles, times, speeds, steps, strict=True):
            if step <= limit:
                continue
            path = get_as(project, run.path, Path)
            frame = evidence.frame(float(time))
            fixes = kink_fixes(project, path.id, float(station))
            findings.append(
                Finding(
                    rule="kink-at-speed",
                    severity="warning",
                    subject=(run.id, path.id),
                    title=f"Kink in {path.name} taken at speed",
                    detail=f"{np.degrees(angle):.0f}° at {station:,.0f} mm, {speed:,.0f} mm/s: the velocity jumps by "
                    f"{step:,.0f} mm/s, {limit:g} allowed",
                    time=float(time),
                    value=float(step),
                    unit="mm/s",
                    limit=limit,
                    intervals=((frame, frame),),
                    place=point(curve.position([station])[0]),
                    fix=fixes[0] if fixes else None,
                    also=fixes[1:],
                )
            )
    return findings
