"""A tree of poses grown from where the thing stands, for ways that are too tight to be planned at large.

A rapidly-exploring tree (S. LaValle, "Planning Algorithms", Cambridge University Press 2006, chapter 5) that is grown from cells that were
seldom gone on from (I. Şucan and L. Kavraki, "A sampling-based tree planner for systems with complex dynamics", IEEE Transactions on
Robotics 28(1), 2012), by motions that parts make: straight along a direction, a turn about a point of the part, towards poses whose axes
are the room's. What is stopped slides on: what is left of the motion is gone without the share that stopped it. From what is new it is
looked for a straight pull. Lengths in mm, angles in rad.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import cache

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.extraction.problem import Budget, Problem
from kestrav.core.extraction.pulls import exit_travel, shape_axes
from kestrav.core.extraction.removal_poses import Pose, composed, leaning, pose, pose_between, rotated, stir, turn_of
from kestrav.core.geometry.faces import Vector, vector
from kestrav.core.geometry.meshes import box_corners
from kestrav.core.geometry.roundness import widest_gap

Array = NDArray[np.float64]
Tick = Callable[[float], None]

_STEP = 0.03  # of the mean size of what is moved, that is gone between two looks
_FINEST, _COARSEST = 0.1, 4.0  # mm
_CELL, _TURN_CELL = 0.12, np.radians(20.0)  # of the size and of a turn, that one cell is wide
_APART = 8  # cells that are drawn, of which the one least gone on from is taken
_KEPT_AFTER = 0.08  # of the size, that a pose is from the next one of a motion that is kept
_PULLED_APART, _PULLED_TURN = (
    0.12,
    np.radians(7.0),
)  # of the size and of a turn, that poses are apart from which pulls are tried
_GLANCES = np.array(
    (0.01, 0.03, 0.06, 0.12, 0.18, 0.25, 0.37, 0.5, 0.75, 1.0)
)  # of a pull, at which it is looked before it is gone along
_SPARE = 0.25  # of a step, that everything is to be farther apart than needed at each
_SAME_RING = 5e-3  # of the size, by which the corners of one ring may differ
_ROUND = np.radians(46.0)  # between neighbours of a ring of corners: eight sides are taken for round


@cache
def _quarters() -> tuple[Vector, ...]:
    """The turns (rotation vectors) that leave a cube as it was."""
    return tuple(vector(turn) for turn in scipy.spatial.transform.Rotation.create_group("O").as_rotvec())


class _Tree(msgspec.Struct, eq=False):
    """Poses that were reached, each from another one (``parents``); and in which cells they lie."""

    poses: list[Pose] = msgspec.field(default_factory=list)
    parents: list[int] = msgspec.field(default_factory=list)
    cells: dict[tuple[int, ...], list[int]] = msgspec.field(default_factory=dict)
    picked: dict[tuple[int, ...], int] = msgspec.field(default_factory=dict)
    keys: list[tuple[int, ...]] = msgspec.field(default_factory=list)
    _coordinates: Array = msgspec.field(default_factory=lambda: np.empty((256, 7)))

    def add(self, at: Pose, parent: int, key: tuple[int, ...], coordinates: Array) -> int:
        """Keep a pose, and tell its number."""
        number = len(self.poses)
        if number >= len(self._coordinates):
            self._coordinates = np.concatenate([self._coordinates, np.empty_like(self._coordinates)])
        self._coordinates[number] = coordinates
        self.poses.append(at)
        self.parents.append(parent)
        if key not in self.cells:
            self.keys.append(key)
        self.cells.setdefault(key, []).append(number)
        return number

    def nearest(self, coordinates: Array) -> int:
        """The number of the pose that is nearest to coordinates (7,)."""
        own = self._coordinates[: len(self.poses)]
        far = np.square(own[:, :3] - coordinates[:3]).sum(axis=1)
        # a turn and its quaternion's negative are one
        turned = 2.0 * (coordinates[3:] @ coordinates[3:]) - 2.0 * np.abs(own[:, 3:] @ coordinates[3:])
        return int(np.argmin(far + turned))

    def way_to(self, number: int) -> list[Pose]:
        """The poses from the first one to a number."""
        poses = []
        while number >= 0:
            poses.append(self.poses[number])
            number = self.parents[number]
        return poses[::-1]


def grown(
    problem: Problem,
    directions: list[Array],
    budget: Budget,
    seed: int,
    *,
    upright: bool = False,
    tilt: float | None = None,
    tick: Tick | None = None,
    start: Pose | None = None,
) -> list[Pose] | None:
    """An extraction path, or to the problem's goal, from a start (none: where the things stand) as poses between which it goes straight; None if none is
    found within a budget. Its legs are to be shown free."""
    return _Growing(
        problem, directions, budget, seed, upright=upright, tilt=tilt, tick=tick, start=start or Pose()
    ).way()


_ON_PULLS = 0.3  # of all looks, that are spent on whether it comes straight out from where the tree has got
_FIRST_PULLS = 2000  # looks, of which so much may be spent on that from the start


class _Growing:
    def __init__(
        self,
        problem: Problem,
        directions: list[Array],
        budget: Budget,
        seed: int,
        *,
        upright: bool,
        tilt: float | None,
        tick: Tick | None,
        start: Pose,
    ) -> None:
        self.start = start
        self.problem, self.directions, self.budget, self.tick = problem, directions, budget, tick
        self.upright, self.tilt = upright, tilt
        self.rng = np.random.default_rng(seed)
        box = problem.moved_box(Pose())
        self.corners = np.concatenate([box_corners(body.box) for body in problem.movers])
        self.box, self.size = box, float(np.mean(np.ptp(box, axis=0)))
        self.across = float(np.linalg.norm(np.ptp(box, axis=0)))
        # what a turn brings points about, on the average
        self.arm = float(np.linalg.norm(self.corners - problem.pivot, axis=1).mean())
        axis = round_about(problem)
        self.spun = None if axis is None else vector(axis)
        own = [*problem.axes.T, *shape_axes(problem)]
        self.axes = [*np.eye(3), *(axis for axis in own if np.abs(axis).max() < 0.999)]
        # along edges and diagonals it is gone, but not looked whether they lead out
        self.main = [
            direction for direction in directions if any(abs(float(direction @ axis)) > 0.999 for axis in self.axes)
        ] or directions
        self.step = float(np.clip(_STEP * self.size, _FINEST, _COARSEST))
        # where it stands less is left
        self.spare = next((s for s in (_SPARE * self.step, 0.1 * _SPARE * self.step) if problem.free_at(start, s)), 0.0)
        self.tree = _Tree()
        self.pulled: set[tuple[int, ...]] = set()
        self.began, self.spent_on_pulls = problem.measured - _FIRST_PULLS, 0

    def way(self) -> list[Pose] | None:
        """The way, grown until it is found or the budget is spent."""
        if not self.problem.free_at(self.start):
            return None
        node = self._new(self.start, -1)
        moves = [self._straight, self._towards, self._slightly]
        if not self.upright:
            moves += [self._turned, self._turned, self._squared]
        while node is None and not self.budget.spent:
            if self.tick is not None:
                self.tick(self.budget.share)
            node = moves[int(self.rng.integers(len(moves)))]()
        return node

    # motions, each of which tells the extraction path if it finds it

    def _straight(self) -> list[Pose] | None:
        """From somewhere straight along a direction, one of those given or any."""
        start = self._picked()
        direction = (
            self.directions[int(self.rng.integers(len(self.directions)))] if self.rng.random() < 0.7 else self._unit()
        )
        far = self.across * 2.0 ** -self.rng.integers(-1, 4)
        return self._go(
            start, pose(np.array(self.tree.poses[start].translation) + far * direction, self.tree.poses[start].turn)
        )

    def _towards(self) -> list[Pose] | None:
        """From the nearest towards a pose anywhere, whose turn is one of the room's quarters, that of a known pose, or any."""
        problem = self.problem
        if problem.goal is not None and self.rng.random() < 0.15:
            target = problem.goal
        else:
            low = np.maximum(problem.room[0], problem.box[0] - self.across) - self.box[0]
            high = np.minimum(problem.room[1], problem.box[1] + self.across) - self.box[1]
            translation = self.rng.uniform(np.minimum(low, high), np.maximum(low, high))
            target = pose(translation, self._some_turn())
        start = self.tree.nearest(self._coordinates(target.translation, self._seen_turn(target)))
        return self._go(start, target)

    def _slightly(self) -> list[Pose] | None:
        """From somewhere a little, in way and turn."""
        start = self._picked()
        at = self.tree.poses[start]
        share = 2.0 ** -self.rng.uniform(0.0, 5.0)
        translation = np.array(at.translation) + share * self.across * self.rng.normal(0.0, 0.5, 3)
        return self._go(
            start,
            pose(translation, at.turn if self.upright else self._turned_by(at, share * self.rng.normal(0.0, 0.7, 3))),
        )

    def _turned(self) -> list[Pose] | None:
        """From somewhere about an axis through a point of the part, often to where its axes are the room's."""
        start = self._picked()
        at = self.tree.poses[start]
        axis = self.axes[int(self.rng.integers(len(self.axes)))] if self.rng.random() < 0.8 else self._unit()
        if self.rng.random() < 0.3 and len(self.axes) > 3:
            axis = np.array(rotated(vector(axis), at.turn))
        angle = self.rng.choice((-1.0, 1.0)) * np.radians(
            self.rng.choice((15.0, 30.0, 45.0, 90.0, 180.0)) * self.rng.uniform(0.5, 1.0)
        )
        own = self.problem.pivot if self.rng.random() < 0.4 else self.rng.uniform(self.box[0], self.box[1])
        about = np.array(rotated(vector(own - self.problem.pivot), at.turn))
        count = max(int(np.ceil(abs(angle) / np.radians(12.0))), 1)
        for k in range(1, count + 1):
            turn = vector(k / count * angle * axis)
            end = pose(
                np.array(at.translation) + about - np.array(rotated(vector(about), turn)), composed(turn, at.turn)
            )
            before = len(self.tree.poses)
            poses = self._go(start, end)
            if poses is not None or len(self.tree.poses) == before or self.tree.poses[-1] != end:
                return poses
            start = len(self.tree.poses) - 1
        return None

    def _squared(self) -> list[Pose] | None:
        """From somewhere on the spot to where its axes are the room's."""
        start = self._picked()
        quarter = _quarters()[int(self.rng.integers(len(_quarters())))]
        return self._go(start, pose(self.tree.poses[start].translation, quarter))

    # going

    def _go(self, start: int, target: Pose, *, sliding: bool = True) -> list[Pose] | None:
        """Go on from a known pose towards a target, and slide on where that is stopped."""
        begin = self.tree.poses[start]
        whole = stir(begin, target, self.arm)
        if whole < self.step:
            return None
        count = math.ceil(whole / self.step)
        shares = np.arange(1, count + 1) / count
        reached = self._free_until(begin, target, shares)
        keep = max(int(_KEPT_AFTER * self.size / self.step), 1)
        last = start
        for k in (*range(keep, reached, keep), reached):
            if k == 0:
                break
            at = target if k == len(shares) else pose_between(begin, target, float(shares[k - 1]))
            node = self._new(at, last)
            last = len(self.tree.poses) - 1
            if node is not None:
                return node
        if reached == len(shares) or not sliding:
            return None
        return self._slide(last, self.tree.poses[last], target)

    def _slide(self, start: int, here: Pose, target: Pose) -> list[Pose] | None:
        """What is left of a motion without what may stop it: of its way along an axis, or of its turn."""
        step = np.subtract(target.translation, here.translation)
        first = int(self.rng.integers(5))
        for kind in (first, (first + 1 + int(self.rng.integers(4))) % 5):
            if kind < 3:
                axis = self.axes[kind] if self.rng.random() < 0.7 else self._unit()
                end = pose(np.array(here.translation) + step - (step @ axis) * axis, target.turn)
            elif kind == 3:
                end = pose(target.translation, here.turn)
            else:
                end = pose(here.translation, target.turn)
            slide = self._go(start, end, sliding=False)
            if slide is not None:
                return slide
        return None

    def _new(self, at: Pose, parent: int) -> list[Pose] | None:
        """Keep a pose; and the extraction path if it is there or a straight pull from there is free."""
        turn = self._seen_turn(at)
        cell = _cell(at.translation, turn, _CELL * self.size, _TURN_CELL)
        number = self.tree.add(at, parent, cell, self._coordinates(at.translation, turn))
        if self.problem.out(at):
            return self.tree.way_to(number)
        key = _cell(at.translation, turn, _PULLED_APART * self.size, _PULLED_TURN)
        if key in self.pulled or self.spent_on_pulls > _ON_PULLS * (self.problem.measured - self.began):
            return None
        self.pulled.add(key)
        before = self.problem.measured
        try:
            return self._pulled(number)
        finally:
            self.spent_on_pulls += self.problem.measured - before

    def _pulled(self, number: int) -> list[Pose] | None:
        at = self.tree.poses[number]
        if self.problem.goal is not None:
            ends = [self.problem.goal]
        else:
            ends = []
            for direction in self.main:
                far = exit_travel(self.problem, at, direction)
                if np.isfinite(far):
                    ends.append(pose(np.array(at.translation) + far * direction, at.turn))
        for end in ends:
            # at a few places, and then all along
            if self._free_until(at, end, _GLANCES) < len(_GLANCES):
                continue
            if self.problem.likely_free(at, end):
                return [*self.tree.way_to(number), end]
        return None

    def _free_until(self, one: Pose, two: Pose, shares: Array) -> int:
        """At how many of shares (n,) of a motion, from the first on, all is free."""
        if self.tilt is not None and not self.upright:
            banks = np.array([leaning(pose_between(one, two, float(share))) > self.tilt for share in shares])
            shares = shares[: int(np.argmax(banks))] if banks.any() else shares
        return self.problem.free_until(one, two, shares, self.spare)

    # choices

    def _picked(self) -> int:
        """A known pose, of a cell that was seldom gone on from."""
        tree = self.tree
        some = [tree.keys[int(k)] for k in self.rng.integers(len(tree.keys), size=_APART)]
        key = min(some, key=lambda k: tree.picked.get(k, 0))
        tree.picked[key] = tree.picked.get(key, 0) + 1
        mine = tree.cells[key]
        return mine[int(self.rng.integers(len(mine)))]

    def _some_turn(self) -> Vector:
        kind = self.rng.random()
        if self.upright:
            return (0.0, 0.0, 0.0)
        if kind < 0.5:
            return _quarters()[int(self.rng.integers(len(_quarters())))]
        if kind < 0.75:
            return self.tree.poses[int(self.rng.integers(len(self.tree.poses)))].turn
        return turn_of(self.rng.normal(size=4))

    def _turned_by(self, at: Pose, turn: Array) -> Vector:
        return composed(vector(turn), at.turn)

    def _unit(self) -> Array:
        axis: Array = self.rng.normal(size=3)
        return np.asarray(axis / np.linalg.norm(axis))

    def _coordinates(self, translation: Vector, turn: Vector) -> Array:
        # the chord between unit quaternions is half the angle
        angle = math.hypot(*turn)
        part = math.sin(0.5 * angle) / angle if angle > 1e-12 else 0.5
        return np.array(
            [*translation, *(2.0 * self.arm * v for v in (*(part * v for v in turn), math.cos(0.5 * angle)))]
        )

    def _seen_turn(self, at: Pose) -> Vector:
        """A pose's turn, without how far what is round is turned about its own axis. By plain numbers: it is asked of every new pose, and
        arrays of three take twenty times as long."""
        if self.spun is None:
            return at.turn
        (x, y, z), there = self.spun, rotated(self.spun, at.turn)
        a, b, c = y * there[2] - z * there[1], z * there[0] - x * there[2], x * there[1] - y * there[0]
        sine, cosine = math.hypot(a, b, c), x * there[0] + y * there[1] + z * there[2]
        if sine < 1e-9:
            return (0.0, 0.0, 0.0) if cosine > 0 else vector(math.pi * _any_across(np.array(self.spun)))
        share = math.atan2(sine, cosine) / sine
        return share * a, share * b, share * c


def _cell(translation: Vector, turn: Vector, wide: float, turned: float) -> tuple[int, ...]:
    """The cell of a place and a turn, of a width in mm and one in rad."""
    return (*(round(v / wide) for v in translation), *(round(v / turned) for v in turn))


def _any_across(axis: Array) -> Array:
    across = np.cross(axis, np.eye(3)[int(np.argmin(np.abs(axis)))])
    return np.asarray(across / np.linalg.norm(across))


def round_about(problem: Problem) -> Array | None:
    """The axis (3,) through the pivot about which a single thing is round, so that turning it about that changes nothing; None if it is not."""
    if len(problem.movers) != 1:
        return None
    shape = problem.movers[0].shape
    step = shape.vertices - problem.pivot
    size = float(np.ptp(shape.bounds, axis=0).max())
    for axis in shape_axes(problem):
        heights = step @ axis
        across = step - heights[:, None] * axis
        radii = np.linalg.norm(across, axis=1)
        first = _any_across(axis)
        angles = np.arctan2(across @ np.cross(axis, first), across @ first)
        rings = np.round(np.stack([heights, radii], axis=1) / (_SAME_RING * size)).astype(np.int64)
        _, ring = np.unique(rings, axis=0, return_inverse=True)
        if all(
            radii[mine].max() <= _SAME_RING * size or widest_gap(angles[mine]) <= _ROUND
            for k in range(int(ring.max()) + 1)
            if len(mine := np.flatnonzero(ring.reshape(-1) == k))
        ):
            return axis
    return None
