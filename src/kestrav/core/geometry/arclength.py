"""Curves by distance: arc length, its inverse, tangents, curvature and kinks.

Arc length is integrated by Gauss-Legendre quadrature on intervals that are halved until the length
agrees to 1e-12 of the whole. The inverse, parameter by station, is kept as piecewise quintic Hermite
polynomials whose error, measured as a length, is below 1e-10 of the whole; evaluating a station then
costs two polynomial evaluations.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.interpolate import PPoly

from kestrav.core.geometry.curves import Parametric

Array = NDArray[np.float64]

_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(12)
_LENGTH_TOLERANCE = 1e-12
_INVERSE_TOLERANCE = 1e-10
_MOST_HALVINGS = 24
_AT_BREAK = 1e-11  # of the parameter's range; the inverse is good to 1e-10 of the length
_SLOWEST = 1e-12  # keeps 1/speed finite at a cusp
KINK_ANGLE = np.radians(0.05)  # below this two pieces count as joined smoothly


@dataclass(frozen=True)
class Curve:
    """A curve by station: distance from its start, in mm.

    Attributes: the parametric curve; its length; whether it closes on itself; parameter by station;
    stations of the breaks between pieces; stations and angles (rad) of the kinks.
    """

    shape: Parametric
    length: float
    closed: bool
    parameter: PPoly
    breaks: Array
    kink_stations: Array
    kink_angles: Array

    def _at(self, stations: ArrayLike) -> Array:
        found: Array = self.parameter(np.clip(stations, 0.0, self.length))
        return found

    def position(self, stations: ArrayLike) -> Array:
        """Positions (n, 3) at stations (n,), clipped to the curve."""
        return self.shape.evaluate(self._at(stations))

    def tangent(self, stations: ArrayLike, before: bool = False) -> Array:
        """Unit tangents (n, 3); at a kink the one after it, or ``before`` it."""
        parameter, breaks = self._at(stations), self.shape.breaks
        # a station given in decimals falls beside its break by rounding; it means the break
        following = np.clip(np.searchsorted(breaks, parameter), 0, len(breaks) - 1)
        preceding = np.maximum(following - 1, 0)
        for near in (breaks[following], breaks[preceding]):
            parameter = np.where(np.abs(parameter - near) < _AT_BREAK * (breaks[-1] - breaks[0]), near, parameter)
        ended = np.isin(parameter, breaks[1:]) if before else parameter >= breaks[-1]
        return _unit(self.shape.evaluate(np.where(ended, np.nextafter(parameter, -np.inf), parameter), 1))

    def curvature(self, stations: ArrayLike) -> Array:
        """Curvature (n,) in 1/mm: |c' x c''| / |c'|^3."""
        parameter = self._at(stations)
        first, second = self.shape.evaluate(parameter, 1), self.shape.evaluate(parameter, 2)
        speed = np.maximum(np.linalg.norm(first, axis=-1), _SLOWEST)
        bend: Array = np.linalg.norm(np.cross(first, second), axis=-1) / speed**3
        return bend

    def nearest(self, point: ArrayLike) -> float:
        """Station of the curve's place nearest to a point (3,), to about 1e-6 of the length."""
        stations = np.linspace(0.0, self.length, max(65, 16 * len(self.breaks)))
        if self.closed:
            # the seam is a place like any other: look on both its sides
            stations = np.concatenate([stations, self.length + stations[1:2]])
        target = np.asarray(point, float)
        for _ in range(5):
            places = self.position(np.mod(stations, self.length) if self.closed else stations)
            best = int(np.argmin(np.linalg.norm(places - target, axis=1)))
            if self.closed and best == 0 and stations[0] == 0.0:
                best = len(stations) - 2  # the same place, with a neighbour on both its sides
            low, high = stations[max(best - 1, 0)], stations[min(best + 1, len(stations) - 1)]
            stations = np.linspace(low, high, 33)
        found = float(stations[len(stations) // 2])
        return found % self.length if self.closed else found


def by_arc_length(shape: Parametric, closed: bool = False) -> Curve:
    """A parametric curve made into one of distance.

    Raises ValueError when the curve has no length or is not finite.
    """
    breaks = shape.breaks
    ends = np.concatenate([np.linspace(a, b, 3)[:-1] for a, b in itertools.pairwise(breaks)])
    low, high = ends, np.append(ends[1:], breaks[-1])
    for halving in range(_MOST_HALVINGS):
        length = _lengths(shape, low, high)
        total = float(length.sum())
        if not np.isfinite(total) or total <= 0:
            raise ValueError("the curve has no length")
        bad = _faults(shape, low, high, length, total)
        if not bad.any() or halving == _MOST_HALVINGS - 1:
            break
        middle = 0.5 * (low + high)
        order = np.argsort(np.concatenate([low, middle[bad]]), kind="stable")
        low, high = (
            np.concatenate([low, middle[bad]])[order],
            np.concatenate([np.where(bad, middle, high), high[bad]])[order],
        )
    stations = np.concatenate([[0.0], np.cumsum(length)])
    inverse = PPoly(_hermite(shape, low, high, length), stations)
    at_break = np.append(stations[np.searchsorted(low, breaks[:-1])], stations[-1])
    kink_stations, kink_angles = _kinks(shape, at_break, closed)
    return Curve(shape, total, closed, inverse, at_break, kink_stations, kink_angles)


def _unit(vectors: Array) -> Array:
    length = np.linalg.norm(vectors, axis=-1, keepdims=True)
    found: Array = vectors / np.maximum(length, _SLOWEST)
    return found


def _lengths(shape: Parametric, low: Array, high: Array) -> Array:
    """Arc length (m,) between parameters low and high (m,)."""
    half = 0.5 * (high - low)
    nodes = (0.5 * (low + high))[:, None] + half[:, None] * _NODES
    speed = np.linalg.norm(shape.evaluate(nodes.ravel(), 1), axis=-1).reshape(nodes.shape)
    found: Array = half * (speed @ _WEIGHTS)
    return found


def _faults(shape: Parametric, low: Array, high: Array, length: Array, total: float) -> NDArray[np.bool_]:
    """Which intervals (m,) are too long for the quadrature or for the inverse."""
    middle = 0.5 * (low + high)
    halves = _lengths(shape, low, middle) + _lengths(shape, middle, high)
    bad = np.abs(halves - length) > _LENGTH_TOLERANCE * total
    coefficients = _hermite(shape, low, high, length)
    for share in (0.25, 0.5, 0.75):
        distance = share * length
        parameter = np.zeros_like(low)
        for row in coefficients:
            parameter = parameter * distance + row
        inside = np.clip(parameter, low, high)
        bad |= np.abs(_lengths(shape, low, inside) - distance) > _INVERSE_TOLERANCE * total
    # an interval that is down at rounding cannot be halved further
    found: NDArray[np.bool_] = bad & (high - low > 1e-12 * (high[-1] - low[0]))
    return found


def _hermite(shape: Parametric, low: Array, high: Array, length: Array) -> Array:
    """Coefficients (6, m) of parameter by distance, matching value and two derivatives at both ends."""
    u0, d0, e0 = low, *_inverse_derivatives(shape, low)
    d1, e1 = _inverse_derivatives(shape, np.nextafter(high, -np.inf))
    h = np.maximum(length, 1e-300)
    gap = high - u0 - d0 * h - 0.5 * e0 * h**2
    slope_gap = (d1 - d0 - e0 * h) * h
    bend_gap = (e1 - e0) * h**2
    a3 = (10 * gap - 4 * slope_gap + 0.5 * bend_gap) / h**3
    a4 = (-15 * gap + 7 * slope_gap - bend_gap) / h**4
    a5 = (6 * gap - 3 * slope_gap + 0.5 * bend_gap) / h**5
    return np.stack([a5, a4, a3, 0.5 * e0, d0, u0])


def _inverse_derivatives(shape: Parametric, parameter: Array) -> tuple[Array, Array]:
    """First and second derivative of parameter by distance."""
    first, second = shape.evaluate(parameter, 1), shape.evaluate(parameter, 2)
    speed = np.maximum(np.linalg.norm(first, axis=-1), _SLOWEST)
    return 1.0 / speed, -np.einsum("ij,ij->i", first, second) / speed**4


def _kinks(shape: Parametric, stations: Array, closed: bool) -> tuple[Array, Array]:
    """Stations and angles of the breaks where the tangent jumps."""
    breaks = shape.breaks
    after = _unit(shape.evaluate(breaks[:-1], 1))
    before = _unit(shape.evaluate(np.nextafter(breaks[1:], -np.inf), 1))
    if closed:
        after, where = np.roll(after, -1, axis=0), stations[1:]
    else:
        before, after, where = before[:-1], after[1:], stations[1:-1]
    angle = np.arctan2(np.linalg.norm(np.cross(before, after), axis=-1), np.einsum("ij,ij->i", before, after))
    sharp = angle > KINK_ANGLE
    return where[sharp], angle[sharp]
