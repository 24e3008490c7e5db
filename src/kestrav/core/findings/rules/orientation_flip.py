"""Orientation flip: a rider turns by more between two frames than any steady motion would."""

from __future__ import annotations

from functools import partial

import msgspec
import numpy as np

from kestrav.core.clearance.sweep import intervals_of
from kestrav.core.document.edits import update
from kestrav.core.document.records import AlongOrientation, FixedOrientation
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Evidence, Finding, Fix, name_of, point
from kestrav.core.findings.rules.kink_in_path import kink_fixes
from kestrav.core.geometry.transforms import rotation_angle
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import active, movers, segments_of
from kestrav.core.kinematics.poses import riders
from kestrav.core.kinematics.runs import frame_times


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each rider, at its largest turn between frames."""
    project, times, limit = evidence.project, evidence.times, evidence.project.settings.flip_angle
    row = {part.id: i for i, part in enumerate(project.parts)}
    # what turns about an axle of its own does so on purpose, as fast as it must
    moved = movers(project)
    findings: list[Finding] = []
    if len(times) < 2:
        return findings
    for rider in [r for r in riders(project) if r in moved]:
        poses = evidence.poses[:, row[rider]]
        angle = np.degrees(rotation_angle(poses[:-1, :3, :3], poses[1:, :3, :3]))
        # turns at once where one run hands over to another are told as such
        handed = [segment.start for segment in segments_of(project, rider)[1:]]
        for start in handed:
            angle[(times[:-1] <= start + 1e-9) & (times[1:] >= start - 1e-9)] = 0.0
        flips = np.flatnonzero(angle > limit)
        if not len(flips):
            continue
        worst = int(np.argmax(angle))
        fixes = _fixes(evidence, rider, float(times[worst]), float(times[worst + 1]))
        findings.append(
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
                fix=fixes[0] if fixes else None,
                also=tuple(fixes[1:]),
            )
        )
    return findings


def _fixes(evidence: Evidence, rider: str, before: float, after: float) -> list[Fix]:
    """Ways in which the rider does not flip between two times: those of a list that are found to help."""
    project = evidence.project
    segments = segments_of(project, rider)
    course = segments[int(active(segments, [after])[0])].course if segments else None
    if course is None or course.run.rider != rider:
        return []
    run, orientation = course.run, course.run.orientation
    wanted: list[Fix] = []
    if isinstance(orientation, AlongOrientation) and orientation.stance != "free":
        free = msgspec.structs.replace(orientation, stance="free")
        wanted.append(Fix("Use least rotation", partial(update, item_id=run.id, orientation=free)))
    stations = course.stations([before, after])
    low, high = float(stations.min()) - 1e-6, float(stations.max()) + 1e-6
    kinks = course.path.curve.kink_stations
    for kink in kinks[(kinks >= low) & (kinks <= high)].tolist():
        wanted += kink_fixes(project, run.path, kink)
    slower = _SLOWER * course.once
    wanted.append(Fix(f"Set duration to {slower:.2f} s", partial(update, item_id=run.id, duration=slower, speed=None)))
    wanted.append(Fix("Keep its rotation at rest", partial(update, item_id=run.id, orientation=FixedOrientation())))
    return [fix for fix in wanted if not _flips(evidence, fix, rider)]


_SLOWER = 2.0


def _flips(evidence: Evidence, fix: Fix, rider: str) -> bool:
    """Whether a rider still flips with a fix made."""
    try:
        fixed = evidence.renewed(fix.edit(evidence.project))
        times = frame_times(fixed)
        poses = Motion(fixed).poses(rider, times)
    except BadInput:
        return True
    angle = np.degrees(rotation_angle(poses[:-1, :3, :3], poses[1:, :3, :3]))
    return bool((angle > evidence.project.settings.flip_angle).any())
