"""What is asked of pairs: which are checked, and how far apart they must stay. Lengths in mm."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import subtree
from kestrav.core.document.records import Project, Requirement

Array = NDArray[np.float64]

GENERAL = -1
NEARER = 0.3  # mm by which what stands nearer than required may come nearer, and no more than half of how near it is


class Asked(msgspec.Struct, frozen=True):
    """For pairs (p,): the clearance they must keep in mm, NaN where they are not checked, and by which requirement of the project's list
    (``GENERAL``: none)."""

    need: Array
    whose: NDArray[np.intp]

    @property
    def checked(self) -> NDArray[np.bool_]:
        """Which pairs (p,) are checked."""
        asked: NDArray[np.bool_] = np.isfinite(self.need)
        return asked


def asked_of(project: Project, pairs: Sequence[tuple[str, str]]) -> Asked:
    """What is asked of pairs of solids, by the requirements that apply to them (the last one holds) or else by the project's own."""
    need = np.full(len(pairs), np.nan if project.settings.only_listed else project.settings.required_clearance)
    whose = np.full(len(pairs), GENERAL, np.intp)
    for number, item in enumerate(project.requirements):
        mine, theirs = _sides(project, item)
        for k, (a, b) in enumerate(pairs):
            if _between(a, b, mine, theirs):
                need[k], whose[k] = required_by(project, item) if item.checked else np.nan, number
    return Asked(need, whose)


def required_by(project: Project, item: Requirement) -> float:
    """The clearance in mm that a requirement asks for."""
    return project.settings.required_clearance if item.required is None else item.required


def _sides(project: Project, item: Requirement) -> tuple[set[str], set[str] | None]:
    mine = {i for thing in item.things for i in subtree(project, thing)}
    return mine, {i for thing in item.others for i in subtree(project, thing)} if item.others else None


def _between(a: str, b: str, mine: set[str], theirs: set[str] | None) -> bool:
    if theirs is None:
        return (a in mine) != (b in mine)
    return (a in mine and b in theirs) or (b in mine and a in theirs)
