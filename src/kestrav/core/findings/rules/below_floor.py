"""Below the floor: something that is to move, or all of something, lies under height 0."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import ancestors, one_of_several
from kestrav.core.document.records import Project
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.parts.placing import shift, transform

Array = NDArray[np.float64]

_ALLOWED = 1.0  # mm; common practice, no source: what rounding and soft feet may sink


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each mover, a whole product or what came alone, that reaches below the floor at rest, and each thing that lies wholly below it.

    What stands over something that reaches lower is on a floor of its own, and what is wider than the things
    above it is such a floor.
    """
    project, findings = evidence.project, []
    movers = set(evidence.movers)
    tops = [p.id for p in project.parts if p.parent is None and p.id in evidence.boxes]
    boxes = np.array([evidence.boxes[i] for i in tops]).reshape(-1, 2, 3)
    for part in project.parts:
        box = evidence.boxes.get(part.id)
        if box is None or not (part.id in movers or part.parent is None):
            continue
        low, high = float(box[0, 2]), float(box[1, 2])
        own = [*ancestors(project, part.id), part.id][0]
        others = boxes[[i != own for i in tops]]
        over = (others[:, 0, :2] < box[1, :2]).all(axis=1) & (others[:, 1, :2] > box[0, :2]).all(axis=1)
        others = others[over]
        if one_of_several(project, part):
            # how high a part lies in its product is the product's own, whose floor need not be at height 0
            continue
        if part.id in movers:
            under = low < -_ALLOWED and not (others[:, 0, 2] < low - _ALLOWED).any()
        else:
            above = others[others[:, 1, 2] > high]
            smaller = _plan(above) < _plan(box[None])
            under = high < -_ALLOWED and not smaller.any()
        if not under:
            continue
        findings.append(
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
                fix=None
                if part.role == "fixed"
                else Fix("Lift it onto the floor", partial(_lifted, part_id=part.id, height=-low)),
            )
        )
    return findings


def _plan(boxes: Array) -> Array:
    """Areas (n,) of boxes (n, 2, 3) as seen from above."""
    size = boxes[:, 1, :2] - boxes[:, 0, :2]
    area: Array = size[:, 0] * size[:, 1]
    return area


def _lifted(project: Project, part_id: str, height: float) -> Project:
    return transform(project, [part_id], shift((0.0, 0.0, height)))
