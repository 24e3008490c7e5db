"""Cues that come from contacts: worked out in the order in which they happen, as each may change what follows."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from kestrav.core.clearance.contacts import Touch, first_touch, touches
from kestrav.core.document.lookup import subtree
from kestrav.core.document.records import Attachment, ContactTrigger, PoseTrack, Project, Run, TimedRotation
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.dependencies import dependencies
from kestrav.core.kinematics.runs import span
from kestrav.core.memo import Memo
from kestrav.core.progress import Progress

Cued = Run | PoseTrack | Attachment | TimedRotation
_FIELDS = ("runs", "pose_tracks", "attachments", "rotations")
_Pair = tuple[str, str]

_same: Memo[Cued] = Memo(512)  # what waits, by its value, so that the same one is the same object
_times: Memo[float | None] = Memo(512)
_AT_ONCE = 1e-3  # s within which two touches of a pair are one


def derive_contact_triggers(project: Project, meshes: Mapping[str, Mesh]) -> Project:
    """The project with the times of its contact triggers worked out.

    At first nothing that waits for a touch has begun. The earliest touch of all that are waited for happens; with what it starts the
    next is looked for. So what a touch starts does not move what leads to it, and a touch that never comes has no time.
    """
    waiting = {(i.trigger.a, i.trigger.b) for i in _triggered(project) if isinstance(i.trigger, ContactTrigger)}
    if not waiting:
        return project
    times: dict[_Pair, float] = {}
    while True:
        now = _with_times(project, times)
        left = sorted(waiting - times.keys())
        first = {pair: time for pair in left if (time := _first(now, meshes, pair)) is not None}
        if not first:
            return _with_times(project, times, settled=True)
        pair = min(first, key=lambda p: (first[p], p))
        times[pair] = first[pair]


def all_touches(project: Project, meshes: Mapping[str, Mesh], progress: Progress | None = None) -> tuple[Touch, ...]:
    """Every coming together of what moves with the rest, in the order of time, those that start things among them.

    What a touch starts may go away from it that very instant, so such touches are looked for with nothing started by them.
    """
    every = list(touches(project, meshes, progress))
    for item in _triggered(project):
        trigger = item.trigger
        if not isinstance(trigger, ContactTrigger) or trigger.time is None:
            continue
        others = {
            (c.a, c.b): c.time
            for i in _triggered(project)
            if isinstance(c := i.trigger, ContactTrigger) and c.time is not None
        }
        del others[trigger.a, trigger.b]
        touch = first_touch(_with_times(project, others), meshes, trigger.a, trigger.b, trigger.time + _AT_ONCE)
        if touch is not None and not any(
            {t.a, t.b} == {touch.a, touch.b} and abs(t.time - touch.time) < _AT_ONCE for t in every
        ):
            every.append(touch)
    return tuple(sorted(every, key=lambda touch: touch.time))


def _triggered(project: Project) -> list[Cued]:
    return [item for name in _FIELDS for item in getattr(project, name) if item.trigger is not None]


def _with_times(project: Project, times: Mapping[_Pair, float], *, settled: bool = False) -> Project:
    """The project with these contacts' times, and none for others; records that stay as they are stay the same ones."""
    fields: dict[str, tuple[Cued, ...]] = {}
    for name in _FIELDS:
        items = tuple(_timed(item, times, settled=settled) for item in getattr(project, name))
        if any(a is not b for a, b in zip(items, getattr(project, name), strict=True)):
            fields[name] = items
    return msgspec.structs.replace(project, **fields) if fields else project


def _timed(item: Cued, times: Mapping[_Pair, float], *, settled: bool) -> Cued:
    trigger = item.trigger
    if not isinstance(trigger, ContactTrigger):
        return item
    time = times.get((trigger.a, trigger.b))
    if time == trigger.time:
        return item
    timed = msgspec.structs.replace(item, trigger=msgspec.structs.replace(trigger, time=time))
    return timed if settled else _once(timed)


def _once(item: Cued) -> Cued:
    return _same.get((), lambda: item, item)


def _first(project: Project, meshes: Mapping[str, Mesh], pair: _Pair) -> float | None:
    """The time of the first touch of two things, kept for as long as all that they hang on is the same."""
    inner = [i for thing in pair for i in subtree(project, thing)]
    of: tuple[object, ...] = tuple(dependencies(project, *inner))
    end = span(project)

    def first() -> float | None:
        try:
            touch = first_touch(project, meshes, *pair, end)
        except BadInput:
            return None  # one holds the other, or has no geometry: they never come to touch
        return None if touch is None else touch.time

    return _times.get(of, first, *pair, end)
