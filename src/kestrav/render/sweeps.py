"""A seamless sweep: a floor that bends up into a wall behind the subject, as of paper from a roll."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec
import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper

from kestrav.core.camera.adjusting import camera_of
from kestrav.core.camera.views import views
from kestrav.core.document.records import Project, Shot
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.poses import world_poses
from kestrav.render.palette import rgb
from kestrav.render.shapes import merged_surface
from kestrav.render.soft_light import Ground

Array = NDArray[np.float64]

_BEHIND = 2.5  # times the size of all, that the bend begins behind its middle
_BEND = 1.2  # times the size of all, that the bend's radius is
_HIGH = 5.0  # times the size of all, that the wall rises over the bend
_WIDE = 14.0  # times the size of all, that it goes to either side
_AROUND = 1.4  # times as far as the camera, that a sweep all around is
_TURN = 110.0  # degrees that a camera may go around before the sweep does as well
_STEPS = 24  # of the bend
_EVEN = 0.92  # of a quick picture's sweep, that does not hang on how it is turned to the light
_LOOKS = 17  # times at which the shot's camera is looked for


class Sweep(msgspec.Struct, frozen=True):
    """Points (n, 3) in mm, their normals towards the subject (n, 3), and triangles (m, 3)."""

    points: Array
    normals: Array
    triangles: NDArray[np.int64]


def sweep_of(project: Project, meshes: Mapping[str, Mesh], shot: Shot, ground: Ground) -> Sweep:
    """The sweep behind a shot's subject, for all places from which it is filmed."""
    times = np.linspace(shot.start, max(shot.end - 1e-6, shot.start), _LOOKS)
    seen = views(project, meshes, camera_of(project, shot.camera), times, world_poses(project, times), 16 / 9)
    out = (seen.position - ground.middle)[:, :2]
    far = float(np.linalg.norm(out, axis=1).max())
    turns = np.degrees(np.unwrap(np.arctan2(out[:, 1], out[:, 0])))
    size = max(ground.size, 1.0)
    bend = _BEND * size
    if np.ptp(turns) > _TURN:
        begins = max(_AROUND * far, _BEHIND * size)
        return _revolved(_profile(begins, bend, _HIGH * size), ground)
    middle = np.radians(0.5 * (turns.min() + turns.max()))
    towards = np.array([np.cos(middle), np.sin(middle)])
    profile = _profile(_BEHIND * size, bend, _HIGH * size)
    # it begins behind the camera
    profile = np.vstack([[-max(_AROUND * far, _WIDE * size), 0.0, 0.0, 1.0], profile])
    return _drawn_out(profile, towards, max(_WIDE * size, 2.0 * far), ground)


def _profile(begins: float, bend: float, high: float) -> Array:
    """Distance outwards, height, and the normal's parts towards the middle and up (n, 4), from the floor to the top."""
    angles = np.linspace(0.0, 0.5 * np.pi, _STEPS + 1)
    curve = np.stack(
        [begins + bend * np.sin(angles), bend * (1.0 - np.cos(angles)), np.sin(angles), np.cos(angles)], axis=1
    )
    top = [[begins + bend, bend + high, 1.0, 0.0]]
    return np.vstack([curve, top])


def _drawn_out(profile: Array, towards: Array, half: float, ground: Ground) -> Sweep:
    """A profile drawn out to both sides; it rises away from ``towards`` (2,)."""
    away, across = -towards, np.array([-towards[1], towards[0]])
    rows = []
    normals = []
    for side in (-half, half):
        flat = ground.middle[:2] + profile[:, :1] * away + side * across
        rows.append(np.column_stack([flat, ground.level + profile[:, 1]]))
        normals.append(np.column_stack([-profile[:, 2:3] * away, profile[:, 3]]))
    return _strips(np.stack(rows), np.stack(normals), closed=False)


def _revolved(profile: Array, ground: Ground) -> Sweep:
    """A profile turned all around, with the floor within."""
    profile = np.vstack([[0.0, 0.0, 0.0, 1.0], profile])
    turns = np.linspace(0.0, 2.0 * np.pi, 97)[:-1]
    rows, normals = [], []
    for turn in turns:
        out = np.array([np.cos(turn), np.sin(turn)])
        rows.append(np.column_stack([ground.middle[:2] + profile[:, :1] * out, ground.level + profile[:, 1]]))
        normals.append(np.column_stack([-profile[:, 2:3] * out, profile[:, 3]]))
    return _strips(np.stack(rows), np.stack(normals), closed=True)


def _strips(rows: Array, normals: Array, *, closed: bool) -> Sweep:
    """The strips between neighbouring rows (k, n, 3) of points."""
    count, each = rows.shape[:2]
    triangles = []
    for k in range(count if closed else count - 1):
        a, b = k * each + np.arange(each - 1), (k + 1) % count * each + np.arange(each - 1)
        triangles += [np.stack([a, a + 1, b + 1], axis=1), np.stack([a, b + 1, b], axis=1)]
    return Sweep(rows.reshape(-1, 3), normals.reshape(-1, 3), np.concatenate(triangles))


def sweep_actor(sweep: Sweep, colour: str) -> vtkActor:
    """A matt sweep that shows its colour where the light is as everywhere."""
    colours = np.tile(np.rint(255 * np.array(rgb(colour))).astype(np.uint8), (len(sweep.points), 1))
    mapper = vtkPolyDataMapper()
    places, normals = sweep.points.astype(np.float32), sweep.normals.astype(np.float32)
    mapper.SetInputData(merged_surface(places, normals, sweep.triangles, colours))
    actor = vtkActor(mapper=mapper)
    # its own light is most of it: paper is lit apart, and only shade tells where it bends
    look = actor.GetProperty()
    look.SetAmbient(_EVEN)
    look.SetDiffuse(0.2)
    look.SetSpecular(0.0)
    return actor
