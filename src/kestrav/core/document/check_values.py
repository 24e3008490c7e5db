"""What checks of records share: what a record is called, and what numbers and names must be."""

from __future__ import annotations

import re

from kestrav.core.document.base import LONGEST
from kestrav.core.document.records import KIND_WORDS, Project
from kestrav.core.errors import BadInput

_COLOUR = re.compile(r"#[0-9a-fA-F]{6}")


def name_of(item: object) -> str:
    """What a record is called in a message."""
    kind = "project" if isinstance(item, Project) else KIND_WORDS.get(type(item), type(item).__name__.lower())
    return f"the {kind} “{getattr(item, 'name', '')}”"


def positive(label: str, value: float) -> None:
    """Raise BadInput unless a number is above 0."""
    if not value > 0:
        raise BadInput(f"{label} is {value:g}; it must be above 0")


def check_time(time: float, label: str) -> None:
    """Raise BadInput unless a time lies in what a project can last."""
    if time < 0:
        raise BadInput(f"{label} at {time:g} s; time begins at 0")
    if time > LONGEST:
        raise BadInput(f"{label} at {time:g} s; {LONGEST:g} s is the most")


def check_colour(colour: str, label: str) -> None:
    """Raise BadInput unless a colour is written as #rrggbb."""
    if not _COLOUR.fullmatch(colour):
        raise BadInput(f"{label} is “{colour}”; write a colour as #rrggbb")
