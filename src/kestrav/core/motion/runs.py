"""Runs in time: when they are, where on the path, how fast."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.lookup import get
from kestrav.core.document.records import Path, Project, Run
from kestrav.core.motion import pacing
from kestrav.core.motion.path_curves import PathCurve, path_curve

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Journey:
    """A run with its curve: first and last station (mm), start and duration (s)."""

    run: Run
    path: PathCurve
    first: float
    last: float
    duration: float

    @property
    def start(self) -> float:
        """When it begins, in s."""
        return self.run.start

    @property
    def end(self) -> float:
        """When it arrives, in s."""
        return self.run.start + self.duration

    @property
    def length(self) -> float:
        """Way covered, in mm."""
        return self.last - self.first

    @property
    def steady_speed(self) -> float:
        """The speed between soft start and stop, in mm/s."""
        return pacing.steady_speed(self.run.pacing, self.length, self.duration)

    def stations(self, times: ArrayLike) -> Array:
        """Stations (n,) at times (n,), held before and after."""
        since = np.asarray(times, float) - self.start
        return self.first + pacing.distance(self.run.pacing, self.length, self.duration, since)

    def speeds(self, times: ArrayLike) -> Array:
        """Speeds (n,) in mm/s at times (n,)."""
        since = np.asarray(times, float) - self.start
        return pacing.speed(self.run.pacing, self.length, self.duration, since)

    def times_at(self, stations: ArrayLike) -> Array:
        """Times (n,) at which stations (n,) are reached."""
        way = np.asarray(stations, float) - self.first
        return self.start + pacing.time_at(self.run.pacing, self.length, self.duration, way)


def journey(project: Project, run: Run) -> Journey:
    """A run worked out."""
    path = get(project, run.path)
    assert isinstance(path, Path)
    curve = path_curve(path)
    first, last = run.begin * curve.length, run.end * curve.length
    if run.duration is not None:
        duration = run.duration
    else:
        assert run.speed is not None
        duration = pacing.duration_at(run.pacing, last - first, run.speed)
    return Journey(run, curve, first, last, duration)


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
