"""Two points of a path nearly in one place: a knot that the curve has to go through."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.document.edits import delete_point
from kestrav.core.document.records import PointShape
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.findings.on_paths import moment
from kestrav.core.paths.path_curves import path_curve

_NEAR = 0.02  # share of the shorter side beside a pair below which it is doubled (common practice, no source)
_ALWAYS, _NEVER = 0.05, 5.0  # mm


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each path, at its nearest pair of neighbouring points."""
    project = evidence.project
    findings = []
    for path in project.paths:
        shape = path.shape
        if not isinstance(shape, PointShape) or len(shape.points) < 3:
            continue
        places = np.array([p.position for p in shape.points])
        gaps = np.linalg.norm(np.diff(places, axis=0, append=places[:1]), axis=1)
        if not shape.closed:
            gaps[-1] = np.inf
        beside = np.minimum(
            np.where(np.isfinite(np.roll(gaps, 1)), np.roll(gaps, 1), gaps.max(initial=0, where=np.isfinite(gaps))),
            np.where(np.isfinite(np.roll(gaps, -1)), np.roll(gaps, -1), gaps.max(initial=0, where=np.isfinite(gaps))),
        )
        limits = np.clip(_NEAR * beside, _ALWAYS, _NEVER)
        doubled = np.flatnonzero(gaps < limits)
        if not len(doubled):
            continue
        first = int(doubled[np.argmin(gaps[doubled])])
        second = (first + 1) % len(places)
        # an end stays where it is
        goes = first if second == len(places) - 1 and not shape.closed else second
        curve = path_curve(path)
        station = float(curve.point_stations()[first])
        others = f", and {len(doubled) - 1} more" if len(doubled) > 1 else ""
        findings.append(
            Finding(
                rule="doubled-point",
                severity="warning",
                subject=(path.id,),
                title=f"Points {first + 1} and {second + 1} of {path.name} nearly coincide",
                detail=f"{gaps[first]:.3f} mm apart, {limits[first]:.2f} mm beside such neighbours{others}",
                time=moment(project, path.id, station),
                value=float(gaps[first]),
                unit="mm",
                limit=float(limits[first]),
                place=point(places[first]),
                fix=Fix(f"Delete point {goes + 1}", partial(delete_point, path_id=path.id, index=goes)),
            )
        )
    return findings
