"""What the rules of cameras share: findings over a shot's frames."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.fixes import Candidate, Goal, told, tried
from kestrav.core.camera.judged import Judged
from kestrav.core.clearance.sweep import intervals_of
from kestrav.core.document.records import Shot
from kestrav.core.findings.model import Evidence, Finding, Fix, at_moment

Array = NDArray[np.float64]


def over_frames(
    evidence: Evidence,
    shot: Shot,
    judged: Judged,
    faulty: NDArray[np.bool_],
    worst: int,
    place: Array | None = None,
    subject: Iterable[str] = (),
    offered: tuple[Fix, ...] = (),
    **fields: Any,
) -> Finding:
    """A finding of a shot's camera over those of its frames that are faulty (n,), told at the worst of them.

    Its title names the camera; it is about the camera, the shot, and what else is named. The first of what is ``offered`` is its fix.
    """
    spans = tuple(
        (evidence.frame(float(judged.times[a])), evidence.frame(float(judged.times[b])))
        for a, b in intervals_of(np.flatnonzero(faulty))
    )
    return at_moment(
        evidence,
        (judged.camera.id, shot.id, *subject),
        float(judged.times[worst]),
        judged.seen.position[worst] if place is None else place,
        spans,
        fix=offered[0] if offered else None,
        also=offered[1:],
        **fields,
    )


def spans_of(judged: Judged, faulty: NDArray[np.bool_]) -> tuple[tuple[float, float], ...]:
    """The spans of time in s of the frames that are faulty."""
    return tuple((float(judged.times[a]), float(judged.times[b])) for a, b in intervals_of(np.flatnonzero(faulty)))


def seconds_of(judged: Judged, faulty: NDArray[np.bool_]) -> float:
    """For how long in s something is so."""
    step = float(np.median(np.diff(judged.times))) if len(judged.times) > 1 else 0.0
    return float(faulty.sum() * step)


def lasting(judged: Judged, faulty: NDArray[np.bool_]) -> str:
    """The same in words."""
    return f"{seconds_of(judged, faulty):.2f} s in all"


def fixes(judged: Judged, goal: Goal, *groups: Iterable[Candidate]) -> tuple[Fix, ...]:
    """The first edit of each group by which a goal is reached, as fixes."""
    tries = [tried(judged, goal, group) for group in groups]
    return tuple(Fix(candidate.label, told(judged.project, candidate)) for candidate in tries if candidate is not None)
