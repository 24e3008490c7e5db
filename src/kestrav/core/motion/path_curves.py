"""Curves of a document's paths, kept for as long as their shape is in use."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import EllipseShape, Path, Shape
from kestrav.core.errors import BadInput
from kestrav.core.geometry.arclength import Curve, by_arc_length
from kestrav.core.geometry.curves import EllipseCurve, Parametric, spline_through
from kestrav.core.geometry.frames import FrameTable, carried_frames, frame_table, upright_frames

Array = NDArray[np.float64]


@dataclass(frozen=True)
class PathCurve:
    """A path ready to be travelled: its curve by station, and frames along it."""

    curve: Curve

    @cached_property
    def _table(self) -> FrameTable:
        return frame_table(self.curve)

    @property
    def length(self) -> float:
        """In mm."""
        return self.curve.length

    def frames(self, stations: ArrayLike, upright: bool = True) -> Array:
        """Frames (n, 3, 3), columns forward, left, up."""
        make = upright_frames if upright else carried_frames
        return make(self.curve, self._table, stations)

    def point_stations(self) -> Array:
        """Stations of the path's points, in their order."""
        stations = self.curve.breaks
        return stations[:-1] if self.curve.closed else stations


def path_curve(path: Path) -> PathCurve:
    """The curve of a path. Raises BadInput when it has no length."""
    try:
        return _of_shape(path.shape)
    except ValueError as fault:
        raise BadInput(f"the path “{path.name}” cannot be travelled: {fault}") from fault


@lru_cache(maxsize=256)
def _of_shape(shape: Shape) -> PathCurve:
    parametric: Parametric
    if isinstance(shape, EllipseShape):
        parametric = EllipseCurve(
            shape.centre,
            shape.half_x,
            shape.half_y,
            np.radians(shape.turn),
            np.radians(shape.start),
            -1 if shape.clockwise else 1,
        )
        return PathCurve(by_arc_length(parametric, closed=True))
    points = shape.points
    parametric = spline_through(
        [p.position for p in points],
        [p.kind for p in points],
        [p.handle_in for p in points],
        [p.handle_out for p in points],
        shape.closed,
    )
    return PathCurve(by_arc_length(parametric, closed=shape.closed))
