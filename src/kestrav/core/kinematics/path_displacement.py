"""How far what sits on a path goes at most, and by how much it turns. Lengths in mm, times in s, angles in rad."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.records import (
    AlongOrientation,
    CarriedOrientation,
    FixedOrientation,
    KeyedOrientation,
    PartAim,
    TowardOrientation,
)
from kestrav.core.kinematics.banking import bank_gauge
from kestrav.core.kinematics.bounds import MOST_TURN, WORLD, Bound, at
from kestrav.core.kinematics.carriage import LONGEST, places_beyond, rear_stations
from kestrav.core.kinematics.roughness import AXES_OF_TURN, most_change
from kestrav.core.kinematics.runs import RunCourse
from kestrav.core.kinematics.seating import keyed_gauge, reference_matrix
from kestrav.core.parts.rest import own_bounds, rest_and_pivot

if TYPE_CHECKING:
    from kestrav.core.kinematics.displacement import Displacement

Array = NDArray[np.float64]

_TINY = 1e-12
_PLACES = 33  # within reach of a wheelbase


class OnPath:
    """How far what sits on a path goes, and how much it turns."""

    def __init__(self, moving: Displacement, course: RunCourse) -> None:
        self.moving, self.course = moving, course
        times, self.curve = moving.times, course.path.curve
        distances = course.profile.distance(course.since(times))
        # stations that do not go round at a seam
        self.along = course.last - distances if course.run.backwards else course.first + distances
        self.travel = np.abs(np.diff(self.along))
        self.over_seam = np.abs(np.diff(course.stations(times))) > self.travel + 1e-6

    def bound(self) -> Bound:
        """Of the place on the path that is beside it by the run's offset, and of the rider."""
        run, times = self.course.run, self.moving.times
        orientation = run.orientation
        distance, frame = self._frames()
        shift = np.abs(np.array(run.offset))
        if run.roughness or any(run.offset):
            for rough in run.roughness:
                if rough.axis not in AXES_OF_TURN:
                    distance = distance + most_change(rough, self.travel, self._waited())
                    shift = shift + rough.amplitude
            distance = distance + np.minimum(frame, MOST_TURN) * float(np.linalg.norm(shift))
        own = np.zeros(len(distance))
        for rough in run.roughness:
            if rough.axis in AXES_OF_TURN:
                own = own + np.radians(most_change(rough, self.travel, self._waited()))
        if isinstance(orientation, FixedOrientation):
            return Bound(distance, own)
        turn = frame
        if isinstance(orientation, TowardOrientation):
            turn = self._toward(orientation, distance)
        elif isinstance(orientation, KeyedOrientation):
            gauge = keyed_gauge(orientation.keys, smooth=orientation.smooth)
            keyed = self._gauged(*gauge, self.course.stations(times) / self.course.path.length)
            turn = keyed if orientation.room else turn + keyed
        if run.bank.computed or run.bank.keys:
            for stations, total in bank_gauge(self.course):
                turn = turn + self._gauged(stations, total, self.course.stations(times))
        return Bound(distance, turn + own)

    def _waited(self) -> Array:
        """How long (m,) of each step it is under way, within all its passes."""
        return np.abs(np.diff(self.course.moments(self.moving.times)))

    def _gauged(self, places: Array, total: Array, there: Array) -> Array:
        """What a total (k,) that grows with places (k,) tells of each step between places (n,); over a seam all of it."""
        lengths = np.abs(np.diff(np.interp(there, places, total)))
        return np.where(self.over_seam, float(total[-1] - total[0]), lengths)

    def _turned(self, *, upright: bool, along: Array | None = None) -> Array:
        """By how much frames turn at most in each step, kinks left out."""
        return np.abs(np.diff(self.course.path.most_turned(self.along if along is None else along, upright=upright)))

    def _frames(self) -> tuple[Array, Array]:
        """How far the place on the path goes, and by how much the frames turn by which the rider is carried beside it."""
        run, orientation = self.course.run, self.course.run.orientation
        ground = None if run.ground is None or not run.ground.heights else run.ground
        lift = np.zeros(len(self.travel))
        heights = np.empty((0, 3))
        if ground is not None:
            heights = np.array(ground.heights)
            lift = self._lifts(heights[:, 1], self.course.stations(self.moving.times))
        if isinstance(orientation, CarriedOrientation):
            return self._carried(orientation, heights)
        distance = self.travel + lift
        framed = any(run.offset) or bool(run.roughness) or not isinstance(orientation, FixedOrientation)
        if not framed:
            return distance, np.zeros(len(distance))
        stance = orientation.stance if isinstance(orientation, AlongOrientation) else "slope"
        turn = self._turned(upright=stance != "free")
        if stance == "level" or ground is not None:
            left = self.course.path.frames(self.course.stations(self.moving.times), upright=stance != "free")[:, :, 1]
            flat = np.hypot(left[:, 0], left[:, 1])
            turn = turn / np.maximum(0.5 * (flat[:-1] + flat[1:] - turn), 1e-9)
        if ground is not None and ground.tilted:
            turn = turn + self._tilts(heights, ground.width)
        return distance, turn

    def _lifts(self, heights: Array, stations: Array) -> Array:
        shares = np.linspace(0.0, 1.0, len(heights))
        total = np.concatenate([[0.0], np.cumsum(np.abs(np.diff(heights)))])
        return self._gauged(shares * self.curve.length, total, stations)

    def _tilts(self, heights: Array, width: float) -> Array:
        """By how much what rides on the ground pitches and rolls with it."""
        project, run = self.moving.project, self.course.run
        reach = max(0.5 * float(np.ptp(own_bounds(project, run.rider)[:, :2], axis=0).max()), 1.0)
        stations = self.course.stations(self.moving.times)
        before = np.maximum(stations - reach, 0.0)
        after = np.minimum(stations + reach, self.curve.length)
        long = after - before
        steep = float(np.abs(np.diff(heights[:, 1])).max(initial=0.0)) * (len(heights) - 1) / self.curve.length
        rise = self._lifts(heights[:, 1], before) + self._lifts(heights[:, 1], after)
        pitch: Array = (rise + steep * np.abs(np.diff(long))) / np.maximum(np.minimum(long[:-1], long[1:]), 1e-9)
        if width <= 0:
            return pitch
        roll = (self._lifts(heights[:, 0], stations) + self._lifts(heights[:, 2], stations)) / width
        return np.asarray(pitch + roll)

    def _toward(self, orientation: TowardOrientation, distance: Array) -> Array:
        """By how much what points at something turns: by both ways, the nearer the more."""
        moving = self.moving
        poses = moving.motion.poses(self.course.run.rider, moving.times)
        pivot = rest_and_pivot(moving.project, self.course.run.rider)[1]
        places = (poses @ reference_matrix(moving.project, self.course.run, pivot))[:, :3, 3]
        if isinstance(orientation.aim, PartAim):
            middle = own_bounds(moving.project, orientation.aim.part).mean(axis=0)
            aimed = moving.of(orientation.aim.part, WORLD, at(middle)).distance
            seen = moving.motion.poses(orientation.aim.part, moving.times)
            target = seen[:, :3, :3] @ middle + seen[:, :3, 3]
        else:
            aimed, target = np.zeros(len(distance)), np.broadcast_to(np.array(orientation.aim.point), places.shape)
        step = target - places
        far, level = np.linalg.norm(step, axis=1), np.hypot(step[:, 0], step[:, 1])
        both = distance + aimed
        apart = 0.5 * (far[:-1] + far[1:] - both)
        flat = 0.5 * (level[:-1] + level[1:] - both)
        # above or below the target nothing is level: there it may turn in any way
        sure = (apart > 1e-3) & (flat > 1e-3 * np.maximum(far[:-1], far[1:]))
        return np.where(sure, both / np.maximum(apart, 1e-3) + both / np.maximum(flat, 1e-6), MOST_TURN)

    def _carried(self, orientation: CarriedOrientation, heights: Array) -> tuple[Array, Array]:
        """On two points of the path: the rear one goes as far as the front one by the slants of the path to the line between them.

        That holds where there is but one place for it within reach; elsewhere it is only known to be a wheelbase behind.
        """
        base, share = orientation.wheelbase, orientation.share
        moving = self.travel > 0
        distance, turn = np.zeros(len(moving)), np.zeros(len(moving))
        if not moving.any():
            return distance, turn
        stations = self.course.stations(self.moving.times)
        rear_places = rear_stations(self.curve, stations, base)
        front_distance = self.travel[moving]
        # of each step that it moves in the places at its start, and how level it is at both ends
        fronts, rears = stations[:-1][moving], rear_places[:-1][moving]
        e = self._ahead(fronts, rears)
        e_later = self._ahead(stations[1:][moving], rear_places[1:][moving])
        along = self.along[:-1][moving]
        low, high = np.minimum(along, self.along[1:][moving]), np.maximum(along, self.along[1:][moving])
        # slants at the starts of the steps, and how far they can change over them
        slant_rear, slant_front = (
            np.arccos(np.clip(np.einsum("ni,ni->n", self.curve.tangent(self._within(s)), e), -1, 1))
            for s in (rears, fronts)
        )
        rear_distance = 2.0 * front_distance / np.maximum(np.cos(slant_rear), 0.05)
        turned = (front_distance + rear_distance) / base
        behind = along - (fronts - rears)
        rear_turns = self._turning(behind - rear_distance, behind + rear_distance)
        slower = np.cos(np.minimum(slant_rear + rear_turns + turned, 0.5 * np.pi))
        proven = front_distance / np.maximum(slower, 1e-9)
        alone = self._turning(low - LONGEST * base, high) < 0.5 * np.pi
        alone[~alone] = self._alone(fronts[~alone], front_distance[~alone], base)
        sure = alone & (proven <= rear_distance + 1e-12)
        rear_distance = np.where(sure, proven, 0.0)
        widest = [
            np.minimum(slant + turns + turned, 0.5 * np.pi)
            for slant, turns in ((slant_rear, rear_turns), (slant_front, self._turning(low, high)))
        ]
        angle = (rear_distance * np.sin(widest[0]) + front_distance * np.sin(widest[1])) / base
        lifts = [np.zeros(len(front_distance))] * 2
        if len(heights):
            lifts = [self._lifts(heights[:, 1], self._within(s))[moving] for s in (stations, rear_places)]
            angle = angle + (lifts[0] + lifts[1] + rear_distance + front_distance) / base
        level = [np.hypot(v[:, 0], v[:, 1]) for v in (e, e_later)]
        flat = np.maximum(0.5 * (level[0] + level[1] - angle), 1e-3)
        turn[moving] = np.where(sure, np.minimum(angle / flat, MOST_TURN), MOST_TURN)
        mixed = (1 - share) * (rear_distance + lifts[1]) + share * (front_distance + lifts[0])
        distance[moving] = np.where(sure, mixed, front_distance + lifts[0] + 4 * base * abs(1 - share))
        return distance, turn

    def _ahead(self, fronts: Array, rears: Array) -> Array:
        """Unit vectors (n, 3) from rear to front places."""
        step = places_beyond(self.curve, fronts) - places_beyond(self.curve, rears)
        return np.asarray(step / np.maximum(np.linalg.norm(step, axis=1), _TINY)[:, None])

    def _within(self, stations: Array) -> Array:
        """Stations (n,) that may lie beyond an open path's ends, or go round, as those of the path."""
        length = self.curve.length
        return np.mod(stations, length) if self.curve.closed else np.clip(stations, 0.0, length)

    def _alone(self, fronts: Array, distances: Array, base: float) -> NDArray[np.bool_]:
        """Whether there is but one place (n,) a wheelbase behind, also as the front goes on by ways (n,): the path leads away from it all
        along the reach, as its slants in many places and what they can change by in between tell."""
        if not len(fronts):
            return np.zeros(0, bool)
        back = base * np.linspace(1.0, LONGEST, _PLACES)
        stations = fronts[:, None] - back
        apart = places_beyond(self.curve, fronts)[:, None] - places_beyond(self.curve, stations.ravel()).reshape(
            *stations.shape, 3
        )
        far = np.maximum(np.linalg.norm(apart, axis=2), 1e-9)
        tangents = self.curve.tangent(self._within(stations).ravel()).reshape(apart.shape)
        slant = np.arccos(np.clip(np.einsum("nij,nij->ni", tangents, apart) / far, -1.0, 1.0))
        half = 0.5 * (back[1] - back[0]) + distances[:, None]
        turns = self._turning((stations - half).ravel(), (stations + half).ravel()).reshape(stations.shape)
        alone: NDArray[np.bool_] = (slant + turns + (half + distances[:, None]) / far).max(axis=1) < 0.5 * np.pi
        return alone

    def _turning(self, low: Array, high: Array) -> Array:
        """By how much the tangent turns between stations, kinks and all."""
        path = self.course.path
        turned = path.most_turned(high, upright=False) - path.most_turned(low, upright=False)
        kinks, angles = self.curve.kink_stations, np.concatenate([[0.0], np.cumsum(self.curve.kink_angles)])
        if not len(kinks):
            return turned

        def passed(stations: Array) -> Array:
            round_, there = (np.divmod(stations, self.curve.length)) if self.curve.closed else (0.0, stations)
            return np.asarray(round_ * angles[-1] + angles[np.searchsorted(kinks, there, side="right")])

        return turned + passed(high + 1e-6) - passed(low - 1e-6)
