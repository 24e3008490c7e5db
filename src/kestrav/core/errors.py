"""The one error that people are meant to read."""

from __future__ import annotations

import re

_QUOTED = re.compile("“([^”]{40})[^”]{20,}”")


class BadInput(Exception):
    """Something given to Kestrav cannot be used.

    The message says what happened, to which file or thing, and what to do. The command line prints it
    and exits with 2; the window shows it and leaves the project as it was.
    """


class Cancelled(Exception):
    """A long job was asked to stop."""


class Damaged(ValueError):
    """Content is not what it should be; the message tells people what, as the end of a sentence about its file or thing."""


def in_words(fault: Exception, otherwise: str = "its content is damaged, or of a kind that is not read") -> str:
    """What went wrong in reading something: as Kestrav itself says it, or ``otherwise``, as the words of libraries are not meant for
    people."""
    return str(fault) if isinstance(fault, (BadInput, Damaged)) else otherwise


def brief(text: str) -> str:
    """A sentence in which long names in quotes are cut."""
    return _QUOTED.sub(r"“\1 …”", text)
