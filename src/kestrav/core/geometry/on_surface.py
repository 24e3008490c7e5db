"""Curves on the surface of a mesh: through points of it, smooth or the shortest way. Lengths in mm.

Facets are only near a curved surface. Where the file has the surface's closed form the places are brought onto that.
"""

from __future__ import annotations

from typing import Literal

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.curves import spline_through
from kestrav.core.geometry.faces import Face
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.rays import first_hits

Array = NDArray[np.float64]
Between = Literal["smooth", "shortest"]

PER_PIECE = 16  # samples from a point to the next
_STEPS = 12  # of straightening at each fineness
_FAR = 0.02  # share of the mesh's size that a point may be off the surface and still belong to it


class SurfaceLine(msgspec.Struct, frozen=True):
    """Samples (n, 3) of a curve on a surface with its unit normals (n, 3), and which samples are the points."""

    samples: Array
    normals: Array
    marks: tuple[int, ...]

    def lifted(self, lift: float) -> Array:
        """The samples (n, 3) raised along the normals by a length in mm."""
        points: Array = self.samples + lift * self.normals
        return points


def brought_onto(shape: Mesh, points: ArrayLike, normals: ArrayLike) -> tuple[Array, Array, NDArray[np.bool_]]:
    """The surface's nearest places (n, 3) along lines (n, 3) through points (n, 3), its normals there, and which
    lines met it; the others stay as they are."""
    points, normals = np.asarray(points, float), np.asarray(normals, float)
    best = np.full(len(points), np.inf)
    triangle = np.full(len(points), -1)
    for sense in (-1.0, 1.0):
        # a place on the surface itself is met from a little way back
        back = 1e-3 * float(np.linalg.norm(np.ptp(shape.bounds, axis=0)))
        away, met = first_hits(shape, points - sense * back * normals, sense * normals)
        away = away - back
        nearer = (met >= 0) & (np.abs(away) < np.abs(best))
        best[nearer], triangle[nearer] = sense * away[nearer], met[nearer]
    hit = triangle >= 0
    places, turned = points.copy(), normals.copy()
    places[hit] += best[hit, None] * normals[hit]
    corners = shape.vertices[shape.triangles[triangle[hit]]]
    facing = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    turned[hit] = facing / np.linalg.norm(facing, axis=1)[:, None]
    if shape.faces and shape.face_of is not None:
        of = np.where(hit, shape.face_of[np.where(hit, triangle, 0)], -1)
        for number in np.unique(of[of >= 0]):
            face, mine = shape.faces[number], of == number
            if face.kind != "free":
                places[mine], turned[mine] = _on_face(face, places[mine], turned[mine])
    return places, turned, hit


def _on_face(face: Face, places: Array, facing: Array) -> tuple[Array, Array]:
    """Places near a closed form brought onto it, with its normals on the side that the facets face."""
    axis = np.array(face.axis)
    step = places - np.array(face.origin)
    height = (step @ axis)[:, None]
    around = step - height * axis
    radial = np.linalg.norm(around, axis=1, keepdims=True)
    outward = around / np.maximum(radial, 1e-12)
    if face.kind == "plane":
        points, normal = places - height * axis, np.broadcast_to(axis, places.shape)
    elif face.kind == "cylinder":
        points, normal = places + (face.radius - radial) * outward, outward
    elif face.kind == "sphere":
        size = np.linalg.norm(step, axis=1, keepdims=True)
        normal = step / np.maximum(size, 1e-12)
        points = places + (face.radius - size) * normal
    elif face.kind == "torus":
        ring = np.array(face.origin) + face.radius * outward
        off = places - ring
        size = np.linalg.norm(off, axis=1, keepdims=True)
        normal = off / np.maximum(size, 1e-12)
        points = ring + face.tube * normal
    else:
        # a cone: its normal leans back from the radial direction by the half angle
        c, s = np.cos(face.half_angle), np.sin(face.half_angle)
        normal = c * outward - s * np.sign(height) * axis
        points = places - (radial * c - np.abs(height) * s) * normal
    sense = np.sign(np.einsum("ij,ij->i", normal, facing))[:, None]
    return points, np.where(sense == 0, 1.0, sense) * normal


def surface_line(
    shape: Mesh, points: ArrayLike, normals: ArrayLike, between: Between = "smooth", *, closed: bool = False
) -> SurfaceLine:
    """The line on a mesh's surface through points (k, 3) near it, whose normals (k, 3) tell which side is meant.

    ``smooth`` is the smooth curve through the points in space, brought onto the surface along normals that turn from
    each point's to the next. ``shortest`` starts from the same and is straightened: every sample goes to the middle
    of its neighbours and back onto the surface, from coarse to fine. Raises ValueError naming the points between
    which the surface cannot be followed.
    """
    points, normals = np.asarray(points, float), np.asarray(normals, float)
    points, normals, met = brought_onto(shape, points, normals)
    if not met.all():
        raise ValueError(f"point {int(np.argmin(met)) + 1} does not lie on the surface")
    ends = [(k, (k + 1) % len(points)) for k in range(len(points) if closed else len(points) - 1)]
    curve = None
    if between == "smooth" and (len(points) > 2 or closed):
        none = [None] * len(points)
        curve = spline_through(points, ["smooth"] * len(points), none, none, closed=closed)
    samples, turned = [points[:1]], [normals[:1]]
    for k, (a, b) in enumerate(ends):
        share = np.linspace(0.0, 1.0, PER_PIECE + 1)[1:]
        if between == "shortest":
            line, facing = _shortest(shape, points[[a, b]], normals[[a, b]])
        else:
            if curve is None:
                line = (1 - share)[:, None] * points[a] + share[:, None] * points[b]
            else:
                line = curve.evaluate(curve.breaks[k] + share * (curve.breaks[k + 1] - curve.breaks[k]))
            facing = _blend(normals[a], normals[b], share)
            line, facing, met = brought_onto(shape, line, facing)
            _refuse_gaps(met, a, b)
        line[-1], facing[-1] = points[b], normals[b]
        samples.append(line)
        turned.append(facing)
    marks = tuple(k * PER_PIECE for k in range(len(ends) + 1))
    return SurfaceLine(np.concatenate(samples), np.concatenate(turned), marks)


def _blend(first: Array, last: Array, share: Array) -> Array:
    """Unit vectors (n, 3) that turn from one to another."""
    mixed = (1 - share)[:, None] * first + share[:, None] * last
    size = np.linalg.norm(mixed, axis=1, keepdims=True)
    # opposite ones have no way between: the first is kept, as something must be
    return np.where(size > 1e-6, mixed / np.maximum(size, 1e-12), first)


def _refuse_gaps(met: NDArray[np.bool_], a: int, b: int) -> None:
    if not met.all():
        raise ValueError(
            f"the surface cannot be followed between points {a + 1} and {b + 1}; put another point between them"
        )


def _shortest(shape: Mesh, ends: Array, normals: Array) -> tuple[Array, Array]:
    """Samples (PER_PIECE, 3) after the first of two places, on the shortest way found, and the normals."""
    line, facing = ends, normals
    while len(line) <= PER_PIECE:
        # twice as fine
        middle = 0.5 * (line[:-1] + line[1:])
        between = _blend_pairs(facing[:-1], facing[1:])
        finer, turned = np.empty((2 * len(line) - 1, 3)), np.empty((2 * len(line) - 1, 3))
        finer[::2], finer[1::2], turned[::2], turned[1::2] = line, middle, facing, between
        line, facing = finer, turned
        for _ in range(_STEPS):
            # the middle of both neighbours, but first half of them and then the others: no sawtooth is left
            for first in (1, 2):
                inner = np.arange(first, len(line) - 1, 2)
                if not len(inner):
                    continue
                middle = 0.5 * (line[inner - 1] + line[inner + 1])
                line[inner], facing[inner], met = brought_onto(shape, middle, facing[inner])
                if not met.all():
                    raise ValueError("the surface cannot be followed between two of the points; put one between them")
    return line[1:], facing[1:]


def _blend_pairs(first: Array, last: Array) -> Array:
    mixed = first + last
    size = np.linalg.norm(mixed, axis=1, keepdims=True)
    return np.where(size > 1e-6, mixed / np.maximum(size, 1e-12), first)
