"""Keys in the lanes: taken hold of, moved, typed, added and taken away where their curve is."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import msgspec
import numpy as np
from scipy.spatial.transform import Rotation

from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import (
    Keyed,
    KeyedHeading,
    LeanKey,
    Light,
    LightKey,
    PaceKey,
    Poses,
    Project,
    Run,
    TurnKey,
)
from kestrav.core.kinematics.legs import leg_of
from kestrav.core.kinematics.lighting import state
from kestrav.core.kinematics.runs import Journey, journey

if TYPE_CHECKING:
    from kestrav.app.timeline.timeline import Timeline

HANDLE = 0.07  # of the axis' length, how far a key's handle is drawn from it
_APART = 1e-3  # the least share between neighbouring keys


@dataclass(frozen=True)
class Grip:
    """A key, or a handle of one, that can be moved in a lane; ``of`` is the item that has it."""

    lane: str
    of: str
    index: int
    x: float
    y: float
    side: Literal["key", "handle"] = "key"


def grips(timeline: Timeline) -> list[Grip]:
    """All keys that the chart's lanes have, and the handle of the chosen one."""
    found: list[Grip] = []
    project = timeline.session.shown
    trip = timeline.axis_journey()
    if trip is not None:
        found += _pace(timeline, trip)
        found += _along(timeline, trip)
    light = timeline.lane_light()
    if light is not None and not timeline.by_distance:
        found += [Grip("strength", light.id, i, key.time, key.strength) for i, key in enumerate(light.keys)]
    if not timeline.by_distance:
        for poses in project.poses:
            start = leg_of(project, poses).start
            if np.isfinite(start):
                row = timeline.row_of(poses.id)
                found += [Grip("bars", poses.id, i, start + k.time, row + 0.5) for i, k in enumerate(poses.keys) if i]
    return found


def _pace(timeline: Timeline, trip: Journey) -> Iterator[Grip]:
    """Keys of distance by time."""
    pacing = trip.run.pacing
    shown = not (timeline.by_distance or trip.run.holds or trip.is_backward)
    if not isinstance(pacing, Keyed) or not shown or not np.isfinite(trip.start):
        return
    for i, key in enumerate(pacing.keys):
        x, y = trip.whole_start + key.time * trip.once, key.way * trip.length
        yield Grip("distance", trip.run.id, i, x, y)
        if timeline.chosen_key == ("distance", trip.run.id, i):
            step = HANDLE * timeline.shown_width()
            slope = float(trip.entire.profile.speed([min(max(key.time, 1e-6), 1 - 1e-6) * trip.once])[0])
            if key.slope is not None:
                slope = key.slope * trip.length / trip.once
            sense = -1.0 if i == len(pacing.keys) - 1 else 1.0
            yield Grip("distance", trip.run.id, i, x + sense * step, y + sense * slope * step, "handle")


def _along(timeline: Timeline, trip: Journey) -> Iterator[Grip]:
    """Keys of lean and heading, at the times or stations of their places."""
    run, length = trip.run, trip.path.length

    def x_of(place: float) -> float:
        station = place * length
        if timeline.by_distance:
            return station
        inside = trip.first - 1e-6 <= station <= trip.last + 1e-6
        return float(trip.times_at([station])[0]) if inside and np.isfinite(trip.start) else float("nan")

    for i, key in enumerate(run.lean.keys):
        yield Grip("lean", run.id, i, x_of(key.place), key.angle)
    if isinstance(run.heading, KeyedHeading):
        lane = timeline.every["heading"]
        for i, turn in enumerate(run.heading.keys):
            x = x_of(turn.place)
            value = lane.value_at(x)
            if value is not None:
                yield Grip("heading", run.id, i, x, value)


def moved(timeline: Timeline, grip: Grip, x: float, y: float, project: Project) -> Project:
    """The project with a key or handle brought to a place of its lane."""
    item = get(project, grip.of)
    if isinstance(item, Light):
        return edits.update(project, item.id, keys=_light_keys(item, grip.index, x, y))
    if isinstance(item, Poses):
        return edits.update(project, item.id, keys=_pose_keys(project, item, grip.index, x))
    assert isinstance(item, Run)
    trip = journey(project, item)
    if grip.lane == "distance":
        return edits.update(project, item.id, pacing=_pace_moved(trip, grip, x, y))
    place = _place(timeline, trip, x)
    if grip.lane == "lean":
        keys = list(item.lean.keys)
        low, high = _room([k.place for k in keys], grip.index, 0.0, 1.0)
        keys[grip.index] = LeanKey(min(max(place, low), high), float(np.clip(y, -89.0, 89.0)))
        return edits.update(project, item.id, lean=msgspec.structs.replace(item.lean, keys=tuple(keys)))
    assert isinstance(item.heading, KeyedHeading)
    turns = list(item.heading.keys)
    low, high = _room([k.place for k in turns], grip.index, 0.0, 1.0)
    # the lane shows where the front points; what is dragged is its yaw
    by = Rotation.from_euler("z", y - grip.y, degrees=True)
    turned = (by * Rotation.from_quat(np.roll(turns[grip.index].rotation, -1))).as_quat()
    rotation = tuple(float(q) for q in np.roll(turned, 1))
    turns[grip.index] = TurnKey(min(max(place, low), high), rotation)  # type: ignore[arg-type]
    return edits.update(project, item.id, heading=msgspec.structs.replace(item.heading, keys=tuple(turns)))


def _place(timeline: Timeline, trip: Journey, x: float) -> float:
    station = x if timeline.by_distance else float(trip.stations([x])[0])
    return station / trip.path.length


def _room(places: list[float], index: int, low: float, high: float) -> tuple[float, float]:
    """Between which values a key may lie, so that it stays between its neighbours."""
    below = places[index - 1] + _APART if index else low
    above = places[index + 1] - _APART if index < len(places) - 1 else high
    return below, above


def _pace_moved(trip: Journey, grip: Grip, x: float, y: float) -> Keyed:
    pacing = trip.run.pacing
    assert isinstance(pacing, Keyed)
    keys = list(pacing.keys)
    key = keys[grip.index]
    if grip.side == "handle":
        # a handle is at least a hundredth of the journey from its key
        far = x - (trip.whole_start + key.time * trip.once)
        least = 0.01 * trip.once
        sense = -1.0 if grip.index == len(keys) - 1 else 1.0
        slope = (y - key.way * trip.length) / (sense * max(sense * far, least))
        keys[grip.index] = msgspec.structs.replace(key, slope=slope * trip.once / trip.length)
        return Keyed(tuple(keys))
    time = (x - trip.whole_start) / trip.once
    inner = 0 < grip.index < len(keys) - 1
    low, high = _room([k.time for k in keys], grip.index, 0.0, 1.0)
    time = min(max(time, low), high) if inner else key.time
    keys[grip.index] = msgspec.structs.replace(key, time=time, way=float(np.clip(y / trip.length, 0.0, 1.0)))
    return Keyed(tuple(keys))


def _light_keys(light: Light, index: int, x: float, y: float) -> tuple[LightKey, ...]:
    keys = list(light.keys)
    low, high = _room([k.time for k in keys], index, 0.0, np.inf)
    keys[index] = msgspec.structs.replace(keys[index], time=min(max(x, low), high), strength=max(y, 0.0))
    return tuple(keys)


def _pose_keys(project: Project, poses: Poses, index: int, x: float) -> tuple[object, ...]:
    keys = list(poses.keys)
    low, high = _room([k.time for k in keys], index, 0.0, np.inf)
    since = x - leg_of(project, poses).start
    keys[index] = msgspec.structs.replace(keys[index], time=min(max(since, low), high))
    return tuple(keys)


def added(timeline: Timeline, lane: str, x: float, y: float, project: Project) -> Project | None:
    """The project with a key put into a lane at a place; None where its lane has none."""
    light = timeline.lane_light()
    if lane == "strength" and light is not None:
        colour = state(light, x)[1]
        keys = sorted([*light.keys, LightKey(x, max(y, 0.0), colour)], key=lambda k: k.time)
        return edits.update(project, light.id, keys=tuple(keys))
    trip = timeline.axis_journey()
    if trip is None:
        return None
    run = trip.run
    if (
        lane == "distance"
        and isinstance(run.pacing, Keyed)
        and not (timeline.by_distance or run.holds or trip.is_backward)
    ):
        key = PaceKey((x - trip.whole_start) / trip.once, float(np.clip(y / trip.length, 0.0, 1.0)))
        if not 0 < key.time < 1:
            return None
        return edits.update(project, run.id, pacing=Keyed(tuple(sorted([*run.pacing.keys, key], key=lambda k: k.time))))
    place = _place(timeline, trip, x)
    if lane == "lean":
        keys_ = sorted([*run.lean.keys, LeanKey(place, float(np.clip(y, -89, 89)))], key=lambda k: k.place)
        return edits.update(project, run.id, lean=msgspec.structs.replace(run.lean, keys=tuple(keys_)))
    return None


def removed(grip: Grip, project: Project) -> Project | None:
    """The project without a key; None for one that must stay."""
    item = get(project, grip.of)

    def without(keys: tuple[object, ...]) -> tuple[object, ...]:
        return tuple(k for i, k in enumerate(keys) if i != grip.index)

    if isinstance(item, Light):
        return edits.update(project, item.id, keys=without(item.keys))
    if isinstance(item, Poses):
        return edits.update(project, item.id, keys=without(item.keys)) if grip.index else None
    assert isinstance(item, Run)
    if grip.lane == "lean":
        return edits.update(project, item.id, lean=msgspec.structs.replace(item.lean, keys=without(item.lean.keys)))
    if grip.lane == "heading" and isinstance(item.heading, KeyedHeading) and len(item.heading.keys) > 1:
        heading = msgspec.structs.replace(item.heading, keys=without(item.heading.keys))
        return edits.update(project, item.id, heading=heading)
    if grip.lane == "distance" and isinstance(item.pacing, Keyed) and 0 < grip.index < len(item.pacing.keys) - 1:
        return edits.update(project, item.id, pacing=Keyed(without(item.pacing.keys)))  # type: ignore[arg-type]
    return None
