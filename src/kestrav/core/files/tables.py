"""Motion as tables: poses of parts, angles of wheels and all that turns, tracks of cameras. CSV with units in the headings."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.views import angles_of, views
from kestrav.core.document.lookup import qualified_name, turners
from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.files.writing import as_csv, refuse_existing, write_whole
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import quaternion_from_rotation
from kestrav.core.kinematics.lighting import state
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.poses import light_places, riders, world_poses
from kestrav.core.kinematics.runs import frame_times
from kestrav.core.mechanisms.joints import joints_of
from kestrav.core.parts.rest import rows

Array = NDArray[np.float64]


def write_tables(project: Project, meshes: Mapping[str, Mesh], target: Path, *, overwrite: bool = False) -> list[Path]:
    """Write ``NAME.csv`` with the poses of what moves, ``NAME-turns.csv`` with what turns, ``NAME-cameras.csv``, and ``NAME-lights.csv`` where
    there are lights, at the project's frames. Raises BadInput for a file that is there or cannot be written."""
    if target.suffix.lower() != ".csv":
        raise BadInput(f"“{target}” has an ending that is not known: give .csv")
    times = frame_times(project)
    tables = {
        target: pose_table(project, times),
        target.with_name(f"{target.stem}-turns.csv"): turn_table(project, times),
        target.with_name(f"{target.stem}-cameras.csv"): camera_table(project, meshes, times),
    }
    if project.lights:
        tables[target.with_name(f"{target.stem}-lights.csv")] = light_table(project, times)
    for file in tables:
        refuse_existing(file, force=overwrite)
    for file, text in tables.items():
        write_whole(file, text.encode("utf-8"))
    return list(tables)


def _number(value: float) -> str:
    return f"{value:.9g}"


def pose_table(project: Project, times: Array) -> str:
    """For each time and each part that something moves or turns: the place of its origin and its rotation, in the room."""
    poses, row = world_poses(project, times), rows(project)
    ids = riders(project)
    quaternions = {i: quaternion_from_rotation(poses[:, row[i], :3, :3]) for i in ids}
    names = {i: qualified_name(project, i) for i in ids}
    lines = (
        [
            k,
            _number(float(t)),
            names[i],
            i,
            *(_number(float(v)) for v in poses[k, row[i], :3, 3]),
            *(_number(float(v)) for v in quaternions[i][k]),
        ]
        for k, t in enumerate(times)
        for i in ids
    )
    return as_csv(["frame", "time_s", "part", "id", "x_mm", "y_mm", "z_mm", "qw", "qx", "qy", "qz"], lines)


def turn_table(project: Project, times: Array) -> str:
    """For each time the angle in degrees (or the way in mm of what slides) of each wheel, castor, rotation, gear, rod and ball."""
    motion, heading, columns = Motion(project), ["frame", "time_s"], []
    for item in turners(project):
        roles = {j.role for j in joints_of(project, item)}
        if not roles & {"turns", "slides"}:
            continue
        slides = "turns" not in roles
        values = motion.angles(item, times)
        heading.append(f"{item.name} {'mm' if slides else 'deg'}")
        columns.append(values if slides else np.degrees(values))
    lines = ([k, _number(float(t)), *(_number(float(c[k])) for c in columns)] for k, t in enumerate(times))
    return as_csv(heading, lines)


def light_table(project: Project, times: Array) -> str:
    """For each time and light: its place, where it shines, and its strength (candela; lux of a sun)."""
    lines = []
    for light in project.lights:
        places, targets = light_places(project, light, times)
        for k, t in enumerate(times):
            strength, _ = state(light, float(t))
            values = (float(t), *places[k], *targets[k], strength)
            lines.append([k, _number(values[0]), light.name, *(_number(float(v)) for v in values[1:])])
    names = ["frame", "time_s", "light", "x_mm", "y_mm", "z_mm", "aim_x_mm", "aim_y_mm", "aim_z_mm", "strength"]
    return as_csv(names, lines)


def camera_table(project: Project, meshes: Mapping[str, Mesh], times: Array) -> str:
    """For each time and camera: its place, where it looks (azimuth from +X to the left, pitch, roll), and its lens."""
    poses, lines = world_poses(project, times), []
    for camera in project.cameras:
        shot = next((s for s in project.shots if s.camera == camera.id), None)
        aspect = shot.width / shot.height if shot else 16 / 9
        seen = views(project, meshes, camera, times, poses, aspect)
        yaw, pitch = angles_of(seen.forward)
        right = np.cross(seen.forward, seen.up)
        roll = np.degrees(np.arcsin(np.clip(-right[:, 2], -1.0, 1.0)))
        for k, t in enumerate(times):
            lens = [seen.view_height[k], ""] if camera.parallel else ["", seen.focal_length[k]]
            lines.append(
                [
                    k,
                    _number(float(t)),
                    camera.name,
                    *(_number(float(v)) for v in (*seen.position[k], yaw[k], pitch[k], roll[k])),
                    *("" if isinstance(v, str) else _number(float(v)) for v in lens),
                ]
            )
    return as_csv(
        [
            "frame",
            "time_s",
            "camera",
            "x_mm",
            "y_mm",
            "z_mm",
            "azimuth_deg",
            "pitch_deg",
            "roll_deg",
            "height_mm",
            "lens_mm",
        ],
        lines,
    )
