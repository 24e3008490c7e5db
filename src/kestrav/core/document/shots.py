"""Picking a shot and changing its picture settings from what people type."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any, get_args

import msgspec

from kestrav.core.document.camera_checks import check_shot
from kestrav.core.document.records import LookName, Project, QualityName, Shot
from kestrav.core.errors import BadInput

# sizes by name: those of HD (SMPTE ST 296, ST 274) and UHD (SMPTE ST 2036-1), half of HD, and a square and an upright of HD's width
SIZES = {
    "sd": (640, 360),
    "hd": (1280, 720),
    "full hd": (1920, 1080),
    "wqhd": (2560, 1440),
    "uhd": (3840, 2160),
    "square": (1080, 1080),
    "upright": (1080, 1920),
}


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


def pick_colourway(project: Project, name: str) -> str:
    """The id of the colourway of a name or id. Raises BadInput when there is none."""
    for colourway in project.colourways:
        if name in (colourway.name, colourway.id):
            return colourway.id
    known = ", ".join(f"“{colourway.name}”" for colourway in project.colourways) or "none"
    raise BadInput(f"there is no colourway “{name}”; the project has {known}")


def with_settings(
    shot: Shot,
    size: str | None = None,
    fps: float | None = None,
    background: str | None = None,
    span: str | None = None,
    look: str | None = None,
    quality: str | None = None,
    samples: int | None = None,
) -> Shot:
    """A shot with settings as typed: size as 1280x720 or by name, span as first:last in s, background as #rrggbb, as
    #rrggbb:#rrggbb from below to above, or as “clear”. Raises BadInput."""
    fields: dict[str, Any] = {}
    if size is not None:
        fields["width"], fields["height"] = read_size(size)
    if fps is not None:
        fields["fps"] = fps
    if background is not None:
        fields |= read_background(background)
    if look is not None:
        fields["look"] = _one_of(look, get_args(LookName), "look")
    if quality is not None:
        fields["quality"] = _one_of(quality, get_args(QualityName), "quality")
    if samples is not None:
        fields["samples"] = samples
    if span is not None:
        fields["start"], fields["end"] = read_span(span)
    changed = msgspec.structs.replace(shot, **fields)
    check_shot(changed)
    return changed


def read_size(text: str) -> tuple[int, int]:
    """Width and height in pixels as typed, or by one of the names of :data:`SIZES`. Raises BadInput."""
    if text.strip().lower() in SIZES:
        return SIZES[text.strip().lower()]
    match = re.fullmatch(r"\s*(\d+)\s*[x×]\s*(\d+)\s*", text)
    if not match:
        raise BadInput(f"the size “{text}” is not understood; write it as 1280x720, or give {', '.join(SIZES)}")
    return int(match[1]), int(match[2])


def read_background(text: str) -> dict[str, Any]:
    """The fields of a shot for a background as typed: #rrggbb, #rrggbb:#rrggbb from below to above, or clear."""
    if text.strip().lower() == "clear":
        return {"clear": True}
    below, _, above = (part.strip() for part in text.partition(":"))
    return {"background": below, "background_top": above, "clear": False}


def background_text(shot: Shot) -> str:
    """What :func:`read_background` reads as a shot's background."""
    if shot.clear:
        return "clear"
    return f"{shot.background}:{shot.background_top}" if shot.background_top else shot.background


def _one_of(text: str, known: Sequence[str], label: str) -> str:
    if text not in known:
        raise BadInput(f"the {label} “{text}” is not known: give {', '.join(known)}")
    return text


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


class FilmFrame(msgspec.Struct, frozen=True):
    """What a frame of a film shows: a shot at a time in s, and in a cross-fade the next one by a share."""

    shot: Shot
    time: float
    over: Shot | None = None
    over_time: float = 0.0
    share: float = 0.0


def shot_frames(shot: Shot) -> list[FilmFrame]:
    """The frames of one shot."""
    return [FilmFrame(shot, frame_time(shot, frame)) for frame in range(frame_count(shot))]


def film_frames(shots: Sequence[Shot], fps: float) -> list[FilmFrame]:
    """The frames of a film of shots one after another, at a rate, with their cross-fades.

    A cross-fade lets both shots go on, so the film is so much shorter than its shots. Raises BadInput where there is no
    shot, or where one is too short for the cross-fades at both its ends.
    """
    if not shots:
        raise BadInput("there is no shot in the film; take one in")
    begins, at = [], 0.0
    for k, shot in enumerate(shots):
        fade = shot.fade if k else 0.0
        following = shots[k + 1].fade if k + 1 < len(shots) else 0.0
        if fade + following > shot.end - shot.start + 1e-9:
            raise BadInput(
                f"“{shot.name}” lasts {shot.end - shot.start:g} s, too short for cross-fades of {fade:g} and {following:g} s"
            )
        at -= fade
        begins.append(at)
        at += shot.end - shot.start
    film_frames = []
    for frame in range(max(round(at * fps), 1)):
        time = frame / fps
        k = max(i for i, begin in enumerate(begins) if begin <= time + 1e-9)
        shot, since = shots[k], time - begins[k]
        if k and since < shot.fade - 1e-9:
            before = shots[k - 1]
            film_frames.append(
                FilmFrame(before, before.start + time - begins[k - 1], shot, shot.start + since, since / shot.fade)
            )
        else:
            film_frames.append(FilmFrame(shot, shot.start + since))
    return film_frames
