"""Making wheels, castors and rotations, and making ends meet: edits, and the sums behind them. Lengths in mm, angles in degrees."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import get, get_as, new_id, new_name
from kestrav.core.document.records import Axle, Castor, Feature, Part, Project, Run, TimedRotation, Wheel
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import Face, vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import segments_of
from kestrav.core.kinematics.runs import course_of, span
from kestrav.core.parts.rest import own_bounds, rest_poses, rows
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import path_of, set_length

Array = NDArray[np.float64]


_LEVEL = 0.1  # sine of an axle's angle to the upright below which a wheel has no way ahead


def tread(shape: Mesh) -> Face | None:
    """The widest cylinder of a solid: a wheel's tread, or None where it has none."""
    cylinders = [face for face in shape.faces if face.kind == "cylinder"]
    return max(cylinders, key=lambda face: face.radius, default=None)


def axle_of(project: Project, meshes: Mapping[str, Mesh], part_id: str) -> tuple[Axle, float]:
    """A wheel's axle, in the middle of its tread, and its radius in mm, from its CAD cylinder.

    Raises BadInput when the part is no solid or has no cylinder.
    """
    part = get(project, part_id)
    if not isinstance(part, Part) or part.geometry is None:
        raise BadInput(f"“{part.name}” is not a solid of its own; choose the wheel itself")
    face = tread(solid_mesh(meshes, part))
    if face is None:
        raise BadInput(f"“{part.name}” has no cylinder to take an axle and radius from; type them in the card")
    axis = np.array(face.axis)
    middle = np.array(face.origin) + 0.5 * (face.along[0] + face.along[1]) * axis
    return Axle(vector(np.round(middle, 6)), vector(axis)), face.radius


def axles_apart(one: Axle, two: Axle) -> float:
    """How far a point of the second axle is beside the first, in mm: how far parallel ones are apart."""
    direction = np.array(one.direction) / np.linalg.norm(one.direction)
    step = np.array(two.origin) - np.array(one.origin)
    return float(np.linalg.norm(step - (step @ direction) * direction))


def add_wheels(project: Project, meshes: Mapping[str, Mesh], part_ids: Iterable[str]) -> Project:
    """The project with wheels that roll by what carries them, their axles and radii from their CAD cylinders.

    Several of one radius are linked: a change of one's radius or slip is one of all.
    """
    ids = list(part_ids)
    edited = []
    for part_id in ids:
        if any(r.part == part_id for r in project.wheels):
            raise BadInput(f"“{get(project, part_id).name}” rolls already")
        edited.append(axle_of(project, meshes, part_id))
    alike = len(ids) > 1 and len({radius for _, radius in edited}) == 1
    link = f"{new_id(project, Wheel)}-link" if alike else ""
    for part_id, (axle, radius) in zip(ids, edited, strict=True):
        name = new_name(project, Wheel, _called(project, part_id))
        project = add(project, Wheel(new_id(project, Wheel), name, part_id, axle, radius, radius, link=link))
    return project


def picked_axle(project: Project, part_id: str, feature: Feature, old: Axle) -> Axle:
    """The axis of what was picked (a round edge, cylinder or straight edge, of this part or another) in a part's own coordinates, in
    the sense of an older axle. Raises BadInput for what has no axis."""
    if feature.axis is None:
        raise BadInput("what was picked has no axis; pick a round edge, a cylinder or a straight edge")
    origin, axis = np.array(feature.origin), np.array(feature.axis)
    if feature.part != part_id:
        rest, row = rest_poses(project), rows(project)
        there = np.eye(4) if feature.part is None else rest[row[feature.part]]
        back = inverse_rigid(rest[row[part_id]]) @ there
        origin, axis = (back @ np.append(origin, 1.0))[:3], back[:3, :3] @ axis
    # the sense in which turning is counted stays
    axis = axis * (1.0 if axis @ np.array(old.direction) >= 0 else -1.0)
    return Axle(vector(np.round(origin, 6)), vector(axis))


def take_axle(project: Project, item_id: str, feature: Feature) -> Project:
    """The project with a wheel, castor or rotation that turns about what was picked.

    A wheel takes the radius too, where there is one, and the residual of the fit. Raises BadInput for what has no axis.
    """
    item = get(project, item_id)
    if isinstance(item, Castor):
        return update(project, item_id, kingpin=picked_axle(project, item.part, feature, item.kingpin))
    assert isinstance(item, Wheel | TimedRotation)
    axle = picked_axle(project, item.part, feature, item.axle)
    if isinstance(item, TimedRotation):
        return update(project, item_id, axle=axle)
    fields: dict[str, object] = {"axle": axle, "residual": 0.0 if feature.exact else feature.residual}
    if feature.radius > 0:
        fields |= {"radius": feature.radius, "outer": feature.radius}
    return update(project, item_id, **fields)


def _called(project: Project, part_id: str) -> str:
    """What a wheel is called: by what it belongs to as well, as most wheels have the same name."""
    part = get_as(project, part_id, Part)
    return part.name if part.parent is None else f"{part.name} of {get(project, part.parent).name}"


def add_castor(project: Project, part_id: str) -> Project:
    """The project with a castor that turns about an upright kingpin through the middle of what it holds."""
    part = get(project, part_id)
    if not isinstance(part, Part):
        raise BadInput(f"“{part.name}” is no part; choose the castor")
    if any(s.part == part_id for s in project.castors):
        raise BadInput(f"“{part.name}” swivels already")
    rotation = rest_poses(project)[rows(project)[part_id], :3, :3]
    middle = own_bounds(project, part_id).mean(axis=0)
    kingpin = Axle(vector(np.round(middle, 6)), vector(rotation.T @ np.array([0.0, 0.0, 1.0])))
    # ahead is where what carries it goes: its own front, if that is level
    ahead = rotation.T @ np.array([1.0, 0.0, 0.0])
    carrier = next((r for r in project.runs if r.rider in _above(project, part_id)), None)
    if carrier is not None:
        ahead = rotation.T @ _facing(project, carrier)
    wheel = next((r for r in project.wheels if part_id in (r.part, *_above(project, r.part))), None)
    if wheel is not None:
        # its way ahead is the one in which its wheel rolls, also where it is built askew
        axis = rest_poses(project)[rows(project)[wheel.part], :3, :3] @ np.array(wheel.axle.direction)
        wheels = rotation.T @ np.cross(axis, [0.0, 0.0, 1.0])
        if np.linalg.norm(wheels) > _LEVEL:
            ahead = wheels / np.linalg.norm(wheels) * (1.0 if wheels @ ahead >= 0 else -1.0)
    name = new_name(project, Castor, f"{part.name} swivels")
    return add(project, Castor(new_id(project, Castor), name, part_id, kingpin, vector(np.round(ahead, 9))))


def _above(project: Project, part_id: str) -> list[str]:
    chain, here = [], get(project, part_id)
    while isinstance(here, Part) and here.parent is not None:
        chain.append(here.parent)
        here = get(project, here.parent)
    return chain


def _facing(project: Project, run: Run) -> Array:
    """The way in which a run's rider looks at rest, level."""
    front = rest_poses(project)[rows(project)[run.rider], :3, 0].copy()
    front[2] = 0.0
    facing: Array = front / max(float(np.linalg.norm(front)), 1e-9)
    return facing


def add_rotations(
    project: Project, meshes: Mapping[str, Mesh], part_ids: Iterable[str], *, mirrored: bool = False
) -> Project:
    """The project with parts or assemblies that spin at 60 turns a minute, each about its widest cylinder or its pivot's upright.

    Several are linked, and go alike; ``mirrored`` every second one turns the other way about.
    """
    ids = list(part_ids)
    link = f"{new_id(project, TimedRotation)}-link" if len(ids) > 1 else ""
    first: Array | None = None
    for k, part_id in enumerate(ids):
        part = get(project, part_id)
        if not isinstance(part, Part):
            raise BadInput(f"“{part.name}” is no part; choose what is to rotate")
        try:
            axle = axle_of(project, meshes, part_id)[0]
        except BadInput:
            axle = Axle(part.pivot.position, (0.0, 0.0, 1.0))
        # counted about the same direction in space, so that they turn the same way
        turned = rest_poses(project)[rows(project)[part_id], :3, :3] @ np.array(axle.direction)
        if first is not None and turned @ first < 0:
            axle = Axle(axle.origin, vector(-np.array(axle.direction)))
        first = turned if first is None else first
        name = new_name(project, TimedRotation, f"{part.name} spins")
        edited = TimedRotation(
            new_id(project, TimedRotation), name, part_id, axle, mirrored=mirrored and k % 2 == 1, link=link
        )
        project = add(project, edited)
    return project


# sums


def rolled_distance(project: Project, roll: Wheel, time: float | None = None) -> float:
    """The way in mm that a wheel has rolled until a time in s, or in all; less what it rolled back."""
    path = Motion(project).rolling(roll)
    moment = span(project) if time is None else time
    return float(np.interp(moment, path.path.times, path.distance))


def turns_of(project: Project, roll: Wheel, time: float | None = None) -> float:
    """The turns that a wheel has made until a time in s, or in all: way by circumference, with its share of slip."""
    return (1.0 + roll.slip) * rolled_distance(project, roll, time) / (2 * np.pi * roll.radius)


# making ends meet


def _one_run(project: Project, roll: Wheel) -> Run:
    """The only run that carries a wheel. Raises BadInput when there is not just one."""
    carriers = [roll.part, *_above(project, roll.part)]
    runs = [
        segment.item for thing in carriers for segment in segments_of(project, thing) if isinstance(segment.item, Run)
    ]
    if len(runs) != 1:
        raise BadInput(f"“{roll.name}” is carried by {len(runs)} runs; ends can be made to meet on one path only")
    run = runs[0]
    assert isinstance(run, Run)
    return run


class Ends(msgspec.Struct, frozen=True):
    """What would make a wheel's turns a whole number of marks around it, the nearest: turns as they are and wanted, and the working
    radius in mm, the path's length in mm (none where it is not on one path only), the slip as a share and the start angle in
    degrees that do so, each by itself."""

    turns: float
    wanted: float
    radius: float
    length: float | None
    slip: float
    start: float


def ends(project: Project, roll_id: str, marks: int = 1) -> Ends:
    """How a wheel with so many marks (teeth, grooves) around it would end on one. Raises BadInput when it rolls nowhere."""
    roll = _roll(project, roll_id)
    if not 1 <= marks <= MOST_MARKS:
        raise BadInput(f"{marks} marks around a wheel are not possible; give 1 to {MOST_MARKS}")
    turns = turns_of(project, roll)
    if abs(turns) < 1e-9:
        raise BadInput(f"“{roll.name}” rolls nowhere, so nothing makes it turn")
    sense = 1.0 if turns > 0 else -1.0
    wanted = sense * max(round(abs(turns) * marks), 1) / marks
    try:
        run = _one_run(project, roll)
        course = course_of(project, run)
        # what of the path's length is not travelled goes with it
        length: float | None = course.path.length * wanted / turns if roll.slip > -1 else None
    except BadInput:
        length = None
    off = 360.0 * (turns - wanted)
    return Ends(
        turns,
        wanted,
        roll.radius * turns / wanted,
        length,
        (1.0 + roll.slip) * wanted / turns - 1.0,
        float((roll.start - off + 180.0) % 360.0 - 180.0),
    )


MOST_MARKS = 10_000


def with_radius(project: Project, roll_id: str, marks: int = 1) -> Project:
    """The project with the working radius by which a wheel ends on a mark, the nearest one."""
    return update(project, roll_id, radius=ends(project, roll_id, marks).radius)


def with_slip(project: Project, roll_id: str, marks: int = 1) -> Project:
    """The project with the slip by which a wheel ends on a mark, the nearest one."""
    return update(project, roll_id, slip=ends(project, roll_id, marks).slip)


def with_length(project: Project, roll_id: str, marks: int = 1) -> Project:
    """The project with the length of a wheel's path by which it ends on a mark, the nearest one."""
    return with_turns(project, roll_id, abs(ends(project, roll_id, marks).wanted))


def with_start(project: Project, roll_id: str, marks: int = 1) -> Project:
    """The project with the start angle by which a mark of a wheel is at the end where one now is at the start."""
    return update(project, roll_id, start=ends(project, roll_id, marks).start)


def with_turns(project: Project, roll_id: str, turns: float) -> Project:
    """The project with the path of a wheel's only run as long as it must be for so many turns, its start staying.

    Raises BadInput when more than one run carries it, or the run is not on all of its path.
    """
    roll = _roll(project, roll_id)
    run = _one_run(project, roll)
    if not turns > 0:
        raise BadInput(f"{turns:g} turns are not possible; give more than 0")
    for _ in range(30):
        have = abs(turns_of(project, _roll(project, roll_id)))
        if have < 1e-9:
            raise BadInput(f"“{roll.name}” rolls nowhere on its path")
        if abs(have - turns) < 1e-9 * turns:
            break
        path = path_of(project, run.path)
        project = set_length(project, path.id, path_curve(path).length * turns / have)
    return project


def _roll(project: Project, roll_id: str) -> Wheel:
    roll = get_as(project, roll_id, Wheel)
    return roll
