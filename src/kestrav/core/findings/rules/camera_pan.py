"""A camera that turns so fast that what it looks at crosses the frame too fast to be seen."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.camera.fixes import Candidate, slower
from kestrav.core.camera.judged import Judged
from kestrav.core.document.edits import update
from kestrav.core.document.records import Shot
from kestrav.core.findings.model import Evidence, Finding
from kestrav.core.findings.of_cameras import fixes, lasting, over_frames

_LONGEST = 0.9  # of the limit, to which it is slowed down
_LAGS = (0.5, 1.0, 1.5, 2.0)  # s


def find(evidence: Evidence) -> list[Finding]:
    """For each shot: where what is in the middle of its picture would cross the frame in less than the project allows.

    That an object should take about 7 s to cross the frame is a rule of the trade: common practice, no source.
    """
    limit = evidence.project.settings.crossing_time
    if limit <= 0:
        return []
    findings = []
    for shot, judged in evidence.filmed:
        findings += _fast(evidence, shot, judged, limit)
    return findings


def _fast(evidence: Evidence, shot: Shot, judged: Judged, limit: float) -> list[Finding]:
    crossing = judged.crossing
    faulty = crossing < limit * (1 - 1e-6)
    if not faulty.any():
        return []
    worst = int(np.argmin(crossing))
    camera = judged.camera
    factor = limit / _LONGEST / float(crossing[worst])

    def goal(at: Judged) -> float:
        return limit - float(at.crossing.min())

    candidates = [Candidate(f"Set duration to {factor:.2f} times", partial(slower, camera_id=camera.id, factor=factor))]
    lags = [
        Candidate(f"Follow with lag, {lag:g} s behind", partial(update, item_id=camera.id, aim_lag=lag))
        for lag in _LAGS
        if lag > camera.aim_lag
    ]
    offered = fixes(judged, goal, candidates, lags)
    return [
        over_frames(
            evidence,
            shot,
            judged,
            faulty,
            worst,
            rule="pan-fast",
            severity="warning",
            title=f"{camera.name} pans too fast",
            detail=f"What it looks at would cross the frame in {crossing[worst]:.1f} s at {judged.times[worst]:.2f} s, "
            f"{limit:g} s required; it turns by {judged.pan_rate[worst]:.1f} °/s; {lasting(judged, faulty)}",
            value=float(crossing[worst]),
            unit="s",
            limit=limit,
            offered=offered,
        )
    ]
