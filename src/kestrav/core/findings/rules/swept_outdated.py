"""A swept volume that is not what its thing sweeps any more."""

from __future__ import annotations

import numpy as np

from kestrav.core.clearance.swept import is_outdated
from kestrav.core.document.lookup import get
from kestrav.core.findings.model import Evidence, Finding, at_moment


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each swept volume of something that moves otherwise now."""
    project, findings = evidence.project, []
    for part in project.parts:
        if part.swept is None or not is_outdated(project, part):
            continue
        swept = part.swept
        findings.append(
            at_moment(
                evidence,
                (part.id, swept.thing),
                swept.start,
                np.asarray(part.placement.position, float),
                rule="swept-outdated",
                severity="warning",
                title=f"{part.name} is out of date",
                detail=f"“{get(project, swept.thing).name}” moves differently now; recompute the swept volume on its card",
                value=swept.end - swept.start,
                unit="s",
                limit=0.0,
            )
        )
    return findings
