"""Spinning parts: beside their axle, or turning the wrong way, or not as fast, for wheels that they are."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np

from kestrav.core.document.edits import add, remove, update
from kestrav.core.document.lookup import new_id, new_name
from kestrav.core.document.records import Axle, Project, TimedRotation, Wheel
from kestrav.core.editing.wheel_making import axle_of, axles_apart
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Evidence, Finding, Fix, Severity, at_moment, point
from kestrav.core.kinematics.lane_values import wheel_gaps
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.rolling import rolling
from kestrav.core.kinematics.runs import begins
from kestrav.core.mechanisms.linkage import unit

OFF_AXLE = 0.1  # mm; common practice, no source
SLIP = 0.02  # of the way that it rolls, as above
_ALONG = 0.99  # cosine between an axle and a cylinder's axis above which they are meant to be one


def find(evidence: Evidence) -> list[Finding]:
    """For each rotation what is wrong with it."""
    return [finding for rotation in evidence.project.rotations for finding in _of(evidence, rotation)]


def _of(evidence: Evidence, rotation: TimedRotation) -> Iterator[Finding]:
    project = evidence.project
    start = begins(project, rotation)
    try:
        axle, radius = axle_of(project, evidence.meshes, rotation.part)
    except BadInput:
        return
    if abs(float(unit(axle.direction) @ unit(rotation.axle.direction))) < _ALONG:
        return
    away = axles_apart(axle, rotation.axle)
    if OFF_AXLE < away < radius:
        same = 1.0 if float(unit(axle.direction) @ unit(rotation.axle.direction)) > 0 else -1.0
        right = Axle(axle.origin, point(same * unit(axle.direction)))
        yield _finding(
            evidence,
            rotation,
            start,
            rule="rotation-off-axle",
            title=f"{rotation.name}: it rotates off its axis",
            detail=f"{away:,.1f} mm beside its cylinder's axis; {OFF_AXLE:g} mm allowed",
            value=away,
            unit="mm",
            limit=OFF_AXLE,
            fix=Fix("Turn about its cylinder's axis", partial(update, item_id=rotation.id, axle=right)),
        )
    yield from _as_a_wheel(evidence, rotation, axle, radius)


def _as_a_wheel(evidence: Evidence, rotation: TimedRotation, axle: Axle, radius: float) -> Iterator[Finding]:
    """A rotation of what touches the ground and is carried along: it must turn as it rolls."""
    project = evidence.project
    motion = Motion(project)
    wheel = Wheel("", "", rotation.part, axle, radius, radius)
    grid = motion.grid
    track = rolling(wheel, lambda t: motion.unturned(rotation.part, t), grid)
    if float(np.abs(np.diff(track.distance)).sum()) < 1.0:
        return
    gap, _ = wheel_gaps(project, evidence.meshes, wheel, grid[:: max(len(grid) // 40, 1)])
    if np.abs(gap).max() > project.settings.ground_gap:
        return
    turned = motion.turned(rotation.part, axle.direction, grid)
    wheels = np.diff(track.distance) / radius
    off = np.abs(np.diff(turned) - wheels)
    wrong = (np.diff(turned) * wheels < 0) & (np.abs(wheels) > 1e-9)
    slip = radius * float(off.sum())
    distance = float(np.abs(np.diff(track.distance)).sum())
    fix = Fix("Use a wheel instead", partial(_roll_instead, spin_id=rotation.id, axle=axle, radius=radius))
    if wrong.any():
        moment = float(grid[int(np.argmax(wrong))])
        yield _finding(
            evidence,
            rotation,
            moment,
            rule="rotation-wrong-sense",
            title=f"{rotation.name} the wrong way",
            detail=f"It turns against its rolling for {np.diff(grid)[wrong].sum():.2f} s from {moment:.2f} s on",
            value=float(np.diff(grid)[wrong].sum()),
            unit="s",
            limit=0.0,
            fix=fix,
            severity="breach",
        )
    elif slip > max(SLIP * distance, 1.0):
        yield _finding(
            evidence,
            rotation,
            float(grid[int(np.argmax(off))]),
            rule="rotation-slip",
            title=f"{rotation.name} and slips",
            detail=f"By {slip:,.0f} mm on {distance:,.0f} mm of travel; {max(SLIP * distance, 1.0):,.1f} mm allowed",
            value=slip,
            unit="mm",
            limit=max(SLIP * distance, 1.0),
            fix=fix,
        )


def _roll_instead(project: Project, spin_id: str, axle: Axle, radius: float) -> Project:
    rotation = next(s for s in project.rotations if s.id == spin_id)
    name = new_name(project, Wheel, rotation.name.removesuffix(" spins"))
    return add(remove(project, spin_id), Wheel(new_id(project, Wheel), name, rotation.part, axle, radius, radius))


def _finding(
    evidence: Evidence, rotation: TimedRotation, time: float, severity: Severity = "warning", **fields: Any
) -> Finding:
    time = time if np.isfinite(time) else 0.0
    place = Motion(evidence.project).pin(rotation.part, rotation.axle.origin, np.array([time]))[0]
    return at_moment(evidence, (rotation.id, rotation.part), time, place, severity=severity, **fields)
