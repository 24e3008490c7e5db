"""Frames of reference along a curve.

A frame is a (3, 3) matrix with columns forward, left, up. Two kinds are made: rotation-minimizing
frames, carried along by the double reflection method (Wang, Juettler, Zheng, Liu, "Computation of
Rotation Minimizing Frames", ACM Transactions on Graphics 27(1), 2008), and upright frames, whose left
stays level.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.arclength import Curve

Array = NDArray[np.float64]

_UP = np.array([0.0, 0.0, 1.0])
_NEAR_VERTICAL = np.sin(np.radians(12.0))  # closer to the vertical than this, level is no guide
_CLEAR_OF_VERTICAL = np.sin(np.radians(14.0))  # that at places between those looked at it is not closer than that
_TURN_PER_SAMPLE = np.radians(1.5)
_FEWEST, _MOST = 128, 4096


def double_reflection(points: ArrayLike, tangents: ArrayLike, start: ArrayLike) -> Array:
    """Carry a vector along samples of a curve with the least rotation.

    points (n, 3), unit tangents (n, 3), start (3,) perpendicular to the first tangent; returns unit
    vectors (n, 3). Fourth-order accurate in the sample distance (reference above, section 4). Samples
    at the same place (a kink) are joined by the smallest rotation between their tangents.
    """
    points, tangents = np.asarray(points, float), np.asarray(tangents, float)
    maps = _steps(points[:-1], tangents[:-1], points[1:], tangents[1:])
    carried = np.empty_like(points)
    vector = carried[0] = np.asarray(start, float)
    for index, step in enumerate(maps):
        vector = step @ vector
        carried[index + 1] = vector
    carried -= np.einsum("ij,ij->i", carried, tangents)[:, None] * tangents
    carried /= np.linalg.norm(carried, axis=1, keepdims=True)
    return carried


def _steps(from_point: Array, from_tangent: Array, to_point: Array, to_tangent: Array) -> Array:
    """The rotations (n, 3, 3) of single double-reflection steps."""
    chord = to_point - from_point
    square = np.einsum("ij,ij->i", chord, chord)
    together = square < 1e-18
    first = _mirror(chord)
    reflected = np.einsum("nij,nj->ni", first, from_tangent)
    steps = _mirror(to_tangent - reflected) @ first
    if together.any():
        steps[together] = _least_rotation(from_tangent[together], to_tangent[together])
    return steps


def _mirror(normal: Array) -> Array:
    """Householder reflections (n, 3, 3); the identity where the normal vanishes."""
    square = np.einsum("ij,ij->i", normal, normal)
    safe = np.where(square > 1e-24, square, 1.0)
    outer = np.where((square > 1e-24)[:, None, None], normal[:, :, None] * normal[:, None, :], 0.0)
    return np.eye(3) - 2.0 * outer / safe[:, None, None]


def _least_rotation(from_tangent: Array, to_tangent: Array) -> Array:
    """Smallest rotations (n, 3, 3) between unit vectors; a half turn keeps the vectors across it."""
    total = from_tangent + to_tangent
    cosine = np.einsum("ij,ij->i", from_tangent, to_tangent)
    scale = np.where(cosine > -1 + 1e-12, 1.0 / np.maximum(1.0 + cosine, 1e-12), 0.0)
    rotation = (
        np.eye(3)
        - scale[:, None, None] * total[:, :, None] * total[:, None, :]
        + 2.0 * to_tangent[:, :, None] * from_tangent[:, None, :]
    )
    return rotation


@dataclass(frozen=True)
class FrameTable:
    """Samples of a curve from which frames at any station follow by one short step.

    stations (m,) and unit tangents (m, 3). What carried frames need is worked out when one is first asked for:
    upright ones do without any of it where the curve keeps clear of the vertical.
    """

    curve: Curve
    stations: Array
    tangents: Array

    @cached_property
    def _level(self) -> tuple[Array, Array]:
        level = np.cross(_UP, self.tangents)
        return level, np.linalg.norm(level, axis=1)

    @cached_property
    def points(self) -> Array:
        """Positions (m, 3)."""
        return self.curve.position(self.stations)

    @cached_property
    def _carrying(self) -> tuple[Array, float]:
        level, flatness = self._level
        tangents = self.tangents
        start = level[0] / flatness[0] if flatness[0] > _NEAR_VERTICAL else _across(tangents[0])
        carried = double_reflection(self.points, tangents, start)
        if not (self.curve.closed and np.dot(tangents[0], tangents[-1]) > 1 - 1e-9):
            return carried, 0.0
        # spread the turn that is left at the seam evenly, so that the frame closes
        rate = float(_signed_angle(carried[-1:], carried[:1], tangents[-1:])[0]) / self.curve.length
        return _turned(carried, tangents, rate * self.stations), rate

    @property
    def carried(self) -> Array:
        """Unit left vectors (m, 3) of rotation-minimizing frames."""
        return self._carrying[0]

    @property
    def twist_rate(self) -> float:
        """In rad/mm: by this a closed curve's carried vectors are turned so that they meet at the seam."""
        return self._carrying[1]

    @cached_property
    def upright(self) -> tuple[Array, Array]:
        """Angles (m,) in rad from the carried to the upright left, and senses (m,): +1 or -1 of the level left, or 0
        where the curve is too near the vertical for one."""
        level, flatness = self._level
        return _untwist(self.stations, self.tangents, self.carried, level, flatness, flatness > _NEAR_VERTICAL)


def frame_table(curve: Curve) -> FrameTable:
    """Sample a curve densely enough for frames at any station to follow by one short step."""
    return FrameTable(curve, *_samples(curve))


def carried_frames(curve: Curve, table: FrameTable, stations: ArrayLike) -> Array:
    """Rotation-minimizing frames (n, 3, 3) at stations (n,)."""
    _, tangent, left, _ = _step_to(curve, table, np.asarray(stations, float))
    return _columns(tangent, left)


def is_steady(curve: Curve) -> bool:
    """Whether level is a guide to upright frames all along a curve: it keeps clear of the vertical."""
    return bool(curve.flattest > _CLEAR_OF_VERTICAL)


def level_frames(curve: Curve, stations: ArrayLike) -> Array:
    """Upright frames (n, 3, 3) at stations (n,) of a curve that is steady."""
    tangent = curve.tangent(np.clip(stations, 0.0, curve.length))
    flat = np.sqrt(tangent[:, 0] ** 2 + tangent[:, 1] ** 2)
    frames = np.empty((len(tangent), 3, 3))
    frames[:, :, 0] = tangent
    # level and to the left, and the third across both
    frames[:, 0, 1], frames[:, 1, 1], frames[:, 2, 1] = -tangent[:, 1] / flat, tangent[:, 0] / flat, 0.0
    frames[:, 0, 2], frames[:, 1, 2] = -tangent[:, 2] * tangent[:, 0] / flat, -tangent[:, 2] * tangent[:, 1] / flat
    frames[:, 2, 2] = flat
    return frames


def upright_frames(curve: Curve, table: FrameTable, stations: ArrayLike) -> Array:
    """Frames (n, 3, 3) at stations (n,) whose left is level.

    Where the tangent is within 12 degrees of the vertical, level is no guide: there the carried frame
    is followed and the remaining turn is spread over the stretch, so nothing flips on the way through
    the vertical; past the top of a loop the frame goes on upside down, as a body on rails would.
    """
    stations = np.asarray(stations, float)
    below, tangent, carried, share = _step_to(curve, table, stations)
    level = np.cross(_UP, tangent)
    flatness = np.linalg.norm(level, axis=1)
    above = np.minimum(below + 1, len(table.stations) - 1)
    untwist, senses = table.upright
    angle = (1 - share) * untwist[below] + share * untwist[above]
    left = _turned(carried, tangent, angle)
    # beside a near-vertical stretch the sense is that of the side on which the level is a guide
    sense = np.where(senses[below] != 0, senses[below], senses[above])
    good = (flatness > _NEAR_VERTICAL) & (sense != 0)
    left[good] = sense[good, None] * level[good] / flatness[good, None]
    return _columns(tangent, left)


def _samples(curve: Curve) -> tuple[Array, Array]:
    """Stations with both tangents at every kink."""
    rough = np.linspace(0.0, curve.length, 257)
    turning = float(np.sum(np.arccos(np.clip(np.einsum("ij,ij->i", (t := curve.tangent(rough))[:-1], t[1:]), -1, 1))))
    count = int(np.clip(np.ceil(turning / _TURN_PER_SAMPLE), _FEWEST, _MOST))
    inner = curve.kink_stations[(curve.kink_stations > 0) & (curve.kink_stations < curve.length)]
    ends = np.concatenate([[0.0], inner, [curve.length]])
    stations, tangents = [], []
    for low, high in itertools.pairwise(ends):
        piece = np.linspace(low, high, max(8, int(np.ceil(count * (high - low) / curve.length))) + 1)
        tangent = curve.tangent(piece)
        tangent[-1] = curve.tangent(piece[-1:], before=True)[0]
        stations.append(piece)
        tangents.append(tangent)
    return np.concatenate(stations), np.concatenate(tangents)


def _untwist(
    stations: Array, tangents: Array, carried: Array, level: Array, flatness: Array, good: NDArray[np.bool_]
) -> tuple[Array, Array]:
    """Angle from the carried left to the upright left, and the sense in which level is taken."""
    if not good.any():
        # vertical throughout: left is the world's Y as nearly as can be
        wanted = np.broadcast_to(_across(tangents[0]), tangents.shape)
        angle = _signed_angle(carried[:1], wanted[:1], tangents[:1])[0]
        return np.full(len(stations), angle), np.zeros(len(stations))
    picked = np.flatnonzero(good)
    raw = _signed_angle(carried[picked], level[picked] / flatness[picked, None], tangents[picked])
    angles, senses = np.empty(len(picked)), np.empty(len(picked))
    turn, sense = raw[0], 1.0
    angles[0], senses[0] = turn, sense
    for k in range(1, len(picked)):
        here = raw[k] + (np.pi if sense < 0 else 0.0)
        change = _wrap(here - turn)
        if picked[k] > picked[k - 1] + 1 and abs(change) > np.pi / 2:
            sense, change = -sense, _wrap(change + np.pi)
        turn += change
        angles[k], senses[k] = turn, sense
    every = np.interp(stations, stations[picked], angles)
    every[picked] = angles
    every_sense = np.zeros(len(stations))
    every_sense[picked] = senses
    return every, every_sense


def _step_to(curve: Curve, table: FrameTable, stations: Array) -> tuple[NDArray[np.intp], Array, Array, Array]:
    """Carry the sample below each station to it: index below, tangent, left, share of the step."""
    stations = np.clip(stations, 0.0, curve.length)
    below = np.clip(np.searchsorted(table.stations, stations, side="right") - 1, 0, len(table.stations) - 1)
    tangent = _tangents(curve, table, stations)
    steps = _steps(table.points[below], table.tangents[below], curve.position(stations), tangent)
    left = np.einsum("nij,nj->ni", steps, table.carried[below])
    left = _turned(left, tangent, table.twist_rate * (stations - table.stations[below]))
    left -= np.einsum("ij,ij->i", left, tangent)[:, None] * tangent
    left /= np.linalg.norm(left, axis=1, keepdims=True)
    above = np.minimum(below + 1, len(table.stations) - 1)
    width = table.stations[above] - table.stations[below]
    share = np.where(width > 0, (stations - table.stations[below]) / np.where(width > 0, width, 1.0), 0.0)
    return below, tangent, left, share


def _tangents(curve: Curve, table: FrameTable, stations: Array) -> Array:
    """Unit tangents (n, 3); at the end that of the piece arrived on."""
    tangent = curve.tangent(stations)
    tangent[stations >= curve.length] = table.tangents[-1]
    return tangent


def _columns(forward: Array, left: Array) -> Array:
    return np.stack([forward, left, np.cross(forward, left)], axis=-1)


def _across(tangent: Array) -> Array:
    """A unit vector across a tangent, as near the world's Y as can be."""
    wish = np.array([0.0, 1.0, 0.0]) if abs(tangent[1]) < 0.9 else np.array([-1.0, 0.0, 0.0])
    wish = wish - np.dot(wish, tangent) * tangent
    found: Array = wish / np.linalg.norm(wish)
    return found


def _signed_angle(start: Array, goal: Array, axis: Array) -> Array:
    """Angles (n,) that turn start to goal about axis."""
    found: Array = np.arctan2(np.einsum("ij,ij->i", np.cross(start, goal), axis), np.einsum("ij,ij->i", start, goal))
    return found


def _turned(vectors: Array, axis: Array, angle: ArrayLike) -> Array:
    """Vectors perpendicular to unit axes, turned about them by angles (n,)."""
    angle = np.broadcast_to(np.asarray(angle, float), (len(vectors),))[:, None]
    turned: Array = np.cos(angle) * vectors + np.sin(angle) * np.cross(axis, vectors)
    return turned


def _wrap(angle: float) -> float:
    return float((angle + np.pi) % (2 * np.pi) - np.pi)
