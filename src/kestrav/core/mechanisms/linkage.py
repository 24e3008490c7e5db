"""Rods between pins: where they are and what they move, in closed form. Lengths in mm, angles in rad."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.transforms import rigid

Array = NDArray[np.float64]

_NEAR_DEAD_CENTRE = 0.25  # sine of the angle below which the two ways to put a four-bar together are near each other


def unit(vector: ArrayLike) -> Array:
    """A vector (..., 3) of length one; as it is where it has none."""
    vector = np.asarray(vector, float)
    return np.asarray(vector / np.maximum(np.linalg.norm(vector, axis=-1, keepdims=True), 1e-300))


def turned_toward(base: Array, near: Array, far: Array, pins: Array, targets: Array, normal: Array) -> Array:
    """World matrices (n, 4, 4) of rods whose near points (3,) sit on pins (n, 3) and whose far ones look at targets (n, 3).

    ``base`` (n, 4, 4) is how they would be otherwise. They turn in the plane across ``normal`` (n, 3), and out of it by what is
    left.
    """
    before = base[:, :3, :3] @ (far - near)
    after = targets - pins
    flat_before = before - np.einsum("ni,ni->n", before, normal)[:, None] * normal
    flat_after = after - np.einsum("ni,ni->n", after, normal)[:, None] * normal
    sine = np.einsum("ni,ni->n", np.cross(flat_before, flat_after), normal)
    turn = about(normal, np.arctan2(sine, np.einsum("ni,ni->n", flat_before, flat_after)))
    rotation = turn @ base[:, :3, :3]
    rest = _least_turn(unit(rotation @ (far - near)), unit(after))
    rotation = rest @ rotation
    return rigid(rotation, pins - rotation @ near)


def about(axes: Array, angles: Array) -> Array:
    """Rotations (n, 3, 3) about unit axes (n, 3) by angles (n,) (O. Rodrigues' formula)."""
    x, y, z = axes[:, 0], axes[:, 1], axes[:, 2]
    zero = np.zeros(len(axes))
    cross = np.stack([zero, -z, y, z, zero, -x, -y, x, zero], axis=1).reshape(-1, 3, 3)
    s, c = np.sin(angles)[:, None, None], np.cos(angles)[:, None, None]
    matrix: Array = np.eye(3) + s * cross + (1 - c) * (cross @ cross)
    return matrix


def _least_turn(one: Array, two: Array) -> Array:
    """The smallest rotations (n, 3, 3) that bring unit vectors (n, 3) onto others, which are not opposite to them."""
    axis = np.cross(one, two)
    size = np.linalg.norm(axis, axis=1)
    flat = np.where(size[:, None] > 1e-15, axis / np.maximum(size, 1e-300)[:, None], 0.0)
    return about(flat, np.arctan2(size, np.einsum("ni,ni->n", one, two)))


class Reach(msgspec.Struct, frozen=True, eq=False):
    """What a rod does to what it moves: both ways (n,) of putting the mechanism together, and by how much in mm (n,) it cannot
    reach (0 where it can)."""

    one: Array
    two: Array
    short: Array


def slider_distances(pins: Array, place: Array, line: Array, length: float) -> Reach:
    """How far sliders go along lines (n, 3, unit) from places (n, 3), so that their pins are a rod's length from pins (n, 3).

    The slider-crank: the two meetings of a line with a sphere. Where there is none they stop where they are nearest.
    """
    step = place - pins
    along = np.einsum("ni,ni->n", step, line)
    across = np.einsum("ni,ni->n", step, step) - along**2
    left = length**2 - across
    root = np.sqrt(np.maximum(left, 0.0))
    short = np.where(left < 0, np.sqrt(np.maximum(across, 0.0)) - length, 0.0)
    return Reach(-along + root, -along - root, short)


def rocker_turns(pins: Array, arm: Array, length: float) -> Reach:
    """Angles at which rockers stand, so that their pins are a rod's length from pins (n, 3) of a crank.

    All in the rocker's own coordinates, its axle the z axis through the origin: ``arm`` (3,) is its own pin, at angle 0 along x.
    The four-bar: the two meetings of two circles. Where there is none it points along the line of both axles.
    """
    radius = float(np.hypot(arm[0], arm[1]))
    flat = np.sqrt(np.maximum(length**2 - (pins[:, 2] - arm[2]) ** 2, 0.0))
    away = np.hypot(pins[:, 0], pins[:, 1])
    toward = np.arctan2(pins[:, 1], pins[:, 0])
    cosine = (radius**2 + away**2 - flat**2) / np.maximum(2 * radius * away, 1e-300)
    spread = np.arccos(np.clip(cosine, -1.0, 1.0))
    short = np.maximum(np.maximum(away - (radius + flat), np.abs(radius - flat) - away), 0.0)
    return Reach(toward + spread, toward - spread, short)


def continued(reach: Reach, *, first: bool) -> Array:
    """Angles (n,) along one way of putting a four-bar together, without jumps: it goes on through dead centres as it went.

    ``first`` says with which of both ways it begins. Near a dead centre, where both are one, the one nearer to where it was
    going is taken.
    """
    one, two = reach.one, reach.two
    close = np.abs(np.sin(0.5 * (one - two))) < _NEAR_DEAD_CENTRE
    chosen = one if first else two
    if close.any():
        chosen = chosen.copy()
        taken: bool = first
        for k in range(2, len(one)):
            if close[k]:
                going = 2 * chosen[k - 1] - chosen[k - 2]
                taken = bool(abs(_turned(one[k] - going)) <= abs(_turned(two[k] - going)))
            chosen[k] = one[k] if taken else two[k]
    return np.asarray(np.unwrap(chosen))


def nearer(reach: Reach, guess: Array) -> Array:
    """Angles (n,) of whichever way is nearer to guesses (n,), turned as often as they."""
    off_one, off_two = _turned(reach.one - guess), _turned(reach.two - guess)
    return np.asarray(guess + np.where(np.abs(off_one) <= np.abs(off_two), off_one, off_two))


def turned_as(angles: Array, guess: Array) -> Array:
    """Angles (n,) with whole turns added so that they are near guesses (n,)."""
    return np.asarray(guess + _turned(angles - guess))


def _turned(angles: ArrayLike) -> Array:
    """Angles within half a turn."""
    return np.asarray((np.asarray(angles) + np.pi) % (2 * np.pi) - np.pi)
