"""Starting points: a motion, a camera and a shot of somebody's own product in one step. Lengths in mm, times in s, angles in degrees."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.lens import angles
from kestrav.core.camera.making import add_passing, add_standing
from kestrav.core.camera.orbits import add_turntable, fits, keeps_size, solid_corners
from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import get, get_as, new_id, new_name, subtree, topmost
from kestrav.core.document.records import (
    Camera,
    FixedOrientation,
    Framing,
    Part,
    Path,
    PathPoint,
    Placement,
    PointAim,
    PointShape,
    Project,
)
from kestrav.core.editing.run_making import add_run, pivot_on_it
from kestrav.core.editing.wheel_making import add_wheels, axle_of, tread, with_turns
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import apply
from kestrav.core.parts.arranging import group
from kestrav.core.parts.placing import bounds_of
from kestrav.core.parts.rest import rest_and_pivot, rest_poses, row_of
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

_ELEVATION, _AZIMUTH = 18.0, -65.0  # from where a camera of a plan looks, if nothing else is said
_NEAREST, _FARTHER, _TRIED = 1.2, 1.1, 24  # times the size, and each distance to the one before
_PASSING_REACH = 2.5  # times its length, that what drives past goes to either side of the camera
_NEAR = 0.25  # of its distance from the middle, that a camera may come near to anything, where that is less than usual
_ROOM = 0.75  # of the frame's width, over which what is nearest may reach
_ROUND = 0.15  # by which a wheel's tread may differ from how wide and high it is in all


def as_one(project: Project, things: Sequence[str]) -> tuple[Project, str]:
    """The project in which things are one, grouped if they are several, and its id. Raises BadInput for none."""
    outer = topmost(project, things)
    if not outer:
        raise BadInput("there is no product yet; add one first")
    if len(outer) == 1:
        return project, outer[0]
    grouped = group(project, outer, "Product")
    return grouped, next(p.id for p in grouped.parts if p.id not in {q.id for q in project.parts})


def turntable(
    project: Project, meshes: Mapping[str, Mesh], things: Sequence[str], seconds: float = 12.0, turns: float = 1.0
) -> Project:
    """The project with things that turn once, or so often, before a camera that has all of them in its frame all the time, and a shot that
    loops."""
    project, thing = as_one(project, things)
    corners = solid_corners(project, meshes, [thing])
    places = _places_for(corners)
    edited = add_turntable(project, thing, np.round(places[0]), seconds, 0.0, abs(turns), clockwise=turns < 0)
    camera = edited.cameras[-1]
    away = float(np.linalg.norm(places[0] - _middle(corners)))
    # a long thing that turns is now its side and now its end: then no steady size is asked for
    steady = camera.framing.change if keeps_size(places, corners) else 0.0
    framing = Framing(change=steady, near=min(camera.framing.near, _NEAR * away))
    return update(edited, camera.id, framing=framing)


def _middle(corners: Array) -> Array:
    return np.asarray(0.5 * (corners.min(axis=0) + corners.max(axis=0)))


def _places_for(corners: Array) -> Array:
    """The nearest places (n, 3) around what lies at corners (k, 3), from the usual direction on, from all of which a camera has it in its
    frame: as one that stands at the first sees it turn."""
    away = _NEAREST * float(np.linalg.norm(np.ptp(corners, axis=0)))
    angles = np.radians(_AZIMUTH + np.linspace(0.0, 360.0, 48, endpoint=False))
    rise = np.full(len(angles), np.radians(_ELEVATION))
    directions = np.stack([np.cos(rise) * np.cos(angles), np.cos(rise) * np.sin(angles), np.sin(rise)], axis=1)
    for _ in range(_TRIED):
        if fits(_middle(corners) + away * directions, corners):
            break
        away *= _FARTHER
    return np.asarray(_middle(corners) + away * directions)


def drive_past(
    project: Project,
    meshes: Mapping[str, Mesh],
    things: Sequence[str],
    seconds: float = 6.0,
    distance: float = 0.0,
) -> Project:
    """The project with things that drive past a standing camera, along their longer side, so far in all (0: five times their length), and
    a shot of it. The camera looks after them; as they pass they reach over three quarters of its frame."""
    project, thing = as_one(project, things)
    project = pivot_on_it(project, thing)
    low, high = bounds_of(project, [thing])
    along = np.eye(3)[int(np.argmax((high - low)[:2]))]
    long, reach = float((high - low)[:2].max()), reach_of(project, [thing], distance)
    pose, pivot = rest_and_pivot(project, thing)
    here = (pose @ pivot)[:3, 3]
    ends = PointShape((PathPoint(vector(here - reach * along)), PathPoint(vector(here + reach * along))))
    project, run = _sent_along(project, thing, ends, f"{get(project, thing).name} drives past", seconds)
    size = high - low
    away = _away_for(long, float(size[2])) + 0.5 * float(size[1 - int(np.argmax(along))])
    edited = add_passing(project, run, 0.5, round(away), round(0.25 * float(size[2]) - _above(here, low, high), 1))
    camera = edited.cameras[-1]
    return update(edited, camera.id, framing=Framing(near=min(Framing().near, _NEAR * away)))


def _away_for(wide: float, high: float) -> float:
    """How far from a new camera what is so wide and high in mm reaches over its share of the frame."""
    across, upright, _ = angles(Camera("", "", PointAim((0.0, 0.0, 0.0))), 16.0, 9.0)
    return float(max(wide / np.tan(0.5 * across), high / np.tan(0.5 * upright)) / (2.0 * _ROOM))


def reach_of(project: Project, things: Sequence[str], distance: float) -> float:
    """How far in mm to either side of the camera things drive past it, given the distance in all or 0."""
    low, high = bounds_of(project, things)
    return 0.5 * distance if distance > 0 else _PASSING_REACH * float((high - low)[:2].max())


def _above(place: Array, low: Array, high: Array) -> float:
    """How far a place is above the middle of bounds."""
    return float(place[2] - 0.5 * (low[2] + high[2]))


def _sent_along(project: Project, thing: str, shape: PointShape, name: str, seconds: float) -> tuple[Project, str]:
    """The project with a thing sent along a line, unturned, in a time; and the run's id."""
    path = Path(new_id(project, Path), new_name(project, Path, name), shape)
    project = add_run(add(project, path), thing, path.id)
    run = project.runs[-1].id
    return update(project, run, duration=seconds, speed=None, orientation=FixedOrientation(), name=name), run


def wheels_of(project: Project, meshes: Mapping[str, Mesh], things: Sequence[str]) -> list[str]:
    """The parts among things that are round like a wheel: their widest cylinder is as wide as they are across it. Largest first."""
    inner = {p.id for p in project.parts} if not things else {i for thing in things for i in subtree(project, thing)}
    wheels = []
    for part in project.parts:
        if part.id not in inner or part.geometry is None:
            continue
        shape = solid_mesh(meshes, part)
        face = tread(shape)
        if face is None:
            continue
        axis = np.array(face.axis)
        across = shape.vertices - np.outer(shape.vertices @ axis, axis)
        wide = float(np.linalg.norm(np.ptp(across, axis=0))) / np.sqrt(2.0)
        if abs(wide / (2.0 * face.radius) - 1.0) <= _ROUND:
            wheels.append((face.radius, part.id))
    return [part for _, part in sorted(wheels, key=lambda each: -each[0])]


def wheel_demonstrator(
    project: Project, meshes: Mapping[str, Mesh], wheel: str, turns: float = 3.0, seconds: float = 6.0
) -> Project:
    """The project with a wheel that rolls so many turns by its circumference, along a line whose length follows from that, and a camera that
    sees all of it from the side. Raises BadInput for what is not round or whose axle stands upright."""
    axle, radius = axle_of(project, meshes, wheel)
    project = pivot_on_it(project, wheel)
    pose = rest_poses(project)[row_of(project, wheel)]
    axis = pose[:3, :3] @ np.array(axle.direction)
    along = np.cross((0.0, 0.0, 1.0), axis)
    if np.linalg.norm(along) < 0.2:
        raise BadInput(f"the axle of “{get(project, wheel).name}” stands upright; turn the wheel so that it can roll")
    along /= np.linalg.norm(along)
    start = apply(pose, np.array([axle.origin]))[0]
    part = get_as(project, wheel, Part)
    # it goes by the middle of its axle
    project = update(project, wheel, pivot=Placement(vector(axle.origin)))
    distance = 2.0 * np.pi * radius * turns
    line = PointShape((PathPoint(vector(start)), PathPoint(vector(start + distance * along))))
    project, _ = _sent_along(project, wheel, line, f"{part.name} rolls", seconds)
    project = add_wheels(project, meshes, [wheel])
    project = with_turns(project, project.wheels[-1].id, turns)
    middle = start + 0.5 * distance * along
    side = np.cross(along, (0.0, 0.0, 1.0))
    away = _away_for(distance + 2.5 * radius, 2.5 * radius)
    edited = add_standing(project, np.round(middle + away * side + [0.0, 0.0, 1.5 * radius]), middle, subject=wheel)
    camera = edited.cameras[-1]
    return update(edited, camera.id, framing=Framing(least=0.02, near=min(Framing().near, radius), change=0.0))
