"""Paths beside paths: level, and to the left or right of them. Lengths in mm."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import update
from kestrav.core.document.records import (
    ArcShape,
    HelixShape,
    OrbitShape,
    Path,
    PointShape,
    Project,
    RectangleShape,
    Shape,
    SurfaceShape,
)
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.paths.path_curves import PathCurve, path_curve
from kestrav.core.paths.shaping import AS_POINTS, free_points, path_of

Array = NDArray[np.float64]


def offset_sideways(project: Project, path_id: str, distance: float) -> Project:
    """The project with a path moved sideways by a distance in mm, to its left, or with a negative one to its right.

    Sideways is level and across the path. Level circles, arcs and rectangles keep their parameters; polylines keep
    their corners, and radii that grow and shrink with the bend; other curves become free points within a hundredth
    of a millimetre. Raises BadInput where the path bends more tightly than that on the side it is moved to, or has
    kinks between curves.
    """
    path = path_of(project, path_id)
    if not np.isfinite(distance):
        raise BadInput("the distance is not a number")
    curve = path_curve(path)
    exact = _offset_exact(path, distance)
    if exact is not None:
        return update(project, path_id, shape=exact)
    if len(curve.curve.kink_stations):
        raise BadInput(
            f"“{path.name}” has kinks beside curves; make them smooth or round them before moving it sideways"
        )
    stations = np.union1d(np.linspace(0, curve.length, 800), curve.curve.breaks)
    speed = _beside(curve, stations, distance)[1]
    if float(speed.min()) <= 1e-6:
        worst = float(stations[int(np.argmin(speed))])
        raise BadInput(
            f"“{path.name}” bends more tightly than {abs(distance):g} mm on that side, at {worst:,.0f} mm: "
            "beside it the path would turn back on itself"
        )
    shape = free_points(path, AS_POINTS, lambda s, before: _beside(curve, s, distance, before=before))
    return update(project, path_id, shape=shape, trim=(0.0, 1.0))


def _beside(course: PathCurve, stations: Array, distance: float, *, before: bool = False) -> tuple[Array, Array]:
    """Places (n, 3) level and to the left of a path, and how fast (n,) they go along its tangent."""
    curve = course.curve

    def left(at: Array) -> Array:
        tangent = curve.tangent(at, before=before)
        level = np.stack([-tangent[:, 1], tangent[:, 0], np.zeros(len(at))], axis=1)
        size = np.linalg.norm(level, axis=1)
        if float(size.min()) < 1e-3:
            raise BadInput("the path runs straight up or down there, where nothing is sideways")
        return np.asarray(level / size[:, None])

    # how the left turns along the path tells how much longer or shorter the way beside it is
    step = 1e-5 * curve.length
    ahead, behind = np.minimum(stations + step, curve.length), np.maximum(stations - step, 0.0)
    change = (left(ahead) - left(behind)) / np.maximum(ahead - behind, 1e-12)[:, None]
    speed = 1.0 + distance * np.einsum("ij,ij->i", change, curve.tangent(stations, before=before))
    return curve.position(stations) + distance * left(stations), speed


def _offset_exact(path: Path, distance: float) -> Shape | None:
    """A shape of the same kind beside a shape, where there is one."""
    shape = path.shape
    if isinstance(shape, (PointShape, HelixShape, SurfaceShape)):
        polyline = isinstance(shape, PointShape) and path.trim == (0.0, 1.0) and len(shape.points) > 1
        return _offset_polyline(path, shape, distance) if polyline else None  # type: ignore[arg-type]
    # the left of what goes round counter-clockwise is its inside
    if isinstance(shape, ArcShape):
        axis = np.array(shape.axis) / np.linalg.norm(shape.axis)
        if abs(axis[2]) < 1 - 1e-12 or path.trim != (0.0, 1.0):
            return None
        inward = distance * float(np.sign(axis[2] * shape.sweep))
        out = np.array(shape.start) - np.array(shape.centre)
        out[2] = 0.0
        radius = float(np.linalg.norm(out))
        _refuse_inside(path, radius - inward)
        start = np.array(shape.start) - inward * out / radius
        return msgspec.structs.replace(shape, start=vector(start))
    inward = -distance if shape.clockwise else distance
    if isinstance(shape, OrbitShape):
        _refuse_inside(path, shape.offset - inward)
        return msgspec.structs.replace(shape, offset=shape.offset - inward)
    if isinstance(shape, RectangleShape):
        sides = shape.width - 2 * inward, shape.depth - 2 * inward
        round_ = shape.exponent == 2.0 and shape.radius > 0
        if not round_ and shape.radius > 0:
            return None  # beside a superellipse there is none
        radius = max(shape.radius - inward, 0.0) if round_ else 0.0
        _refuse_inside(path, min(sides))
        return msgspec.structs.replace(shape, width=sides[0], depth=sides[1], radius=radius)
    if shape.half_x != shape.half_y:
        return None
    _refuse_inside(path, shape.half_x - inward)
    return msgspec.structs.replace(shape, half_x=shape.half_x - inward, half_y=shape.half_y - inward)


def _refuse_inside(path: Path, size: float) -> None:
    if size <= 0:
        raise BadInput(f"“{path.name}” has no room for that on its inside")


def _offset_polyline(path: Path, shape: PointShape, distance: float) -> PointShape | None:
    """Level straight sides moved sideways, meeting in corners again."""
    places = np.array([p.position for p in shape.points])
    count = len(places)
    ends = () if shape.closed else (0, count - 1)
    if any(p.kind != "corner" and i not in ends for i, p in enumerate(shape.points)):
        return None
    if any(p.kind == "free" for p in shape.points) or float(np.ptp(places[:, 2])) > 1e-9:
        return None
    sides = np.roll(places, -1, axis=0) - places if shape.closed else np.diff(places, axis=0)
    directions = sides / np.linalg.norm(sides, axis=1)[:, None]
    left = np.stack([-directions[:, 1], directions[:, 0], np.zeros(len(directions))], axis=1)
    points = []
    for i, point in enumerate(shape.points):
        before = (i - 1) % len(directions) if shape.closed else max(i - 1, 0)
        after = i if i < len(directions) else len(directions) - 1
        middle = left[before] + left[after]
        square = float(middle @ middle)
        if square < 1e-9:
            raise BadInput(f"“{path.name}” turns right back at point {i + 1}; nothing runs beside it there")
        # where it turns to the left the bend to the left of it is the tighter one
        turn = float(np.sign(np.cross(directions[before], directions[after])[2]))
        radius = max(point.radius - turn * distance, 0.0) if point.radius > 0 else 0.0
        place = places[i] + distance * 2.0 * middle / square
        points.append(msgspec.structs.replace(point, position=vector(place), radius=radius))
    moved = np.array([p.position for p in points])
    fresh = np.roll(moved, -1, axis=0) - moved if shape.closed else np.diff(moved, axis=0)
    if (np.einsum("ij,ij->i", fresh, directions) <= 0).any():
        worst = int(np.argmin(np.einsum("ij,ij->i", fresh, directions)))
        raise BadInput(f"“{path.name}” has no room beside it between points {worst + 1} and {(worst + 1) % count + 1}")
    return msgspec.structs.replace(shape, points=tuple(points))
