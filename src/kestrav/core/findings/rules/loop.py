"""A shot that loops, but not closely: it does not close, shows a frame twice, or stutters at its seam."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.camera.fixes import closed_loop
from kestrav.core.camera.judged import Judged
from kestrav.core.camera.views import views
from kestrav.core.document.records import Shot
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Evidence, Finding, Fix
from kestrav.core.findings.of_cameras import over_frames

PLACE, _TURN = 0.5, 0.02  # mm and degrees by which two views may differ and be the same
_STUTTER = 0.05  # share by which the step over the seam may differ from those beside it


def find(evidence: Evidence) -> list[Finding]:
    """For each shot that loops, or whose camera goes all around: a seam that can be seen."""
    findings: list[Finding] = []
    for shot, judged in evidence.filmed:
        if len(judged.times) > 3 and abs(judged.times[0] - shot.start) < 1e-9:
            findings += _seam(evidence, shot, judged)
    return findings


def _apart(seen: object, a: int, b: int) -> tuple[float, float]:
    """How far two views are apart, in mm and degrees."""
    position, forward = seen.position, seen.forward  # type: ignore[attr-defined]
    cosine = float(np.clip(forward[a] @ forward[b], -1.0, 1.0))
    sine = float(np.linalg.norm(np.cross(forward[a], forward[b])))
    return float(np.linalg.norm(position[a] - position[b])), float(np.degrees(np.arctan2(sine, cosine)))


def _seam(evidence: Evidence, shot: Shot, judged: Judged) -> list[Finding]:
    frames = len(judged.times)
    step = 1.0 / shot.fps
    # the shot's frames, and the one that would follow the last
    times = np.append(judged.times, judged.times[-1] + step)
    seen = views(judged.project, judged.meshes, judged.camera, times, aspect=judged.aspect)
    steps = np.linalg.norm(np.diff(seen.position, axis=0), axis=1)
    moves = steps.max() > PLACE
    last = _apart(seen, frames - 1, 0)
    following = _apart(seen, frames, 0)
    same = last[0] < PLACE and last[1] < _TURN
    closes = following[0] < PLACE and following[1] < _TURN
    if not moves or not (shot.loops or (same and steps[: frames - 1].sum() > 100 * PLACE)):
        return []
    if same:
        title = f"{shot.name} shows its first frame twice"
        detail = "Its last frame is its first one, which makes a loop stutter; a loop ends one frame before"
        value, unit, limit = last[0], "mm", PLACE
    elif not closes:
        title = f"{shot.name} does not close"
        detail = (
            f"After its last frame the camera is {following[0]:,.1f} mm and {following[1]:.2f}° from where it began"
        )
        value, unit, limit = following[0], "mm", PLACE
    else:
        before, over, after = steps[frames - 2], steps[frames - 1], steps[0]
        change = max(abs(over - before), abs(after - over)) / max(before, over, after, 1e-9)
        usual = np.abs(np.diff(steps)).max(initial=0.0) / max(steps.max(), 1e-9)
        if change <= max(_STUTTER, 1.5 * usual) and min(before, after) > 0.1 * steps.max():
            return []
        title = f"{shot.name} stutters at its seam"
        detail = (
            f"The camera goes {before * shot.fps:,.0f} mm/s before its last frame and {after * shot.fps:,.0f} after its "
            f"first, {steps.max() * shot.fps:,.0f} in between"
        )
        value, unit, limit = float(min(before, after) * shot.fps), "mm/s", float(steps.max() * shot.fps)
    offered: tuple[Fix, ...] = ()
    try:
        closed_loop(evidence.project, shot.id)
        offered = (Fix("Close the loop", partial(closed_loop, shot_id=shot.id)),)
    except BadInput:
        pass
    faulty = np.zeros(frames, bool)
    faulty[-1] = True
    return [
        over_frames(
            evidence,
            shot,
            judged,
            faulty,
            frames - 1,
            rule="loop-seam",
            severity="warning",
            title=title,
            detail=detail,
            value=value,
            unit=unit,
            limit=limit,
            offered=offered,
        )
    ]
