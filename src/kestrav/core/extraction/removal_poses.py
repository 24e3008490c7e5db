"""Poses of what is taken out: that of its pivot, as a turn about it from how it stands and a way from where it stands.

Between two poses the way goes straight and the turn about one axis, both evenly. Lengths in mm, angles in rad.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence
from functools import lru_cache

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.geometry.faces import Vector
from kestrav.core.geometry.transforms import apply, rigid

Array = NDArray[np.float64]


_Quaternion = tuple[float, float, float, float]  # w, x, y, z

# a search composes millions of turns one at a time: by plain numbers that takes a tenth of what it takes by arrays


def _quaternion(turn: Vector) -> _Quaternion:
    x, y, z = turn
    angle = math.sqrt(x * x + y * y + z * z)
    share = math.sin(0.5 * angle) / angle if angle > 1e-12 else 0.5
    return math.cos(0.5 * angle), share * x, share * y, share * z


def _turn(quaternion: _Quaternion) -> Vector:
    w, x, y, z = quaternion
    if w < 0.0:
        w, x, y, z = -w, -x, -y, -z
    size = math.sqrt(x * x + y * y + z * z)
    share = 2.0 * math.atan2(size, w) / size if size > 1e-12 else 2.0
    return share * x, share * y, share * z


def composed(second: Vector, first: Vector) -> Vector:
    """The rotation vector of a turn by one rotation vector and then by another (the product of their unit quaternions)."""
    a, b, c, d = _quaternion(second)
    w, x, y, z = _quaternion(first)
    return _turn(
        (
            a * w - b * x - c * y - d * z,
            a * x + b * w + c * z - d * y,
            a * y - b * z + c * w + d * x,
            a * z + b * y - c * x + d * w,
        )
    )


def rotated(point: Vector, turn: Vector) -> Vector:
    """A point turned by a rotation vector (O. Rodrigues' formula)."""
    angle = math.hypot(*turn)
    if angle < 1e-12:
        return point
    (x, y, z), (u, v, w) = point, (turn[0] / angle, turn[1] / angle, turn[2] / angle)
    sine, cosine = math.sin(angle), math.cos(angle)
    along = (u * x + v * y + w * z) * (1.0 - cosine)
    return (
        x * cosine + (v * z - w * y) * sine + u * along,
        y * cosine + (w * x - u * z) * sine + v * along,
        z * cosine + (u * y - v * x) * sine + w * along,
    )


def turn_of(numbers: Iterable[float]) -> Vector:
    """The rotation vector of four numbers in any proportion, w, x, y, z: normally distributed ones give all turns alike (G. Marsaglia,
    "Choosing a point from the surface of a sphere", Annals of Mathematical Statistics 43(2), 1972)."""
    w, x, y, z = numbers
    size = math.sqrt(w * w + x * x + y * y + z * z)
    return _turn((w / size, x / size, y / size, z / size))


@lru_cache(maxsize=4096)
def _rotation(turn: Vector) -> Array:
    """A rotation vector as a matrix (3, 3); most motions are straight, and so have but one."""
    w, x, y, z = _quaternion(turn)
    return np.array(
        (
            (1.0 - 2.0 * (y * y + z * z), 2.0 * (x * y - z * w), 2.0 * (x * z + y * w)),
            (2.0 * (x * y + z * w), 1.0 - 2.0 * (x * x + z * z), 2.0 * (y * z - x * w)),
            (2.0 * (x * z - y * w), 2.0 * (y * z + x * w), 1.0 - 2.0 * (x * x + y * y)),
        )
    )


class Pose(msgspec.Struct, frozen=True):
    """A way (3,) from where the thing stands, and a turn about its pivot as a rotation vector (3,) in the room's axes."""

    translation: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turn: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def matrix(self, pivot: Array) -> Array:
        """The motion (4, 4) from how the thing stands, its pivot being at a point (3,)."""
        rotation = _rotation(self.turn)
        return rigid(rotation, pivot + np.array(self.translation) - rotation @ pivot)


def pose(translation: Iterable[float], turn: Iterable[float] = (0.0, 0.0, 0.0)) -> Pose:
    """A pose of plain numbers."""
    x, y, z = (float(v) + 0.0 for v in translation)
    a, b, c = (float(v) + 0.0 for v in turn)
    return Pose((x, y, z), (a, b, c))


def pose_of(matrix: Array, pivot: Array) -> Pose:
    """The pose of a motion (4, 4) from how the thing stands, its pivot being at a point (3,)."""
    turn = scipy.spatial.transform.Rotation.from_matrix(matrix[:3, :3]).as_rotvec()
    return pose(apply(matrix, pivot[None])[0] - pivot, turn)


def pose_between(one: Pose, two: Pose, share: float) -> Pose:
    """The pose at a share of the motion between two."""
    (x, y, z), (u, v, w) = one.translation, two.translation
    translation = (x + share * (u - x) + 0.0, y + share * (v - y) + 0.0, z + share * (w - z) + 0.0)
    if one.turn == two.turn:
        return Pose(translation, one.turn)
    a, b, c = _step(one, two)
    return pose(translation, composed((share * a, share * b, share * c), one.turn))


def motions(one: Pose, two: Pose, shares: Array, pivot: Array) -> Array:
    """The motions (n, 4, 4) at shares (n,) of that between two poses, the thing's pivot standing at a point (3,)."""
    motions = np.zeros((len(shares), 4, 4))
    motions[:, 3, 3] = 1.0
    if one.turn == two.turn:
        motions[:, :3, :3] = _rotation(one.turn)
    else:
        # O. Rodrigues' formula about the one axis of the motion
        a, b, c = _step(one, two)
        angle = math.hypot(a, b, c)
        x, y, z = (a / angle, b / angle, c / angle) if angle > 1e-12 else (1.0, 0.0, 0.0)
        cross = np.array(((0.0, -z, y), (z, 0.0, -x), (-y, x, 0.0)))
        angles = (shares * angle)[:, None, None]
        turns = np.eye(3) + np.sin(angles) * cross + (1.0 - np.cos(angles)) * (cross @ cross)
        motions[:, :3, :3] = turns @ _rotation(one.turn)
    translations = np.array(one.translation) + shares[:, None] * np.subtract(two.translation, one.translation)
    motions[:, :3, 3] = pivot + translations - motions[:, :3, :3] @ pivot
    return motions


def turn_between(one: Pose, two: Pose) -> float:
    """The angle in rad between two poses' turns."""
    return 0.0 if one.turn == two.turn else math.hypot(*_step(one, two))


def _step(one: Pose, two: Pose) -> Vector:
    a, b, c = one.turn
    return composed(two.turn, (-a, -b, -c))


def length_of(poses: Sequence[Pose]) -> float:
    """How far the pivot goes in mm."""
    return float(sum(stir(a, b, 0.0) for a, b in itertools.pairwise(poses)))


def stir(one: Pose, two: Pose, reach: float) -> float:
    """How far any point goes at most between two poses that is no farther than ``reach`` from the pivot."""
    far = math.dist(one.translation, two.translation)
    return far + turn_between(one, two) * reach


def leaning(at: Pose) -> float:
    """How far in degrees what stood upright leans at a pose."""
    up = rotated((0.0, 0.0, 1.0), at.turn)
    return math.degrees(math.acos(min(max(up[2], -1.0), 1.0)))
