"""Floating above or sunk into the ground."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import update
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Ground, Part, Project, Run, Vector
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.kinematics.ground import heights_below, standing
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import course_of
from kestrav.core.parts.rest import own_bounds

Array = NDArray[np.float64]

_SAMPLES = 81
_LOOK = 500.0  # mm above a thing's underside from which the ground is looked for


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each run of a part on the ground, or on the middle of its underside, at its largest gap.

    The gap is that between the middle of the underside and what lies below, at standstill as on the way; only parts
    that nothing moves, and the floor at height 0, are ground.
    """
    project, limit = evidence.project, evidence.project.settings.ground_gap
    findings = []
    for run in project.runs:
        rider = get(project, run.rider)
        if not isinstance(rider, Part) or (run.ground is None and run.reference != "bottom"):
            continue
        course = course_of(project, run)
        if not np.isfinite(course.start):
            continue
        times = np.linspace(course.start, course.there_and_back, _SAMPLES)
        places = _undersides(project, run, times)
        met = heights_below(project, evidence.meshes, places + np.array([0.0, 0.0, _LOOK]), standing(project))
        ground = np.maximum(met, np.where(places[:, 2] >= -_LOOK, 0.0, -np.inf))
        gap = places[:, 2] - ground
        worst = int(np.argmax(np.abs(gap)))
        if abs(gap[worst]) <= limit:
            continue
        how = "floats above" if gap[worst] > 0 else "sinks into"
        time = float(times[worst])
        frame = evidence.frame(time)
        below = places[worst].copy()
        below[2] = ground[worst]
        findings.append(
            Finding(
                rule="ground",
                severity="warning",
                subject=(run.id, run.rider),
                title=f"{rider.name} {how} the ground",
                detail=f"By {abs(gap[worst]):,.1f} mm at {time:.2f} s; {limit:g} mm allowed",
                time=time,
                value=float(abs(gap[worst])),
                unit="mm",
                limit=limit,
                intervals=((frame, frame),),
                place=point(places[worst]),
                gap=(point(places[worst]), point(below)),
                fix=_fix(run, float(np.abs(gap).max()), float(gap[worst])),
            )
        )
    return findings


def _undersides(project: Project, run: Run, times: Array) -> Array:
    box = own_bounds(project, run.rider)
    underside = np.array([*box.mean(axis=0)[:2], box[0, 2]])
    poses = Motion(project).poses(run.rider, times)
    undersides: Array = poses[:, :3, :3] @ underside + poses[:, :3, 3]
    return undersides


def _fix(run: Run, largest: float, worst: float) -> Fix:
    """Riding on the ground, on the middle of its underside; where it does so already, within a longer reach."""
    reach = max(300.0, 2.0 * largest)
    if run.ground is None:
        return Fix("Follow the ground", partial(_onto_ground, run_id=run.id, ground=Ground(reach), offset=None))
    level = (*run.offset[:2], 0.0)
    longer = Ground(max(run.ground.reach, reach), run.ground.tilted)
    label = "Sit on the ground" if abs(worst) < run.ground.reach else f"Look for the ground within {reach:,.0f} mm"
    return Fix(label, partial(_onto_ground, run_id=run.id, ground=longer, offset=level))


def _onto_ground(project: Project, run_id: str, ground: Ground, offset: Vector | None) -> Project:
    fields = {} if offset is None else {"offset": offset}
    return update(project, run_id, ground=ground, reference="bottom", **fields)
