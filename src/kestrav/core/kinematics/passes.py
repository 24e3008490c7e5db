"""Journeys made of others: with holds, made again and again, and following another. Lengths in mm, times in s."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import pairwise

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Keyed, Limited, SpeedProfile
from kestrav.core.kinematics.speed_profile import Ceiling, KeyedProfile, Profile, profile

Array = NDArray[np.float64]


class SegmentedProfile(msgspec.Struct, frozen=True, eq=False):
    """Profiles after one another with holds between them: ``starts`` (k,) in s and ``distances`` (k,) in mm at which each sets out."""

    segments: tuple[Profile, ...]
    starts: Array
    distances: Array
    length: float
    duration: float

    def changes(self, until: float) -> Array:
        """Those of its segments."""
        return np.concatenate(
            [start + segment.changes(until) for start, segment in zip(self.starts, self.segments, strict=True)]
        )

    def _by_parts(self, times: ArrayLike, kind: str) -> Array:
        t = np.asarray(times, float)
        which = np.clip(np.searchsorted(self.starts, t, side="right") - 1, 0, len(self.segments) - 1)
        values = np.zeros(t.shape)
        for k, segment in enumerate(self.segments):
            mine = which == k
            values[mine] = getattr(segment, kind)(t[mine] - self.starts[k]) + (
                self.distances[k] if kind == "distance" else 0.0
            )
        return values

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,)."""
        return self._by_parts(times, "distance")

    def speed(self, times: ArrayLike) -> Array:
        """Speed (n,)."""
        return self._by_parts(times, "speed")

    def acceleration(self, times: ArrayLike) -> Array:
        """Acceleration (n,)."""
        return self._by_parts(times, "acceleration")

    def times_at(self, distances: ArrayLike) -> Array:
        """Times (n,) at which distances (n,) are first reached."""
        wanted = np.asarray(distances, float)
        # the place of a hold is first reached by the segment before it
        before = wanted - 1e-9 * self.length
        which = np.clip(np.searchsorted(self.distances, before) - 1, 0, len(self.segments) - 1)
        times = np.zeros(wanted.shape)
        for k, segment in enumerate(self.segments):
            mine = which == k
            times[mine] = self.starts[k] + segment.times_at(wanted[mine] - self.distances[k])
        return times


def held(
    speed_profile: SpeedProfile,
    length: float,
    stops: Sequence[tuple[float, float]],
    duration: float | None = None,
    speed: float | None = None,
    over: Ceiling | None = None,
) -> Profile:
    """The profile of a run that holds at distances for times: ``stops`` are (distance, s) in the order of the way.

    Every segment between two holds is paced for itself, all at the same steady or greatest speed, so that a soft start and
    stop is one at every hold. Distance by keys goes on after a hold where it was. ``duration`` is with the holds.
    """
    waits = sum(seconds for _, seconds in stops)
    moving = None if duration is None else duration - waits
    ends = np.array([0.0, *(place for place, _ in stops), length])
    if isinstance(speed_profile, Keyed):
        whole = profile(speed_profile, length, moving, speed)
        assert isinstance(whole, KeyedProfile)
        moments = np.array([0.0, *whole.times_at(ends[1:-1]), whole.duration])
        segments: list[Profile] = [_Cut(whole, a, b) for a, b in pairwise(moments)]
    else:
        pieces = [None if over is None else over.between(a, b) for a, b in pairwise(ends)]

        def made(v: float | None) -> list[Profile]:
            return [
                profile(_of_segment(speed_profile, k, len(pieces)), float(ends[k + 1] - ends[k]), None, v, piece)
                for k, piece in enumerate(pieces)
            ]

        if isinstance(speed_profile, Limited):
            segments = made(speed)
            least = sum(segment.duration for segment in segments)
            stretch = 1.0 if moving is None else moving / least
            segments = [
                profile(
                    _of_segment(speed_profile, k, len(pieces)),
                    segment.length,
                    segment.duration * stretch,
                    speed,
                    pieces[k],
                )
                for k, segment in enumerate(segments)
            ]
        elif speed is not None:
            segments = made(speed)
        else:
            assert moving is not None
            segments = made(_speed_for(made, length, moving))
    starts = np.concatenate(
        [[0.0], np.cumsum([segment.duration + w for segment, (_, w) in zip(segments[:-1], stops, strict=True)])]
    )
    return SegmentedProfile(tuple(segments), starts, ends[:-1], length, float(starts[-1] + segments[-1].duration))


def _of_segment(speed_profile: SpeedProfile, segment: int, count: int) -> SpeedProfile:
    """A segment's own speed profile: at a hold it stops softly, whatever the run's own ends are like."""
    if isinstance(speed_profile, Limited):
        return Limited(
            speed_profile.top,
            speed_profile.sideways,
            speed_profile.forward,
            speed_profile.braking,
            speed_profile.zones,
            speed_profile.from_rest or segment > 0,
            speed_profile.to_rest or segment < count - 1,
        )
    return speed_profile


def _speed_for(profiles_of: Callable[[float], list[Profile]], length: float, seconds: float) -> float:
    """The steady or greatest speed at which segments take so many seconds together: the faster, the shorter."""

    def over(log: float) -> float:
        return float(sum(segment.duration for segment in profiles_of(float(np.exp(log))))) - seconds

    low = high = float(np.log(length / seconds))
    while over(high) > 0:
        high += 0.7
    while over(low) < 0:
        low -= 0.7
    return float(np.exp(scipy.optimize.brentq(over, low, high, xtol=1e-14)))


class _Cut(msgspec.Struct, frozen=True, eq=False):
    """A part of a run between two of its times."""

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

    def changes(self, until: float) -> Array:
        return np.clip(self.whole.changes(until), self.first, self.last) - self.first

    def _at(self, times: ArrayLike) -> Array:
        inner: Array = np.clip(np.asarray(times, float), 0.0, self.duration) + self.first
        return inner

    def distance(self, times: ArrayLike) -> Array:
        distance: Array = self.whole.distance(self._at(times)) - self.whole.distance([self.first])[0]
        return distance

    def _inside(self, times: ArrayLike, values: Array) -> Array:
        t = np.asarray(times, float)
        return np.where((t >= 0) & (t <= self.duration), values, 0.0)

    def speed(self, times: ArrayLike) -> Array:
        return self._inside(times, self.whole.speed(self._at(times)))

    def acceleration(self, times: ArrayLike) -> Array:
        return self._inside(times, self.whole.acceleration(self._at(times)))

    def times_at(self, distances: ArrayLike) -> Array:
        base = self.whole.distance([self.first])[0]
        times: Array = np.clip(self.whole.times_at(base + np.asarray(distances, float)) - self.first, 0, self.duration)
        return times


class RepeatedProfile(msgspec.Struct, frozen=True, eq=False):
    """A profile made again and again (``passes`` times, 0: without end): the same way each time, or there and ``back``, the way back by a
    profile of its own."""

    once: Profile
    passes: int
    back: Profile | None = None

    @property
    def length(self) -> float:
        """Distance covered by one pass, in mm."""
        return self.once.length

    @property
    def duration(self) -> float:
        """How long all passes take, in s; infinite without end."""
        return self.starts(self.passes) if self.passes else np.inf

    def starts(self, number: float) -> float:
        """When a pass begins, counted from 0."""
        there = self.once.duration
        if self.back is None:
            return number * there
        rounds, odd = divmod(number, 2)
        return rounds * (there + self.back.duration) + odd * there

    def changes(self, until: float) -> Array:
        """Those of all passes that begin before a time."""
        every: list[Array] = []
        number = 0
        while self.starts(number) <= min(until, self.duration) and (number < self.passes or not self.passes):
            one = self.once if self.back is None or number % 2 == 0 else self.back
            every.append(self.starts(number) + one.changes(until))
            number += 1
        return np.concatenate([*every, [0.0]])

    def _within(self, times: ArrayLike) -> tuple[Array, NDArray[np.bool_], NDArray[np.bool_]]:
        """Times within a pass, whether it goes back, and which times lie in the run."""
        t = np.asarray(times, float)
        end = self.duration
        inside = (t >= 0) & (t <= end)
        t = np.clip(t, 0.0, end if np.isfinite(end) else np.maximum(t, 0.0))
        if self.back is None:
            number = np.floor(t / self.once.duration)
            if self.passes:
                number = np.minimum(number, self.passes - 1)
            return t - number * self.once.duration, np.zeros(t.shape, bool), inside
        both = self.once.duration + self.back.duration
        rounds = np.floor(t / both)
        if self.passes:
            # the end belongs to the last pass
            rounds = np.minimum(rounds, (self.passes - 1) // 2)
        since = t - rounds * both
        back = since >= self.once.duration
        if self.passes % 2:
            back &= rounds < (self.passes - 1) // 2
        return np.where(back, since - self.once.duration, since), back, inside

    def _by_parts(self, times: ArrayLike, kind: str) -> tuple[Array, Array, NDArray[np.bool_]]:
        """What both ways say at times, each where it counts, and the senses (+1 or -1) and which times lie in the run."""
        t, back, inside = self._within(times)
        values = np.asarray(getattr(self.once, kind)(t))
        if self.back is not None and back.any():
            values = np.where(back, getattr(self.back, kind)(t), values)
        return values, np.where(back, -1.0, 1.0), inside

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,) from where a pass sets out ahead."""
        distance, sense, _ = self._by_parts(times, "distance")
        return np.where(sense < 0, self.length - distance, distance)

    def speed(self, times: ArrayLike) -> Array:
        """Speed (n,), negative on the way back."""
        speed, sense, inside = self._by_parts(times, "speed")
        return np.where(inside, sense * speed, 0.0)

    def acceleration(self, times: ArrayLike) -> Array:
        """Acceleration (n,) along the way ahead."""
        gained, sense, inside = self._by_parts(times, "acceleration")
        return np.where(inside, sense * gained, 0.0)

    def times_at(self, distances: ArrayLike) -> Array:
        """Times (n,) in the first pass."""
        return self.once.times_at(distances)


class PortionProfile(msgspec.Struct, frozen=True, eq=False):
    """What of a whole run is made between two of its times, from ``first`` to ``last`` s: backward in time where the first is the
    later. Distances are the whole's."""

    whole: Profile
    first: float
    last: float

    @property
    def length(self) -> float:
        """The way of the whole, in mm."""
        return self.whole.length

    @property
    def duration(self) -> float:
        """How long it takes, in s."""
        return abs(self.last - self.first)

    @property
    def sense(self) -> float:
        """+1, or -1 where it goes backward in time."""
        return 1.0 if self.last >= self.first else -1.0

    def moments(self, times: ArrayLike) -> Array:
        """The whole's times (n,) at times (n,), held before the start and after the end."""
        moments: Array = self.first + self.sense * np.clip(np.asarray(times, float), 0.0, self.duration)
        return moments

    def changes(self, until: float) -> Array:
        """Those of the whole that lie in it, and its ends."""
        low, high = sorted((self.first, self.last))
        moments = self.whole.changes(high)
        moments = moments[(moments > low) & (moments < high)]
        return np.concatenate([[0.0], (moments - self.first) * self.sense, [self.duration]])

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,) along the whole's way."""
        return self.whole.distance(self.moments(times))

    def _inside(self, times: ArrayLike) -> NDArray[np.bool_]:
        t = np.asarray(times, float)
        return (t >= 0) & (t <= self.duration)

    def speed(self, times: ArrayLike) -> Array:
        """Speed (n,)."""
        return np.where(self._inside(times), self.sense * self.whole.speed(self.moments(times)), 0.0)

    def acceleration(self, times: ArrayLike) -> Array:
        """Acceleration (n,)."""
        return np.where(self._inside(times), self.whole.acceleration(self.moments(times)), 0.0)

    def times_at(self, distances: ArrayLike) -> Array:
        """Times (n,) at which distances (n,) are first reached; the end for those that are not."""
        wanted = np.atleast_1d(np.asarray(distances, float))
        grid = np.unique(np.concatenate([np.linspace(0.0, self.duration, _LOOKS), self.changes(np.inf)]))
        travelled = self.distance(grid)
        moments = np.full(wanted.shape, self.duration)
        for k, distance in enumerate(wanted):
            over = travelled - distance
            met = np.flatnonzero(np.abs(over) <= _MET * max(self.length, 1.0))
            crossed = np.flatnonzero(over[:-1] * over[1:] < 0)
            times = [float(grid[i]) for i in met[:1]]
            if len(crossed) and (not times or grid[crossed[0]] < times[0]):
                i = int(crossed[0])
                times.append(
                    float(
                        scipy.optimize.brentq(
                            lambda t, w=distance: float(self.distance([t])[0]) - w, grid[i], grid[i + 1], xtol=1e-13
                        )
                    )
                )
            moments[k] = min(times, default=self.duration)
        return moments


_LOOKS = 1025
_MET = 1e-12


class FollowingProfile(msgspec.Struct, frozen=True, eq=False):
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

    def changes(self, until: float) -> Array:
        """Those of the leading one."""
        return self.lead.changes(until)

    def _free(self, times: ArrayLike) -> tuple[Array, NDArray[np.bool_]]:
        raw = self.lead.distance(times) - self.gap
        return raw, (raw >= self.low) & (raw <= self.high)

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,): negative before where the run begins, as far as its path reaches."""
        distance: Array = np.clip(self._free(times)[0], self.low, self.high)
        return distance

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
    """The profile of one pass or of the first segment: what a run's own numbers are told by."""
    while isinstance(whole, (RepeatedProfile, PortionProfile)):
        whole = whole.once if isinstance(whole, RepeatedProfile) else whole.whole
    return whole
