"""Roles that do not fit the runs: a fixed thing that moves, and one meant to move that does not."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.document.edits import update
from kestrav.core.document.lookup import ancestors, get, subtree
from kestrav.core.document.records import Part
from kestrav.core.findings.model import Evidence, Finding, Fix
from kestrav.core.kinematics.motion_segments import movers, segments_of


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each fixed part that a run carries, and each moving one without any run."""
    project, findings = evidence.project, []
    ridden = movers(project)
    for part in project.parts:
        if part.role == "fixed":
            carried = next((i for i in (*ancestors(project, part.id), part.id) if i in ridden), None)
            if carried is None:
                continue
            segment = segments_of(project, carried)[0]
            findings.append(
                Finding(
                    rule="fixed-moves",
                    severity="warning",
                    subject=(part.id,),
                    title=f"{part.name} is marked as fixed but moves",
                    detail=f"“{segment.item.name}” moves {get(project, carried).name}",
                    time=segment.start if np.isfinite(segment.start) else 0.0,
                    value=1.0,
                    unit="",
                    limit=0.0,
                    fix=Fix("Clear the mark", partial(update, item_id=part.id, role="")),
                )
            )
        elif part.role == "moving" and not _moves(evidence, part, ridden):
            findings.append(
                Finding(
                    rule="moving-without-motion",
                    severity="note",
                    subject=(part.id,),
                    title=f"{part.name} is marked as moving but has no motion",
                    detail="draw a path, or clear the mark on its card",
                    time=0.0,
                    value=0.0,
                    unit="",
                    limit=1.0,
                )
            )
    return findings


def _moves(evidence: Evidence, part: Part, ridden: set[str]) -> bool:
    project = evidence.project
    return bool(ridden & {*ancestors(project, part.id), *subtree(project, part.id)})
