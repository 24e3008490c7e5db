"""The records of paths: points, exact shapes, orbits. Lengths in mm, angles in degrees."""

from __future__ import annotations

from typing import Annotated, Literal

from kestrav.core.document.base import PartId, Placement, Record, Vector
from kestrav.core.document.fields import option, quantity, switch

MOST_TURNS = 1000  # of a helix
MOST_LAPS = 100  # of an orbit


class PathPoint(Record, frozen=True):
    """A point of a path; handles are vectors from it and count for free points only.

    ``radius`` in mm rounds a corner between two straight sides; 0 leaves it sharp.
    """

    position: Vector
    kind: Literal["corner", "smooth", "free"] = "smooth"
    handle_in: Vector | None = None
    handle_out: Vector | None = None
    radius: float = 0.0


class PointShape(Record, frozen=True, tag="points"):
    """A path through points."""

    points: tuple[PathPoint, ...]
    closed: bool = False


class EllipseShape(Record, frozen=True, tag="ellipse"):
    """A level ellipse; ``turn`` and ``start`` in degrees, clockwise as seen from above."""

    centre: Annotated[Vector, quantity("Centre", "mm", "Centre of the ellipse; z is its height")]
    half_x: Annotated[float, quantity("Half width", "mm", "Half axis along x", 1, 10, above=0)]
    half_y: Annotated[float, quantity("Half depth", "mm", "Half axis along y", 1, 10, above=0)]
    turn: Annotated[float, quantity("Rotation", "°", "Rotation of the ellipse about z")] = 0.0
    start: Annotated[float, quantity("Start angle", "°", "Start angle from the ellipse's x axis", 1, 5)] = 0.0
    clockwise: Annotated[bool, switch("Direction", "clockwise seen from above", "Direction of travel")] = False


class ArcShape(Record, frozen=True, tag="arc"):
    """A circular arc about an axis through a centre, from a start, by a sweep in degrees of either sign."""

    centre: Annotated[Vector, quantity("Centre", "mm", "Centre of the circle")]
    start: Annotated[Vector, quantity("Start", "mm", "Start of the arc")]
    sweep: Annotated[float, quantity("Sweep", "°", "Swept angle; negative for the other direction", 1, 5)] = 90.0
    axis: Annotated[Vector, quantity("Axis", "", "Axis of rotation, as a vector", 3)] = (0.0, 0.0, 1.0)


class RectangleShape(Record, frozen=True, tag="rectangle"):
    """A level rectangle; corners of a radius in mm are round (exponent 2) or superelliptic (above 2).

    ``turn`` in degrees; it starts in the middle of its front side.
    """

    centre: Annotated[Vector, quantity("Centre", "mm", "Centre of the shape; z is its height")]
    width: Annotated[float, quantity("Width", "mm", "Overall size along x before rotation", 1, 10, above=0)]
    depth: Annotated[float, quantity("Depth", "mm", "Overall size along y before rotation", 1, 10, above=0)]
    radius: Annotated[float, quantity("Corner radius", "mm", "Radius of the corners; 0 for sharp corners", 1, 10)] = 0.0
    exponent: Annotated[
        float, quantity("Exponent", "", "2 for round corners, more for superelliptic corners", 2, 0.5, low=2)
    ] = 2.0
    turn: Annotated[float, quantity("Rotation", "°", "Rotation about z", 1, 5)] = 0.0
    clockwise: Annotated[bool, switch("Direction", "clockwise seen from above", "Direction of travel")] = False


class HelixShape(Record, frozen=True, tag="helix"):
    """An upright helix from a centre upwards; ``pitch`` in mm per turn, ``start`` in degrees."""

    centre: Annotated[Vector, quantity("Centre", "mm", "Centre of the shape; z is its height")]
    radius: Annotated[float, quantity("Radius", "mm", "Radius of the helix", 1, 10, above=0)]
    pitch: Annotated[float, quantity("Pitch", "mm", "Rise of one turn; negative downwards", 1, 10)]
    turns: Annotated[float, quantity("Turns", "", "Number of turns", 3, 0.25, above=0, high=MOST_TURNS)] = 3.0
    start: Annotated[float, quantity("Start angle", "°", "Start angle from the x axis", 1, 5)] = 0.0
    clockwise: Annotated[bool, switch("Direction", "clockwise seen from above", "Direction of travel")] = False


class SurfaceShape(Record, frozen=True, tag="surface"):
    """A path on the surface of a part, through points (in the part's own coordinates) that stick to it.

    ``lift`` in mm raises it along the surface's normals. Between the points it runs ``smooth``, or the ``shortest``
    way. What was worked out is kept: ``samples`` of the lifted curve in space, the numbers ``marks`` of those that
    are the points, and what it was worked out of: the solid's hash and the part's placement in space at rest.
    """

    part: PartId
    points: tuple[Vector, ...]
    lift: float = 0.0
    between: Literal["smooth", "shortest"] = "smooth"
    closed: bool = False
    samples: tuple[Vector, ...] = ()
    marks: tuple[int, ...] = ()
    solid: str = ""
    at: Placement = Placement()


class OrbitShape(Record, frozen=True, tag="orbit"):
    """A way around things as seen from above, at an ``offset`` in mm from their outline.

    ``kind`` is the figure laid around them. Its corners are rounded by ``rounding`` mm, or by the offset where none is
    given. It goes at a ``height`` in mm above the room's zero, tilted by ``tilt`` degrees so that it is highest ``toward``
    an azimuth in degrees, and rises evenly by ``rise`` mm in all. It begins at the azimuth ``start`` in degrees, seen from
    its middle, and goes ``laps`` times around, or a part of once. What was worked out is kept: the corners of the
    ``outline`` of the things ``around`` in plan.
    """

    around: tuple[PartId, ...]
    outline: tuple[tuple[float, float], ...]
    kind: Annotated[
        Literal["circle", "ellipse", "rectangle", "hull"],
        option("Shape", "Shape around the parts in plan", rectangle="tightest rectangle", hull="own outline"),
    ] = "circle"
    offset: Annotated[float, quantity("Offset", "mm", "Distance from the outline", 0, 50, low=0)] = 2000.0
    rounding: float | None = None
    height: Annotated[float, quantity("Height", "mm", "Height above z = 0", 0, 50)] = 1500.0
    tilt: Annotated[float, quantity("Tilt", "°", "Tilt of the plane", low=-80, high=80)] = 0.0
    toward: Annotated[
        float, quantity("Azimuth of highest point", "°", "Azimuth of the tilted shape's highest point", 1, 5)
    ] = 0.0
    start: Annotated[
        float, quantity("Start azimuth", "°", "Azimuth of the start, counter-clockwise from +x", 1, 5)
    ] = -90.0
    laps: Annotated[
        float,
        quantity("Laps", "", "Number of laps; below 1 for a part of a lap", 3, 0.25, above=0, high=MOST_LAPS),
    ] = 1.0
    rise: Annotated[float, quantity("Rise", "mm", "Height gained from start to end", 0, 50)] = 0.0
    clockwise: Annotated[bool, switch("Direction", "clockwise seen from above", "Direction of travel")] = False


Shape = PointShape | EllipseShape | ArcShape | RectangleShape | HelixShape | SurfaceShape | OrbitShape


class Path(Record, frozen=True):
    """A curve in space; ``trim`` are the shares of its shape's length at which it begins and ends."""

    id: str
    name: str
    shape: Shape
    trim: tuple[float, float] = (0.0, 1.0)
