"""Curves of the timeline that are worked out of poses."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Ball, Gear, Project, Turner, Wheel
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.ground import heights_below, standing
from kestrav.core.kinematics.motion import Motion
from kestrav.core.mechanisms.gears import mesh_error, pitch_radius, toothed
from kestrav.core.mechanisms.joints import joints_of
from kestrav.core.parts.rest import rest_and_pivot

Array = NDArray[np.float64]
_LOOK = 200.0  # mm above a wheel's centre from which the ground is looked for
_STEP = 5e-4  # s, between which rates are taken


def headings(project: Project, thing: str, times: ArrayLike) -> Array:
    """Where a thing's front points as seen from above (n,), in degrees to the left from the room's x, without jumps of a
    whole turn; straight up or down it keeps what it was."""
    front = (Motion(project).poses(thing, times) @ rest_and_pivot(project, thing)[1])[:, :3, 0]
    level = np.hypot(front[:, 0], front[:, 1]) > 1e-6
    if not level.any():
        return np.zeros(len(front))
    angle = np.arctan2(front[level, 1], front[level, 0])
    places = np.flatnonzero(level)
    degrees = np.degrees(np.interp(np.arange(len(front)), places, np.unwrap(angle)))
    headings: Array = degrees
    return headings


def wheel_gaps(project: Project, meshes: Mapping[str, Mesh], roll: Wheel, times: ArrayLike) -> tuple[Array, Array]:
    """How far (n,) in mm a wheel is above what it rolls on at times (n,), negative where it is sunk in, and its centre (n, 3).

    By its tread's radius and the highest surface below its centre that nothing moves, or the floor.
    """
    times = np.asarray(times, float)
    poses = Motion(project).unturned(roll.part, times)
    centre = poses[:, :3, :3] @ np.array(roll.axle.origin) + poses[:, :3, 3]
    met = heights_below(project, meshes, centre + np.array([0.0, 0.0, _LOOK]), standing(project))
    ground = np.maximum(met, np.where(centre[:, 2] >= -_LOOK, 0.0, -np.inf))
    return centre[:, 2] - (roll.outer or roll.radius) - ground, centre


def rolled_distances(project: Project, item: Turner, times: ArrayLike) -> Array:
    """The way (n,) in mm that a wheel has rolled at times (n,), or that has gone past the pitch line of a drive, or a ball's centre
    has gone; of what else turns, none."""
    times = np.asarray(times, float)
    motion = Motion(project)
    if isinstance(item, Wheel):
        path = motion.rolling(item)
        rolled: Array = np.interp(times, path.path.times, path.distance)
        return rolled
    if isinstance(item, Gear):
        turned = motion.turned(item.a.part, item.a.axle.direction, times)
        return pitch_radius(item, item.a) * (turned - turned[:1])
    if isinstance(item, Ball):
        grid = motion.grid
        steps = np.linalg.norm(np.diff(motion.ball_centres(item, grid), axis=0), axis=1)
        far: Array = np.interp(times, grid, np.concatenate([[0.0], np.cumsum(steps)]))
        return far
    return np.zeros(len(times))


def slips(project: Project, item: Turner, times: ArrayLike) -> Array:
    """By how much (n,) in mm a wheel's tread has gone farther than it has rolled at times (n,); 0 of all but wheels."""
    times = np.asarray(times, float)
    if not isinstance(item, Wheel):
        return np.zeros(len(times))
    turned = Motion(project).angles(item, times) - Motion(project).angles(item, times[:1])
    distance = rolled_distances(project, item, times)
    own = _own_turning(project, item, times)
    slips: Array = item.radius * (turned + own - own[:1]) - (distance - distance[:1])
    return slips


def _own_turning(project: Project, roll: Wheel, times: Array) -> Array:
    """How far (n,) in rad what carries a wheel has itself turned about the wheel's axle."""
    path = Motion(project).rolling(roll).path
    own_turning: Array = np.interp(times, path.times, path.own)
    return own_turning


def rates(project: Project, item: Turner, times: ArrayLike) -> Array:
    """Turns a minute (n,) of what turns at times (n,); a slider's or rack's mm/s."""
    times = np.asarray(times, float)
    motion = Motion(project)
    rates: Array = (motion.angles(item, times + _STEP) - motion.angles(item, times - _STEP)) / (2 * _STEP)
    if any(joint.role == "slides" for joint in joints_of(project, item)):
        return rates
    return rates / (2 * np.pi) * 60.0


def mesh_errors(project: Project, gear: Gear, times: ArrayLike) -> Array:
    """How far (n,) a drive's teeth are from meshing at times (n,), in shares of a tooth from -0.5 to 0.5; 0 where none are known."""
    times = np.asarray(times, float)
    if not (toothed(gear) and gear.a.toothed and gear.b.toothed):
        return np.zeros(len(times))
    motion = Motion(project)
    turned = [motion.turned(end.part, end.axle.direction, times) for end in (gear.a, gear.b)]
    return mesh_error(gear, motion.stands(gear, times), turned[0], turned[1])
