"""A closed level curve gone around any number of times, rising and tilted. Lengths in mm, angles in rad."""

from __future__ import annotations

from functools import cached_property

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.arclength import Curve

Array = NDArray[np.float64]

_SAMPLES = 720


class Winding(msgspec.Struct, frozen=True, eq=False, dict=True):
    """A closed level curve by its own length, from a station on, ``laps`` times around.

    ``sense`` -1 goes it backwards. The height grows evenly by ``rise`` in all, and along the level vector ``slope`` (2,)
    from the curve's ``middle`` (2,) by so much a mm.
    """

    plan: Curve
    first: float
    laps: float
    sense: int = 1
    rise: float = 0.0
    slope: tuple[float, float] = (0.0, 0.0)
    middle: tuple[float, float] = (0.0, 0.0)

    @property
    def total(self) -> float:
        """Length in plan."""
        return self.laps * self.plan.length

    @cached_property
    def breaks(self) -> Array:
        """Where a break of the plan is passed, and the ends."""
        around = self.plan.length
        inner = np.unique(np.mod(self.sense * (self.plan.breaks - self.first), around))
        every = (inner[None, :] + around * np.arange(int(np.ceil(self.laps)) + 1)[:, None]).ravel()
        tiny = 1e-9 * around
        inside = every[(every > tiny) & (every < self.total - tiny)]
        return np.concatenate([[0.0], inside, [self.total]])

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        """Position, first or second derivative, (n, 3)."""
        t = np.atleast_1d(np.asarray(parameter, float))
        # at a break it is that of what follows, which gone backwards lies before it
        ahead = 1e-9 * self.plan.length * self.sense
        stations = np.mod(self.first + self.sense * t + (ahead if order else 0.0), self.plan.length)
        u = self.plan.parameter(stations)
        values = np.empty((len(t), 3))
        slope = np.array(self.slope)
        if order == 0:
            values[:] = self.plan.shape.evaluate(u)
            values[:, 2] += (values[:, :2] - self.middle) @ slope + self.rise * t / self.total
            return values
        velocity = self.plan.shape.evaluate(u, 1)
        speed = np.linalg.norm(velocity, axis=1, keepdims=True)
        tangent = velocity / speed
        if order == 1:
            values[:] = self.sense * tangent
            values[:, 2] += values[:, :2] @ slope + self.rise / self.total
            return values
        bend = self.plan.shape.evaluate(u, 2)
        values[:] = (bend - np.einsum("ij,ij->i", bend, tangent)[:, None] * tangent) / speed**2
        values[:, 2] += values[:, :2] @ slope
        return values


def station_at(plan: Curve, middle: ArrayLike, azimuth: float) -> float:
    """The station at which a closed level curve is seen in a direction from a place (2,) within it."""
    middle = np.asarray(middle, float)
    direction = np.array([np.cos(azimuth), np.sin(azimuth)])
    across = np.array([-direction[1], direction[0]])

    def aside(station: float) -> float:
        return float((plan.position([station % plan.length])[0, :2] - middle) @ across)

    stations = np.linspace(0.0, plan.length, _SAMPLES + 1)
    places = plan.position(stations)[:, :2] - middle
    side, ahead = places @ across, places @ direction
    crossing = np.flatnonzero((side[:-1] * side[1:] <= 0) & (ahead[:-1] + ahead[1:] > 0) & (side[:-1] != side[1:]))
    if not len(crossing):
        return float(stations[int(np.argmax(ahead))])
    k = int(crossing[0])
    ends = aside(float(stations[k])), aside(float(stations[k + 1]))
    if ends[0] * ends[1] >= 0:
        # one of both is the place itself, to rounding
        return float(stations[k] if abs(ends[0]) <= abs(ends[1]) else stations[k + 1]) % plan.length
    return float(scipy.optimize.brentq(aside, stations[k], stations[k + 1], xtol=1e-9)) % plan.length
