"""Making wheels, castors and spins, and making ends meet: edits, and the sums behind them. Lengths in mm, angles in degrees."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import get, new_id, new_name
from kestrav.core.document.records import Axle, Part, Project, Roll, Run, Spin, Swivel
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import Face, vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.motion.kinematics import Motion
from kestrav.core.motion.legs import legs_of
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.motion.resting import own_bounds, rest_poses, rows
from kestrav.core.motion.runs import span
from kestrav.core.motion.shaping import path_of, set_length
from kestrav.core.motion.solids import solid_mesh

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


def add_rolls(project: Project, meshes: Mapping[str, Mesh], part_ids: Iterable[str]) -> Project:
    """The project with wheels that roll by what carries them, their axles and radii from their CAD cylinders."""
    for part_id in part_ids:
        if any(r.part == part_id for r in project.rolls):
            raise BadInput(f"“{get(project, part_id).name}” rolls already")
        axle, radius = axle_of(project, meshes, part_id)
        name = new_name(project, Roll, _called(project, part_id))
        project = add(project, Roll(new_id(project, Roll), name, part_id, axle, radius, radius))
    return project


def _called(project: Project, part_id: str) -> str:
    """What a wheel is called: by what it belongs to as well, as most wheels have the same name."""
    part = get(project, part_id)
    assert isinstance(part, Part)
    return part.name if part.parent is None else f"{part.name} of {get(project, part.parent).name}"


def add_swivel(project: Project, part_id: str) -> Project:
    """The project with a castor that turns about an upright kingpin through the middle of what it holds."""
    part = get(project, part_id)
    if not isinstance(part, Part):
        raise BadInput(f"“{part.name}” is no part; choose the castor")
    if any(s.part == part_id for s in project.swivels):
        raise BadInput(f"“{part.name}” swivels already")
    rotation = rest_poses(project)[rows(project)[part_id], :3, :3]
    middle = own_bounds(project, part_id).mean(axis=0)
    kingpin = Axle(vector(np.round(middle, 6)), vector(rotation.T @ np.array([0.0, 0.0, 1.0])))
    # ahead is where what carries it goes: its own front, if that is level
    ahead = rotation.T @ np.array([1.0, 0.0, 0.0])
    carrier = next((r for r in project.runs if r.rider in _above(project, part_id)), None)
    if carrier is not None:
        ahead = rotation.T @ _facing(project, carrier)
    wheel = next((r for r in project.rolls if part_id in (r.part, *_above(project, r.part))), None)
    if wheel is not None:
        # its way ahead is the one in which its wheel rolls, also where it is built askew
        axis = rest_poses(project)[rows(project)[wheel.part], :3, :3] @ np.array(wheel.axle.direction)
        rolls = rotation.T @ np.cross(axis, [0.0, 0.0, 1.0])
        if np.linalg.norm(rolls) > _LEVEL:
            ahead = rolls / np.linalg.norm(rolls) * (1.0 if rolls @ ahead >= 0 else -1.0)
    name = new_name(project, Swivel, f"{part.name} swivels")
    return add(project, Swivel(new_id(project, Swivel), name, part_id, kingpin, vector(np.round(ahead, 9))))


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
    found: Array = front / max(float(np.linalg.norm(front)), 1e-9)
    return found


def add_spin(project: Project, meshes: Mapping[str, Mesh], part_id: str) -> Project:
    """The project with a part or assembly that spins at 60 turns a minute about its widest cylinder, or about its pivot's
    upright."""
    part = get(project, part_id)
    if not isinstance(part, Part):
        raise BadInput(f"“{part.name}” is no part; choose what is to spin")
    try:
        axle = axle_of(project, meshes, part_id)[0]
    except BadInput:
        axle = Axle(part.pivot.position, (0.0, 0.0, 1.0))
    name = new_name(project, Spin, f"{part.name} spins")
    return add(project, Spin(new_id(project, Spin), name, part_id, axle))


# sums


def way_rolled(project: Project, roll: Roll, time: float | None = None) -> float:
    """The way in mm that a wheel has rolled until a time in s, or in all; less what it rolled back."""
    path = Motion(project).rolling(roll)
    moment = span(project) if time is None else time
    return float(np.interp(moment, path.path.times, path.way))


def turns_of(project: Project, roll: Roll, time: float | None = None) -> float:
    """The turns that a wheel has made until a time in s, or in all: way by circumference, with its share of slip."""
    return (1.0 + roll.slip) * way_rolled(project, roll, time) / (2 * np.pi * roll.radius)


# making ends meet


def _one_run(project: Project, roll: Roll) -> Run:
    """The only run that carries a wheel. Raises BadInput when there is not just one."""
    carriers = [roll.part, *_above(project, roll.part)]
    runs = [leg.item for thing in carriers for leg in legs_of(project, thing) if isinstance(leg.item, Run)]
    if len(runs) != 1:
        raise BadInput(f"“{roll.name}” is carried by {len(runs)} runs; ends can be made to meet on one path only")
    run = runs[0]
    assert isinstance(run, Run)
    return run


def with_whole_turns(project: Project, roll_id: str) -> Project:
    """The project with the working radius by which a wheel makes a whole number of turns, the nearest one."""
    roll = _roll(project, roll_id)
    way = way_rolled(project, roll)
    whole = max(round(abs(turns_of(project, roll))), 1)
    radius = (1.0 + roll.slip) * abs(way) / (2 * np.pi * whole)
    if radius <= 0:
        raise BadInput(f"“{roll.name}” rolls nowhere, so no radius makes it turn")
    return update(project, roll_id, radius=radius)


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


def ending_as_it_began(project: Project, roll_id: str) -> Project:
    """The project with the start angle by which a wheel's mark is at the end where it would have been at the start."""
    roll = _roll(project, roll_id)
    made = 360.0 * turns_of(project, roll)
    return update(project, roll_id, start=float((roll.start - made + 180.0) % 360.0 - 180.0))


def _roll(project: Project, roll_id: str) -> Roll:
    roll = get(project, roll_id)
    assert isinstance(roll, Roll)
    return roll
