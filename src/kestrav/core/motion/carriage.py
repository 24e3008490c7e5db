"""Two-point carriage: a body on a front and a rear point of a curve, a wheelbase apart. Lengths in mm."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.arclength import Curve

Array = NDArray[np.float64]

# an arc is at most so much longer than a chord that it can hold with a bend of half the chord
_LONGEST = 0.5 * np.pi + 0.1
_STEPS = 50


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


def rear_stations(curve: Curve, fronts: ArrayLike, wheelbase: float) -> Array:
    """Stations (n,) behind front ones (n,) whose places are a wheelbase from theirs, the nearest such, by halving.

    Where the curve turns back so tightly that no place within the longest arc is that far, the farthest looked at.
    """
    fronts = np.asarray(fronts, float)
    ahead = places_beyond(curve, fronts)
    # as near along the curve as a straight line would have it, and as far as the tightest bend
    near, far = fronts - wheelbase, fronts - _LONGEST * wheelbase
    for _ in range(_STEPS):
        middle = 0.5 * (near + far)
        short = np.linalg.norm(places_beyond(curve, middle) - ahead, axis=1) < wheelbase
        near, far = np.where(short, middle, near), np.where(short, far, middle)
    return 0.5 * (near + far)


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
