"""A free handle so long or so turned that the path runs back or loops on its way to the next point."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.document.records import PointShape
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.findings.on_paths import moment
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import untangled

TURNING = 200.0  # degrees of a piece's turning above which it loops (common practice, no source)
_SAMPLES = 65


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each path, at the piece that turns the most."""
    project = evidence.project
    findings = []
    for path in project.paths:
        shape = path.shape
        if not isinstance(shape, PointShape) or not any(p.kind == "free" for p in shape.points):
            continue
        curve = path_curve(path)
        stations = curve.point_stations()
        if shape.closed:
            stations = np.append(stations, curve.length)
        count = len(shape.points)
        worst, where = TURNING, -1
        for k in range(len(stations) - 1):
            free = shape.points[k].kind == "free" or shape.points[(k + 1) % count].kind == "free"
            low, high = float(stations[k]), float(stations[k + 1])
            if not free or high <= low:
                continue
            tangents = curve.curve.tangent(np.linspace(low, high, _SAMPLES), before=False)
            tangents[-1] = curve.curve.tangent([high], before=True)[0]
            angles = np.arccos(np.clip(np.einsum("ij,ij->i", tangents[:-1], tangents[1:]), -1, 1))
            turning = float(np.degrees(angles.sum()))
            if turning > worst:
                worst, where = turning, k
        if where < 0:
            continue
        middle = 0.5 * float(stations[where] + stations[where + 1])
        after = (where + 1) % count
        findings.append(
            Finding(
                rule="tangled-handle",
                severity="warning",
                subject=(path.id,),
                title=f"Handles of {path.name} are tangled",
                detail=f"Turns {worst:.0f}° between points {where + 1} and {after + 1}, {TURNING:g}° for a plain bend",
                time=moment(project, path.id, middle),
                value=worst,
                unit="°",
                limit=TURNING,
                place=point(curve.curve.position([middle])[0]),
                fix=Fix("Shorten the handles", partial(untangled, path_id=path.id, index=where)),
            )
        )
    return findings
