"""Pacing: how distance grows with time. Lengths in mm, times in s, speeds in mm/s, accelerations in mm/s²."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Eased, Keyed, Law, Limited, SpeedKey, SpeedProfile
from kestrav.core.kinematics.laws import LAWS

Array = NDArray[np.float64]


class Profile(Protocol):
    """A run's distance by time since it set out."""

    @property
    def length(self) -> float:
        """Distance covered, in mm."""
        ...

    @property
    def duration(self) -> float:
        """How long it takes, in s."""
        ...

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,) at times (n,); held before the start and after the end."""
        ...

    def speed(self, times: ArrayLike) -> Array:
        """Speed (n,) at times (n,), negative where it runs back; zero outside the run."""
        ...

    def acceleration(self, times: ArrayLike) -> Array:
        """Acceleration (n,) at times (n,), negative while braking; zero outside the run."""
        ...

    def times_at(self, distances: ArrayLike) -> Array:
        """Times (n,) at which distances (n,) are first reached."""
        ...

    def changes(self, until: float) -> Array:
        """Times (k,) up to one at which it turns back, sets out, holds or is done: between two of them it goes one way."""
        ...


class _Inside(msgspec.Struct, frozen=True):
    """What all profiles share: they hold outside their span, and are inverted by halving."""

    length: float
    duration: float

    def changes(self, until: float) -> Array:
        """Its start and its end."""
        return np.array([0.0, self.duration])

    def _at(self, times: ArrayLike) -> tuple[Array, NDArray[np.bool_]]:
        raw = np.asarray(times, float)
        return np.clip(raw, 0.0, self.duration), (raw >= 0) & (raw <= self.duration)

    def _inverted(self, distance: Callable[[Array], Array], distances: ArrayLike) -> Array:
        wanted = np.clip(np.asarray(distances, float), 0.0, self.length)
        low, high = np.zeros_like(wanted), np.full_like(wanted, self.duration)
        for _ in range(60):  # distance never falls, and its slope may vanish
            middle = 0.5 * (low + high)
            short = distance(middle) < wanted
            low, high = np.where(short, middle, low), np.where(short, high, middle)
        times: Array = high
        return times


# soft start and stop


class EasedProfile(_Inside, frozen=True):
    """A steady speed between ramps (times in s) in which speed follows (1 - cos)/2, so that acceleration begins and ends
    at zero."""

    steady: float
    ramp_in: float = 0.0
    ramp_out: float = 0.0

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,)."""
        t, _ = self._at(times)
        travelled = self.steady * (t - self.ramp_in / 2)
        if self.ramp_in > 0:
            travelled = np.where(t < self.ramp_in, self.steady * _ramp_distance(t, self.ramp_in), travelled)
        if self.ramp_out > 0:
            left = self.duration - t
            travelled = np.where(
                left < self.ramp_out, self.length - self.steady * _ramp_distance(left, self.ramp_out), travelled
            )
        distance: Array = np.clip(travelled, 0.0, self.length)
        return distance

    def _ramps(
        self, times: ArrayLike, inner: Callable[[Array], Array], steady: float
    ) -> tuple[Array, NDArray[np.bool_]]:
        """Values in the ramps, by their share, and which times lie in the second one."""
        t, inside = self._at(times)
        value = np.full(t.shape, steady)
        left = self.duration - t
        stopping = left < self.ramp_out
        if self.ramp_in > 0:
            value = np.where(t < self.ramp_in, inner(t / self.ramp_in), value)
        if self.ramp_out > 0:
            value = np.where(stopping, inner(left / self.ramp_out), value)
        return np.where(inside, value, 0.0), stopping

    def speed(self, times: ArrayLike) -> Array:
        """Speed (n,)."""
        return self.steady * self._ramps(times, lambda share: 0.5 * (1 - np.cos(np.pi * share)), 1.0)[0]

    def acceleration(self, times: ArrayLike) -> Array:
        """Acceleration (n,)."""
        shape, stopping = self._ramps(times, lambda share: 0.5 * np.pi * np.sin(np.pi * share), 0.0)
        per = np.where(stopping, -1.0 / max(self.ramp_out, 1e-12), 1.0 / max(self.ramp_in, 1e-12))
        acceleration: Array = self.steady * shape * per
        return acceleration

    def times_at(self, distances: ArrayLike) -> Array:
        """Times (n,)."""
        return self._inverted(self.distance, distances)


def _ramp_distance(t: Array, ramp: float) -> Array:
    """Distance by unit steady speed after t of a ramp."""
    share = t / ramp
    ramp_distance: Array = ramp * (share / 2 - np.sin(np.pi * share) / (2 * np.pi))
    return ramp_distance


def _eased(speed_profile: Eased, length: float, duration: float | None, speed: float | None) -> EasedProfile:
    """Ramps that do not fit are shrunk in proportion until they fill the run.

    A ramp's mean speed is half the steady one: over a length it takes twice that length's time, over a time it
    covers half that time's way.
    """
    by_time = [t or 0.0 for t in (speed_profile.start_time, speed_profile.stop_time)]
    by_length = [
        0.0 if t is not None else s
        for s, t in (
            (speed_profile.start_length, speed_profile.start_time),
            (speed_profile.stop_length, speed_profile.stop_time),
        )
    ]
    lengths, times = sum(by_length), sum(by_time)
    if duration is not None:
        given = duration

        def steady(share: float) -> float:
            return (length + share * lengths) / (given - 0.5 * share * times)

        def over(share: float) -> float:
            # how much of the duration the ramps take too much
            return 2 * share * lengths / steady(share) + share * times - given

        # beyond twice the duration there would be no speed at all
        most = min(1.0, 2 * given / times * (1 - 1e-9)) if times > 0 else 1.0
        share = most if over(most) <= 0 else float(scipy.optimize.brentq(over, 0.0, most, xtol=1e-15))
        v = steady(share)
    else:
        assert speed is not None
        v = speed
        share = min(1.0, length / (lengths + 0.5 * v * times)) if lengths + times > 0 else 1.0
        given = (length + share * lengths) / v + 0.5 * share * times
    ramps = [2 * share * s / v + share * t for s, t in zip(by_length, by_time, strict=True)]
    return EasedProfile(length, given, v, *ramps)


# motion laws


class LawProfile(_Inside, frozen=True):
    """A standard law scaled to a length and a duration."""

    law: Law

    def _value(self, times: ArrayLike, order: int) -> Array:
        t, inside = self._at(times)
        value: Array = self.length / self.duration**order * LAWS[self.law.name](t / self.duration, order)
        return value if order == 0 else np.where(inside, value, 0.0)

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,)."""
        return self._value(times, 0)

    def speed(self, times: ArrayLike) -> Array:
        """Speed (n,)."""
        return self._value(times, 1)

    def acceleration(self, times: ArrayLike) -> Array:
        """Acceleration (n,)."""
        return self._value(times, 2)

    def times_at(self, distances: ArrayLike) -> Array:
        """Times (n,)."""
        return self._inverted(self.distance, distances)


# limits


class TabledProfile(_Inside, frozen=True, eq=False):
    """Stretches of even acceleration between distances (n,) passed at times (n,) and speeds (n,); ``least`` is the
    duration of the fastest run within the limits."""

    times: Array
    distances: Array
    speeds: Array
    least: float

    def _stretch(self, t: Array) -> tuple[NDArray[np.intp], Array, Array]:
        k = np.clip(np.searchsorted(self.times, t, side="right") - 1, 0, len(self.times) - 2)
        rate = np.diff(self.speeds) / np.maximum(np.diff(self.times), 1e-300)
        return k, t - self.times[k], rate[k]

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,)."""
        t, _ = self._at(times)
        k, since, rate = self._stretch(t)
        distance: Array = np.minimum(self.distances[k] + (self.speeds[k] + 0.5 * rate * since) * since, self.length)
        return distance

    def speed(self, times: ArrayLike) -> Array:
        """Speed (n,)."""
        t, inside = self._at(times)
        k, since, rate = self._stretch(t)
        return np.where(inside, self.speeds[k] + rate * since, 0.0)

    def acceleration(self, times: ArrayLike) -> Array:
        """Acceleration (n,)."""
        t, inside = self._at(times)
        return np.where(inside, self._stretch(t)[2], 0.0)

    def times_at(self, distances: ArrayLike) -> Array:
        """Times (n,)."""
        wanted = np.clip(np.asarray(distances, float), 0.0, self.length)
        k = np.clip(np.searchsorted(self.distances, wanted, side="right") - 1, 0, len(self.distances) - 2)
        rate = np.diff(self.speeds) / np.maximum(np.diff(self.times), 1e-300)
        distance, v = wanted - self.distances[k], self.speeds[k]
        after = np.sqrt(np.maximum(v**2 + 2 * rate[k] * distance, 0.0))
        times: Array = self.times[k] + np.where(distance > 0, 2 * distance / np.maximum(v + after, 1e-300), 0.0)
        return np.minimum(times, self.duration)


class Ceiling(msgspec.Struct, frozen=True, eq=False):
    """How fast a run may go where: squares (n,) of the greatest speeds at distances (n,) along it, and in between what lies on the
    straight line from one to the next."""

    distances: Array
    squares: Array

    def between(self, first: float, last: float) -> Ceiling:
        """The same between two distances, as of a run of its own."""
        inner = (self.distances > first + 1e-9) & (self.distances < last - 1e-9)
        distances = np.concatenate([[first], self.distances[inner], [last]])
        return Ceiling(distances - first, np.interp(distances, self.distances, self.squares))

    def back(self) -> Ceiling:
        """The same on the way back."""
        return Ceiling(self.distances[-1] - self.distances[::-1], self.squares[::-1])


def ceiling(
    speed_profile: Limited,
    speed: float | None,
    first: float,
    last: float,
    whole: float,
    bend: Bend | None = None,
) -> Ceiling:
    """The ceiling over the stations between two of a path that is ``whole`` mm long, by top speed, zones and bends.

    Borders of zones, breaks and kinks are among the places, and between them there are as many as are needed for the straight lines to
    be off by little anywhere: the curvature is looked at in five places between two, and bounded where it could be greater in between.
    """
    top = min(v for v in (speed_profile.top or np.inf, speed or np.inf) if v > 0)
    length = last - first
    borders = [share * whole for zone in speed_profile.zones for share in (zone.begin, zone.end)]
    kinks = bend.kinks if bend is not None and speed_profile.sideways > 0 else np.empty(0)
    sharp = np.concatenate([borders, kinks, bend.breaks if bend is not None and len(bend.breaks) < _FEW_BREAKS else []])
    beside = np.concatenate([sharp - _BESIDE * length, sharp, sharp + _BESIDE * length])
    if bend is not None:
        beside = np.concatenate([beside, bend.breaks])
    nodes = np.unique(
        np.concatenate([np.linspace(first, last, _STEPS + 1), beside[(beside > first) & (beside < last)]])
    )
    low, high = nodes[:-1], nodes[1:]
    kept: list[tuple[Array, Array, Array, Array]] = []
    for _ in range(_MOST_SPLITS):
        seen = _limits(speed_profile, top, whole, bend, low, high)
        chord = seen[0] + _SHARES[:, None] * (seen[-1] - seen[0])
        off = (chord > seen * (1 + _OVER)) | (chord < seen * (1 - _UNDER))
        bad = off.any(axis=0)
        if bend is not None and speed_profile.sideways > 0:
            least = speed_profile.sideways / np.maximum(bend.most(low, high), 1e-300)
            bad |= least < _HIDDEN * seen.min(axis=0)
        bad &= (high - low > 1e-8 * length) & (sum(len(k[0]) for k in kept) + 2 * len(low) < _MOST_NODES)
        kept.append((low[~bad], high[~bad], seen[0, ~bad], seen[-1, ~bad]))
        middle = 0.5 * (low + high)[bad]
        low, high = np.concatenate([low[bad], middle]), np.concatenate([middle, high[bad]])
        if not len(low):
            break
    else:
        seen = _limits(speed_profile, top, whole, bend, low, high)
        kept.append((low, high, seen[0], seen[-1]))
    low, high, begins, ends = (np.concatenate([k[i] for k in kept]) for i in range(4))
    order = np.argsort(low, kind="stable")
    # a place has the lower of both its sides
    squares = np.minimum(np.append(begins[order], np.inf), np.insert(ends[order], 0, np.inf))
    stations = np.append(low[order], last)
    for kink in kinks:
        # it stops there, all but
        squares[np.abs(stations - kink) < 1e-9 * length] = speed_profile.sideways / _KINK
    return Ceiling(stations - first, squares)


_SHARES = np.array([0.0, 0.25, 0.5, 0.75, 1.0])
_STEPS = 400  # places along a run at least
_BESIDE = 1e-6  # of the length, beside what is sharp
_FEW_BREAKS = 500
_MOST_SPLITS, _MOST_NODES = 16, 40_000
_OVER, _UNDER = 4e-4, 4e-3  # by which a square may be more or less than is allowed, between two places
_HIDDEN = 0.8  # of what was seen that a bound must reach for nothing to be hidden
_KINK = 1e6  # 1/mm


def _limits(speed_profile: Limited, top: float, whole: float, bend: Bend | None, low: Array, high: Array) -> Array:
    """Squares (5, n) of the greatest speeds at five places of each stretch between stations (n,)."""
    inside = low + np.clip(_SHARES, 1e-6, 1 - 1e-6)[:, None] * (high - low)
    greatest = np.full(len(low), float(top))
    middle = 0.5 * (low + high) / whole
    for zone in speed_profile.zones:
        mine = (middle >= zone.begin) & (middle <= zone.end)
        greatest[mine] = np.minimum(greatest[mine], zone.speed)
    limits = np.broadcast_to(greatest**2, inside.shape)
    if bend is None or speed_profile.sideways <= 0:
        return limits
    curvature = bend.curvature(inside.ravel()).reshape(inside.shape)
    return np.asarray(np.minimum(limits, speed_profile.sideways / np.maximum(curvature, 1e-300)))


class Bend(Protocol):
    """How a path bends: what a run that is limited sideways needs of it."""

    @property
    def breaks(self) -> Array:
        """Stations of the breaks between pieces."""
        ...

    @property
    def kinks(self) -> Array:
        """Stations of the kinks."""
        ...

    def curvature(self, stations: Array) -> Array:
        """Curvature (n,) in 1/mm at stations (n,)."""
        ...

    def most(self, low: Array, high: Array) -> Array:
        """A bound (n,) of the curvature between stations."""
        ...


def fastest(over: Ceiling, limits: Limited) -> tuple[Array, Array]:
    """Times (n,) and speeds (n,) of the fastest run below a ceiling, with limits of acceleration along the way.

    One pass ahead, as fast as it can gather speed, and one back, as fast as it can lose it: between two places
    of a way with even acceleration v² grows by 2 a s (as in J. Bobrow, S. Dubowsky, J. Gibson, "Time-optimal control
    of robotic manipulators along specified paths", Int. J. Robotics Research 4(3), 1985).
    """
    square = over.squares.copy()
    if limits.from_rest:
        square[0] = 0.0
    if limits.to_rest:
        square[-1] = 0.0
    step = np.diff(over.distances)
    if limits.forward > 0:
        square = _gathered(square, 2 * limits.forward * step)
    if limits.braking > 0:
        square = _gathered(square[::-1], 2 * limits.braking * step[::-1])[::-1]
    speeds = np.sqrt(square)
    mean = 0.5 * (speeds[:-1] + speeds[1:])
    return np.concatenate([[0.0], np.cumsum(step / np.maximum(mean, 1e-9))]), speeds


def _gathered(square: Array, gain: Array) -> Array:
    """The greatest squares (n,) of speed below given ones that grow by no more than gains (n - 1,).

    Less what has been gained since the start they are the least so far: no loop is needed.
    """
    total = np.concatenate([[0.0], np.cumsum(gain)])
    squares: Array = np.minimum.accumulate(square - total) + total
    return np.maximum(squares, 0.0)


def _limited(
    speed_profile: Limited, length: float, duration: float | None, speed: float | None, over: Ceiling | None
) -> TabledProfile:
    over = over or ceiling(speed_profile, speed, 0.0, length, length)
    times, speeds = fastest(over, speed_profile)
    least = float(times[-1])
    # another duration is the same run told more slowly
    stretch = (duration or least) / least
    return TabledProfile(length, stretch * least, stretch * times, over.distances, speeds / stretch, least)


# keys


class KeyedProfile(_Inside, frozen=True, eq=False):
    """Cubics through keys."""

    curve: scipy.interpolate.PPoly

    def changes(self, until: float) -> Array:
        """Its keys and where it turns back."""
        turns = self.curve.derivative().roots(extrapolate=False)
        # it is held at both ends of its way: it may stop there between keys
        bounds = np.concatenate([self.curve.solve(distance, extrapolate=False) for distance in (0.0, self.length)])
        times = np.concatenate([self.curve.x, turns, bounds])
        return np.unique(times[np.isfinite(times)])

    def distance(self, times: ArrayLike) -> Array:
        """Distance (n,)."""
        t, _ = self._at(times)
        distance: Array = np.clip(self.curve(t), 0.0, self.length)
        return distance

    def _derivative(self, times: ArrayLike, order: int) -> Array:
        t, inside = self._at(times)
        return np.where(inside, self.curve(t, order), 0.0)

    def speed(self, times: ArrayLike) -> Array:
        """Speed (n,)."""
        return self._derivative(times, 1)

    def acceleration(self, times: ArrayLike) -> Array:
        """Acceleration (n,)."""
        return self._derivative(times, 2)

    def times_at(self, distances: ArrayLike) -> Array:
        """Times (n,)."""
        # where it runs back, the first time counts
        grid = np.linspace(0.0, self.duration, 4001)
        highest = np.maximum.accumulate(self.distance(grid))
        wanted = np.clip(np.asarray(distances, float), 0.0, self.length)
        k = np.clip(np.searchsorted(highest, wanted - 1e-12 * self.length), 0, len(grid) - 1)
        low, high = grid[np.maximum(k - 1, 0)], grid[k]
        for _ in range(50):
            middle = 0.5 * (low + high)
            short = self.distance(middle) < wanted
            low, high = np.where(short, middle, low), np.where(short, high, middle)
        times: Array = high
        return times


def _keyed(speed_profile: Keyed, length: float, duration: float) -> KeyedProfile:
    """Slopes that are not given are those of PCHIP (F. Fritsch, J. Butland, SIAM J. Sci. Stat. Comput. 5(2), 1984): the
    way never runs back between keys that do not."""
    times = duration * np.array([key.time for key in speed_profile.keys])
    distances = length * np.array([key.distance for key in speed_profile.keys])
    slopes = scipy.interpolate.PchipInterpolator(times, distances).derivative()(times)
    given = [
        length / duration * key.slope if key.slope is not None else s
        for key, s in zip(speed_profile.keys, slopes, strict=True)
    ]
    return KeyedProfile(length, duration, scipy.interpolate.CubicHermiteSpline(times, distances, given))


# all of them


def profile(
    speed_profile: SpeedProfile,
    length: float,
    duration: float | None = None,
    speed: float | None = None,
    over: Ceiling | None = None,
) -> Profile:
    """The profile of a run of a length whose duration, or steady or greatest speed, is given.

    One within limits goes below the ceiling that is ``over`` it: that of a straight way where none is given.
    """
    if isinstance(speed_profile, Limited):
        return _limited(speed_profile, length, duration, speed, over)
    if isinstance(speed_profile, Law):
        if duration is None:
            assert speed is not None
            duration = peak(speed_profile) * length / speed
        return LawProfile(length, duration, speed_profile)
    if isinstance(speed_profile, Keyed):
        if duration is None:
            assert speed is not None
            duration = length / speed
        return _keyed(speed_profile, length, duration)
    return _eased(speed_profile if isinstance(speed_profile, Eased) else Eased(0.0, 0.0), length, duration, speed)


def peak(law: Law, order: int = 1) -> float:
    """The greatest velocity (order 1) or acceleration (order 2) of a law over unit length and time."""
    return float(np.abs(LAWS[law.name](np.linspace(0.0, 1.0, 20_001), order)).max())


_KEYS = 24  # by which a part of a run is told, with its speeds


def part_as_keys(whole: Profile, start: float, end: float) -> Keyed:
    """A part of a run between two times since it set out, as keys with the speeds it has there."""
    times = np.linspace(start, end, _KEYS + 1)
    distances, speeds = whole.distance(times), whole.speed(times)
    low, length = float(distances[0]), float(distances[-1] - distances[0])
    shares = np.clip((distances - low) / length, 0.0, 1.0)
    slopes = speeds * (end - start) / length
    moments = np.linspace(0.0, 1.0, _KEYS + 1)
    return Keyed(tuple(SpeedKey(float(t), float(w), float(v)) for t, w, v in zip(moments, shares, slopes, strict=True)))
