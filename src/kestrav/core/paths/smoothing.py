"""Smoothing paths, by as much as they may depart from what they were. Lengths in mm."""

from __future__ import annotations

from contextlib import suppress

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.document.edits import update
from kestrav.core.document.records import Path, PathPoint, PointShape, Project
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.paths.analysis import tight_spans
from kestrav.core.paths.fitting import Departure, departure
from kestrav.core.paths.path_curves import check_curves, path_curve
from kestrav.core.paths.shaping import path_of

Array = NDArray[np.float64]


def smoothed(project: Project, path_id: str, most: float) -> tuple[Project, Departure]:
    """The project with a path smoothed as far as that takes it no farther than ``most`` mm from the old one, and how
    far it does.

    A smoothing spline (C. Reinsch, "Smoothing by spline functions", Numerische Mathematik 10, 1967) through the
    places of the points, and between where they are few; the ends of an open path stay. It becomes smooth points.
    Raises BadInput unless ``most`` is above 0.
    """
    path = path_of(project, path_id)
    if not most > 0 or not np.isfinite(most):
        raise BadInput("give the distance that the path may depart by, above 0 mm")
    curve = path_curve(path).curve
    count = int(np.clip(2 * len(curve.breaks), 16, 600))
    stations = np.linspace(0.0, curve.length, count + 1)
    places = curve.position(stations)
    unit = stations / curve.length

    def at(strength: float) -> tuple[Project, Departure]:
        shape = _smoothed_points(unit, places, strength, closed=curve.closed)
        result = update(project, path_id, shape=shape, trim=(0.0, 1.0))
        return result, departure(curve, path_curve(path_of(result, path_id)).curve)

    low, high = -14.0, 2.0
    best = at(10.0**low)
    for _ in range(18):
        middle = 0.5 * (low + high)
        tried = at(10.0**middle)
        if tried[1].distance <= most:
            low, best = middle, tried
        else:
            high = middle
    if best[1].distance > most:
        raise BadInput(f"“{path.name}” cannot be smoothed within {most:g} mm")
    return best


def widened(project: Project, path_id: str, radius: float) -> Project:
    """The project with no bend of a path tighter than a radius in mm.

    Where straight sides meet in corners, sharp or rounded, these are rounded by it. Otherwise, or where that has no
    room, the path is smoothed, by no more than it takes. Raises BadInput when that cannot be.
    """
    path = path_of(project, path_id)
    with suppress(BadInput):
        rounded = _rounded(project, path, radius)
        if not tight_spans(path_curve(path_of(rounded, path_id)).curve, radius):
            return rounded
    curve = path_curve(path).curve
    count = int(np.clip(2 * len(curve.breaks), 64, 600))
    stations = np.linspace(0.0, curve.length, count + 1)
    places = curve.position(stations)
    widest = None
    low, high = -14.0, 2.0
    for _ in range(14):
        middle = 0.5 * (low + high)
        shape = _smoothed_points(stations / curve.length, places, 10.0**middle, closed=curve.closed)
        result = update(project, path_id, shape=shape, trim=(0.0, 1.0))
        if tight_spans(path_curve(path_of(result, path_id)).curve, radius):
            low = middle
        else:
            high, widest = middle, result
    if widest is None:
        raise BadInput(f"“{path.name}” cannot be smoothed to bends of {radius:g} mm; move its points farther apart")
    return widest


def _rounded(project: Project, path: Path, radius: float) -> Project:
    """The corners that are tighter than a radius, rounded by it."""
    shape = path.shape
    if not isinstance(shape, PointShape):
        return project
    points = tuple(
        msgspec.structs.replace(p, radius=radius)
        if p.kind == "corner" and p.radius < radius and (shape.closed or 0 < i < len(shape.points) - 1)
        else p
        for i, p in enumerate(shape.points)
    )
    return check_curves(update(project, path.id, shape=msgspec.structs.replace(shape, points=points)))


def _smoothed_points(unit: Array, places: Array, strength: float, *, closed: bool) -> PointShape:
    if closed:
        # three times round, of which the middle one is kept: it closes smoothly
        laps = np.concatenate([unit[:-1] + k for k in (-1, 0, 1)])
        around = np.concatenate([places[:-1]] * 3)
        kept = scipy.interpolate.make_smoothing_spline(laps, around, lam=strength)(unit[:-1])
        return PointShape(tuple(PathPoint(vector(p)) for p in kept[:: max(len(kept) // 60, 1)]), True)
    weights = np.ones(len(unit))
    weights[[0, -1]] = 1e9
    kept = scipy.interpolate.make_smoothing_spline(unit, places, w=weights, lam=strength)(unit)
    kept[[0, -1]] = places[[0, -1]]
    step = max((len(kept) - 1) // 60, 1)
    picked = sorted({*range(0, len(kept), step), len(kept) - 1})
    return PointShape(tuple(PathPoint(vector(kept[k])) for k in picked))
