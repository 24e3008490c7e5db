"""Poses of every part for many times at once, through the assembly's nesting."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.lookup import ancestors
from kestrav.core.document.records import Camera, Light, PartAim, Project
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import companion_of, courses_of, movers
from kestrav.core.mechanisms.joints import joints
from kestrav.core.memo import Memo
from kestrav.core.parts.rest import own_bounds, rest_and_pivot, rest_poses, rows, world_bounds

Array = NDArray[np.float64]


def riders(project: Project) -> list[str]:
    """Ids of the parts and assemblies that something moves or turns, in the order of the document."""
    moved = movers(project) | joints(project).keys()
    return [part.id for part in project.parts if part.id in moved]


def moving_groups(project: Project) -> dict[str, int]:
    """For each moving part its rigid group's number: the row of its nearest moved ancestor or itself, or of the rider
    that it keeps company with in all that moves either of them."""
    moved, turned, row = movers(project), joints(project), rows(project)
    group: dict[str, int] = {}
    for i, part in enumerate(project.parts):
        if part.id in turned:
            group[part.id] = i
        elif part.id in moved:
            leader = companion_of(project, part.id)
            group[part.id] = row.get(leader, i)
        elif part.parent in group:
            group[part.id] = group[part.parent]
    return group


def world_poses(project: Project, times: ArrayLike) -> Array:
    """World matrices (n, parts, 4, 4) at times (n,) in s."""
    times = np.asarray(times, float)
    rest, row = rest_poses(project), rows(project)
    together: dict[int, list[int]] = {}
    groups = moving_groups(project)
    for part, leader in groups.items():
        together.setdefault(leader, []).append(row[part])
    poses = np.empty((len(times), *rest.shape))
    still = np.ones(len(rest), bool)
    still[[row[part] for part in groups]] = False
    poses[:, still] = rest[still]
    motion = Motion(project)
    times = motion.hold(times)
    for leader, members in together.items():
        led = motion.poses(project.parts[leader].id, times)
        if members == [leader]:
            poses[:, leader] = led
            continue
        _moved_along(poses, members, led, inverse_rigid(rest[leader]) @ rest[members])
    return poses


def _moved_along(poses: Array, members: list[int], led: Array, relative: Array) -> None:
    """Put the products of a leader's matrices (n, 4, 4) and those of members against it (k, 4, 4) into poses.

    Each is a row of 16 numbers, and a product with a leader's matrix a linear map of that row; one product of tall
    matrices for each time is much faster than thousands of small ones.
    """
    maps = np.zeros((len(led), 16, 16))
    for j in range(4):
        for i in range(4):
            maps[:, j::4, 4 * i + j] = led[:, i, :]
    first, last = members[0], members[-1] + 1
    flat = poses.reshape(len(led), -1, 16)
    if last - first == len(members):
        np.matmul(relative.reshape(-1, 16), maps, out=flat[:, first:last])
    else:
        flat[:, members] = relative.reshape(-1, 16) @ maps


def camera_positions(project: Project, camera: Camera, times: ArrayLike) -> Array:
    """Positions (n, 3) of a camera at times (n,)."""
    return Motion(project).poses(camera.id, times)[:, :3, 3].copy()


def light_places(project: Project, light: Light, times: ArrayLike) -> tuple[Array, Array]:
    """Where a light is (n, 3) and what it shines at (n, 3) at times (n,).

    A part is shone at wherever it is; a point moves and turns with the light.
    """
    times = np.asarray(times, float)
    # the lamp and the mark of a light ask for the same in each picture
    places, targets = _light_places.get((project, light), lambda: _shining(project, light, times), times.tobytes())
    return places.copy(), targets.copy()


def prefetch_lights(project: Project, times: ArrayLike) -> None:
    """Work out where all lights are at times (n,) together, as each is asked for one by one while it plays."""
    times = np.asarray(times, float)
    for light in project.lights:
        places, targets = _shining(project, light, times)
        for k in range(len(times)):
            _light_places.put((project, light), (places[k : k + 1], targets[k : k + 1]), times[k : k + 1].tobytes())


def _shining(project: Project, light: Light, times: Array) -> tuple[Array, Array]:
    motion = Motion(project)
    poses = motion.poses(light.id, times)
    if isinstance(light.aim, PartAim):
        middle = own_bounds(project, light.aim.part).mean(axis=0)
        target = motion.poses(light.aim.part, times)
    else:
        middle = np.asarray(light.aim.point, float)
        target = poses @ inverse_rigid(rest_and_pivot(project, light.id)[0])
    return poses[:, :3, 3].copy(), target[:, :3, :3] @ middle + target[:, :3, 3]


_light_places: Memo[tuple[Array, Array]] = Memo(256)


def mover_bounds(project: Project) -> list[Array]:
    """Bounds (2, 3) at rest of the assemblies that riders are in, or of themselves, and of the riders' paths."""
    mover_bounds = []
    rest = rest_poses(project)[None]
    for rider in riders(project):
        around = [rider, *ancestors(project, rider)[-1:]][-1]
        mover_bounds.append(world_bounds(project, around, rest)[0])
        for course in courses_of(project, rider):
            line = course.path.curve.position(np.linspace(0.0, course.path.length, 50))
            mover_bounds.append(np.array([line.min(axis=0), line.max(axis=0)]))
    return mover_bounds
