"""Picking a shot and changing its picture settings from what people type."""

from __future__ import annotations

import re
from typing import Any

import msgspec

from kestrav.core.document.records import Project, Shot
from kestrav.core.document.validation import check_shot
from kestrav.core.errors import BadInput


def pick_shot(project: Project, name: str | None) -> Shot:
    """The shot of a name or id, or the first. Raises BadInput when there is none."""
    if not project.shots:
        raise BadInput(f"the project “{project.name}” has no shot; add a camera and a shot to render it")
    if name is None:
        return project.shots[0]
    for shot in project.shots:
        if name in (shot.name, shot.id):
            return shot
    known = ", ".join(f"“{shot.name}”" for shot in project.shots)
    raise BadInput(f"there is no shot “{name}”; the project has {known}")


def with_settings(
    shot: Shot,
    size: str | None = None,
    fps: float | None = None,
    background: str | None = None,
    span: str | None = None,
) -> Shot:
    """A shot with settings as typed: size as 1280x720, span as first:last in s. Raises BadInput."""
    fields: dict[str, Any] = {}
    if size is not None:
        found = re.fullmatch(r"\s*(\d+)\s*[x×]\s*(\d+)\s*", size)
        if not found:
            raise BadInput(f"the size “{size}” is not understood; write it as 1280x720")
        fields["width"], fields["height"] = int(found[1]), int(found[2])
    if fps is not None:
        fields["fps"] = fps
    if background is not None:
        fields["background"] = background
    if span is not None:
        fields["start"], fields["end"] = read_span(span)
    changed = msgspec.structs.replace(shot, **fields)
    check_shot(changed)
    return changed


def read_span(text: str) -> tuple[float, float]:
    """First and last time in s as typed, first:last. Raises BadInput."""
    try:
        first, last = (float(v) for v in text.split(":"))
    except ValueError:
        raise BadInput(f"the span “{text}” is not understood; write it as 1.5:4, in s") from None
    if not first <= last:
        raise BadInput(f"the span “{text}” ends before it begins; write it as 1.5:4, in s")
    return first, last


def frame_count(shot: Shot) -> int:
    """Frames of a shot; the end is exclusive, so a loop does not repeat its first frame."""
    return max(1, round((shot.end - shot.start) * shot.fps))


def frame_time(shot: Shot, frame: int) -> float:
    """Time in s of a shot's frame."""
    return shot.start + frame / shot.fps
