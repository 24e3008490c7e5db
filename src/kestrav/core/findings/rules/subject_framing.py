"""A camera's subject out of the frame, cut by its edge, too small, too large, or of changing size."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.adjusting import fitted, holding_size
from kestrav.core.camera.fixes import Candidate, Goal, raises, shifts, widens
from kestrav.core.camera.judged import Judged
from kestrav.core.camera.subject import subject_id
from kestrav.core.document.edits import update
from kestrav.core.document.records import Shot
from kestrav.core.findings.model import Evidence, Finding, Severity, name_of
from kestrav.core.findings.of_cameras import fixes, lasting, over_frames

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]

_HAIR = 1e-3


def find(evidence: Evidence) -> list[Finding]:
    """For each shot of a subject: one finding each of where it is out of the frame, cut, too small, too large, and of changing size."""
    findings: list[Finding] = []
    for shot, judged in evidence.filmed:
        if judged.framed is None:
            continue
        findings += _beyond(evidence, shot, judged)
        findings += _sizes(evidence, shot, judged)
        findings += _change(evidence, shot, judged)
    return findings


def _finding(
    evidence: Evidence,
    shot: Shot,
    judged: Judged,
    faulty: Flags,
    values: Array,
    worst: int,
    rule: str,
    severity: Severity,
    title: str,
    text: str,
    limit: float,
    goal: Goal,
    *ways: list[Candidate],
) -> Finding:
    thing = subject_id(judged.camera)
    offered = fixes(judged, goal, *ways)
    return over_frames(
        evidence,
        shot,
        judged,
        faulty,
        worst,
        subject=(thing,),
        rule=rule,
        severity=severity,
        title=f"{name_of(evidence.project, thing)} {title}",
        detail=f"{text} at {judged.times[worst]:.2f} s; {lasting(judged, faulty)}, {judged.camera.name}",
        value=100 * float(values[worst]),
        unit="%",
        limit=100 * limit,
        offered=offered,
    )


def _fits(judged: Judged, worst: int) -> list[Candidate]:
    """Fitting the subject at its worst moment, by the lens and by the distance."""
    camera, time = judged.camera, float(judged.times[worst])
    margin = max(judged.camera.framing.margin, 0.0) + 0.02
    return [
        Candidate(
            f"Fit it by {'the lens' if by == 'lens' else 'distance'}",
            partial(
                fitted,
                meshes=judged.meshes,
                camera_id=camera.id,
                time=time,
                aspect=judged.aspect,
                by=by,
                margin=margin,
            ),
            heavy=True,
        )
        for by in ("lens", "distance")
    ]


def _holds(judged: Judged, time: float) -> tuple[list[Candidate], list[Candidate]]:
    """Keeping the size that the subject has at a time, by the lens or by the distance."""
    findings = [
        Candidate(
            f"Keep its size by {'the lens' if by == 'lens' else 'distance'}",
            partial(
                holding_size,
                meshes=judged.meshes,
                camera_id=judged.camera.id,
                time=time,
                aspect=judged.aspect,
                by=by,
            ),
            heavy=True,
        )
        for by in ("distance", "lens")
    ]
    return findings[:1], findings[1:]


def _kept(judged: Judged, size: float) -> tuple[list[Candidate], list[Candidate]]:
    """Keeping the subject at a size, by the distance or by the lens."""
    findings = [
        Candidate(
            f"Keep it at {100 * size:.0f} % by {'the lens' if by == 'lens' else 'distance'}",
            partial(update, item_id=judged.camera.id, keeps=by, size=size),
        )
        for by in ("distance", "lens")
    ]
    return findings[:1], findings[1:]


def _beyond(evidence: Evidence, shot: Shot, judged: Judged) -> list[Finding]:
    beyond, framed = [], judged.framed
    assert framed is not None
    limit = judged.camera.framing.margin
    outside = framed.outside
    cut = ~outside & (framed.margin < limit - _HAIR)

    def out_goal(at: Judged) -> float:
        return float(at.framed.outside.sum()) if at.framed is not None else 1.0

    def cut_goal(at: Judged) -> float:
        return limit - _HAIR - float(at.framed.margin.min()) if at.framed is not None else 1.0

    if outside.any():
        worst = int(np.argmin(np.where(outside, framed.margin, np.inf)))
        beyond.append(
            _finding(
                evidence, shot, judged, outside, framed.margin, worst, "out-of-frame", "breach", "is out of the frame",
                "Nothing of it is in the picture", limit, out_goal, _fits(judged, worst), widens(judged), shifts(judged),
            )
        )  # fmt: skip
    if cut.any():
        worst = int(np.argmin(np.where(cut, framed.margin, np.inf)))
        beyond.append(
            _finding(
                evidence, shot, judged, cut, framed.margin, worst, "subject-cut", "warning",
                "is cut by the frame" if limit <= 0 else "comes too near to the frame’s edge",
                f"{-100 * framed.margin[worst]:.0f} % of the frame beyond its edge" if framed.margin[worst] < 0
                else f"{100 * framed.margin[worst]:.1f} % from its edge, {100 * limit:g} required",
                limit, cut_goal, _fits(judged, worst), widens(judged),
            )
        )  # fmt: skip
    return beyond


def _sizes(evidence: Evidence, shot: Shot, judged: Judged) -> list[Finding]:
    sizes, framed, limits = [], judged.framed, judged.camera.framing
    assert framed is not None
    shown = ~framed.outside
    small, large = shown & (framed.filling < limits.least - _HAIR), shown & (framed.size > limits.most + _HAIR)

    def small_goal(at: Judged) -> float:
        return limits.least - float(at.framed.filling.min()) - _HAIR if at.framed is not None else 1.0

    def large_goal(at: Judged) -> float:
        return float(at.framed.size.max()) - limits.most - _HAIR if at.framed is not None else 1.0

    if small.any():
        worst = int(np.argmin(np.where(small, framed.filling, np.inf)))
        across = "height" if framed.size[worst] >= framed.filling[worst] else "width"
        sizes.append(
            _finding(
                evidence, shot, judged, small, framed.filling, worst, "subject-small", "warning", "is too small in the frame",
                f"{100 * framed.filling[worst]:.1f} % of the frame’s {across}, {100 * limits.least:g} required",
                limits.least, small_goal, _fits(judged, worst),
                *_kept(judged, 1.1 * limits.least),
            )
        )  # fmt: skip
    if large.any():
        worst = int(np.argmax(np.where(large, framed.size, -np.inf)))
        sizes.append(
            _finding(
                evidence, shot, judged, large, framed.size, worst, "subject-large", "warning", "is too large in the frame",
                f"{100 * framed.size[worst]:,.0f} % of the frame’s height, {100 * limits.most:g} allowed",
                limits.most, large_goal, _fits(judged, worst), widens(judged), raises(judged),
                *_kept(judged, 0.95 * limits.most),
            )
        )  # fmt: skip
    return sizes


def _change(evidence: Evidence, shot: Shot, judged: Judged) -> list[Finding]:
    limit, framed = judged.camera.framing.change, judged.framed
    assert framed is not None
    if limit <= 0 or judged.camera.keeps:
        return []
    change = np.abs(framed.size / framed.size.mean() - 1.0)
    faulty = change > limit + _HAIR
    if not faulty.any():
        return []

    def goal(at: Judged) -> float:
        if at.framed is None:
            return 1.0
        return float(np.abs(at.framed.size / at.framed.size.mean() - 1.0).max()) - limit

    worst = int(np.argmax(change))
    middle = float(judged.times[np.argmin(change)])
    return [
        _finding(
            evidence, shot, judged, faulty, change, worst, "subject-changing", "warning", "changes its size",
            f"{100 * framed.size[worst]:.0f} % of the frame’s height, {100 * change[worst]:.0f} % off its mean of "
            f"{100 * framed.size.mean():.0f} %; {100 * limit:g} % allowed",
            limit, goal, *_holds(judged, middle),
        )
    ]  # fmt: skip
