"""How far anything can go between two instants, at most: bounds that hold by construction, for every kind of motion.

The bounds add up: of each step of time it is told how far points can have gone at most since its start, in all, and by how much what
they are on can have turned; over several steps it is their sum. They are worked out law by law: the distance along a path is that of its
speed profile, which goes one way between the instants of :func:`changes`; frames turn by no more than their curve's table tells; angles
of joints are known in closed form, or bounded by how far their pins go. Between two things that hang on the same third one both are seen
from that, so that what carries both does not count.

The times at which a law changes or something jumps must be among the times. A jump lies in a step of its own, shorter than a
nanosecond, for which nothing is told: there everything is as at one of its ends. Lengths in mm, times in s, angles in rad.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.document.lookup import find
from kestrav.core.document.records import (
    Attachment,
    Ball,
    Castor,
    Gear,
    Part,
    PoseTrack,
    Rod,
    Run,
    TimedRotation,
    Wheel,
)
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.bounds import MOST_TURN, WORLD, Bound, Points, at, lifted, where
from kestrav.core.kinematics.key_poses import travelled, turned_so_far
from kestrav.core.kinematics.law_changes import INSTANT
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import MotionSegment, active, by_thing, segments_of
from kestrav.core.kinematics.path_displacement import OnPath
from kestrav.core.kinematics.seating import reference_matrix
from kestrav.core.mechanisms.gears import pitch_radius, ratio
from kestrav.core.mechanisms.joints import Joint
from kestrav.core.mechanisms.linkage import unit
from kestrav.core.parts.rest import placement_matrix, rest_and_pivot

Array = NDArray[np.float64]

_TINY = 1e-12


class Displacement:
    """How far the things of a project go at most in each step between times (m + 1,)."""

    def __init__(self, motion: Motion, times: Array) -> None:
        self.motion, self.times = motion, times
        self.project = motion.project
        self.middle = 0.5 * (times[:-1] + times[1:])
        self.sudden = np.diff(times) <= 2.5 * INSTANT
        self._known: dict[tuple[object, ...], Bound] = {}
        self._busy: set[str] = set()

    def between(self, one: str, mine: Points, two: str, theirs: Points) -> Array:
        """How far (m,) in mm points of two things go at most to each other in each step; 0 in the steps of jumps."""
        frames = [WORLD, *(chain(self.motion, one) & chain(self.motion, two))]
        bound = np.full(len(self.middle), np.inf)
        for frame in frames:
            bound = np.minimum(bound, self.of(one, frame, mine).distance + self.of(two, frame, theirs).distance)
        return np.where(self.sudden, 0.0, bound)

    def of(self, thing: str, frame: str, points: Points) -> Bound:
        """How far points of a thing go at most as seen from another (or from the world)."""
        if thing == frame:
            return self._none()
        if thing in self._busy:
            # of two that turn to each other one is taken as at rest
            return self._none() if frame == WORLD else self._unknown()
        line = None if points.line is None else points.line.tobytes()
        key = (thing, frame, points.centres.tobytes(), points.radii.tobytes(), line)
        if key not in self._known or self._busy:
            bound = self._joined(thing, frame, points, self.motion.joints_on(thing))
            bound = Bound(np.where(self.sudden, 0.0, bound.distance), np.where(self.sudden, 0.0, bound.turn))
            if self._busy:
                return bound
            self._known[key] = bound
        return self._known[key]

    def _none(self) -> Bound:
        return Bound(np.zeros(len(self.middle)), np.zeros(len(self.middle)))

    def _unknown(self) -> Bound:
        return Bound(np.full(len(self.middle), np.inf), np.full(len(self.middle), np.inf))

    def _steps(self, values: Array) -> Array:
        """By how much (m,) values (m + 1,) change that go one way in each step."""
        return np.abs(np.diff(values))

    def _cells(self, grid: Array) -> NDArray[np.intp]:
        """In which cell of a grid each step lies."""
        return np.clip(np.searchsorted(grid, self.middle) - 1, 0, len(grid) - 2)

    # within what carries it

    def _joined(self, thing: str, frame: str, points: Points, joints: Sequence[Joint]) -> Bound:
        """With the first of a thing's joints."""
        if not joints:
            return self._unturned(thing, frame, points)
        joint, before = joints[-1], joints[:-1]
        if joint.role == "turns":
            amount = self.amount(joint)
            away, held = points.about(joint.axle.origin, joint.axle.direction)
            below = self._joined(thing, frame, held, before)
            return Bound(below.distance + np.minimum(amount, MOST_TURN) * away, below.turn + amount)
        if joint.role == "slides":
            amount = self.amount(joint)
            slid = self.motion.amount(joint, self.times)
            low, high = float(slid.min(initial=0.0)), float(slid.max(initial=0.0))
            middle = 0.5 * (low + high) * unit(joint.axle.direction)
            reach = 0.5 * (high - low) + float(amount.max(initial=0.0))
            held = Points(points.centres + middle, points.radii + min(reach, 1e9))
            below = self._joined(thing, frame, held, before)
            return Bound(below.distance + amount, below.turn)
        if isinstance(joint.item, Ball):
            return self._rolled_ball(joint.item, frame, points, before)
        assert isinstance(joint.item, Rod)
        return self._rod(joint.item, frame, points, before)

    def amount(self, joint: Joint) -> Array:
        """How much (m,) a joint turns (rad) or slides (mm) its part in each step at most."""
        key = ("amount", joint.item.id, joint.part, joint.role)
        if key not in self._known:
            amount = np.where(self.sudden, 0.0, self._amount(joint))
            self._known[key] = Bound(amount, amount)
        return self._known[key].distance

    def _amount(self, joint: Joint) -> Array:
        item = joint.item
        if isinstance(item, (TimedRotation, Castor)):
            # one way between the ramps of a rotation; evenly over each cell of a castor's grid
            return self._steps(self.motion.amount(joint, self.times))
        if isinstance(item, Wheel):
            return self._wheel(item)
        if isinstance(item, Gear):
            return self._driven(item, joint)
        assert isinstance(item, Rod)
        if item.keeps == "slider":
            return self._slid(item)
        return self._rocked(item) if item.keeps == "rocker" else self._coupled(item, joint)

    def _wheel(self, roll: Wheel) -> Array:
        """By the way of its centre along the level way ahead, and by its own turn about the axle, which is spread evenly over a cell."""
        rolling = self.motion.rolling(roll)
        base = self._unturned(roll.part, WORLD, at(roll.axle.origin))
        poses = self.motion.unturned(roll.part, self.times)
        axis = poses[:, :3, :3] @ unit(roll.axle.direction)
        level = np.hypot(axis[:, 0], axis[:, 1])
        flat = np.maximum(0.5 * (level[:-1] + level[1:] - base.turn), 1e-9)
        k = self._cells(rolling.path.times)
        share = np.diff(self.times) / np.diff(rolling.path.times)[k]
        # the way since the cell's start, for as long as its way ahead turns
        centre = poses[:, :3, :3] @ np.array(roll.axle.origin) + poses[:, :3, 3]
        since = np.maximum(*(np.linalg.norm(c - rolling.path.centre[k], axis=1) for c in (centre[:-1], centre[1:])))
        turning = np.minimum(0.5 * (since + base.distance) * base.turn / flat, 2.0 * (since + base.distance))
        distance = base.distance + turning + share * np.abs(rolling.left_over[k])
        own = share * np.abs(np.diff(rolling.path.own))[k]
        return np.asarray((1.0 + abs(roll.slip)) * distance / roll.radius + own)

    def _driven(self, gear: Gear, joint: Joint) -> Array:
        side = "b" if joint.part == gear.b.part else "a"
        other = gear.a if side == "b" else gear.b
        turned = np.zeros(len(self.middle))
        for mine in self.motion.joints_on(other.part):
            if mine.role in ("turns", "slides") and mine.item is not gear:
                turned = turned + self.amount(mine)
        shift_a, shift_b = self._shifts(gear)
        if side == "b":
            return shift_b + ratio(gear) * (turned + shift_a)
        return shift_a + (turned + shift_b) / ratio(gear)

    def _shifts(self, gear: Gear) -> tuple[Array, Array]:
        """By how much both ends come to stand otherwise to each other."""
        none = np.zeros(len(self.middle))
        if self.motion.carried_alike(gear.a.part, gear.b.part):
            return none, none
        stands = self.motion.stands(gear, self.times)
        frames = [WORLD, *(chain(self.motion, gear.a.part) & chain(self.motion, gear.b.part))]
        best: tuple[Array, Array] | None = None
        centre = at(gear.a.axle.origin), at(gear.b.axle.origin)
        seen = np.linalg.norm(self._seen_from_b(gear) - np.array(gear.b.axle.origin), axis=1)
        long = np.maximum(seen[:-1], seen[1:])
        for frame in frames:
            one = self._unturned(gear.a.part, frame, centre[0])
            two = self._unturned(gear.b.part, frame, centre[1])
            distance, turn = one.distance + two.distance, one.turn + two.turn
            if best is None:
                best = distance, turn
            else:
                better = distance + turn < best[0] + best[1]
                best = np.where(better, distance, best[0]), np.where(better, turn, best[1])
        assert best is not None
        distance, turn = best
        apart = np.maximum(0.5 * (stands.apart[:-1] + stands.apart[1:] - distance), 1e-9)
        if gear.kind == "rack":
            return turn, distance + turn * (long + distance)
        # the direction from the one to the other, as seen by each, and how it leans with their distance
        angle = (distance + 2.0 * (long + distance) * turn) / apart + turn
        if gear.kind in ("chain", "belt") and not gear.crossed:
            radii = abs(pitch_radius(gear, gear.a) - pitch_radius(gear, gear.b))
            angle = angle + radii * distance / (apart * np.sqrt(np.maximum(apart**2 - radii**2, 1e-12)))
        return angle, angle

    def _seen_from_b(self, gear: Gear) -> Array:
        """Where (n, 3) the first end's axle is in the second's coordinates."""
        one, two = (self.motion.unturned(part, self.times) for part in (gear.a.part, gear.b.part))
        seen: Array = (inverse_rigid(two) @ one)[:, :3, :3] @ np.array(gear.a.axle.origin)
        return seen + (inverse_rigid(two) @ one)[:, :3, 3]

    # rods

    def _pin_distance(self, rod: Rod, base: str, frame_of: Points) -> tuple[Array, Array]:
        """How far the crank's pin goes at most as seen by a part with nothing turned, and where (n, 3) it is in that one's coordinates."""
        frames = [WORLD, *(chain(self.motion, rod.crank.part) & chain(self.motion, base))]
        seen = np.einsum(
            "nij,nj->ni",
            inverse_rigid(self.motion.unturned(base, self.times))[:, :3, :3],
            self.motion.pin(rod.crank.part, rod.crank.at, self.times)
            - self.motion.unturned(base, self.times)[:, :3, 3],
        )
        reach = np.linalg.norm(seen - frame_of.centres[0], axis=1).max(initial=0.0)
        bound = np.full(len(self.middle), np.inf)
        for frame in frames:
            pin = self.of(rod.crank.part, frame, at(rod.crank.at)).distance
            under = self._unturned(base, frame, frame_of)
            bound = np.minimum(bound, pin + under.distance + under.turn * reach)
        return bound, seen

    def _slid(self, rod: Rod) -> Array:
        """The slider's way: that of the pin along the line, and what the rod's slant makes of its way across."""
        assert rod.to is not None
        distance, seen = self._pin_distance(rod, rod.to.part, at(rod.to.at))
        line = unit(rod.line)
        off = np.array(rod.to.at) - seen
        across = np.linalg.norm(off - (off @ line)[:, None] * line, axis=1)
        most = np.maximum(across[:-1], across[1:]) + distance
        length = float(np.linalg.norm(np.array(rod.far) - np.array(rod.near)))
        slant = np.sqrt(np.maximum(length**2 - most**2, 0.0))
        # near a dead end the square root has no slope: between two places it changes by the root of the difference at most
        root = 2.0 * np.sqrt(2.0 * most * distance)
        return np.asarray(
            distance + np.where(slant > 0, np.minimum(most * distance / np.maximum(slant, _TINY), root), root)
        )

    def _rocked(self, rod: Rod) -> Array:
        """The rocker's turn: that of the direction to the crank's pin, and of the angle of the triangle at its axle."""
        assert rod.to is not None
        distance, seen = self._pin_distance(rod, rod.to.part, at(rod.axle.origin))
        axis, origin = unit(rod.axle.direction), np.array(rod.axle.origin)
        off = seen - origin
        height = off @ axis
        away = np.linalg.norm(off - height[:, None] * axis, axis=1)
        arm = np.array(rod.to.at) - origin
        radius = float(np.linalg.norm(arm - (arm @ axis) * axis))
        least = np.maximum(0.5 * (away[:-1] + away[1:] - distance), 1e-9)
        most = np.maximum(away[:-1], away[1:]) + distance
        length = float(np.linalg.norm(np.array(rod.far) - np.array(rod.near)))
        lift = np.maximum(np.abs(height[:-1] - arm @ axis), np.abs(height[1:] - arm @ axis)) + distance
        change = distance * (1.0 / (2 * radius) + np.abs(length**2 - radius**2) / (2 * radius * least**2))
        change = change + lift * distance / (radius * least) + distance * lift**2 / (2 * radius * least**2)
        flat = np.maximum(length**2 - np.stack([height[:-1], height[1:]]) ** 2, 0.0)
        cosine = np.abs(
            (radius**2 + np.stack([away[:-1], away[1:]]) ** 2 - flat) / (2 * radius * np.stack([away[:-1], away[1:]]))
        )
        close = np.clip(cosine.max(axis=0) + change, 0.0, None)
        sine = np.sqrt(np.maximum(1.0 - np.minimum(close, 1.0) ** 2, 0.0))
        root = 2.0 * 2.23 * np.sqrt(change)  # |arccos x - arccos y| ≤ 2.23 sqrt |x - y|, at both ends
        spread = np.where(sine > 0, np.minimum(change / np.maximum(sine, _TINY), root), root)
        angles: Array = np.minimum(distance / least, MOST_TURN) + spread
        return np.where(most > 0, angles, 0.0)

    def _coupled(self, rod: Rod, joint: Joint) -> Array:
        """What a crank's turn is about another's axle: no more than it turns, where it does not swing out far."""
        frames = [WORLD, *(chain(self.motion, rod.crank.part) & chain(self.motion, joint.part))]
        turn = np.full(len(self.middle), np.inf)
        for frame in frames:
            crank = self.of(rod.crank.part, frame, at(rod.crank.at)).turn
            turn = np.minimum(turn, crank + self._unturned(joint.part, frame, at(joint.axle.origin)).turn)
        upright = self.motion.swing(rod, joint, self.times)
        least = np.maximum(np.minimum(upright[:-1], upright[1:]) - 0.5 * turn, 1e-3)
        return turn / least

    def _rod(self, rod: Rod, frame: str, points: Points, before: Sequence[Joint]) -> Bound:
        near, far = np.array(rod.near), np.array(rod.far)
        pin = self.of(rod.crank.part, frame, at(rod.crank.at))
        base = self._joined(rod.part, frame, at(near), before)
        away = points.from_point(near)
        if rod.keeps == "level" or rod.to is None:
            return Bound(pin.distance + np.minimum(base.turn, MOST_TURN) * away, base.turn)
        target = self.of(rod.to.part, frame, at(rod.to.at))
        pins = self.motion.pin(rod.crank.part, rod.crank.at, self.times)
        targets = self.motion.pin(rod.to.part, rod.to.at, self.times)
        distance = pin.distance + target.distance
        normal = self.motion.plane(rod, self.times)
        plane = self._plane_turn(rod, frame)
        step = targets - pins
        flat = np.linalg.norm(step - np.einsum("ni,ni->n", step, normal)[:, None] * normal, axis=1)
        apart = np.linalg.norm(step, axis=1)
        most = np.maximum(apart[:-1], apart[1:]) + distance
        least = np.maximum(0.5 * (flat[:-1] + flat[1:] - distance - 4 * most * plane), 1e-9)
        before_ = self.motion.unturned(rod.part, self.times)[:, :3, :3] @ (far - near)
        flat_before = np.linalg.norm(before_ - np.einsum("ni,ni->n", before_, normal)[:, None] * normal, axis=1)
        long = float(np.linalg.norm(far - near))
        least_before = np.maximum(0.5 * (flat_before[:-1] + flat_before[1:] - long * (base.turn + 4 * plane)), 1e-9)
        # in the plane by the directions of both pins and of the rod before, and by the plane's own turn; out of it by what is left
        angle = (distance + 2 * most * plane) / least + long * (base.turn + 2 * plane) / least_before
        turn = base.turn + angle + 2 * plane
        tilt = np.abs(np.einsum("ni,ni->n", unit(step), normal) - np.einsum("ni,ni->n", unit(before_), normal))
        if float(tilt.max(initial=0.0)) > 1e-9:
            turn = turn + np.sqrt(2.0) * (turn + distance / np.maximum(0.5 * (apart[:-1] + apart[1:] - distance), 1e-9))
        return Bound(pin.distance + np.minimum(turn, MOST_TURN) * away, turn)

    def _plane_turn(self, rod: Rod, frame: str) -> Array:
        assert rod.to is not None
        part = rod.to.part if rod.keeps == "rocker" else rod.crank.part
        return self._unturned(part, frame, at((0.0, 0.0, 0.0))).turn

    def _rolled_ball(self, ball: Ball, frame: str, points: Points, before: Sequence[Joint]) -> Bound:
        centre = self._joined(ball.part, frame, at(ball.centre), before)
        roll = self.motion.ball_rotation(ball)
        seen = self.motion.ball_centres(ball, self.times)
        if ball.on is None:
            ground, distance = self._none(), self._joined(ball.part, WORLD, at(ball.centre), before).distance
            if frame != WORLD:
                ground = self._unknown()
        else:
            reach = np.linalg.norm(seen, axis=1).max(initial=0.0)
            ground = self.of(ball.on, frame, at((0.0, 0.0, 0.0)))
            frames = [WORLD, *(chain(self.motion, ball.part) & chain(self.motion, ball.on))]
            distance = np.full(len(self.middle), np.inf)
            for other in frames:
                below = self.of(ball.on, other, at((0.0, 0.0, 0.0)))
                mine = self._joined(ball.part, other, at(ball.centre), before).distance
                distance = np.minimum(distance, mine + below.distance + below.turn * reach)
        k = self._cells(roll.times)
        cells = np.diff(roll.times)[k]
        share = np.diff(self.times) / cells
        since = np.maximum(*(np.linalg.norm(c - roll.centre[k], axis=1) for c in (seen[:-1], seen[1:]))) + distance
        leaning = 0.5 * np.linalg.norm(np.diff(roll.normal, axis=0), axis=1)[k]
        turn = (
            (distance + since * leaning * share) / ball.radius
            + share * np.linalg.norm(roll.swing, axis=1)[k]
            + ground.turn
        )
        return Bound(centre.distance + np.minimum(turn, MOST_TURN) * points.from_point(ball.centre), turn)

    # what carries it

    def _unturned(self, thing: str, frame: str, points: Points) -> Bound:
        return self._by_segments(thing, segments_of(self.project, thing), frame, points)

    def _by_segments(self, thing: str, segments: Sequence[MotionSegment], frame: str, points: Points) -> Bound:
        if not segments:
            return self._unled(thing, frame, points)
        which = active(segments, self.middle)
        bound = self._unknown()
        for k in np.unique(which):
            bound = where(which == k, self._in_segment(thing, segments, int(k), frame, points), bound)
        return bound

    def _unled(self, thing: str, frame: str, points: Points) -> Bound:
        item = find(self.project, thing)
        if isinstance(item, Part) and item.parent is not None:
            return self.of(item.parent, frame, points.moved(placement_matrix(item.placement)))
        return self._none() if frame == WORLD else self._unknown()

    def _in_segment(self, thing: str, segments: Sequence[MotionSegment], k: int, frame: str, points: Points) -> Bound:
        segment, item = segments[k], segments[k].item
        bound = self._led(thing, segments, k, frame, points)
        resting = np.zeros(len(self.middle), bool)
        if isinstance(item, Run):
            resting |= (item.before == "rests") & (self.middle < segment.start)
            resting |= (item.after == "rests") & (self.middle > segment.end)
        elif isinstance(item, Attachment):
            resting |= self.middle < segment.start
        if resting.any():
            bound = where(resting, self._unled(thing, frame, points), bound)
        blend = 0.0 if isinstance(item, Attachment) else item.blend
        young = (self.middle >= segment.start) & (self.middle < segment.start + blend)
        if blend > 0 and k > 0 and young.any():
            pivot = rest_and_pivot(self.project, thing)[1]
            place = at(pivot[:3, 3])
            before = self._by_segments(thing, segments[:k], frame, place)
            after = self._led(thing, segments, k, frame, place)
            one, two = (
                self.motion.by_segments(thing, segments[:k], self.times),
                self.motion.led(thing, segments, k, self.times),
            )
            shares = np.clip((self.times - segment.start) / blend, 0.0, 1.0)
            mixed = self._mixed(points.from_point(pivot[:3, 3]), pivot, before, after, one, two, shares)
            bound = where(young, mixed, bound)
        return bound

    def _mixed(
        self, away: float, pivot: Array, before: Bound, after: Bound, one: Array, two: Array, shares: Array
    ) -> Bound:
        """Of what is brought over from one motion to another, both with bounds of the pivot, at poses (n, 4, 4) by shares (n,)."""
        if not np.isfinite(before.distance + after.distance).all():
            # where one of them is not seen from here nothing is told
            known = np.isfinite(before.distance + after.distance)
            first, second = (where(known, bound, self._none()) for bound in (before, after))
            return where(known, self._mixed(away, pivot, first, second, one, two, shares), self._unknown())
        weight = self._steps(shares**3 * (10 - 15 * shares + 6 * shares**2))
        a, b = one @ pivot, two @ pivot
        far = np.linalg.norm(b[:, :3, 3] - a[:, :3, 3], axis=1)
        apart = np.maximum(far[:-1], far[1:]) + before.distance + after.distance
        angle = scipy.spatial.transform.Rotation.from_matrix(np.swapaxes(a[:, :3, :3], 1, 2) @ b[:, :3, :3]).magnitude()
        turning = before.turn + after.turn
        most = np.maximum(angle[:-1], angle[1:]) + turning
        # the axis of a half turn is not known: it may be any
        sure = most < np.pi - 1e-6
        turn = np.where(sure, before.turn + weight * most + 0.5 * np.pi * turning, MOST_TURN)
        distance = before.distance + after.distance + weight * apart
        return Bound(distance + np.minimum(turn, MOST_TURN) * away, turn)

    def _led(self, thing: str, segments: Sequence[MotionSegment], k: int, frame: str, points: Points) -> Bound:
        segment, item = segments[k], segments[k].item
        world = frame == WORLD
        if isinstance(item, PoseTrack):
            if not world:
                return self._unknown()
            return self._key_poses(thing, item, segment, points)
        if isinstance(item, Attachment):
            return self._attached(thing, segments, k, frame, points)
        assert segment.course is not None
        if not world:
            return self._unknown()
        rider = item.rider
        rest, pivot = rest_and_pivot(self.project, rider)
        reference = reference_matrix(self.project, item, pivot)
        mine = points.moved(inverse_rigid(rest) @ rest_and_pivot(self.project, thing)[0]) if rider != thing else points
        key = ("run", item.id)
        if key not in self._known or self._busy:
            again = rider in self._busy
            self._busy.add(rider)
            try:
                bound = OnPath(self, segment.course).bound()
            finally:
                if not again:
                    self._busy.discard(rider)
            if self._busy:
                return lifted(bound, mine.from_point(reference[:3, 3]))
            self._known[key] = bound
        return lifted(self._known[key], mine.from_point(reference[:3, 3]))

    def _key_poses(self, thing: str, poses: PoseTrack, segment: MotionSegment, points: Points) -> Bound:
        pivot = rest_and_pivot(self.project, thing)[1]
        if not np.isfinite(segment.start):
            return self._none()
        since = np.clip(self.times - segment.start, 0.0, poses.keys[-1].time)
        distance = travelled(poses, since[:-1], since[1:])
        turn = np.abs(turned_so_far(poses, since[1:]) - turned_so_far(poses, since[:-1]))
        return lifted(Bound(distance, turn), points.from_point(pivot[:3, 3]))

    def _attached(self, thing: str, segments: Sequence[MotionSegment], k: int, frame: str, points: Points) -> Bound:
        segment, attachment = segments[k], segments[k].item
        assert isinstance(attachment, Attachment)
        if not np.isfinite(segment.start):
            return self._unled(thing, frame, points)
        relative = self.motion.taken(thing, segments, k)
        bound = self.of(attachment.carrier, frame, points.moved(relative))
        if attachment.put is not None and np.isfinite(segment.end):
            bound = self._put_down(thing, attachment, segment, relative, frame, points, bound)
        # at its end it stays where it is in the room
        stays = self._none() if frame == WORLD else self._unknown()
        return where(self.middle > segment.end, stays, bound)

    def _put_down(
        self,
        thing: str,
        attachment: Attachment,
        segment: MotionSegment,
        relative: Array,
        frame: str,
        points: Points,
        bound: Bound,
    ) -> Bound:
        begins_ = max(segment.end - attachment.lowering, segment.start)
        late = (self.middle >= begins_) & (self.middle < segment.end)
        if not late.any():
            return bound
        pivot = rest_and_pivot(self.project, thing)[1]
        place = at(pivot[:3, 3])
        assert attachment.put is not None
        down = placement_matrix(attachment.put) @ inverse_rigid(pivot)
        if attachment.onto is None:
            after = self._none() if frame == WORLD else self._unknown()
            there = np.broadcast_to(down, (len(self.times), 4, 4))
        else:
            after = self.of(attachment.onto, frame, place.moved(down))
            there = self.motion.poses(attachment.onto, self.times) @ down
        before = self.of(attachment.carrier, frame, place.moved(relative))
        riding = self.motion.poses(attachment.carrier, self.times) @ relative
        shares = np.clip((self.times - begins_) / max(segment.end - begins_, 1e-9), 0.0, 1.0)
        mixed = self._mixed(points.from_point(pivot[:3, 3]), pivot, before, after, riding, there, shares)
        return where(late, mixed, bound)


def chain(motion: Motion, thing: str) -> set[str]:
    """All that a thing can hang on, and itself: what it lies in, is attached to, put down on or rolls on, and what its rods hang on."""
    project = motion.project
    moving = by_thing(project)
    chain: set[str] = set()
    left = [thing]
    while left:
        here = left.pop()
        if here in chain:
            continue
        chain.add(here)
        item = find(project, here)
        if isinstance(item, Part) and item.parent is not None:
            left.append(item.parent)
        for mover in moving.get(here, ()):
            if isinstance(mover, Attachment):
                left += [mover.carrier, *(() if mover.onto is None else (mover.onto,))]
        for joint in motion.joints_on(here):
            if isinstance(joint.item, Rod) and joint.role == "rod":
                left.append(joint.item.crank.part)
    return chain
