"""An end of a path without a direction of its own: what follows it would turn round there."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.document.records import AlongOrientation, CarriedOrientation, PointShape, Project
from kestrav.core.editing.joining import End
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.findings.on_paths import followers, moment
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import direct_end

_SHORT = 0.01  # share of the length over which a direction must hold (common practice, no source)
_LONGEST = 10.0  # mm


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each end of a followed path whose tangent turns by more than a flip within a few millimetres."""
    project, limit = evidence.project, evidence.project.settings.flip_angle
    findings = []
    for path in project.paths:
        runs = [
            run
            for run in followers(project, path.id)
            if isinstance(run.orientation, (AlongOrientation, CarriedOrientation))
        ]
        curve = path_curve(path).curve
        if not runs or curve.closed:
            continue
        step = min(_SHORT * curve.length, _LONGEST)
        ends: tuple[tuple[End, float, float], ...] = (
            ("start", 0.0, step),
            ("end", curve.length, curve.length - step),
        )
        for end, station, inner in ends:
            if not any(run.begin == 0 if end == "start" else run.end == 1 for run in runs):
                continue
            tangents = curve.tangent([station, inner], before=end == "end")
            angle = float(np.degrees(np.arccos(np.clip(tangents[0] @ tangents[1], -1, 1))))
            if angle <= limit:
                continue
            time = moment(project, path.id, station)
            frame = evidence.frame(time)
            findings.append(
                Finding(
                    rule="undirected-end",
                    severity="warning",
                    subject=(path.id, end),
                    title=f"The {end} of {path.name} has no direction",
                    detail=f"Turns {angle:.0f}° over its {'first' if end == 'start' else 'last'} {step:.1f} mm, "
                    f"{limit:g}° allowed: what follows it turns round there",
                    time=time,
                    value=angle,
                    unit="°",
                    limit=limit,
                    intervals=((frame, frame),),
                    place=point(curve.position([station])[0]),
                    fix=_directed(project, path.id, end),
                )
            )
    return findings


def _directed(project: Project, path_id: str, end: End) -> Fix | None:
    path = next(p for p in project.paths if p.id == path_id)
    if not isinstance(path.shape, PointShape):
        return None
    return Fix("Let it follow the path", partial(direct_end, path_id=path_id, end=end))
