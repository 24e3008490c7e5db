"""A bend tighter than the least radius that a rider or camera states."""

from __future__ import annotations

from functools import partial

from kestrav.core.findings.model import Evidence, Finding, Fix, frame_of, point
from kestrav.core.findings.on_paths import least_radius, moment
from kestrav.core.paths.analysis import tight_spans
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.smoothing import widened


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each path, at its tightest place; a kink has a radius of 0."""
    project = evidence.project
    findings = []
    for path in project.paths:
        limit, rider = least_radius(project, path.id)
        if limit <= 0:
            continue
        curve = path_curve(path).curve
        spans = tight_spans(curve, limit)
        if not spans:
            continue
        worst = min(spans, key=lambda span: span.radius)
        time = moment(project, path.id, worst.station)
        frames = (
            tuple(
                (
                    frame_of(evidence.times, moment(project, path.id, s.first)),
                    frame_of(evidence.times, moment(project, path.id, s.last)),
                )
                for s in spans
            )
            if len(evidence.times)
            else ()
        )
        places = f", {len(spans)} places in all" if len(spans) > 1 else ""
        findings.append(
            Finding(
                rule="tight-bend",
                severity="breach",
                subject=(path.id,),
                title=f"{path.name} bends too tightly for {rider}",
                detail=f"Radius {worst.radius:,.0f} mm at {worst.station:,.0f} mm, {limit:,.0f} mm needed{places}",
                time=time,
                value=worst.radius,
                unit="mm",
                limit=limit,
                intervals=tuple(sorted((min(f), max(f)) for f in frames)),
                place=point(curve.position([worst.station])[0]),
                fix=Fix(f"Widen to {limit:g} mm", partial(widened, path_id=path.id, radius=limit)),
            )
        )
    return findings
