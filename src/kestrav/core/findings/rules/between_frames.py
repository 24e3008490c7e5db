"""What comes too near between two frames, and spans for which the clearance could not be shown."""

from __future__ import annotations

from kestrav.core.clearance.breaches import passing
from kestrav.core.clearance.certificate import Stretch
from kestrav.core.findings.model import Evidence, Finding, at_moment, name_of, point
from kestrav.core.findings.rules.clearance import asked, depth_or_distance
from kestrav.core.kinematics.motion import Motion


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each stretch of the certificate that the frames do not tell of."""
    certificate, clearance = evidence.certificate, evidence.clearance
    if certificate is None:
        return []
    seen = set()
    if clearance is not None:
        for breach in clearance.breaches:
            for first, last in breach.intervals:
                seen.add((breach.pair, first, last))
    findings, motion = [], Motion(evidence.project)
    for stretch in certificate.stretches:
        frames = (evidence.frame(stretch.start), evidence.frame(stretch.end))
        if any(p == stretch.pair and a <= frames[1] + 1 and b >= frames[0] - 1 for p, a, b in seen):
            continue
        findings.append(_finding(evidence, motion, stretch, frames))
    return findings


def _finding(evidence: Evidence, motion: Motion, stretch: Stretch, frames: tuple[int, int]) -> Finding:
    project = evidence.project
    a, b = (name_of(project, i) for i in (stretch.pair.moving, stretch.pair.other))
    breached, least = stretch.status == "breached", stretch.least
    spoken = f"{depth_or_distance(least, 3)} at {stretch.time:.4f} s, {asked(stretch.required)}"
    span = f"from {stretch.start:.4f} to {stretch.end:.4f} s"
    points, _ = passing(motion, evidence.meshes, stretch.pair, stretch.time)
    return at_moment(
        evidence,
        (stretch.pair.moving, stretch.pair.other),
        stretch.time,
        points.mean(axis=0),
        (frames,),
        rule="between-frames" if breached else "not-shown",
        severity="breach" if breached else "warning",
        title=f"{a} {'hits' if least <= 0 else 'too close to'} {b} between frames"
        if breached
        else f"{a} and {b}: the clearance could not be shown",
        detail=f"{spoken}, {span}"
        if breached
        else f"{spoken}; {span} they may be closer by less than could be resolved",
        value=least,
        unit="mm",
        limit=stretch.required,
        gap=(point(points[0]), point(points[1])),
    )
