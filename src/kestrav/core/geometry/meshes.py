"""Triangle meshes: content hash, bounds, bounding boxes turned in space. Lengths in mm."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import trimesh
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]

GRID = 1e-4  # mm; coordinates are kept to this, so that copies of one shape get one hash


@dataclass(frozen=True, eq=False)
class Mesh:
    """Vertices (n, 3) in mm and triangles (m, 3) of vertex numbers."""

    vertices: Array
    triangles: NDArray[np.int32]

    @cached_property
    def hash(self) -> str:
        """Content hash: 32 hex digits over the coordinates on the grid and the triangles."""
        digest = hashlib.sha256(np.rint(self.vertices / GRID).astype("<i8").tobytes())
        digest.update(self.triangles.astype("<i4").tobytes())
        return digest.hexdigest()[:32]

    @cached_property
    def bounds(self) -> Array:
        """Lowest and highest corner, (2, 3)."""
        return np.stack([self.vertices.min(axis=0), self.vertices.max(axis=0)])

    @cached_property
    def watertight(self) -> bool:
        """Whether the mesh, its equal vertices merged, closes a volume."""
        merged = trimesh.Trimesh(self.vertices, self.triangles, process=True)
        return bool(merged.is_watertight)


def mesh(vertices: ArrayLike, triangles: ArrayLike) -> Mesh:
    """A mesh on the grid, without triangles that have no area.

    Raises ValueError when nothing is left or a number is not finite.
    """
    points = np.asarray(vertices, float).reshape(-1, 3)
    if not np.isfinite(points).all():
        raise ValueError("the mesh has vertices that are not finite")
    points = np.round(points / GRID) * GRID
    faces = np.asarray(triangles, np.int32).reshape(-1, 3)
    a, b, c = points[faces[:, 0]], points[faces[:, 1]], points[faces[:, 2]]
    faces = faces[np.linalg.norm(np.cross(b - a, c - a), axis=1) > 0]
    if not len(faces):
        raise ValueError("the mesh has no triangles")
    used, renumbered = np.unique(faces, return_inverse=True)
    return Mesh(points[used], renumbered.reshape(faces.shape).astype(np.int32))


def box_corners(bounds: ArrayLike) -> Array:
    """The eight corners (8, 3) of bounds (2, 3)."""
    bounds = np.asarray(bounds, float)
    return np.array([[bounds[i, 0], bounds[j, 1], bounds[k, 2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)])


def turned_bounds(bounds: ArrayLike, matrices: ArrayLike) -> Array:
    """Axis-aligned bounds (..., 2, 3) of boxes (..., 2, 3) under matrices (..., 4, 4), broadcast together."""
    bounds, matrices = np.asarray(bounds, float), np.asarray(matrices, float)
    middle, half = bounds.mean(axis=-2), 0.5 * (bounds[..., 1, :] - bounds[..., 0, :])
    rotation = matrices[..., :3, :3]
    centre = np.einsum("...ij,...j->...i", rotation, middle) + matrices[..., :3, 3]
    reach = np.einsum("...ij,...j->...i", np.abs(rotation), half)
    return np.stack([centre - reach, centre + reach], axis=-2)


def encloses(mesh: Mesh, point: ArrayLike) -> bool:
    """Whether a closed mesh has a point (3,) inside.

    Winding number by solid angles (Van Oosterom and Strackee, "The Solid Angle of a Plane Triangle",
    IEEE Transactions on Biomedical Engineering 30(2), 1983).
    """
    a, b, c = (mesh.vertices[mesh.triangles[:, k]] - np.asarray(point, float) for k in range(3))
    la, lb, lc = (np.linalg.norm(v, axis=1) for v in (a, b, c))
    volume = np.einsum("ij,ij->i", a, np.cross(b, c))
    below = (
        la * lb * lc
        + np.einsum("ij,ij->i", a, b) * lc
        + np.einsum("ij,ij->i", b, c) * la
        + np.einsum("ij,ij->i", c, a) * lb
    )
    return bool(abs(2.0 * np.arctan2(volume, below).sum()) > 2.0 * np.pi)
