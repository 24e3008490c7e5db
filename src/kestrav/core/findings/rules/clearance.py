"""Clearance breach and collision: what moves comes nearer to something than required, or hits it."""

from __future__ import annotations

from collections import defaultdict
from functools import partial

import msgspec
import numpy as np

from kestrav.core.clearance.bending import bent_away, can_bend, near_run, of_rider
from kestrav.core.clearance.evading import delayed, later, raised
from kestrav.core.clearance.sweep import Breach
from kestrav.core.document.edits import point_shape, set_point
from kestrav.core.document.lookup import ancestors, get
from kestrav.core.document.records import PathPoint, Project, Run
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Evidence, Finding, Fix, name_of, point
from kestrav.core.kinematics.motion_segments import active, segments_of
from kestrav.core.kinematics.poses import riders


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
    findings = []
    for (rider, other), breaches in together.items():
        worst = min(breaches, key=lambda b: b.distance - b.required)
        frames = _merged([interval for breach in breaches for interval in breach.intervals])
        count = sum(last - first + 1 for first, last in frames)
        hit = worst.distance <= 0
        time = float(clearance.times[worst.frame])
        moving, nearest_to = name_of(project, rider), name_of(project, other)
        pair = f"{name_of(project, worst.pair.moving)} to {nearest_to}"
        frames_text = f"{count} frame{'s' if count != 1 else ''}"
        findings.append(
            Finding(
                rule="collision" if hit else "clearance-breach",
                severity="breach",
                subject=(worst.pair.moving, other),
                title=f"{moving} {'hits' if hit else 'too close to'} {nearest_to}",
                detail=f"{depth_or_distance(worst.distance)} at {time:.2f} s, {asked(worst.required)}, {frames_text} ({pair})",
                time=time,
                value=worst.distance,
                unit="mm",
                limit=worst.required,
                intervals=frames,
                place=point(worst.points.mean(axis=0)),
                gap=(point(worst.points[0]), point(worst.points[1])),
            )
        )
    return findings


def depth_or_distance(value: float, digits: int = 2) -> str:
    """A distance in mm in words; below 0 it is how deep two parts are in each other."""
    return f"{-value:.{digits}f} mm deep in each other" if value < 0 else f"{value:.{digits}f} mm apart"


def asked(required: float) -> str:
    """What is required in mm, in words; below 0 it is how deep what is in contact may be."""
    return (
        f"{round(required, 2):g} mm required"
        if required >= 0
        else f"{round(-required, 3):g} mm deep allowed for this contact"
    )


Worked = dict[str, tuple[str, tuple[Fix, ...]]]
"""What came of fixing each run, by its id: why it cannot be bent away, if so, and the fixes that would do."""


def with_fixes(evidence: Evidence, finding: Finding, known: Worked) -> Finding:
    """A breach with its fixes worked out, if a run on a path of points leads into it: the path bent away or raised, the run
    delayed; or why it cannot be bent.

    The ways are worked out here, as that takes a while, and once for each run (``known``); the fixes put things there.
    """
    project = evidence.project
    if finding.rule not in ("clearance-breach", "collision", "between-frames") or finding.fix is not None:
        return finding
    run = _leading(evidence, finding)
    if run is None or not can_bend(project, run):
        return finding
    if run.id not in known:
        known[run.id] = _fixes_of(evidence, run)
    why, fixes = known[run.id]
    detail = f"{finding.detail}. Its path cannot be bent away: {why}" if why else finding.detail
    return msgspec.structs.replace(finding, detail=detail, fix=fixes[0] if fixes else None, also=fixes[1:])


def _fixes_of(evidence: Evidence, run: Run) -> tuple[str, tuple[Fix, ...]]:
    project, meshes = evidence.project, evidence.meshes
    why, fixes = "", []
    try:
        bent = bent_away(project, meshes, run.id, evidence.renewed)
    except BadInput as fault:
        why = str(fault)
    else:
        old, new = (point_shape(p, run.path).points for p in (project, bent))
        far = [float(np.linalg.norm(np.subtract(a.position, b.position))) for a, b in zip(old, new, strict=True)]
        count = sum(step > _MOVED for step in far)
        text = f"{count} point{'s' if count != 1 else ''} of {get(project, run.path).name} by up to {max(far):.2f} mm"
        edit = partial(_points_there, path_id=run.path, points=new)
        fixes.append(Fix("Bend path away", edit, detail=f"Moves {text}"))
    breaches = [b for b in near_run(project, meshes, run).breaches if of_rider(project, run, b)]
    if not breaches:
        return why, tuple(fixes)
    lifted = raised(project, meshes, run.id, breaches[0], evidence.renewed)
    if lifted is not None:
        edit = partial(_points_there, path_id=run.path, points=point_shape(lifted[0], run.path).points)
        text = f"Raises the points between the ends of {get(project, run.path).name} by {lifted[1]:.1f} mm"
        fixes.append(Fix("Raise the path", edit, detail=text))
    waited = delayed(project, meshes, run.id, breaches[0], evidence.renewed)
    if waited is not None:
        edit = partial(later, run_id=run.id, seconds=waited[1])
        fixes.append(Fix("Delay the run", edit, detail=f"{run.name} starts {waited[1]:.2f} s later"))
    return why, tuple(fixes)


_MOVED = 0.005  # mm below which a point counts as left where it was


def _leading(evidence: Evidence, finding: Finding) -> Run | None:
    """The run by which one of both parts is where they are too near."""
    project = evidence.project
    for part in finding.subject[:2]:
        for thing in (part, *ancestors(project, part)[::-1]):
            segments = segments_of(project, thing)
            if not segments:
                continue
            item = segments[int(active(segments, [finding.time])[0])].item
            if isinstance(item, Run) and thing in (item.rider, *item.companions):
                return item
    return None


def _points_there(project: Project, path_id: str, points: tuple[PathPoint, ...]) -> Project:
    """The project with a path's points where they have been worked out to be. Raises BadInput when they are others by now."""
    if len(point_shape(project, path_id).points) != len(points):
        raise BadInput(f"“{get(project, path_id).name}” has other points by now; check again")
    for index, there in enumerate(points):
        project = set_point(project, path_id, index, position=there.position)
    return project


def _merged(intervals: list[tuple[int, int]]) -> tuple[tuple[int, int], ...]:
    """Intervals of frames joined where they touch or overlap."""
    joined: list[tuple[int, int]] = []
    for first, last in sorted(intervals):
        if joined and first <= joined[-1][1] + 1:
            joined[-1] = (joined[-1][0], max(joined[-1][1], last))
        else:
            joined.append((first, last))
    return tuple(joined)
