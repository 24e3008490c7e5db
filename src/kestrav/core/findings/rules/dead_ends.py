"""A shot whose picture does not change for a while at its beginning or its end."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from kestrav.core.camera.filmed import live_span, trimmed
from kestrav.core.document.records import Project
from kestrav.core.findings.model import Evidence, Finding, Fix
from kestrav.core.geometry.meshes import Mesh


def find(evidence: Evidence) -> list[Finding]:
    """A note for each shot of the film with dead time at its ends that is longer than the project's limit (0: never)."""
    project, limit = evidence.project, evidence.project.settings.dead_time
    if limit <= 0:
        return []
    findings = []
    for shot, judged in evidence.filmed:
        if not shot.in_film or shot.loops or len(judged.times) < 3:
            continue
        first, last = live_span(project, judged.meshes, shot)
        before, after = first - shot.start, shot.end - last
        if max(before, after) <= limit:
            continue
        begins = before >= after
        span = (shot.start, first) if begins else (last, shot.end)
        text = " and ".join(
            f"{t:.2f} s at its {end}" for t, end in ((before, "beginning"), (after, "end")) if t > limit
        )
        findings.append(
            Finding(
                rule="dead-ends",
                severity="note",
                subject=(shot.id, shot.camera),
                title=f"{shot.name} stands still at its {'beginning' if begins else 'end'}",
                detail=f"Nothing in its picture changes for {text}; {limit:g} s allowed",
                time=span[0],
                value=max(before, after),
                unit="s",
                limit=limit,
                intervals=((evidence.frame(span[0]), evidence.frame(span[1])),),
                fix=Fix("Trim its dead ends", partial(_without, meshes=judged.meshes, shot_id=shot.id)),
            )
        )
    return findings


def _without(project: Project, meshes: Mapping[str, Mesh], shot_id: str) -> Project:
    return trimmed(project, meshes, shot_id)
