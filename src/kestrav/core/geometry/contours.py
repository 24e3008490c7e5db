"""Outlines in plan: hulls, and the smallest circle, ellipse and rectangle around points. Lengths in mm."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.errors import Damaged
from kestrav.core.later import later

if TYPE_CHECKING:
    import shapely
else:
    shapely = later("shapely")

Array = NDArray[np.float64]

_FLUSH = 1e-3  # mm by which a hull's corner may stand out and still be left out
_FITS = 1e-13  # how nearly the smallest ellipse is found, as a share of its area
_MOST_STEPS = 200
_FLAT = 1e-300


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

    The convex program of S. Boyd and L. Vandenberghe, "Convex Optimization", 2004, 8.4.1: the map that takes the points into
    the unit circle and shrinks areas least. All points lie inside. Raises ValueError as :func:`hull`.
    """
    corners = hull(points)
    middle, size = corners.mean(axis=0), float(np.ptp(corners, axis=0).max())
    unit = (corners - middle) / size
    # a thin outline is no harder than a round one when it is as round
    spread, own = np.linalg.eigh(unit.T @ unit / len(unit))
    rounding = own / np.sqrt(spread) @ own.T
    x, y = (unit @ rounding).T

    def images(entries: Array) -> tuple[Array, Array]:
        a, b, c, e, f = entries
        return a * x + b * y + e, b * x + c * y + f

    def shrinks(entries: Array) -> float:
        a, b, c = entries[:3]
        return -math.log(max(a * c - b * b, _FLAT))

    def shrinks_by(entries: Array) -> Array:
        a, b, c = entries[:3]
        slope: Array = np.array([-c, 2 * b, -a, 0.0, 0.0]) / max(a * c - b * b, _FLAT)
        return slope

    def inside(entries: Array) -> Array:
        s, t = images(entries)
        room: Array = 1.0 - s * s - t * t
        return room

    def inside_by(entries: Array) -> Array:
        s, t = images(entries)
        slopes: Array = -2.0 * np.column_stack([s * x, s * y + t * x, t * y, s, t])
        return slopes

    farthest = float(np.hypot(x, y).max())
    entries = scipy.optimize.minimize(
        shrinks,
        [1 / farthest, 0.0, 1 / farthest, 0.0, 0.0],
        jac=shrinks_by,
        constraints={"type": "ineq", "fun": inside, "jac": inside_by},
        method="SLSQP",
        options={"ftol": _FITS, "maxiter": _MOST_STEPS},
    ).x
    linear = np.array([[entries[0], entries[1]], [entries[1], entries[2]]]) @ rounding
    centre = -np.linalg.solve(linear, entries[3:])
    # what is left outside by the tolerance is taken in
    away = float(np.hypot(*(linear @ (unit - centre).T)).max())
    values, axes = np.linalg.eigh(np.linalg.inv(linear.T @ linear))
    halves = size * max(away, 1.0) * np.sqrt(values)
    turn = math.atan2(axes[1, 1], axes[0, 1])
    return middle + size * centre, float(halves[1]), float(halves[0]), (turn + math.pi / 2) % math.pi - math.pi / 2
