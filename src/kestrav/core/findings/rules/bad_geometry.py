"""Empty or degenerate geometry: assemblies that hold nothing, solids without thickness, things far away."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.document.edits import remove
from kestrav.core.document.records import Project
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.parts.placing import shift, transform

THIN = 1e-3  # mm; common practice, no source: below this a solid is a sheet left over from an export
FAR = 100_000.0  # mm from the origin; single-precision graphics then tremble by some 0.01 mm


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each empty assembly, each solid without thickness, and each top thing far from the origin."""
    project, findings = evidence.project, []
    for part in project.parts:
        box = evidence.boxes.get(part.id)
        if box is None:
            if part.parent is None or part.parent in evidence.boxes:
                findings.append(
                    Finding(
                        rule="empty-assembly",
                        severity="note",
                        subject=(part.id,),
                        title=f"{part.name} is empty",
                        detail="an assembly without a solid",
                        time=0.0,
                        value=0.0,
                        unit="",
                        limit=1.0,
                        fix=Fix("Remove it", partial(remove, item_id=part.id)),
                    )
                )
            continue
        size = np.ptp(box, axis=0)
        if part.geometry is not None and float(size.min()) < THIN:
            findings.append(
                Finding(
                    rule="degenerate-geometry",
                    severity="note",
                    subject=(part.id,),
                    title=f"{part.name} has no thickness",
                    detail=" × ".join(f"{v:.3f}" for v in size) + " mm; clearance to it is that to a sheet",
                    time=0.0,
                    value=float(size.min()),
                    unit="mm",
                    limit=THIN,
                    place=point(box.mean(axis=0)),
                    fix=Fix("Remove it", partial(remove, item_id=part.id)),
                )
            )
        away = float(np.linalg.norm(box.mean(axis=0)))
        if part.parent is None and away > FAR and away > float(np.linalg.norm(size)):
            middle = box.mean(axis=0)
            step = (-float(middle[0]), -float(middle[1]), -float(box[0, 2]))
            findings.append(
                Finding(
                    rule="far-away",
                    severity="warning",
                    subject=(part.id,),
                    title=f"{part.name} lies far from the origin",
                    detail=f"{away / 1000:.0f} m away; graphics lose their precision there",
                    time=0.0,
                    value=away,
                    unit="mm",
                    limit=FAR,
                    place=point(middle),
                    fix=Fix("Bring it to the origin", partial(_brought, part_id=part.id, step=step)),
                )
            )
    return findings


def _brought(project: Project, part_id: str, step: tuple[float, float, float]) -> Project:
    return transform(project, [part_id], shift(step))
