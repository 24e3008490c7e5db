"""Faces and edges of a mesh as a person sees them: where the file named none, by the angle between facets.

A face is a CAD face, or facets that join smoothly; an edge is a run of facet edges between two faces. Lengths in mm.
"""

from __future__ import annotations

from functools import lru_cache

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.geometry.faces import Face
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.shape_fits import CircleFit, fit_circle, fit_cylinder, fit_plane

Array = NDArray[np.float64]

SMOOTH = np.radians(32.0)  # facets that differ by less are one face, where the file names no faces
FLAT = 0.01  # share of a face's size that facets may lie off a fitted plane or cylinder and still be taken for one


class Edge(msgspec.Struct, frozen=True):
    """Points (k, 3) in order, whether they close, the lengths' sum, and the faces on both sides (-1: none)."""

    points: Array
    closed: bool
    faces: tuple[int, int]

    @property
    def length(self) -> float:
        """Length of the polyline in mm."""
        return float(np.linalg.norm(np.diff(self.points, axis=0), axis=1).sum())


class Surface(msgspec.Struct, frozen=True):
    """What a face is: its closed form, whether it is the file's own, and how far the facets are from it."""

    face: Face
    exact: bool
    residual: float


class Topology(msgspec.Struct, frozen=True, eq=False):
    """The number of its face for every triangle (m,), the edges, and the corners (c, 3) where edges end."""

    mesh: Mesh
    face_of: NDArray[np.int32]
    edges: tuple[Edge, ...]
    corners: Array

    @property
    def count(self) -> int:
        """How many faces there are."""
        return int(self.face_of.max()) + 1

    def triangles_of(self, face: int) -> NDArray[np.int64]:
        """Numbers of a face's triangles."""
        return np.flatnonzero(self.face_of == face)

    def points_of(self, face: int) -> Array:
        """The vertices (n, 3) of a face."""
        points: Array = self.mesh.vertices[np.unique(self.mesh.triangles[self.triangles_of(face)])]
        return points

    def area_of(self, face: int) -> float:
        """Area of a face's facets in mm²."""
        a, b, c = (self.mesh.vertices[self.mesh.triangles[self.triangles_of(face), k]] for k in range(3))
        return 0.5 * float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())


# by identity of the mesh; a cache of the work and not of the result
@lru_cache(maxsize=2048)
def topology(mesh: Mesh) -> Topology:
    """Work out a mesh's faces and edges."""
    body = mesh.body
    pairs, joints = np.asarray(body.face_adjacency), np.asarray(body.face_adjacency_edges)
    if mesh.face_of is not None:
        named = mesh.face_of
    else:
        named = _smooth_faces(len(mesh.triangles), pairs, np.asarray(body.face_adjacency_angles))
    outline = np.asarray(body.edges_sorted)
    lone = _lone_edges(outline)
    between = named[pairs[:, 0]] != named[pairs[:, 1]]
    ends = np.concatenate([joints[between], outline[lone]])
    sides = np.concatenate(
        [
            np.sort(named[pairs[between]], axis=1),
            np.stack([named[np.asarray(body.edges_face)[lone]], np.full(len(lone), -1)], axis=1),
        ]
    )
    edges, corners = _chains(np.asarray(body.vertices, float), ends, sides)
    return Topology(mesh, np.asarray(named, np.int32), edges, corners)


def _smooth_faces(count: int, pairs: NDArray[np.int64], angles: Array) -> NDArray[np.int32]:
    """Faces by connecting facets whose normals differ little."""
    smooth = pairs[angles < SMOOTH]
    joined = scipy.sparse.coo_matrix((np.ones(len(smooth)), (smooth[:, 0], smooth[:, 1])), shape=(count, count))
    _, labels = scipy.sparse.csgraph.connected_components(joined, directed=False)
    return np.asarray(labels, np.int32)


def _lone_edges(edges: NDArray[np.int64]) -> NDArray[np.int64]:
    """Numbers of the edges (n, 2) that occur once: the border of an open mesh."""
    _, first, counts = np.unique(edges, axis=0, return_index=True, return_counts=True)
    return np.asarray(first[counts == 1], np.int64)


def _chains(vertices: Array, ends: NDArray[np.int64], sides: NDArray[np.int32]) -> tuple[tuple[Edge, ...], Array]:
    """Segments (n, 2) joined into edges: each lies between the same two faces throughout."""
    if not len(ends):
        return (), np.empty((0, 3))
    degree = np.bincount(ends.ravel(), minlength=len(vertices))
    at: dict[int, list[int]] = {}
    for number, (a, b) in enumerate(ends.tolist()):
        at.setdefault(a, []).append(number)
        at.setdefault(b, []).append(number)
    keys = [tuple(side) for side in sides.tolist()]
    corner = {v for v, segments in at.items() if degree[v] != 2 or keys[segments[0]] != keys[segments[1]]}
    free = set(range(len(ends)))
    pairs = ends.tolist()

    def follow(vertex: int, segment: int) -> list[int]:
        chain = [vertex]
        while True:
            free.discard(segment)
            a, b = pairs[segment]
            vertex = b if a == vertex else a
            chain.append(vertex)
            if vertex in corner:
                return chain
            onward = [s for s in at[vertex] if s in free]
            if not onward:
                return chain
            segment = onward[0]

    edges = []
    for start in sorted(corner):
        for segment in at[start]:
            if segment in free:
                chain = follow(start, segment)
                edges.append(_edge(vertices, chain, keys[segment]))
    while free:
        segment = min(free)
        chain = follow(pairs[segment][0], segment)
        edges.append(_edge(vertices, chain, keys[segment]))
    return tuple(edges), vertices[sorted(corner)]


def _edge(vertices: Array, chain: list[int], faces: tuple[int, ...]) -> Edge:
    return Edge(vertices[chain], len(chain) > 2 and chain[0] == chain[-1], (faces[0], faces[1]))


def surface_of(faces: Topology, number: int) -> Surface:
    """What a face is: the file's own closed form, or a plane or cylinder fitted to its facets, else free."""
    mesh = faces.mesh
    if mesh.faces and mesh.faces[number].kind != "free":
        return Surface(mesh.faces[number], True, 0.0)
    points = faces.points_of(number)
    size = float(np.linalg.norm(np.ptp(points, axis=0)))
    triangles = mesh.triangles[faces.triangles_of(number)]
    a, b, c = (mesh.vertices[triangles[:, k]] for k in range(3))
    normals = np.cross(b - a, c - a)
    normals /= np.linalg.norm(normals, axis=1)[:, None]
    best: list[Surface] = []
    if np.all(normals @ normals[0] > np.cos(SMOOTH)):
        try:
            plane = fit_plane(points)
        except ValueError:
            pass
        else:
            outward = plane.normal * np.sign(normals.sum(axis=0) @ plane.normal or 1.0)
            best.append(Surface(Face("plane", _plain(plane.origin), _plain(outward)), False, plane.residual))
    if not best or best[0].residual > 1e-3 * size:
        try:
            round_ = fit_cylinder(points, normals)
        except ValueError:
            pass
        else:
            heights = (points - round_.origin) @ round_.axis
            face = Face(
                "cylinder",
                _plain(round_.origin),
                _plain(round_.axis),
                round_.radius,
                across=(0.0, 2 * np.pi),
                along=(float(heights.min()), float(heights.max())),
            )
            best.append(Surface(face, False, round_.residual))
    good = [surface for surface in best if surface.residual < FLAT * size]
    return min(good, key=lambda s: s.residual) if good else Surface(Face("free"), False, 0.0)


class Ring(msgspec.Struct, frozen=True):
    """A circular edge: centre (3,), unit axis (3,), radius; whether it is exact, and the points' residual."""

    centre: Array
    axis: Array
    radius: float
    exact: bool
    residual: float


def ring_of(faces: Topology, edge: Edge) -> Ring | None:
    """The circle that an edge lies on, or None when it is not round.

    Where the file's faces on its sides tell (a plane across a cylinder, cone or sphere) it is theirs, exactly.
    """
    points = edge.points[:-1] if edge.closed else edge.points
    if len(points) < 4:
        return None
    try:
        fit = fit_circle(points)
    except ValueError:
        return None
    if fit.worst > max(0.01 * fit.radius, 1e-3):
        return None
    exact = _ring_of_faces(faces.mesh, edge.faces, fit)
    if exact is not None:
        return Ring(*exact, True, 0.0)
    return Ring(fit.centre, fit.axis, fit.radius, False, fit.residual)


def _ring_of_faces(mesh: Mesh, sides: tuple[int, int], fit: CircleFit) -> tuple[Array, Array, float] | None:
    """The circle in which two of the file's faces meet, near a fitted one: a face of revolution about an axis, cut
    across by a plane or met by another face about the same axis."""
    if not mesh.faces or min(sides) < 0:
        return None
    faces = [mesh.faces[s] for s in sides]
    planes = [f for f in faces if f.kind == "plane" and abs(abs(float(np.array(f.axis) @ fit.axis)) - 1.0) < 1e-6]
    # a cylinder's radius does not hang on the place along its axis
    rounds = sorted((f for f in faces if f.kind not in ("plane", "free")), key=lambda f: f.kind != "cylinder")
    near = 0.02 * fit.radius + 0.05
    for face in rounds:
        origin = np.array(face.origin)
        if face.kind == "sphere":
            axis = np.array(planes[0].axis) if planes else fit.axis
        else:
            axis = np.array(face.axis)
            if abs(abs(float(axis @ fit.axis)) - 1.0) > 1e-4:
                continue
        if not planes and face.kind != "cylinder":
            continue
        at = np.array(planes[0].origin) if planes else fit.centre
        height = float((at - origin) @ axis)
        centre = origin + height * axis
        radius = min(_radii(face, height), key=lambda r: abs(r - fit.radius), default=np.inf)
        if abs(radius - fit.radius) < near and float(np.linalg.norm(centre - fit.centre)) < near:
            return centre, axis, float(radius)
    return None


def _radii(face: Face, height: float) -> list[float]:
    """Radii of the circles in which a plane across its axis cuts a face of revolution, a height from its origin."""
    if face.kind == "cylinder":
        return [face.radius]
    if face.kind == "cone":
        return [abs(height) * float(np.tan(face.half_angle))]
    size = face.radius if face.kind == "sphere" else face.tube
    if abs(height) > size + 1e-3:
        return []
    half = float(np.sqrt(max(size**2 - height**2, 0.0)))
    return [half] if face.kind == "sphere" else [face.radius + half, face.radius - half]


def _plain(values: Array) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return (x, y, z)
