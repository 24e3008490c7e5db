"""Curves of a document's paths, kept for as long as their shape is in use."""

from __future__ import annotations

from functools import cached_property

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import (
    ArcShape,
    EllipseShape,
    HelixShape,
    OrbitShape,
    Path,
    PointShape,
    Project,
    RectangleShape,
    Shape,
    SurfaceShape,
)
from kestrav.core.errors import BadInput, in_words
from kestrav.core.geometry.arclength import Curve, by_arc_length
from kestrav.core.geometry.curve_frames import (
    FrameTable,
    carried_frames,
    frame_table,
    is_steady,
    level_frames,
    upright_frames,
)
from kestrav.core.geometry.curves import EllipseCurve, Parametric, sampled, spline_through
from kestrav.core.geometry.exact import Chain, Helix, Portion, arc_about, rectangle, rounded_through
from kestrav.core.geometry.winding import Winding, station_at
from kestrav.core.memo import Memo
from kestrav.core.paths.contour_shapes import contour_shape

Array = NDArray[np.float64]


class PathCurve(msgspec.Struct, frozen=True, dict=True):
    """A path ready to be travelled: its curve by station, stations of its points, and frames along it."""

    curve: Curve
    marks: Array | None = None

    @cached_property
    def _table(self) -> FrameTable:
        return frame_table(self.curve)

    @property
    def length(self) -> float:
        """In mm."""
        return self.curve.length

    def frames(self, stations: ArrayLike, *, upright: bool = True) -> Array:
        """Frames (n, 3, 3), columns forward, left, up."""
        if upright and is_steady(self.curve):
            return level_frames(self.curve, stations)
        make = upright_frames if upright else carried_frames
        return make(self.curve, self._table, stations)

    def most_turned(self, stations: ArrayLike, *, upright: bool = True) -> Array:
        """By how much (n,) in rad frames have turned at most since the first one, at stations (n,) that may go round, kinks left out."""
        places, turned = self._table.most_turned(upright)
        stations = np.asarray(stations, float)
        if not self.curve.closed:
            return np.asarray(np.interp(stations, places, turned))
        rounds, there = np.divmod(stations, self.length)
        return np.asarray(rounds * turned[-1] + np.interp(there, places, turned))

    def point_stations(self) -> Array:
        """Stations of the path's points, in their order; those cut off by a trim lie at its ends."""
        if self.marks is not None:
            return self.marks
        stations = self.curve.breaks
        return stations[:-1] if self.curve.closed else stations


_POINTS = "its points are too far out, or too near each other for their numbers"


def path_curve(path: Path) -> PathCurve:
    """The curve of a path. Raises BadInput when it has no length."""
    try:
        return _of_shape(path.shape, path.trim)
    except ValueError as fault:
        raise BadInput(f"the path “{path.name}” cannot be travelled: {in_words(fault, _POINTS)}") from fault


def check_curves(project: Project, since: Project | None = None) -> Project:
    """The project itself, if all its paths can be travelled; of those that ``since`` has as well that is known.

    Raises BadInput naming the first that cannot. Validation looks at records alone; whether arcs have room on
    their sides only the curves tell.
    """
    known = set(map(id, since.paths)) if since is not None else set()
    for path in project.paths:
        if id(path) not in known:
            path_curve(path)
    return project


_curves: Memo[PathCurve] = Memo(256)


def _of_shape(shape: Shape, trim: tuple[float, float]) -> PathCurve:
    """The curve of a shape, kept by the shape's identity: to compare thousands of points would cost more."""
    return _curves.get((shape,), lambda: _trimmed_curve(shape, trim), trim)


def _trimmed_curve(shape: Shape, trim: tuple[float, float]) -> PathCurve:
    parametric, closed = parametric_of(shape)
    whole = by_arc_length(parametric, closed=closed)
    marks = None
    if isinstance(parametric, Chain) and parametric.marks:
        marks = whole.breaks[list(parametric.marks)]
    elif isinstance(shape, SurfaceShape):
        marks = whole.breaks[list(shape.marks[: len(shape.points)])]
    if trim == (0.0, 1.0):
        return PathCurve(whole, marks)
    first, last = trim[0] * whole.length, trim[1] * whole.length
    ends = np.asarray(whole.parameter([first, last]), float)
    curve = by_arc_length(Portion(parametric, float(ends[0]), float(ends[1])))
    known = PathCurve(whole, marks).point_stations()
    return PathCurve(curve, np.clip(known - first, 0.0, curve.length))


def parametric_of(shape: Shape) -> tuple[Parametric, bool]:
    """A shape as a parametric curve, and whether it closes. Raises ValueError when it cannot be travelled."""
    if isinstance(shape, EllipseShape):
        turn, start = np.radians(shape.turn), np.radians(shape.start)
        return EllipseCurve(shape.centre, shape.half_x, shape.half_y, turn, start, -1 if shape.clockwise else 1), True
    if isinstance(shape, ArcShape):
        return arc_about(shape.centre, shape.axis, shape.start, np.radians(shape.sweep)), abs(shape.sweep) >= 360
    if isinstance(shape, HelixShape):
        sense = -1 if shape.clockwise else 1
        return Helix(shape.centre, shape.radius, shape.pitch, shape.turns, np.radians(shape.start), sense), False
    if isinstance(shape, RectangleShape):
        sides = (shape.width, shape.depth, shape.radius, shape.exponent)
        return rectangle(shape.centre, *sides, np.radians(shape.turn), clockwise=shape.clockwise), True
    if isinstance(shape, OrbitShape):
        return winding_of(shape), shape.rise == 0 and abs(shape.laps - round(shape.laps)) < 1e-12
    if isinstance(shape, SurfaceShape):
        return sampled(
            shape.samples, shape.marks if shape.between == "shortest" else (), closed=shape.closed
        ), shape.closed
    points = shape.points
    places = [p.position for p in points]
    kinds = [p.kind for p in points]
    handles = [p.handle_in for p in points], [p.handle_out for p in points]
    if any(p.radius > 0 and p.kind == "corner" for p in points):
        return rounded_through(places, kinds, *handles, [p.radius for p in points], closed=shape.closed), shape.closed
    return spline_through(places, kinds, *handles, closed=shape.closed), shape.closed


def orbit_plan(shape: OrbitShape) -> tuple[Curve, Array]:
    """The figure that an orbit goes around in plan, at its height, and its middle (2,). Raises BadInput or ValueError when there is
    none."""
    plan = contour_shape(shape.outline, shape.kind, shape.offset, shape.height, shape.rounding)
    curve = by_arc_length(parametric_of(plan)[0], closed=True)
    if isinstance(plan, PointShape):
        middle = np.mean(np.asarray(shape.outline), axis=0)
    else:
        middle = np.array(plan.centre[:2])
    return curve, middle


def winding_of(shape: OrbitShape) -> Winding:
    """An orbit as a curve. Raises BadInput or ValueError when it goes around nothing."""
    curve, middle = orbit_plan(shape)
    first = station_at(curve, middle, np.radians(shape.start))
    toward, steep = np.radians(shape.toward), np.tan(np.radians(shape.tilt))
    slope = (float(steep * np.cos(toward)), float(steep * np.sin(toward)))
    sense = -1 if shape.clockwise else 1
    return Winding(curve, first, shape.laps, sense, shape.rise, slope, (float(middle[0]), float(middle[1])))
