"""A camera inside something, going through it, or too near to it."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.camera.fixes import Candidate, own_path, raises, shifts, widens
from kestrav.core.camera.judged import Judged
from kestrav.core.camera.walking import replanned
from kestrav.core.document.records import Shot
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.findings.of_cameras import fixes, lasting, over_frames

_HAIR = 0.5  # mm


def find(evidence: Evidence) -> list[Finding]:
    """For each shot: where its camera is inside something or goes through it, and where it comes too near to anything."""
    findings: list[Finding] = []
    for shot, judged in evidence.filmed:
        through = _through(evidence, shot, judged)
        findings += through
        if not through:
            findings += _near(evidence, shot, judged)
    return findings


def _limit(judged: Judged) -> float:
    walk = judged.camera.walk
    return judged.camera.framing.near if walk is None else walk.distance


def _clear(judged: Judged) -> float:
    """How far it is from keeping its distance, in mm; more than 0 where it goes through something."""
    if (judged.passed >= 0).any():
        return float("inf")
    return _limit(judged) - _HAIR - float(judged.near.distance.min())


def _offered(evidence: Evidence, judged: Judged) -> tuple[Fix, ...]:
    walks: list[Candidate] = []
    runs = [r for r in evidence.project.runs if r.rider == judged.camera.id]
    if judged.camera.walk is not None and len(runs) == 1 and own_path(evidence.project, judged.camera.id) is not None:
        walks = [Candidate("Walk around it", partial(replanned, meshes=evidence.meshes, run_id=runs[0].id), heavy=True)]
        return fixes(judged, _clear, walks, shifts(judged))
    return fixes(judged, _clear, raises(judged), widens(judged), shifts(judged))


def _through(evidence: Evidence, shot: Shot, judged: Judged) -> list[Finding]:
    inside = judged.near.inside.copy()
    crossed = np.flatnonzero(judged.passed >= 0)
    rows = judged.near.row.copy()
    for step in crossed:
        inside[step + 1] = True
        rows[step + 1] = judged.passed[step]
    if not inside.any():
        return []
    worst = int(np.argmax(inside))
    name = evidence.project.parts[int(rows[worst])].name
    offered = _offered(evidence, judged)
    how = "goes through" if len(crossed) else "is inside"
    return [
        over_frames(
            evidence,
            shot,
            judged,
            inside,
            worst,
            subject=(evidence.project.parts[int(rows[worst])].id,),
            rule="camera-inside",
            severity="breach",
            title=f"{judged.camera.name} {how} {name}",
            detail=f"At {judged.times[worst]:.2f} s; {lasting(judged, inside)}",
            value=0.0,
            unit="mm",
            limit=_limit(judged),
            offered=offered,
        )
    ]


def _near(evidence: Evidence, shot: Shot, judged: Judged) -> list[Finding]:
    limit, distance = _limit(judged), judged.near.distance
    faulty = distance < limit - _HAIR
    if not faulty.any():
        return []
    worst = int(np.argmin(distance))
    part = evidence.project.parts[int(judged.near.row[worst])]
    offered = _offered(evidence, judged)
    walks = judged.camera.walk is not None
    return [
        over_frames(
            evidence,
            shot,
            judged,
            faulty,
            worst,
            subject=(part.id,),
            rule="camera-near",
            severity="warning",
            title=f"{judged.camera.name} {'walks' if walks else 'comes'} too near to {part.name}",
            detail=f"{distance[worst]:,.0f} mm at {judged.times[worst]:.2f} s, {limit:,.0f} required; "
            f"{lasting(judged, faulty)}",
            value=float(distance[worst]),
            unit="mm",
            limit=limit,
            gap=(point(judged.seen.position[worst]), point(judged.near.point[worst])),
            offered=offered,
        )
    ]
