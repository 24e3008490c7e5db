"""What moves a thing one after another: runs, key poses and attachments that overlap, or do not join."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from functools import partial
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import get, get_as, new_id, new_name
from kestrav.core.document.records import Attachment, Eased, Even, Path, PathPoint, PointShape, PoseTrack, Project, Run
from kestrav.core.editing.joining import bring_start
from kestrav.core.editing.timing import moved, set_span
from kestrav.core.findings.model import Evidence, Finding, Fix, at_moment, point
from kestrav.core.geometry.transforms import rotation_angle
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import MotionSegment, movers, segments_of
from kestrav.core.parts.rest import rest_and_pivot

Array = NDArray[np.float64]
_TINY = 1e-4  # s about a hand-over between which speeds are taken

GAP = 0.1  # mm
ANGLE = 1.0  # degrees
_AT_ONCE = 1e-3  # s between two that hand over without a wait
_BLEND = 0.5  # s
_SLOWEST = 200.0  # mm/s at which a joining path is travelled at least


def find(evidence: Evidence) -> list[Finding]:
    """For each pair in a row of what moves a thing: an overlap, or jumps of place, heading and speed."""
    project = evidence.project
    findings: list[Finding] = []
    for thing in sorted(movers(project)):
        segments = [segment for segment in segments_of(project, thing) if np.isfinite(segment.start)]
        for k, (one, two) in enumerate(itertools.pairwise(segments)):
            # what goes on without end does so until the next one takes over
            if np.isfinite(one.end) and one.end > two.start + 1e-6:
                findings.append(_overlap(evidence, thing, one, two))
            else:
                findings += _jumps(evidence, thing, segments[: k + 2])
        findings += [
            f
            for k, segment in enumerate(segments)
            if isinstance(segment.item, Attachment)
            for f in _let_go(evidence, thing, segments, k)
        ]
    return findings


def _finding(
    evidence: Evidence, thing: str, one: MotionSegment, two: MotionSegment, place: Array, **fields: Any
) -> Finding:
    return at_moment(evidence, (two.item.id, one.item.id, thing), two.start, place, **fields)


def _overlap(evidence: Evidence, thing: str, one: MotionSegment, two: MotionSegment) -> Finding:
    project = evidence.project
    both = min(one.end, two.end) - two.start
    place = Motion(project).poses(thing, [two.start])[0, :3, 3]
    later = partial(_begin_at, item_id=two.item.id, time=one.end)
    fixes = [Fix(f"Start {two.item.name} at {one.end:.2f} s", later)]
    if two.start - one.start > 0.1:
        fixes.append(
            Fix(f"End {one.item.name} at {two.start:.2f} s", partial(set_span, item_id=one.item.id, end=two.start))
        )
    return _finding(
        evidence,
        thing,
        one,
        two,
        place,
        rule="overlap",
        severity="breach",
        title=f"{one.item.name} and {two.item.name} overlap",
        detail=f"Both move {get(project, thing).name} for {both:.2f} s from {two.start:.2f} s on; only one motion at a time can",
        value=both,
        unit="s",
        limit=0.0,
        fix=fixes[0],
        also=tuple(fixes[1:]),
    )


def _begin_at(project: Project, item_id: str, time: float) -> Project:
    """The project with something that begins at a time, whatever it waited for."""
    item = get(project, item_id)
    assert isinstance(item, Run | PoseTrack | Attachment)
    fields: dict[str, object] = {"trigger": None, "start": time}
    if isinstance(item, Attachment) and item.end is not None:
        fields["end"] = max(item.end, time + 0.1)
    if isinstance(item, Run):
        fields["follows"] = None
    return update(project, item_id, **fields)


def _jumps(evidence: Evidence, thing: str, segments: list[MotionSegment]) -> Iterator[Finding]:
    project, settings = evidence.project, evidence.project.settings
    one, two = segments[-2], segments[-1]
    motion, pivot = Motion(project), rest_and_pivot(project, thing)[1]
    moment = np.array([two.start])
    before, after = (motion.by_segments(thing, led, moment)[0] @ pivot for led in (segments[:-1], segments))
    gap = float(np.linalg.norm(after[:3, 3] - before[:3, 3]))
    name = get(project, thing).name
    pair = f"{one.item.name} and {two.item.name}"
    if gap > GAP and not _told_by_joint(project, thing, one, two):
        fixes = [m for m in place_fixes(project, thing, one, two, before[:3, 3]) if m is not None]
        yield _finding(
            evidence,
            thing,
            one,
            two,
            after[:3, 3],
            rule="jump",
            severity="breach",
            title=f"{name} jumps",
            detail=f"{gap:,.1f} mm at {two.start:.2f} s, between {pair}; {GAP:g} mm allowed",
            value=gap,
            unit="mm",
            limit=GAP,
            gap=(point(before[:3, 3]), point(after[:3, 3])),
            fix=fixes[0] if fixes else None,
            also=tuple(fixes[1:]),
        )
    elif gap <= GAP:
        angle = float(np.degrees(rotation_angle(before[None, :3, :3], after[None, :3, :3])[0]))
        if angle > ANGLE and not isinstance(two.item, Attachment):
            yield _finding(
                evidence,
                thing,
                one,
                two,
                after[:3, 3],
                rule="orientation-jump",
                severity="warning",
                title=f"{name} changes orientation at once",
                detail=f"{angle:.1f}° at {two.start:.2f} s, between {pair}; {ANGLE:g}° allowed",
                value=angle,
                unit="°",
                limit=ANGLE,
                fix=blend_fix(two),
            )
    speeds = [_speed(one, ends=True), _speed(two, ends=False)]
    at_once = not np.isfinite(one.end) or two.start - one.end < _AT_ONCE
    change = abs(speeds[0] - speeds[1])
    if at_once and min(speeds) > settings.kink_step and change > settings.kink_step:
        fix = _same_speed(two, speeds[0])
        yield _finding(
            evidence,
            thing,
            one,
            two,
            after[:3, 3],
            rule="speed-jump",
            severity="warning",
            title=f"{name} changes speed at once",
            detail=f"From {speeds[0]:,.0f} to {speeds[1]:,.0f} mm/s at {two.start:.2f} s; {settings.kink_step:g} mm/s allowed",
            value=change,
            unit="mm/s",
            limit=settings.kink_step,
            fix=fix,
            also=(Fix("Stop and start softly", partial(_softly, one=one.item.id, two=two.item.id)),),
        )


def _let_go(evidence: Evidence, thing: str, segments: list[MotionSegment], k: int) -> Iterator[Finding]:
    """An attachment that begins or ends while its carrier moves on: the rider is snatched up, or stops at once."""
    project, segment, limit = evidence.project, segments[k], evidence.project.settings.kink_step
    assert isinstance(segment.item, Attachment)
    motion, name = Motion(project), get(project, thing).name
    follows = k + 1 < len(segments) and segments[k + 1].start - segment.end < _AT_ONCE
    for time, ends in ((segment.start, False), (segment.end, True)):
        if not np.isfinite(time) or (ends and follows):
            continue
        around = time + _TINY * np.array([-2.0, -1.0, 1.0, 2.0])
        places = motion.by_segments(thing, segments, around)[:, :3, 3]
        change = float(np.linalg.norm((places[3] - places[2]) - (places[1] - places[0]))) / _TINY
        if change <= limit or time < _TINY:
            continue
        still = _stands(motion, segment.item, time)
        fix = None
        if still is not None:
            field = {"end": still} if ends else {"start": still, "trigger": None}
            if ends or segment.item.end is None or still < segment.item.end:
                verb = "End" if ends else "Start"
                fix = Fix(
                    f"{verb} the attachment at {still:.2f} s, when it stands",
                    partial(update, item_id=segment.item.id, **field),
                )
        yield at_moment(
            evidence,
            (segment.item.id, thing),
            float(time),
            places[1],
            rule="released-in-motion" if ends else "attached-in-motion",
            severity="warning",
            title=f"{name} {'stops at once' if ends else 'is snatched up'}",
            detail=f"{change:,.0f} mm/s at {time:.2f} s, as {segment.item.name} {'ends' if ends else 'begins'} while "
            f"{get(project, segment.item.carrier).name} moves; {limit:g} mm/s allowed",
            value=change,
            unit="mm/s",
            limit=limit,
            fix=fix,
        )


def _stands(motion: Motion, attachment: Attachment, time: float) -> float | None:
    """The first time from another on at which a carrier stands; None if it goes on to the end."""
    grid = motion.grid
    places = motion.poses(attachment.carrier, grid)[:, :3, 3]
    moving = np.linalg.norm(np.diff(places, axis=0), axis=1) > 1e-6
    after = np.flatnonzero((grid[:-1] >= time) & ~moving)
    return float(np.ceil(grid[after[0]] * 1000) / 1000) if len(after) else None


def _told_by_joint(project: Project, thing: str, one: MotionSegment, two: MotionSegment) -> bool:
    """Whether the rule of joints says the same of the paths of two runs."""
    if one.course is None or two.course is None or two.course.run.rider != thing or one.course.run.rider != thing:
        return False
    end = one.course.path.curve.position([one.course.arrives_at])[0]
    return float(np.linalg.norm(two.course.path.curve.position([two.course.sets_out_at])[0] - end)) > GAP


def blend_fix(two: MotionSegment) -> Fix | None:
    """Bringing a thing over from where it was, softly."""
    if isinstance(two.item, Attachment):
        return None
    span = _BLEND if not np.isfinite(two.end) else min(_BLEND, max(0.5 * (two.end - two.start), 0.1))
    return Fix(f"Blend over {span:.2f} s", partial(update, item_id=two.item.id, blend=span))


def place_fixes(
    project: Project, thing: str, one: MotionSegment, two: MotionSegment, before: Array
) -> list[Fix | None]:
    """Fixes of a jump of place: the later start brought there, the two joined by a path, or blended."""
    fixes: list[Fix | None] = []
    if two.course is not None and two.course.run.rider == thing:
        path = get(project, two.course.run.path)
        others = [r for r in project.runs if r.path == path.id and r.id != two.item.id]
        if not others:
            fixes.append(
                Fix(
                    f"Move the start of {path.name} there",
                    partial(_start_there, run_id=two.item.id, place=point(before)),
                )
            )
    elif isinstance(two.item, PoseTrack):
        fixes.append(
            Fix("Move the first pose there", partial(_first_pose_there, poses_id=two.item.id, place=point(before)))
        )
    if not isinstance(two.item, Attachment):
        fixes.append(Fix("Join them by a path", partial(joined_by_path, thing=thing, one=one.item.id, two=two.item.id)))
    fixes.append(blend_fix(two))
    return fixes


def _start_there(project: Project, run_id: str, place: tuple[float, float, float]) -> Project:
    """The project with a run's path shifted, or its first point put, so that the rider's pivot sets out at a place."""
    run = get_as(project, run_id, Run)
    pivot = rest_and_pivot(project, run.rider)[1]
    for _ in range(6):
        # moving the start can turn the rider, and so its pivot, if that is not what sits on the path
        segments = [segment for segment in segments_of(project, run.rider) if segment.item.id == run_id]
        course = segments[0].course
        assert course is not None
        here = (Motion(project).by_segments(run.rider, segments, np.array([segments[0].start]))[0] @ pivot)[:3, 3]
        step = np.array(place) - here
        if np.linalg.norm(step) < 1e-6:
            break
        station = course.sets_out_at
        there = course.path.curve.position([station])[0] + step
        project = bring_start(project, run.path, point(there), station)
    return project


def _first_pose_there(project: Project, poses_id: str, place: tuple[float, float, float]) -> Project:
    poses = get_as(project, poses_id, PoseTrack)
    first = poses.keys[0]
    moved_key = msgspec.structs.replace(first, placement=msgspec.structs.replace(first.placement, position=place))
    return update(project, poses_id, keys=(moved_key, *poses.keys[1:]))


def joined_by_path(project: Project, thing: str, one: str, two: str) -> Project:
    """The project with a straight path and a run on it from where a thing is after one to where it must be for another.

    The time between the two is used; what is missing is gained by moving the second one, and all after it, later.
    """
    segments = [segment for segment in segments_of(project, thing) if np.isfinite(segment.start)]
    k = next(i for i, segment in enumerate(segments) if segment.item.id == two)
    motion, pivot = Motion(project), rest_and_pivot(project, thing)[1]
    moment = np.array([segments[k].start])
    before = (motion.by_segments(thing, segments[:k], moment)[0] @ pivot)[:3, 3]
    after = (motion.by_segments(thing, segments[: k + 1], moment)[0] @ pivot)[:3, 3]
    gap = float(np.linalg.norm(after - before))
    speed = max([_SLOWEST, *(segment.course.greatest_speed for segment in segments if segment.course is not None)])
    needed = 2.0 * gap / speed
    end = segments[k - 1].end if np.isfinite(segments[k - 1].end) else segments[k].start
    free = segments[k].start - end
    seconds = free if free >= needed else needed
    if free < needed:
        project = moved(project, [segment.item.id for segment in segments[k:]], needed - free)
    first, second = get(project, one), get(project, two)
    path = Path(
        new_id(project, Path),
        new_name(project, Path, f"Between {first.name} and {second.name}"),
        PointShape((PathPoint(point(before), "corner"), PathPoint(point(after), "corner"))),
    )
    project = add(project, path)
    name = new_name(project, Run, f"To {second.name}")
    ramp = 0.25 * gap
    run = Run(
        new_id(project, Run),
        name,
        thing,
        path.id,
        start=end,
        duration=seconds,
        speed_profile=Eased(ramp, ramp),
        blend=0.3 * seconds,
    )
    project = add(project, run)
    # the later one takes over softly too, as the thing may be turned otherwise there
    item = get(project, two)
    assert isinstance(item, Run | PoseTrack)
    return update(project, two, blend=max(item.blend, min(_BLEND, 0.3 * seconds)))


def _speed(segment: MotionSegment, *, ends: bool) -> float:
    """How fast a run sets out or arrives, in mm/s; others do so at rest."""
    if segment.course is None or (ends and not np.isfinite(segment.end)):
        return 0.0
    tiny = 1e-6 * segment.course.once
    at = segment.course.duration - tiny if ends else tiny
    return abs(float(segment.course.profile.speed([at])[0]))


def _same_speed(two: MotionSegment, speed: float) -> Fix | None:
    """Setting out at the speed of the one before, where it is that fast all along."""
    if two.course is None or not isinstance(two.course.run.speed_profile, Even) or two.course.run.follows is not None:
        return None
    return Fix(f"Go on at {speed:,.0f} mm/s", partial(update, item_id=two.item.id, speed=speed, duration=None))


def _softly(project: Project, one: str, two: str) -> Project:
    """The project with one run stopping and the next setting out softly, over a tenth of their ways."""
    for item_id, stops in ((one, True), (two, False)):
        run = get(project, item_id)
        if not isinstance(run, Run):
            continue
        old = run.speed_profile if isinstance(run.speed_profile, Eased) else Eased(0.0, 0.0)
        segment = next(segment for segment in segments_of(project, run.rider) if segment.item.id == item_id)
        assert segment.course is not None
        ramp = 0.1 * segment.course.length
        field = {"stop_length": ramp, "stop_time": None} if stops else {"start_length": ramp, "start_time": None}
        project = update(project, item_id, speed_profile=msgspec.structs.replace(old, **field))
    return project
