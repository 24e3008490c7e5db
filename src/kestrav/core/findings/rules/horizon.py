"""A horizon that is not level."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.camera.adjusting import levelled
from kestrav.core.findings.model import Evidence, Finding, Fix
from kestrav.core.findings.of_cameras import lasting, over_frames

_HAIR = 1e-6  # degrees


def find(evidence: Evidence) -> list[Finding]:
    """For each shot: where its horizon is rolled by more than its camera allows."""
    findings: list[Finding] = []
    for shot, judged in evidence.filmed:
        limit, roll = judged.camera.framing.roll, judged.roll
        faulty = np.abs(roll) > limit + _HAIR
        if not faulty.any():
            continue
        worst = int(np.argmax(np.abs(roll)))
        findings.append(
            over_frames(
                evidence,
                shot,
                judged,
                faulty,
                worst,
                rule="horizon-rolled",
                severity="warning",
                title=f"The horizon of {judged.camera.name} is rolled",
                detail=f"By {roll[worst]:.1f}° at {judged.times[worst]:.2f} s, {limit:g}° allowed; {lasting(judged, faulty)}",
                value=abs(float(roll[worst])),
                unit="°",
                limit=limit,
                offered=(Fix("Level the horizon", partial(levelled, camera_id=judged.camera.id)),),
            )
        )
    return findings
