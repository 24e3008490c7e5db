"""Wheels: turning by more or less than they roll, dragged across, off their axle, too large, or off the ground."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import update
from kestrav.core.document.lookup import ancestors, get
from kestrav.core.document.records import Axle, Part, Project, Wheel
from kestrav.core.editing.wheel_making import add_castor, axle_of, axles_apart
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Evidence, Finding, Fix, at_moment
from kestrav.core.kinematics.lane_values import wheel_gaps
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import movers
from kestrav.core.kinematics.rolling import Rolling, sideways
from kestrav.core.parts.placing import shift
from kestrav.core.paths.shaping import transformed

Array = NDArray[np.float64]

SLIP = 1.0  # mm of way; common practice, no source
OFF_AXLE = 0.1  # mm, as above
DRAGGED = 0.02  # of the way that it goes, as above
ALONG = 0.5  # of the way that it goes, below which a wheel's axle lies along its travel


def find(evidence: Evidence) -> list[Finding]:
    """For each wheel what is wrong with it, the worst first."""
    motion = Motion(evidence.project)
    return [finding for roll in evidence.project.wheels for finding in _of(evidence, roll, motion.rolling(roll))]


def _of(evidence: Evidence, roll: Wheel, rolling: Rolling) -> Iterator[Finding]:
    path = rolling.path
    steps = np.linalg.norm(np.diff(path.centre, axis=0), axis=1)
    distance = float(steps.sum())
    if distance < SLIP:
        return
    moving = float(path.times[int(np.argmax(steps > 0))])
    exact = _exact(evidence, roll)
    forward = float(np.abs(np.diff(rolling.distance)).sum())
    if forward < ALONG * distance:
        fix = None
        if exact is not None and exact[0] != roll.axle:
            fix = Fix("Take the axle from the CAD cylinder", partial(update, item_id=roll.id, axle=exact[0]))
        yield _finding(
            evidence,
            roll,
            moving,
            path.centre[0],
            rule="wheel-axle-along",
            severity="breach",
            title=f"{roll.name}: its axle lies along its travel",
            detail=f"It rolls {forward:,.0f} of the {distance:,.0f} mm that it goes, {ALONG:.0%} required",
            value=forward / distance,
            unit="",
            limit=ALONG,
            fix=fix,
        )
        return
    slip = abs(roll.slip) * forward
    if slip > SLIP:
        yield _finding(
            evidence,
            roll,
            moving,
            path.centre[0],
            rule="wheel-slip",
            severity="warning",
            title=f"{roll.name} slips",
            detail=f"By {slip:,.1f} mm on {forward:,.0f} mm of travel ({roll.slip:+.2%}); {SLIP:g} mm allowed",
            value=slip,
            unit="mm",
            limit=SLIP,
            fix=Fix("Roll without slip", partial(update, item_id=roll.id, slip=0.0)),
        )
    dragged = float(sideways(path)[-1])
    if dragged > max(DRAGGED * distance, SLIP):
        yield _finding(
            evidence,
            roll,
            moving,
            path.centre[0],
            rule="wheel-dragged",
            severity="note",
            title=f"{roll.name} is dragged sideways",
            detail=f"By {dragged:,.0f} of {distance:,.0f} mm; {DRAGGED:.0%} allowed. A castor that swivels would roll",
            value=dragged,
            unit="mm",
            limit=DRAGGED * distance,
            fix=_swivelling(evidence, roll),
        )
    if exact is not None:
        yield from _off(evidence, roll, rolling, moving, *exact)
    yield from _off_ground(evidence, roll, rolling)


def _exact(evidence: Evidence, roll: Wheel) -> tuple[Axle, float] | None:
    try:
        return axle_of(evidence.project, evidence.meshes, roll.part)
    except BadInput:
        return None


def _off(
    evidence: Evidence, roll: Wheel, rolling: Rolling, time: float, axle: Axle, radius: float
) -> Iterator[Finding]:
    """An axle beside the wheel's own, and a working radius larger than the wheel."""
    away = axles_apart(axle, roll.axle)
    if away > OFF_AXLE:
        yield _finding(
            evidence,
            roll,
            time,
            rolling.path.centre[0],
            rule="wheel-off-axle",
            severity="warning",
            title=f"{roll.name} rotates off its axis",
            detail=f"{away:,.1f} mm beside its cylinder's axis; {OFF_AXLE:g} mm allowed",
            value=away,
            unit="mm",
            limit=OFF_AXLE,
            fix=Fix("Turn about its cylinder's axis", partial(update, item_id=roll.id, axle=axle)),
        )
    if roll.radius > radius + OFF_AXLE:
        yield _finding(
            evidence,
            roll,
            time,
            rolling.path.centre[0],
            rule="wheel-radius",
            severity="warning",
            title=f"{roll.name}: its working radius is larger than the wheel",
            detail=f"{roll.radius:,.2f} mm, and the wheel has {radius:,.2f} mm",
            value=roll.radius,
            unit="mm",
            limit=radius,
            fix=Fix(f"Roll by {radius:,.2f} mm", partial(update, item_id=roll.id, radius=radius, outer=radius)),
        )


def _off_ground(evidence: Evidence, roll: Wheel, rolling: Rolling) -> Iterator[Finding]:
    """A wheel that does not touch what it rolls on."""
    project, limit = evidence.project, evidence.project.settings.ground_gap
    times = rolling.path.times[np.linspace(0, len(rolling.path.times) - 1, 81).astype(int)]
    gap, centre = wheel_gaps(project, evidence.meshes, roll, times)
    worst = int(np.argmax(np.abs(gap)))
    if abs(gap[worst]) <= limit:
        return
    how = "above" if gap[worst] > 0 else "sunk into"
    fix = None
    even = float(np.ptp(gap)) <= limit
    path_id = _path_of(project, roll)
    if even and path_id is not None:
        verb = "Lower" if gap[worst] > 0 else "Raise"
        by = float(np.median(gap))
        fix = Fix(
            f"{verb} {get(project, path_id).name} by {abs(by):,.1f} mm", partial(_shifted, path_id=path_id, by=-by)
        )
    yield _finding(
        evidence,
        roll,
        float(times[worst]),
        centre[worst],
        rule="wheel-off-ground",
        severity="warning",
        title=f"{roll.name} does not touch the ground",
        detail=f"{abs(gap[worst]):,.1f} mm {how} it at {times[worst]:.2f} s; {limit:g} mm allowed",
        value=float(abs(gap[worst])),
        unit="mm",
        limit=limit,
        fix=fix,
    )


def _path_of(project: Project, roll: Wheel) -> str | None:
    """The one path on which a wheel is carried, if it is but one."""
    carriers = {roll.part, *ancestors(project, roll.part)}
    paths = {run.path for run in project.runs if run.rider in carriers}
    return next(iter(paths)) if len(paths) == 1 else None


def _shifted(project: Project, path_id: str, by: float) -> Project:
    return transformed(project, path_id, shift((0.0, 0.0, by)))


def _swivelling(evidence: Evidence, roll: Wheel) -> Fix | None:
    """Letting what holds a wheel swivel, where that is not what goes along the path itself."""
    project = evidence.project
    part = get(project, roll.part)
    holder = part.parent if isinstance(part, Part) else None
    if holder is None or holder in movers(project) or any(s.part == holder for s in project.castors):
        return None
    return Fix(f"Let {get(project, holder).name} swivel", partial(add_castor, part_id=holder))


def _finding(evidence: Evidence, roll: Wheel, time: float, place: Array, **fields: Any) -> Finding:
    return at_moment(evidence, (roll.id, roll.part), time, place, **fields)
