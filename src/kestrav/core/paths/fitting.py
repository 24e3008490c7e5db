"""Points of a path found from samples of a curve, and how far one curve departs from another. Lengths in mm."""

from __future__ import annotations

import itertools

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import PathPoint, PointShape
from kestrav.core.geometry.arclength import Curve
from kestrav.core.geometry.curves import Kind, spline_through
from kestrav.core.geometry.faces import vector

Array = NDArray[np.float64]

CORNER = np.radians(30.0)  # samples that turn by more from one to the next are a corner
_DENSE = 2000
_PER_PIECE = 24


class Departure(msgspec.Struct, frozen=True):
    """How far a curve goes from another at most, in mm, and at which of its stations."""

    distance: float
    station: float


def polyline_distances(points: ArrayLike, line: ArrayLike) -> Array:
    """Distances (n,) of points (n, 3) from a polyline (m, 3), whose segments are short beside its bends."""
    points, line = np.asarray(points, float), np.asarray(line, float)
    _, near = scipy.spatial.cKDTree(line).query(points)
    polyline_distances = np.full(len(points), np.inf)
    last = len(line) - 1
    meets = np.allclose(line[0], line[-1], rtol=0, atol=1e-9)
    for first in (near - 1, near):
        # where the line closes, both its ends are one place
        k = first % last if meets else np.clip(first, 0, last - 1)
        start, along = line[k], line[k + 1] - line[k]
        square = np.maximum(np.einsum("ij,ij->i", along, along), 1e-300)
        share = np.clip(np.einsum("ij,ij->i", points - start, along) / square, 0.0, 1.0)
        polyline_distances = np.minimum(
            polyline_distances, np.linalg.norm(start + share[:, None] * along - points, axis=1)
        )
    return polyline_distances


def departure(old: Curve, new: Curve) -> Departure:
    """The greatest distance of a new curve's places from an old curve."""
    stations = np.linspace(0.0, new.length, _DENSE)
    along = np.union1d(np.linspace(0.0, old.length, 4 * _DENSE), old.breaks)
    away = polyline_distances(new.position(stations), old.position(along))
    worst = int(np.argmax(away))
    return Departure(float(away[worst]), float(stations[worst]))


def corners_of(samples: ArrayLike, angle: float = CORNER) -> NDArray[np.bool_]:
    """Which samples (n,) of a line (n, 3) are corners: the line turns there by more than an angle in rad."""
    steps = np.diff(np.asarray(samples, float), axis=0)
    directions = steps / np.linalg.norm(steps, axis=1)[:, None]
    turns = np.arctan2(
        np.linalg.norm(np.cross(directions[:-1], directions[1:]), axis=1),
        np.einsum("ij,ij->i", directions[:-1], directions[1:]),
    )
    return np.concatenate([[False], turns > angle, [False]])


def points_through(
    samples: ArrayLike, tolerance: float, *, closed: bool = False, corner: float = CORNER, most: int = 2000
) -> PointShape:
    """The fewest points found, smooth ones and corners, whose curve stays within a tolerance of samples (n, 3).

    Samples in one place with the one before are passed over. Those of a closed line do not repeat the first. Raises
    ValueError when there are fewer than two places, three if closed.
    """
    places: Array = np.asarray(samples, float)
    keep = np.concatenate([[True], np.linalg.norm(np.diff(places, axis=0), axis=1) > 1e-6])
    places = places[keep]
    if closed and len(places) > 1 and np.linalg.norm(places[-1] - places[0]) <= 1e-6:
        places = places[:-1]
    if len(places) < (3 if closed else 2):
        raise ValueError("the line has no length")
    if closed:
        places = _from_corner(places, corner)
    line = np.concatenate([places, places[:1]]) if closed else places
    sharp = corners_of(line, corner)
    if closed:
        wrapped = corners_of(np.concatenate([line[-2:-1], line[:2]]), corner)[1]
        sharp[0] = sharp[-1] = wrapped
    chosen = set(np.flatnonzero(sharp).tolist()) | {0, len(line) - 1}
    if len(chosen) < 4 and closed:
        chosen |= {len(line) // 3, 2 * len(line) // 3}
    chord = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    while True:
        order = sorted(chosen)
        fitted, which = _fitted(line, order, sharp=sharp, closed=closed)
        worst = polyline_distances(line, fitted)
        # in every stretch that is off, one more point at its worst sample
        added = set()
        for first, last in itertools.pairwise(order):
            if last - first < 2:
                continue
            inner = worst[first + 1 : last]
            if inner.max() > tolerance or _bulges(fitted[which == first], line[first : last + 1], tolerance):
                middle = 0.5 * (chord[first] + chord[last])
                added.add(int(np.clip(np.searchsorted(chord, middle), first + 1, last - 1)))
        if not added or len(chosen) + len(added) > most:
            break
        chosen |= added
    picked = order[:-1] if closed else order
    kinds: list[Kind] = ["corner" if sharp[k] else "smooth" for k in picked]
    if not closed:
        # what is straight between two points stays so, and an end has no curvature either way
        kinds[0] = kinds[-1] = "corner" if len(picked) == 2 else "smooth"
    points = tuple(PathPoint(vector(line[k]), kind) for k, kind in zip(picked, kinds, strict=True))
    return PointShape(points, closed)


def points_by_hand(samples: ArrayLike, tolerance: float) -> PointShape:
    """Few smooth points whose curve stays within about a tolerance of a line drawn by hand (n, 3).

    A hand trembles: samples nearer to each other than three times the tolerance say nothing of its way. Raises
    ValueError as :func:`points_through`.
    """
    places = np.asarray(samples, float)
    apart = [0]
    for k in range(1, len(places)):
        if np.linalg.norm(places[k] - places[apart[-1]]) > 3 * tolerance:
            apart.append(k)
    if apart[-1] != len(places) - 1:
        apart.append(len(places) - 1)
    return points_through(places[apart], tolerance, corner=np.pi)


def _from_corner(samples: Array, corner: float) -> Array:
    """A closed line's samples, begun at a corner if it has one."""
    around = np.concatenate([samples[-1:], samples, samples[:1]])
    sharp = np.flatnonzero(corners_of(around, corner)[1:-1])
    return np.roll(samples, -sharp[0], axis=0) if len(sharp) else samples


def _fitted(line: Array, order: list[int], *, sharp: NDArray[np.bool_], closed: bool) -> tuple[Array, NDArray[np.intp]]:
    """Places of the curve through chosen samples, and for each the sample that its piece begins at."""
    picked = order[:-1] if closed else order
    kinds: list[Kind] = ["corner" if sharp[k] else "smooth" for k in picked]
    none = [None] * len(picked)
    curve = spline_through(line[picked], kinds, none, none, closed=closed)
    breaks = curve.breaks
    parameter = np.concatenate(
        [np.linspace(a, b, _PER_PIECE, endpoint=False) for a, b in itertools.pairwise(breaks)] + [breaks[-1:]]
    )
    which = np.repeat(np.array(order[:-1]), _PER_PIECE)
    return curve.evaluate(parameter), np.append(which, order[-2])


def _bulges(fitted: Array, line: Array, tolerance: float) -> bool:
    """Whether a fitted piece leaves the line between its samples."""
    return bool(polyline_distances(fitted, line).max() > max(2 * tolerance, _sagitta(line)))


def _sagitta(line: Array) -> float:
    """How far a smooth curve through samples may lie from the chords between them."""
    if len(line) < 3:
        return 0.0
    return float(np.linalg.norm(line[:-2] - 2 * line[1:-1] + line[2:], axis=1).max())
