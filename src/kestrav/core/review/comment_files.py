"""Comments of reviewers: the small file that a review page saves, read into a project."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import msgspec
import numpy as np

from kestrav.core.document import edits
from kestrav.core.document.base import Vector
from kestrav.core.document.comment_checks import LONGEST
from kestrav.core.document.lookup import new_id, new_name
from kestrav.core.document.records import Comment, Project, SavedView
from kestrav.core.errors import BadInput

VERSION = 1
SUFFIX = ".json"
MOST_BYTES = 20_000_000
_MOST = 10_000  # comments of one file
_NAMED = 40  # letters of a comment that name it


class _Written(msgspec.Struct):
    name: str
    text: str
    time: float
    view: SavedView | None = None
    parts: tuple[str, ...] = ()
    made: str = ""


class _File(msgspec.Struct):
    kind: Literal["kestrav comments"]
    version: int
    comments: tuple[_Written, ...]
    project: str = ""
    page: str = ""


def read_comments(file: Path) -> tuple[Comment, ...]:
    """The comments of a file that a review page saved; their ids are empty. Raises BadInput naming the file."""
    try:
        if file.stat().st_size > MOST_BYTES:
            raise BadInput(f"“{file}” is too large for comments of a review page")
        held = msgspec.json.decode(file.read_bytes(), type=_File)
    except OSError as fault:
        raise BadInput(f"“{file}” cannot be read: {fault.strerror or fault}") from fault
    except (msgspec.DecodeError, UnicodeDecodeError) as fault:
        raise BadInput(f"“{file}” holds no comments of a review page: {fault}") from fault
    if held.version > VERSION:
        raise BadInput(f"“{file}” was written by a newer Kestrav; use that one")
    if len(held.comments) > _MOST:
        raise BadInput(f"“{file}” has {len(held.comments)} comments; {_MOST} at most are read")
    return tuple(
        Comment(
            "",
            titled(one.text),
            one.name.strip()[:80],
            one.text[:LONGEST],
            one.time,
            _sound(one.view),
            one.parts,
            one.made[:40],
        )
        for one in held.comments
        if one.text.strip()
    )


def titled(text: str) -> str:
    """What a comment is called: its beginning."""
    line = " ".join(text.split())
    return line if len(line) <= _NAMED else f"{line[: _NAMED - 1].rstrip()}…"


def _sound(view: SavedView | None) -> SavedView | None:
    """A view that one can look from, or none."""
    if view is None or not 0 < view.angle < 180 or view.position == view.target:
        return None
    values: Vector = (*view.position, *view.target, *view.up)  # type: ignore[assignment]
    return view if np.isfinite(values).all() else None


def add_comments(project: Project, comments: tuple[Comment, ...]) -> tuple[Project, int]:
    """A project with comments that it does not have yet, and how many these are; parts that it does not hold are left out of them."""
    known = {(one.author, one.text, one.made or one.time) for one in project.comments}
    parts = {part.id for part in project.parts}
    count = 0
    for one in comments:
        if (one.author, one.text, one.made or one.time) in known:
            continue
        known.add((one.author, one.text, one.made or one.time))
        meant = tuple(part for part in one.parts if part in parts)
        fields = {"id": new_id(project, Comment), "name": new_name(project, Comment, one.name), "parts": meant}
        project = edits.add(project, msgspec.structs.replace(one, **fields))
        count += 1
    return project, count
