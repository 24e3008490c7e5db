"""Telling how far work is, as shares from 0 to 1; who is told may raise to stop it."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

Progress = Callable[[float], None]
T = TypeVar("T")


class Pace:
    """How long work still takes, by how it went since it was first heard of: what came before that says nothing of it."""

    def __init__(self) -> None:
        self._first: tuple[float, float] | None = None

    def left(self, share: float, now: float) -> float:
        """The seconds left at a share done, at a time in s; not a number where that is not known yet."""
        since, first = self._first = self._first or (now, share)
        return (1.0 - share) * (now - since) / (share - first) if share > first else math.nan

    def forget(self) -> None:
        """Begin anew, as after a rest."""
        self._first = None


def portion(progress: Progress | None, first: float, last: float) -> Progress:
    """How far a portion of the work is, told as a share of the whole from ``first`` to ``last``; nobody is told where there is no progress."""

    def tell(share: float) -> None:
        if progress is not None:
            progress(first + share * (last - first))

    return tell


def one_by_one(items: Sequence[T], progress: Progress) -> Iterator[T]:
    """Items one after another, each told as it is begun and the last as it has ended."""
    for number, item in enumerate(items):
        progress(number / len(items))
        yield item
    progress(1.0)
