"""Where and when a run must arrive: its front at its mark, in time, or at all."""

from __future__ import annotations

from functools import partial
from typing import Any

import msgspec
import numpy as np

from kestrav.core.document.edits import update
from kestrav.core.document.lookup import awaited, get, get_as
from kestrav.core.document.records import Keyed, Run
from kestrav.core.editing.run_making import arrives_backwards, front_station, stop_at_mark
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Evidence, Finding, Fix, at_moment, point
from kestrav.core.kinematics.carriage import places_beyond
from kestrav.core.kinematics.runs import RunCourse, course_of

MARK = 0.5  # mm; common practice, no source


def find(evidence: Evidence) -> list[Finding]:
    """For each run: a front that stands beyond its mark or short of it, an arrival early, late or never."""
    findings: list[Finding] = []
    for run in evidence.project.runs:
        course = course_of(evidence.project, run)
        findings += _never(evidence, course)
        if run.mark is not None and np.isfinite(course.end):
            findings += _at_mark(evidence, course, run.mark)
        if run.arrive_by is not None and np.isfinite(course.end):
            findings += _in_time(evidence, course, run.arrive_by)
    return findings


def _finding(evidence: Evidence, course: RunCourse, time: float, **fields: Any) -> Finding:
    place = fields.pop("place", None)
    if place is None:
        place = course.path.curve.position(course.stations([time]))[0]
    return at_moment(evidence, (course.run.id,), time, np.asarray(place, float), **fields)


def _at_mark(evidence: Evidence, course: RunCourse, mark: float) -> list[Finding]:
    project, run = evidence.project, course.run
    wanted = mark * course.path.length
    front = front_station(project, run)
    ahead = -1.0 if arrives_backwards(run) else 1.0
    beyond = ahead * (front - wanted)
    if abs(beyond) <= MARK:
        return []
    try:
        stop_at_mark(project, run.id)
        fix = Fix("Stop with the front at the mark", partial(stop_at_mark, run_id=run.id))
    except BadInput:
        fix = None
    name = get(project, run.rider).name
    where = "beyond" if beyond > 0 else "short of"
    return [
        _finding(
            evidence,
            course,
            course.end,
            rule="mark",
            severity="breach" if beyond > 0 else "warning",
            title=f"{name} stops {where} its mark",
            detail=f"Its front stands at {front:,.1f} mm, {abs(beyond):,.1f} mm {where} {wanted:,.1f} mm; {MARK:g} mm allowed",
            value=abs(beyond),
            unit="mm",
            limit=MARK,
            place=point(places_beyond(course.path.curve, [front])[0]),
            gap=(
                point(places_beyond(course.path.curve, [wanted])[0]),
                point(places_beyond(course.path.curve, [front])[0]),
            ),
            fix=fix,
        )
    ]


def _in_time(evidence: Evidence, course: RunCourse, arrive_by: float) -> list[Finding]:
    project, run = evidence.project, course.run
    allowed = 0.5 / project.settings.fps
    late = course.end - arrive_by
    if abs(late) <= allowed:
        return []
    fix = None
    passes = max(run.passes, 1)
    seconds = (arrive_by - course.start) / passes
    if seconds > sum(h.duration for h in run.holds) + 1e-3 and run.follows is None:
        fix = Fix(f"Set duration to {seconds:.2f} s", partial(update, item_id=run.id, duration=seconds, speed=None))
    also: tuple[Fix, ...] = ()
    if run.trigger is None and run.follows is None and run.start - late >= 0:
        also = (Fix(f"Start at {run.start - late:.2f} s", partial(update, item_id=run.id, start=run.start - late)),)
    how = "late" if late > 0 else "early"
    return [
        _finding(
            evidence,
            course,
            course.end,
            rule="late",
            severity="breach" if late > 0 else "warning",
            title=f"{run.name} arrives {how}",
            detail=f"At {course.end:.2f} s, {abs(late):.2f} s {how}; required at {arrive_by:.2f} s",
            value=abs(late),
            unit="s",
            limit=allowed,
            fix=fix or (also[0] if also else None),
            also=also if fix is not None else (),
        )
    ]


def _never(evidence: Evidence, course: RunCourse) -> list[Finding]:
    """A run that never begins, never ends though it is due, or never comes to its end."""
    project, run = evidence.project, course.run
    if not np.isfinite(course.start):
        lead = "its trigger"
        cued = run
        while cued.follows is not None:
            following = get_as(project, cued.follows.run, Run)
            cued = following
        if cued.trigger is not None:
            lead = awaited(project, cued.trigger)
        return [
            _finding(
                evidence,
                course,
                0.0,
                rule="run-never-begins",
                severity="breach",
                title=f"{run.name} never starts",
                detail=f"The moment of {lead} that triggers it never occurs",
                value=1.0,
                unit="",
                limit=0.0,
                place=point(course.path.curve.position([course.sets_out_at])[0]),
                fix=Fix("Start by time", partial(update, item_id=cued.id, trigger=None)),
            )
        ]
    if not np.isfinite(course.end) and (run.arrive_by is not None or run.mark is not None):
        return [
            _finding(
                evidence,
                course,
                course.start + course.once,
                rule="run-never-arrives",
                severity="breach",
                title=f"{run.name} never arrives",
                detail="It has no end, but has a mark or an arrival time",
                value=1.0,
                unit="",
                limit=0.0,
                fix=Fix("Make one pass", partial(update, item_id=run.id, passes=1)),
            )
        ]
    short = course.length - float(course.profile.distance([course.once])[0]) if run.follows is None else 0.0
    if isinstance(run.speed_profile, Keyed) and short > MARK and run.portion is None:
        keys = (*run.speed_profile.keys[:-1], msgspec.structs.replace(run.speed_profile.keys[-1], distance=1.0))
        return [
            _finding(
                evidence,
                course,
                course.start + course.once,
                rule="run-stops-short",
                severity="warning",
                title=f"{run.name} never arrives",
                detail=f"Its last key leaves {short:,.1f} mm of its path; {MARK:g} mm allowed",
                value=short,
                unit="mm",
                limit=MARK,
                fix=Fix("Bring the last key to the end", partial(update, item_id=run.id, speed_profile=Keyed(keys))),
            )
        ]
    return []
