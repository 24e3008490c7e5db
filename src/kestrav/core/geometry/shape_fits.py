"""Least-squares planes, circles and cylinders through points, with their residuals. Lengths in mm."""

from __future__ import annotations

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]


class PlaneFit(msgspec.Struct, frozen=True):
    """A point and unit normal (3,), and the root mean square and largest distance of the points in mm."""

    origin: Array
    normal: Array
    residual: float
    worst: float


class CircleFit(msgspec.Struct, frozen=True):
    """Centre (3,), unit axis (3,) and radius, and the root mean square and largest distance of the points."""

    centre: Array
    axis: Array
    radius: float
    residual: float
    worst: float


class CylinderFit(msgspec.Struct, frozen=True):
    """A point of the axis amid the points, unit axis and radius, and the points' distances from the surface."""

    origin: Array
    axis: Array
    radius: float
    residual: float
    worst: float


def fit_plane(points: ArrayLike) -> PlaneFit:
    """The plane with the least squared distances from points (n, 3).

    By the singular value decomposition of the centred points. Raises ValueError for fewer than three points
    or points on a line.
    """
    points = _checked(points, 3)
    middle = points.mean(axis=0)
    _, singular, axes = np.linalg.svd(points - middle, full_matrices=False)
    if singular[1] < 1e-9 * max(singular[0], 1e-9):
        raise ValueError("the points lie on a line")
    away = (points - middle) @ axes[2]
    return PlaneFit(middle, axes[2], _rms(away), float(np.abs(away).max()))


def fit_circle(points: ArrayLike) -> CircleFit:
    """The circle nearest to points (n, 3) in space: first their plane, then the circle in it.

    Started by Kåsa's linear fit (I. Kåsa, "A circle fitting procedure and its error analysis", IEEE Transactions
    on Instrumentation and Measurement 25, 1976) and refined to least geometric distances by Gauss–Newton
    (W. Gander, G. Golub, R. Strebel, "Least-squares fitting of circles and ellipses", BIT 34, 1994). Raises
    ValueError when the points fix no circle.
    """
    points = _checked(points, 3)
    plane = fit_plane(points)
    u, v = _basis(plane.normal)
    flat = np.stack([(points - plane.origin) @ u, (points - plane.origin) @ v], axis=1)
    design = np.column_stack([2.0 * flat, np.ones(len(flat))])
    (a, b, c), _, rank, _ = np.linalg.lstsq(design, (flat**2).sum(axis=1), rcond=None)
    if rank < 3:
        raise ValueError("the points fix no circle")
    start = np.array([a, b, np.sqrt(max(c + a * a + b * b, 0.0))])

    def away(guess: Array) -> Array:
        distances: Array = np.hypot(flat[:, 0] - guess[0], flat[:, 1] - guess[1]) - guess[2]
        return distances

    best = scipy.optimize.least_squares(away, start, method="lm", xtol=1e-14, ftol=1e-14).x if len(flat) > 3 else start
    radius = abs(float(best[2]))
    reach = float(np.abs(flat).max())
    if not np.isfinite(radius) or radius > 1e5 * reach:
        raise ValueError("the points lie on a line")
    centre = plane.origin + best[0] * u + best[1] * v
    height = (points - plane.origin) @ plane.normal
    off = np.hypot(away(best), height)
    return CircleFit(centre, plane.normal, radius, _rms(off), float(off.max()))


def fit_cylinder(points: ArrayLike, normals: ArrayLike | None = None) -> CylinderFit:
    """The cylinder nearest to points (n, 3), with unit surface normals (n, 3) if they are known.

    A cylinder's normals are at right angles to its axis, so the axis starts as the direction that they have
    least of; without normals several directions are tried. Least geometric distances by Levenberg–Marquardt.
    Raises ValueError when the points fix no cylinder.
    """
    points = _checked(points, 5)
    middle, size = points.mean(axis=0), float(np.linalg.norm(np.ptp(points, axis=0)))
    if size < 1e-9:
        raise ValueError("the points lie in one place")
    if normals is not None:
        _, _, axes = np.linalg.svd(np.asarray(normals, float), full_matrices=False)
        starts = [axes[2]]
    else:
        _, _, axes = np.linalg.svd(points - middle, full_matrices=False)
        diagonals = [axes[0] + axes[1], axes[0] - axes[1], axes[0] + axes[2], axes[1] + axes[2]]
        starts = [*axes, *(d / np.linalg.norm(d) for d in diagonals)]
    fits = [fit for start in starts if (fit := _cylinder_from(points, middle, size, start)) is not None]
    if not fits:
        raise ValueError("the points fix no cylinder")
    return min(fits, key=lambda fit: fit.residual)


def _cylinder_from(points: Array, middle: Array, size: float, start: Array) -> CylinderFit | None:
    u, v = _basis(start)

    def parts(guess: Array) -> tuple[Array, Array]:
        axis = start + guess[0] * u + guess[1] * v
        return middle + size * (guess[2] * u + guess[3] * v), axis / np.linalg.norm(axis)

    def away(guess: Array) -> Array:
        origin, axis = parts(guess)
        step = points - origin
        around = step - (step @ axis)[:, None] * axis
        distances: Array = np.linalg.norm(around, axis=1) / size - guess[4]
        return distances

    flat = np.stack([(points - middle) @ u, (points - middle) @ v], axis=1) / size
    design = np.column_stack([2.0 * flat, np.ones(len(flat))])
    (a, b, c), *_ = np.linalg.lstsq(design, (flat**2).sum(axis=1), rcond=None)
    guess = np.array([0.0, 0.0, a, b, np.sqrt(max(c + a * a + b * b, 1e-12))])
    best = scipy.optimize.least_squares(away, guess, method="lm", xtol=1e-14, ftol=1e-14).x
    origin, axis = parts(best)
    radius, off = abs(float(best[4])) * size, away(best) * size
    if not np.isfinite(radius) or radius > 1e4 * size:
        return None
    origin = origin + float((points - origin).mean(axis=0) @ axis) * axis
    return CylinderFit(origin, axis, radius, _rms(off), float(np.abs(off).max()))


def _checked(points: ArrayLike, least: int) -> Array:
    points = np.asarray(points, float).reshape(-1, 3)
    if len(points) < least:
        raise ValueError(f"{least} points or more are needed, not {len(points)}")
    return points


def _basis(axis: Array) -> tuple[Array, Array]:
    """Two unit vectors that make a right-handed frame with a unit axis."""
    helper = np.eye(3)[int(np.argmin(np.abs(axis)))]
    u = np.cross(helper, axis)
    u = u / np.linalg.norm(u)
    return u, np.cross(axis, u)


def _rms(values: Array) -> float:
    return float(np.sqrt(np.mean(values**2)))
