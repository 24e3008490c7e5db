"""A CAD file's analytic faces: planes, cylinders, cones, spheres and tori with their extents. Lengths in mm."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]
Vector = tuple[float, float, float]
Span = tuple[float, float]
FaceKind = Literal["plane", "cylinder", "cone", "sphere", "torus", "free"]


class Face(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One face of a solid, in the coordinates of its mesh.

    ``origin`` is a point of a plane or axis, the apex of a cone, or the centre of a sphere or torus; ``axis``
    is a unit vector (a plane's normal; of no meaning for a sphere). ``radius`` is a cylinder's, a sphere's or a
    torus's larger one, ``tube`` a torus's smaller one, ``half_angle`` in rad a cone's at its apex. ``across`` and
    ``along`` are the extents in the face's own two parameters: mm in a plane, rad about an axis, mm along it
    (from the apex for a cone), rad of latitude. A ``free`` face has no closed form.
    """

    kind: FaceKind
    origin: Vector = (0.0, 0.0, 0.0)
    axis: Vector = (0.0, 0.0, 1.0)
    radius: float = 0.0
    tube: float = 0.0
    half_angle: float = 0.0
    across: Span = (0.0, 0.0)
    along: Span = (0.0, 0.0)

    def moved(self, matrix: ArrayLike) -> Face:
        """The face under a (4, 4) matrix that turns, shifts, mirrors and scales evenly; free when it does more."""
        return moved_faces((self,), matrix)[0]

    def _stretched(self, matrix: Array) -> Face:
        """A plane stays a plane under any matrix that can be undone; its extents are then not known. Others do not."""
        linear = matrix[:3, :3]
        if self.kind != "plane" or abs(np.linalg.det(linear)) < 1e-12:
            return Face("free")
        normal = np.linalg.inv(linear).T @ np.array(self.axis)
        origin = linear @ np.array(self.origin) + matrix[:3, 3]
        return Face("plane", vector(origin), vector(normal / np.linalg.norm(normal)))

    def distance(self, points: ArrayLike) -> Array:
        """How far points (n, 3) are from the unbounded surface, in mm. Raises ValueError for a free face."""
        step = np.asarray(points, float) - np.array(self.origin)
        axis = np.array(self.axis)
        height = step @ axis
        around = np.linalg.norm(step - height[..., None] * axis, axis=-1)
        distance: Array
        if self.kind == "plane":
            distance = np.abs(height)
        elif self.kind == "cylinder":
            distance = np.abs(around - self.radius)
        elif self.kind == "cone":
            distance = np.abs(around * math.cos(self.half_angle) - np.abs(height) * math.sin(self.half_angle))
        elif self.kind == "sphere":
            distance = np.abs(np.linalg.norm(step, axis=-1) - self.radius)
        elif self.kind == "torus":
            distance = np.abs(np.hypot(around - self.radius, height) - self.tube)
        else:
            raise ValueError("a free face has no closed form")
        return distance


def moved_faces(faces: Iterable[Face], matrix: ArrayLike) -> tuple[Face, ...]:
    """Faces under a (4, 4) matrix that turns, shifts, mirrors and scales evenly; those that do not stay are free."""
    matrix = np.asarray(matrix, float)
    linear, shift = matrix[:3, :3], matrix[:3, 3]
    scale = abs(float(np.linalg.det(linear))) ** (1.0 / 3.0)
    if scale < 1e-12 or not np.allclose(linear.T @ linear, scale**2 * np.eye(3), rtol=0, atol=1e-6 * scale**2):
        return tuple(face._stretched(matrix) for face in faces)
    known = tuple(faces)
    if not known:
        return ()
    origins = np.array([face.origin for face in known]) @ linear.T + shift + 0.0
    axes = np.array([face.axis for face in known]) @ linear.T
    axes = axes / np.linalg.norm(axes, axis=1)[:, None] + 0.0
    return tuple(
        Face(
            face.kind,
            (o[0], o[1], o[2]),
            (a[0], a[1], a[2]),
            face.radius * scale,
            face.tube * scale,
            face.half_angle,
            _times(face.across, scale if face.kind == "plane" else 1.0),
            _times(face.along, scale if face.kind in ("plane", "cylinder", "cone") else 1.0),
        )
        for face, o, a in zip(known, origins.tolist(), axes.tolist(), strict=True)
    )


def vector(values: ArrayLike) -> Vector:
    """An array (3,) as plain numbers."""
    x, y, z = (float(v) + 0.0 for v in np.asarray(values, float))
    return (x, y, z)


def _times(span: Span, factor: float) -> Span:
    return (span[0] * factor, span[1] * factor)
