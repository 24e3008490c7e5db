"""Wheels by the way they roll, castors and rotations: angles about an axle in time. Lengths in mm, times in s, angles in rad."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Axle, Castor, Project, TimedRotation, Wheel
from kestrav.core.geometry.transforms import rigid
from kestrav.core.kinematics.runs import begins

Array = NDArray[np.float64]
Base = Callable[[Array], Array]
"""World matrices (n, 4, 4) at times (n,) of a part with nothing turned about its own axle."""

RATE = 120.0  # steps a second in which ways are added up
_MOST_STEPS = 200_000
_UP = np.array([0.0, 0.0, 1.0])


def turned_about(axle: Axle, angles: ArrayLike) -> Array:
    """Rotations (n, 4, 4) by angles (n,) about an axle, in the part's own coordinates (O. Rodrigues' formula)."""
    angles = np.asarray(angles, float)
    axis = np.array(axle.direction) / np.linalg.norm(axle.direction)
    x, y, z = axis
    cross = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    s, c = np.sin(angles)[:, None, None], np.cos(angles)[:, None, None]
    rotation = np.eye(3) + s * cross + (1 - c) * (cross @ cross)
    origin = np.array(axle.origin)
    return rigid(rotation, origin - rotation @ origin)


class Track(msgspec.Struct, frozen=True, eq=False):
    """Where a wheel's centre (n, 3) is at times (n,), its axle (n, 3), the way ahead that it rolls (n, 3), and how far the part has
    turned about the axle by itself since the first time (n,)."""

    times: Array
    centre: Array
    ahead: Array
    own: Array


def track(base: Base, axle: Axle, times: Array) -> Track:
    """The track of a wheel with nothing rolled, from the poses that carry it.

    ``ahead`` is the level way across its axle; a wheel whose axle is upright has none (zero).
    """
    poses = base(times)
    centre, ahead = _where_and_ahead(poses, axle)
    return Track(times, centre, ahead, _own_turn(poses, np.array(axle.direction) / np.linalg.norm(axle.direction)))


def _where_and_ahead(poses: Array, axle: Axle) -> tuple[Array, Array]:
    """The middle of an axle (n, 3) and the level way across it (n, 3), at poses (n, 4, 4)."""
    direction = np.array(axle.direction) / np.linalg.norm(axle.direction)
    centre = poses[:, :3, :3] @ np.array(axle.origin) + poses[:, :3, 3]
    axis = poses[:, :3, :3] @ direction
    size = np.hypot(axis[:, 0], axis[:, 1])
    scale = np.where(size > 1e-9, 1.0 / np.maximum(size, 1e-12), 0.0)
    return centre, np.column_stack([axis[:, 1] * scale, -axis[:, 0] * scale, np.zeros(len(axis))])


def _own_turn(poses: Array, direction: Array) -> Array:
    """How far a part has turned about its own axle since the first pose (n,), step by step."""
    turn = poses[:-1, :3, :3].transpose(0, 2, 1) @ poses[1:, :3, :3]
    # the turn of each step about the axle, small as the steps are: half the antisymmetric part is the sine's axis
    sines = 0.5 * np.stack(
        [turn[:, 2, 1] - turn[:, 1, 2], turn[:, 0, 2] - turn[:, 2, 0], turn[:, 1, 0] - turn[:, 0, 1]], axis=1
    )
    steps = np.arcsin(np.clip(sines @ direction, -1.0, 1.0))
    return np.concatenate([[0.0], np.cumsum(steps)])


def rolled(path: Track) -> Array:
    """The way (n,) rolled since the first time: of the centre along the way ahead.

    The middle of both ends' ways ahead goes with each chord, and the error that this has with the square of the step is
    taken out by the same of every other step (L. F. Richardson, 1911).
    """
    fine = _along(path.centre, path.ahead)
    if len(fine) < 3:
        return fine
    coarse = _along(path.centre[::2], path.ahead[::2])
    off = (fine[::2] - coarse) / 3
    return fine + np.interp(np.arange(len(fine)), np.arange(0, len(fine), 2), off)


def _along(centre: Array, ahead: Array) -> Array:
    steps = np.einsum("ij,ij->i", np.diff(centre, axis=0), 0.5 * (ahead[:-1] + ahead[1:]))
    return np.concatenate([[0.0], np.cumsum(steps)])


def sideways(path: Track) -> Array:
    """The way (n,) by which a wheel has been dragged across since the first time, whichever way."""
    across = np.cross(_UP, path.ahead)
    steps = np.einsum("ij,ij->i", np.diff(path.centre, axis=0), 0.5 * (across[:-1] + across[1:]))
    return np.concatenate([[0.0], np.cumsum(np.abs(steps))])


@lru_cache(maxsize=8)
def grid(end: float) -> Array:
    """Times (n,) from 0 to an end in which ways are added up: an odd number of them, so that every other one is a coarser such
    grid."""
    count = int(np.clip(np.ceil(end * RATE), 8, _MOST_STEPS))
    return np.linspace(0.0, end, count + count % 2 + 1)


class Rolling(msgspec.Struct, frozen=True, eq=False):
    """A wheel's track with the way it has rolled at every time (n,), and what of that each step's own way leaves over (n - 1,)."""

    roll: Wheel
    path: Track
    distance: Array
    left_over: Array

    def angles(self, times: ArrayLike, base: Base) -> Array:
        """Angles (n,) about the axle at times (n,): of the last time that was added up, and from there on by itself."""
        inside: Array = np.asarray(times, float)
        if len(inside) and (inside.min() < self.path.times[0] or inside.max() > self.path.times[-1]):
            inside = np.clip(inside, self.path.times[0], self.path.times[-1])
        k = np.clip(np.searchsorted(self.path.times, inside, side="right") - 1, 0, len(self.path.times) - 2)
        share = (inside - self.path.times[k]) / (self.path.times[k + 1] - self.path.times[k])
        centre, ahead = _where_and_ahead(base(inside), self.roll.axle)
        step = np.einsum("ij,ij->i", centre - self.path.centre[k], 0.5 * (ahead + self.path.ahead[k]))
        distance = self.distance[k] + step + share * self.left_over[k]
        own = self.path.own[k] + share * (self.path.own[k + 1] - self.path.own[k])
        angles: Array = np.radians(self.roll.start) + (1.0 + self.roll.slip) * distance / self.roll.radius - own
        return angles


def rolling(roll: Wheel, base: Base, times: Array) -> Rolling:
    """A wheel's rolling over a grid of times."""
    path = track(base, roll.axle, times)
    distance = rolled(path)
    return Rolling(roll, path, distance, np.diff(distance) - np.diff(_along(path.centre, path.ahead)))


def castors(castor: Castor, base: Base, times: Array) -> Array:
    """Angles (n,) of a castor about its kingpin at a grid of times (n,), from where it stands in its part.

    Without trail it looks along the way of its kingpin, forwards or backwards, whichever is nearer to how it stood; with
    trail its wheel follows as a towed body does (the tractrix, by Heun's method). It stands while nothing moves.
    """
    poses = base(times)
    axis = np.array(castor.kingpin.direction) / np.linalg.norm(castor.kingpin.direction)
    place = poses[:, :3, :3] @ np.array(castor.kingpin.origin) + poses[:, :3, 3]
    ahead = np.array(castor.forward) - (np.array(castor.forward) @ axis) * axis
    ahead /= np.linalg.norm(ahead)
    left = np.cross(axis, ahead)
    # the step of the kingpin as the part itself sees it
    step = np.einsum("nji,nj->ni", 0.5 * (poses[:-1, :3, :3] + poses[1:, :3, :3]), np.diff(place, axis=0))
    x, y = step @ ahead, step @ left
    if castor.trail <= 0:
        return _looking(x, y)
    turned = _own_turn(poses, axis)
    angle = np.zeros(len(times))
    for k in range(len(step)):
        rotation = turned[k + 1] - turned[k]
        # a towed wheel turns by what of the step goes across it, and is left behind by the turn of what tows it
        first = (y[k] * np.cos(angle[k]) - x[k] * np.sin(angle[k])) / castor.trail - rotation
        guess = angle[k] + first
        second = (y[k] * np.cos(guess) - x[k] * np.sin(guess)) / castor.trail - rotation
        angle[k + 1] = angle[k] + 0.5 * (first + second)
    return angle


def _looking(x: Array, y: Array) -> Array:
    """Directions (n + 1,) of steps (n,), as lines: never more than a quarter turn from the one before; held where it stands."""
    moving = np.hypot(x, y) > 1e-9
    if not moving.any():
        return np.zeros(len(x) + 1)
    raw = np.arctan2(y[moving], x[moving])
    # as lines the directions have half turns between them; the first is the one nearest to straight ahead
    lines = 0.5 * np.unwrap(2 * raw)
    lines -= np.pi * np.round(lines[0] / np.pi)
    middles = np.flatnonzero(moving) + 0.5
    looking: Array = np.interp(np.arange(len(x) + 1), middles, lines)
    return looking


def ramps(project: Project, rotation: TimedRotation) -> Array:
    """Times (k,) in s at which a rotation begins and ends, and its ramps."""
    start = begins(project, rotation)
    if not np.isfinite(start):
        return np.empty(0)
    length, ramp_in, ramp_out = _ramps(rotation)
    stations = start + np.array([0.0, ramp_in, length - ramp_out, length])
    return stations[np.isfinite(stations)]


def _ramps(rotation: TimedRotation) -> tuple[float, float, float]:
    """How long a rotation lasts (infinite: without end), and its ramps, in s."""
    length = np.inf if rotation.end is None else max(rotation.end - rotation.start, 1e-9)
    ramp_in, ramp_out = rotation.ramp_in, rotation.ramp_out if np.isfinite(length) else 0.0
    if ramp_in + ramp_out > length:
        shrunk = length / (ramp_in + ramp_out)
        ramp_in, ramp_out = ramp_in * shrunk, ramp_out * shrunk
    return length, ramp_in, ramp_out


def spun(project: Project, rotation: TimedRotation, times: ArrayLike) -> Array:
    """Angles (n,) of a rotation at times (n,): at rest before it, at a steady speed between ramps in which speed grows evenly,
    and held after its end."""
    times = np.asarray(times, float)
    start = begins(project, rotation)
    if not np.isfinite(start):
        return np.zeros(len(times))
    since = np.maximum(times - start, 0.0)
    length, ramp_in, ramp_out = _ramps(rotation)
    sense = -1.0 if rotation.mirrored else 1.0
    if rotation.turns is not None:
        rate = sense * 2 * np.pi * rotation.turns / (length - 0.5 * (ramp_in + ramp_out))
    else:
        assert rotation.rpm is not None
        rate = sense * 2 * np.pi * rotation.rpm / 60.0
    t = np.minimum(since, length)
    turned = rate * np.where(t < ramp_in, 0.5 * t**2 / max(ramp_in, 1e-12), t - 0.5 * ramp_in)
    if ramp_out > 0:
        left = np.maximum(t - (length - ramp_out), 0.0)
        turned = turned - rate * 0.5 * left**2 / ramp_out
    return np.asarray(turned)
