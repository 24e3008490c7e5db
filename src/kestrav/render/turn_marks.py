"""How the selected wheel, castor, rotation, gear or rod turns: its axles with their direction, and arrows about them in the sense of
the turning."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.records import Ball, Gear, Project, Rod, Turner, Wheel
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import span
from kestrav.core.mechanisms.gears import across, pitch_radius
from kestrav.core.mechanisms.joints import Joint, joints_of
from kestrav.core.mechanisms.linkage import unit
from kestrav.core.parts.rest import own_bounds, rows
from kestrav.render.marks import flat
from kestrav.render.palette import INK, STRAW
from kestrav.render.shapes import put_data, segments

Array = NDArray[np.float64]

_ARC = np.radians(np.linspace(20.0, 320.0, 61))
_BARB = 0.16  # of the radius
_BESIDE = 1.12  # radii of the arc by those of what turns


class TurnMarks:
    """Axles as lines, with an arrow about each."""

    def __init__(self, renderer: Any) -> None:
        self.axles = flat(segments(np.empty((0, 2, 3))), INK, 1.5)
        self.arcs = flat(segments(np.empty((0, 2, 3))), STRAW, 4.0)
        self.outlines = flat(segments(np.empty((0, 2, 3))), INK, 6.5)
        for actor in (self.axles, self.outlines, self.arcs):
            actor.VisibilityOff()
            renderer.AddActor(actor)

    def show(self, project: Project, item: object, poses: Array, time: float) -> None:
        """Draw those of an item under world poses (parts, 4, 4) at a time; none of what does not turn."""
        axles, arcs = (np.empty((0, 2, 3)),) * 2
        if isinstance(item, Turner):
            drawn = [_drawn(project, joint, poses, time) for joint in _turning(project, item)]
            if drawn:
                axles, arcs = (np.concatenate(side) for side in zip(*drawn, strict=True))
        for actor, lines in ((self.axles, axles), (self.arcs, arcs), (self.outlines, arcs)):
            put_data(actor, segments(lines))
            actor.SetVisibility(len(lines) > 0)


def _turning(project: Project, item: Turner) -> list[Joint]:
    """What an item turns, and of a drive both ends."""
    turning = [joint for joint in joints_of(project, item) if joint.role == "turns"]
    if isinstance(item, Gear):
        ends = (item.a,) if item.kind == "rack" else (item.a, item.b)
        return [Joint(item, "turns", end.part, end.axle) for end in ends]
    if isinstance(item, Rod):
        return turning[:12]
    return turning if not isinstance(item, Ball) else []


def _drawn(project: Project, joint: Joint, poses: Array, time: float) -> tuple[Array, Array]:
    """The axle's line and the arrow about it, as segments (n, 2, 3)."""
    axis, x = unit(joint.axle.direction), across(joint.axle.direction)
    y, origin, radius = np.cross(axis, x), np.array(joint.axle.origin), _BESIDE * _radius(project, joint)
    sense = _sense(project, joint, time)
    angles = sense * _ARC
    arc = origin + radius * (np.cos(angles)[:, None] * x + np.sin(angles)[:, None] * y)
    tip = angles[-1]
    out = np.cos(tip) * x + np.sin(tip) * y
    ahead = sense * (np.cos(tip) * y - np.sin(tip) * x)
    barbs = [arc[-1] + radius * _BARB * (-ahead + side * 0.6 * out) for side in (1.0, -1.0)]
    end = origin + 1.5 * radius * axis
    line = [(origin - 0.8 * radius * axis, end)]
    line += [(end, end + radius * _BARB * (-axis + side * 0.6 * x)) for side in (1.0, -1.0)]
    arrow = [*pairwise(arc), *((arc[-1], barb) for barb in barbs)]
    pose = poses[rows(project)[joint.part]]
    return tuple(np.array(part) @ pose[:3, :3].T + pose[:3, 3] for part in (line, arrow))  # type: ignore[return-value]


def _radius(project: Project, joint: Joint) -> float:
    item = joint.item
    if isinstance(item, Wheel):
        return item.outer or item.radius
    if isinstance(item, Gear):
        return pitch_radius(item, item.a if joint.part == item.a.part else item.b)
    return max(0.5 * float(np.sort(np.ptp(own_bounds(project, joint.part), axis=0))[1]), 1.0)


def _sense(project: Project, joint: Joint, time: float) -> float:
    """Which way it turns at a time, or in all where it stands then."""
    motion = Motion(project)
    direction = joint.axle.direction
    for moments in ([time - 1e-3, time + 1e-3], [0.0, time], [0.0, span(project)]):
        turned = motion.turned(joint.part, direction, np.maximum(moments, 0.0))
        if abs(turned[1] - turned[0]) > 1e-9:
            return 1.0 if turned[1] > turned[0] else -1.0
    return 1.0
