"""Outlines in plan: hulls, and the smallest circle, ellipse and rectangle around points. Lengths in mm."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.errors import Damaged
from kestrav.core.later import later

if TYPE_CHECKING:
    import shapely
else:
    shapely = later("shapely")

Array = NDArray[np.float64]

_FLUSH = 1e-3  # mm by which a hull's corner may stand out and still be left out
_FITS = 1e-7  # how nearly the smallest ellipse is found, as a share of its area
_MOST_STEPS = 20_000


def _points(points: ArrayLike) -> shapely.MultiPoint:
    flat = np.asarray(points, float).reshape(-1, 2)
    if len(flat) == 0 or not np.isfinite(flat).all():
        raise Damaged("there are no points to go around")
    return shapely.multipoints(flat)


def hull(points: ArrayLike) -> Array:
    """The convex hull of points (n, 2): its corners (k, 2), counter-clockwise.

    Raises ValueError when the points lie in one place or on a line, where there is no outline.
    """
    ring = shapely.convex_hull(_points(points))
    if ring.geom_type != "Polygon" or ring.area <= _FLUSH**2:
        raise Damaged("the points lie in one place or on one line; that has no outline to go around")
    ring = shapely.orient_polygons(shapely.simplify(ring, _FLUSH))
    corners: Array = shapely.get_coordinates(ring)[:-1]
    return corners


def offset_corners(ring: ArrayLike, offset: float) -> Array:
    """Where the sides of a convex ring (k, 2), counter-clockwise and moved outwards, meet: corners (k, 2).

    Rounded by a radius of the offset they are all places at that distance from the ring.
    """
    ring = np.asarray(ring, float)
    along = np.roll(ring, -1, axis=0) - ring
    along /= np.linalg.norm(along, axis=1)[:, None]
    outward = np.stack([along[:, 1], -along[:, 0]], axis=1)
    before = np.roll(outward, 1, axis=0)
    # the corner lies along the sum of both normals, so far that either side is an offset away
    middle = before + outward
    offset_corners: Array = ring + offset * 2.0 * middle / np.einsum("ij,ij->i", middle, middle)[:, None]
    return offset_corners


def smallest_circle(points: ArrayLike) -> tuple[Array, float]:
    """Centre (2,) and radius of the smallest circle around points (n, 2); a radius of 0 for one place."""
    around = _points(points)
    radius = float(shapely.minimum_bounding_radius(around))
    centre = shapely.get_coordinates(shapely.centroid(shapely.minimum_bounding_circle(around)))[0]
    return centre, radius


def tightest_rectangle(points: ArrayLike) -> tuple[Array, float, float, float]:
    """Centre (2,), width, depth and turn in rad of the rectangle of least area around points (n, 2).

    Its width is the longer side, and the turn lies within a quarter turn either way. Raises ValueError as
    :func:`hull`.
    """
    corners = hull(points)
    best = (math.inf, np.zeros(2), 0.0, 0.0, 0.0)
    # one of its sides lies along a side of the hull (H. Freeman, R. Shapira, CACM 18(7), 1975)
    for side in np.roll(corners, -1, axis=0) - corners:
        turn = math.atan2(side[1], side[0])
        axes = np.array([[math.cos(turn), math.sin(turn)], [-math.sin(turn), math.cos(turn)]])
        low, high = (corners @ axes.T).min(axis=0), (corners @ axes.T).max(axis=0)
        width, depth = (high - low).tolist()
        if width * depth < best[0] * (1 - 1e-12):
            best = (width * depth, 0.5 * (low + high) @ axes, width, depth, turn)
    _, centre, width, depth, turn = best
    if depth > width:
        width, depth, turn = depth, width, turn + math.pi / 2
    # as a line has no sense, neither has the long side
    turn = (turn + math.pi / 2) % math.pi - math.pi / 2
    return centre, width, depth, turn


def smallest_ellipse(points: ArrayLike) -> tuple[Array, float, float, float]:
    """Centre (2,), half axes, the longer first, and turn in rad of the ellipse of least area around points (n, 2).

    The iteration of L. Khachiyan, "Rounding of polytopes in the real number model of computation", Mathematics of
    Operations Research 21(2), 1996, with the away steps of M. Todd and E. Yildirim (Discrete Applied
    Mathematics 155, 2007). All points lie inside. Raises ValueError as :func:`hull`.
    """
    corners = hull(points)
    middle, size = corners.mean(axis=0), float(np.ptp(corners, axis=0).max())
    unit = (corners - middle) / size
    lifted = np.column_stack([unit, np.ones(len(unit))]).T
    count, dimension = lifted.shape[1], 3.0
    weights = np.full(count, 1.0 / count)
    for _ in range(_MOST_STEPS):
        reach = np.einsum("ij,ij->j", lifted, np.linalg.solve((lifted * weights) @ lifted.T, lifted))
        out = int(np.argmax(reach))
        held = np.flatnonzero(weights > 1e-12)
        inner = int(held[np.argmin(reach[held])])
        over, under = reach[out] / dimension - 1.0, 1.0 - reach[inner] / dimension
        if max(over, under) < _FITS:
            break
        which, value = (out, reach[out]) if over >= under else (inner, reach[inner])
        step = (value - dimension) / (dimension * (value - 1.0))
        if which == inner and under > over:
            step = max(step, -weights[inner] / (1.0 - weights[inner]))
        weights *= 1.0 - step
        weights[which] += step
    centre = unit.T @ weights
    spread = (unit.T * weights) @ unit - np.outer(centre, centre)
    values, axes = np.linalg.eigh(2.0 * spread)
    # what the iteration leaves outside by its tolerance is taken in
    away = np.sqrt((((unit - centre) @ axes) ** 2 / values).sum(axis=1).max())
    halves = size * max(away, 1.0) * np.sqrt(values)
    turn = math.atan2(axes[1, 1], axes[0, 1])
    return middle + size * centre, float(halves[1]), float(halves[0]), (turn + math.pi / 2) % math.pi - math.pi / 2
