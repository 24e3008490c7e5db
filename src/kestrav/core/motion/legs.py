"""What moves a thing and when: its runs, key poses and rides, one after another."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial.transform import Rotation

from kestrav.core.document.lookup import ancestors, find
from kestrav.core.document.records import Axle, Carry, Part, Poses, Project, Roll, Run, Spin, Swivel, TowardHeading
from kestrav.core.geometry.transforms import inverse_rigid, rigid
from kestrav.core.motion.key_poses import pivot_poses, velocities
from kestrav.core.motion.resting import placement_matrix, rest_and_pivot
from kestrav.core.motion.rolling import Rolling, grid, rolling, spun, swivels, turned_about
from kestrav.core.motion.runs import Journey, begins, journey, span
from kestrav.core.motion.seating import rider_poses

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Leg:
    """A run, key poses or a ride of a thing, from a start to an end in s (infinite: never, or for good)."""

    item: Run | Poses | Carry
    start: float
    end: float
    trip: Journey | None = None


_Motions = tuple[tuple[Run, ...], tuple[Poses, ...], tuple[Carry, ...]]
_known: list[tuple[_Motions, dict[str, list[Run | Poses | Carry]]]] = []
_KEPT = 4


def _by_thing(project: Project) -> dict[str, list[Run | Poses | Carry]]:
    """What moves each thing, in the order of the document; kept by the records' tuples."""
    state = (project.runs, project.poses, project.carries)
    for known, found in _known:
        if all(a is b for a, b in zip(known, state, strict=True)):
            return found
    found = {}
    every: tuple[Run | Poses | Carry, ...] = (*project.runs, *project.poses, *project.carries)
    for item in every:
        things = (item.rider, *item.company) if isinstance(item, Run) else (item.rider,)
        for thing in things:
            found.setdefault(thing, []).append(item)
    _known.append((state, found))
    del _known[:-_KEPT]
    return found


def movers(project: Project) -> set[str]:
    """Ids of all things that a run, key poses or a ride move, companions too; not of what they take along."""
    return set(_by_thing(project))


def companion_of(project: Project, thing: str) -> str:
    """The rider whose company a thing keeps in all that moves either of them; itself if there is none."""
    found = _by_thing(project)
    mine = found.get(thing, [])
    leaders = {item.rider for item in mine}
    if len(leaders) == 1:
        (leader,) = leaders
        theirs = found[leader]
        if len(theirs) == len(mine) and all(a is b for a, b in zip(mine, theirs, strict=True)):
            return leader
    return thing


def leg_of(project: Project, item: Run | Poses | Carry) -> Leg:
    """A run, key poses or a ride in time."""
    if isinstance(item, Run):
        trip = journey(project, item)
        return Leg(item, trip.start, trip.end, trip)
    start = begins(project, item)
    if isinstance(item, Poses):
        return Leg(item, start, start + item.keys[-1].time)
    return Leg(item, start, np.inf if item.end is None else max(item.end, start))


def legs_of(project: Project, thing: str) -> list[Leg]:
    """What moves a thing, in the order of its start."""
    return sorted((leg_of(project, item) for item in _by_thing(project).get(thing, ())), key=lambda leg: leg.start)


def journeys_of(project: Project, thing: str) -> list[Journey]:
    """A thing's own runs in the order of their start."""
    return [leg.trip for leg in legs_of(project, thing) if leg.trip is not None and leg.trip.run.rider == thing]


def active(legs: Sequence[Leg], times: ArrayLike) -> NDArray[np.intp]:
    """Which of a thing's legs (n,) governs each time: the latest begun, or the first before any."""
    starts = np.array([leg.start for leg in legs])
    found: NDArray[np.intp] = np.maximum(np.searchsorted(starts, np.asarray(times, float), side="right") - 1, 0)
    return found


@dataclass(eq=False)
class _Kept:
    """What wheels and castors need of the whole of a project's time, worked out when it is first asked for."""

    grid: Array
    poses: dict[str, Array] = field(default_factory=dict)
    rolls: dict[str, Rolling] = field(default_factory=dict)
    swivels: dict[str, Array] = field(default_factory=dict)


_wheels: list[tuple[tuple[object, ...], _Kept]] = []


def _kept_of(project: Project) -> _Kept:
    """What is kept for a project, by the identity of all that moves something in it."""
    state = (
        project.parts,
        project.paths,
        project.runs,
        project.poses,
        project.carries,
        project.rolls,
        project.swivels,
        project.spins,
        span(project),
    )
    for known, found in _wheels:
        if all(a is b or (isinstance(a, float) and a == b) for a, b in zip(known, state, strict=True)):
            return found
    # whole seconds, so that a little more or less time leaves what is known as it is
    made = _Kept(grid(float(np.ceil(span(project)))))
    _wheels.append((state, made))
    del _wheels[:-_KEPT]
    return made


# by the identity of all that a wheel hangs on, which so lives on
_rolled: OrderedDict[tuple[int, ...], tuple[tuple[object, ...], Rolling]] = OrderedDict()
_ROLLED_KEPT = 2048


def _hangs_on(project: Project, roll: Roll, times: Array) -> tuple[object, ...] | None:
    """All records that a wheel's track follows from; None where that is more than its own carriers and their paths."""
    found: list[object] = [roll, times]
    by_thing, turned = _by_thing(project), turning(project)
    for thing in (roll.part, *ancestors(project, roll.part)):
        found.append(find(project, thing))
        others = [item for item in turned.get(thing, ()) if item is not roll]
        if any(isinstance(item, Spin) and item.cue is not None for item in others):
            return None
        found += others
        for item in by_thing.get(thing, ()):
            if isinstance(item, Carry) or item.cue is not None:
                return None
            found.append(item)
            if isinstance(item, Run):
                if item.follows is not None or item.rider != thing or isinstance(item.heading, TowardHeading):
                    return None
                if item.seat != "pivot" or (item.ground is not None and item.ground.tilted):
                    found.append(project.parts)  # its bounds are those of all below it
                found.append(find(project, item.path))
    return tuple(found)


_Turning = tuple[tuple[Roll, ...], tuple[Swivel, ...], tuple[Spin, ...]]
_turning: list[tuple[_Turning, dict[str, list[Roll | Swivel | Spin]]]] = []


def turning(project: Project) -> dict[str, list[Roll | Swivel | Spin]]:
    """What turns each part about axles of its own, by the part's id; kept by the records' tuples."""
    state = (project.rolls, project.swivels, project.spins)
    for known, found in _turning:
        if all(a is b for a, b in zip(known, state, strict=True)):
            return found
    found = {}
    every: tuple[Roll | Swivel | Spin, ...] = (*project.swivels, *project.rolls, *project.spins)
    for item in every:
        found.setdefault(item.part, []).append(item)
    _turning.append((state, found))
    del _turning[:-_KEPT]
    return found


def _axle(item: Roll | Swivel | Spin) -> Axle:
    return item.kingpin if isinstance(item, Swivel) else item.axle


class Motion:
    """Where the things of a project are."""

    def __init__(self, project: Project) -> None:
        self.project = project
        self._busy: set[str] = set()
        # most projects need nothing of what wheels do
        self._turning = turning(project)
        self._held: Array | None = None
        self._at_held: dict[str, Array] = {}

    def poses(self, thing: str, times: ArrayLike) -> Array:
        """World matrices (n, 4, 4) of a part, camera or light at times (n,)."""
        times = np.asarray(times, float)
        if not self._turning:
            return self.unturned(thing, times)
        known = self._kept
        if times is known.grid and thing in known.poses:
            return known.poses[thing]
        if times is self._held and thing in self._at_held:
            return self._at_held[thing]
        found = self.unturned(thing, times)
        for item in self._turning.get(thing, ()):
            found = found @ turned_about(_axle(item), self._angles(item, times))
        if self._busy:
            return found  # asked for by what turns to it, and so perhaps with that taken as at rest
        if times is known.grid:
            known.poses[thing] = found
        elif times is self._held:
            self._at_held[thing] = found
        return found

    def hold(self, times: Array) -> Array:
        """Keep what is found at these times (n,), by the array itself: things that are carried ask for their carrier again."""
        self._held, self._at_held = times, {}
        return times

    @cached_property
    def _kept(self) -> _Kept:
        return _kept_of(self.project)

    def unturned(self, thing: str, times: Array) -> Array:
        """World matrices (n, 4, 4) of a thing at times (n,), not turned about its own axles."""
        return self.by_legs(thing, legs_of(self.project, thing), times)

    def angles(self, item: Roll | Swivel | Spin, times: ArrayLike) -> Array:
        """Angles (n,) in rad of a wheel, castor or spinning part about its axle at times (n,)."""
        return self._angles(item, np.asarray(times, float))

    def _angles(self, item: Roll | Swivel | Spin, times: Array) -> Array:
        if isinstance(item, Spin):
            return spun(self.project, item, times)
        known = self._kept

        def base(moments: Array) -> Array:
            return self.unturned(item.part, moments)

        if isinstance(item, Swivel):
            if item.id not in known.swivels:
                known.swivels[item.id] = swivels(item, base, known.grid)
            return np.interp(times, known.grid, known.swivels[item.id])
        return self.rolling(item).angles(times, base)

    def rolling(self, roll: Roll) -> Rolling:
        """A wheel's track and the way it rolls, over the whole project."""
        known = self._kept
        if roll.id not in known.rolls:
            known.rolls[roll.id] = self._rolled(roll)
        return known.rolls[roll.id]

    def _rolled(self, roll: Roll) -> Rolling:
        """A wheel's rolling, of an earlier document where all that it hangs on is the same."""
        of = _hangs_on(self.project, roll, self._kept.grid)
        if of is not None and (old := _rolled.get(tuple(map(id, of)))) is not None:
            return old[1]
        made = rolling(roll, lambda moments: self.unturned(roll.part, moments), self._kept.grid)
        if of is not None:
            _rolled[tuple(map(id, of))] = (of, made)
            if len(_rolled) > _ROLLED_KEPT:
                _rolled.popitem(last=False)
        return made

    def by_legs(self, thing: str, legs: Sequence[Leg], times: Array) -> Array:
        """World matrices (n, 4, 4) of a thing that only some of its legs move, at times (n,)."""
        if not legs:
            return self._unled(thing, times)
        which = active(legs, times)
        if len(which) and (which == which[0]).all():
            # the same times, not a copy of them: what is kept is found by the array
            return self._in_leg(thing, legs, int(which[0]), times)
        found = np.empty((len(times), 4, 4))
        for k in np.unique(which):
            mine = which == k
            found[mine] = self._in_leg(thing, legs, int(k), times[mine])
        return found

    def _unled(self, thing: str, times: Array) -> Array:
        """Where a thing is that nothing moves by itself: with its parent, or at rest."""
        item = find(self.project, thing)
        if isinstance(item, Part) and item.parent is not None:
            found: Array = self.poses(item.parent, times) @ placement_matrix(item.placement)
            return found
        return np.broadcast_to(rest_and_pivot(self.project, thing)[0], (len(times), 4, 4))

    def _in_leg(self, thing: str, legs: Sequence[Leg], k: int, times: Array) -> Array:
        leg = legs[k]
        found = self._led(thing, legs, k, times)
        item = leg.item
        resting = np.zeros(len(times), bool)
        if isinstance(item, Run):
            if item.before == "rests":
                resting |= times < leg.start
            if item.after == "rests":
                resting |= times > leg.end
        elif isinstance(item, Carry):
            resting |= times < leg.start
        if resting.any():
            found = found.copy()
            found[resting] = self._unled(thing, times[resting])
        blend = 0.0 if isinstance(item, Carry) else item.blend
        if blend > 0 and k > 0:
            young = (times >= leg.start) & (times < leg.start + blend)
            if young.any():
                found = found.copy()
                before = self.by_legs(thing, legs[:k], times[young])
                found[young] = self._between(thing, before, found[young], (times[young] - leg.start) / blend)
        return found

    def _led(self, thing: str, legs: Sequence[Leg], k: int, times: Array) -> Array:
        """World matrices (n, 4, 4) by a leg alone, also before its start and after its end."""
        leg, item = legs[k], legs[k].item
        if isinstance(item, Poses):
            pivot = rest_and_pivot(self.project, thing)[1]
            since = times - leg.start if np.isfinite(leg.start) else np.zeros(len(times))
            found: Array = pivot_poses(item, since) @ inverse_rigid(pivot)
            return found
        if isinstance(item, Carry):
            if not np.isfinite(leg.start):
                return self._unled(thing, times)
            taken = np.array([leg.start])
            relative = inverse_rigid(self.poses(item.carrier, taken)[0]) @ self.by_legs(thing, legs[:k], taken)[0]
            found = self.poses(item.carrier, np.clip(times, leg.start, leg.end)) @ relative
            return found
        assert leg.trip is not None
        rider = item.rider
        again = rider in self._busy
        self._busy.add(rider)
        try:
            found = rider_poses(self.project, leg.trip, times, self._where)
        finally:
            if not again:
                self._busy.discard(rider)
        if rider != thing:
            found = (
                found @ inverse_rigid(rest_and_pivot(self.project, rider)[0]) @ rest_and_pivot(self.project, thing)[0]
            )
        return found

    def _where(self, part: str, times: Array) -> Array:
        """Where a part is that something turns to; of two that turn to each other one is taken as at rest."""
        if part in self._busy:
            return np.broadcast_to(rest_and_pivot(self.project, part)[0], (len(times), 4, 4))
        return self.poses(part, times)

    def _between(self, thing: str, one: Array, two: Array, shares: Array) -> Array:
        """World matrices (n, 4, 4) between two of the same thing, by shares (n,) that set out and arrive softly."""
        pivot = rest_and_pivot(self.project, thing)[1]
        a, b = one @ pivot, two @ pivot
        w = shares**3 * (10 - 15 * shares + 6 * shares**2)
        places = a[:, :3, 3] + w[:, None] * (b[:, :3, 3] - a[:, :3, 3])
        start = Rotation.from_matrix(a[:, :3, :3])
        turn = (start.inv() * Rotation.from_matrix(b[:, :3, :3])).as_rotvec()
        rotation = (start * Rotation.from_rotvec(w[:, None] * turn)).as_matrix()
        found: Array = rigid(rotation, places) @ inverse_rigid(pivot)
        return found


def thing_speeds(project: Project, thing: str, times: ArrayLike) -> Array:
    """A thing's speeds (n,) in mm/s at times (n,), by all that moves it; 0 while nothing does."""
    times = np.asarray(times, float)
    legs = legs_of(project, thing)
    which = active(legs, times) if legs else np.zeros(len(times), np.intp)
    speeds = np.zeros(len(times))
    for k, leg in enumerate(legs):
        mine = which == k
        if not mine.any():
            continue
        if leg.trip is not None:
            speeds[mine] = leg.trip.speeds(times[mine])
        elif isinstance(leg.item, Poses):
            if np.isfinite(leg.start):
                speeds[mine] = np.linalg.norm(velocities(leg.item, times[mine] - leg.start), axis=1)
        else:
            speeds[mine] = _carried_speeds(Motion(project), thing, legs[: k + 1], times[mine])
    return speeds


_STEP = 1e-4  # s


def _carried_speeds(motion: Motion, thing: str, legs: Sequence[Leg], times: Array) -> Array:
    around = np.concatenate([times - _STEP, times + _STEP])
    places = motion.by_legs(thing, legs, around)[:, :3, 3]
    found: Array = np.linalg.norm(places[len(times) :] - places[: len(times)], axis=1) / (2 * _STEP)
    return np.where((times >= legs[-1].start) & (times <= legs[-1].end), found, 0.0)
