"""Where a solid has its bore, from its CAD faces. Lengths in mm."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kestrav.core.geometry.faces import Face
from kestrav.core.geometry.meshes import Mesh

Array = NDArray[np.float64]

# common practice, no source: what a lever, a hub or a pulley turns on is wide against it, and the one such hole
WIDE = 0.3  # of a bore's diameter to the solid's smaller extent across it
ALONE = 0.8  # of the next hole's radius to the bore's
ROUND = 0.75  # of a full turn, by which a rounded corner is no hole
_SAME, _PARALLEL = 1e-3, 1e-6  # of a radius beside an axis, and of the sine of an angle to it


def bore_middle(shape: Mesh) -> Array | None:
    """The middle (3,) of the one wide hole that a solid has, or of a wheel's that its rim goes round; None where it has none, or several."""
    holes = _holes(shape)
    if not holes:
        return None
    holes.sort(key=lambda each: -each[0].radius)
    widest = holes[0][0]
    mine = [each for each in holes if _share_axis(widest, each[0])]
    others = [face for face, _ in holes if not _share_axis(widest, face)]
    if others and others[0].radius > ALONE * widest.radius:
        return None
    axis = np.array(widest.axis)
    rim = max((face for face in shape.faces if face.kind == "cylinder"), key=lambda face: face.radius)
    wheel = rim.radius > widest.radius and _share_axis(widest, rim)
    if not wheel and 2 * widest.radius < WIDE * _across(shape, axis):
        return None
    origin = np.array(widest.origin)
    along = np.concatenate([points @ axis for _, points in mine if len(points)]) - origin @ axis
    found: Array = origin + 0.5 * (along.min() + along.max()) * axis
    return found


def _holes(shape: Mesh) -> list[tuple[Face, Array]]:
    """The cylinders of a solid that are hollow and go round, each with the corners of its facets."""
    if shape.face_of is None:
        return []
    corners = shape.vertices[shape.triangles]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    middles = corners.mean(axis=1)
    turns: list[tuple[Face, float, Array]] = []
    for number, face in enumerate(shape.faces):
        if face.kind != "cylinder":
            continue
        own = shape.face_of == number
        axis = np.array(face.axis)
        step = middles[own] - np.array(face.origin)
        outward = step - (step @ axis)[:, None] * axis
        if np.einsum("ij,ij->", normals[own], outward) < 0:
            turns.append((face, abs(face.across[1] - face.across[0]), corners[own].reshape(-1, 3)))
    # a hole is often of two halves
    return [
        (face, points)
        for face, _, points in turns
        if sum(t for other, t, _ in turns if _share_axis(face, other) and abs(other.radius - face.radius) < _SAME)
        > ROUND * 2 * np.pi
    ]


def _share_axis(one: Face, two: Face) -> bool:
    first, second = np.array(one.axis), np.array(two.axis)
    step = np.array(two.origin) - np.array(one.origin)
    apart = np.linalg.norm(step - (step @ first) * first)
    return bool(np.linalg.norm(np.cross(first, second)) < _PARALLEL and apart < _SAME * max(one.radius, two.radius))


def _across(shape: Mesh, axis: Array) -> float:
    """A solid's smaller extent across an axis."""
    flat = shape.vertices - (shape.vertices @ axis)[:, None] * axis
    directions = np.linalg.svd(flat - flat.mean(axis=0), full_matrices=False)[2][:2]
    return float(np.ptp(flat @ directions.T, axis=0).min())
