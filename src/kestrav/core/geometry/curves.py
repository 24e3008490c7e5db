"""Parametric curves in space: splines through points of three kinds, and ellipses.

A curve here is a function of a parameter; :mod:`kestrav.core.geometry.arclength` turns it into one
of distance. Lengths in mm.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import Literal, Protocol

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.errors import Damaged

Array = NDArray[np.float64]
Kind = Literal["corner", "smooth", "free"]


class Parametric(Protocol):
    """A curve over a parameter, smooth between its breaks."""

    @property
    def breaks(self) -> Array:
        """Increasing parameters (m,), the first and last being the curve's ends."""
        ...

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        """Position or derivative of an order, (n, 3), at parameters (n,); at a break, of what follows."""
        ...


class Spline(msgspec.Struct, frozen=True):
    """Piecewise cubic."""

    polynomial: scipy.interpolate.PPoly

    @property
    def breaks(self) -> Array:
        """Parameters of the points."""
        breaks: Array = self.polynomial.x
        return breaks

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        """Position or derivative, (n, 3)."""
        values: Array = self.polynomial(parameter, order)
        return values


class EllipseCurve(msgspec.Struct, frozen=True):
    """A whole ellipse in a level plane: centre (3,), half axes, turn of the first axis, start, sense.

    Angles in radians; ``start`` is the parametric angle of the first point; ``sense`` is +1 for
    counter-clockwise seen from above, -1 for clockwise.
    """

    centre: tuple[float, float, float]
    half_x: float
    half_y: float
    turn: float = 0.0
    start: float = 0.0
    sense: int = 1

    @property
    def breaks(self) -> Array:
        """Quarter turns: short enough for quadrature to converge fast."""
        return np.linspace(0.0, 2.0 * np.pi, 5)

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        """Position or derivative, (n, 3)."""
        angle = self.start + self.sense * np.asarray(parameter, float)
        # each derivative of cos and sin is a quarter turn ahead
        factor = float(self.sense) ** order
        along = factor * self.half_x * np.cos(angle + order * np.pi / 2)
        across = factor * self.half_y * np.sin(angle + order * np.pi / 2)
        c, s = np.cos(self.turn), np.sin(self.turn)
        values = np.stack([c * along - s * across, s * along + c * across, np.zeros_like(along)], axis=-1)
        return values + np.asarray(self.centre) if order == 0 else values


def spline_through(
    points: ArrayLike,
    kinds: Sequence[Kind],
    handles_in: Sequence[ArrayLike | None],
    handles_out: Sequence[ArrayLike | None],
    *,
    closed: bool = False,
) -> Spline:
    """The cubic curve through points (n, 3).

    Consecutive smooth points are joined by one C2 cubic spline over chord length, so curvature is
    continuous through them. A corner, and the end of an open path, ends the spline with zero
    curvature, which makes the piece between two corners straight. A free point fixes the tangent by
    its handles (vectors from the point, as in a cubic Bezier curve); with one handle the other side
    mirrors it.

    Raises ValueError for fewer than two points, three if closed, or for coincident neighbours.
    """
    points = np.asarray(points, float)
    count = len(points)
    if count < (3 if closed else 2):
        raise Damaged(f"{count} points are too few for a {'closed' if closed else 'open'} curve")
    order = np.arange(count)
    inner_breaks = [i for i in range(count) if kinds[i] != "smooth"]
    if closed:
        if inner_breaks:
            order = np.roll(order, -inner_breaks[0])
        order = np.append(order, order[0])
    along = points[order]
    chords = np.linalg.norm(np.diff(along, axis=0), axis=1)
    if np.any(chords <= 0):
        raise Damaged("coincident points")
    parameter = np.concatenate([[0.0], np.cumsum(chords)])
    if closed and not inner_breaks:
        return Spline(scipy.interpolate.CubicSpline(parameter, along, bc_type="periodic"))
    stops = [0] + [j for j in range(1, len(order) - 1) if kinds[order[j]] != "smooth"] + [len(order) - 1]
    zero = np.zeros(3)
    coefficients = np.zeros((4, len(chords), 3))
    single: list[int] = []
    for first, last in itertools.pairwise(stops):
        if last == first + 1:
            single.append(first)
            continue
        leave = _slope(order[first], chords[first], +1, kinds, handles_in, handles_out)
        arrive = _slope(order[last], chords[last - 1], -1, kinds, handles_in, handles_out)
        ends = tuple((2, zero) if slope is None else (1, slope) for slope in (leave, arrive))
        coefficients[:, first:last] = scipy.interpolate.CubicSpline(
            parameter[first : last + 1], along[first : last + 1], bc_type=ends
        ).c
    if single:
        # one cubic by itself needs no equations, and a drawing may have thousands
        leaves = [_slope(order[k], chords[k], +1, kinds, handles_in, handles_out) for k in single]
        arrives = [_slope(order[k + 1], chords[k], -1, kinds, handles_in, handles_out) for k in single]
        rows = np.array(single)
        coefficients[:, rows] = _single_cubics(along[rows], along[rows + 1], chords[rows, None], leaves, arrives)
    joined = scipy.interpolate.PPoly.construct_fast(coefficients, parameter)
    if closed and inner_breaks and inner_breaks[0] != 0:
        joined = _restart(joined, count - inner_breaks[0])
    return Spline(joined)


def sampled(samples: ArrayLike, joints: Sequence[int] = (), *, closed: bool = False) -> Spline:
    """The cubic curve through dense samples (n, 3) of a smooth line; at the joints, by number, it may have kinks.

    A closed line ends with its first sample; it is joined smoothly there unless there are joints. Raises ValueError
    for coincident neighbours.
    """
    samples = np.asarray(samples, float)
    chords = np.linalg.norm(np.diff(samples, axis=0), axis=1)
    if len(chords) == 0 or np.any(chords <= 0):
        raise Damaged("coincident points")
    parameter = np.concatenate([[0.0], np.cumsum(chords)])
    if closed and not joints:
        samples = np.concatenate([samples[:-1], samples[:1]])
        return Spline(scipy.interpolate.CubicSpline(parameter, samples, bc_type="periodic"))
    stops = sorted({0, len(samples) - 1, *joints})
    pieces = [
        # no condition at the ends beside the samples themselves: they are dense enough to tell
        scipy.interpolate.CubicSpline(parameter[a : b + 1], samples[a : b + 1], bc_type="not-a-knot").c
        for a, b in itertools.pairwise(stops)
    ]
    return Spline(scipy.interpolate.PPoly.construct_fast(np.concatenate(pieces, axis=1), parameter))


def _single_cubics(
    first: Array, last: Array, width: Array, leaves: list[Array | None], arrives: list[Array | None]
) -> Array:
    """Coefficients (4, m, 3) of cubics from first to last (m, 3) over widths (m, 1).

    They have the slopes given at their ends, and no curvature where there is none.
    """
    chord = (last - first) / width
    given = [np.array([slope is not None for slope in side])[:, None] for side in (leaves, arrives)]
    leave, arrive = (
        np.array([slope if slope is not None else (0.0, 0.0, 0.0) for slope in side]) for side in (leaves, arrives)
    )
    # no second derivative at an end: its slope is half as far again from the other's as the chord's
    start = np.where(given[0], leave, np.where(given[1], 1.5 * chord - 0.5 * arrive, chord))
    end = np.where(given[1], arrive, np.where(given[0], 1.5 * chord - 0.5 * leave, chord))
    cubic = (start + end - 2 * chord) / width**2
    square = (3 * chord - 2 * start - end) / width
    return np.stack([cubic, square, start, first])


def _slope(
    index: int,
    chord: float,
    side: int,
    kinds: Sequence[Kind],
    handles_in: Sequence[ArrayLike | None],
    handles_out: Sequence[ArrayLike | None],
) -> Array | None:
    """Derivative by the parameter at a free point on one side, or None where curvature is to vanish."""
    if kinds[index] != "free":
        return None
    own, other = (handles_out, handles_in) if side > 0 else (handles_in, handles_out)
    if own[index] is not None:
        handle = np.asarray(own[index], float)
    elif other[index] is not None:
        handle = -np.asarray(other[index], float)
    else:
        return None
    if np.linalg.norm(handle) < 1e-9:
        return None
    slope: Array = side * 3.0 * handle / chord
    return slope


def _restart(polynomial: scipy.interpolate.PPoly, first: int) -> scipy.interpolate.PPoly:
    """The same closed curve with piece ``first`` leading, so that it begins at the path's first point."""
    widths = np.roll(np.diff(polynomial.x), -first)
    return scipy.interpolate.PPoly(np.roll(polynomial.c, -first, axis=1), np.concatenate([[0.0], np.cumsum(widths)]))
