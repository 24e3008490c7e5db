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

    Its surface has to be closed, its corners to lie on rings about the axis, and its facets between two of them, or in one plane across, to
    go all round. A facet between two rings that spans an angle then departs from the cone through them by no more than the sagitta of that
    angle.
    """
    if not shape.watertight:
        return np.inf
    normal = np.asarray(direction, float) / np.linalg.norm(direction)
    used, corner = np.unique(shape.triangles, return_inverse=True)
    step = shape.vertices[used] - np.asarray(origin, float)
    heights = step @ normal
    across = step - heights[:, None] * normal
    radii = np.linalg.norm(across, axis=1)
    same = max(_ON_GRID, _SAME * float(np.ptp(shape.bounds, axis=0).max()))
    ring = _rings(heights, radii, same)
    if ring is None:
        return np.inf
    first = np.cross(normal, np.eye(3)[int(np.argmin(np.abs(normal)))])
    first /= np.linalg.norm(first)
    angles = np.arctan2(across @ np.cross(normal, first), across @ first)
    mine, turned = ring[corner].reshape(-1, 3), angles[corner].reshape(-1, 3)
    count = int(ring.max()) + 1
    radius, height = np.zeros(count), np.zeros(count)
    radius[ring], height[ring] = radii, heights
    on_axis = radius <= same
    spans = _spans(turned, on_axis[mine])
    level = np.ptp(height[mine], axis=1) <= same
    if not _bands_closed(mine[~level], turned[~level], on_axis):
        return np.inf
    flat = np.stack([across @ first, across @ np.cross(normal, first)], axis=1)[corner].reshape(-1, 3, 2)
    planes = _rings(height, np.zeros(count), same)
    if planes is None or not _planes_full(planes[mine[level, 0]], mine[level], flat[level], ring, angles, radius, same):
        return np.inf
    whole = np.unique(mine[level])
    whole = whole[~on_axis[whole]]
    gaps = np.array([widest_gap(angles[ring == k]) for k in whole])
    # three corners farther apart may have the axis between them
    if spans[~level].max(initial=0.0) >= 2 * np.pi / 3 or gaps.max(initial=0.0) >= np.pi:
        return np.inf
    angle = np.concatenate([spans[~level], gaps])
    away = np.concatenate([radius[mine[~level]].max(axis=1, initial=0.0), radius[whole]])
    return float((away * (1.0 - np.cos(0.5 * angle))).max(initial=0.0)) + 2 * same


def _rings(heights: Array, radii: Array, same: float) -> NDArray[np.intp] | None:
    """The number of the ring on which each corner (n,) lies; corners whose height and radius differ by no more than ``same`` share one.
    None where corners lie so close that rings cannot be told apart."""
    number = np.zeros(len(heights), np.intp)
    for values in (heights, radii):
        order = np.argsort(values)
        steps = np.concatenate([[0], np.cumsum(np.diff(values[order]) > same)])
        starts = np.flatnonzero(np.diff(steps, prepend=-1))
        ends = np.append(starts[1:], len(steps)) - 1
        if (values[order][ends] - values[order][starts] > same).any():
            return None
        own = np.empty(len(values), np.intp)
        own[order] = steps
        number = number * (int(steps[-1]) + 1) + own
    rings: NDArray[np.intp] = np.unique(number, return_inverse=True)[1].reshape(-1)
    return rings


def _turn(one: Array, two: Array) -> Array:
    """The angle between two, at most half a turn."""
    angles: Array = np.abs((two - one + np.pi) % (2 * np.pi) - np.pi)
    return angles


def _spans(turned: Array, on_axis: NDArray[np.bool_]) -> Array:
    """The angle (m,) that each facet spans, by the angles of its corners (m, 3); those on the axis have none."""
    spans = np.zeros(len(turned))
    for a, b in itertools.combinations(range(3), 2):
        between = np.where(on_axis[:, a] | on_axis[:, b], 0.0, _turn(turned[:, a], turned[:, b]))
        spans = np.maximum(spans, between)
    return spans


def _bands_closed(mine: NDArray[np.intp], turned: Array, on_axis: NDArray[np.bool_]) -> bool:
    """Whether facets (m, 3), by the rings and angles of their corners, lie between two rings each and go all round both."""
    low, high = mine.min(axis=1), mine.max(axis=1)
    if not ((mine == low[:, None]) | (mine == high[:, None])).all():
        return False
    bands, of = np.unique(np.stack([low, high], axis=1), axis=0, return_inverse=True)
    order = np.argsort(of.reshape(-1), kind="stable")
    for band, facets in zip(bands, np.split(order, np.cumsum(np.bincount(of.reshape(-1)))[:-1]), strict=True):
        for ring in band:
            if not on_axis[ring] and not _goes_round(mine[facets] == ring, turned[facets]):
                return False
    return True


def _goes_round(mine: NDArray[np.bool_], turned: Array) -> bool:
    """Whether the edges between those of facets' corners (m, 3) that are on a ring, by their angles, leave nothing of it out."""
    pairs = list(itertools.combinations(range(3), 2))
    edges = [turned[mine[:, a] & mine[:, b]][:, (a, b)] for a, b in pairs]
    ends = np.concatenate(edges)
    if not len(ends):
        return False
    step = (ends[:, 1] - ends[:, 0] + np.pi) % (2 * np.pi) - np.pi
    start = np.where(step >= 0, ends[:, 0], ends[:, 1]) % (2 * np.pi)
    order = np.argsort(start)
    start, end = start[order], (start + np.abs(step))[order]
    # what is reached from the first edge on, and from there once round
    reached = np.maximum.accumulate(end)
    gap = np.append(start[1:], start[0] + 2 * np.pi) - reached
    return bool(gap.max() <= _ALL_ROUND * 2 * np.pi)


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


def widest_gap(angles: Array) -> float:
    """The widest angle without any of some angles (n,) of a turn."""
    turns = np.sort(angles)
    return float(np.diff(np.append(turns, turns[0] + 2 * np.pi)).max())
