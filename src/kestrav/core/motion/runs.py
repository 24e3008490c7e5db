"""Runs in time: when they are, where on the path, how fast."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.check_values import LONGEST
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Carry, ContactCue, Limited, Path, Poses, Project, Run, Spin
from kestrav.core.motion.pacing import Bends, EasedProfile, Profile, profile
from kestrav.core.motion.passes import FollowingProfile, RepeatedProfile, held, steady_part
from kestrav.core.motion.path_curves import PathCurve, path_curve

Array = NDArray[np.float64]


_STEPS = 800  # of a way that is limited by its bends


@dataclass(frozen=True)
class Journey:
    """A run with its curve: first and last station (mm), its distance by time, and when it begins (s; infinite where it
    waits for what never comes)."""

    run: Run
    path: PathCurve
    first: float
    last: float
    profile: Profile
    start: float

    @property
    def duration(self) -> float:
        """How long all its passes take, in s; infinite without end."""
        return self.profile.duration

    @property
    def once(self) -> float:
        """How long one pass takes, in s."""
        return steady_part(self.profile).duration

    @property
    def end(self) -> float:
        """When it arrives, in s; infinite when never."""
        return self.start + self.duration

    @property
    def shown_end(self) -> float:
        """The end of what is to be seen of it, in s: where it goes on without end, of two passes."""
        return self.end if np.isfinite(self.duration) else self.start + 2 * self.once

    @property
    def length(self) -> float:
        """Way covered, in mm."""
        return self.last - self.first

    @property
    def greatest_speed(self) -> float:
        """The steady speed where there is one, else the greatest of the journey, in mm/s."""
        one = steady_part(self.profile)
        if isinstance(one, EasedProfile):
            return one.steady
        return float(np.abs(one.speed(np.linspace(0.0, one.duration, 2001))).max())

    @property
    def sets_out_at(self) -> float:
        """The station at which it sets out."""
        return self._station(float(self.profile.distance([0.0])[0]))

    @property
    def arrives_at(self) -> float:
        """The station at which it arrives, or would after one pass if it goes on without end."""
        arrived = self.duration if np.isfinite(self.duration) else self.once
        return self._station(float(self.profile.distance([arrived])[0]))

    def _station(self, way: float) -> float:
        return float(self._stations(np.array([way]))[0])

    def _stations(self, ways: Array) -> Array:
        found = self.last - ways if self.run.backwards else self.first + ways
        length = self.path.length
        if self.path.curve.closed and len(found) and (found.min() < 0 or found.max() > length):
            found = np.mod(found, length)
        return found

    def since(self, times: ArrayLike) -> Array:
        """Times (n,) since its start, in s."""
        # what never begins waits as before its start
        return np.asarray(times, float) - self.start if np.isfinite(self.start) else np.full(np.shape(times), -1.0)

    def stations(self, times: ArrayLike) -> Array:
        """Stations (n,) at times (n,), held before and after."""
        return self._stations(self.profile.distance(self.since(times)))

    def speeds(self, times: ArrayLike) -> Array:
        """Speeds (n,) in mm/s at times (n,)."""
        return np.abs(self.profile.speed(self.since(times)))

    def accelerations(self, times: ArrayLike) -> Array:
        """Accelerations (n,) along the way in mm/s² at times (n,), negative while braking."""
        since = self.since(times)
        found = self.profile.acceleration(since)
        if self.run.returns:
            found = found * np.where(self.profile.speed(since) < 0, -1.0, 1.0)
        return found

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
    """A run worked out, and kept for as long as it, its path and what it waits for are the same."""
    path = get(project, run.path)
    assert isinstance(path, Path)
    lead = _run(project, run.follows.run) if run.follows is not None else None
    led = None if lead is None else journey(project, lead)
    start = led.start if led is not None else begins(project, run)
    key = (id(run), id(path), id(led), start)
    known = _kept.get(key)
    if known is not None:
        _kept.move_to_end(key)
        return known[3]
    made = _worked_out(run, path_curve(path), start, led)
    _kept[key] = (run, path, led, made)
    if len(_kept) > _MOST_KEPT:
        _kept.popitem(last=False)
    return made


# by identity, and with what they are of, which so lives on
_kept: OrderedDict[tuple[int, int, int, float], tuple[Run, Path, Journey | None, Journey]] = OrderedDict()
_MOST_KEPT = 2048


def _run(project: Project, run_id: str) -> Run:
    run = get(project, run_id)
    assert isinstance(run, Run)
    return run


def begins(project: Project, item: Run | Poses | Carry | Spin) -> float:
    """When something begins, in s: at its start, or after its cue; infinite when that never comes."""
    cue = item.cue
    if cue is None:
        return item.start
    if isinstance(cue, ContactCue):
        return np.inf if cue.time is None else cue.time + cue.delay
    lead = journey(project, _run(project, cue.run))
    if cue.at == "start":
        return lead.start + cue.delay
    if cue.at == "arrival":
        return lead.end + cue.delay
    way = cue.place * lead.length
    since = float(lead.profile.times_at([way])[0])
    reached = float(lead.profile.distance([since])[0]) >= way - _REACHED
    return lead.start + since + cue.delay if reached else np.inf


_REACHED = 1e-6  # mm


def _worked_out(run: Run, made: PathCurve, start: float, lead: Journey | None) -> Journey:
    first, last = run.begin * made.length, run.end * made.length
    if lead is not None:
        assert run.follows is not None
        low, high = (last - made.length, last) if run.backwards else (-first, made.length - first)
        if made.curve.closed:
            low, high = -np.inf, np.inf
        return Journey(
            run, made, first, last, FollowingProfile(lead.profile, run.follows.distance, last - first, low, high), start
        )
    bends = _bends(made, first, last, run.backwards) if isinstance(run.pacing, Limited) else None
    if run.holds:
        places = [(hold.place * made.length, hold.duration) for hold in run.holds]
        stops = [(last - s, t) for s, t in places[::-1]] if run.backwards else [(s - first, t) for s, t in places]
        once = held(run.pacing, last - first, stops, run.duration, run.speed, bends)
    else:
        once = profile(run.pacing, last - first, run.duration, run.speed, bends)
    if run.passes != 1:
        once = RepeatedProfile(once, run.passes, run.returns)
    return Journey(run, made, first, last, once, start)


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


def span(project: Project) -> float:
    """The end of the last run, key poses, ride or shot, in s; 1 s when there are none. Kept by the records' tuples."""
    state = (project.runs, project.paths, project.poses, project.carries, project.shots, project.lights, project.spins)
    for known, found in _spans:
        if all(a is b for a, b in zip(known, state, strict=True)):
            return found
    found = _span(project)
    _spans.append((state, found))
    del _spans[:-_SPANS_KEPT]
    return found


_spans: list[tuple[tuple[object, ...], float]] = []
_SPANS_KEPT = 4


def _span(project: Project) -> float:
    ends = [journey(project, run).shown_end for run in project.runs] + [shot.end for shot in project.shots]
    ends += [begins(project, poses) + poses.keys[-1].time for poses in project.poses]
    ends += [begins(project, c) if c.end is None else c.end for c in project.carries]
    ends += [light.keys[-1].time for light in project.lights if light.keys]
    ends += [spin.end for spin in project.spins if spin.end is not None and spin.cue is None]
    # a run so slow that it would take days is shown as far as a project can last
    return min(max((end for end in ends if np.isfinite(end)), default=1.0) or 1.0, LONGEST)


def frame_times(project: Project) -> Array:
    """Times of the project's frames, from 0 to the first at or past its end."""
    fps = project.settings.fps
    count = int(np.ceil(span(project) * fps - 1e-9))
    return np.arange(count + 1) / fps
