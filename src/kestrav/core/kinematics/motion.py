"""Where the things of a project are: what moves them, and what turns and drives them within that."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.lookup import find
from kestrav.core.document.records import (
    Attachment,
    Ball,
    Castor,
    Gear,
    Part,
    PoseTrack,
    Project,
    Rod,
    Run,
    TimedRotation,
    Turner,
    Wheel,
)
from kestrav.core.geometry.transforms import inverse_rigid, rigid
from kestrav.core.kinematics.dependencies import dependencies
from kestrav.core.kinematics.key_poses import pivot_poses, velocities
from kestrav.core.kinematics.motion_segments import MotionSegment, active, moving_state, segments_of
from kestrav.core.kinematics.rolling import Rolling, castors, grid, rolling, spun, turned_about
from kestrav.core.kinematics.runs import span
from kestrav.core.kinematics.seating import rider_poses
from kestrav.core.mechanisms.balls import BallRoll, ball_rotation, plane_normals, turned_at
from kestrav.core.mechanisms.gears import Stand, follow, stand
from kestrav.core.mechanisms.joints import Joint, joints, joints_of
from kestrav.core.mechanisms.linkage import (
    Reach,
    continued,
    nearer,
    rocker_turns,
    slider_distances,
    turned_as,
    turned_toward,
    unit,
)
from kestrav.core.memo import Memo
from kestrav.core.parts.rest import placement_matrix, rest_and_pivot

Array = NDArray[np.float64]


class _Kept(msgspec.Struct, eq=False):
    """What wheels, castors, gears, rods and balls need of the whole of a project's time, worked out when first asked for."""

    grid: Array
    poses: dict[str, Array] = msgspec.field(default_factory=dict)
    wheels: dict[str, Rolling] = msgspec.field(default_factory=dict)
    angles: dict[tuple[str, str], Array] = msgspec.field(default_factory=dict)  # by what turns and whom, at the grid
    balls: dict[str, BallRoll] = msgspec.field(default_factory=dict)


_wheels: Memo[_Kept] = Memo(4)


def _kept_of(project: Project) -> _Kept:
    """What is kept for a project, by the identity of all that moves something in it."""
    end = span(project)
    # whole seconds, so that a little more or less time leaves what is known as it is
    return _wheels.get(moving_state(project), lambda: _Kept(grid(float(np.ceil(end)))), end)


# what was worked out of a wheel or castor for an earlier document in which all that it hangs on was the same
_earlier: Memo[object] = Memo(4096)


_BALL_STEP, _MOST_FINER = 0.1, 16  # rad, and into how many a step of the grid is divided at most
_ALONG = 0.99  # cosine above which two directions are one


def rod_length(rod: Rod) -> float:
    """How far apart a rod's own pins are, in mm."""
    return float(np.linalg.norm(np.array(rod.far) - np.array(rod.near)))


class Motion:
    """Where the things of a project are."""

    def __init__(self, project: Project) -> None:
        self.project = project
        self._busy: set[str] = set()
        # most projects need nothing of what wheels do
        self._joints = joints(project)
        self._held: Array | None = None
        self._at_held: dict[str, Array] = {}
        self._taken: dict[tuple[str, str], Array] = {}

    def poses(self, thing: str, times: ArrayLike) -> Array:
        """World matrices (n, 4, 4) of a part, camera or light at times (n,)."""
        times = np.asarray(times, float)
        if not self._joints:
            return self.unturned(thing, times)
        known = self._kept
        if times is known.grid and thing in known.poses:
            return known.poses[thing]
        if times is self._held and thing in self._at_held:
            return self._at_held[thing]
        poses = self.unturned(thing, times)
        for joint in self._joints.get(thing, ()):
            poses = self._moved(joint, poses, times)
        if self._busy:
            return poses  # asked for by what turns to it, and so perhaps with that taken as at rest
        if times is known.grid:
            known.poses[thing] = poses
        elif times is self._held:
            self._at_held[thing] = poses
        return poses

    def joints_on(self, part: str) -> list[Joint]:
        """What moves a part within what carries it, in the order in which it does."""
        return self._joints.get(part, [])

    def hold(self, times: Array) -> Array:
        """Keep what is found at these times (n,), by the array itself: things that are carried ask for their carrier again."""
        self._held, self._at_held = times, {}
        return times

    @property
    def grid(self) -> Array:
        """Times (n,) from 0 to past the end, at which what is found is kept."""
        return self._kept.grid

    @cached_property
    def _kept(self) -> _Kept:
        return _kept_of(self.project)

    def unturned(self, thing: str, times: Array) -> Array:
        """World matrices (n, 4, 4) of a thing at times (n,), not moved within what carries it."""
        return self.by_segments(thing, segments_of(self.project, thing), times)

    # within what carries it

    def _moved(self, joint: Joint, poses: Array, times: Array) -> Array:
        """World matrices (n, 4, 4) as a joint makes them."""
        item = joint.item
        if joint.role == "turns":
            return np.asarray(poses @ turned_about(joint.axle, self.amount(joint, times)))
        if joint.role == "slides":
            moved = poses.copy()
            line = unit(joint.axle.direction)
            moved[:, :3, 3] += self.amount(joint, times)[:, None] * (poses[:, :3, :3] @ line)
            return moved
        if isinstance(item, Ball):
            return self._ball(item, poses, times)
        assert isinstance(item, Rod)
        return self._rod(item, poses, times)

    def amount(self, joint: Joint, times: ArrayLike) -> Array:
        """How far a joint turns its part (n, in rad) or slides it (n, in mm) at times (n,)."""
        times, item = np.asarray(times, float), joint.item
        if isinstance(item, TimedRotation):
            return spun(self.project, item, times)
        if isinstance(item, Gear):
            return self._driven(item, joint, times)
        if isinstance(item, Rod):
            if item.keeps == "slider":
                reach, first = self.slider(item, times), self.slider_first(item)
                return reach.one if first else reach.two
            return self._rocked(item, times) if item.keeps == "rocker" else self._coupled(item, joint, times)
        known = self._kept

        def base(moments: Array) -> Array:
            return self.unturned(joint.part, moments)

        if isinstance(item, Castor):
            if (item.id, item.part) not in known.angles:
                of = (item, known.grid, *dependencies(self.project, item.part))
                amounts = _earlier.get(of, lambda: castors(item, base, known.grid))
                assert isinstance(amounts, np.ndarray)
                known.angles[item.id, item.part] = amounts
            amount: Array = np.interp(times, known.grid, known.angles[item.id, item.part])
            return amount
        assert isinstance(item, Wheel)
        return self.rolling(item).angles(times, base)

    def angles(self, item: Turner, times: ArrayLike) -> Array:
        """Angles (n,) in rad by which something first of all turns a part at times (n,); a slider's way in mm."""
        mine = [j for j in joints_of(self.project, item) if j.role in ("turns", "slides")]
        times = np.asarray(times, float)
        return self.amount(mine[0], times) if mine else np.zeros(len(times))

    def rolling(self, roll: Wheel) -> Rolling:
        """A wheel's track and the way it rolls, over the whole project."""
        known = self._kept
        if roll.id not in known.wheels:
            of = (roll, known.grid, *dependencies(self.project, roll.part))
            rolled = _earlier.get(of, lambda: rolling(roll, lambda t: self.unturned(roll.part, t), known.grid))
            assert isinstance(rolled, Rolling)
            known.wheels[roll.id] = rolled
        return known.wheels[roll.id]

    # gears

    def turned(self, part: str, axle_direction: ArrayLike, times: ArrayLike, exclude: Turner | None = None) -> Array:
        """How far (n,) a part's joints, but one, turn it about a direction of its own or slide it along that."""
        times = np.asarray(times, float)
        angle, direction = np.zeros(len(times)), unit(axle_direction)
        for joint in self._joints.get(part, ()):
            same = float(unit(joint.axle.direction) @ direction)
            if joint.role in ("turns", "slides") and joint.item is not exclude and abs(same) > _ALONG:
                angle = angle + np.sign(same) * self.amount(joint, times)
        return angle

    def stands(self, gear: Gear, times: Array) -> Stand:
        """How both ends of a drive stand to each other at times (n,)."""
        return stand(gear, self.unturned(gear.a.part, times), self.unturned(gear.b.part, times))

    def _driven(self, gear: Gear, joint: Joint, times: Array) -> Array:
        side = "b" if joint.part == gear.b.part else "a"
        other = gear.a if side == "b" else gear.b
        turned = self.turned(other.part, other.axle.direction, times, gear)
        rest = stand(gear, *(rest_and_pivot(self.project, end.part)[0][None] for end in (gear.a, gear.b)))
        if self.carried_alike(gear.a.part, gear.b.part):
            none = np.zeros(len(times))
            return follow(gear, side, rest.sense, turned, none, none)
        known, key = self._kept, (gear.id, "")
        if key not in known.angles:
            known.angles[key] = np.array(self._shifts(gear, rest, known.grid, None))
        shift_a, shift_b = self._shifts(gear, rest, times, known.angles[key])
        return follow(gear, side, rest.sense, turned, shift_a, shift_b)

    def _shifts(self, gear: Gear, rest: Stand, times: Array, known: Array | None) -> tuple[Array, Array]:
        """How both ends stand otherwise to each other than at rest, with the whole turns that led there."""
        now = self.stands(gear, times)
        a, b = now.a - rest.a, now.b - rest.b
        if known is None:
            return np.unwrap(a), b if gear.kind == "rack" else np.unwrap(b)
        a = turned_as(a, np.interp(times, self._kept.grid, known[0]))
        return a, b if gear.kind == "rack" else turned_as(b, np.interp(times, self._kept.grid, known[1]))

    def carried_alike(self, one: str, two: str) -> bool:
        """Whether two parts are carried by the same thing, so that they do not move to each other but by their joints."""
        return self._carrier(one) == self._carrier(two)

    def _carrier(self, part: str) -> str | None:
        here: str | None = part
        while here is not None:
            if segments_of(self.project, here) or (here != part and here in self._joints):
                return here
            item = find(self.project, here)
            here = item.parent if isinstance(item, Part) else None
        return None

    # rods

    def pin(self, part: str, at: ArrayLike, times: Array) -> Array:
        """Where (n, 3) a point of a part (in its own coordinates) is at times (n,)."""
        poses = self.poses(part, times)
        pin: Array = poses[:, :3, :3] @ np.asarray(at, float) + poses[:, :3, 3]
        return pin

    def _rod(self, rod: Rod, base: Array, times: Array) -> Array:
        pins = self.pin(rod.crank.part, rod.crank.at, times)
        near, far = np.array(rod.near), np.array(rod.far)
        if rod.keeps == "level" or rod.to is None:
            return rigid(base[:, :3, :3], pins - base[:, :3, :3] @ near)
        targets = self.pin(rod.to.part, rod.to.at, times)
        return turned_toward(base, near, far, pins, targets, self.plane(rod, times))

    def plane(self, rod: Rod, times: Array) -> Array:
        """The normal (n, 3) of the plane in which a rod moves: along its rocker's or its crank's axle."""
        assert rod.to is not None
        if rod.keeps == "rocker":
            part, direction = rod.to.part, rod.axle.direction
        else:
            turns = [j for j in self._joints.get(rod.crank.part, ()) if j.role == "turns"]
            part = rod.crank.part
            direction = turns[0].axle.direction if turns else rod.axle.direction
        plane: Array = self.unturned(part, times)[:, :3, :3] @ unit(direction)
        return plane

    def slider(self, rod: Rod, times: Array) -> Reach:
        """Both ways (n,) in mm in which a rod's slider can stand at times (n,)."""
        assert rod.to is not None
        return self._slider(rod, self.pin(rod.crank.part, rod.crank.at, times), self.unturned(rod.to.part, times))

    def _slider(self, rod: Rod, pins: Array, base: Array) -> Reach:
        assert rod.to is not None
        place = base[:, :3, :3] @ np.array(rod.to.at) + base[:, :3, 3]
        return slider_distances(pins, place, base[:, :3, :3] @ unit(rod.line), rod_length(rod))

    def slider_first(self, rod: Rod) -> bool:
        """Whether a slider stands the first way: that in which it is built, or the other."""
        reach = self.slider_at_rest(rod)
        return bool(abs(reach.one[0]) <= abs(reach.two[0])) != rod.other

    def slider_at_rest(self, rod: Rod) -> Reach:
        """Both ways (1,) in mm in which a rod's slider can stand with nothing under way."""
        assert rod.to is not None
        return self._slider(rod, self._rest_pin(rod), rest_and_pivot(self.project, rod.to.part)[0][None])

    def _rest_pin(self, rod: Rod) -> Array:
        crank = rest_and_pivot(self.project, rod.crank.part)[0]
        rest_pin: Array = (crank[:3, :3] @ np.array(rod.crank.at) + crank[:3, 3])[None]
        return rest_pin

    def rocker(self, rod: Rod, times: Array) -> Reach:
        """Both angles (n,) in rad at which a rod's rocker can stand at times (n,)."""
        assert rod.to is not None
        return self._rocker(rod, self.pin(rod.crank.part, rod.crank.at, times), self.unturned(rod.to.part, times))

    def _rocker(self, rod: Rod, pins: Array, base: Array) -> Reach:
        assert rod.to is not None
        axis, origin = unit(rod.axle.direction), np.array(rod.axle.origin)
        arm = np.array(rod.to.at) - origin
        x = unit(arm - (arm @ axis) * axis)
        frame = np.stack([x, np.cross(axis, x), axis])
        own = np.einsum("nji,nj->ni", base[:, :3, :3], pins - base[:, :3, 3]) - origin
        return rocker_turns(own @ frame.T, frame @ arm, rod_length(rod))

    def _rocked(self, rod: Rod, times: Array) -> Array:
        assert rod.to is not None
        known, key = self._kept, (rod.id, rod.to.part)
        if key not in known.angles:
            rest = self._rocker(rod, self._rest_pin(rod), rest_and_pivot(self.project, rod.to.part)[0][None])
            first = bool(abs(np.sin(0.5 * rest.one[0])) <= abs(np.sin(0.5 * rest.two[0]))) != rod.other
            known.angles[key] = continued(self.rocker(rod, known.grid), first=first)
        return nearer(self.rocker(rod, times), np.interp(times, known.grid, known.angles[key]))

    def _coupled(self, rod: Rod, joint: Joint, times: Array) -> Array:
        """How far a crank has turned about the axle of what is coupled to it."""
        known, key = self._kept, (rod.id, joint.part)
        if key not in known.angles:
            known.angles[key] = np.unwrap(self._twist(rod, joint, known.grid))
        return turned_as(self._twist(rod, joint, times), np.interp(times, known.grid, known.angles[key]))

    def _twist(self, rod: Rod, joint: Joint, times: Array) -> Array:
        along, upright = self._twisting(rod, joint, times)
        return np.asarray(2 * np.arctan2(along, upright))

    def swing(self, rod: Rod, joint: Joint, times: Array) -> Array:
        """The cosines (n,) of half the angle by which a crank leans out of the axle of what is coupled to it."""
        return np.hypot(*self._twisting(rod, joint, times))

    def _twisting(self, rod: Rod, joint: Joint, times: Array) -> tuple[Array, Array]:
        """Of the quaternion of a crank's turn in a coupled part's axes: what lies along the axle, and its scalar."""
        rest = [rest_and_pivot(self.project, part)[0][:3, :3] for part in (joint.part, rod.crank.part)]
        base = self.unturned(joint.part, times)[:, :3, :3]
        crank = self.poses(rod.crank.part, times)[:, :3, :3]
        # how the crank stands in the coupled part's own axes, and how it did at rest
        turn = (base.transpose(0, 2, 1) @ crank) @ (rest[0].T @ rest[1]).T
        axis = unit(joint.axle.direction)
        quaternion = scipy.spatial.transform.Rotation.from_matrix(turn).as_quat()
        return quaternion[:, :3] @ axis, quaternion[:, 3]

    # balls

    def _ball(self, ball: Ball, base: Array, times: Array) -> Array:
        roll = self.ball_rotation(ball)
        centre, ground = self._on_ground(ball, base, times)
        turned = turned_at(roll, ball, times, centre)
        first = self.unturned(ball.part, np.zeros(1))
        ground_first = self.poses(ball.on, np.zeros(1)) if ball.on is not None else np.eye(4)[None]
        rotation = ground[:, :3, :3] @ turned @ ground_first[0, :3, :3].T @ first[0, :3, :3]
        middle = base[:, :3, :3] @ np.array(ball.centre) + base[:, :3, 3]
        return rigid(rotation, middle - rotation @ np.array(ball.centre))

    def ball_rotation(self, ball: Ball) -> BallRoll:
        """A ball's way and rotation over the whole project."""
        known = self._kept
        if ball.id not in known.balls:
            known.balls[ball.id] = self._ball_rotation(ball, self._fine_enough(ball))
        return known.balls[ball.id]

    def _on_ground(self, ball: Ball, base: Array, times: Array) -> tuple[Array, Array]:
        """A ball's centre (n, 3) as seen by what it rolls on, and the poses (n, 4, 4) of that."""
        centre = base[:, :3, :3] @ np.array(ball.centre) + base[:, :3, 3]
        if ball.on is None:
            return centre, np.broadcast_to(np.eye(4), (len(times), 4, 4))
        ground = self.poses(ball.on, times)
        return np.einsum("nji,nj->ni", ground[:, :3, :3], centre - ground[:, :3, 3]), ground

    def _fine_enough(self, ball: Ball) -> Array:
        """Times in whose steps a ball turns but little, as turns do not commute."""
        times = self._kept.grid
        steps = np.linalg.norm(np.diff(self.ball_centres(ball, times), axis=0), axis=1) / ball.radius
        finer = int(np.clip(np.ceil(steps.max(initial=0.0) / _BALL_STEP), 1, _MOST_FINER))
        return times if finer == 1 else np.linspace(times[0], times[-1], finer * (len(times) - 1) + 1)

    def _ball_rotation(self, ball: Ball, times: Array) -> BallRoll:
        centre, _ = self._on_ground(ball, self.unturned(ball.part, times), times)
        if ball.on is None or not ball.normals:
            normal = plane_normals(centre)
        else:
            grid = np.linspace(0.0, ball.until, len(ball.normals))
            normal = unit(np.column_stack([np.interp(times, grid, column) for column in np.array(ball.normals).T]))
        return ball_rotation(times, centre, normal, ball.radius)

    def ball_centres(self, ball: Ball, times: Array) -> Array:
        """A ball's centre (n, 3) at times (n,), in the coordinates of what it rolls on."""
        return self._on_ground(ball, self.unturned(ball.part, times), times)[0]

    # what carries it

    def by_segments(self, thing: str, segments: Sequence[MotionSegment], times: Array) -> Array:
        """World matrices (n, 4, 4) of a thing that only some of its segments move, at times (n,)."""
        if not segments:
            return self._unled(thing, times)
        which = active(segments, times)
        if len(which) and (which == which[0]).all():
            # the same times, not a copy of them: what is kept is found by the array
            return self._in_segment(thing, segments, int(which[0]), times)
        poses = np.empty((len(times), 4, 4))
        for k in np.unique(which):
            mine = which == k
            poses[mine] = self._in_segment(thing, segments, int(k), times[mine])
        return poses

    def _unled(self, thing: str, times: Array) -> Array:
        """Where a thing is that nothing moves by itself: with its parent, or at rest."""
        item = find(self.project, thing)
        if isinstance(item, Part) and item.parent is not None:
            poses: Array = self.poses(item.parent, times) @ placement_matrix(item.placement)
            return poses
        return np.broadcast_to(rest_and_pivot(self.project, thing)[0], (len(times), 4, 4))

    def _in_segment(self, thing: str, segments: Sequence[MotionSegment], k: int, times: Array) -> Array:
        segment = segments[k]
        poses = self.led(thing, segments, k, times)
        item = segment.item
        resting = np.zeros(len(times), bool)
        if isinstance(item, Run):
            if item.before == "rests":
                resting |= times < segment.start
            if item.after == "rests":
                resting |= times > segment.end
        elif isinstance(item, Attachment):
            resting |= times < segment.start
        if resting.any():
            poses = poses.copy()
            poses[resting] = self._unled(thing, times[resting])
        blend = 0.0 if isinstance(item, Attachment) else item.blend
        if blend > 0 and k > 0:
            young = (times >= segment.start) & (times < segment.start + blend)
            if young.any():
                poses = poses.copy()
                before = self.by_segments(thing, segments[:k], times[young])
                poses[young] = self._between(thing, before, poses[young], (times[young] - segment.start) / blend)
        return poses

    def led(self, thing: str, segments: Sequence[MotionSegment], k: int, times: Array) -> Array:
        """World matrices (n, 4, 4) by a segment alone, also before its start and after its end."""
        segment, item = segments[k], segments[k].item
        if isinstance(item, PoseTrack):
            pivot = rest_and_pivot(self.project, thing)[1]
            since = times - segment.start if np.isfinite(segment.start) else np.zeros(len(times))
            poses: Array = pivot_poses(item, since) @ inverse_rigid(pivot)
            return poses
        if isinstance(item, Attachment):
            if not np.isfinite(segment.start):
                return self._unled(thing, times)
            relative = self.taken(thing, segments, k)
            riding = np.clip(times, segment.start, segment.end)
            poses = self.poses(item.carrier, riding) @ relative
            return poses if item.put is None else self._put_down(thing, item, segment, riding, poses)
        assert segment.course is not None
        rider = item.rider
        again = rider in self._busy
        self._busy.add(rider)
        try:
            poses = rider_poses(self.project, segment.course, times, self._where)
        finally:
            if not again:
                self._busy.discard(rider)
        if rider != thing:
            poses = (
                poses @ inverse_rigid(rest_and_pivot(self.project, rider)[0]) @ rest_and_pivot(self.project, thing)[0]
            )
        return poses

    def taken(self, thing: str, segments: Sequence[MotionSegment], k: int) -> Array:
        """How (4, 4) a thing stands in what carries it, as one of its segments takes it up."""
        segment, item = segments[k], segments[k].item
        assert isinstance(item, Attachment)
        key = (thing, item.id)
        if key in self._taken and not self._busy:
            return self._taken[key]
        start = np.array([segment.start])
        poses: Array = (
            inverse_rigid(self.poses(item.carrier, start)[0]) @ self.by_segments(thing, segments[:k], start)[0]
        )
        if not self._busy:
            self._taken[key] = poses
        return poses

    def _put_down(
        self, thing: str, attachment: Attachment, segment: MotionSegment, times: Array, poses: Array
    ) -> Array:
        """World matrices (n, 4, 4) of an attachment that ends where its rider is put down, at times within the attachment."""
        begins = max(segment.end - attachment.lowering, segment.start)
        late = times >= min(begins, segment.end)
        if attachment.put is None or not late.any():
            return poses
        down = placement_matrix(attachment.put) @ inverse_rigid(rest_and_pivot(self.project, thing)[1])
        there = np.broadcast_to(down, (int(late.sum()), 4, 4))
        if attachment.onto is not None:
            there = self.poses(attachment.onto, times[late]) @ there
        shares = np.minimum((times[late] - begins) / max(segment.end - begins, 1e-9), 1.0)
        poses = poses.copy()
        poses[late] = there if segment.end <= begins else self._between(thing, poses[late], there, shares)
        return poses

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
        start = scipy.spatial.transform.Rotation.from_matrix(a[:, :3, :3])
        turn = (start.inv() * scipy.spatial.transform.Rotation.from_matrix(b[:, :3, :3])).as_rotvec()
        rotation = (start * scipy.spatial.transform.Rotation.from_rotvec(w[:, None] * turn)).as_matrix()
        poses: Array = rigid(rotation, places) @ inverse_rigid(pivot)
        return poses


def thing_speeds(project: Project, thing: str, times: ArrayLike) -> Array:
    """A thing's speeds (n,) in mm/s at times (n,), by all that moves it; 0 while nothing does."""
    times = np.asarray(times, float)
    segments = segments_of(project, thing)
    which = active(segments, times) if segments else np.zeros(len(times), np.intp)
    speeds = np.zeros(len(times))
    for k, segment in enumerate(segments):
        mine = which == k
        if not mine.any():
            continue
        if segment.course is not None:
            speeds[mine] = segment.course.speeds(times[mine])
        elif isinstance(segment.item, PoseTrack):
            if np.isfinite(segment.start):
                speeds[mine] = np.linalg.norm(velocities(segment.item, times[mine] - segment.start), axis=1)
        else:
            speeds[mine] = _carried_speeds(Motion(project), thing, segments[: k + 1], times[mine])
    return speeds


_STEP = 1e-4  # s


def _carried_speeds(motion: Motion, thing: str, segments: Sequence[MotionSegment], times: Array) -> Array:
    around = np.concatenate([times - _STEP, times + _STEP])
    places = motion.by_segments(thing, segments, around)[:, :3, 3]
    speeds: Array = np.linalg.norm(places[len(times) :] - places[: len(times)], axis=1) / (2 * _STEP)
    return np.where((times >= segments[-1].start) & (times <= segments[-1].end), speeds, 0.0)
