"""Curves by distance: arc length, its inverse, tangents, curvature and kinks.

Arc length is integrated by Gauss-Legendre quadrature on intervals that are halved until the length
is good to 1e-12 of the whole. The inverse, parameter by station, is kept as piecewise quintic Hermite
polynomials whose error, measured as a length, is below 1e-10 of the whole; evaluating a station then
costs two polynomial evaluations.
"""

from __future__ import annotations

from functools import cached_property

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.curves import Parametric

Array = NDArray[np.float64]

_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(12)
_LENGTH_TOLERANCE = 1e-11  # of the last Legendre terms; the quadrature is good to about their square
_INVERSE_TOLERANCE = 1e-10
_MOST_HALVINGS = 24
_FEW = 2000  # intervals
_AT_BREAK = 1e-11  # of the parameter's range; the inverse is good to 1e-10 of the length
_SLOWEST = 1e-12  # keeps 1/speed finite at a cusp
_POWERS = np.polynomial.legendre.legvander(_NODES, len(_NODES))  # P_k at the nodes
_TO_LEGENDRE = (_WEIGHTS[:, None] * _POWERS[:, :-1]) * (np.arange(len(_NODES)) + 0.5)  # values to coefficients
# the integral of P_k from -1 is (P_k+1 - P_k-1) / (2k + 1), and x + 1 for k = 0 (DLMF 18.9, 18.17)
_INTEGRAL = _TO_LEGENDRE @ np.concatenate(
    [[_NODES + 1], ((_POWERS[:, 2:] - _POWERS[:, :-2]) / (2 * np.arange(1, len(_NODES)) + 1)).T]
)
KINK_ANGLE = np.radians(0.05)  # below this two pieces count as joined smoothly


class Curve(msgspec.Struct, frozen=True, dict=True):
    """A curve by station: distance from its start, in mm.

    Attributes: the parametric curve; its length; whether it closes on itself; parameter by station;
    stations of the breaks between pieces; stations and angles (rad) of the kinks; and the cosine of its
    steepest slope, found at the nodes that its length was integrated by.
    """

    shape: Parametric
    length: float
    closed: bool
    parameter: scipy.interpolate.PPoly
    breaks: Array
    kink_stations: Array
    kink_angles: Array
    flattest: float = 0.0

    def _at(self, stations: ArrayLike) -> Array:
        parameters: Array = self.parameter(np.minimum(np.maximum(stations, 0.0), self.length))
        return parameters

    def position(self, stations: ArrayLike) -> Array:
        """Positions (n, 3) at stations (n,), clipped to the curve."""
        return self.shape.evaluate(self._at(stations))

    def tangent(self, stations: ArrayLike, *, before: bool = False) -> Array:
        """Unit tangents (n, 3); at a kink the one after it, or ``before`` it."""
        stations = np.asarray(stations, float)
        parameter, breaks = self._at(stations), self.shape.breaks
        # a station given in decimals falls beside its break by rounding; it means the break
        following = np.clip(np.searchsorted(breaks, parameter), 0, len(breaks) - 1)
        preceding = np.maximum(following - 1, 0)
        for near in (breaks[following], breaks[preceding]):
            parameter = np.where(np.abs(parameter - near) < _AT_BREAK * (breaks[-1] - breaks[0]), near, parameter)
        ended = np.isin(parameter, breaks[1:]) if before else parameter >= breaks[-1]
        parameter = np.where(ended, np.nextafter(parameter, -np.inf), parameter)
        if len(self.kink_stations):
            # on which side of a kink it is the station alone decides, so that it is known when that is passed
            side = -self.kink_reach if before else self.kink_reach
            k = np.searchsorted(self.kink_stations, stations + side, side="left" if before else "right")
            ends = self._kink_parameters
            k = np.minimum(k, len(ends) - 2)
            parameter = np.clip(parameter, ends[k], np.nextafter(ends[k + 1], -np.inf))
        return _unit(self.shape.evaluate(parameter, 1))

    @property
    def kink_reach(self) -> float:
        """How far in mm before a kink its far side counts: what is given in decimals falls beside it by rounding."""
        return min(_AT_BREAK * self.length, 5e-7)

    @cached_property
    def _kink_parameters(self) -> Array:
        """Parameters (k,) of the kinks and both ends, in order."""
        breaks = self.shape.breaks
        kinks = breaks[np.searchsorted(self.breaks, self.kink_stations - 1e-9 * self.length)]
        return np.unique(np.concatenate([breaks[:1], kinks, breaks[-1:]]))

    def curvature(self, stations: ArrayLike) -> Array:
        """Curvature (n,) in 1/mm: |c' x c''| / |c'|^3."""
        parameter = self._at(stations)
        first, second = self.shape.evaluate(parameter, 1), self.shape.evaluate(parameter, 2)
        speed = np.maximum(np.linalg.norm(first, axis=-1), _SLOWEST)
        bend: Array = np.linalg.norm(np.cross(first, second), axis=-1) / speed**3
        return bend

    def most_curvature(self, low: Array, high: Array) -> Array:
        """A bound (n,) in 1/mm of the curvature between stations (n,) and others (n,), with no break of the curve in between.

        Of cubic pieces it is proven: c' and c'' lie within the hulls of their Bernstein coefficients (G. Farin, Curves and Surfaces for
        CAGD, 5th ed. 2002, section 5.3). Other figures are looked at in five places, a twentieth on top: they bend evenly or nearly so
        over the short cells that this is asked for.
        """
        u = [self._at(low), np.nextafter(self._at(high), -np.inf)]
        u[1] = np.maximum(u[0], u[1])
        first = [self.shape.evaluate(t, 1) for t in u]
        second = [self.shape.evaluate(t, 2) for t in u]
        controls = [first[0], first[0] + 0.5 * (u[1] - u[0])[:, None] * second[0], first[1]]
        crossed = np.max([_norm(np.cross(c, s)) for c in controls for s in second], axis=0)
        mean = _unit(controls[0] + controls[2])
        slowest = np.maximum(np.min([np.einsum("ij,ij->i", c, mean) for c in controls], axis=0), _SLOWEST)
        seen = np.max([self.curvature(low + share * (high - low)) for share in (0.001, 0.25, 0.5, 0.75, 0.999)], axis=0)
        # at a cusp it is as good as infinite
        most_curvature: Array = np.minimum(np.maximum(crossed / slowest**3, 1.05 * seen), 1e12)
        return most_curvature

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
        station = float(stations[len(stations) // 2])
        return station % self.length if self.closed else station


def by_arc_length(shape: Parametric, *, closed: bool = False) -> Curve:
    """A parametric curve made into one of distance.

    Raises ValueError when the curve has no length or is not finite.
    """
    breaks = shape.breaks
    low, high = breaks[:-1], breaks[1:]
    width, settled, known, flattest = high[-1] - low[0], [], 0.0, 1.0
    for halving in range(_MOST_HALVINGS):
        length, coefficients, fault, flat = _inverted(shape, low, high)
        flattest = min(flattest, flat)
        total = known + float(length.sum())
        if not np.isfinite(total) or total <= 0:
            raise ValueError("the curve has no length")
        # an interval that is down at rounding cannot be halved further
        bad = (fault > total) & (high - low > 1e-12 * width) & (halving < _MOST_HALVINGS - 1)
        settled.append((low[~bad], length[~bad], coefficients[:, ~bad]))
        known += float(length[~bad].sum())
        if not bad.any():
            break
        # the error of the inverse goes with the sixth power of the width: what is far off is quartered at once, where
        # the intervals are so few that another round costs more than parts too many
        far = (fault[bad] > 2.0**6 * total) & (len(low) < _FEW)
        ends = [_parted(low[bad][which], high[bad][which], count) for which, count in ((~far, 2), (far, 4))]
        low, high = np.concatenate([e[0] for e in ends]), np.concatenate([e[1] for e in ends])
    low = np.concatenate([part[0] for part in settled])
    order = np.argsort(low, kind="stable")
    low, length = low[order], np.concatenate([part[1] for part in settled])[order]
    coefficients = np.concatenate([part[2] for part in settled], axis=1)[:, order]
    stations = np.concatenate([[0.0], np.cumsum(length)])
    inverse = scipy.interpolate.PPoly.construct_fast(coefficients, stations)
    at_break = np.append(stations[np.searchsorted(low, breaks[:-1])], stations[-1])
    kink_stations, kink_angles = _kinks(shape, at_break, closed=closed)
    return Curve(shape, float(stations[-1]), closed, inverse, at_break, kink_stations, kink_angles, flattest)


def _parted(low: Array, high: Array, count: int) -> tuple[Array, Array]:
    """Both ends (count m,) of equal parts of intervals (m,)."""
    places = np.linspace(low, high, count + 1)
    return places[:-1].ravel(), places[1:].ravel()


def _unit(vectors: Array) -> Array:
    unit: Array = vectors / np.maximum(_norm(vectors), _SLOWEST)[..., None]
    return unit


def _norm(vectors: Array) -> Array:
    norm: Array = np.sqrt(np.einsum("...i,...i->...", vectors, vectors))
    return norm


def _inverted(shape: Parametric, low: Array, high: Array) -> tuple[Array, Array, Array, float]:
    """Arc length (m,) of intervals, coefficients (6, m) of the parameter by distance, and how much of it is amiss.

    The speed at the nodes tells, by its Legendre coefficients, whether it is resolved, and, by their
    integral, how far the polynomial is off at each node; ``fault`` (m,) is the worse of both, as the length of a
    curve that could bear it. Last the cosine of the steepest slope at the nodes.
    """
    half = 0.5 * (high - low)
    nodes = (0.5 * (low + high))[:, None] + half[:, None] * _NODES
    velocity = shape.evaluate(nodes.ravel(), 1)
    level = velocity[:, 0] ** 2 + velocity[:, 1] ** 2
    square = level + velocity[:, 2] ** 2
    flat = float(np.sqrt((level / np.maximum(square, _SLOWEST**2)).min()))
    speed = np.sqrt(square)
    speed = speed.reshape(nodes.shape)
    length = half * (speed @ _WEIGHTS)
    tail = np.abs(speed @ _TO_LEGENDRE[:, -3:]).max(axis=1) * half / len(_NODES)
    coefficients = _hermite(shape, low, high, length)
    distance = half[:, None] * (speed @ _INTEGRAL)
    parameter = np.zeros_like(distance)
    for row in coefficients:
        parameter = parameter * distance + row[:, None]
    off = (np.abs(parameter - nodes) * speed).max(axis=1)
    return length, coefficients, np.maximum(tail / _LENGTH_TOLERANCE, off / _INVERSE_TOLERANCE), flat


def _hermite(shape: Parametric, low: Array, high: Array, length: Array) -> Array:
    """Coefficients (6, m) of parameter by distance, matching value and two derivatives at both ends."""
    count = len(low)
    slopes, bends = _inverse_derivatives(shape, np.concatenate([low, np.nextafter(high, -np.inf)]))
    u0, d0, e0, d1, e1 = low, slopes[:count], bends[:count], slopes[count:], bends[count:]
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
    speed = np.maximum(_norm(first), _SLOWEST)
    return 1.0 / speed, -np.einsum("ij,ij->i", first, second) / speed**4


def _kinks(shape: Parametric, stations: Array, *, closed: bool) -> tuple[Array, Array]:
    """Stations and angles of the breaks where the tangent jumps."""
    breaks = shape.breaks
    after = _unit(shape.evaluate(breaks[:-1], 1))
    before = _unit(shape.evaluate(np.nextafter(breaks[1:], -np.inf), 1))
    if closed:
        after, where = np.roll(after, -1, axis=0), stations[1:]
    else:
        before, after, where = before[:-1], after[1:], stations[1:-1]
    # accurate for small and large angles alike (W. Kahan, "How futile are mindless assessments of roundoff", 2006)
    angle = 2.0 * np.arctan2(_norm(before - after), _norm(before + after))
    sharp = angle > KINK_ANGLE
    return where[sharp], angle[sharp]
