"""Drawing by places on a plane: grids, locks, and the shapes that so many places make. Lengths in mm."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import (
    ArcShape,
    EllipseShape,
    Path,
    PathPoint,
    PointShape,
    Project,
    RectangleShape,
    Shape,
)
from kestrav.core.editing.path_making import arc_of, arc_through, tangent_arc
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.paths.path_curves import path_curve

Array = NDArray[np.float64]
Draws = Literal["smooth", "corners", "hand", "three", "centre", "tangent", "circle", "ellipse", "rectangle"]

# how many places a shape is made by; 0 for as many as one likes
PLACES: dict[Draws, int] = {
    "smooth": 0,
    "corners": 0,
    "hand": 0,
    "three": 3,
    "centre": 3,
    "tangent": 2,
    "circle": 2,
    "ellipse": 3,
    "rectangle": 2,
}
LOCK = np.radians(15.0)
_UP = np.array([0.0, 0.0, 1.0])
_LEVEL = 1.0 - 1e-9


class Plane(msgspec.Struct, frozen=True, eq=False, dict=True):
    """A plane to draw on: a point and a unit normal (3,)."""

    point: Array
    normal: Array

    @cached_property
    def axes(self) -> tuple[Array, Array]:
        """Unit vectors in the plane: the first level (x where the plane is), the second upwards (or y)."""
        if abs(self.normal[2]) >= _LEVEL:
            return np.array([1.0, 0.0, 0.0]), np.array([0.0, 1.0, 0.0])
        u = np.cross(_UP, self.normal)
        u = u / np.linalg.norm(u)
        # to the right and up rather than to the left
        u = u if u[int(np.argmax(np.abs(u)))] > 0 else -u
        v = np.cross(self.normal, u)
        return u, v if v[2] > 0 else -v

    def brought(self, place: ArrayLike) -> Array:
        """The foot (3,) of a place on the plane."""
        place = np.asarray(place, float)
        projected: Array = place - float((place - self.point) @ self.normal) * self.normal
        return projected

    def on_grid(self, place: ArrayLike, step: float) -> Array:
        """A place of the plane brought to whole steps in mm along the plane's axes, counted from the space's origin."""
        if step <= 0:
            return np.asarray(place, float)
        u, v = self.axes
        foot = self.brought(np.zeros(3))
        a, b = (round(float((np.asarray(place) - foot) @ axis) / step) * step for axis in (u, v))
        point: Array = foot + a * u + b * v
        return point

    def locked(
        self,
        last: ArrayLike,
        place: ArrayLike,
        length: float = 0.0,
        angle: float | None = None,
        *,
        by_steps: bool = False,
    ) -> Array:
        """A place brought to a length in mm (0: any) and an angle in degrees from the first axis (None: any) from the
        last; with ``by_steps`` to the nearest multiple of 15 degrees."""
        last, (u, v) = np.asarray(last, float), self.axes
        step = np.asarray(place, float) - last
        a, b = float(step @ u), float(step @ v)
        angle_locked = np.arctan2(b, a)
        if angle is not None:
            angle_locked = np.radians(angle)
        elif by_steps:
            angle_locked = round(angle_locked / LOCK) * LOCK
        along = np.cos(angle_locked) * u + np.sin(angle_locked) * v
        reach = length if length > 0 else float(np.hypot(a, b))
        if length <= 0 and (angle is not None or by_steps):
            reach = float(step @ along)
        point: Array = last + reach * along
        return point


def drawn_shape(draws: Draws, places: Sequence[ArrayLike], plane: Plane, leaving: ArrayLike | None = None) -> Shape:
    """The shape that places (3,) on a plane make; ``leaving`` is the direction in which a tangent arc begins.

    Circles, ellipses and rectangles on a level plane keep their parameters; on another an ellipse becomes points.
    Raises BadInput when the places do not make one.
    """
    spots = [np.asarray(place, float) for place in places]
    needed = PLACES[draws]
    if len(spots) < max(needed, 2):
        raise BadInput("a path needs two points or more; click them, then press Enter")
    if draws in ("smooth", "hand"):
        return PointShape(tuple(PathPoint(vector(p)) for p in spots))
    if draws == "corners":
        return PointShape(tuple(PathPoint(vector(p), "corner") for p in spots))
    if draws == "three":
        return arc_through(*spots[:3])
    if draws == "centre":
        return arc_of(spots[0], spots[1], spots[2], plane.normal)
    if draws == "tangent":
        if leaving is None:
            raise BadInput("begin the arc at the end of a path: it leaves it in the path’s direction")
        arc = tangent_arc(spots[0], leaving, spots[1])
        return arc if arc is not None else drawn_shape("corners", spots[:2], plane)
    u, v = plane.axes
    first, second = spots[:2]
    level = abs(plane.normal[2]) >= _LEVEL
    if draws == "circle":
        radius = float(np.linalg.norm(second - first))
        if radius < 1e-6:
            raise BadInput("the circle’s radius is 0; click its rim away from its centre")
        if level:
            start = float(np.degrees(np.arctan2(second[1] - first[1], second[0] - first[0])))
            return EllipseShape(vector(first), radius, radius, 0.0, start)
        return ArcShape(vector(first), vector(second), 360.0, vector(plane.normal))
    if draws == "rectangle":
        across = second - first
        width, depth = abs(float(across @ u)), abs(float(across @ v))
        if min(width, depth) < 1e-6:
            raise BadInput("the rectangle has no area; click its opposite corners")
        if level:
            return RectangleShape(vector(0.5 * (first + second)), width, depth)
        sides = [first, first + float(across @ u) * u, second, first + float(across @ v) * v]
        return PointShape(tuple(PathPoint(vector(p), "corner") for p in sides), True)
    return _ellipse(first, second, spots[2], plane, level=level)


def _ellipse(centre: Array, rim: Array, side: Array, plane: Plane, *, level: bool) -> Shape:
    """An ellipse about a centre with one half axis to a place of its rim, and the other as far as a second place."""
    long = rim - centre
    half = float(np.linalg.norm(long))
    if half < 1e-6:
        raise BadInput("the ellipse’s first half axis is 0; click away from its centre")
    direction = long / half
    across = np.cross(plane.normal, direction)
    other = abs(float((side - centre) @ across))
    if other < 1e-6:
        raise BadInput("the ellipse’s second half axis is 0; click beside its first one")
    if level:
        return EllipseShape(vector(centre), half, other, float(np.degrees(np.arctan2(direction[1], direction[0]))))
    # eighths of the circle that it is the image of, with tangents
    turns = np.arange(8) * np.pi / 4
    reach = 4.0 / 3.0 * np.tan(np.pi / 16)
    points = []
    for t in turns:
        place = centre + half * np.cos(t) * direction + other * np.sin(t) * across
        handle = reach * (-half * np.sin(t) * direction + other * np.cos(t) * across)
        points.append(PathPoint(vector(place), "free", vector(-handle), vector(handle)))
    return PointShape(tuple(points), True)


def path_ends(project: Project) -> list[tuple[str, Literal["start", "end"], Array, Array]]:
    """Ids, ends, places (3,) and the directions (3,) outwards of all open paths."""
    path_ends: list[tuple[str, Literal["start", "end"], Array, Array]] = []
    for path in project.paths:
        curve = path_curve(path).curve
        if curve.closed:
            continue
        places, directions = curve.position([0.0, curve.length]), curve.tangent([0.0, curve.length], before=False)
        directions[1] = curve.tangent([curve.length], before=True)[0]
        path_ends.append((path.id, "start", places[0], -directions[0]))
        path_ends.append((path.id, "end", places[1], directions[1]))
    return path_ends


def named(draws: Draws) -> str:
    """What a drawn path is called before it has a name."""
    return {"three": "Arc", "centre": "Arc", "tangent": "Arc", "circle": "Circle", "ellipse": "Ellipse"}.get(
        draws, "Rectangle" if draws == "rectangle" else "Path"
    )


def drawn_path(shape: Shape) -> Path:
    """A shape as a path that is in no project yet, for showing it."""
    return Path("drawn", "the drawing", shape)
