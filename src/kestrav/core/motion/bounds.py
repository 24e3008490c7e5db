"""What a bound of motion says, and the points that it is about. Lengths in mm, angles in rad."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.meshes import box_corners
from kestrav.core.motion.linkage import unit

Array = NDArray[np.float64]

WORLD = ""
MOST_TURN = 4.0  # rad: however it turns, no point is farther from where it was than twice its distance, at either end


@dataclass(frozen=True, eq=False)
class Bound:
    """Of each step (m,) how far points go at most, and by how much what they are on turns; infinite where nothing is known."""

    way: Array
    turn: Array

    def __add__(self, other: Bound) -> Bound:
        return Bound(self.way + other.way, self.turn + other.turn)


@dataclass(frozen=True, eq=False)
class Points:
    """Balls about centres (k, 3) with radii (k,), fixed to a thing, in its own coordinates: what is asked about lies in their hull."""

    centres: Array
    radii: Array

    def moved(self, matrix: Array) -> Points:
        """As another thing sees them, to which this one is at a matrix (4, 4)."""
        return Points(self.centres @ matrix[:3, :3].T + matrix[:3, 3], self.radii)

    def from_point(self, place: ArrayLike) -> float:
        """How far any of them is from a place (3,)."""
        return float((np.linalg.norm(self.centres - np.asarray(place, float), axis=1) + self.radii).max())

    def about(self, origin: ArrayLike, direction: ArrayLike) -> tuple[float, Points]:
        """How far any of them is from an axle, and balls that hold them however they are turned about it."""
        origin, way = np.asarray(origin, float), unit(direction)
        along = (self.centres - origin) @ way
        feet = origin + along[:, None] * way
        radii = np.linalg.norm(self.centres - feet, axis=1) + self.radii
        return float(radii.max()), Points(feet, radii)


def of_box(box: Array) -> Points:
    """The corners of a box (2, 3)."""
    return Points(box_corners(box), np.zeros(8))


def at(place: ArrayLike) -> Points:
    """A single point (3,)."""
    return Points(np.asarray(place, float)[None], np.zeros(1))


def where(which: NDArray[np.bool_], one: Bound, two: Bound) -> Bound:
    """The one of two bounds in some of the steps (m,), and the other in the rest."""
    return Bound(np.where(which, one.way, two.way), np.where(which, one.turn, two.turn))


def lifted(bound: Bound, away: float) -> Bound:
    """That of points as far from the place that a bound is of."""
    return Bound(bound.way + np.minimum(bound.turn, MOST_TURN) * away, bound.turn)
