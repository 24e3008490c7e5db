"""Journeys made of others: with holds, made again and again, and following another. Lengths in mm, times in s."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.optimize import brentq

from kestrav.core.document.records import Keyed, Limited, Pacing
from kestrav.core.motion.pacing import Bends, KeyedProfile, Profile, TabledProfile, profile

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class LeggedProfile:
    """Profiles after one another with holds between them: ``starts`` (k,) in s and ``ways`` (k,) in mm at which each sets out."""

    legs: tuple[Profile, ...]
    starts: Array
    ways: Array
    length: float
    duration: float

    def _told(self, times: ArrayLike, kind: str) -> Array:
        t = np.asarray(times, float)
        which = np.clip(np.searchsorted(self.starts, t, side="right") - 1, 0, len(self.legs) - 1)
        found = np.zeros(t.shape)
        for k, leg in enumerate(self.legs):
            mine = which == k
            found[mine] = getattr(leg, kind)(t[mine] - self.starts[k]) + (self.ways[k] if kind == "distance" else 0.0)
        return found

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,)."""
        return self._told(times, "distance")

    def speed(self, times: ArrayLike) -> Array:
        """Speed (n,)."""
        return self._told(times, "speed")

    def acceleration(self, times: ArrayLike) -> Array:
        """Acceleration (n,)."""
        return self._told(times, "acceleration")

    def times_at(self, distances: ArrayLike) -> Array:
        """Times (n,) at which distances (n,) are first reached."""
        wanted = np.asarray(distances, float)
        # the place of a hold is first reached by the leg before it
        before = wanted - 1e-9 * self.length
        which = np.clip(np.searchsorted(self.ways, before) - 1, 0, len(self.legs) - 1)
        found = np.zeros(wanted.shape)
        for k, leg in enumerate(self.legs):
            mine = which == k
            found[mine] = self.starts[k] + leg.times_at(wanted[mine] - self.ways[k])
        return found


def held(
    pacing: Pacing,
    length: float,
    stops: Sequence[tuple[float, float]],
    duration: float | None = None,
    speed: float | None = None,
    bends: Bends | None = None,
) -> Profile:
    """The profile of a journey that holds at distances for times: ``stops`` are (distance, s) in the order of the way.

    Every leg between two holds is paced for itself, all at the same steady or greatest speed, so that a soft start and
    stop is one at every hold. Distance by keys goes on after a hold where it was. ``duration`` is with the holds.
    """
    waits = sum(seconds for _, seconds in stops)
    moving = None if duration is None else duration - waits
    ends = np.array([0.0, *(place for place, _ in stops), length])
    if isinstance(pacing, Keyed):
        whole = profile(pacing, length, moving, speed, bends)
        assert isinstance(whole, KeyedProfile)
        moments = np.array([0.0, *whole.times_at(ends[1:-1]), whole.duration])
        legs: list[Profile] = [_Cut(whole, a, b) for a, b in pairwise(moments)]
    else:
        pieces = [_piece(bends, a, b) for a, b in pairwise(ends)]

        def made(v: float | None) -> list[Profile]:
            return [
                profile(_of_leg(pacing, k, len(pieces)), float(ends[k + 1] - ends[k]), None, v, piece)
                for k, piece in enumerate(pieces)
            ]

        if isinstance(pacing, Limited):
            legs = made(speed)
            least = sum(leg.duration for leg in legs)
            stretch = 1.0 if moving is None else moving / least
            legs = [
                profile(_of_leg(pacing, k, len(pieces)), leg.length, leg.duration * stretch, speed, pieces[k])
                for k, leg in enumerate(legs)
            ]
        elif speed is not None:
            legs = made(speed)
        else:
            assert moving is not None
            legs = made(_speed_for(made, length, moving))
    starts = np.concatenate(
        [[0.0], np.cumsum([leg.duration + w for leg, (_, w) in zip(legs[:-1], stops, strict=True)])]
    )
    return LeggedProfile(tuple(legs), starts, ends[:-1], length, float(starts[-1] + legs[-1].duration))


def _of_leg(pacing: Pacing, leg: int, count: int) -> Pacing:
    """A leg's own pacing: at a hold it stops softly, whatever the journey's own ends are like."""
    if isinstance(pacing, Limited):
        return Limited(
            pacing.top,
            pacing.sideways,
            pacing.forward,
            pacing.braking,
            pacing.zones,
            pacing.from_rest or leg > 0,
            pacing.to_rest or leg < count - 1,
        )
    return pacing


def _speed_for(made: Callable[[float], list[Profile]], length: float, seconds: float) -> float:
    """The steady or greatest speed at which legs take so many seconds together: the faster, the shorter."""

    def over(log: float) -> float:
        return float(sum(leg.duration for leg in made(float(np.exp(log))))) - seconds

    low = high = float(np.log(length / seconds))
    while over(high) > 0:
        high += 0.7
    while over(low) < 0:
        low -= 0.7
    return float(np.exp(brentq(over, low, high, xtol=1e-14)))


def _piece(bends: Bends | None, first: float, last: float) -> Bends | None:
    """The bends between two distances, as of a journey of their own."""
    if bends is None:
        return None
    distances, curvature, shares = bends
    inner = (distances > first + 1e-9) & (distances < last - 1e-9)
    ways = np.concatenate([[first], distances[inner], [last]])
    which = np.clip(np.searchsorted(distances, 0.5 * (ways[:-1] + ways[1:])) - 1, 0, len(curvature) - 1)
    return ways - first, curvature[which], np.interp(ways, distances, shares)


@dataclass(frozen=True, eq=False)
class _Cut:
    """A part of a journey between two of its times."""

    whole: Profile
    first: float
    last: float

    @property
    def length(self) -> float:
        low, high = self.whole.distance([self.first, self.last])
        return float(high - low)

    @property
    def duration(self) -> float:
        return self.last - self.first

    def _at(self, times: ArrayLike) -> Array:
        found: Array = np.clip(np.asarray(times, float), 0.0, self.duration) + self.first
        return found

    def distance(self, times: ArrayLike) -> Array:
        found: Array = self.whole.distance(self._at(times)) - self.whole.distance([self.first])[0]
        return found

    def _inside(self, times: ArrayLike, values: Array) -> Array:
        t = np.asarray(times, float)
        return np.where((t >= 0) & (t <= self.duration), values, 0.0)

    def speed(self, times: ArrayLike) -> Array:
        return self._inside(times, self.whole.speed(self._at(times)))

    def acceleration(self, times: ArrayLike) -> Array:
        return self._inside(times, self.whole.acceleration(self._at(times)))

    def times_at(self, distances: ArrayLike) -> Array:
        base = self.whole.distance([self.first])[0]
        found: Array = np.clip(self.whole.times_at(base + np.asarray(distances, float)) - self.first, 0, self.duration)
        return found


@dataclass(frozen=True, eq=False)
class RepeatedProfile:
    """A profile made again and again (``passes`` times, 0: without end), the same way each time or there and back."""

    once: Profile
    passes: int
    returns: bool

    @property
    def length(self) -> float:
        """Way covered by one pass, in mm."""
        return self.once.length

    @property
    def duration(self) -> float:
        """How long all passes take, in s; infinite without end."""
        return self.once.duration * self.passes if self.passes else np.inf

    def _within(self, times: ArrayLike) -> tuple[Array, NDArray[np.bool_], NDArray[np.bool_]]:
        """Times within a pass, whether it goes back, and which times lie in the journey."""
        t = np.asarray(times, float)
        inside = (t >= 0) & (t <= self.duration)
        end = self.duration
        t = np.clip(t, 0.0, end if np.isfinite(end) else np.maximum(t, 0.0))
        number = np.floor(t / self.once.duration)
        if self.passes:
            number = np.minimum(number, self.passes - 1)
        back = (number % 2 == 1) & self.returns
        return t - number * self.once.duration, back, inside

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,) from where a pass sets out ahead."""
        t, back, _ = self._within(times)
        way = self.once.distance(t)
        return np.where(back, self.length - way, way)

    def speed(self, times: ArrayLike) -> Array:
        """Speed (n,), negative on the way back."""
        t, back, inside = self._within(times)
        return np.where(inside, np.where(back, -1.0, 1.0) * self.once.speed(t), 0.0)

    def acceleration(self, times: ArrayLike) -> Array:
        """Acceleration (n,) along the way ahead."""
        t, back, inside = self._within(times)
        return np.where(inside, np.where(back, -1.0, 1.0) * self.once.acceleration(t), 0.0)

    def times_at(self, distances: ArrayLike) -> Array:
        """Times (n,) in the first pass."""
        return self.once.times_at(distances)


@dataclass(frozen=True, eq=False)
class FollowingProfile:
    """A profile that keeps a ``gap`` in mm behind a leading one, between two distances of its own path."""

    lead: Profile
    gap: float
    length: float
    low: float
    high: float

    @property
    def duration(self) -> float:
        """As long as the leading one, in s."""
        return self.lead.duration

    def _free(self, times: ArrayLike) -> tuple[Array, NDArray[np.bool_]]:
        raw = self.lead.distance(times) - self.gap
        return raw, (raw >= self.low) & (raw <= self.high)

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,): negative before where the journey begins, as far as its path reaches."""
        found: Array = np.clip(self._free(times)[0], self.low, self.high)
        return found

    def speed(self, times: ArrayLike) -> Array:
        """Speed (n,)."""
        return np.where(self._free(times)[1], self.lead.speed(times), 0.0)

    def acceleration(self, times: ArrayLike) -> Array:
        """Acceleration (n,)."""
        return np.where(self._free(times)[1], self.lead.acceleration(times), 0.0)

    def times_at(self, distances: ArrayLike) -> Array:
        """Times (n,)."""
        return self.lead.times_at(np.asarray(distances, float) + self.gap)


def steady_part(whole: Profile) -> Profile:
    """The profile of one pass or of the first leg: what a journey's own numbers are told by."""
    while isinstance(whole, RepeatedProfile):
        whole = whole.once
    return whole


def least_time(whole: Profile) -> float | None:
    """The least time in s of one pass within its limits, where it has some."""
    one = steady_part(whole)
    if isinstance(one, TabledProfile):
        return one.least
    if isinstance(one, LeggedProfile) and all(isinstance(leg, TabledProfile) for leg in one.legs):
        waits = one.duration - sum(leg.duration for leg in one.legs)
        return waits + sum(leg.least for leg in one.legs if isinstance(leg, TabledProfile))
    return None
