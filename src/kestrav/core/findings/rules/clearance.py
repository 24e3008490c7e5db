"""Clearance breach and collision: what moves comes nearer to something than required, or hits it."""

from __future__ import annotations

from collections import defaultdict

from kestrav.core.clearance.sweep import Breach
from kestrav.core.document.lookup import ancestors
from kestrav.core.findings.model import Evidence, Finding, name_of, point
from kestrav.core.motion.poses import riders


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each rider and thing that it comes near, at their nearest pair."""
    clearance = evidence.clearance
    if clearance is None:
        return []
    project = evidence.project
    ridden = set(riders(project))
    together: dict[tuple[str, str], list[Breach]] = defaultdict(list)
    for breach in clearance.breaches:
        chain = [*ancestors(project, breach.pair.moving), breach.pair.moving]
        rider = next(i for i in reversed(chain) if i in ridden)
        together[rider, breach.pair.other].append(breach)
    found = []
    for (rider, other), breaches in together.items():
        worst = breaches[0]
        frames = _merged([interval for breach in breaches for interval in breach.intervals])
        count = sum(last - first + 1 for first, last in frames)
        hit = worst.distance <= 0
        time = float(clearance.times[worst.frame])
        moving, nearest_to = name_of(project, rider), name_of(project, other)
        pair = f"{name_of(project, worst.pair.moving)} to {nearest_to}"
        frames_text = f"{count} frame{'s' if count != 1 else ''}"
        found.append(
            Finding(
                rule="collision" if hit else "clearance-breach",
                severity="breach",
                subject=(worst.pair.moving, other),
                title=f"{moving} hits {nearest_to}" if hit else f"{moving} too close to {nearest_to}",
                detail=(f"They overlap at {time:.2f} s" if hit else f"{worst.distance:.2f} mm at {time:.2f} s")
                + f", {clearance.required:g} mm required, {frames_text} ({pair})",
                time=time,
                value=worst.distance,
                unit="mm",
                limit=clearance.required,
                intervals=frames,
                place=point(worst.points.mean(axis=0)),
                gap=(point(worst.points[0]), point(worst.points[1])),
            )
        )
    return found


def _merged(intervals: list[tuple[int, int]]) -> tuple[tuple[int, int], ...]:
    """Intervals of frames joined where they touch or overlap."""
    joined: list[tuple[int, int]] = []
    for first, last in sorted(intervals):
        if joined and first <= joined[-1][1] + 1:
            joined[-1] = (joined[-1][0], max(joined[-1][1], last))
        else:
            joined.append((first, last))
    return tuple(joined)
