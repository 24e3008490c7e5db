"""What moves a thing and when: its runs, key poses and attachments, one after another."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Attachment, PoseTrack, Project, Run
from kestrav.core.kinematics.runs import RunCourse, begins, course_of
from kestrav.core.memo import Memo

Array = NDArray[np.float64]


class MotionSegment(msgspec.Struct, frozen=True):
    """A run, key poses or an attachment of a thing, from a start to an end in s (infinite: never, or without end)."""

    item: Run | PoseTrack | Attachment
    start: float
    end: float
    course: RunCourse | None = None


_by_thing: Memo[dict[str, list[Run | PoseTrack | Attachment]]] = Memo(4)


def by_thing(project: Project) -> dict[str, list[Run | PoseTrack | Attachment]]:
    """What moves each thing, in the order of the document; kept by the records' tuples."""
    return _by_thing.get((project.runs, project.pose_tracks, project.attachments), lambda: _sorted_by_thing(project))


def _sorted_by_thing(project: Project) -> dict[str, list[Run | PoseTrack | Attachment]]:
    movers: dict[str, list[Run | PoseTrack | Attachment]] = {}
    every: tuple[Run | PoseTrack | Attachment, ...] = (*project.runs, *project.pose_tracks, *project.attachments)
    for item in every:
        things = (item.rider, *item.companions) if isinstance(item, Run) else (item.rider,)
        for thing in things:
            movers.setdefault(thing, []).append(item)
    return movers


def moving_state(project: Project) -> tuple[object, ...]:
    """All of a project that where its parts are at a time follows from: while these are the same objects, so is that."""
    return (
        project.parts, project.paths, project.runs, project.pose_tracks, project.attachments, project.wheels, project.castors,
        project.rotations, project.gears, project.rods, project.balls,
    )  # fmt: skip


def movers(project: Project) -> set[str]:
    """Ids of all things that a run, key poses or an attachment move, companions too; not of what they take along."""
    return set(by_thing(project))


def companion_of(project: Project, thing: str) -> str:
    """The rider whose company a thing keeps in all that moves either of them; itself if there is none."""
    companions = by_thing(project)
    mine = companions.get(thing, [])
    leaders = {item.rider for item in mine}
    if len(leaders) == 1:
        (leader,) = leaders
        theirs = companions[leader]
        if len(theirs) == len(mine) and all(a is b for a, b in zip(mine, theirs, strict=True)):
            return leader
    return thing


def segment_of(project: Project, item: Run | PoseTrack | Attachment) -> MotionSegment:
    """A run, key poses or an attachment in time."""
    if isinstance(item, Run):
        course = course_of(project, item)
        return MotionSegment(item, course.start, course.end, course)
    start = begins(project, item)
    if isinstance(item, PoseTrack):
        return MotionSegment(item, start, start + item.keys[-1].time)
    return MotionSegment(item, start, np.inf if item.end is None else max(item.end, start))


def segments_of(project: Project, thing: str) -> list[MotionSegment]:
    """What moves a thing, in the order of its start."""
    return sorted(
        (segment_of(project, item) for item in by_thing(project).get(thing, ())), key=lambda segment: segment.start
    )


def courses_of(project: Project, thing: str) -> list[RunCourse]:
    """A thing's own runs in the order of their start."""
    return [
        segment.course
        for segment in segments_of(project, thing)
        if segment.course is not None and segment.course.run.rider == thing
    ]


def active(segments: Sequence[MotionSegment], times: ArrayLike) -> NDArray[np.intp]:
    """Which of a thing's segments (n,) governs each time: the latest begun, or the first before any."""
    starts = np.array([segment.start for segment in segments])
    number: NDArray[np.intp] = np.maximum(np.searchsorted(starts, np.asarray(times, float), side="right") - 1, 0)
    return number
