"""What a camera sees: where it stands, where it looks, how wide. Lengths in mm, angles in rad."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Camera, PartAim, Project
from kestrav.core.motion.poses import camera_positions, world_poses
from kestrav.core.motion.resting import world_bounds

Array = NDArray[np.float64]

_UP = np.array([0.0, 0.0, 1.0])


@dataclass(frozen=True)
class Views:
    """Camera positions (n, 3), points looked at (n, 3) and up vectors (n, 3) with a level horizon."""

    position: Array
    target: Array
    up: Array


def views(project: Project, camera: Camera, times: ArrayLike, poses: Array | None = None) -> Views:
    """Where a camera stands and looks at times (n,); world poses of those times may be handed in."""
    times = np.asarray(times, float)
    position = camera_positions(project, camera, times)
    if isinstance(camera.aim, PartAim):
        if poses is None:
            poses = world_poses(project, times)
        target = world_bounds(project, camera.aim.part, poses).mean(axis=1)
    else:
        target = np.broadcast_to(np.asarray(camera.aim.point, float), position.shape).copy()
    # a camera at its own aim keeps looking ahead along +Y
    same = np.linalg.norm(target - position, axis=1) < 1e-6
    target[same] = position[same] + np.array([0.0, 1.0, 0.0])
    direction = target - position
    direction /= np.linalg.norm(direction, axis=1, keepdims=True)
    up = _UP - direction[:, 2:] * direction
    steep = np.linalg.norm(up, axis=1) < 1e-6
    up[steep] = [0.0, 1.0, 0.0]
    up /= np.linalg.norm(up, axis=1, keepdims=True)
    return Views(position, target, up)


def vertical_angle(camera: Camera, width: float, height: float) -> float:
    """Vertical angle of view of an output frame of width by height pixels.

    The frame is the largest of its aspect that fits on the sensor: 2 atan(h / 2f) with h its height
    there (pinhole model).
    """
    aspect = width / height
    used = min(camera.sensor_height, camera.sensor_width / aspect)
    return float(2.0 * np.arctan(used / (2.0 * camera.focal_length)))
