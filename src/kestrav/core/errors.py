"""The one error that people are meant to read."""

from __future__ import annotations


class BadInput(Exception):
    """Something given to Kestrav cannot be used.

    The message says what happened, to which file or thing, and what to do. The command line prints it
    and exits with 2; the window shows it and leaves the project as it was.
    """


class Cancelled(Exception):
    """A long job was asked to stop."""
