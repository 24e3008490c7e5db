"""Below the floor: something that is to move, or all of something, lies under height 0."""

from __future__ import annotations

from functools import partial

from kestrav.core.document.records import Project
from kestrav.core.findings.model import Evidence, Finding, Mend, point
from kestrav.core.motion.placing import shift, transform

_ALLOWED = 1.0  # mm; common practice, no source: what rounding and soft feet may sink


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each mover that reaches below the floor at rest, and each thing that lies wholly below it.

    A floor's own slab ends at height 0 and is no fault.
    """
    project, found = evidence.project, []
    movers = set(evidence.movers)
    for part in project.parts:
        box = evidence.boxes.get(part.id)
        if box is None or not (part.id in movers or part.parent is None):
            continue
        low, high = float(box[0, 2]), float(box[1, 2])
        if part.id in movers:
            under = low < -_ALLOWED
        else:
            under = high < -_ALLOWED
        if not under:
            continue
        found.append(
            Finding(
                rule="below-floor",
                severity="warning",
                subject=(part.id,),
                title=f"{part.name} lies below the floor",
                detail=f"its underside is {-low:.1f} mm under height 0",
                time=0.0,
                value=low,
                unit="mm",
                limit=0.0,
                place=point(box.mean(axis=0)),
                mend=None
                if part.role == "fixed"
                else Mend("Lift it onto the floor", partial(_lifted, part_id=part.id, height=-low)),
            )
        )
    return found


def _lifted(project: Project, part_id: str, height: float) -> Project:
    return transform(project, [part_id], shift((0.0, 0.0, height)))
