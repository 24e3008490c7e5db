"""Two-point carriage: a body on a front and a rear point of a curve, a wheelbase apart. Lengths in mm."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.arclength import Curve
from kestrav.core.memo import Memo

Array = NDArray[np.float64]

# an arc is at most so much longer than a chord that it can hold with a bend of half the chord
LONGEST = 0.5 * np.pi + 0.1
_STEPS = 50


_CLOSE = 1e-11  # of the wheelbase


def places_beyond(curve: Curve, stations: ArrayLike) -> Array:
    """Places (n, 3) at stations (n,) that may lie beyond an open curve's ends: it goes on straight there; a closed one
    goes round."""
    stations = np.asarray(stations, float)
    if curve.closed:
        return curve.position(np.mod(stations, curve.length))
    places = curve.position(stations)
    before, after = stations < 0, stations > curve.length
    if before.any():
        places[before] += stations[before, None] * curve.tangent([0.0])
    if after.any():
        places[after] += (stations[after, None] - curve.length) * curve.tangent([curve.length], before=True)
    return places


# where things are and how far they go at most ask for the same, one after the other
_rear: Memo[Array] = Memo(16)


def rear_stations(curve: Curve, fronts: ArrayLike, wheelbase: float) -> Array:
    """Stations (n,) behind front ones (n,) whose places are a wheelbase from theirs, the nearest such; kept for a while."""
    fronts = np.asarray(fronts, float)
    return _rear.get((curve,), lambda: _rear_stations(curve, fronts, wheelbase), wheelbase, fronts.tobytes())


def _rear_stations(curve: Curve, fronts: Array, wheelbase: float) -> Array:
    """Rear stations by halving.

    Where the curve turns back so tightly that no place within the longest arc is that far, the farthest looked at.
    By the rule of false position with the Illinois modification (M. Dowell, P. Jarratt, "A modified regula falsi method
    for computing the root of an equation", BIT 11, 1971).
    """
    ahead = places_beyond(curve, fronts)

    def over(stations: Array, which: NDArray[np.intp]) -> Array:
        """By how much places are farther than the wheelbase."""
        away = places_beyond(curve, stations) - ahead[which]
        excess: Array = np.sqrt(np.einsum("ij,ij->i", away, away)) - wheelbase
        return excess

    every = np.arange(len(fronts))
    # as near along the curve as a straight line would have it, and as far as the tightest bend
    near, far = fronts - wheelbase, fronts - LONGEST * wheelbase
    low, high = over(near, every), over(far, every)
    best = np.where(high < 0, far, near)
    left = every[(low < -_CLOSE * wheelbase) & (high > 0)]
    side = np.zeros(len(fronts))
    for _ in range(_STEPS):
        if not len(left):
            break
        a, b, fa, fb = near[left], far[left], low[left], high[left]
        middle = b - fb * (b - a) / (fb - fa)
        value = over(middle, left)
        best[left] = middle
        short = value < 0
        # an end that stays twice in a row counts half, so that it comes nearer too
        again = np.where(short, side[left] < 0, side[left] > 0)
        near[left], low[left] = np.where(short, middle, a), np.where(short, value, np.where(again, 0.5 * fa, fa))
        far[left], high[left] = np.where(short, b, middle), np.where(short, np.where(again, 0.5 * fb, fb), value)
        side[left] = np.where(short, -1.0, 1.0)
        left = left[np.abs(value) > _CLOSE * wheelbase]
    return best


def carried(
    curve: Curve, fronts: ArrayLike, wheelbase: float, onto: Callable[[Array, Array], Array] | None = None
) -> tuple[Array, Array, Array]:
    """Rear places (n, 3), front places (n, 3) and level frames (n, 3, 3) (forward, left, up) of a body at front stations.

    ``onto`` puts places (n, 3) at stations (n,) onto something else, such as the ground.
    """
    fronts = np.asarray(fronts, float)
    rears = rear_stations(curve, fronts, wheelbase)
    front, rear = places_beyond(curve, fronts), places_beyond(curve, rears)
    if onto is not None:
        front, rear = onto(fronts, front), onto(rears, rear)
    forward = front - rear
    forward /= np.linalg.norm(forward, axis=1)[:, None]
    flat = np.hypot(forward[:, 0], forward[:, 1])
    left = np.stack([-forward[:, 1], forward[:, 0], np.zeros(len(forward))], axis=1)
    # straight up or down nothing is level; then left is the room's y
    left = np.where(flat[:, None] > 1e-6, left / np.maximum(flat, 1e-12)[:, None], [0.0, 1.0, 0.0])
    return rear, front, np.stack([forward, left, np.cross(forward, left)], axis=-1)
