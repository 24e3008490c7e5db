"""Runs in time: when they are, where on the path, how fast."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.base import LONGEST
from kestrav.core.document.lookup import get_as
from kestrav.core.document.records import (
    Attachment,
    ContactTrigger,
    Limited,
    Path,
    PoseTrack,
    Project,
    Run,
    TimedRotation,
)
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.passes import (
    FollowingProfile,
    PortionProfile,
    RepeatedProfile,
    SegmentedProfile,
    held,
    steady_part,
)
from kestrav.core.kinematics.speed_profile import Ceiling, EasedProfile, Profile, TabledProfile, ceiling, profile
from kestrav.core.memo import Memo
from kestrav.core.paths.path_curves import PathCurve, path_curve

Array = NDArray[np.float64]


class RunCourse(msgspec.Struct, frozen=True):
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
    def there_and_back(self) -> float:
        """The end in s of what goes otherwise than before: of its first pass, and of the way back where there is one."""
        passes = 2 if self.run.returns and self.run.passes != 1 else 1
        whole = self.profile.starts(passes) if isinstance(self.profile, RepeatedProfile) else self.once
        return self.start + min(whole if self.run.portion is None else self.duration, self.duration)

    @property
    def length(self) -> float:
        """Distance covered, in mm."""
        return self.last - self.first

    @property
    def greatest_speed(self) -> float:
        """The steady speed where there is one, else the greatest of the run, in mm/s."""
        one: Profile = steady_part(self.profile)
        if isinstance(self.profile, PortionProfile):
            one = self.profile
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

    def _station(self, distance: float) -> float:
        return float(self._stations(np.array([distance]))[0])

    def _stations(self, distances: Array) -> Array:
        stations = self.last - distances if self.run.backwards else self.first + distances
        length = self.path.length
        if self.path.curve.closed and len(stations) and (stations.min() < 0 or stations.max() > length):
            stations = np.mod(stations, length)
        return stations

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
        accelerations = self.profile.acceleration(since)
        if self.run.returns or self.run.portion is not None:
            accelerations = accelerations * np.where(self.profile.speed(since) < 0, -1.0, 1.0)
        return accelerations

    def sideways(self, times: ArrayLike) -> Array:
        """Accelerations (n,) across the way in mm/s² at times (n,): speed² by bend radius."""
        sideways: Array = self.speeds(times) ** 2 * self.path.curve.curvature(self.stations(times))
        return sideways

    def times_at(self, stations: ArrayLike) -> Array:
        """Times (n,) at which stations (n,) are first reached."""
        places = np.asarray(stations, float)
        distance = self.last - places if self.run.backwards else places - self.first
        return self.start + self.profile.times_at(distance)

    @property
    def entire(self) -> RunCourse:
        """The run that this is a portion of; itself where it is whole."""
        if not isinstance(self.profile, PortionProfile):
            return self
        return msgspec.structs.replace(self, profile=self.profile.whole)

    @property
    def whole_start(self) -> float:
        """When the run that this is a portion of would begin in s, were it made forward in time as this one is."""
        return self.start - (self.profile.first if isinstance(self.profile, PortionProfile) else 0.0)

    @property
    def is_backward(self) -> bool:
        """Whether it is made backward in time."""
        return self.run.portion is not None and self.run.portion[0] > self.run.portion[1]

    def moments(self, times: ArrayLike) -> Array:
        """Times (n,) within all of its passes at times (n,), in s, held before and after; of a portion those of the whole."""
        since = self.since(times)
        if isinstance(self.profile, PortionProfile):
            return self.profile.moments(since)
        return np.clip(since, 0.0, self.duration)

    def changes(self, until: float) -> Array:
        """Times (k,) up to one at which it turns back, sets out, holds, arrives, or passes the border of a zone or a kink."""
        if not np.isfinite(self.start) or self.start > until:
            return np.empty(0)
        turns = np.unique(np.clip(self.profile.changes(until - self.start), 0.0, None))
        turns = turns[turns <= until - self.start]
        times = self.start + np.concatenate([turns, self._crossings(turns, self._borders())])
        return np.unique(times[(times >= 0) & (times <= until)])

    def jumps(self, until: float) -> Array:
        """Times (k,) up to one at which it may jump or turn at once: at kinks and seams, and where it begins its path anew."""
        if not np.isfinite(self.start) or self.start > until:
            return np.empty(0)
        turns = np.unique(np.clip(self.profile.changes(until - self.start), 0.0, None))
        turns = turns[turns <= until - self.start]
        times = self._crossings(turns, self._sharp())
        if self.run.passes != 1 and not self.run.returns:
            times = np.concatenate([times, turns])
        return np.unique(self.start + times)

    def _sharp(self) -> Array:
        """Stations of kinks, and where their far side begins to count, and of the seam."""
        curve = self.path.curve
        kinks = curve.kink_stations
        seam = [curve.length] if curve.closed else []
        return np.concatenate([kinks, kinks - curve.kink_reach, kinks + curve.kink_reach, seam])

    def _borders(self) -> Array:
        """Stations of the borders of zones, and of what is sharp."""
        zones = self.run.speed_profile.zones if isinstance(self.run.speed_profile, Limited) else ()
        return np.concatenate([self._sharp(), [share * self.path.length for z in zones for share in (z.begin, z.end)]])

    def _crossings(self, turns: Array, places: Array) -> Array:
        """Times since its start at which it passes stations, between times (k,) of which it goes one way, by halving."""
        curve = self.path.curve
        distances = self.last - places if self.run.backwards else places - self.first
        if curve.closed and self.run.follows is not None:
            distances = np.concatenate([distances + n * curve.length for n in range(-2, 3)])
        if not len(distances) or len(turns) < 2:
            return np.empty(0)
        # where a pass begins anew it is elsewhere at once, so each is looked at between its own ends
        hair = 1e-9 * np.diff(turns)
        begins, ends = turns[:-1] + hair, turns[1:] - hair
        first, last = self.profile.distance(begins), self.profile.distance(ends)
        low, high, wanted = [], [], []
        for k in range(len(turns) - 1):
            inside = distances[(distances - first[k]) * (distances - last[k]) < 0]
            low += [begins[k]] * len(inside)
            high += [ends[k]] * len(inside)
            wanted += list(inside)
        a, b, wanted_distances = np.array(low), np.array(high), np.array(wanted)
        rising = self.profile.distance(b) > self.profile.distance(a)
        for _ in range(60):
            middle = 0.5 * (a + b)
            short = (self.profile.distance(middle) < wanted_distances) == rising
            a, b = np.where(short, middle, a), np.where(short, b, middle)
        return b


def course_of(project: Project, run: Run) -> RunCourse:
    """A run worked out, and kept for as long as it, its path and what it waits for are the same."""
    path = get_as(project, run.path, Path)
    lead = _run(project, run.follows.run) if run.follows is not None else None
    led = None if lead is None else course_of(project, lead)
    start = led.start if led is not None else begins(project, run)
    return _journeys.get((run, path, led), lambda: _worked_out(run, path_curve(path), start, led), start)


_journeys: Memo[RunCourse] = Memo(2048)


def _run(project: Project, run_id: str) -> Run:
    run = get_as(project, run_id, Run)
    return run


def begins(project: Project, item: Run | PoseTrack | Attachment | TimedRotation) -> float:
    """When something begins, in s: at its start, or after its trigger; infinite when that never comes."""
    trigger = item.trigger
    if trigger is None:
        return item.start
    if isinstance(trigger, ContactTrigger):
        return np.inf if trigger.time is None else trigger.time + trigger.delay
    lead = course_of(project, _run(project, trigger.run))
    if trigger.at == "start":
        return lead.start + trigger.delay
    if trigger.at == "arrival":
        return lead.end + trigger.delay
    distance = trigger.place * lead.length
    since = float(lead.profile.times_at([distance])[0])
    reached = float(lead.profile.distance([since])[0]) >= distance - _REACHED
    return lead.start + since + trigger.delay if reached else np.inf


_REACHED = 1e-6  # mm


def _worked_out(run: Run, curve: PathCurve, start: float, lead: RunCourse | None) -> RunCourse:
    first, last = run.begin * curve.length, run.end * curve.length
    if lead is not None:
        assert run.follows is not None
        low, high = (last - curve.length, last) if run.backwards else (-first, curve.length - first)
        if curve.curve.closed:
            low, high = -np.inf, np.inf
        return RunCourse(
            run,
            curve,
            first,
            last,
            FollowingProfile(lead.profile, run.follows.distance, last - first, low, high),
            start,
        )
    once = _pass(run, curve, first, last, backwards=run.backwards, duration=run.duration)
    whole = once
    if run.passes != 1:
        back = _back(run, curve, first, last, once) if run.returns else None
        whole = RepeatedProfile(once, run.passes, back)
    if run.portion is not None:
        low, high = run.portion
        whole = PortionProfile(whole, low * whole.duration, high * whole.duration)
    return RunCourse(run, curve, first, last, whole, start)


def _pass(run: Run, curve: PathCurve, first: float, last: float, *, backwards: bool, duration: float | None) -> Profile:
    """One pass along a path, from its first to its last station or ``backwards``."""
    over = (
        _ceiling(run.speed_profile, run.speed, curve, first, last, backwards=backwards)
        if isinstance(run.speed_profile, Limited)
        else None
    )
    if not run.holds:
        return profile(run.speed_profile, last - first, duration, run.speed, over)
    places = [(hold.place * curve.length, hold.duration) for hold in run.holds]
    stops = [(last - s, t) for s, t in places[::-1]] if backwards else [(s - first, t) for s, t in places]
    return held(run.speed_profile, last - first, stops, duration, run.speed, over)


def _back(run: Run, curve: PathCurve, first: float, last: float, once: Profile) -> Profile:
    """The way back: planned anew where it hangs on where it is, by limits or holds, and told as slowly as the way there."""
    if not (isinstance(run.speed_profile, Limited) or run.holds):
        return once
    back = _pass(
        run,
        curve,
        first,
        last,
        backwards=not run.backwards,
        duration=None if isinstance(run.speed_profile, Limited) else run.duration,
    )
    if run.duration is None or not isinstance(run.speed_profile, Limited):
        return back
    waits = sum(hold.duration for hold in run.holds)
    slower = (once.duration - waits) / max(_fastest(once) - waits, 1e-12)
    return _pass(
        run, curve, first, last, backwards=not run.backwards, duration=waits + slower * (back.duration - waits)
    )


def _fastest(one: Profile) -> float:
    """The least time in s of a pass within limits, with its holds."""
    if isinstance(one, TabledProfile):
        return one.least
    assert isinstance(one, SegmentedProfile)
    waits = one.duration - sum(segment.duration for segment in one.segments)
    return waits + sum(segment.least for segment in one.segments if isinstance(segment, TabledProfile))


class _PathBend(msgspec.Struct, frozen=True, eq=False):
    """How a path bends."""

    path: PathCurve

    @property
    def breaks(self) -> Array:
        return self.path.curve.breaks

    @property
    def kinks(self) -> Array:
        return self.path.curve.kink_stations

    def curvature(self, stations: Array) -> Array:
        return self.path.curve.curvature(stations)

    def most(self, low: Array, high: Array) -> Array:
        return self.path.curve.most_curvature(low, high)


_ceilings: Memo[Ceiling] = Memo(256)


def _ceiling(
    speed_profile: Limited, speed: float | None, curve: PathCurve, first: float, last: float, *, backwards: bool
) -> Ceiling:
    """The ceiling of a run, kept by its path and its limits."""
    limits = (speed_profile, speed, first, last)
    there = _ceilings.get((curve,), lambda: ceiling(*limits, curve.length, _PathBend(curve)), *limits)
    return there.back() if backwards else there


def span(project: Project) -> float:
    """The end of the last run, key poses, attachment or shot, in s; 1 s when there are none. Kept by the records' tuples."""
    state = (
        project.runs,
        project.paths,
        project.pose_tracks,
        project.attachments,
        project.shots,
        project.lights,
        project.rotations,
    )
    return _spans.get(state, lambda: _span(project))


_HAIR = 1e-6  # of a frame
_spans: Memo[float] = Memo(4)


def _span(project: Project) -> float:
    ends = [course_of(project, run).shown_end for run in project.runs] + [shot.end for shot in project.shots]
    ends += [begins(project, poses) + poses.keys[-1].time for poses in project.pose_tracks]
    ends += [begins(project, c) if c.end is None else c.end for c in project.attachments]
    ends += [light.keys[-1].time for light in project.lights if light.keys]
    ends += [rotation.end for rotation in project.rotations if rotation.end is not None and rotation.trigger is None]
    # a run so slow that it would take days is shown as far as a project can last
    return min(max((end for end in ends if np.isfinite(end)), default=1.0) or 1.0, LONGEST)


MOST_FRAMES = 100_000  # that are looked at one by one: an hour of film at a common rate
_POSE = 128  # bytes


def frame_times(project: Project, over: tuple[float, float] | None = None) -> Array:
    """Times of the project's frames, from 0 to the first at or past its end, or within a part of its time in s.

    Raises BadInput when they are more than are looked at one by one, with what that would take.
    """
    fps = project.settings.fps
    last = np.ceil(span(project) * fps - 1e-9)
    first = 0.0
    if over is not None:
        first, last = max(np.ceil(over[0] * fps - _HAIR), 0.0), min(np.floor(over[1] * fps + _HAIR), last)
    if last - first >= MOST_FRAMES:
        size = (last - first) * max(len(project.parts), 1) * _POSE / 1e9
        raise BadInput(
            f"{last - first + 1:,.0f} frames ({(last - first) / fps:,.0f} s at {fps:g} fps) are too many to look at each, {MOST_FRAMES:,} being"
            f" the most (their poses alone would take {size:,.1f} GB); lower the frame rate, shorten what lasts so long, or look at a part"
        )
    return np.arange(first, last + 1) / fps


def shown_times(project: Project, most: int = 20_000) -> Array:
    """Times to draw curves at: the project's frames, or so many evenly spread where there are more."""
    if span(project) * project.settings.fps < most:
        return frame_times(project)
    return np.linspace(0.0, span(project), most)
