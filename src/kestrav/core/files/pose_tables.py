"""Poses of parts, assemblies, lights and cameras from CSV, read as key poses: the tables that Kestrav writes, and others like them.

A row is a thing at a time: columns ``time``, the thing (``part``, ``camera``, ``light`` or ``id``), ``x``, ``y``, ``z`` of its origin in the room,
and its rotation as a quaternion (``qw``, ``qx``, ``qy``, ``qz``) or, of a camera, as ``azimuth``, ``pitch`` and ``roll`` in degrees. Units stand in
the headings: ``x_mm``, ``x [m]``, ``time_s``, ``time [ms]``.
"""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import called, find, get, new_id, new_name
from kestrav.core.document.records import Camera, FreeAim, KeyPose, LookKey, PoseTrack, Project, RollKey
from kestrav.core.errors import BadInput
from kestrav.core.files.key_reduction import places_off, told_by, turns_off
from kestrav.core.files.product_import import read_bytes
from kestrav.core.files.reading import as_utf8
from kestrav.core.files.tracks import quaternions
from kestrav.core.geometry.transforms import rotation_from_quaternion
from kestrav.core.parts.placing import placement
from kestrav.core.parts.rest import rest_and_pivot

Array = NDArray[np.float64]

MOST_ROWS = 2_000_000
_OFF, _TURNED_OFF = 0.01, float(np.radians(0.005))  # mm and rad that what is left out may be off
_LENGTHS = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4, "": 1.0}
_TIMES = {"s": 1.0, "ms": 1e-3, "": 1.0}
_ANGLES = {"deg": 1.0, "°": 1.0, "": 1.0}
_HEAD = re.compile(r"\s*(?P<name>[A-Za-z]+)(?:[ _]*[\[(_]?\s*(?P<unit>[A-Za-z°]*)\s*[\])]?)?\s*$")
_THINGS = ("id", "part", "camera", "light")
_QUATERNION, _LOOK = ("qw", "qx", "qy", "qz"), ("azimuth", "pitch", "roll")


class Posed(msgspec.Struct, frozen=True, eq=False):
    """A thing's poses: its id, times (n,) in s, places (n, 3) in mm, and its turns as quaternions (n, 4: w, x, y, z), or the directions (n, 3) of a
    camera: azimuth, pitch and roll in degrees; neither where it keeps its rotation."""

    thing: str
    times: Array
    places: Array
    turns: Array | None = None
    looks: Array | None = None


def is_pose_table(file: Path) -> bool:
    """Whether a CSV file's head is that of poses."""
    try:
        with file.open("rb") as opened:
            head = as_utf8(opened.read(4096))[0].decode("utf-8", "replace").splitlines()[:1]
    except OSError:
        return False
    names = {name for name, _ in _columns(_split(head[0]))} if head else set()
    return {"time", "x", "y", "z"} <= names and bool(names & set(_THINGS))


def read_poses(project: Project, file: Path) -> list[Posed]:
    """The poses in a table, of things of a project. Raises BadInput naming the file, the row, and what is wrong with it."""
    text = as_utf8(read_bytes(file))[0].decode("utf-8", "replace")
    lines = text.splitlines()
    try:
        table = list(csv.reader(io.StringIO(text), delimiter=_delimiter(lines[0] if lines else "")))
    except csv.Error as fault:
        raise BadInput(f"“{file}” is no table of poses: {fault}") from fault
    head = _columns(table[0] if table else [])
    at = {name: k for k, (name, _) in enumerate(head)}
    missing = [name for name in ("time", "x", "y", "z") if name not in at]
    if missing or not any(name in at for name in _THINGS):
        wanted = missing or ["part, camera, light or id"]
        raise BadInput(f"“{file}” is no table of poses: it has no column {', '.join(wanted)}")
    factors = {
        name: _factor(file, name, unit) for name, unit in head if name in (*_QUATERNION, *_LOOK, "time", "x", "y", "z")
    }
    rows: dict[str, list[list[float]]] = {}
    known: dict[tuple[str, ...], str] = {}
    turned = next((names for names in (_QUATERNION, _LOOK) if all(name in at for name in names)), ())
    wanted_names = ("time", "x", "y", "z", *turned)
    for number, row in enumerate(table[1:], 2):
        if not any(cell.strip() for cell in row):
            continue
        if number > MOST_ROWS:
            raise BadInput(f"“{file}” has more than {MOST_ROWS} rows")
        names = tuple(row[at[name]].strip() if name in at and at[name] < len(row) else "" for name in _THINGS)
        if names not in known:
            known[names] = _thing(project, file, number, names)
        try:
            values = [float(row[at[name]]) * factors[name] for name in wanted_names]
        except (ValueError, IndexError):
            raise BadInput(f"“{file}”, row {number}: a number is missing or is none") from None
        if not np.isfinite(values).all():
            raise BadInput(f"“{file}”, row {number}: a number is not finite")
        rows.setdefault(known[names], []).append(values)
    if not rows:
        raise BadInput(f"“{file}” has a head, and no rows")
    return [_posed(file, project, thing, np.array(values), turned) for thing, values in rows.items()]


def _split(line: str) -> list[str]:
    return next(csv.reader([line], delimiter=_delimiter(line)), [])


def _delimiter(line: str) -> str:
    return max(",;\t", key=line.count)


def _columns(head: list[str]) -> list[tuple[str, str]]:
    """Names and units of columns."""
    columns = []
    for cell in head:
        match = _HEAD.match(cell)
        columns.append((match["name"].lower(), (match["unit"] or "").lower()) if match else (cell.strip().lower(), ""))
    return columns


def _factor(file: Path, name: str, unit: str) -> float:
    units = _TIMES if name == "time" else _LENGTHS if name in "xyz" else {"": 1.0} if name in _QUATERNION else _ANGLES
    if unit not in units:
        raise BadInput(f"“{file}”: the column {name} is in “{unit}”; it can be in {', '.join(filter(None, units))}")
    return units[unit]


def _thing(project: Project, file: Path, number: int, names: tuple[str, ...]) -> str:
    """The id of what a row is about."""
    own, *others = names
    if own and find(project, own) is not None:
        return own
    name = next(filter(None, others), own)
    if not name:
        raise BadInput(f"“{file}”, row {number}: it does not say what it is about")
    try:
        thing = called(project, name)
    except BadInput as fault:
        raise BadInput(f"“{file}”, row {number}: {fault}") from fault
    movable = {p.id for p in project.parts} | {c.id for c in project.cameras} | {one.id for one in project.lights}
    if thing not in movable:
        raise BadInput(f"“{file}”, row {number}: “{name}” is no part, camera or light")
    return thing


def _posed(file: Path, project: Project, thing: str, rows: Array, turned: tuple[str, ...]) -> Posed:
    times = rows[:, 0]
    if times.min() < 0 or (np.diff(times) <= 0).any():
        name = getattr(find(project, thing), "name", thing)
        raise BadInput(f"“{file}”: the times of “{name}” do not go forward from 0 or later")
    if turned == _QUATERNION:
        sizes = np.linalg.norm(rows[:, 4:], axis=1, keepdims=True)
        if sizes.min() < 1e-6:
            raise BadInput(f"“{file}”: a quaternion is zero, which is no rotation")
        return Posed(thing, times, rows[:, 1:4], turns=rows[:, 4:] / sizes)
    return Posed(thing, times, rows[:, 1:4], looks=rows[:, 4:] if turned == _LOOK else None)


class Keyed(msgspec.Struct, frozen=True):
    """Key poses of a thing from a time in s on, and where a camera looks and how it is rolled; as few keys as keep it within 0.01 mm."""

    thing: str
    start: float
    keys: tuple[KeyPose, ...]
    looks: tuple[LookKey, ...] = ()
    rolls: tuple[RollKey, ...] = ()


def keyed_poses(project: Project, file: Path) -> list[Keyed]:
    """The poses in a table as key poses of things of a project. Raises BadInput as :func:`read_poses`."""
    return [_keyed(project, one) for one in read_poses(project, file)]


def with_poses(project: Project, keyed: list[Keyed]) -> Project:
    """A project with key poses, straight from one to the next; cameras look as told. Raises BadInput for a thing that is not there."""
    for one in keyed:
        item = get(project, one.thing)
        name = new_name(project, PoseTrack, item.name)
        track = PoseTrack(new_id(project, PoseTrack), name, one.thing, one.keys, one.start, "straight")
        project = add(project, track)
        if one.looks:
            project = update(project, one.thing, aim=FreeAim(one.looks), roll=one.rolls)
    return project


def _keyed(project: Project, one: Posed) -> Keyed:
    rest, pivot = rest_and_pivot(project, one.thing)
    matrices = np.tile(rest, (len(one.times), 1, 1))
    if one.turns is not None:
        matrices[:, :3, :3] = rotation_from_quaternion(one.turns)
    matrices[:, :3, 3] = one.places
    pivots = matrices @ pivot
    # what goes straight and turns evenly needs no key in between
    places, turns = places_off(one.times, pivots[:, :3, 3], _OFF), None
    if one.turns is not None:
        turns = turns_off(one.times, quaternions(pivots[:, :3, :3]), _TURNED_OFF)
    kept = told_by(len(one.times), lambda a, b: max(places(a, b), 0.0 if turns is None else turns(a, b)), 1.0)
    keys = tuple(KeyPose(float(one.times[k] - one.times[0]), placement(pivots[k])) for k in kept)
    if one.looks is None or not isinstance(find(project, one.thing), Camera):
        return Keyed(one.thing, float(one.times[0]), keys)
    yaw = np.degrees(np.unwrap(np.radians(one.looks[:, 0])))
    pitch, roll = one.looks[:, 1], one.looks[:, 2]
    off = places_off(one.times, np.column_stack([yaw, pitch, roll]), float(np.degrees(_TURNED_OFF)))
    kept = told_by(len(one.times), off, 1.0)
    looks = tuple(LookKey(float(one.times[k]), float(yaw[k]), float(pitch[k])) for k in kept)
    rolled = np.abs(roll).max() > 1e-6
    rolls = tuple(RollKey(float(one.times[k]), float(roll[k])) for k in kept) if rolled else ()
    return Keyed(one.thing, float(one.times[0]), keys, looks, rolls)
