"""Frames of reference along a curve.

A frame is a (3, 3) matrix with columns forward, left, up. Two kinds are made: rotation-minimizing
frames, carried along by the double reflection method (Wang, Juettler, Zheng, Liu, "Computation of
Rotation Minimizing Frames", ACM Transactions on Graphics 27(1), 2008), and upright frames, whose left
stays level.
"""

from __future__ import annotations

import itertools
from functools import cached_property

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.arclength import Curve

Array = NDArray[np.float64]

_UP = np.array([0.0, 0.0, 1.0])
_NEAR_VERTICAL = np.sin(np.radians(12.0))  # closer to the vertical than this, level is no guide
_CLEAR_OF_VERTICAL = np.sin(np.radians(14.0))  # that at places between those looked at it is not closer than that
_TURN_PER_SAMPLE = np.radians(1.5)
_FEWEST, _MOST = 128, 16384
_STEP_TOLERANCE = 1e-8  # of a step's rotation, taken at once and in two halves


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


class FrameTable(msgspec.Struct, frozen=True, dict=True):
    """Samples of a curve from which frames at any station follow by one short step.

    stations (m,) and unit tangents (m, 3); a kink has two, with the tangents before and after it. What carried frames need is
    worked out when one is first asked for: upright ones do without any of it where the curve keeps clear of the vertical.
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
        # of an open one nothing need be carried to know that
        return self._carrying[1] if self.curve.closed else 0.0

    @cached_property
    def steep(self) -> Steep:
        """The stretches in which the curve is too near the vertical for level to be a guide."""
        return _steep(self)

    @cached_property
    def _most_turned(self) -> dict[bool, tuple[Array, Array]]:
        return {}

    def most_turned(self, upright: bool) -> tuple[Array, Array]:
        """Stations (k,) and by how much in rad (k,) frames have turned at most since the first one, kinks left out: between two
        stations of a cell they turn evenly at most.

        Carried frames turn as the tangent does; level ones by no more than that by the cosine of the slope, as their left keeps level.
        """
        if upright not in self._most_turned:
            cuts = self.steep.ends if upright else np.empty(0)
            cuts = cuts[cuts < self.curve.length]
            places = np.unique(np.concatenate([self.stations, cuts]))
            low, high = places[:-1], places[1:]
            rate = self.curve.most_curvature(low, high)
            if upright:
                flat = [np.hypot(*self.curve.tangent(s, before=b)[:, :2].T) for s, b in ((low, False), (high, True))]
                least = np.maximum(0.5 * (flat[0] + flat[1] - rate * (high - low)), 1e-9)
                wheels = self.steep.rate_at(0.5 * (low + high))
                rate = np.where(np.isnan(wheels), rate / least, rate + abs(self.twist_rate) + np.abs(wheels))
            else:
                rate = rate + abs(self.twist_rate)
            turned = np.concatenate([[0.0], np.cumsum(rate * (high - low))])
            self._most_turned[upright] = (places, turned)
        return self._most_turned[upright]


class Steep(msgspec.Struct, frozen=True, eq=False):
    """Stretches of a curve that are within 12 degrees of the vertical, from stations ``first`` to ``last`` (k,), with the angles from
    the carried left to the upright one at both (k,); and the senses (k + 1,) in which level is taken between them: +1, or -1 where a
    body on rails would be upside down."""

    first: Array
    last: Array
    begins: Array
    ends_at: Array
    senses: Array

    @property
    def ends(self) -> Array:
        """Both ends of all stretches."""
        return np.concatenate([self.first, self.last])

    def which(self, stations: Array) -> tuple[NDArray[np.intp], NDArray[np.bool_]]:
        """The number of the next stretch at or before stations (n,), from -1, and whether they are inside it."""
        k = np.searchsorted(self.first, stations, side="right") - 1
        inside = (k >= 0) & (stations < np.append(self.last, -np.inf)[k])
        return k, inside

    def rate_at(self, stations: Array) -> Array:
        """How fast (n,) in rad/mm the upright left turns from the carried one at stations (n,); nan outside all stretches."""
        k, inside = self.which(stations)
        rate = np.full(len(stations), np.nan)
        k = k[inside]
        rate[inside] = (self.ends_at[k] - self.begins[k]) / np.maximum(self.last[k] - self.first[k], 1e-300)
        return rate


def frame_table(curve: Curve) -> FrameTable:
    """Sample a curve densely enough for frames at any station to follow by one short step."""
    return FrameTable(curve, *_samples(curve))


def carried_frames(curve: Curve, table: FrameTable, stations: ArrayLike) -> Array:
    """Rotation-minimizing frames (n, 3, 3) at stations (n,)."""
    tangent, left = _step_to(curve, table, np.asarray(stations, float))
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
    """Upright frames (n, 3, 3) at stations (n,) whose left is level.

    Where the tangent is within 12 degrees of the vertical, level is no guide: there the carried frame
    is followed and the remaining turn is spread over the stretch, so nothing flips on the way through
    the vertical; past the top of a loop the frame goes on upside down, as a body on rails would. The ends of such stretches are found
    to machine accuracy, so that both rules give the same frame there.
    """
    places: Array = np.clip(np.asarray(stations, float), 0.0, curve.length)
    steep = table.steep
    tangent, left = _step_to(curve, table, places)
    k, inside = steep.which(places)
    if inside.any():
        j = k[inside]
        share = (places[inside] - steep.first[j]) / np.maximum(steep.last[j] - steep.first[j], 1e-300)
        angle = steep.begins[j] + share * (steep.ends_at[j] - steep.begins[j])
        left[inside] = _turned(left[inside], tangent[inside], angle)
    level = np.cross(_UP, tangent[~inside])
    flatness = np.maximum(np.linalg.norm(level, axis=1), 1e-300)
    left[~inside] = (steep.senses[k[~inside] + 1] / flatness)[:, None] * level
    return _columns(tangent, left)


def _samples(curve: Curve) -> tuple[Array, Array]:
    """Stations with both tangents at every kink: so near each other that the curve bends by little between two, and that a carried
    vector comes out alike in one step and in two."""
    inner = curve.kink_stations[(curve.kink_stations > 0) & (curve.kink_stations < curve.length)]
    ends = np.unique(np.concatenate([[0.0], inner, [curve.length]]))
    places = np.unique(np.concatenate([ends, curve.breaks[(curve.breaks > 0) & (curve.breaks < curve.length)]]))
    few = np.maximum(np.ceil(_FEWEST * np.diff(places) / curve.length), 1).astype(int)
    low = np.concatenate([np.linspace(a, b, n + 1)[:-1] for a, b, n in zip(places[:-1], places[1:], few, strict=True)])
    high = np.append(low[1:], curve.length)
    kept: list[Array] = []
    while len(low):
        middle = 0.5 * (low + high)
        tangents = [curve.tangent(low), curve.tangent(middle), curve.tangent(high, before=True)]
        points = [curve.position(s) for s in (low, middle, high)]
        whole = _steps(points[0], tangents[0], points[2], tangents[2])
        halves = [_steps(points[k], tangents[k], points[k + 1], tangents[k + 1]) for k in (0, 1)]
        off = np.abs(halves[1] @ halves[0] - whole).max(axis=(1, 2))
        turn = np.add(*(np.linalg.norm(tangents[k + 1] - tangents[k], axis=1) for k in (0, 1)))
        room = sum(map(len, kept)) + 2 * len(low) < _MOST
        bad = ((turn > _TURN_PER_SAMPLE) | (off > _STEP_TOLERANCE)) & (high - low > 1e-9 * curve.length) & room
        kept.append(low[~bad])
        low, middle, high = low[bad], middle[bad], high[bad]
        low, high = np.concatenate([low, middle]), np.concatenate([middle, high])
    inside = np.sort(np.concatenate(kept))
    stations, tangents = [], []
    for first, last in itertools.pairwise(ends):
        piece = np.append(inside[(inside >= first) & (inside < last)], last)
        tangent = curve.tangent(piece)
        tangent[-1] = curve.tangent(piece[-1:], before=True)[0]
        stations.append(piece)
        tangents.append(tangent)
    return np.concatenate(stations), np.concatenate(tangents)


def _steep(table: FrameTable) -> Steep:
    """Where a curve is too near the vertical for level to be a guide, and how its left goes on through that."""
    flatness = table._level[1]
    good, length = flatness > _NEAR_VERTICAL, table.curve.length
    if good.all():
        none = np.empty(0)
        return Steep(none, none, none, none, np.ones(1))
    if not good.any():
        # vertical throughout: left is the world's Y as nearly as can be
        angle = _signed_angle(table.carried[:1], _across(table.tangents[0])[None], table.tangents[:1])
        return Steep(np.zeros(1), np.array([np.inf]), angle, angle, np.ones(2))
    # stations and angles from the carried to the level left where stretches begin and end
    begins = [_crossing(table, int(k), int(k)) for k in np.flatnonzero(good[:-1] & ~good[1:])]
    ends = [_crossing(table, int(k), int(k) + 1) for k in np.flatnonzero(~good[:-1] & good[1:])]
    over_seam = table.curve.closed and not (good[0] and good[-1])
    if over_seam:
        # one of them goes over the seam, as if the curve went on
        begins = begins if not good[-1] else [*begins, (length, _angle_of_level(table, -1))]
        ends = ends if not good[0] else [(0.0, _angle_of_level(table, 0)), *ends]
        ends = [*ends[1:], (ends[0][0] + length, ends[0][1] + _seam(table))]
    else:
        # before the first level place and after the last one the carried frame is followed as it is
        begins = begins if good[0] else [(0.0, ends[0][1]), *begins]
        ends = ends if good[-1] else [*ends, (np.inf, begins[-1][1])]
    first, one = np.array(begins).T
    last, two = np.array(ends).T
    change = _wrap(two - one)
    # past the vertical it goes on the way that turns it least: upright, or upside down
    turned_over = np.abs(change) > np.pi / 2
    change = np.where(turned_over, _wrap(change + np.pi), change)
    if table.curve.closed and np.count_nonzero(turned_over) % 2:
        # once around it must be as at the start: one stretch takes the longer way, that in which the turn is gentlest
        k = int(np.argmin((np.pi - np.abs(change)) / (last - first)))
        turned_over[k] = not turned_over[k]
        change[k] -= np.copysign(np.pi, change[k])
    senses: Array = np.insert(np.cumprod(np.where(turned_over, -1.0, 1.0)), 0, 1.0).astype(float)
    one = one + np.where(senses[:-1] < 0, np.pi, 0.0)
    two = one + change
    if over_seam:
        rate = change[-1] / (last[-1] - first[-1])
        head = last[-1] - length
        first, last = np.insert(first, 0, 0.0), np.insert(last, 0, head)
        two, one = np.insert(two, 0, two[-1] - _seam(table)), np.insert(one, 0, two[-1] - _seam(table) - rate * head)
        last[-1], two[-1] = np.nextafter(length, np.inf), one[-1] + rate * (length - first[-1])
        senses = np.insert(senses, 0, 1.0)
    return Steep(first, last, one, two, senses)


def _crossing(table: FrameTable, below: int, level_side: int) -> tuple[float, float]:
    """The station between a sample and the next at which a curve crosses the cone about the vertical, and the angle from the carried to
    the level left there; at a kink, on its level side."""
    low, high = float(table.stations[below]), float(table.stations[below + 1])
    if high <= low:
        return low, _angle_of_level(table, level_side)

    def over(station: float) -> float:
        # the far end is still on this side of what may be a kink there
        tangent = table.curve.tangent([station], before=station >= high)[0]
        return float(np.hypot(tangent[0], tangent[1]) - _NEAR_VERTICAL)

    if over(low) * over(high) > 0:
        station = low if level_side == below else high
        return station, _angle_of_level(table, level_side)
    station = float(scipy.optimize.brentq(over, low, high, xtol=1e-14 * max(table.curve.length, 1.0), rtol=1e-15))
    tangent, left = _stepped(table, np.array([below]), np.array([station]))
    level = np.cross(_UP, tangent)
    return station, float(_signed_angle(left, level / np.linalg.norm(level), tangent)[0])


def _angle_of_level(table: FrameTable, sample: int) -> float:
    """The angle from the carried to the level left at a sample."""
    level, flatness = table._level
    angle = _signed_angle(
        table.carried[[sample]], level[[sample]] / max(flatness[sample], 1e-300), table.tangents[[sample]]
    )
    return float(angle[0])


def _seam(table: FrameTable) -> float:
    """The angle from the first carried left of a closed curve to the last one, taken over the seam by the least rotation."""
    first, last = table.tangents[:1], table.tangents[-1:]
    over = np.einsum("nij,nj->ni", _least_rotation(last, first), table.carried[-1:])
    return float(_signed_angle(over, table.carried[:1], first)[0])


def _step_to(curve: Curve, table: FrameTable, stations: Array) -> tuple[Array, Array]:
    """Tangents and carried lefts (n, 3) at stations (n,)."""
    stations = np.clip(stations, 0.0, curve.length)
    below = np.clip(np.searchsorted(table.stations, stations, side="right") - 1, 0, len(table.stations) - 1)
    return _stepped(table, below, stations)


def _stepped(table: FrameTable, below: NDArray[np.intp], stations: Array) -> tuple[Array, Array]:
    """Tangents and carried lefts (n, 3) at stations (n,), each carried on from a sample."""
    curve = table.curve
    tangent = _tangents(curve, table, stations)
    steps = _steps(table.points[below], table.tangents[below], curve.position(stations), tangent)
    left = np.einsum("nij,nj->ni", steps, table.carried[below])
    left = _turned(left, tangent, table.twist_rate * (stations - table.stations[below]))
    left -= np.einsum("ij,ij->i", left, tangent)[:, None] * tangent
    left /= np.linalg.norm(left, axis=1, keepdims=True)
    return tangent, left


def _tangents(curve: Curve, table: FrameTable, stations: Array) -> Array:
    """Unit tangents (n, 3); at the end that of the piece arrived on."""
    tangent = curve.tangent(stations)
    tangent[stations >= curve.length] = table.tangents[-1]
    return tangent


def _columns(forward: Array, left: Array) -> Array:
    return np.stack([forward, left, np.cross(forward, left)], axis=-1)


def _across(tangent: Array) -> Array:
    """A unit vector across a tangent, as near the world's Y as can be."""
    side = np.array([0.0, 1.0, 0.0]) if abs(tangent[1]) < 0.9 else np.array([-1.0, 0.0, 0.0])
    side = side - np.dot(side, tangent) * tangent
    across: Array = side / np.linalg.norm(side)
    return across


def _signed_angle(start: Array, goal: Array, axis: Array) -> Array:
    """Angles (n,) that turn start to goal about axis."""
    signed_angle: Array = np.arctan2(
        np.einsum("ij,ij->i", np.cross(start, goal), axis), np.einsum("ij,ij->i", start, goal)
    )
    return signed_angle


def _turned(vectors: Array, axis: Array, angle: ArrayLike) -> Array:
    """Vectors perpendicular to unit axes, turned about them by angles (n,)."""
    angle = np.broadcast_to(np.asarray(angle, float), (len(vectors),))[:, None]
    turned: Array = np.cos(angle) * vectors + np.sin(angle) * np.cross(axis, vectors)
    return turned


def _wrap(angles: Array) -> Array:
    wrap: Array = (angles + np.pi) % (2 * np.pi) - np.pi
    return wrap
