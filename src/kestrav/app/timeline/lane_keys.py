"""Keys in the lanes: taken hold of, moved, typed, added and taken away where their curve is."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec
import numpy as np
import scipy

from kestrav.app.timeline.chart import Chart
from kestrav.app.timeline.lanes import Grip
from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import (
    BankKey,
    Keyed,
    KeyedOrientation,
    Light,
    LightKey,
    OrientationKey,
    PoseTrack,
    Project,
    Run,
    SpeedKey,
)
from kestrav.core.kinematics.lighting import state
from kestrav.core.kinematics.motion_segments import segment_of
from kestrav.core.kinematics.runs import RunCourse, course_of

HANDLE = 0.07  # of the axis' length, how far a key's handle is drawn from it
_APART = 1e-3  # the least share between neighbouring keys


def grips(timeline: Chart) -> list[Grip]:
    """All keys that the chart's lanes have, and the handle of the chosen one."""
    grips: list[Grip] = []
    project = timeline.session.shown
    course = timeline.axis_journey()
    if course is not None:
        grips += _pace(timeline, course)
        grips += _along(timeline, course)
    light = timeline.lane_light()
    if light is not None and not timeline.by_distance:
        grips += [Grip("strength", light.id, i, key.time, key.strength) for i, key in enumerate(light.keys)]
    if not timeline.by_distance:
        for poses in project.pose_tracks:
            start = segment_of(project, poses).start
            if np.isfinite(start):
                row = timeline.row_of(poses.id)
                grips += [Grip("bars", poses.id, i, start + k.time, row + 0.5) for i, k in enumerate(poses.keys) if i]
    return grips


def _pace(timeline: Chart, course: RunCourse) -> Iterator[Grip]:
    """Keys of distance by time."""
    speed_profile = course.run.speed_profile
    shown = not (timeline.by_distance or course.run.holds or course.is_backward)
    if not isinstance(speed_profile, Keyed) or not shown or not np.isfinite(course.start):
        return
    for i, key in enumerate(speed_profile.keys):
        x, y = course.whole_start + key.time * course.once, key.distance * course.length
        yield Grip("distance", course.run.id, i, x, y)
        if timeline.chosen_key == ("distance", course.run.id, i):
            step = HANDLE * timeline.shown_width()
            slope = float(course.entire.profile.speed([min(max(key.time, 1e-6), 1 - 1e-6) * course.once])[0])
            if key.slope is not None:
                slope = key.slope * course.length / course.once
            sense = -1.0 if i == len(speed_profile.keys) - 1 else 1.0
            yield Grip("distance", course.run.id, i, x + sense * step, y + sense * slope * step, "handle")


def _along(timeline: Chart, course: RunCourse) -> Iterator[Grip]:
    """Keys of bank and orientation, at the times or stations of their places."""
    run, length = course.run, course.path.length

    def x_of(place: float) -> float:
        station = place * length
        if timeline.by_distance:
            return station
        inside = course.first - 1e-6 <= station <= course.last + 1e-6
        return float(course.times_at([station])[0]) if inside and np.isfinite(course.start) else float("nan")

    for i, key in enumerate(run.bank.keys):
        yield Grip("bank", run.id, i, x_of(key.place), key.angle)
    if isinstance(run.orientation, KeyedOrientation):
        lane = timeline.every["orientation"]
        for i, turn in enumerate(run.orientation.keys):
            x = x_of(turn.place)
            value = lane.value_at(x)
            if value is not None:
                yield Grip("orientation", run.id, i, x, value)


def moved(timeline: Chart, grip: Grip, x: float, y: float, project: Project) -> Project:
    """The project with a key or handle brought to a place of its lane."""
    item = get(project, grip.of)
    if isinstance(item, Light):
        return edits.update(project, item.id, keys=_light_keys(item, grip.index, x, y))
    if isinstance(item, PoseTrack):
        return edits.update(project, item.id, keys=_pose_keys(project, item, grip.index, x))
    assert isinstance(item, Run)
    course = course_of(project, item)
    if grip.lane == "distance":
        return edits.update(project, item.id, speed_profile=_speed_moved(course, grip, x, y))
    place = _place(timeline, course, x)
    if grip.lane == "bank":
        keys = list(item.bank.keys)
        low, high = _room([k.place for k in keys], grip.index, 0.0, 1.0)
        keys[grip.index] = BankKey(min(max(place, low), high), float(np.clip(y, -89.0, 89.0)))
        return edits.update(project, item.id, bank=msgspec.structs.replace(item.bank, keys=tuple(keys)))
    assert isinstance(item.orientation, KeyedOrientation)
    turns = list(item.orientation.keys)
    low, high = _room([k.place for k in turns], grip.index, 0.0, 1.0)
    # the lane shows where the front points; what is dragged is its yaw
    by = scipy.spatial.transform.Rotation.from_euler("z", y - grip.y, degrees=True)
    turned = (by * scipy.spatial.transform.Rotation.from_quat(np.roll(turns[grip.index].rotation, -1))).as_quat()
    rotation = tuple(float(q) for q in np.roll(turned, 1))
    turns[grip.index] = OrientationKey(min(max(place, low), high), rotation)  # type: ignore[arg-type]
    return edits.update(project, item.id, orientation=msgspec.structs.replace(item.orientation, keys=tuple(turns)))


def _place(timeline: Chart, course: RunCourse, x: float) -> float:
    station = x if timeline.by_distance else float(course.stations([x])[0])
    return station / course.path.length


def _room(places: list[float], index: int, low: float, high: float) -> tuple[float, float]:
    """Between which values a key may lie, so that it stays between its neighbours."""
    below = places[index - 1] + _APART if index else low
    above = places[index + 1] - _APART if index < len(places) - 1 else high
    return below, above


def _speed_moved(course: RunCourse, grip: Grip, x: float, y: float) -> Keyed:
    speed_profile = course.run.speed_profile
    assert isinstance(speed_profile, Keyed)
    keys = list(speed_profile.keys)
    key = keys[grip.index]
    if grip.side == "handle":
        # a handle is at least a hundredth of the run from its key
        far = x - (course.whole_start + key.time * course.once)
        least = 0.01 * course.once
        sense = -1.0 if grip.index == len(keys) - 1 else 1.0
        slope = (y - key.distance * course.length) / (sense * max(sense * far, least))
        keys[grip.index] = msgspec.structs.replace(key, slope=slope * course.once / course.length)
        return Keyed(tuple(keys))
    time = (x - course.whole_start) / course.once
    inner = 0 < grip.index < len(keys) - 1
    low, high = _room([k.time for k in keys], grip.index, 0.0, 1.0)
    time = min(max(time, low), high) if inner else key.time
    keys[grip.index] = msgspec.structs.replace(key, time=time, distance=float(np.clip(y / course.length, 0.0, 1.0)))
    return Keyed(tuple(keys))


def _light_keys(light: Light, index: int, x: float, y: float) -> tuple[LightKey, ...]:
    keys = list(light.keys)
    low, high = _room([k.time for k in keys], index, 0.0, np.inf)
    keys[index] = msgspec.structs.replace(keys[index], time=min(max(x, low), high), strength=max(y, 0.0))
    return tuple(keys)


def _pose_keys(project: Project, poses: PoseTrack, index: int, x: float) -> tuple[object, ...]:
    keys = list(poses.keys)
    low, high = _room([k.time for k in keys], index, 0.0, np.inf)
    since = x - segment_of(project, poses).start
    keys[index] = msgspec.structs.replace(keys[index], time=min(max(since, low), high))
    return tuple(keys)


def added(timeline: Chart, lane: str, x: float, y: float, project: Project) -> Project | None:
    """The project with a key put into a lane at a place; None where its lane has none."""
    light = timeline.lane_light()
    if lane == "strength" and light is not None:
        colour = state(light, x)[1]
        keys = sorted([*light.keys, LightKey(x, max(y, 0.0), colour)], key=lambda k: k.time)
        return edits.update(project, light.id, keys=tuple(keys))
    course = timeline.axis_journey()
    if course is None:
        return None
    run = course.run
    if (
        lane == "distance"
        and isinstance(run.speed_profile, Keyed)
        and not (timeline.by_distance or run.holds or course.is_backward)
    ):
        key = SpeedKey((x - course.whole_start) / course.once, float(np.clip(y / course.length, 0.0, 1.0)))
        if not 0 < key.time < 1:
            return None
        return edits.update(
            project, run.id, speed_profile=Keyed(tuple(sorted([*run.speed_profile.keys, key], key=lambda k: k.time)))
        )
    place = _place(timeline, course, x)
    if lane == "bank":
        keys_ = sorted([*run.bank.keys, BankKey(place, float(np.clip(y, -89, 89)))], key=lambda k: k.place)
        return edits.update(project, run.id, bank=msgspec.structs.replace(run.bank, keys=tuple(keys_)))
    return None


def removed(grip: Grip, project: Project) -> Project | None:
    """The project without a key; None for one that must stay."""
    item = get(project, grip.of)

    def without(keys: tuple[object, ...]) -> tuple[object, ...]:
        return tuple(k for i, k in enumerate(keys) if i != grip.index)

    if isinstance(item, Light):
        return edits.update(project, item.id, keys=without(item.keys))
    if isinstance(item, PoseTrack):
        return edits.update(project, item.id, keys=without(item.keys)) if grip.index else None
    assert isinstance(item, Run)
    if grip.lane == "bank":
        return edits.update(project, item.id, bank=msgspec.structs.replace(item.bank, keys=without(item.bank.keys)))
    if grip.lane == "orientation" and isinstance(item.orientation, KeyedOrientation) and len(item.orientation.keys) > 1:
        orientation = msgspec.structs.replace(item.orientation, keys=without(item.orientation.keys))
        return edits.update(project, item.id, orientation=orientation)
    if (
        grip.lane == "distance"
        and isinstance(item.speed_profile, Keyed)
        and 0 < grip.index < len(item.speed_profile.keys) - 1
    ):
        return edits.update(project, item.id, speed_profile=Keyed(without(item.speed_profile.keys)))  # type: ignore[arg-type]
    return None
