"""Poses of what is taken out: that of its pivot, as a turn about it from how it stands and a way from where it stands.

Between two poses the way goes straight and the turn about one axis, both evenly. Lengths in mm, angles in rad.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from kestrav.core.geometry.transforms import apply, rigid

Array = NDArray[np.float64]


@lru_cache(maxsize=4096)
def _rotation(turn: tuple[float, float, float]) -> Array:
    """A rotation vector as a matrix (3, 3); most motions are straight, and so have but one."""
    found: Array = Rotation.from_rotvec(turn).as_matrix()
    return found


@dataclass(frozen=True)
class Pose:
    """A way (3,) from where the thing stands, and a turn about its pivot as a rotation vector (3,) in the room's axes."""

    way: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turn: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def matrix(self, pivot: Array) -> Array:
        """The motion (4, 4) from how the thing stands, its pivot being at a point (3,)."""
        rotation = _rotation(self.turn)
        return rigid(rotation, pivot + np.array(self.way) - rotation @ pivot)


def pose(way: Iterable[float], turn: Iterable[float] = (0.0, 0.0, 0.0)) -> Pose:
    """A pose of plain numbers."""
    x, y, z = (float(v) + 0.0 for v in way)
    a, b, c = (float(v) + 0.0 for v in turn)
    return Pose((x, y, z), (a, b, c))


def pose_of(matrix: Array, pivot: Array) -> Pose:
    """The pose of a motion (4, 4) from how the thing stands, its pivot being at a point (3,)."""
    turn = Rotation.from_matrix(matrix[:3, :3]).as_rotvec()
    return pose(apply(matrix, pivot[None])[0] - pivot, turn)


def part_way(one: Pose, two: Pose, share: float) -> Pose:
    """The pose at a share of the motion between two."""
    way = np.array(one.way) + share * (np.array(two.way) - np.array(one.way))
    if one.turn == two.turn:
        return pose(way, one.turn)
    turn = (Rotation.from_rotvec(share * _step(one, two).as_rotvec()) * Rotation.from_rotvec(one.turn)).as_rotvec()
    return pose(way, turn)


def motions(one: Pose, two: Pose, shares: Array, pivot: Array) -> Array:
    """The motions (n, 4, 4) at shares (n,) of that between two poses, the thing's pivot standing at a point (3,)."""
    found = np.tile(np.eye(4), (len(shares), 1, 1))
    if one.turn == two.turn:
        found[:, :3, :3] = _rotation(one.turn)
    else:
        turns = Rotation.from_rotvec(shares[:, None] * _step(one, two).as_rotvec()) * Rotation.from_rotvec(one.turn)
        found[:, :3, :3] = turns.as_matrix()
    way = np.array(one.way) + shares[:, None] * np.subtract(two.way, one.way)
    found[:, :3, 3] = pivot + way - found[:, :3, :3] @ pivot
    return found


def turn_between(one: Pose, two: Pose) -> float:
    """The angle in rad between two poses' turns."""
    return 0.0 if one.turn == two.turn else float(_step(one, two).magnitude())


def _step(one: Pose, two: Pose) -> Rotation:
    return Rotation.from_rotvec(two.turn) * Rotation.from_rotvec(one.turn).inv()


def length_of(way: Sequence[Pose]) -> float:
    """How far the pivot goes in mm."""
    return float(sum(stir(a, b, 0.0) for a, b in itertools.pairwise(way)))


def stir(one: Pose, two: Pose, reach: float) -> float:
    """How far any point goes at most between two poses that is no farther than ``reach`` from the pivot."""
    far = math.dist(one.way, two.way)
    return far + turn_between(one, two) * reach


def leaning(at: Pose) -> float:
    """How far in degrees what stood upright leans at a pose."""
    up = Rotation.from_rotvec(at.turn).apply([0.0, 0.0, 1.0])
    return float(np.degrees(np.arccos(np.clip(up[2], -1.0, 1.0))))
