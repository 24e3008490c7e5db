"""Two parts in the same place: copies left over from an export, which flicker and double every mass."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.document.edits import remove
from kestrav.core.findings.model import Evidence, Finding, Fix, point

APART = 0.01  # mm; common practice, no source: twins from one export differ by rounding only


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each solid that has the same geometry and place as an earlier one."""
    project, findings = evidence.project, []
    first: dict[object, str] = {}
    names = {part.id: part.name for part in project.parts}
    for row, part in enumerate(project.parts):
        if part.geometry is None:
            continue
        pose = evidence.rest[row]
        key = (
            part.geometry,
            part.scale,
            tuple(np.round(pose[:3, 3] / APART)),
            tuple(np.round(pose[:3, :3], 4).ravel() + 0.0),
        )
        twin = first.setdefault(key, part.id)
        if twin == part.id:
            continue
        findings.append(
            Finding(
                rule="same-place",
                severity="warning",
                subject=(part.id, twin),
                title=f"{part.name} lies in the place of {names[twin]}",
                detail="two parts of one geometry in one place",
                time=0.0,
                value=0.0,
                unit="mm",
                limit=APART,
                place=point(evidence.boxes[part.id].mean(axis=0)),
                fix=Fix("Remove the second", partial(remove, item_id=part.id)),
            )
        )
    return findings
