"""Joining, splitting, repeating paths, and what runs along them meanwhile. Lengths in mm."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import add, remove, set_point, update
from kestrav.core.document.lookup import new_id, new_name
from kestrav.core.document.records import (
    BankKey,
    Eased,
    Even,
    KeyedOrientation,
    Limited,
    Path,
    PathPoint,
    PointShape,
    Project,
    Run,
    SpeedProfile,
    Vector,
)
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput
from kestrav.core.geometry.curves import Spline
from kestrav.core.geometry.faces import vector
from kestrav.core.kinematics.runs import course_of
from kestrav.core.kinematics.speed_profile import part_as_keys
from kestrav.core.paths.path_curves import parametric_of, path_curve
from kestrav.core.paths.shaping import as_points, path_of, reverse, transformed

Array = NDArray[np.float64]
End = Literal["start", "end"]

MEETS = 0.01  # mm between ends that are taken for one point


def own_handles(path: Path) -> PointShape:
    """A path's curve as points each of which keeps its shape by itself: exactly, where it is a spline.

    Straight pieces stay between corners; other points become free ones with the handles of the cubic pieces. A
    shape of another kind, or a trimmed or rounded one, becomes free points within a hundredth of a millimetre.
    """
    shape = path.shape
    if not isinstance(shape, PointShape) or path.trim != (0.0, 1.0) or any(p.radius > 0 for p in shape.points):
        return as_points(path)
    spline, _ = parametric_of(shape)
    assert isinstance(spline, Spline)
    x, c = spline.breaks, spline.polynomial.c
    width = np.diff(x)[:, None]
    leave, arrive = c[2], c[2] + 2 * c[1] * width + 3 * c[0] * width**2
    bend = np.linalg.norm(c[0] * width**2, axis=1) + np.linalg.norm(c[1] * width, axis=1)
    straight = bend <= 1e-9 * np.linalg.norm(leave, axis=1)
    count = len(shape.points)
    points = []
    for i, point in enumerate(shape.points):
        before, after = i - 1, i
        if shape.closed:
            before %= count
        has_before, has_after = before >= 0, after < len(width)
        if (not has_before or straight[before]) and (not has_after or straight[after]):
            points.append(PathPoint(point.position, "corner"))
            continue
        back = vector(-arrive[before] * width[before] / 3) if has_before else None
        ahead = vector(leave[after] * width[after] / 3) if has_after else None
        points.append(PathPoint(point.position, "free", back, ahead))
    return PointShape(tuple(points), shape.closed)


# runs


def _with_runs(project: Project, path_ids: set[str], change: Callable[[Run], list[Run]]) -> Project:
    runs: list[Run] = []
    for run in project.runs:
        runs += change(run) if run.path in path_ids else [run]
    return validate(msgspec.structs.replace(project, runs=tuple(runs)))


def onto(run: Run, path: str, shift: float, old: float, size: float) -> Run:
    """A run, with its zones of speed and keys of bank, where its path lies on another.

    ``shift`` is the station of the old path's start on the new one, ``old`` and ``size`` are their lengths. What falls
    off an end is cut; a bank that changes across it is kept by a key there.
    """

    def place(share: float) -> float:
        return float(np.clip((share * old + shift) / size, 0.0, 1.0))

    fields: dict[str, object] = {"path": path, "begin": place(run.begin), "end": place(run.end)}
    if isinstance(run.speed_profile, Limited) and run.speed_profile.zones:
        zones = [msgspec.structs.replace(z, begin=place(z.begin), end=place(z.end)) for z in run.speed_profile.zones]
        fields["speed_profile"] = msgspec.structs.replace(
            run.speed_profile, zones=tuple(z for z in zones if z.begin < z.end)
        )
    if run.bank.keys:
        at = np.array([(key.place * old + shift) / size for key in run.bank.keys])
        angles = [key.angle for key in run.bank.keys]
        kept = {p: a for p, a in zip(at.tolist(), angles, strict=True) if 0 <= p <= 1}
        for end in (0.0, 1.0):
            if at[0] < end < at[-1]:
                kept.setdefault(end, float(np.interp(end, at, angles)))
        held = kept or {0.0: angles[0] if at[0] > 1 else angles[-1]}
        fields["bank"] = msgspec.structs.replace(run.bank, keys=tuple(BankKey(p, held[p]) for p in sorted(held)))
    begin, final = place(run.begin), place(run.end)
    holds = [msgspec.structs.replace(h, place=(h.place * old + shift) / size) for h in run.holds]
    fields["holds"] = tuple(h for h in holds if begin < h.place < final)
    fields["mark"] = None if run.mark is None else place(run.mark)
    if isinstance(run.orientation, KeyedOrientation):
        # of keys that fall off an end the nearest one holds there
        turns = {place(key.place): key for key in run.orientation.keys if (key.place * old + shift) / size <= 1}
        turns = turns or {1.0: run.orientation.keys[0]}
        keys = tuple(msgspec.structs.replace(turns[p], place=p) for p in sorted(turns))
        fields["orientation"] = msgspec.structs.replace(run.orientation, keys=keys)
    return msgspec.structs.replace(run, **fields)


def met(end: PathPoint, start: PathPoint) -> PathPoint:
    """The point where one piece ends and another begins: a corner between straight ones, else with both their handles.

    A nil handle leaves its side as straight as it is.
    """
    if end.kind != "free" and start.kind != "free":
        return PathPoint(end.position, "corner")
    zero = (0.0, 0.0, 0.0)
    back = end.handle_in if end.kind == "free" else None
    ahead = start.handle_out if start.kind == "free" else None
    return PathPoint(end.position, "free", back or zero, ahead or zero)


# joining


def join(project: Project, first_id: str, second_id: str) -> Project:
    """The project with two paths made one, by the nearest two of their ends; a gap is bridged by a straight piece.

    It keeps the first one's id, name and direction. Runs stay on their portions; those of a path that had to be
    turned round with it go the other way. Raises BadInput for a closed path.
    """
    if first_id == second_id:
        raise BadInput("a path cannot be joined to itself; close it instead")
    for path_id in (first_id, second_id):
        if path_curve(path_of(project, path_id)).curve.closed:
            raise BadInput(f"“{path_of(project, path_id).name}” is closed; open or split it before joining")
    ends = [path_curve(path_of(project, i)).curve.position([0.0, np.inf]) for i in (first_id, second_id)]
    gaps = np.linalg.norm(ends[0][:, None] - ends[1][None], axis=2)
    mine, theirs = divmod(int(np.argmin(gaps)), 2)
    if mine == theirs:
        project = reverse(project, second_id)
    first, second = path_of(project, first_id), path_of(project, second_id)
    before, after = (first, second) if mine == 1 else (second, first)
    lengths = path_curve(before).length, path_curve(after).length
    a, b = own_handles(before).points, own_handles(after).points
    gap = float(gaps.min())
    if gap <= MEETS:
        points = (*a[:-1], met(a[-1], b[0]), *b[1:])
        gap = 0.0
    else:
        points = (*a[:-1], _ending(a[-1], "out"), _ending(b[0], "in"), *b[1:])
    project = update(project, first_id, shape=PointShape(points), trim=(0.0, 1.0))
    size = path_curve(path_of(project, first_id)).length
    starts = {before.id: (0.0, lengths[0]), after.id: (lengths[0] + gap, lengths[1])}

    def moved(run: Run) -> list[Run]:
        return [onto(run, first_id, *starts[run.path], size)]

    project = _with_runs(project, {first_id, second_id}, moved)
    return remove(project, second_id)


def _ending(point: PathPoint, side: Literal["in", "out"]) -> PathPoint:
    """An end point from which a straight piece goes on."""
    if point.kind == "corner":
        return point
    # the handle on the other side is on the straight piece, and a nil one there leaves it straight
    if side == "out":
        return msgspec.structs.replace(point, handle_out=(0.0, 0.0, 0.0))
    return msgspec.structs.replace(point, handle_in=(0.0, 0.0, 0.0))


def merge_points(project: Project, path_id: str, indices: list[int]) -> Project:
    """The project with points of a path that follow one another made one, in their middle."""
    path = path_of(project, path_id)
    shape = path.shape
    picked = sorted(set(indices))
    if not isinstance(shape, PointShape):
        raise BadInput(f"“{path.name}” is not made of points")
    if len(picked) < 2 or picked != list(range(picked[0], picked[-1] + 1)):
        raise BadInput("points can be merged when they follow one another; choose two or more neighbours")
    middle = np.mean([shape.points[i].position for i in picked], axis=0)
    merged = msgspec.structs.replace(shape.points[picked[0]], position=vector(middle), radius=0.0)
    points = (*shape.points[: picked[0]], merged, *shape.points[picked[-1] + 1 :])
    return update(project, path_id, shape=msgspec.structs.replace(shape, points=points))


# splitting


def split(project: Project, path_id: str, station: float) -> Project:
    """The project with a path split at a station into itself and a new one behind it.

    A closed path is opened there instead. A run across the place becomes two that follow each other in time, a soft
    start staying with the first and a soft stop with the second. Raises BadInput at an end of the path.
    """
    path = path_of(project, path_id)
    curve = path_curve(path).curve
    if curve.closed:
        return opened(project, path_id, station)
    if not MEETS < station < curve.length - MEETS:
        raise BadInput(f"the path “{path.name}” cannot be split at its end; choose a place between its ends")
    old = {run.id: course_of(project, run) for run in project.runs if run.path == path_id}
    front, back = _divided(path, station)
    rest = Path(new_id(project, Path), new_name(project, Path, f"{path.name}, second part"), back)
    project = add(update(project, path_id, shape=front, trim=(0.0, 1.0)), rest)
    first, second = path_curve(path_of(project, path_id)).length, path_curve(rest).length
    taken: list[str] = []

    def shared(run: Run) -> list[Run]:
        course = old[run.id]
        one = onto(run, path_id, 0.0, curve.length, first)
        two = onto(run, rest.id, -station, curve.length, second)
        if course.last <= station + MEETS:
            return [one]
        if course.first >= station - MEETS:
            return [two]
        if run.passes != 1 or run.follows is not None or run.portion is not None:
            raise BadInput(
                f"the run “{run.name}” goes on across the place in one piece; let it go once and by itself first"
            )
        at = float(course.times_at([station])[0])
        distances = station - course.first, course.last - station
        if run.backwards:
            one, two, distances = two, one, distances[::-1]
        speed_profile: tuple[SpeedProfile, SpeedProfile] = (run.speed_profile, run.speed_profile)
        if (
            isinstance(run.speed_profile, Eased)
            and not run.holds
            and run.speed_profile.start_time is run.speed_profile.stop_time is None
        ):
            soft = run.speed_profile
            speed_profile = (
                Eased(min(soft.start_length, distances[0]), 0.0),
                Eased(0.0, min(soft.stop_length, distances[1])),
            )
        elif not isinstance(run.speed_profile, Even) or run.holds:
            middle, whole = at - course.start, course.profile
            speed_profile = (part_as_keys(whole, 0.0, middle), part_as_keys(whole, middle, course.duration))
        ids = {r.id for r in project.runs} | set(taken)
        name = next(f"{run.id}-{k}" for k in range(2, 1000) if f"{run.id}-{k}" not in ids)
        taken.append(name)
        replace = msgspec.structs.replace
        return [
            replace(one, speed_profile=speed_profile[0], duration=at - course.start, speed=None, holds=()),
            replace(
                two,
                id=name,
                name=f"{run.name}, second part",
                start=at,
                trigger=None,
                holds=(),
                speed_profile=speed_profile[1],
                duration=course.end - at,
                speed=None,
            ),
        ]

    return _with_runs(project, {path_id}, shared)


def _divided(path: Path, station: float) -> tuple[PointShape, PointShape]:
    """A path's points before and after a station, the place itself belonging to both; the curve stays as it is."""
    shape = own_handles(path)
    whole = Path(path.id, path.name, shape)
    curve = path_curve(whole)
    station = min(station, curve.length)
    at_points = curve.point_stations()
    near = int(np.argmin(np.abs(at_points - station)))
    points = list(shape.points)
    if abs(at_points[near] - station) <= MEETS and 0 < near < len(points) - 1:
        index = near
    else:
        index = int(np.clip(np.searchsorted(at_points, station), 1, len(points) - 1))
        points = _with_point(curve.curve.shape, curve.curve.parameter(station), points, index)  # type: ignore[arg-type]
    return PointShape(tuple(points[: index + 1])), PointShape(tuple(points[index:]))


def _with_point(spline: Spline, parameter: Array, points: list[PathPoint], index: int) -> list[PathPoint]:
    """Points with one more before an index, at a parameter, by which the curve does not change (de Casteljau)."""
    low, high = spline.breaks[index - 1], spline.breaks[index]
    here = spline.evaluate(np.atleast_1d(parameter))[0]
    if points[index - 1].kind == points[index].kind == "corner":
        return [*points[:index], PathPoint(vector(here), "corner"), *points[index:]]
    t, width = float((parameter - low) / (high - low)), high - low
    slope = spline.evaluate(np.array([low, parameter, np.nextafter(high, -np.inf)]), 1) * width / 3
    point = PathPoint(vector(here), "free", vector(-t * slope[1]), vector((1 - t) * slope[1]))
    replace = msgspec.structs.replace
    before = replace(_freed(points[index - 1]), handle_out=vector(t * slope[0]))
    after = replace(_freed(points[index]), handle_in=vector(-(1 - t) * slope[2]))
    return [*points[: index - 1], before, point, after, *points[index + 1 :]]


def _freed(point: PathPoint) -> PathPoint:
    """A corner as a free point whose other side stays straight."""
    if point.kind != "corner":
        return point
    return msgspec.structs.replace(point, kind="free", handle_in=(0.0, 0.0, 0.0), handle_out=(0.0, 0.0, 0.0))


def opened(project: Project, path_id: str, station: float = 0.0) -> Project:
    """The project with a closed path opened at a station: it begins and ends there."""
    path = path_of(project, path_id)
    shape = own_handles(path)
    if not shape.closed:
        raise BadInput(f"“{path.name}” is open already")
    # the seam as an end of its own
    seam = shape.points[0]
    line = PointShape((*shape.points, seam))
    runs = {run.id: course_of(project, run) for run in project.runs if run.path == path_id}
    length = path_curve(path).length
    station = station % length
    if MEETS < station < length - MEETS:
        front, back = _divided(Path(path.id, path.name, line), station)
        end, start = front.points[0], back.points[-1]
        joint = start if start.kind == "corner" else msgspec.structs.replace(start, handle_out=end.handle_out)
        line = PointShape((*back.points[:-1], joint, *front.points[1:]))
    else:
        station = 0.0
    project = update(project, path_id, shape=line, trim=(0.0, 1.0))

    def turned(run: Run) -> list[Run]:
        course = runs[run.id]
        # a place before the new ends lies a lap later
        lap = length if station and course.first < station else 0.0
        if course.first < station < course.last:
            # it went over the new ends; the whole of the path is the nearest to it that there is
            return [msgspec.structs.replace(run, begin=0.0, end=1.0)]
        return [onto(run, path_id, lap - station, length, length)]

    return _with_runs(project, {path_id}, turned)


def closed(project: Project, path_id: str) -> Project:
    """The project with an open path of points joined end to start; ends in one place become one point."""
    path = path_of(project, path_id)
    shape = path.shape if isinstance(path.shape, PointShape) and path.trim == (0.0, 1.0) else own_handles(path)
    if shape.closed:
        raise BadInput(f"“{path.name}” is closed already")
    points = shape.points
    if float(np.linalg.norm(np.subtract(points[0].position, points[-1].position))) <= MEETS:
        first = points[0]
        if first.kind == "free" and points[-1].kind == "free":
            first = msgspec.structs.replace(first, handle_in=points[-1].handle_in or first.handle_in)
        points = (first, *points[1:-1])
    before = path_curve(path).length
    project = update(project, path_id, shape=PointShape(points, True), trim=(0.0, 1.0))
    size = path_curve(path_of(project, path_id)).length
    return _with_runs(project, {path_id}, lambda run: [onto(run, path_id, 0.0, before, size)])


def cut_out(project: Project, path_id: str, first: float, last: float) -> Project:
    """The project with the portion of an open path between two stations taken out; its ends are joined there.

    Runs keep their shares of the path. Raises BadInput when nothing would be left.
    """
    path = path_of(project, path_id)
    curve = path_curve(path).curve
    if curve.closed or not MEETS < first < last < curve.length - MEETS:
        raise BadInput(
            f"the portion cannot be taken out of “{path.name}”; it must lie between the ends of an open path"
        )
    front, back = _divided(path, first)[0], _divided(path, last)[1]
    joint = met(front.points[-1], back.points[0])
    return update(project, path_id, shape=PointShape((*front.points[:-1], joint, *back.points[1:])), trim=(0.0, 1.0))


def bring_start(project: Project, path_id: str, place: Vector, station: float = 0.0) -> Project:
    """The project with a path's start at a place: its first point goes there, or all of it when it has none of its own.

    ``station`` is the place of the path that is to lie there, if it is not the start: then all of it is shifted.
    """
    path = path_of(project, path_id)
    shape = path.shape
    if isinstance(shape, PointShape) and station <= MEETS and path.trim[0] == 0:
        return set_point(project, path_id, 0, position=place)
    here = path_curve(path).curve.position([station])[0]
    matrix = np.eye(4)
    matrix[:3, 3] = np.asarray(place) - here
    return transformed(project, path_id, matrix)


def turn_start(project: Project, path_id: str, direction: Vector) -> Project:
    """The project with an open path of points leaving its first point along a direction."""
    shape = path_of(project, path_id).shape
    assert isinstance(shape, PointShape)
    first, second = (np.array(p.position) for p in shape.points[:2])
    own = shape.points[0].handle_out if shape.points[0].kind == "free" else None
    size = float(np.linalg.norm(own)) if own is not None else float(np.linalg.norm(second - first)) / 3
    along = np.asarray(direction) / np.linalg.norm(direction)
    return set_point(project, path_id, 0, kind="free", handle_in=None, handle_out=vector(size * along), radius=0.0)


def repeated(project: Project, path_id: str, times: int) -> Project:
    """The project with an open path going on by itself: each repetition begins where the last one ends.

    Runs stay on the first of them. Raises BadInput for a closed path, or fewer than 2 or more than 200 times.
    """
    path = path_of(project, path_id)
    if not 2 <= times <= 200:
        raise BadInput(f"a path can be repeated 2 to 200 times in all, not {times}")
    curve = path_curve(path).curve
    if curve.closed:
        raise BadInput(f"“{path.name}” is closed; a run along it can go round again instead")
    shape, length = own_handles(path), curve.length
    step = np.array(shape.points[-1].position) - np.array(shape.points[0].position)
    points = list(shape.points)
    for k in range(1, times):
        ahead = [msgspec.structs.replace(p, position=vector(np.array(p.position) + k * step)) for p in shape.points]
        joint = met(points[-1], ahead[0])
        points = [*points[:-1], joint, *ahead[1:]]
    project = update(project, path_id, shape=PointShape(tuple(points)), trim=(0.0, 1.0))
    size = path_curve(path_of(project, path_id)).length
    return _with_runs(project, {path_id}, lambda run: [onto(run, path_id, 0.0, length, size)])
