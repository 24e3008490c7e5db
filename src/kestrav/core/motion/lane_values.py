"""Curves of the deck that are worked out of poses."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Project
from kestrav.core.motion.kinematics import Motion
from kestrav.core.motion.resting import rest_and_pivot

Array = NDArray[np.float64]


def headings(project: Project, thing: str, times: ArrayLike) -> Array:
    """Where a thing's front points as seen from above (n,), in degrees to the left from the room's x, without jumps of a
    whole turn; straight up or down it keeps what it was."""
    front = (Motion(project).poses(thing, times) @ rest_and_pivot(project, thing)[1])[:, :3, 0]
    level = np.hypot(front[:, 0], front[:, 1]) > 1e-6
    if not level.any():
        return np.zeros(len(front))
    angle = np.arctan2(front[level, 1], front[level, 0])
    places = np.flatnonzero(level)
    told = np.degrees(np.interp(np.arange(len(front)), places, np.unwrap(angle)))
    found: Array = told
    return found
