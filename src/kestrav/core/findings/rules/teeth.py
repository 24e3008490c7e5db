"""Drives: teeth out of mesh, axles at the wrong distance, ends that turn against each other, pivots off the axle."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np

from kestrav.core.document.edits import remove, update
from kestrav.core.document.lookup import get, get_as
from kestrav.core.document.records import Axle, Gear, Part, Project, TimedRotation, Wheel
from kestrav.core.document.trains import driven
from kestrav.core.editing.mechanism_making import centre_distance, set_end, set_gear
from kestrav.core.editing.wheel_making import axle_of, axles_apart
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Evidence, Finding, Fix, at_moment, point
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.lane_values import mesh_errors, rolled_distances
from kestrav.core.kinematics.motion import Motion
from kestrav.core.mechanisms.gears import ratio, right_distance, stand, toothed
from kestrav.core.mechanisms.joints import joints
from kestrav.core.mechanisms.linkage import unit
from kestrav.core.parts.placing import placement, shift
from kestrav.core.parts.rest import rest_and_pivot

MESH = 0.05  # of a tooth; common practice, no source
APART = 0.1  # of a module, as above
RATIO = 1e-3  # of the driven end's turning, as above
OFF_AXLE = 0.1  # mm, as above
_ALONG = 0.99


def find(evidence: Evidence) -> list[Finding]:
    """For each drive what is wrong with it."""
    driven_parts = driven(evidence.project)
    return [f for gear in evidence.project.gears for f in _of(evidence, gear, driven_parts[gear.id])]


def _of(evidence: Evidence, gear: Gear, side: str | None) -> Iterator[Finding]:
    project = evidence.project
    yield from _off_axle(evidence, gear)
    wanted = right_distance(gear)
    if wanted is not None:
        yield from _distance(evidence, gear, wanted)
    if side is None and (fault := _against(evidence, gear)) is not None:
        yield fault
        return
    times = evidence.times
    if not len(times):
        return
    yield from _hardly(evidence, gear)
    error = np.abs(mesh_errors(project, gear, times))
    worst = int(np.argmax(error))
    if error[worst] > MESH:
        mesh = partial(set_gear, meshes=evidence.meshes, gear_id=gear.id)
        yield _finding(
            evidence,
            gear,
            float(times[worst]),
            rule="gear-teeth",
            severity="warning",
            title=f"{gear.name}: teeth out of mesh",
            detail=f"By {error[worst]:.2f} of a tooth at {times[worst]:.2f} s; {MESH:g} allowed",
            value=float(error[worst]),
            unit="",
            limit=MESH,
            fix=Fix("Mesh the gears", mesh),
        )


def _hardly(evidence: Evidence, gear: Gear) -> Iterator[Finding]:
    """A drive that goes on by less than a tooth, so that its teeth say nothing."""
    if not toothed(gear):
        return
    tooth = np.pi * gear.pitch if gear.kind in ("external", "internal", "rack") else gear.pitch
    rolled = float(np.ptp(rolled_distances(evidence.project, gear, evidence.times)))
    if not 1e-6 < rolled < tooth:
        return
    yield _finding(
        evidence,
        gear,
        0.0,
        rule="gear-less-than-a-tooth",
        severity="note",
        title=f"{gear.name} moves by less than a tooth",
        detail=f"By {rolled:,.2f} mm in all, and a tooth is {tooth:,.2f} mm",
        value=rolled,
        unit="mm",
        limit=float(tooth),
    )


def _against(evidence: Evidence, gear: Gear) -> Finding | None:
    """Both ends turned by something else, and not as their ratio says."""
    project = evidence.project
    motion = Motion(project)
    times = motion.grid
    a, b = (motion.turned(end.part, end.axle.direction, times) for end in (gear.a, gear.b))
    rest = stand(gear, *(rest_and_pivot(project, end.part)[0][None] for end in (gear.a, gear.b)))
    asked = rest.sense * ratio(gear) * np.diff(a)
    off = np.abs(np.diff(b) - asked)
    all_turning = float(max(np.abs(asked).sum(), np.abs(np.diff(b)).sum()))
    if off.sum() <= RATIO * max(all_turning, 1e-9):
        return None
    wrong = bool((np.diff(b) * asked < 0).any())
    moment = float(times[int(np.argmax(off > 0))])
    fix = None
    sources = [j.item for j in joints(project).get(gear.b.part, ()) if isinstance(j.item, TimedRotation | Wheel)]
    if len(sources) == 1:
        source = sources[0]
        name = get(project, gear.a.part).name
        fix = Fix(f"Let {name} turn it, without {source.name}", partial(remove, item_id=source.id))
    unit_ = "mm" if gear.kind == "rack" else "°"
    amount = float(off.sum()) if gear.kind == "rack" else float(np.degrees(off.sum()))
    how = "turn against each other" if wrong else "do not keep their ratio"
    return _finding(
        evidence,
        gear,
        moment,
        rule="gear-wrong-sense" if wrong else "gear-ratio",
        severity="breach",
        title=f"{gear.name} {how}",
        detail=f"Both are driven by other motions and are {amount:,.1f} {unit_} off in all",
        value=amount,
        unit=unit_,
        limit=0.0,
        fix=fix,
    )


def _distance(evidence: Evidence, drive: Gear, wanted: float) -> Iterator[Finding]:
    project = evidence.project
    apart, limit = centre_distance(project, drive), APART * drive.pitch
    off = apart - wanted
    if abs(off) <= limit:
        return
    teeth = (
        drive.a.teeth
        if drive.kind == "rack"
        else abs(drive.a.teeth + drive.b.teeth * (1 if drive.kind == "external" else -1))
    )
    module = 2 * apart / max(teeth, 1)
    fixes = [
        Fix(
            f"Move {get(project, drive.b.part).name} by {abs(off):,.2f} mm",
            partial(_at_distance, gear=drive, wanted=wanted),
        ),
        Fix(
            f"Set module to {module:.4g} mm",
            partial(set_gear, meshes=evidence.meshes, gear_id=drive.id, pitch=module),
        ),
    ]
    if drive.kind == "rack":
        line = _line_at(project, drive, wanted)
        fixes[0] = Fix(
            f"Put its pitch line {wanted:,.2f} mm from the axle",
            partial(set_end, meshes=evidence.meshes, gear_id=drive.id, side="b", axle=line),
        )
    yield _finding(
        evidence,
        drive,
        0.0,
        rule="gear-axle-distance",
        severity="warning",
        title=f"{drive.name}: {'too far apart' if off > 0 else 'too near'}",
        detail=f"{apart:,.2f} mm from axle to {'pitch line' if drive.kind == 'rack' else 'axle'}, and the teeth need "
        f"{wanted:,.2f} mm; {limit:.2f} mm allowed",
        value=abs(off),
        unit="mm",
        limit=limit,
        fix=fixes[0],
        also=tuple(fixes[1:]),
    )


def _toward(project: Project, gear: Gear) -> tuple[np.ndarray, np.ndarray]:
    """The pose of a drive's second end, and the direction from the first one to it across the first one's axle, in space."""
    one, two = (rest_and_pivot(project, end.part)[0] for end in (gear.a, gear.b))
    direction = (two[:3, :3] @ np.array(gear.b.axle.origin) + two[:3, 3]) - (
        one[:3, :3] @ np.array(gear.a.axle.origin) + one[:3, 3]
    )
    for axis in (one[:3, :3] @ unit(gear.a.axle.direction), two[:3, :3] @ unit(gear.b.axle.direction)):
        direction = direction - (direction @ axis) * axis
    return two, unit(direction)


def _at_distance(project: Project, gear: Gear, wanted: float) -> Project:
    """The project with a drive's second end moved along the line of both axles, to the distance that its teeth need."""
    two, direction = _toward(project, gear)
    part = get_as(project, gear.b.part, Part)
    above = np.eye(4) if part.parent is None else rest_and_pivot(project, part.parent)[0]
    there = shift((wanted - centre_distance(project, gear)) * direction) @ two
    return update(project, part.id, placement=placement(inverse_rigid(above) @ there))


def _line_at(project: Project, gear: Gear, wanted: float) -> Axle:
    two, direction = _toward(project, gear)
    step = two[:3, :3].T @ ((wanted - centre_distance(project, gear)) * direction)
    return Axle(point(np.array(gear.b.axle.origin) + step), gear.b.axle.direction)


def _off_axle(evidence: Evidence, gear: Gear) -> Iterator[Finding]:
    """An end that turns beside its own cylinder's axis."""
    for side, end in (("a", gear.a), ("b", gear.b)):
        if gear.kind == "rack" and side == "b":
            continue
        try:
            axle, radius = axle_of(evidence.project, evidence.meshes, end.part)
        except BadInput:
            continue
        if abs(float(unit(axle.direction) @ unit(end.axle.direction))) < _ALONG:
            continue
        away = axles_apart(axle, end.axle)
        if not OFF_AXLE < away < radius:
            continue
        right = Axle(axle.origin, end.axle.direction)
        yield _finding(
            evidence,
            gear,
            0.0,
            rule="gear-off-axle",
            severity="warning",
            title=f"{gear.name}: {get(evidence.project, end.part).name} rotates off its axis",
            detail=f"{away:,.1f} mm beside its cylinder's axis; {OFF_AXLE:g} mm allowed",
            value=away,
            unit="mm",
            limit=OFF_AXLE,
            fix=Fix(
                "Turn about its cylinder's axis",
                partial(set_end, meshes=evidence.meshes, gear_id=gear.id, side=side, axle=right),
            ),
        )


def _finding(evidence: Evidence, gear: Gear, time: float, **fields: Any) -> Finding:
    place = Motion(evidence.project).pin(gear.a.part, gear.a.axle.origin, np.array([time]))[0]
    return at_moment(evidence, (gear.id, gear.b.part, gear.a.part), time, place, **fields)
