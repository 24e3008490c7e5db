"""A walkthrough faster than people walk."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.camera.fixes import at_speed
from kestrav.core.camera.walking import SPEED
from kestrav.core.findings.model import Evidence, Finding, Fix
from kestrav.core.findings.of_cameras import lasting, over_frames

_HAIR = 1.0  # mm/s


def find(evidence: Evidence) -> list[Finding]:
    """For each shot of a walkthrough: where it goes faster than the project allows."""
    project, limit = evidence.project, evidence.project.settings.walking_speed
    findings: list[Finding] = []
    for shot, judged in evidence.filmed:
        if judged.camera.walk is None or limit <= 0:
            continue
        faulty = judged.speed > limit + _HAIR
        if not faulty.any():
            continue
        worst = int(np.argmax(judged.speed))
        runs = [r for r in project.runs if r.rider == judged.camera.id and r.follows is None]
        wanted = min(SPEED, limit)
        offered: tuple[Fix, ...] = ()
        if len(runs) == 1:
            offered = (Fix(f"Walk at {wanted / 1000:g} m/s", partial(at_speed, run_id=runs[0].id, speed=wanted)),)
        findings.append(
            over_frames(
                evidence,
                shot,
                judged,
                faulty,
                worst,
                rule="walking-fast",
                severity="warning",
                title=f"{judged.camera.name} walks too fast",
                detail=f"{judged.speed[worst] / 1000:.2f} m/s at {judged.times[worst]:.2f} s, {limit / 1000:g} allowed; "
                f"{lasting(judged, faulty)}",
                value=float(judged.speed[worst]) / 1000.0,
                unit="m/s",
                limit=limit / 1000.0,
                offered=offered,
            )
        )
    return findings
