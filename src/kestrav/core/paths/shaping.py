"""Shaping whole paths: reversing, moving, scaling, mirroring, lengths, and any shape made into free points.

Each edit takes a project and returns a new one; lengths in mm.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.edits import add, set_point, update
from kestrav.core.document.lookup import get, new_id, new_name
from kestrav.core.document.records import (
    ArcShape,
    BankKey,
    EllipseShape,
    HelixShape,
    KeyedOrientation,
    Limited,
    OrbitShape,
    Path,
    PathPoint,
    PointShape,
    Project,
    RectangleShape,
    Run,
    Shape,
    SurfaceShape,
)
from kestrav.core.errors import BadInput
from kestrav.core.geometry.arclength import Curve
from kestrav.core.geometry.faces import vector
from kestrav.core.parts.placing import turn_about
from kestrav.core.paths.path_curves import orbit_plan, path_curve

Array = NDArray[np.float64]
_SAME_MIDDLE = 1e-6  # mm

Anchor = Literal["start", "middle", "end"]

AS_POINTS = 0.01  # mm between a curve and the free points that it is made into
_MOST_POINTS = 4000
_SAMPLES = 9  # places of a piece that are compared


def path_of(project: Project, path_id: str) -> Path:
    """The path of an id. Raises BadInput when it is not a path."""
    path = get(project, path_id)
    if not isinstance(path, Path):
        raise BadInput(f"“{path.name}” is not a path")
    return path


def as_points(path: Path, tolerance: float = AS_POINTS) -> PointShape:
    """A path's curve as free points, cubic pieces within a tolerance in mm of it; corners stay corners.

    A cubic piece takes over position and tangent at its ends; its handles are a third of the piece's length, and
    pieces are halved until they fit. Raises BadInput when that takes too many points.
    """
    return free_points(path, tolerance, lambda s, before: (path_curve(path).curve.position(s), 1.0))


def free_points(
    path: Path, tolerance: float, follow: Callable[[Array, bool], tuple[Array, Array | float]]
) -> PointShape:
    """Free points of a curve that goes along beside a path: ``follow`` gives places (n, 3) at stations (n,) of the path
    and how fast (n,) it goes beside it; the tangents are the path's."""
    curve = path_curve(path).curve
    knots = list(curve.breaks)
    fits = False
    while not fits:
        if len(knots) > _MOST_POINTS:
            raise BadInput(f"the path “{path.name}” would need more than {_MOST_POINTS} points")
        stations = np.array(knots)
        worst = _departures(curve, follow, stations)
        fits = bool((worst <= tolerance).all())
        middles = 0.5 * (stations[:-1] + stations[1:])[worst > tolerance]
        knots = sorted([*knots, *middles.tolist()])
    stations = np.array(knots)
    (places, fast), (_, fast_before) = follow(stations, False), follow(stations, True)
    thirds = np.diff(stations) / 3
    ahead = curve.tangent(stations) * np.broadcast_to(fast, len(stations))[:, None]
    behind = curve.tangent(stations, before=True) * np.broadcast_to(fast_before, len(stations))[:, None]
    if curve.closed:
        behind[0] = behind[-1]
    count = len(stations) - (1 if curve.closed else 0)
    points = []
    for i in range(count):
        before = thirds[i - 1] if i > 0 or curve.closed else thirds[0]
        after = thirds[i] if i < len(thirds) else thirds[-1]
        points.append(PathPoint(vector(places[i]), "free", vector(-before * behind[i]), vector(after * ahead[i])))
    return PointShape(tuple(points), curve.closed)


def _departures(curve: Curve, follow: Callable[[Array, bool], tuple[Array, Array | float]], stations: Array) -> Array:
    """How far (n - 1,) cubic pieces between stations (n,) are from what they are to follow, in mm."""
    (first, fast), (last, fast_before) = follow(stations[:-1], False), follow(stations[1:], True)
    length = np.diff(stations)

    def position(at: Array) -> Array:
        return follow(at, False)[0]

    leave = curve.tangent(stations[:-1]) * (length * fast)[:, None]
    arrive = curve.tangent(stations[1:], before=True) * (length * fast_before)[:, None]
    worst = np.zeros(len(stations) - 1)
    for t in np.linspace(0, 1, _SAMPLES)[1:-1]:
        cubic = (
            (2 * t**3 - 3 * t**2 + 1) * first
            + (t**3 - 2 * t**2 + t) * leave
            + (3 * t**2 - 2 * t**3) * last
            + (t**3 - t**2) * arrive
        )
        worst = np.maximum(worst, np.linalg.norm(cubic - position(stations[:-1] + t * np.diff(stations)), axis=1))
    return worst


def to_points(project: Project, path_id: str, tolerance: float = AS_POINTS) -> Project:
    """The project with a path made of free points, and its trim made good."""
    return update(project, path_id, shape=as_points(path_of(project, path_id), tolerance), trim=(0.0, 1.0))


def reverse(project: Project, path_id: str) -> Project:
    """The project with a path travelled the other way; what runs on it turns round with it, on its portion."""
    path = path_of(project, path_id)
    shape: Shape = path.shape
    if isinstance(shape, PointShape):
        points = [
            msgspec.structs.replace(p, handle_in=p.handle_out, handle_out=p.handle_in) for p in reversed(shape.points)
        ]
        if shape.closed:
            # it still begins at its first point
            points = [points[-1], *points[:-1]]
        shape = msgspec.structs.replace(shape, points=tuple(points))
    elif isinstance(shape, (EllipseShape, RectangleShape)):
        shape = msgspec.structs.replace(shape, clockwise=not shape.clockwise)
    elif isinstance(shape, OrbitShape):
        shape = _orbit_from_its_end(path, shape)
    elif isinstance(shape, ArcShape):
        end = path_curve(msgspec.structs.replace(path, trim=(0.0, 1.0))).curve
        shape = msgspec.structs.replace(shape, start=vector(end.position([end.length])[0]), sweep=-shape.sweep)
    else:
        return reverse(to_points(project, path_id), path_id)
    begin, end_ = path.trim
    project = update(project, path_id, shape=shape, trim=(1.0 - end_, 1.0 - begin))
    runs = tuple(_turned_round(run) if run.path == path_id else run for run in project.runs)
    return msgspec.structs.replace(project, runs=runs)


def _orbit_from_its_end(path: Path, shape: OrbitShape) -> OrbitShape:
    whole = path_curve(msgspec.structs.replace(path, trim=(0.0, 1.0)))
    away = whole.curve.position([whole.length])[0, :2] - orbit_plan(shape)[1]
    start = shape.start if whole.curve.closed else float(np.degrees(np.arctan2(away[1], away[0])))
    return msgspec.structs.replace(
        shape, start=start, height=shape.height + shape.rise, rise=-shape.rise, clockwise=not shape.clockwise
    )


def _turned_round(run: Run) -> Run:
    """A run, with its zones and keys, on the same places of its path when that begins at its other end."""
    fields: dict[str, object] = {"begin": 1.0 - run.end, "end": 1.0 - run.begin}
    if isinstance(run.speed_profile, Limited):
        zones = [
            msgspec.structs.replace(z, begin=1.0 - z.end, end=1.0 - z.begin) for z in reversed(run.speed_profile.zones)
        ]
        fields["speed_profile"] = msgspec.structs.replace(run.speed_profile, zones=tuple(zones))
    # what leant to the left of the way leans to its right then
    keys = [BankKey(1.0 - key.place, -key.angle) for key in reversed(run.bank.keys)]
    fields["bank"] = msgspec.structs.replace(run.bank, keys=tuple(keys))
    fields["holds"] = tuple(msgspec.structs.replace(h, place=1.0 - h.place) for h in reversed(run.holds))
    fields["mark"] = None if run.mark is None else 1.0 - run.mark
    if isinstance(run.orientation, KeyedOrientation):
        turns = [msgspec.structs.replace(k, place=1.0 - k.place) for k in reversed(run.orientation.keys)]
        fields["orientation"] = msgspec.structs.replace(run.orientation, keys=tuple(turns))
    return msgspec.structs.replace(run, **fields)


def transformed(project: Project, path_id: str, matrix: ArrayLike) -> Project:
    """The project with a path under a (4, 4) matrix that turns, shifts, mirrors and scales evenly.

    Points and arcs take it as they are; level shapes keep their parameters where they stay level and are not
    mirrored, and become points otherwise, as does a path on a surface. Raises BadInput for a matrix that distorts.
    """
    matrix = np.asarray(matrix, float)
    linear, shift = matrix[:3, :3], matrix[:3, 3]
    scale = abs(float(np.linalg.det(linear))) ** (1 / 3)
    if scale < 1e-9 or not np.allclose(linear.T @ linear, scale**2 * np.eye(3), atol=1e-9 * scale**2):
        raise BadInput("a path can be moved, turned, mirrored and scaled evenly; this would distort it")
    path = path_of(project, path_id)
    shape = path.shape
    if not isinstance(shape, PointShape):
        kept = _kept_shape(shape, linear, shift, scale)
        if kept is None:
            return transformed(to_points(project, path_id), path_id, matrix)
        return update(project, path_id, shape=kept)

    def turned(handle: tuple[float, float, float] | None) -> tuple[float, float, float] | None:
        return None if handle is None else vector(linear @ np.array(handle))

    points = tuple(
        msgspec.structs.replace(
            p,
            position=vector(linear @ np.array(p.position) + shift),
            handle_in=turned(p.handle_in),
            handle_out=turned(p.handle_out),
            radius=p.radius * scale,
        )
        for p in shape.points
    )
    return update(project, path_id, shape=msgspec.structs.replace(shape, points=points))


def _kept_shape(shape: Shape, linear: Array, shift: Array, scale: float) -> Shape | None:
    """An exact shape under a matrix with its parameters, or None when it has none for that."""
    fields: dict[str, object] = {}
    if isinstance(shape, (PointShape, SurfaceShape)):
        return None
    if isinstance(shape, OrbitShape):
        return _kept_orbit(shape, linear, shift, scale)
    if isinstance(shape, ArcShape):
        # seen in a mirror it goes round the other way
        fields["start"] = vector(linear @ np.array(shape.start) + shift)
        fields["axis"] = vector(linear @ np.array(shape.axis) / scale)
        fields["sweep"] = shape.sweep * float(np.sign(np.linalg.det(linear)))
    elif np.linalg.det(linear) < 0 or abs(linear[2, 2] / scale - 1.0) > 1e-12:
        return None
    else:
        turn = float(np.degrees(np.arctan2(linear[1, 0], linear[0, 0])))
        name = "start" if isinstance(shape, HelixShape) else "turn"
        if turn:
            fields[name] = (getattr(shape, name) + turn + 180.0) % 360.0 - 180.0
        if scale != 1.0:
            lengths = {"half_x", "half_y", "width", "depth", "radius", "pitch"}
            fields |= {f: getattr(shape, f) * scale for f in shape.__struct_fields__ if f in lengths}
    fields["centre"] = vector(linear @ np.array(shape.centre) + shift)
    return msgspec.structs.replace(shape, **fields)


def _kept_orbit(shape: OrbitShape, linear: Array, shift: Array, scale: float) -> OrbitShape | None:
    """An orbit under a matrix that leaves it level; moved away from what it went around it goes around nothing any more."""
    if np.linalg.det(linear) < 0 or abs(linear[2, 2] / scale - 1.0) > 1e-12:
        return None
    outline = np.array(shape.outline)
    around = outline @ linear[:2, :2].T + shift[:2]
    turn = float(np.degrees(np.arctan2(linear[1, 0], linear[0, 0])))
    fields: dict[str, object] = {
        "height": scale * shape.height + float(shift[2]),
        "start": (shape.start + turn + 180.0) % 360.0 - 180.0,
        "toward": (shape.toward + turn + 180.0) % 360.0 - 180.0,
    }
    if scale != 1.0 or np.abs(around.mean(axis=0) - outline.mean(axis=0)).max() > _SAME_MIDDLE:
        fields["outline"] = tuple((float(x), float(y)) for x, y in around)
        fields |= {"around": (), "offset": scale * shape.offset, "rise": scale * shape.rise}
        fields["rounding"] = None if shape.rounding is None else scale * shape.rounding
    return msgspec.structs.replace(shape, **fields)


def anchor_of(path: Path, anchor: Anchor) -> Array:
    """The place (3,) of a path's start, end, or the middle of its length."""
    curve = path_curve(path).curve
    share = {"start": 0.0, "middle": 0.5, "end": 1.0}[anchor]
    place: Array = curve.position([share * curve.length])[0]
    return place


def scale_about(project: Project, path_id: str, factor: float, about: ArrayLike) -> Project:
    """The project with a path scaled evenly about a point (3,). Raises BadInput for a factor that is not above 0."""
    if not factor > 0 or not np.isfinite(factor):
        raise BadInput(f"the scale factor is {factor:g}; it must be above 0")
    matrix = np.diag([factor, factor, factor, 1.0])
    matrix[:3, 3] = (1 - factor) * np.asarray(about, float)
    return transformed(project, path_id, matrix)


def set_length(project: Project, path_id: str, length: float, anchor: Anchor | Literal["last"] = "start") -> Project:
    """The project with a path of an exact length, to 1e-9 of it.

    It is scaled evenly about its start, middle or end; or with "last" its last segment is made longer or shorter,
    along the way that it arrives in. Raises BadInput for a length that cannot be.
    """
    if not length > 0 or not np.isfinite(length):
        raise BadInput(f"a length of {length:g} mm is not possible; it must be above 0")
    path = path_of(project, path_id)
    now = path_curve(path).length
    if anchor != "last":
        return scale_about(project, path_id, length / now, anchor_of(path, anchor))
    shape = path.shape
    if not isinstance(shape, PointShape) or shape.closed or path.trim != (0.0, 1.0):
        raise BadInput(f"“{path.name}” has no last segment of its own; scale it about one of its ends instead")
    curve = path_curve(path).curve
    direction = curve.tangent([curve.length], before=True)[0]
    last = np.array(shape.points[-1].position)
    step = length - now

    def with_step(size: float) -> Project:
        points = (
            *shape.points[:-1],
            msgspec.structs.replace(shape.points[-1], position=vector(last + size * direction)),
        )
        return update(project, path_id, shape=msgspec.structs.replace(shape, points=points))

    # a straight last segment takes the whole step at once; a curved one needs a few by secants
    previous, off_before = 0.0, now - length
    for _ in range(60):
        result = with_step(step)
        off = path_curve(path_of(result, path_id)).length - length
        if abs(off) <= 1e-9 * length:
            return result
        slope = (off - off_before) / (step - previous) if step != previous else 1.0
        previous, off_before = step, off
        step -= off / slope if abs(slope) > 1e-6 else off
    raise BadInput(f"the last segment of “{path.name}” cannot give it a length of {length:g} mm")


def turn_of(path: Path, share: float) -> float | None:
    """How far round, in degrees from its start, a share of a path's whole shape is; None where nothing goes round."""
    if not isinstance(path.shape, (EllipseShape, ArcShape, HelixShape)):
        return None
    whole = path_curve(Path(path.id, path.name, path.shape)).curve
    return float(np.degrees(whole.parameter(share * whole.length)))


def share_at(path: Path, turn: float) -> float:
    """The share of a path's whole shape at which it is so many degrees round from its start, within 0 to 1."""
    whole = path_curve(Path(path.id, path.name, path.shape)).curve
    ends = np.degrees(whole.shape.breaks[[0, -1]])
    if not ends[0] < turn < ends[1]:
        return 0.0 if turn <= ends[0] else 1.0
    share = scipy.optimize.brentq(
        lambda s: float(np.degrees(whole.parameter(s))) - turn, 0.0, whole.length, xtol=1e-9 * whole.length
    )
    return float(share / whole.length)


def raised(project: Project, path_id: str, height: float) -> Project:
    """The project with a path shifted up or down so that its start is at a height in mm."""
    low = float(anchor_of(path_of(project, path_id), "start")[2])
    matrix = np.eye(4)
    matrix[2, 3] = height - low
    return transformed(project, path_id, matrix)


def flattened(project: Project, path_id: str, height: float) -> Project:
    """The project with all points of a path at one height in mm, its handles level.

    A level shape is shifted there; others become points first.
    """
    path = path_of(project, path_id)
    if isinstance(path.shape, (EllipseShape, RectangleShape)):
        return raised(project, path_id, height)
    if not isinstance(path.shape, PointShape):
        return flattened(to_points(project, path_id), path_id, height)

    def level(handle: tuple[float, float, float] | None) -> tuple[float, float, float] | None:
        return None if handle is None else (handle[0], handle[1], 0.0)

    points = tuple(
        msgspec.structs.replace(
            p,
            position=(p.position[0], p.position[1], height),
            handle_in=level(p.handle_in),
            handle_out=level(p.handle_out),
        )
        for p in path.shape.points
    )
    return update(project, path_id, shape=msgspec.structs.replace(path.shape, points=points))


def mirrored(project: Project, path_id: str, axis: Literal["x", "y", "z"], at: float = 0.0) -> Project:
    """The project with a path mirrored about the plane across an axis at a place in mm."""
    k = "xyz".index(axis)
    matrix = np.eye(4)
    matrix[k, k], matrix[k, 3] = -1.0, 2.0 * at
    return transformed(project, path_id, matrix)


def round_corner(project: Project, path_id: str, index: int, radius: float | None = None) -> Project:
    """The project with one corner rounded by a radius in mm, or by half of what has room when none is given."""
    path = path_of(project, path_id)
    shape = path.shape
    if not isinstance(shape, PointShape):
        raise BadInput(f"“{path.name}” is not made of points")
    if radius is None:
        everything = path_of(round_corners(project, path_id, 1e6), path_id).shape
        assert isinstance(everything, PointShape)
        radius = float(f"{0.5 * everything.points[index].radius:.2g}")
    return set_point(project, path_id, index, radius=radius)


def make_smooth(project: Project, path_id: str, index: int) -> Project:
    """The project with a point smooth, and its radius gone with the corner."""
    return set_point(project, path_id, index, kind="smooth", radius=0.0, handle_in=None, handle_out=None)


def direct_end(project: Project, path_id: str, end: Literal["start", "end"]) -> Project:
    """The project with an end point of a path that has no handle of its own, so that the path leaves it as it goes."""
    shape = path_of(project, path_id).shape
    assert isinstance(shape, PointShape)
    return make_smooth(project, path_id, 0 if end == "start" else len(shape.points) - 1)


def untangled(project: Project, path_id: str, index: int) -> Project:
    """The project with the handles of the piece after a point no longer than a third of the way to the next, and turned
    along it where they point away."""
    path = path_of(project, path_id)
    shape = path.shape
    assert isinstance(shape, PointShape)
    points, after = list(shape.points), (index + 1) % len(shape.points)
    direction = np.array(points[after].position) - np.array(points[index].position)
    reach = float(np.linalg.norm(direction)) / 3
    for k, own, other, sense in ((index, "handle_out", "handle_in", 1.0), (after, "handle_in", "handle_out", -1.0)):
        point = points[k]
        handle = getattr(point, own)
        mirrored = getattr(point, other)
        if point.kind != "free" or (handle is None and mirrored is None):
            continue
        offset = np.array(handle) if handle is not None else -np.array(mirrored)
        size = float(np.linalg.norm(offset))
        if size < 1e-9:
            continue
        if offset @ direction * sense <= 0:
            offset, size = sense * direction, float(np.linalg.norm(direction))
        short = vector(offset * min(1.0, reach / size))
        # the handle on the other side keeps its own length
        kept = {own: short, other: mirrored if mirrored is not None else vector(-np.array(handle))}
        points[k] = msgspec.structs.replace(point, **kept)
    return update(project, path_id, shape=msgspec.structs.replace(shape, points=tuple(points)))


def round_corners(project: Project, path_id: str, radius: float) -> Project:
    """The project with every corner of a path between two straight sides rounded by a radius; 0 makes them sharp.

    Corners with less room get what fits. Raises BadInput for a path that is not made of points.
    """
    path = path_of(project, path_id)
    shape = path.shape
    if not isinstance(shape, PointShape):
        raise BadInput(f"“{path.name}” is not made of points")
    if radius < 0:
        raise BadInput(f"the radius is {radius:g} mm; give 0 or more")
    places = np.array([p.position for p in shape.points], float)
    count = len(places)
    points = list(shape.points)
    inner = range(count) if shape.closed else range(1, count - 1)
    for i in inner:
        before, after = points[i - 1], points[(i + 1) % count]
        straight = before.kind == after.kind == "corner" or (
            not shape.closed
            and {i - 1, i + 1} <= {0, count - 1} | {j for j in range(count) if points[j].kind == "corner"}
        )
        if points[i].kind != "corner" or not straight:
            continue
        a, b = places[i - 1] - places[i], places[(i + 1) % count] - places[i]
        cosine = float(np.clip(a @ b / (np.linalg.norm(a) * np.linalg.norm(b)), -1, 1))
        half = np.tan((np.pi - np.arccos(cosine)) / 2)
        # half of each side belongs to this corner, and all of one that ends the path
        rooms = [
            float(np.linalg.norm(side)) * (1.0 if not shape.closed and j in (0, count - 1) else 0.5)
            for side, j in ((a, i - 1), (b, (i + 1) % count))
        ]
        fits = min(rooms) / half if half > 1e-9 else np.inf
        points[i] = msgspec.structs.replace(points[i], radius=float(min(radius, fits)))
    return update(project, path_id, shape=msgspec.structs.replace(shape, points=tuple(points)))


def moved_points(project: Project, path_id: str, indices: Sequence[int], step: ArrayLike) -> Project:
    """The project with several points of a path moved by a step (3,) in mm."""
    path, step = path_of(project, path_id), np.asarray(step, float)
    shape = path.shape
    if not isinstance(shape, PointShape):
        raise BadInput(f"“{path.name}” is not made of points")
    if any(not 0 <= i < len(shape.points) for i in indices):
        raise BadInput(f"the path “{path.name}” has {len(shape.points)} points and not all of those to move")
    chosen = set(indices)
    points = tuple(
        msgspec.structs.replace(p, position=vector(np.array(p.position) + step)) if i in chosen else p
        for i, p in enumerate(shape.points)
    )
    return update(project, path_id, shape=msgspec.structs.replace(shape, points=points))


def with_coordinates(project: Project, path_id: str, places: Sequence[ArrayLike]) -> Project:
    """The project with a path's points at places (n, 3); those it has keep their kinds, further ones are smooth."""
    path = path_of(project, path_id)
    shape = path.shape
    if not isinstance(shape, PointShape):
        raise BadInput(f"“{path.name}” is not made of points; make it points first")
    known = shape.points
    points = tuple(
        msgspec.structs.replace(known[i], position=vector(place)) if i < len(known) else PathPoint(vector(place))
        for i, place in enumerate(places)
    )
    return update(project, path_id, shape=msgspec.structs.replace(shape, points=points))


def copied(project: Project, path_id: str, step: ArrayLike = (0.0, 0.0, 0.0)) -> Project:
    """The project with a copy of a path, a step (3,) in mm on; nothing runs along it yet."""
    path = path_of(project, path_id)
    edited = msgspec.structs.replace(path, id=new_id(project, Path), name=new_name(project, Path, f"{path.name}, copy"))
    project = add(project, edited)
    matrix = np.eye(4)
    matrix[:3, 3] = np.asarray(step, float)
    return transformed(project, edited.id, matrix)


def turned_about(project: Project, path_id: str, angle: float, about: ArrayLike) -> Project:
    """The project with a path turned by an angle in degrees about the upright axis through a point (3,)."""
    return transformed(project, path_id, turn_about(about, (0.0, 0.0, 1.0), np.radians(angle)))
