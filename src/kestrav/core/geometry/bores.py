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
    """Where the axis of the one wide hole that a solid has, or of a wheel's that its rim goes round, passes its middle (3,).

    None where it has none, or several alike.
    """
    holes = sorted(_holes(shape), key=lambda face: -face.radius)
    if not holes:
        return None
    rim = max((face for face in shape.faces if face.kind == "cylinder"), key=lambda face: face.radius)
    wheel = next((face for face in holes if face.radius < rim.radius and _share_axis(face, rim)), None)
    bore = wheel or holes[0]
    others = [face for face in holes if not _share_axis(bore, face)]
    axis = np.array(bore.axis)
    if wheel is None and (
        (others and others[0].radius > ALONE * bore.radius) or 2 * bore.radius < WIDE * _across(shape, axis)
    ):
        return None
    origin = np.array(bore.origin)
    bore_middle: Array = origin + ((shape.bounds.mean(axis=0) - origin) @ axis) * axis
    return bore_middle


def _holes(shape: Mesh) -> list[Face]:
    """The cylinders of a solid that are hollow and go round."""
    if shape.face_of is None:
        return []
    corners = shape.vertices[shape.triangles]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    middles = corners.mean(axis=1)
    turns: list[tuple[Face, float]] = []
    for number, face in enumerate(shape.faces):
        if face.kind != "cylinder":
            continue
        own = shape.face_of == number
        axis = np.array(face.axis)
        step = middles[own] - np.array(face.origin)
        outward = step - (step @ axis)[:, None] * axis
        if np.einsum("ij,ij->", normals[own], outward) < 0:
            turns.append((face, abs(face.across[1] - face.across[0])))
    # a hole is often of two halves
    return [
        face
        for face, _ in turns
        if sum(turn for other, turn in turns if _share_axis(face, other) and abs(other.radius - face.radius) < _SAME)
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
