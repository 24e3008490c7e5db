"""Clearance while something is being dragged: at the playhead and along the stretch that the drag changes, in a few hundredths of a second.

What a full check knew is kept; only the frames at which anything stands elsewhere than then are measured anew, spread evenly, as many as
the time allows. Lengths in mm, times in s.
"""

from __future__ import annotations

import time as clock
from collections.abc import Collection, Mapping
from functools import cached_property

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.between import displacement_between, led_by, led_poses
from kestrav.core.clearance.bodies import Pair
from kestrav.core.clearance.sweep import Clearance, Prepared, prepared
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, box_corners, box_distances, turned_bounds
from kestrav.core.geometry.models import nearest, placed
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.kinematics.dependencies import dependencies
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.poses import moving_groups
from kestrav.core.kinematics.runs import frame_times
from kestrav.core.parts.rest import rest_poses

Array = NDArray[np.float64]

_HAIR = 1e-9  # s
_SAME = 1e-9  # mm and matrix entries by which a pose may differ and be the same


class LiveClearance(msgspec.Struct, frozen=True):
    """The clearance at the playhead (the first sample) and at frames of the changed stretch, in the order of time after it.

    For each of the samples (m,): time in s, distance in mm (0 where surfaces cross; that one lies wholly inside another, and when what is in
    contact has parted, is left to the full check) of the pair that is nearest to what is required of it, what is required of the pair, the pair and its
    nearest points (m, 2, 3). ``stretch`` are the first and last time of what changed; none if nothing did. ``complete`` tells whether
    every frame of it was measured.
    """

    times: Array
    distance: Array
    needs: Array
    pairs: tuple[Pair | None, ...]
    points: Array
    stretch: tuple[float, float] | None
    complete: bool


class ClearanceCurve(msgspec.Struct, frozen=True):
    """A clearance over time: times (n,) in s, the distance (n,) in mm, and where it is less than required (n,)."""

    times: Array
    distance: Array
    short: NDArray[np.bool_]


def with_live(before: Clearance, live: LiveClearance | None, end: float) -> ClearanceCurve:
    """What a full check knew, with the stretch that has changed since as it is now, up to an end in s."""
    if live is None or live.stretch is None:
        return ClearanceCurve(before.times, before.distance, before.short)
    first, last = live.stretch
    keep = ((before.times < first - _HAIR) | (before.times > last + _HAIR)) & (before.times <= end + _HAIR)
    times = np.concatenate([before.times[keep], live.times[1:]])
    order = np.argsort(times, kind="stable")
    distance = np.concatenate([before.distance[keep], live.distance[1:]])
    short = np.concatenate([before.short[keep], live.distance[1:] < live.needs[1:]])
    return ClearanceCurve(times[order], distance[order], short[order])


class Live:
    """Follows the edits of a project since its last full check; of all that moves, or ``only`` of some parts with the rest."""

    def __init__(self, only: Collection[str] | None = None) -> None:
        self._only = only
        self._key: tuple[object, ...] = ()
        self._ready: _Ready | None = None
        self._base: tuple[Array, Array] | None = None  # the frames' times, and the leaders' poses then
        self._known: dict[
            str, tuple[tuple[object, ...], Array, Array]
        ] = {}  # leaders' poses with all that they hang on
        self._measured: dict[int, dict[int, _Known]] = {}  # by frame
        self._hints: dict[int, int] = {}  # by frame the pair that was the nearest

    def checked(self, project: Project, meshes: Mapping[str, Mesh]) -> None:
        """A project has been checked in full: what follows is told from it."""
        ready = self._prepare(project, meshes)
        times = frame_times(project)
        self._base = (times, self._led(project, ready, times))

    def _prepare(self, project: Project, meshes: Mapping[str, Mesh]) -> _Ready:
        riders = tuple((run.rider, run.companions) for run in project.runs)
        rest = (
            project.parts, project.geometry, project.contacts, project.requirements, project.settings, project.pose_tracks, project.attachments,
            project.wheels, project.castors, project.rotations, project.gears, project.rods, project.balls,
        )  # fmt: skip
        same = len(self._key) == len(rest) + 1 and all(a is b for a, b in zip(self._key, rest, strict=False))
        if self._ready is None or not same or self._key[-1] != riders:
            self._key = (*rest, riders)
            self._ready = _ready_for(project, prepared(project, meshes, self._only))
            self._base, self._hints, self._measured = None, {}, {}
        return self._ready

    def follow(
        self,
        project: Project,
        meshes: Mapping[str, Mesh],
        time: float,
        frames: int | None = None,
        seconds: float = np.inf,
    ) -> LiveClearance:
        """The clearance of an edited project at a playhead in s and in so many ``frames`` of what changed (all of them), spread over it;
        ``seconds`` is the outer cap."""
        until = clock.monotonic() + seconds
        ready = self._prepare(project, meshes)
        times = frame_times(project)
        led = self._led(project, ready, times)
        changed = self._changed(times, led)
        here = int(np.argmin(np.abs(times - time)))
        on_frame = abs(times[here] - time) < _HAIR
        now = led[here] if on_frame else led_poses(project, Motion(project), ready.leaders, np.array([time]))[0]
        measured = self._measured.setdefault(here, {}) if on_frame else {}
        worst = [(time, *ready.worst(now, self._hints.get(here), measured, self._elsewhere(here, now)))]
        order = _spread(changed)
        done = 0
        for frame in order:
            if done == frames or (done and clock.monotonic() > until):
                break
            distance, k, points = ready.worst(
                led[frame],
                self._hints.get(int(frame)),
                self._measured.setdefault(int(frame), {}),
                self._elsewhere(int(frame), led[frame]),
            )
            if k >= 0:
                self._hints[int(frame)] = k
            worst.append((float(times[frame]), distance, k, points))
            done += 1
        worst[1:] = sorted(worst[1:], key=lambda sample: sample[0])
        return LiveClearance(
            np.array([t for t, *_ in worst]),
            np.array([d for _, d, _, _ in worst]),
            np.array([ready.required(k) if k >= 0 else project.settings.required_clearance for *_, k, _ in worst]),
            tuple(ready.named(k) for *_, k, _ in worst),
            np.array([p for *_, p in worst]),
            (float(times[changed[0]]), float(times[changed[-1]])) if len(changed) else None,
            done == len(order),
        )

    def _led(self, project: Project, ready: _Ready, times: Array) -> Array:
        """The leaders' poses (n, l, 4, 4); of those that hang on nothing that was edited as they were."""
        motion, poses = Motion(project), np.empty((len(times), len(ready.leaders), 4, 4))
        motion.hold(times)  # what carries several of them is worked out once
        for k, leader in enumerate(ready.leaders):
            of = dependencies(project, leader)
            known = self._known.get(leader)
            if (
                known is None
                or len(known[0]) != len(of)
                or not np.array_equal(known[1], times)
                or any(a is not b for a, b in zip(known[0], of, strict=True))
            ):
                known = self._known[leader] = (of, times, motion.poses(leader, times))
            poses[:, k] = known[2]
        return poses

    def _elsewhere(self, frame: int, led: Array) -> NDArray[np.bool_]:
        """Which leaders (l,) stand elsewhere in a frame than when the project was last checked; all where it was not."""
        if self._base is None or self._base[1].shape[1] != len(led) or frame >= len(self._base[1]):
            return np.ones(len(led), bool)
        return np.asarray(np.abs(led - self._base[1][frame]).max(axis=(1, 2), initial=0.0) > _SAME)

    def _changed(self, times: Array, led: Array) -> NDArray[np.intp]:
        """The frames at which anything stands elsewhere than when the project was last checked; all where it was not."""
        if self._base is None or self._base[1].shape[1] != led.shape[1]:
            return np.arange(len(times))
        both = min(len(times), len(self._base[0]))
        moved = np.ones(len(times), bool)
        moved[:both] = np.abs(led[:both] - self._base[1][:both]).max(axis=(1, 2, 3), initial=0.0) > _SAME
        return np.flatnonzero(moved)


def _spread(frames: NDArray[np.intp]) -> NDArray[np.intp]:
    """Frames in an order whose beginnings are spread evenly (van der Corput's, base 2)."""
    count = len(frames)
    if count < 3:
        return frames
    bits = int(np.ceil(np.log2(count)))
    turned = np.array([int(f"{k:0{bits}b}"[::-1], 2) for k in range(2**bits)])
    spread: NDArray[np.intp] = frames[turned[turned < count]]
    return spread


class _Ready(msgspec.Struct, frozen=True, eq=False, dict=True):
    """Bodies by what moves them, and the pairs between them."""

    prepared: Prepared
    leaders: list[str]
    group: NDArray[np.intp]  # of each body its leader's number, -1 for what rests
    within: Array  # each body's pose in its leader's coordinates, or in the room
    resting: Array  # bounds of what rests
    transforms: list[object]
    corners: Array  # (b, 8, 3), of each body's box

    @cached_property
    def need(self) -> Array:
        """What is required of each pair; of what stands nearer, that it does not come nearer. When it parts is told by the full check."""
        need = self.prepared.asked.need.copy()
        for k, near in self.prepared.near.items():
            need[k] = near.keeps
        return need

    def _still_at_least(self, k: int, before: _Known, poses: Array) -> float:
        a, b = self.prepared.bodies.first[k], self.prepared.bodies.second[k]
        both = [a, b]
        return before.at_least - float(displacement_between(self.corners[both], before.poses, poses[both]).sum())

    def required(self, k: int) -> float:
        """How far a pair must be apart; of a pair in contact it is below 0, how deep it may be."""
        held = self.prepared.held.get(k)
        return float(self.need[k]) if held is None else -held[0].allowed

    def named(self, k: int) -> Pair | None:
        """A pair by its number."""
        bodies = self.prepared.bodies
        return Pair(bodies.ids[bodies.first[k]], bodies.ids[bodies.second[k]]) if k >= 0 else None

    def worst(
        self, led: Array, hint: int | None, known: dict[int, _Known], elsewhere: NDArray[np.bool_]
    ) -> tuple[float, int, Array]:
        """The pair that is nearest to what is required of it, with the leaders at poses (l, 4, 4): how far apart it is, which it is
        (-1: there is none), and where.

        ``known`` are pairs that were measured at this time before; they are as far apart less by how far they have moved since. Of what is in
        contact only that is looked at of which a leader (l,) stands ``elsewhere`` than when all was checked.
        """
        bodies, need = self.prepared.bodies, self.need
        if not len(bodies.first):
            return np.inf, -1, np.zeros((2, 3))
        moving = np.flatnonzero(self.group >= 0)
        poses = self.within.copy()
        poses[moving] = led[self.group[moving]] @ self.within[moving]
        bounds = self.resting.copy()
        bounds[moving] = turned_bounds(bodies.boxes[moving], poses[moving])
        left = box_distances(bounds[bodies.first], bounds[bodies.second]) - need
        # how long they are in contact hangs on the motion, so that is left to the full check; how deep they are is not
        touching = list(self.prepared.held)
        displaced = np.append(elsewhere, False)[self.group]  # what rests has the number -1
        displaced = displaced[bodies.first] | displaced[bodies.second]
        too_deep = [
            deep
            for k in touching
            if displaced[k] and left[k] <= -need[k] and (deep := _too_deep(self.prepared, k, poses))
        ]
        left[touching] = np.inf
        best, which, points = np.inf, -1, np.zeros((2, 3))  # by how much more than required it is apart

        def measure(k: int) -> None:
            nonlocal best, which, points
            a, b = bodies.first[k], bodies.second[k]
            at = [placed(poses[i]) if self.group[i] >= 0 else self.transforms[i] for i in (a, b)]
            near = nearest(bodies.models[a], at[0], bodies.models[b], at[1], best + need[k])
            known[k] = _Known(best + need[k] if near is None else near.distance, poses[[a, b]])
            if near is not None:
                best, which, points = near.distance - need[k], k, np.stack([near.first, near.second])

        # that of a moment ago first, as it bounds the rest, and then by what their boxes leave
        if len(touching) < len(left):
            measure(int(np.argmin(left)) if hint is None or hint in touching else hint)
        near = np.flatnonzero(left < best)
        for k in near[np.argsort(left[near])]:
            if left[k] >= best:
                break
            before = known.get(int(k))
            if k == hint or (before is not None and self._still_at_least(int(k), before, poses) - need[k] >= best):
                continue
            measure(int(k))
        if too_deep:
            excess, depth, k, place = max(too_deep, key=lambda one: one[0])
            if -excess < best:
                return -depth, k, np.concatenate([place, place])
        return best + need[which], which, points


def _too_deep(ready: Prepared, k: int, poses: Array) -> tuple[float, float, int, Array] | None:
    """By how much in mm a pair in contact is deeper than it may be with the bodies at poses (b, 4, 4), how deep, its number and where
    (1, 3)."""
    bodies, limit = ready.bodies, ready.held[k][1]
    at_two = poses[bodies.second[k]]
    seen = inverse_rigid(at_two) @ poses[bodies.first[k]]
    if not len(limit.too_deep(seen[None])):
        return None
    deep = limit.measured(seen)
    return deep.depth - limit.allowed, deep.depth, k, apply(at_two, deep.place[None])


class _Known(msgspec.Struct, frozen=True):
    """How far a pair was apart at least, with its bodies at two poses (2, 4, 4)."""

    at_least: float
    poses: Array


def _ready_for(project: Project, prepared: Prepared) -> _Ready:
    bodies, rest, moved = prepared.bodies, rest_poses(project), moving_groups(project)
    leader_of, within = led_by(project, bodies.ids)
    moves = np.array([i in moved for i in bodies.ids], bool)
    leaders = list(dict.fromkeys(leader for leader, on in zip(leader_of, moves, strict=True) if on))
    number = {leader: k for k, leader in enumerate(leaders)}
    return _Ready(
        prepared,
        leaders,
        np.array([number[leader] if on else -1 for leader, on in zip(leader_of, moves, strict=True)], np.intp),
        np.where(moves[:, None, None], within, rest[bodies.rows]),
        turned_bounds(bodies.boxes, rest[bodies.rows]),
        [placed(rest[own]) for own in bodies.rows],
        np.array([box_corners(box) for box in bodies.boxes]).reshape(-1, 8, 3),
    )
