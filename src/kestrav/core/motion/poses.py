"""Poses of every part for many times at once, through the assembly's nesting."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.lookup import ancestors
from kestrav.core.document.records import Camera, Light, PartAim, Project
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.motion.legs import Motion, companion_of, journeys_of, movers
from kestrav.core.motion.resting import own_bounds, rest_and_pivot, rest_poses, rows, world_bounds

Array = NDArray[np.float64]


def riders(project: Project) -> list[str]:
    """Ids of the parts and assemblies that something moves, in the order of the document."""
    moved = movers(project)
    return [part.id for part in project.parts if part.id in moved]


def moving_groups(project: Project) -> dict[str, int]:
    """For each moving part its rigid group's number: the row of its nearest moved ancestor or itself, or of the rider
    that it keeps company with in all that moves either of them."""
    moved, row = movers(project), rows(project)
    group: dict[str, int] = {}
    for i, part in enumerate(project.parts):
        if part.id in moved:
            leader = companion_of(project, part.id)
            group[part.id] = row.get(leader, i)
        elif part.parent in group:
            group[part.id] = group[part.parent]
    return group


def world_poses(project: Project, times: ArrayLike) -> Array:
    """World matrices (n, parts, 4, 4) at times (n,) in s."""
    times = np.asarray(times, float)
    rest, row = rest_poses(project), rows(project)
    poses = np.broadcast_to(rest, (len(times), *rest.shape)).copy()
    together: dict[int, list[int]] = {}
    for part, leader in moving_groups(project).items():
        together.setdefault(leader, []).append(row[part])
    motion = Motion(project)
    for leader, members in together.items():
        led = motion.poses(project.parts[leader].id, times)
        # one product of tall matrices for all that move together is much faster than one for each of them
        relative = (inverse_rigid(rest[leader]) @ rest[members]).transpose(1, 0, 2).reshape(4, -1)
        moved = (led.reshape(-1, 4) @ relative).reshape(len(times), 4, len(members), 4)
        poses[:, members] = moved.transpose(0, 2, 1, 3)
    return poses


def camera_positions(project: Project, camera: Camera, times: ArrayLike) -> Array:
    """Positions (n, 3) of a camera at times (n,)."""
    return Motion(project).poses(camera.id, times)[:, :3, 3].copy()


def light_places(project: Project, light: Light, times: ArrayLike) -> tuple[Array, Array]:
    """Where a light is (n, 3) and what it shines at (n, 3) at times (n,).

    A part is shone at wherever it is; a point moves and turns with the light.
    """
    times = np.asarray(times, float)
    motion = Motion(project)
    poses = motion.poses(light.id, times)
    if isinstance(light.aim, PartAim):
        middle = own_bounds(project, light.aim.part).mean(axis=0)
        target = motion.poses(light.aim.part, times)
    else:
        middle = np.asarray(light.aim.point, float)
        target = poses @ inverse_rigid(rest_and_pivot(project, light.id)[0])
    return poses[:, :3, 3].copy(), target[:, :3, :3] @ middle + target[:, :3, 3]


def mover_bounds(project: Project) -> list[Array]:
    """Bounds (2, 3) at rest of the top-level things that riders belong to, and of the riders' paths."""
    found = []
    rest = rest_poses(project)[None]
    for rider in riders(project):
        top = [*ancestors(project, rider), rider][0]
        found.append(world_bounds(project, top, rest)[0])
        for trip in journeys_of(project, rider):
            line = trip.path.curve.position(np.linspace(0.0, trip.path.length, 50))
            found.append(np.array([line.min(axis=0), line.max(axis=0)]))
    return found
