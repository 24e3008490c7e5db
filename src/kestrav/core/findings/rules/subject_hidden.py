"""A camera's subject hidden behind something."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.camera.judged import Judged
from kestrav.core.camera.mending import Way, faded, hideable, raises, shifts, widens
from kestrav.core.camera.subject import subject_id
from kestrav.core.document.records import Project, Shot
from kestrav.core.findings.model import Evidence, Finding, name_of
from kestrav.core.findings.of_cameras import fixes, lasting, over_frames, spans_of


def find(evidence: Evidence) -> list[Finding]:
    """For each shot: where less of its subject, as far as it is in the frame, is visible than its camera demands."""
    found = []
    for shot, judged in evidence.filmed:
        if judged.sight is not None and judged.camera.framing.visible > 0:
            found += _hidden(evidence, shot, judged)
    return found


def _visible(judged: Judged) -> np.ndarray:
    """The visible share (n,) of what is in the frame; 1 where nothing is."""
    assert judged.sight is not None
    inside = judged.sight.visible + judged.sight.hidden
    return np.where(inside > 0.02, judged.sight.visible / np.maximum(inside, 1e-9), 1.0)


def _faded(project: Project, camera_id: str, things: dict[str, tuple[tuple[float, float], ...]]) -> Project:
    for thing, spans in things.items():
        project = faded(project, camera_id, thing, spans)
    return project


def _hidden(evidence: Evidence, shot: Shot, judged: Judged) -> list[Finding]:
    project, limit = evidence.project, judged.camera.framing.visible
    visible = _visible(judged)
    faulty = visible < limit
    if not faulty.any():
        return []
    assert judged.sight is not None
    worst = int(np.argmin(visible))
    thing = subject_id(judged.camera)
    rows = judged.sight.hiding[faulty]
    names, groups = "", list[list[Way]]()
    known = rows[rows >= 0]
    if len(known):
        row = int(np.bincount(known).argmax())
        names = f" behind {project.parts[row].name}"
        spans: dict[str, np.ndarray] = {}
        for hider in dict.fromkeys(known.tolist()):
            mine = faulty & (judged.sight.hiding == hider)
            spans.setdefault(hideable(project, hider, thing), np.zeros(len(faulty), bool))[mine] = True

        told = {what: spans_of(judged, where) for what, where in spans.items()}
        label = " and ".join(name_of(project, what) for what in list(spans)[:2])
        groups.append([Way(f"Fade {label} meanwhile", partial(_faded, camera_id=judged.camera.id, things=told))])

    def goal(at: Judged) -> float:
        return limit - float(_visible(at).min()) if at.sight is not None else 1.0

    offered = fixes(judged, goal, raises(judged), widens(judged), shifts(judged), *groups)
    return [
        over_frames(
            evidence,
            shot,
            judged,
            faulty,
            worst,
            subject=(thing,),
            rule="subject-hidden",
            severity="warning",
            title=f"{name_of(project, thing)} is hidden{names}",
            detail=f"{visible[worst]:.0%} of it visible at {judged.times[worst]:.2f} s, {limit:.0%} required; "
            f"{lasting(judged, faulty)}, {judged.camera.name}",
            value=100 * float(visible[worst]),
            unit="%",
            limit=100 * limit,
            fix=offered[0] if offered else None,
            also=offered[1:],
        )
    ]
