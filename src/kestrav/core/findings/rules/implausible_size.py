"""Implausible size: a product so small or large that its file was likely read in another unit."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.document.records import Project
from kestrav.core.findings.model import Evidence, Finding, Mend, point
from kestrav.core.motion.placing import scale

# common practice, no source: the units that files are mistaken for, and the sizes of products and rooms
_FACTORS = (
    (1000.0, "metres"),
    (25.4, "inches"),
    (10.0, "centimetres"),
    (0.001, "micrometres"),
    (1 / 25.4, "mm, not inches"),
)
_USUAL = (20.0, 50_000.0)


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each top-level thing from a file that is over or under the project's limits of size."""
    project, found = evidence.project, []
    low, high = project.settings.smallest_size, project.settings.largest_size
    for part in project.parts:
        box = evidence.boxes.get(part.id)
        if part.parent is not None or box is None or part.source is None:
            continue
        size = float(np.max(box[1] - box[0]))
        if low <= size <= high:
            continue
        fitting = [(f, name) for f, name in _FACTORS if _USUAL[0] <= size * f <= _USUAL[1]]
        mend = None
        if fitting:
            factor, name = min(fitting, key=lambda pair: abs(np.log(size * pair[0] / 1000.0)))
            mend = Mend(f"Take it for {name}", partial(_rescaled, part_id=part.id, factor=factor))
        limit = low if size < low else high
        found.append(
            Finding(
                rule="implausible-size",
                severity="warning",
                subject=(part.id,),
                title=f"{part.name} is {'very small' if size < low else 'very large'}",
                detail=f"{size:.4g} mm over all; its file may be in another unit",
                time=0.0,
                value=size,
                unit="mm",
                limit=limit,
                place=point(box.mean(axis=0)),
                mend=mend,
            )
        )
    return found


def _rescaled(project: Project, part_id: str, factor: float) -> Project:
    return scale(project, part_id, factor, (0.0, 0.0, 0.0))
