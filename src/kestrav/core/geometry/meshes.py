"""Triangle meshes: content hash, bounds, faces, bounding boxes turned in space. Lengths in mm."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.errors import Damaged
from kestrav.core.geometry.faces import Face, moved_faces

if TYPE_CHECKING:
    import trimesh

Array = NDArray[np.float64]

GRID = 1e-4  # mm; coordinates are kept to this, so that copies of one shape get one hash
_SOLID_ANGLES = 100_000  # that are worked out together
FARTHEST = 1e9  # mm; beyond, a double no longer tells points on the grid apart


class Mesh(msgspec.Struct, frozen=True, eq=False, dict=True):
    """Vertices (n, 3) in mm and triangles (m, 3) of vertex numbers.

    Where the file had analytic faces they are kept, with the number of its face for every triangle (m,). Where it
    coloured faces apart, ``tints`` are those colours (#rrggbb; empty for the part's own), numbered by ``tint_of`` (m,).
    ``uv`` (m, 3, 2) is where the corners of triangles lie on the pictures of a finish, from 0, 0 at the lower left to 1, 1.
    """

    vertices: Array
    triangles: NDArray[np.int32]
    faces: tuple[Face, ...] = ()
    face_of: NDArray[np.int32] | None = None
    tints: tuple[str, ...] = ()
    tint_of: NDArray[np.int32] | None = None
    uv: NDArray[np.float32] | None = None

    @cached_property
    def hash(self) -> str:
        """Content hash: 32 hex digits over the coordinates on the grid, the triangles, and tints and places on pictures if there are."""
        digest = hashlib.sha256(np.rint(self.vertices / GRID).astype("<i8").tobytes())
        digest.update(self.triangles.astype("<i4").tobytes())
        if self.tint_of is not None:
            digest.update("|".join(self.tints).encode())
            digest.update(self.tint_of.astype("<i4").tobytes())
        if self.uv is not None:
            digest.update(self.uv.astype("<f4").tobytes())
        return digest.hexdigest()[:32]

    @cached_property
    def bounds(self) -> Array:
        """Lowest and highest corner, (2, 3)."""
        return np.stack([self.vertices.min(axis=0), self.vertices.max(axis=0)])

    @cached_property
    def body(self) -> trimesh.Trimesh:
        """The mesh as trimesh knows it, equal vertices merged and the triangles in their order."""
        import trimesh  # takes a second, and a project that is only looked at needs none of it

        merged = trimesh.Trimesh(self.vertices, self.triangles, process=False)
        merged.merge_vertices(merge_norm=True, merge_tex=True, digits_vertex=5)
        return merged

    @cached_property
    def pieces(self) -> Array:
        """A vertex (n, 3) of each of its connected pieces."""
        body = self.body
        import trimesh

        of = trimesh.graph.connected_component_labels(body.edges_unique, node_count=len(body.vertices))  # type: ignore[no-untyped-call]
        used = np.unique(body.faces)
        _, first = np.unique(of[used], return_index=True)
        pieces: Array = np.asarray(body.vertices)[used[first]]
        return pieces

    def __reduce__(self) -> tuple[object, ...]:
        # what is known of it goes along; trimesh's own copy is quickly made anew, and would double what is sent to another process
        known = {name: value for name, value in self.__dict__.items() if name != "body"}
        return type(self), msgspec.structs.astuple(self), known

    @cached_property
    def watertight(self) -> bool:
        """Whether the mesh, its equal vertices merged, closes a volume."""
        return bool(self.body.is_watertight)

    @cached_property
    def volume(self) -> float:
        """Enclosed volume in mm³; of meaning for a watertight mesh only."""
        return abs(float(self.body.volume))

    @cached_property
    def area(self) -> float:
        """Surface area in mm²."""
        return float(self.body.area)

    @cached_property
    def centroid(self) -> Array:
        """Centre of gravity (3,) of the solid if it is closed, else of the surface."""
        centroid: Array = np.array(self.body.center_mass if self.watertight else self.body.centroid)
        return centroid

    def moved(self, matrix: ArrayLike) -> Mesh:
        """The mesh under an affine (4, 4) matrix; a mirror image keeps its outside out."""
        matrix = np.asarray(matrix, float)
        order = slice(None, None, -1 if np.linalg.det(matrix[:3, :3]) < 0 else 1)
        triangles, uv = self.triangles[:, order], None if self.uv is None else self.uv[:, order]
        faces = moved_faces(self.faces, matrix)
        vertices = self.vertices @ matrix[:3, :3].T + matrix[:3, 3]
        return mesh(vertices, triangles, faces, self.face_of, self.tints, self.tint_of, uv)


def mesh(
    vertices: ArrayLike,
    triangles: ArrayLike,
    faces: tuple[Face, ...] = (),
    face_of: NDArray[np.int32] | None = None,
    tints: tuple[str, ...] = (),
    tint_of: NDArray[np.int32] | None = None,
    uv: NDArray[np.floating] | None = None,
) -> Mesh:
    """A mesh on the grid, without triangles that have no area; ``face_of`` (m,) numbers ``faces``, as do tints; ``uv`` (m, 3, 2) are their
    corners' places on pictures.

    Raises ValueError when nothing is left, a number is not finite or a triangle names no vertex.
    """
    points, corners = _checked(vertices, triangles)
    a, b, c = points[corners[:, 0]], points[corners[:, 1]], points[corners[:, 2]]
    sound = np.linalg.norm(np.cross(b - a, c - a), axis=1) > 0
    corners = corners[sound]
    if not len(corners):
        raise Damaged("the mesh has no triangles")
    used, renumbered = np.unique(corners, return_inverse=True)
    kept = np.asarray(face_of, np.int32)[sound] if faces and face_of is not None else None
    return Mesh(
        points[used],
        renumbered.reshape(corners.shape).astype(np.int32),
        faces if kept is not None else (),
        kept,
        tints if tint_of is not None else (),
        np.asarray(tint_of, np.int32)[sound] if tints and tint_of is not None else None,
        None if uv is None else np.asarray(uv, np.float32)[sound],
    )


def mesh_again(vertices: ArrayLike, triangles: ArrayLike) -> Mesh:
    """A mesh of what was one before: on the grid, but not looked at for what :func:`mesh` leaves out. Raises ValueError as that does."""
    points, corners = _checked(vertices, triangles)
    return Mesh(points, corners.astype(np.int32))


def _checked(vertices: ArrayLike, triangles: ArrayLike) -> tuple[Array, NDArray[np.int64]]:
    """Vertices (n, 3) on the grid and triangles (m, 3) of them. Raises ValueError where one is not."""
    points = np.asarray(vertices, float).reshape(-1, 3)
    if not np.isfinite(points).all():
        raise Damaged("the mesh has vertices that are not finite")
    if len(points) and np.abs(points).max() > FARTHEST:
        raise Damaged(f"the mesh has vertices farther than {FARTHEST / 1e6:g} km from its origin")
    corners = np.asarray(triangles, np.int64).reshape(-1, 3)
    if len(corners) and (corners.min() < 0 or corners.max() >= len(points)):
        raise Damaged("the mesh has triangles whose corners are not there")
    return _on_grid(points), corners


def joined(shapes: Sequence[Mesh]) -> Mesh:
    """Meshes as one, their triangles one after another; faces and tints are not kept."""
    offsets = np.cumsum([0, *(len(s.vertices) for s in shapes[:-1])])
    return Mesh(
        np.concatenate([s.vertices for s in shapes]),
        np.concatenate([s.triangles + o for s, o in zip(shapes, offsets, strict=True)]).astype(np.int32),
    )


def _on_grid(points: Array) -> Array:
    """Coordinates on the grid that a file of single-precision metres gives back unchanged."""
    as_kept = np.round(points / GRID) * GRID
    single = (as_kept / 1000.0).astype(np.float32).astype(float)
    return np.asarray(np.round(single * 1000.0 / GRID) * GRID)


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


def box_distances(one: ArrayLike, two: ArrayLike) -> Array:
    """How far axis-aligned boxes (..., 2, 3) are apart in mm; 0 where they meet."""
    one, two = np.asarray(one, float), np.asarray(two, float)
    gap = np.maximum(np.maximum(one[..., 0, :] - two[..., 1, :], two[..., 0, :] - one[..., 1, :]), 0.0)
    box_distances: Array = np.linalg.norm(gap, axis=-1)
    return box_distances


def bounds_within(mesh: Mesh, box: Array) -> Array | None:
    """Bounds (2, 3) of what a mesh, and the solid that it closes, has within a box (2, 3); None where that is nothing.

    Where none of the box's corners is inside the solid, what it has there is bounded by its surface.
    """
    corners = mesh.vertices[mesh.triangles]
    low, high = np.maximum(corners.min(axis=1), box[0]), np.minimum(corners.max(axis=1), box[1])
    here = (low <= high).all(axis=1)
    reached = [low[here], high[here]]
    own = mesh.bounds
    if mesh.watertight and (own[0] < box[1]).all() and (own[1] > box[0]).all():
        ends = box_corners(box)
        reached.append(ends[encloses_each(mesh, ends)])
    points = np.concatenate(reached)
    return np.stack([points.min(axis=0), points.max(axis=0)]) if len(points) else None


def encloses(mesh: Mesh, point: ArrayLike) -> bool:
    """Whether a closed mesh has a point (3,) inside."""
    return bool(encloses_each(mesh, np.asarray(point, float)[None])[0])


def encloses_each(mesh: Mesh, points: Array) -> NDArray[np.bool_]:
    """Which of points (n, 3) a closed mesh has inside.

    Winding number by solid angles (Van Oosterom and Strackee, "The Solid Angle of a Plane Triangle",
    IEEE Transactions on Biomedical Engineering 30(2), 1983).
    """
    corners = mesh.vertices[mesh.triangles]
    inside = np.zeros(len(points), bool)
    at_once = max(_SOLID_ANGLES // len(corners), 1)
    for start in range(0, len(points), at_once):
        mine = points[start : start + at_once, None]
        a, b, c = (corners[None, :, k] - mine for k in range(3))
        la, lb, lc = (np.sqrt(np.einsum("nij,nij->ni", v, v)) for v in (a, b, c))
        volume = np.einsum("nij,nij->ni", a, np.cross(b, c))
        below = (
            la * lb * lc
            + np.einsum("nij,nij->ni", a, b) * lc
            + np.einsum("nij,nij->ni", b, c) * la
            + np.einsum("nij,nij->ni", c, a) * lb
        )
        turned = 2.0 * np.arctan2(volume, below).sum(axis=1)
        inside[start : start + at_once] = np.abs(turned) > 2.0 * np.pi
    return inside


def smooth_surface(shape: Mesh, chosen: NDArray[np.bool_]) -> tuple[Array, Array, NDArray[np.intp]]:
    """Points (k, 3), their unit normals (k, 3) and triangles (m, 3) of some of a mesh's triangles."""
    triangles = shape.triangles[chosen].astype(np.int64)
    faces = shape.face_of[chosen].astype(np.int64) if shape.face_of is not None else np.arange(len(triangles))
    corners = shape.vertices[triangles]
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    key = np.repeat(faces, 3) * len(shape.vertices) + triangles.reshape(-1)
    used, numbers = np.unique(key, return_inverse=True)
    normals = np.zeros((len(used), 3))
    # weighed by area, so that long thin triangles do not bend them
    np.add.at(normals, numbers, np.repeat(across, 3, axis=0))
    size = np.linalg.norm(normals, axis=1, keepdims=True)
    normals = np.where(size > 1e-12, normals / np.maximum(size, 1e-12), [0.0, 0.0, 1.0])
    return shape.vertices[used % len(shape.vertices)], normals, numbers.reshape(-1, 3)
