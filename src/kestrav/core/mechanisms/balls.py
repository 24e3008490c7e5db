"""Balls that roll without slip: their rotation added up along their way. Lengths in mm, times in s, angles in rad."""

from __future__ import annotations

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Ball

Array = NDArray[np.float64]

_UP = np.array([0.0, 0.0, 1.0])


class BallRoll(msgspec.Struct, frozen=True, eq=False):
    """A ball's centre (n, 3), the normal (n, 3) of what it rolls on, and its rotation, at times (n,)."""

    times: Array
    centre: Array
    normal: Array
    turned: scipy.spatial.transform.Rotation
    swing: Array


def plane_normals(centre: Array) -> Array:
    """Normals (n, 3) of the plane a ball rolls over: square to its way, as upright as can be; those before where it goes straight up
    or stands."""
    step = np.gradient(centre, axis=0)
    size = np.linalg.norm(step, axis=1)
    direction = step / np.maximum(size, 1e-300)[:, None]
    raw = _UP - direction[:, 2:3] * direction
    flat = np.linalg.norm(raw, axis=1)
    good = (size > 1e-12) & (flat > 1e-6)
    if not good.any():
        return np.broadcast_to(_UP, centre.shape).copy()
    last = np.maximum.accumulate(np.where(good, np.arange(len(good)), -1))
    last = np.where(last < 0, int(np.argmax(good)), last)
    return np.asarray((raw / np.maximum(flat, 1e-300)[:, None])[last])


def ball_rotation(times: Array, centre: Array, normal: Array, radius: float) -> BallRoll:
    """The rotation of a ball along its way: each step turns it by way ÷ radius about the line across both way and normal.

    Steps are joined by the Magnus series to the fourth order (W. Magnus, "On the exponential solution of differential equations
    for a linear operator", Communications on Pure and Applied Mathematics 7, 1954), as the turns do not commute.
    """
    middle = 0.5 * (normal[:-1] + normal[1:])
    step = np.cross(middle, np.diff(centre, axis=0)) / radius
    before, after = np.vstack([step[:1], step[:-1]]), np.vstack([step[1:], step[-1:]])
    swing = np.cross(after - before, step) / 24.0
    return BallRoll(times, centre, normal, _joined(scipy.spatial.transform.Rotation.from_rotvec(step + swing)), swing)


def _joined(steps: scipy.spatial.transform.Rotation) -> scipy.spatial.transform.Rotation:
    """The rotation before the first step and after each: all products at once, by doubling how many are joined."""
    rotations = scipy.spatial.transform.Rotation.concatenate([scipy.spatial.transform.Rotation.identity(1), steps])
    reach = 1
    while reach < len(rotations):
        rotations = scipy.spatial.transform.Rotation.concatenate(
            [rotations[:reach], rotations[reach:] * rotations[:-reach]]
        )
        reach *= 2
    return rotations


def turned_at(roll: BallRoll, ball: Ball, times: ArrayLike, centre: Array) -> Array:
    """Rotations (n, 3, 3) of a ball at times (n,) at which its centre is (n, 3): of the last step, and from there on by itself."""
    inside = np.clip(np.asarray(times, float), roll.times[0], roll.times[-1])
    k = np.clip(np.searchsorted(roll.times, inside, side="right") - 1, 0, len(roll.times) - 2)
    share = ((inside - roll.times[k]) / (roll.times[k + 1] - roll.times[k]))[:, None]
    middle = roll.normal[k] + 0.5 * share * (roll.normal[k + 1] - roll.normal[k])
    step = np.cross(middle, centre - roll.centre[k]) / ball.radius
    rotations: Array = (
        scipy.spatial.transform.Rotation.from_rotvec(step + share * roll.swing[k]) * roll.turned[k]
    ).as_matrix()
    return rotations
