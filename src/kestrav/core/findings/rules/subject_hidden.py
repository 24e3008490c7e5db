"""A camera's subject hidden behind something, or crossed by it."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.fixes import Candidate, faded, hideable, raises, shifts, widens
from kestrav.core.camera.judged import Judged
from kestrav.core.camera.subject import subject_id
from kestrav.core.document.records import Project, Shot
from kestrav.core.findings.model import Evidence, Finding, name_of
from kestrav.core.findings.of_cameras import fixes, lasting, over_frames, seconds_of, spans_of

# of the middle of a subject, behind which something passing is seen as a fault (common practice, no source)
CROSSED = 0.35
_CROSSES = 0.2  # s that it takes at least
_PASSING = 0.5  # of a shot, during which something passes at most: what is there longer is how the product is


def find(evidence: Evidence) -> list[Finding]:
    """For each shot: where less of its subject, as far as it is in the frame, is visible than its camera demands, and where something passes
    before its middle."""
    findings = []
    for shot, judged in evidence.filmed:
        if judged.sight is not None and judged.camera.framing.visible > 0:
            findings += _hidden(evidence, shot, judged) or _crossed(evidence, shot, judged)
    return findings


def _crossed(evidence: Evidence, shot: Shot, judged: Judged) -> list[Finding]:
    assert judged.sight is not None
    crossed = judged.sight.crossed
    faulty = crossed > CROSSED
    if seconds_of(judged, faulty) < _CROSSES or faulty.mean() > _PASSING:
        return []

    def goal(at: Judged) -> float:
        return float(at.sight.crossed.max()) - CROSSED if at.sight is not None else 1.0

    worst, thing = int(np.argmax(crossed)), subject_id(judged.camera)
    # what is before it a little earlier and later is faded with it
    name, candidates = _in_the_way(evidence.project, judged, crossed > 0, faulty)
    offered = fixes(judged, goal, raises(judged), widens(judged), shifts(judged), *candidates)
    return [
        over_frames(
            evidence,
            shot,
            judged,
            faulty,
            worst,
            subject=(thing,),
            rule="subject-crossed",
            severity="warning",
            title=f"{name or 'Something'} passes before {name_of(evidence.project, thing)}",
            detail=f"{crossed[worst]:.0%} of its middle hidden at {judged.times[worst]:.2f} s, {CROSSED:.0%} allowed; "
            f"{lasting(judged, faulty)}, {judged.camera.name}",
            value=100 * float(crossed[worst]),
            unit="%",
            limit=100 * CROSSED,
            offered=offered,
        )
    ]


def _in_the_way(
    project: Project, judged: Judged, around: NDArray[np.bool_], faulty: NDArray[np.bool_]
) -> tuple[str, list[list[Candidate]]]:
    """The name of what is most in the way while it is faulty, and fading all that is ``around`` then as a way out."""
    assert judged.sight is not None
    thing, rows = subject_id(judged.camera), judged.sight.hiding
    known = rows[faulty & (rows >= 0)]
    if not len(known):
        return "", []
    name = project.parts[int(np.bincount(known).argmax())].name
    spans: dict[str, NDArray[np.bool_]] = {}
    for hider in dict.fromkeys(known.tolist()):
        mine = around & (rows == hider)
        what = hideable(project, hider, thing)
        spans[what] = spans.get(what, np.zeros(len(rows), bool)) | mine
    hidden = {what: spans_of(judged, where) for what, where in spans.items()}
    label = " and ".join(name_of(project, what) for what in list(spans)[:2])
    return name, [[Candidate(f"Fade {label} meanwhile", partial(_faded, camera_id=judged.camera.id, things=hidden))]]


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
    name, groups = _in_the_way(project, judged, faulty, faulty)
    names = f" behind {name}" if name else ""

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
            offered=offered,
        )
    ]
