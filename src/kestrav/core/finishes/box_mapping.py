"""Coordinates of textures on solids that have none: each triangle takes those of the side of a box that it faces most."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


class Mapped(msgspec.Struct, frozen=True):
    """A surface cut at the seams of its mapping: which point each corner was (``source``, k), its place on the texture (``uv``, k, 2) in
    sides of it, the direction of u (``along``, k, 3), and triangles (m, 3) of these corners."""

    source: NDArray[np.int64]
    uv: Array
    along: Array
    triangles: NDArray[np.int64]


def box_mapped(points: NDArray[np.floating], triangles: NDArray[np.integer], grain: float) -> Mapped:
    """Map a surface of points (n, 3) in mm and triangles (m, 3), so that a side of the texture is ``grain`` mm.

    On every side u goes along the longer of its two directions, so that brushing and wood run lengthwise.
    """
    places, faces = np.asarray(points, float), np.asarray(triangles, np.int64)
    if not len(faces):
        return Mapped(np.empty(0, np.int64), np.empty((0, 2)), np.empty((0, 3)), faces.reshape(0, 3))
    low, extent = places.min(axis=0), np.ptp(places, axis=0)
    corners = places[faces]
    side = np.abs(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])).argmax(axis=1)
    keys = faces * 3 + side[:, None]
    known, inverse = np.unique(keys, return_inverse=True)
    source, axis = known // 3, known % 3
    # for each side of the box its directions along u and v
    others = np.array([[1, 2], [0, 2], [0, 1]])
    swap = extent[others[:, 0]] < extent[others[:, 1]]
    others[swap] = others[swap][:, ::-1]
    directions = others[axis]
    rows = np.arange(len(known))
    moved = (places[source] - low) / grain
    uv = np.stack([moved[rows, directions[:, 0]], moved[rows, directions[:, 1]]], axis=-1)
    return Mapped(source, uv, np.eye(3)[directions[:, 0]], inverse.reshape(-1, 3).astype(np.int64))
