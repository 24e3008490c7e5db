"""A shot with so few frames a second that its motion is seen as single pictures."""

from __future__ import annotations

from functools import partial

from kestrav.core.document import edits
from kestrav.core.document.records import Project
from kestrav.core.findings.model import Evidence, Finding, Fix

LEAST = 24.0  # frames a second; that of cinema (SMPTE ST 428-11), below which motion stutters to most eyes (common practice, no source)


def find(evidence: Evidence) -> list[Finding]:
    """A warning for each shot with fewer frames a second than cinema has."""
    return [
        Finding(
            rule="frame-rate",
            severity="warning",
            subject=(shot.id, shot.camera),
            title=f"{shot.name} has a low frame rate",
            detail=f"{shot.fps:g} per second; below {LEAST:g} motion is seen as single pictures",
            time=shot.start,
            value=shot.fps,
            unit="fps",
            limit=LEAST,
            fix=Fix(f"Film it at {LEAST:g} fps", partial(_at_least, shot_id=shot.id)),
        )
        for shot in evidence.project.shots
        if shot.fps < LEAST
    ]


def _at_least(project: Project, shot_id: str) -> Project:
    return edits.update(project, shot_id, fps=LEAST)
