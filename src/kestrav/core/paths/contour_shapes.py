"""Contours in plan as shapes of paths. Lengths in mm."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import ArrayLike

from kestrav.core.document.records import EllipseShape, PathPoint, PointShape, RectangleShape
from kestrav.core.errors import BadInput
from kestrav.core.geometry import contours
from kestrav.core.later import later

if TYPE_CHECKING:
    import shapely
else:
    shapely = later("shapely")

Contour = Literal["ellipse", "circle", "rectangle", "hull"]
CONTOURS: tuple[Contour, ...] = ("hull", "rectangle", "ellipse", "circle")


def contour_shape(
    points: ArrayLike, kind: Contour, offset: float, height: float, rounding: float | None = None
) -> EllipseShape | RectangleShape | PointShape:
    """The shape of a contour around points (n, 2), at an offset and a height.

    Every place of it is at least the offset away from all points, unless corners are rounded by more than the offset
    (``rounding`` in mm; by the offset where none is given). Raises BadInput when there is no outline.
    """
    if not offset >= 0 or not np.isfinite(offset + height):
        raise BadInput(f"an offset of {offset:g} mm is not possible; give 0 or more")
    corner = offset if rounding is None else rounding
    try:
        if kind == "circle":
            centre, radius = contours.smallest_circle(points)
            if radius + offset < 1e-3:
                raise ValueError("one place has no outline to go around; give an offset")
            return EllipseShape((float(centre[0]), float(centre[1]), height), radius + offset, radius + offset)
        if kind == "rectangle":
            centre, width, depth, turn = contours.tightest_rectangle(points)
            sides = width + 2 * offset, depth + 2 * offset
            at = (float(centre[0]), float(centre[1]), height)
            return RectangleShape(at, *sides, min(corner, min(sides) / 2), 2.0, float(np.degrees(turn)))
        ring = contours.hull(points)
        corners = contours.offset_corners(ring, offset)
        if kind == "ellipse":
            # around the rounded outline, so that no place of it comes nearer than the offset
            around = shapely.buffer(shapely.polygons(ring), offset / np.cos(np.pi / 64), quad_segs=16)
            outline = shapely.get_coordinates(around)[:-1]
            centre, half_x, half_y, turn = contours.smallest_ellipse(outline)
            at = (float(centre[0]), float(centre[1]), height)
            return EllipseShape(at, half_x, half_y, float(np.degrees(turn)))
    except ValueError as fault:
        raise BadInput(f"no contour: {fault}") from fault
    points_ = tuple(PathPoint((float(x), float(y), height), "corner", radius=corner) for x, y in corners)
    return PointShape(points_, True)
