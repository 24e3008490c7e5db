"""A camera whose picture jumps from one frame to the next."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.camera.fixes import Candidate
from kestrav.core.camera.judged import Judged
from kestrav.core.document.edits import update
from kestrav.core.findings.model import Evidence, Finding
from kestrav.core.findings.of_cameras import fixes, over_frames

_FAR, _MANY = 300.0, 8.0  # mm, and times the steps beside it, that a step must be to be a jump
TURN = 6.0  # degrees that the look must turn from frame to frame to be a jump
_LAGS = (0.4, 0.8, 1.5)  # s


def find(evidence: Evidence) -> list[Finding]:
    """For each shot: a step of its camera or of its look from one frame to the next that stands out of those beside it."""
    findings: list[Finding] = []
    for shot, judged in evidence.filmed:
        if len(judged.times) < 4:
            continue
        steps, turns = _steps(judged)
        step, turn = _outstanding(steps, _FAR), _outstanding(turns, TURN)
        if step is None and turn is None:
            continue
        worst = step if step is not None else turn
        assert worst is not None
        faulty = np.zeros(len(judged.times), bool)
        faulty[worst : worst + 2] = True
        lags = [
            Candidate(
                f"Follow with lag, {lag:g} s behind",
                partial(update, item_id=judged.camera.id, lag=lag, aim_lag=lag / 2),
            )
            for lag in _LAGS
        ]
        offered = fixes(judged, _goal, lags)
        findings.append(
            over_frames(
                evidence,
                shot,
                judged,
                faulty,
                worst + 1,
                rule="view-jump",
                severity="breach",
                title=f"{judged.camera.name} jumps",
                detail=f"From one frame to the next by {steps[worst]:,.0f} mm and {turns[worst]:.1f}°, at "
                f"{judged.times[worst + 1]:.2f} s",
                value=float(steps[worst]) if step is not None else float(turns[worst]),
                unit="mm" if step is not None else "°",
                limit=_FAR if step is not None else TURN,
                offered=offered,
            )
        )
    return findings


def _steps(judged: Judged) -> tuple[np.ndarray, np.ndarray]:
    """How far (n − 1,) in mm the camera goes and by how many degrees its look turns, from frame to frame."""
    forward = judged.seen.forward
    sine = np.linalg.norm(np.cross(forward[1:], forward[:-1]), axis=1)
    turns = np.degrees(np.arctan2(sine, np.einsum("ij,ij->i", forward[1:], forward[:-1])))
    return np.linalg.norm(np.diff(judged.seen.position, axis=0), axis=1), turns


def _outstanding(values: np.ndarray, least: float) -> int | None:
    """The greatest of values (n,) that are at least so large and stand far out of both beside them."""
    beside = np.maximum(np.append(values[1:], 0.0), np.insert(values[:-1], 0, 0.0))
    jumps = (values > least) & (values > _MANY * beside)
    return int(np.argmax(np.where(jumps, values, -1.0))) if jumps.any() else None


def _goal(judged: Judged) -> float:
    # looked at coarsely steps are longer, but none stands out
    steps, turns = _steps(judged)
    return 0.0 if _outstanding(steps, _FAR) is None and _outstanding(turns, TURN) is None else 1.0
