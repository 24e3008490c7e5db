"""Runs in time: when they are, where on the path, how fast."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.lookup import get
from kestrav.core.document.records import Limited, Path, Project, Run
from kestrav.core.motion.pacing import Bends, EasedProfile, Profile, profile
from kestrav.core.motion.path_curves import PathCurve, path_curve

Array = NDArray[np.float64]


_STEPS = 800  # of a way that is limited by its bends


@dataclass(frozen=True)
class Journey:
    """A run with its curve: first and last station (mm), and its distance by time."""

    run: Run
    path: PathCurve
    first: float
    last: float
    profile: Profile

    @property
    def start(self) -> float:
        """When it begins, in s."""
        return self.run.start

    @property
    def duration(self) -> float:
        """How long it takes, in s."""
        return self.profile.duration

    @property
    def end(self) -> float:
        """When it arrives, in s."""
        return self.run.start + self.duration

    @property
    def length(self) -> float:
        """Way covered, in mm."""
        return self.last - self.first

    @property
    def greatest_speed(self) -> float:
        """The steady speed where there is one, else the greatest of the journey, in mm/s."""
        if isinstance(self.profile, EasedProfile):
            return self.profile.steady
        return float(np.abs(self.profile.speed(np.linspace(0.0, self.duration, 2001))).max())

    @property
    def sets_out_at(self) -> float:
        """The station at which it sets out."""
        return self.last if self.run.backwards else self.first

    @property
    def arrives_at(self) -> float:
        """The station at which it arrives."""
        return self.first if self.run.backwards else self.last

    def stations(self, times: ArrayLike) -> Array:
        """Stations (n,) at times (n,), held before and after."""
        way = self.profile.distance(np.asarray(times, float) - self.start)
        return self.last - way if self.run.backwards else self.first + way

    def speeds(self, times: ArrayLike) -> Array:
        """Speeds (n,) in mm/s at times (n,)."""
        return np.abs(self.profile.speed(np.asarray(times, float) - self.start))

    def accelerations(self, times: ArrayLike) -> Array:
        """Accelerations (n,) along the way in mm/s² at times (n,), negative while braking."""
        return self.profile.acceleration(np.asarray(times, float) - self.start)

    def sideways(self, times: ArrayLike) -> Array:
        """Accelerations (n,) across the way in mm/s² at times (n,): speed² by bend radius."""
        found: Array = self.speeds(times) ** 2 * self.path.curve.curvature(self.stations(times))
        return found

    def times_at(self, stations: ArrayLike) -> Array:
        """Times (n,) at which stations (n,) are first reached."""
        places = np.asarray(stations, float)
        way = self.last - places if self.run.backwards else places - self.first
        return self.start + self.profile.times_at(way)


def journey(project: Project, run: Run) -> Journey:
    """A run worked out, and kept for as long as it and its path are in use."""
    path = get(project, run.path)
    assert isinstance(path, Path)
    key = (id(run), id(path))
    known = _kept.get(key)
    if known is not None:
        _kept.move_to_end(key)
        return known[2]
    made = _worked_out(run, path_curve(path))
    _kept[key] = (run, path, made)
    if len(_kept) > _MOST_KEPT:
        _kept.popitem(last=False)
    return made


# by identity, and with what they are of, which so lives on
_kept: OrderedDict[tuple[int, int], tuple[Run, Path, Journey]] = OrderedDict()
_MOST_KEPT = 512


def _worked_out(run: Run, made: PathCurve) -> Journey:
    first, last = run.begin * made.length, run.end * made.length
    bends = _bends(made, first, last, run.backwards) if isinstance(run.pacing, Limited) else None
    return Journey(run, made, first, last, profile(run.pacing, last - first, run.duration, run.speed, bends))


def _bends(made: PathCurve, first: float, last: float, backwards: bool) -> Bends:
    """Distances along a journey, the greatest curvature between them and their shares of the path; it stops at kinks."""
    curve = made.curve
    inner = curve.breaks[(curve.breaks > first) & (curve.breaks < last)]
    stations = np.unique(np.concatenate([np.linspace(first, last, _STEPS + 1), inner]))
    tiny = 1e-7 * curve.length
    low, high = stations[:-1] + tiny, stations[1:] - tiny
    bend = np.max([curve.curvature(s) for s in (low, 0.5 * (low + high), high)], axis=0)
    for kink in curve.kink_stations:
        # a stretch about it that is all but impassable
        near = (low <= kink) & (high + 2 * tiny >= kink)
        bend[near] = np.maximum(bend[near], _KINK)
    if backwards:
        return (last - stations)[::-1], bend[::-1], stations[::-1] / made.length
    return stations - first, bend, stations / made.length


_KINK = 1e6  # 1/mm


def journeys_of(project: Project, rider: str) -> list[Journey]:
    """A rider's runs in the order of their start."""
    return [journey(project, run) for run in sorted(project.runs, key=lambda r: r.start) if run.rider == rider]


def active(journeys: list[Journey], times: ArrayLike) -> NDArray[np.intp]:
    """Which of a rider's journeys (n,) governs each time: the latest begun, or the first before any."""
    starts = np.array([j.start for j in journeys])
    found: NDArray[np.intp] = np.maximum(np.searchsorted(starts, np.asarray(times, float), side="right") - 1, 0)
    return found


def span(project: Project) -> float:
    """The end of the last run or shot, in s; 1 s when there are none."""
    ends = [journey(project, run).end for run in project.runs] + [shot.end for shot in project.shots]
    return max(ends, default=1.0)


def frame_times(project: Project) -> Array:
    """Times of the project's frames, from 0 to the first at or past its end."""
    fps = project.settings.fps
    count = int(np.ceil(span(project) * fps - 1e-9))
    return np.arange(count + 1) / fps


def rider_speeds(project: Project, rider: str, times: ArrayLike) -> Array:
    """A rider's speeds (n,) in mm/s at times (n,), over all its runs; 0 while none is under way."""
    times = np.asarray(times, float)
    journeys = journeys_of(project, rider)
    which = active(journeys, times) if journeys else np.zeros(len(times), np.intp)
    speeds = np.zeros(len(times))
    for k, trip in enumerate(journeys):
        mine = which == k
        speeds[mine] = trip.speeds(times[mine])
    return speeds
