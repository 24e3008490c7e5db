"""Orientation flip: a rider turns by more between two frames than any steady motion would."""

from __future__ import annotations

import numpy as np

from kestrav.core.clearance.sweep import intervals_of
from kestrav.core.findings.model import Evidence, Finding, name_of, point
from kestrav.core.geometry.transforms import rotation_angle
from kestrav.core.motion.poses import riders


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each rider, at its largest turn between frames."""
    project, times, limit = evidence.project, evidence.times, evidence.project.settings.flip_angle
    row = {part.id: i for i, part in enumerate(project.parts)}
    found: list[Finding] = []
    if len(times) < 2:
        return found
    for rider in riders(project):
        poses = evidence.poses[:, row[rider]]
        angle = np.degrees(rotation_angle(poses[:-1, :3, :3], poses[1:, :3, :3]))
        flips = np.flatnonzero(angle > limit)
        if not len(flips):
            continue
        worst = int(np.argmax(angle))
        found.append(
            Finding(
                rule="orientation-flip",
                severity="breach",
                subject=(rider,),
                title=f"{name_of(project, rider)} flips",
                detail=f"Turns {angle[worst]:.0f}° in one frame at {times[worst + 1]:.2f} s, {limit:g}° allowed",
                time=float(times[worst + 1]),
                value=float(angle[worst]),
                unit="°",
                limit=limit,
                intervals=tuple((first, last + 1) for first, last in intervals_of(flips)),
                place=point(poses[worst + 1, :3, 3]),
            )
        )
    return found
