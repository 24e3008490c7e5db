"""Whether a solid is round about an axis, and by how much its facets depart from that. Lengths in mm."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.meshes import GRID, Mesh

Array = NDArray[np.float64]

_ON_GRID, _SAME = 3 * GRID, 1e-6  # mm, and of the solid's size, by which the corners of one ring may differ
_ALL_ROUND = 1e-6  # of a full turn, by which facets may fall short of going round


def facet_error(shape: Mesh, origin: ArrayLike, direction: ArrayLike) -> float:
    """By how much in mm a solid and itself, turned about an axis by any angle, depart from each other at most (the Hausdorff distance of
    their surfaces); infinite where it is not round about the axis.

    Its corners have to lie on rings about the axis, and its facets between two of them, or in one plane across, to go all round. A facet
    between two rings that spans an angle then departs from the cone through them by no more than the sagitta of that angle.
    """
    way = np.asarray(direction, float) / np.linalg.norm(direction)
    used, corner = np.unique(shape.triangles, return_inverse=True)
    step = shape.vertices[used] - np.asarray(origin, float)
    heights = step @ way
    across = step - heights[:, None] * way
    radii = np.linalg.norm(across, axis=1)
    same = max(_ON_GRID, _SAME * float(np.ptp(shape.bounds, axis=0).max()))
    ring = _rings(heights, radii, same)
    first = np.cross(way, np.eye(3)[int(np.argmin(np.abs(way)))])
    first /= np.linalg.norm(first)
    angles = np.arctan2(across @ np.cross(way, first), across @ first)
    mine, turned = ring[corner].reshape(-1, 3), angles[corner].reshape(-1, 3)
    count = int(ring.max()) + 1
    radius, height = np.zeros(count), np.zeros(count)
    radius[ring], height[ring] = radii, heights
    on_axis = radius <= same
    spans = _spans(turned, on_axis[mine])
    level = np.ptp(height[mine], axis=1) <= same
    if not _bands_closed(mine[~level], turned[~level], on_axis):
        return np.inf
    flat = np.stack([across @ first, across @ np.cross(way, first)], axis=1)[corner].reshape(-1, 3, 2)
    plane = _rings(height, np.zeros(count), same)[mine[level]].max(axis=1, initial=0)
    if not _planes_full(plane, mine[level], flat[level], ring, angles, radius, same):
        return np.inf
    whole = np.unique(mine[level])
    whole = whole[~on_axis[whole]]
    angle = np.concatenate([spans[~level], [_widest_gap(angles[ring == k]) for k in whole]])
    if angle.max(initial=0.0) >= np.pi:
        return np.inf
    away = np.concatenate([radius[mine[~level]].max(axis=1, initial=0.0), radius[whole]])
    return float((away * (1.0 - np.cos(0.5 * angle))).max(initial=0.0)) + 2 * same


def _rings(heights: Array, radii: Array, same: float) -> NDArray[np.intp]:
    """The number of the ring on which each corner (n,) lies; corners whose height and radius differ by no more than ``same`` share one."""
    number = np.zeros(len(heights), np.intp)
    for values in (heights, radii):
        order = np.argsort(values)
        steps = np.concatenate([[0], np.cumsum(np.diff(values[order]) > same)])
        own = np.empty(len(values), np.intp)
        own[order] = steps
        number = number * (int(steps[-1]) + 1) + own
    found: NDArray[np.intp] = np.unique(number, return_inverse=True)[1].reshape(-1)
    return found


def _turn(one: Array, two: Array) -> Array:
    """The angle between two, at most half a turn."""
    found: Array = np.abs((two - one + np.pi) % (2 * np.pi) - np.pi)
    return found


def _spans(turned: Array, on_axis: NDArray[np.bool_]) -> Array:
    """The angle (m,) that each facet spans, by the angles of its corners (m, 3); those on the axis have none."""
    spans = np.zeros(len(turned))
    for a, b in itertools.combinations(range(3), 2):
        between = np.where(on_axis[:, a] | on_axis[:, b], 0.0, _turn(turned[:, a], turned[:, b]))
        spans = np.maximum(spans, between)
    return spans


def _bands_closed(mine: NDArray[np.intp], turned: Array, on_axis: NDArray[np.bool_]) -> bool:
    """Whether facets (m, 3), by the rings and angles of their corners, lie between two rings each and go all round both, once."""
    bands: dict[tuple[int, int], list[int]] = {}
    low, high = mine.min(axis=1), mine.max(axis=1)
    if not ((mine == low[:, None]) | (mine == high[:, None])).all():
        return False
    for k, pair in enumerate(zip(low.tolist(), high.tolist(), strict=True)):
        bands.setdefault(pair, []).append(k)
    for pair, facets in bands.items():
        for ring in pair:
            if on_axis[ring]:
                continue
            whole = 0.0
            for a, b in itertools.combinations(range(3), 2):
                edges = (mine[facets, a] == ring) & (mine[facets, b] == ring)
                whole += float(_turn(turned[facets, a], turned[facets, b])[edges].sum())
            if abs(whole - 2 * np.pi) > _ALL_ROUND * 2 * np.pi:
                return False
    return True


def _planes_full(
    plane: NDArray[np.intp],
    mine: NDArray[np.intp],
    flat: Array,
    ring: NDArray[np.intp],
    angles: Array,
    radius: Array,
    same: float,
) -> bool:
    """Whether facets across the axis (their planes (m,), rings (m, 3) and corners (m, 3, 2)) fill what is between the outermost and the
    innermost ring of each plane, or all of it within the outermost."""
    one, two = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    areas = 0.5 * np.abs(one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0])
    for number in np.unique(plane):
        own = plane == number
        rings = sorted(np.unique(mine[own]), key=lambda k: radius[k])
        outer, inner = (_ring_area(angles[ring == k], float(radius[k])) for k in (rings[-1], rings[0]))
        filled = float(areas[own].sum())
        if min(abs(filled - outer), abs(filled - (outer - inner))) > 4 * np.pi * radius[rings[-1]] * same:
            return False
    return True


def _ring_area(angles: Array, radius: float) -> float:
    turns = np.unique(angles)
    gaps = np.diff(np.append(turns, turns[0] + 2 * np.pi))
    return float(0.5 * radius**2 * np.sin(gaps).sum())


def _widest_gap(angles: Array) -> float:
    turns = np.sort(angles)
    return float(np.diff(np.append(turns, turns[0] + 2 * np.pi)).max())
