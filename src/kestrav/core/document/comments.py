"""The records of comments: what reviewers say of a moment. Lengths in mm, times in s, angles in degrees."""

from __future__ import annotations

from typing import Annotated

from kestrav.core.document.base import MentionedId, Record, Vector
from kestrav.core.document.fields import option, quantity, switch


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
    author: Annotated[str, option("Author", "Author of the comment")]
    text: Annotated[str, option("Text", "Text of the comment")]
    time: Annotated[float, quantity("Time", "s", "Moment of the comment", 3, 0.1)] = 0.0
    view: SavedView | None = None
    parts: tuple[MentionedId, ...] = ()
    made: str = ""
    done: Annotated[bool, switch("Status", "done", "Whether the comment is dealt with")] = False
