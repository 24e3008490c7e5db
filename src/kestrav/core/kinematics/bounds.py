"""What a bound of motion says, and the points that it is about. Lengths in mm, angles in rad."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.meshes import box_corners
from kestrav.core.mechanisms.linkage import unit

Array = NDArray[np.float64]

WORLD = ""
# a turn that takes two points of a line, each s from their middle, by d at most, is one about the line, a shift by d at most and a lean of
# d / s at most, which takes what is s from the middle along the line and s beside it by the root of 2 times d at most
BESIDE = 1.0 + np.sqrt(2.0)
MOST_TURN = 4.0  # rad: however it turns, no point is farther from where it was than twice its distance, at either end


class Bound(msgspec.Struct, frozen=True, eq=False):
    """Of each step (m,) how far points go at most, and by how much what they are on turns; infinite where nothing is known."""

    distance: Array
    turn: Array

    def __add__(self, other: Bound) -> Bound:
        return Bound(self.distance + other.distance, self.turn + other.turn)


class Points(msgspec.Struct, frozen=True, eq=False):
    """Balls about centres (k, 3) with radii (k,), fixed to a thing, in its own coordinates: what is asked about lies in their hull.

    Turns about the line through two points (2, 3) are not asked about where there is such a ``line``: only how far the line itself goes.
    The two are to be as far from their middle, at least, as anything else is.
    """

    centres: Array
    radii: Array
    line: Array | None = None

    def moved(self, matrix: Array) -> Points:
        """As another thing sees them, to which this one is at a matrix (4, 4)."""
        line = None if self.line is None else self.line @ matrix[:3, :3].T + matrix[:3, 3]
        return Points(self.centres @ matrix[:3, :3].T + matrix[:3, 3], self.radii, line)

    def from_point(self, place: ArrayLike) -> float:
        """How far any of them is from a place (3,)."""
        return float((np.linalg.norm(self.centres - np.asarray(place, float), axis=1) + self.radii).max())

    def about(self, origin: ArrayLike, direction: ArrayLike) -> tuple[float, Points]:
        """How far any of them is from an axle, as far as is asked about, and balls that hold them however they are turned about it."""
        origin, axis = np.asarray(origin, float), unit(direction)
        along = (self.centres - origin) @ axis
        feet = origin + along[:, None] * axis
        radii = np.linalg.norm(self.centres - feet, axis=1) + self.radii
        away = float(radii.max())
        if self.line is not None:
            off = self.line - origin
            beside = float(np.linalg.norm(off - (off @ axis)[:, None] * axis, axis=1).max())
            away = min(away, BESIDE * beside)
        return away, Points(feet, radii)


def of_box(box: Array) -> Points:
    """The corners of a box (2, 3)."""
    return Points(box_corners(box), np.zeros(8))


def at(place: ArrayLike) -> Points:
    """A single point (3,)."""
    return Points(np.asarray(place, float)[None], np.zeros(1))


def where(which: NDArray[np.bool_], one: Bound, two: Bound) -> Bound:
    """The one of two bounds in some of the steps (m,), and the other in the rest."""
    return Bound(np.where(which, one.distance, two.distance), np.where(which, one.turn, two.turn))


def lifted(bound: Bound, away: float) -> Bound:
    """That of points as far from the place that a bound is of."""
    return Bound(bound.distance + np.minimum(bound.turn, MOST_TURN) * away, bound.turn)
