"""Kink in a path that something follows, passed slowly enough that its speed is no fault."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.document.records import PointShape, Project
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.findings.on_paths import followers, least_radius, moment, point_at, straight_beside
from kestrav.core.kinematics.runs import course_of
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import make_smooth, round_corner


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each followed path, at the sharpest kink that no run passes too fast."""
    project = evidence.project
    findings = []
    for path in project.paths:
        runs = followers(project, path.id)
        curve = path_curve(path)
        stations, angles = curve.curve.kink_stations, curve.curve.kink_angles
        if not runs or not len(stations):
            continue
        passed, fast = np.zeros(len(stations), bool), np.zeros(len(stations), bool)
        for run in runs:
            course = course_of(project, run)
            inside = (stations > course.first + 1e-6) & (stations < course.last - 1e-6)
            passed |= inside
            steps = 2.0 * course.speeds(course.times_at(stations[inside])) * np.sin(angles[inside] / 2.0)
            fast[inside] |= steps > project.settings.kink_step
        slow = np.flatnonzero(passed & ~fast)
        if not len(slow):
            continue
        worst = int(slow[np.argmax(angles[slow])])
        station, angle = float(stations[worst]), float(np.degrees(angles[worst]))
        time = moment(project, path.id, station)
        others = f", and {len(slow) - 1} more" if len(slow) > 1 else ""
        frame = evidence.frame(time)
        fixes = kink_fixes(project, path.id, station)
        findings.append(
            Finding(
                rule="kink-in-path",
                severity="note",
                subject=(path.id,),
                title=f"Kink in {path.name}",
                detail=f"{angle:.0f}° at {station:,.0f} mm{others}; what follows it changes orientation at once there",
                time=time,
                value=angle,
                unit="°",
                limit=0.0,
                intervals=((frame, frame),),
                place=point(curve.curve.position([station])[0]),
                fix=fixes[0] if fixes else None,
                also=fixes[1:],
            )
        )
    return findings


def kink_fixes(project: Project, path_id: str, station: float) -> tuple[Fix, ...]:
    """Ways to take a kink at a station out of a path: make its point smooth, or round it by a radius."""
    path = next(p for p in project.paths if p.id == path_id)
    if not isinstance(path.shape, PointShape):
        return ()
    index = point_at(path, path_curve(path), station)
    fixes = [Fix("Make the point smooth", partial(make_smooth, path_id=path_id, index=index))]
    if straight_beside(path.shape, index):
        least = least_radius(project, path_id)[0]
        label = f"Round by {least:g} mm" if least else "Round it"
        fixes.append(Fix(label, partial(round_corner, path_id=path_id, index=index, radius=least or None)))
    return tuple(fixes)
