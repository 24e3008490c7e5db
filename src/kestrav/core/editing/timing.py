"""Edits in time: stretching, moving, reversing and snapping what moves, and splitting runs. Times in s."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import msgspec
import numpy as np

from kestrav.core.document.lookup import get, get_as, new_name
from kestrav.core.document.records import (
    Attachment,
    Camera,
    Eased,
    FreeAim,
    Keyed,
    KeyPose,
    Light,
    Limited,
    PoseTrack,
    Project,
    Run,
    Shot,
    SpeedProfile,
    TimedRotation,
    Trigger,
)
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.motion_segments import segment_of
from kestrav.core.kinematics.runs import begins, course_of, span

Timed = Run | PoseTrack | Attachment | TimedRotation | Shot | Light | Camera
_FIELDS = ("runs", "pose_tracks", "attachments", "rotations", "shots", "lights", "cameras")


def timed_ids(project: Project, ids: Iterable[str] | None = None) -> list[str]:
    """Ids of what has a time of its own: all of it, or what is among these and what moves the things among these."""
    wanted = None if ids is None else set(ids)
    timed_ids = []
    for field in _FIELDS:
        for item in getattr(project, field):
            timeless = isinstance(item, Light | Camera) and not key_times(item)
            if not timeless and (wanted is None or item.id in wanted or _about(item) in wanted):
                timed_ids.append(item.id)
    return timed_ids


def _about(item: Timed) -> str:
    """What something moves or turns."""
    return item.part if isinstance(item, TimedRotation) else getattr(item, "rider", "")


def span_of(project: Project, item: Timed) -> tuple[float, float]:
    """When something begins and ends, in s."""
    if isinstance(item, Shot):
        return item.start, item.end
    if isinstance(item, Light | Camera):
        times = key_times(item)
        return (min(times), max(times)) if times else (0.0, 0.0)
    if isinstance(item, TimedRotation):
        begun = begins(project, item)
        return begun, begun + (item.end - item.start) if item.end is not None else max(span(project), item.start)
    segment = segment_of(project, item)
    end = segment.end if segment.course is None else segment.course.shown_end
    if not np.isfinite(end):
        end = span(project)
    return segment.start, max(end, segment.start)


def key_times(item: Light | Camera) -> list[float]:
    """The times in s of a light's keys, or of a camera's keys and of what is faint to it."""
    if isinstance(item, Light):
        return [k.time for k in item.keys]
    aim = item.aim.keys if isinstance(item.aim, FreeAim) else ()
    return [*(k.time for k in aim), *(k.time for k in item.roll), *(t for f in item.fades for t in (f.start, f.end))]


def _with_times(item: Light | Camera, moment: Callable[[float], float]) -> Light | Camera:
    """A light or camera whose keys are at other times, in their order."""

    def moved_keys(keys: Iterable[Any]) -> tuple[Any, ...]:
        # of keys that come to lie at one time the last one counts
        by_moment = {moment(k.time): k for k in keys}
        return tuple(msgspec.structs.replace(by_moment[time], time=time) for time in sorted(by_moment))

    if isinstance(item, Light):
        return msgspec.structs.replace(item, keys=moved_keys(item.keys))
    fades = []
    for fade in item.fades:
        start, end = sorted((moment(fade.start), moment(fade.end)))
        if start == end:
            continue
        fades.append(msgspec.structs.replace(fade, start=start, end=end))
    aim = item.aim
    if isinstance(aim, FreeAim):
        aim = msgspec.structs.replace(aim, keys=moved_keys(aim.keys))
    return msgspec.structs.replace(item, roll=moved_keys(item.roll), fades=tuple(fades), aim=aim)


def _changed(project: Project, ids: Iterable[str], change: Any) -> Project:
    """The project with what has a time of its own among these changed."""
    wanted = set(ids)
    fields = {}
    for field in _FIELDS:
        old = getattr(project, field)
        fields[field] = tuple(change(item) if item.id in wanted else item for item in old)
    return validate(msgspec.structs.replace(project, **fields))


def stretched(project: Project, ids: Iterable[str], factor: float, about: float | None = None) -> Project:
    """The project with runs, key poses, attachments, shots and keyed lights told so many times as slowly.

    Their shape stays; times are counted from ``about``, or from where the first of them begins. Raises BadInput unless
    the factor is above 0.
    """
    if not factor > 0 or not np.isfinite(factor):
        raise BadInput(f"a stretch of {factor:g} is not possible; give a factor above 0")
    ids = list(ids)
    if not ids:
        raise BadInput("nothing that is selected has a time that could be stretched")
    centre = min(_first(project, ids)) if about is None else about

    def moment(time: float) -> float:
        return max(centre + factor * (time - centre), 0.0)

    def change(item: Timed) -> Timed:
        replace = msgspec.structs.replace
        if isinstance(item, Shot):
            return replace(item, start=moment(item.start), end=moment(item.end))
        if isinstance(item, Light | Camera):
            return _with_times(item, moment)
        trigger = None if item.trigger is None else replace(item.trigger, delay=item.trigger.delay * factor)
        if isinstance(item, PoseTrack):
            keys = tuple(replace(k, time=k.time * factor) for k in item.keys)
            return replace(item, start=moment(item.start), trigger=trigger, keys=keys, blend=item.blend * factor)
        if isinstance(item, Attachment):
            end = None if item.end is None else moment(item.end)
            return replace(item, start=moment(item.start), end=end, trigger=trigger, lowering=item.lowering * factor)
        if isinstance(item, TimedRotation):
            begun = moment(item.start)
            end = None if item.end is None else begun + factor * (item.end - item.start)
            rpm = None if item.rpm is None else item.rpm / factor
            ramps = {"ramp_in": item.ramp_in * factor, "ramp_out": item.ramp_out * factor}
            return replace(item, start=begun, end=end, trigger=trigger, rpm=rpm, **ramps)
        arrive_by = None if item.arrive_by is None else moment(item.arrive_by)
        return replace(
            item, start=moment(item.start), trigger=trigger, arrive_by=arrive_by, **_slower(project, item, factor)
        )

    return _changed(project, ids, change)


def _first(project: Project, ids: Iterable[str]) -> list[float]:
    starts = [span_of(project, get(project, i))[0] for i in ids]  # type: ignore[arg-type]
    return [s for s in starts if np.isfinite(s)] or [0.0]


def _slower(project: Project, run: Run, factor: float) -> dict[str, Any]:
    """The fields of a run told so many times as slowly, whatever its speed profile is measured by."""
    replace = msgspec.structs.replace
    fields: dict[str, Any] = {"holds": tuple(replace(h, duration=h.duration * factor) for h in run.holds)}
    fields["blend"] = run.blend * factor
    fields["roughness"] = tuple(
        r if r.frequency is None else replace(r, frequency=r.frequency / factor) for r in run.roughness
    )
    if run.follows is not None:
        return fields
    fields |= {"duration": course_of(project, run).once * factor, "speed": None}
    speed_profile = run.speed_profile
    if isinstance(speed_profile, Eased):
        fields["speed_profile"] = replace(
            speed_profile,
            start_time=None if speed_profile.start_time is None else speed_profile.start_time * factor,
            stop_time=None if speed_profile.stop_time is None else speed_profile.stop_time * factor,
        )
    elif isinstance(speed_profile, Limited) and run.speed is not None:
        fields["speed_profile"] = replace(speed_profile, top=min(run.speed, speed_profile.top or run.speed))
    elif run.speed is not None:
        fields |= {"duration": None, "speed": run.speed / factor}
        if run.holds:
            fields |= {"duration": course_of(project, run).once * factor, "speed": None}
    return fields


def fitted(project: Project, ids: Iterable[str], seconds: float) -> Project:
    """The project with things stretched so that from the first begin to the last end it takes so many s."""
    ids = list(ids)
    spans = [span_of(project, get(project, i)) for i in ids]  # type: ignore[arg-type]
    spans = [s for s in spans if np.isfinite(s[0])]
    if not spans or max(s[1] for s in spans) <= min(s[0] for s in spans):
        raise BadInput("what is selected takes no time that could be stretched")
    return stretched(project, ids, seconds / (max(s[1] for s in spans) - min(s[0] for s in spans)))


def moved(project: Project, ids: Iterable[str], by: float) -> Project:
    """The project with things so much later (negative: earlier), all by the same; none begins before 0."""
    ids = list(ids)
    by = max(by, -min(_own_start(get(project, i)) for i in ids)) if ids else by  # type: ignore[arg-type]

    def change(item: Timed) -> Timed:
        replace = msgspec.structs.replace
        if isinstance(item, Light | Camera):
            return _with_times(item, lambda time: time + by)
        fields = {"start": item.start + by}
        if isinstance(item, (Shot, Attachment, TimedRotation)) and item.end is not None:
            fields["end"] = item.end + by
        return replace(item, **fields)

    return _changed(project, ids, change)


def _own_start(item: Timed) -> float:
    return min(key_times(item)) if isinstance(item, Light | Camera) else item.start


def reversed_in_time(project: Project, ids: Iterable[str]) -> Project:
    """The project with runs, key poses, rotations, keyed lights and cameras as a film of them played backwards would show them, in the same
    span of time. Rides are left out: what is carried goes where its carrier goes."""
    ids = [i for i in ids if isinstance(get(project, i), (Run, PoseTrack, TimedRotation, Light, Camera))]
    if not ids:
        raise BadInput("nothing that is selected can be reversed in time; choose runs, key poses or rotations")
    spans = {i: span_of(project, get(project, i)) for i in ids}  # type: ignore[arg-type]
    low, high = min(s[0] for s in spans.values()), max(s[1] for s in spans.values())

    def change(item: Timed) -> Timed:
        replace = msgspec.structs.replace
        start = low + high - spans[item.id][1]
        if isinstance(item, PoseTrack):
            end = item.keys[-1].time
            keys = [KeyPose(end - k.time, k.placement, k.handle_out, k.handle_in) for k in reversed(item.keys)]
            return replace(item, start=start, trigger=None, keys=tuple(keys))
        if isinstance(item, Light | Camera):
            return _with_times(item, lambda time: low + high - time)
        if isinstance(item, TimedRotation):
            fields_: dict[str, Any] = {"turns": None if item.turns is None else -item.turns}
            fields_ |= {"rpm": None if item.rpm is None else -item.rpm, "trigger": None}
            if item.end is not None:
                fields_ |= {"start": start, "end": start + item.end - item.start}
            return replace(item, ramp_in=item.ramp_out, ramp_out=item.ramp_in, **fields_)
        assert isinstance(item, Run)
        if item.follows is not None:
            raise BadInput(f"“{item.name}” follows another run; reverse that one instead")
        if item.blend > 0:
            raise BadInput(
                f"“{item.name}” is brought over from before over {item.blend:g} s; set that to 0 to reverse it"
            )
        if item.passes == 0:
            raise BadInput(f"“{item.name}” goes without end; give it a number of passes to reverse it")
        fields: dict[str, Any] = {"start": start, "trigger": None, "before": "waits", "blend": 0.0}
        if item.before == "rests" or item.after == "rests":
            fields |= {"before": _SWAPPED[item.after], "after": "rests" if item.before == "rests" else "stays"}
        if _simple(item):
            return replace(item, speed_profile=_mirrored(item.speed_profile), backwards=not item.backwards, **fields)
        first, last = item.portion or (0.0, 1.0)
        return replace(item, portion=(last, first) if (last, first) != (0.0, 1.0) else None, **fields)

    return _changed(project, ids, change)


_SWAPPED: dict[str, str] = {"stays": "waits", "rests": "rests"}


def _simple(run: Run) -> bool:
    """Whether a run told backward is one that goes once the other way, whose numbers stay plain."""
    timed = any(rough.frequency is not None for rough in run.roughness)
    return (
        run.passes == 1
        and run.portion is None
        and not run.holds
        and not timed
        and not isinstance(run.speed_profile, Limited)
    )


def _mirrored(speed_profile: SpeedProfile) -> SpeedProfile:
    """A speed profile told from its end to its beginning."""
    if isinstance(speed_profile, Eased):
        return Eased(
            speed_profile.stop_length, speed_profile.start_length, speed_profile.stop_time, speed_profile.start_time
        )
    if isinstance(speed_profile, Keyed):
        keys = [
            msgspec.structs.replace(k, time=1.0 - k.time, distance=1.0 - k.distance)
            for k in reversed(speed_profile.keys)
        ]
        return Keyed(tuple(keys))
    return speed_profile


def snap_times(project: Project, leaving: Iterable[str] = (), extra: Iterable[float] = ()) -> np.ndarray:
    """Times (n,) in s at which something else begins or ends, sorted; what is named is left out."""
    out, times = set(leaving), [0.0, *extra]
    for field in _FIELDS:
        for item in getattr(project, field):
            if item.id not in out and not (isinstance(item, Light | Camera) and not key_times(item)):
                times += span_of(project, item)
    return np.unique([t for t in times if np.isfinite(t)])


def snapped(time: float, fps: float) -> float:
    """A time on the nearest frame."""
    return round(time * fps) / fps


def set_span(project: Project, item_id: str, start: float | None = None, end: float | None = None) -> Project:
    """The project with one thing beginning or ending at another time, the other of both staying: it is stretched.

    Raises BadInput when nothing would be left of it.
    """
    item = get(project, item_id)
    assert isinstance(item, Timed)
    old = span_of(project, item)
    new = (old[0] if start is None else max(start, 0.0), old[1] if end is None else end)
    if new[1] - new[0] < 1e-3:
        raise BadInput(f"“{item.name}” cannot end before it begins")
    if isinstance(item, (Shot, Attachment)):
        fields: dict[str, Any] = {"start": new[0]}
        if isinstance(item, Shot) or end is not None or item.end is not None:
            fields["end"] = new[1]
        return _changed(project, [item_id], lambda i: msgspec.structs.replace(i, **fields))
    if isinstance(item, TimedRotation) and item.end is None and end is None:
        return moved(project, [item_id], new[0] - old[0])
    factor = (new[1] - new[0]) / max(old[1] - old[0], 1e-9)
    project = stretched(project, [item_id], factor, about=old[0])
    return project if isinstance(item, Light | Camera) or start is None else moved(project, [item_id], new[0] - old[0])


def split_run(project: Project, run_id: str, time: float) -> Project:
    """The project with a run split at a time into two that follow each other on the same path, going as before.

    Raises BadInput for one that goes without end or follows another, that is still being brought over from before, or outside its time.
    """
    run = get_as(project, run_id, Run)
    course = course_of(project, run)
    if run.passes == 0 or run.follows is not None:
        raise BadInput(f"“{run.name}” goes without end or follows another run; such a run cannot be split")
    since = time - course.start
    if 0 < since < run.blend:
        raise BadInput(
            f"“{run.name}” is still brought over from before at {time:.2f} s; split it after {run.blend:g} s of it"
        )
    if not 1e-3 < since < course.duration - 1e-3:
        raise BadInput(f"“{run.name}” cannot be split at {time:.2f} s; choose a time while it moves")
    ids = {item.id for field in _FIELDS for item in getattr(project, field)}
    name = next(f"{run.id}-{k}" for k in range(2, 1000) if f"{run.id}-{k}" not in ids)
    replace = msgspec.structs.replace
    # both go on being the same run, of which each makes its portion: so they move exactly as it did
    first, last = run.portion or (0.0, 1.0)
    share = first + (last - first) * since / course.duration
    one = replace(run, portion=(first, share), mark=None, arrive_by=None)
    trigger = None if run.trigger is None else Trigger(run.id, at="arrival")
    two = replace(
        run,
        id=name,
        name=new_name(project, Run, f"{run.name}, second part"),
        start=time,
        trigger=trigger,
        blend=0.0,
        portion=(share, last),
        before="waits",
    )
    runs = [r for old in project.runs for r in ((one, two) if old.id == run_id else (old,))]
    return validate(msgspec.structs.replace(project, runs=tuple(runs)))


def dead_spans(project: Project, least: float) -> list[tuple[float, float]]:
    """Spans of the project in s, longer than a least one, in which nothing moves or changes, no camera either."""
    busy = []
    busy += [span_of(project, run) for run in project.runs]
    busy += [span_of(project, poses) for poses in project.pose_tracks]
    busy += [span_of(project, rotation) for rotation in project.rotations]
    keyed: tuple[Light | Camera, ...] = (*project.lights, *project.cameras)
    busy += [span_of(project, item) for item in keyed if key_times(item)]
    busy = sorted(s for s in busy if np.isfinite(s[0]))
    dead_spans, reached = [], 0.0
    for start, end in busy:
        if start - reached > least:
            dead_spans.append((reached, start))
        reached = max(reached, end)
    whole = span(project)
    if busy and whole - reached > least:
        dead_spans.append((reached, whole))
    return dead_spans


def without_span(project: Project, first: float, last: float) -> Project:
    """The project with a span of time in which nothing moves taken out: what comes later comes earlier, shots across it are
    shorter."""
    gap = last - first

    def earlier(time: float) -> float:
        return time if time <= first else first if time < last else time - gap

    def change(item: Timed) -> Timed:
        replace = msgspec.structs.replace
        if isinstance(item, Light | Camera):
            return _with_times(item, earlier)
        fields: dict[str, Any] = {"start": earlier(item.start)}
        if isinstance(item, TimedRotation) and item.end is not None:
            fields["end"] = fields["start"] + item.end - item.start
        elif isinstance(item, (Shot, Attachment)) and item.end is not None:
            fields["end"] = earlier(item.end)
        return replace(item, **fields)

    shots = [s.id for s in project.shots if earlier(s.end) - earlier(s.start) < 1e-3]
    project = msgspec.structs.replace(project, shots=tuple(s for s in project.shots if s.id not in shots))
    return _changed(project, timed_ids(project), change)
