"""Limits of extraction paths as they are typed."""

from __future__ import annotations

import numpy as np

from kestrav.core.document.records import Placement, Project
from kestrav.core.errors import BadInput
from kestrav.core.parts.placing import placement
from kestrav.core.parts.rest import rest_and_pivot

Vector = tuple[float, float, float]

AXES: dict[str, Vector] = {
    "+x": (1.0, 0.0, 0.0), "-x": (-1.0, 0.0, 0.0), "+y": (0.0, 1.0, 0.0), "-y": (0.0, -1.0, 0.0), "+z": (0.0, 0.0, 1.0), "-z": (0.0, 0.0, -1.0),
}  # fmt: skip


def read_direction(text: str) -> Vector:
    """A direction typed as an axis (+x) or three numbers. Raises BadInput."""
    word = text.strip().lower().replace("−", "-")
    word = f"+{word}" if word in ("x", "y", "z") else word
    if word in AXES:
        return AXES[word]
    direction = _three(text, "direction", "+x or 1,0,2")
    if not np.any(direction):
        raise BadInput(f"the direction “{text}” leads nowhere; write it as +x or 1,0,2")
    return direction


def read_room(text: str) -> tuple[Vector, Vector]:
    """Bounds typed as x,y,z:x,y,z. Raises BadInput."""
    low, sign, high = text.partition(":")
    if not sign:
        raise BadInput(f"the room “{text}” is not understood; write it as x,y,z:x,y,z, in mm")
    room = (_three(low, "room", "x,y,z:x,y,z, in mm"), _three(high, "room", "x,y,z:x,y,z, in mm"))
    if not all(a < b for a, b in zip(*room, strict=True)):
        raise BadInput(f"the room “{text}” has no inside; give its lowest corner first")
    return room


def target_at(project: Project, thing: str, text: str) -> Placement:
    """The placement of a thing's pivot at a place typed as x,y,z, turned as it stands. Raises BadInput."""
    rest, pivot = rest_and_pivot(project, thing)
    matrix = rest @ pivot
    matrix[:3, 3] = _three(text, "place", "x,y,z, in mm")
    return placement(matrix)


def _three(text: str, what: str, how: str) -> Vector:
    try:
        x, y, z = (float(v) for v in text.replace("−", "-").split(","))
    except ValueError:
        raise BadInput(f"the {what} “{text}” is not understood; write it as {how}") from None
    if not np.isfinite((x, y, z)).all():
        raise BadInput(f"the {what} “{text}” is not finite; write it as {how}")
    return x, y, z


def given_direction(direction: Vector) -> str:
    """A unit direction in words: “+x”, or its numbers where it is along no axis."""
    for text, axis in AXES.items():
        if sum(a * b for a, b in zip(axis, direction, strict=True)) > 0.9999:
            return text.replace("-", "\u2212")
    return ", ".join(f"{x:.2f}" for x in direction)
