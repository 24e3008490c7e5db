"""The standard motion laws from standstill to standstill, over unit time and way, with two derivatives.

VDI 2143 part 1, "Motion laws for mechanisms: theoretical fundamentals", 1980; the modified ones as in R. Norton, Cam
Design and Manufacturing Handbook, 2009, chapter 3.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
from numpy.polynomial import Polynomial
from numpy.typing import NDArray

from kestrav.core.document.records import LawName

Array = NDArray[np.float64]
Unit = Callable[[Array, int], Array]

_PI = np.pi


def _halves(first: Callable[[Array, int], Array]) -> Unit:
    """A law whose second half is its first one turned about its middle."""

    def law(t: Array, order: int) -> Array:
        early = first(np.minimum(t, 0.5), order)
        late = first(np.minimum(1.0 - t, 0.5), order)
        # the way is turned about, speed is the same, acceleration changes its sign
        turned = (1.0 - late, late, -late)[order]
        law: Array = np.where(t <= 0.5, early, turned)
        return law

    return law


def _polynomial(*coefficients: float) -> Unit:
    distances = [Polynomial(coefficients)]
    distances += [distances[0].deriv(1), distances[0].deriv(2)]
    return lambda t, order: np.asarray(distances[order](t))


def _simple_harmonic(t: Array, order: int) -> Array:
    simple_harmonic: Array = (
        0.5 * (1 - np.cos(_PI * t)),
        0.5 * _PI * np.sin(_PI * t),
        0.5 * _PI**2 * np.cos(_PI * t),
    )[order]
    return simple_harmonic


def _cycloidal(t: Array, order: int) -> Array:
    cycloidal: Array = (
        t - np.sin(2 * _PI * t) / (2 * _PI),
        1 - np.cos(2 * _PI * t),
        2 * _PI * np.sin(2 * _PI * t),
    )[order]
    return cycloidal


def _modified_sine(t: Array, order: int) -> Array:
    """A quarter of a fast sine, then a slow one as far as the middle."""
    a = 4 * _PI**2 / (4 + _PI)
    w, u = 4 * _PI, 4 * _PI / 3
    early = (a / w * (t - np.sin(w * t) / w), a / w * (1 - np.cos(w * t)), a * np.sin(w * t))[order]
    since = t - 0.125
    # acceleration goes on as a cosine of a third of the frequency
    late = (
        a / w * (0.125 - 1 / w) + a / w * since + a / u**2 * (1 - np.cos(u * since)),
        a / w + a / u * np.sin(u * since),
        a * np.cos(u * since),
    )[order]
    modified_sine: Array = np.where(t <= 0.125, early, late)
    return modified_sine


def _modified_trapezoid(t: Array, order: int) -> Array:
    """A quarter of a sine, even acceleration, and a quarter of a sine down to nothing in the middle."""
    a = 8 * _PI / (2 + _PI)
    w = 4 * _PI
    first = (a / w * (t - np.sin(w * t) / w), a / w * (1 - np.cos(w * t)), a * np.sin(w * t))[order]
    s = t - 0.125
    distance, speed = a / w * (0.125 - 1 / w), a / w
    second = (distance + speed * s + 0.5 * a * s**2, speed + a * s, np.full_like(t, a))[order]
    r = t - 0.375
    distance, speed = distance + 0.25 * speed + a / 32, speed + a / 4
    third = (
        distance + speed * r + a / w**2 * (1 - np.cos(w * r)),
        speed + a / w * np.sin(w * r),
        a * np.cos(w * r),
    )[order]
    modified_trapezoid: Array = np.select([t <= 0.125, t <= 0.375], [first, second], third)
    return modified_trapezoid


LAWS: Mapping[LawName, Unit] = {
    "parabolic": _halves(_polynomial(0, 0, 2)),
    "simple harmonic": _simple_harmonic,
    "cycloidal": _cycloidal,
    "3-4-5 polynomial": _polynomial(0, 0, 0, 10, -15, 6),
    "4-5-6-7 polynomial": _polynomial(0, 0, 0, 0, 35, -84, 70, -20),
    "modified sine": _halves(_modified_sine),
    "modified trapezoid": _halves(_modified_trapezoid),
}
