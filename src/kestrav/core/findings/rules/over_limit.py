"""Speed or acceleration over the project's limits, and abrupt starts and stops."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.document.edits import update
from kestrav.core.document.records import Eased, Run
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.kinematics.motion_segments import courses_of
from kestrav.core.kinematics.runs import RunCourse, course_of

_SAMPLES = 2001


def find(evidence: Evidence) -> list[Finding]:
    """For each run of a part: one finding where it is too fast, and one where it gathers or loses speed too fast.

    A run that sets out or arrives at speed, with no run before or after it at that speed, does so at once: its
    acceleration has no bound.
    """
    project, settings = evidence.project, evidence.project.settings
    findings = []
    parts = {part.id for part in project.parts}
    for run in project.runs:
        if run.rider not in parts:
            continue
        course = course_of(project, run)
        if not np.isfinite(course.start):
            continue
        times = np.linspace(course.start, course.there_and_back, _SAMPLES)
        speeds = course.speeds(times)
        if settings.speed_limit > 0 and speeds.max() > settings.speed_limit * (1 + 1e-9):
            worst = int(np.argmax(speeds))
            slower = course.once * float(speeds.max()) / settings.speed_limit
            findings.append(
                _finding(
                    evidence,
                    course,
                    "speed-over-limit",
                    f"{run.name} is too fast",
                    f"{speeds.max():,.0f} mm/s at {times[worst]:.2f} s, {settings.speed_limit:,.0f} allowed",
                    float(times[worst]),
                    float(speeds.max()),
                    "mm/s",
                    settings.speed_limit,
                    Fix(
                        f"Set duration to {slower:.2f} s", partial(update, item_id=run.id, duration=slower, speed=None)
                    ),
                )
            )
        if settings.acceleration_limit > 0:
            findings += _accelerations(evidence, run, course, times)
    return findings


def _accelerations(evidence: Evidence, run: Run, course: RunCourse, times: np.ndarray) -> list[Finding]:
    limit = evidence.project.settings.acceleration_limit
    jump = next(iter(_jumps(evidence, course)), None)
    if jump is not None:
        moment, speed, what = jump
        return [
            _finding(
                evidence,
                course,
                "abrupt",
                f"{run.name} {what} abruptly",
                f"Its speed jumps by {speed:,.0f} mm/s at {moment:.2f} s; {limit:,.0f} mm/s² allowed",
                moment,
                speed,
                "mm/s",
                0.0,
                _softened(run, course, limit),
            )
        ]
    along = np.abs(course.accelerations(times))
    if along.max() <= limit * (1 + 1e-9):
        return []
    worst = int(np.argmax(along))
    return [
        _finding(
            evidence,
            course,
            "abrupt",
            f"{run.name} accelerates or brakes too hard",
            f"{along.max():,.0f} mm/s² at {times[worst]:.2f} s, {limit:,.0f} allowed",
            float(times[worst]),
            float(along.max()),
            "mm/s²",
            limit,
            _slowed(run, course, float(along.max()) / limit),
        )
    ]


def _jumps(evidence: Evidence, course: RunCourse) -> list[tuple[float, float, str]]:
    """When and by how much the speed jumps at the ends of a run, and what it does there."""
    tiny = 1e-6 * course.once
    others = [j for j in courses_of(evidence.project, course.run.rider) if j.run is not course.run]
    jumps = []
    moments = [(course.start, tiny, "starts")]
    if np.isfinite(course.end):
        moments.append((course.end, course.duration - tiny, "stops"))
    for moment, own, what in moments:
        speed = abs(float(course.profile.speed([own])[0]))
        # one that hands over at this moment may have the same speed
        beside = [
            abs(float(j.profile.speed([t])[0]))
            for j in others
            for at, t in ((j.start, tiny), (j.end, j.duration - tiny))
            if abs(at - moment) < 1e-3
        ]
        jump = abs(speed - (beside[0] if beside else 0.0))
        if jump > evidence.project.settings.kink_step:
            jumps.append((moment, jump, what))
    return jumps


def _softened(run: Run, course: RunCourse, limit: float) -> Fix:
    """A soft start and stop that keep to the limit: the ramp's greatest acceleration is pi / 2 of its mean one."""
    ramp = 0.5 * np.pi * course.greatest_speed / limit
    # the ramps make the steady speed higher where the duration stays
    seconds = course.once + ramp
    speed_profile = Eased(start_time=float(ramp), stop_time=float(ramp))
    return Fix(
        f"Soft start and stop, {ramp:.2f} s each",
        partial(update, item_id=run.id, speed_profile=speed_profile, duration=float(seconds), speed=None),
    )


def _slowed(run: Run, course: RunCourse, over: float) -> Fix:
    """The same run in a time in which its accelerations keep to the limit: they go with the square of time."""
    seconds = course.once * float(np.sqrt(over)) * (1 + 1e-6)
    speed_profile = run.speed_profile
    if isinstance(speed_profile, Eased) and (
        speed_profile.start_time is not None or speed_profile.stop_time is not None
    ):
        stretch = seconds / course.once
        speed_profile = Eased(
            speed_profile.start_length,
            speed_profile.stop_length,
            None if speed_profile.start_time is None else speed_profile.start_time * stretch,
            None if speed_profile.stop_time is None else speed_profile.stop_time * stretch,
        )
    return Fix(
        f"Set duration to {seconds:.2f} s",
        partial(update, item_id=run.id, duration=seconds, speed=None, speed_profile=speed_profile),
    )


def _finding(
    evidence: Evidence,
    course: RunCourse,
    rule: str,
    title: str,
    detail: str,
    time: float,
    value: float,
    unit: str,
    limit: float,
    fix: Fix,
) -> Finding:
    frame = evidence.frame(time)
    return Finding(
        rule=rule,
        severity="warning",
        subject=(course.run.id,),
        title=title,
        detail=detail,
        time=time,
        value=value,
        unit=unit,
        limit=limit,
        intervals=((frame, frame),),
        place=point(course.path.curve.position(course.stations([time]))[0]),
        fix=fix,
    )
