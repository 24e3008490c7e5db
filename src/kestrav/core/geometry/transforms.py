"""Rigid transforms as (..., 4, 4) matrices; lengths in mm, rotations as unit quaternions (w, x, y, z)."""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]


def rotation_from_quaternion(quaternion: ArrayLike) -> Array:
    """Rotation matrices (..., 3, 3) of quaternions (..., 4) in w, x, y, z order.

    Raises ValueError for a quaternion of length zero.
    """
    matrix: Array = scipy.spatial.transform.Rotation.from_quat(
        np.asarray(quaternion, float), scalar_first=True
    ).as_matrix()
    return matrix


def quaternion_from_rotation(rotation: ArrayLike) -> Array:
    """Unit quaternions (..., 4), w >= 0, of rotation matrices (..., 3, 3)."""
    quaternion: Array = scipy.spatial.transform.Rotation.from_matrix(np.asarray(rotation, float)).as_quat(
        canonical=True, scalar_first=True
    )
    return quaternion


def rigid(rotation: ArrayLike, position: ArrayLike) -> Array:
    """(..., 4, 4) matrices from rotations (..., 3, 3) and positions (..., 3) in mm, broadcast together."""
    rotation, position = np.asarray(rotation, float), np.asarray(position, float)
    if rotation.ndim == 2 and position.ndim == 1:
        # one at a time is asked for again and again, and is several times faster so
        single = np.eye(4)
        single[:3, :3], single[:3, 3] = rotation, position
        return single
    shape = np.broadcast_shapes(rotation.shape[:-2], position.shape[:-1])
    matrix = np.zeros((*shape, 4, 4))
    matrix[..., :3, :3] = rotation
    matrix[..., :3, 3] = position
    matrix[..., 3, 3] = 1.0
    return matrix


def inverse_rigid(matrix: ArrayLike) -> Array:
    """Inverses of rigid (..., 4, 4) matrices."""
    matrix = np.asarray(matrix, float)
    if matrix.ndim == 2:
        back = matrix[:3, :3].T
        return rigid(back, -back @ matrix[:3, 3])
    transposed = np.swapaxes(matrix[..., :3, :3], -1, -2)
    return rigid(transposed, -np.einsum("...ij,...j->...i", transposed, matrix[..., :3, 3]))


def apply(matrix: ArrayLike, points: ArrayLike) -> Array:
    """Points (k, 3) under rigid matrices (..., 4, 4), as (..., k, 3)."""
    matrix = np.asarray(matrix, float)
    moved: Array = np.asarray(points, float) @ np.swapaxes(matrix[..., :3, :3], -1, -2)
    moved = moved + matrix[..., None, :3, 3]
    return moved


def split_stretch(matrix: ArrayLike) -> tuple[Array, Array]:
    """Split an affine (4, 4) matrix into a rigid one and the (3, 3) stretch applied before it.

    Polar decomposition; a mirror image goes into the stretch, so the rigid part is always a proper
    motion. ``matrix == rigid @ stretch``.
    """
    matrix = np.asarray(matrix, float)
    u, singular, vt = np.linalg.svd(matrix[:3, :3])
    rotation = u @ vt
    if np.linalg.det(rotation) < 0:
        rotation = -rotation
        singular = -singular
    return rigid(rotation, matrix[:3, 3]), vt.T @ np.diag(singular) @ vt


def angles_from_quaternion(quaternion: ArrayLike) -> Array:
    """Turns (3,) in degrees about the fixed x, y and z axes, x first, of a quaternion (4,).

    Where y is turned by a right angle the other two act alike; the z turn is 0 then.
    """
    m = rotation_from_quaternion(quaternion)
    y = -np.arcsin(np.clip(m[2, 0], -1.0, 1.0))
    if abs(m[2, 0]) > 1.0 - 1e-12:
        x, z = np.arctan2(-np.sign(m[2, 0]) * m[0, 1], m[1, 1]), np.float64(0.0)
    else:
        x, z = np.arctan2(m[2, 1], m[2, 2]), np.arctan2(m[1, 0], m[0, 0])
    angles: Array = np.degrees(np.array([x, y, z]))
    return angles


def quaternion_from_angles(angles: ArrayLike) -> tuple[float, float, float, float]:
    """The quaternion (w, x, y, z) of turns (3,) in degrees about the fixed x, y and z axes, x first."""
    x, y, z, w = (
        float(v)
        for v in scipy.spatial.transform.Rotation.from_euler("xyz", np.asarray(angles, float), degrees=True).as_quat()
    )
    return w, x, y, z


def rotation_angle(first: ArrayLike, second: ArrayLike) -> Array:
    """Angle in radians between rotations (..., 3, 3)."""
    relative = np.swapaxes(np.asarray(first, float), -1, -2) @ np.asarray(second, float)
    angle: Array = scipy.spatial.transform.Rotation.from_matrix(relative).magnitude()
    return angle
