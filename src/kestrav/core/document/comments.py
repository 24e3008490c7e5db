"""The records of comments: what reviewers say of a moment. Lengths in mm, times in s, angles in degrees."""

from __future__ import annotations

from kestrav.core.document.base import MentionedId, Record, Vector


class SavedView(Record, frozen=True):
    """From where a comment or a step is seen: a position, the point looked at, the upside, and the vertical angle of view."""

    position: Vector
    target: Vector
    up: Vector = (0.0, 0.0, 1.0)
    angle: float = 32.0


class Comment(Record, frozen=True):
    """What an ``author`` says of a moment, seen from a ``view`` where there is one, of ``parts`` where some are meant; ``made`` is when it was
    written (ISO 8601), ``done`` that nothing remains to be done about it."""

    id: str
    name: str
    author: str
    text: str
    time: float = 0.0
    view: SavedView | None = None
    parts: tuple[MentionedId, ...] = ()
    made: str = ""
    done: bool = False
