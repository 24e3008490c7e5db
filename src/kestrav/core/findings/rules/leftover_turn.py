"""Leftover turn: an imported thing that is going to move has axes of its own that nobody chose."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import get, one_of_several
from kestrav.core.document.records import FixedOrientation, Part
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.geometry.transforms import rotation_angle
from kestrav.core.kinematics.motion_segments import courses_of, movers
from kestrav.core.parts.placing import front_of, square_axes

ALLOWED = 0.01  # degrees; common practice, no source: placements in CAD files are exact to far less


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each mover from a file whose front and upside are the file's own, and not the room's."""
    project, findings = evidence.project, []
    rows = {part.id: i for i, part in enumerate(project.parts)}
    moved = movers(project)
    for mover in evidence.movers:
        part = get(project, mover)
        if not isinstance(part, Part) or part.baseline is None or part.pivot.rotation != (1.0, 0.0, 0.0, 0.0):
            continue
        if one_of_several(project, part):
            # how a part lies in its product is the product's own, and asks for no front
            continue
        if mover in moved and not any(
            isinstance(t.run.orientation, FixedOrientation) for t in courses_of(project, mover)
        ):
            # its run turns it as it must be, or it goes with something else
            continue
        angle = float(np.degrees(rotation_angle(evidence.rest[rows[mover]][:3, :3], np.eye(3))))
        if angle <= ALLOWED:
            continue
        pivot, front, up = front_of(project, mover)
        lying = f", its upside points {_sense(up)}" if up[2] < 0.999 else ""
        findings.append(
            Finding(
                rule="leftover-turn",
                severity="note",
                subject=(mover,),
                title=f"{part.name} has turned axes",
                detail=f"{angle:.2f}° from the room's: its front points {_sense(front)}{lying}",
                time=0.0,
                value=angle,
                unit="°",
                limit=ALLOWED,
                place=point(pivot),
                fix=Fix("Square the axes", partial(square_axes, part_id=mover)),
            )
        )
    return findings


def _sense(direction: NDArray[np.float64]) -> str:
    axis = int(np.argmax(np.abs(direction)))
    sign = "−" if direction[axis] < 0 else ""
    return f"{'nearly ' if abs(direction[axis]) < 0.9999 else ''}along {sign}{'xyz'[axis]}"
