"""What comes too near between two frames, and spans for which the clearance could not be shown."""

from __future__ import annotations

import numpy as np

from kestrav.core.clearance.certificate import Stretch
from kestrav.core.findings.model import Evidence, Finding, name_of, point
from kestrav.core.motion.kinematics import Motion


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each stretch of the certificate that the frames do not tell of."""
    told, clearance = evidence.certificate, evidence.clearance
    if told is None:
        return []
    seen = set()
    if clearance is not None:
        for breach in clearance.breaches:
            for first, last in breach.intervals:
                seen.add((breach.pair, first, last))
    found = []
    for stretch in told.stretches:
        frames = (evidence.frame(stretch.start), evidence.frame(stretch.end))
        if any(p == stretch.pair and a <= frames[1] + 1 and b >= frames[0] - 1 for p, a, b in seen):
            continue
        found.append(_finding(evidence, stretch, frames, told.required))
    return found


def _finding(evidence: Evidence, stretch: Stretch, frames: tuple[int, int], required: float) -> Finding:
    project = evidence.project
    a, b = (name_of(project, i) for i in (stretch.pair.moving, stretch.pair.other))
    breached = stretch.standing == "breached"
    spoken = f"{stretch.least:.3f} mm at {stretch.time:.4f} s, {required:g} mm required"
    place = Motion(project).poses(stretch.pair.moving, np.array([stretch.time]))[0, :3, 3]
    return Finding(
        rule="between-frames" if breached else "not-shown",
        severity="breach" if breached else "warning",
        subject=(stretch.pair.moving, stretch.pair.other),
        title=f"{a} {'hits' if stretch.least <= 0 else 'too close to'} {b} between frames"
        if breached
        else f"{a} and {b}: the clearance could not be shown",
        detail=f"{spoken}, from {stretch.start:.4f} to {stretch.end:.4f} s"
        if breached
        else f"{spoken}; from {stretch.start:.4f} to {stretch.end:.4f} s they may be nearer by less than could be told",
        time=stretch.time,
        value=stretch.least,
        unit="mm",
        limit=required,
        intervals=(frames,),
        place=point(place),
    )
