"""Paths made of other things: contours around parts, edges, sections, pipes, arcs that fit. Lengths in mm."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import get, new_id, new_name, subtree
from kestrav.core.document.records import (
    ArcShape,
    Part,
    Path,
    PathPoint,
    PointShape,
    Project,
    Shape,
)
from kestrav.core.editing.joining import End, met, onto, own_handles
from kestrav.core.errors import BadInput
from kestrav.core.geometry.exact import circle_through
from kestrav.core.geometry.faces import Face, vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.topology import Edge, Topology, ring_of, surface_of, topology
from kestrav.core.geometry.transforms import apply
from kestrav.core.kinematics.traces import trace
from kestrav.core.later import later
from kestrav.core.parts.rest import rest_poses
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.paths.contour_shapes import Contour, contour_shape
from kestrav.core.paths.fitting import points_through
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import path_of, reverse

if TYPE_CHECKING:
    import shapely
else:
    shapely = later("shapely")

Array = NDArray[np.float64]

SECTION_TOLERANCE = 0.05  # mm between a section's facets and the path made of them
TRACE_TOLERANCE = 0.05  # mm between a trace and the path made of it
_SAME = 0.05  # mm and hundredths of rad by which pieces of one pipe may differ
_JOINS = 1e-3  # mm between ends of edges that are one corner
_MOST_OUTLINES = 24


def add_shape(project: Project, name: str, shape: Shape) -> Project:
    """The project with a path of a shape under a name not used yet."""
    return add(project, Path(new_id(project, Path), new_name(project, Path, name), shape))


# contours in plan


def _solids(project: Project, part_ids: Iterable[str]) -> list[tuple[int, Part]]:
    ids = {inner for part_id in part_ids for inner in subtree(project, part_id)}
    solids = [(i, p) for i, p in enumerate(project.parts) if p.id in ids and p.geometry is not None]
    if not solids:
        raise BadInput("what is chosen has no geometry; choose a part or an assembly that holds some")
    return solids


def plan_points(project: Project, meshes: Mapping[str, Mesh], part_ids: Iterable[str]) -> Array:
    """Corners (n, 2) of the parts' solids as seen from above, at rest."""
    rest = rest_poses(project)
    outlines = [apply(rest[i], solid_mesh(meshes, p).vertices)[:, :2] for i, p in _solids(project, part_ids)]
    return np.concatenate(outlines)


def add_contour(
    project: Project,
    meshes: Mapping[str, Mesh],
    part_ids: Sequence[str],
    kind: Contour,
    offset: float,
    height: float,
) -> Project:
    """The project with a contour around parts in plan: an ellipse, circle or rectangle of least area, or their hull."""
    shape = contour_shape(plan_points(project, meshes, part_ids), kind, offset, height)
    name = get(project, part_ids[0]).name if len(part_ids) == 1 else f"{len(part_ids)} things"
    return add_shape(project, f"Around {name}", shape)


# arcs


def arc_through(first: ArrayLike, second: ArrayLike, third: ArrayLike) -> ArcShape:
    """The arc from the first point over the second to the third. Raises BadInput for points on a line."""
    try:
        centre, axis, sweep = circle_through(first, second, third)
    except ValueError as fault:
        raise BadInput(f"no arc: {fault}") from fault
    return ArcShape(vector(centre), vector(first), float(np.degrees(sweep)), vector(axis))


def arc_of(centre: ArrayLike, start: ArrayLike, end: ArrayLike, normal: ArrayLike = (0.0, 0.0, 1.0)) -> ArcShape:
    """The arc about a centre from a start towards an end, the shorter way round an axis.

    The start gives the radius. Raises BadInput for an arc of no radius or no sweep.
    """
    middle, axis = np.asarray(centre, float), np.asarray(normal, float)
    u, w = np.asarray(start, float) - middle, np.asarray(end, float) - middle
    u, w = u - (u @ axis) * axis, w - (w @ axis) * axis
    if min(np.linalg.norm(u), np.linalg.norm(w)) < 1e-6:
        raise BadInput("the arc's radius is 0; put its ends away from its centre")
    sweep = float(np.degrees(np.arctan2(np.cross(u, w) @ axis, u @ w)))
    if abs(sweep) < 1e-6:
        raise BadInput("the arc's sweep is 0; its end lies in the direction of its start")
    return ArcShape(vector(middle), vector(start), sweep, vector(axis))


def tangent_arc(start: ArrayLike, direction: ArrayLike, end: ArrayLike) -> ArcShape | None:
    """The arc that leaves a start in a direction and reaches an end; None when that is a straight line.

    Raises BadInput when the end lies straight behind.
    """
    first, last, tangent = np.asarray(start, float), np.asarray(end, float), np.asarray(direction, float)
    tangent = tangent / np.linalg.norm(tangent)
    chord = last - first
    across = chord - (chord @ tangent) * tangent
    height = float(np.linalg.norm(across))
    if height < 1e-6 * max(float(np.linalg.norm(chord)), 1e-6):
        if chord @ tangent <= 0:
            raise BadInput("the end lies straight behind; an arc cannot reach it")
        return None
    inward = across / height
    # the centre is as far from both ends
    radius = float(chord @ chord) / (2 * height)
    centre = first + radius * inward
    axis = np.cross(tangent, inward)
    out = last - centre
    sweep = float(np.degrees(np.arctan2(out @ tangent, -(out @ inward)) % (2 * np.pi)))
    return ArcShape(vector(centre), vector(first), sweep, vector(axis))


# drawing on


def extended(project: Project, path_id: str, end: End, points: Sequence[PathPoint]) -> Project:
    """The project with a path drawn on from one of its ends, the points given outwards from it.

    What it was stays where it is. Runs keep their portions. Raises BadInput for a closed path.
    """
    path = path_of(project, path_id)
    old = path_curve(path)
    if old.curve.closed:
        raise BadInput(f"“{path.name}” is closed; open it before drawing on")
    if not points:
        return project
    simple = isinstance(path.shape, PointShape) and path.trim == (0.0, 1.0)
    shape = path.shape if simple else own_handles(path)
    assert isinstance(shape, PointShape)
    known = shape.points
    edited = (*known, *points) if end == "end" else (*reversed(points), *known)
    project = update(project, path_id, shape=PointShape(edited), trim=(0.0, 1.0))
    fresh = path_curve(path_of(project, path_id))
    # where what was there begins and ends now
    stations = fresh.point_stations()
    first = 0.0 if end == "end" else float(stations[len(points)])
    last = float(stations[len(known) - 1]) if end == "end" else fresh.length
    # the run's portion keeps its share of what was there
    runs = tuple(
        onto(run, path_id, first, last - first, fresh.length) if run.path == path_id else run for run in project.runs
    )
    return msgspec.structs.replace(project, runs=runs)


# edges


def edge_shape(faces: Topology, edge: Edge, pose: Array) -> Shape:
    """The path of one edge in space: an arc or circle where it is round, else its polyline or a smooth line."""
    ring = ring_of(faces, edge)
    if ring is not None:
        centre, axis = apply(pose, ring.centre[None])[0], pose[:3, :3] @ ring.axis
        rim = apply(pose, edge.points)
        # from the rim's own first point, on the exact circle
        u = rim[0] - centre
        u = u - (u @ axis) * axis
        start = centre + ring.radius * u / np.linalg.norm(u)
        v = np.cross(axis, u / np.linalg.norm(u))
        angles = np.unwrap(np.arctan2((rim - centre) @ v, (rim - centre) @ (u / np.linalg.norm(u))))
        sweep = 360.0 * np.sign(angles[1] - angles[0]) if edge.closed else float(np.degrees(angles[-1]))
        return ArcShape(vector(centre), vector(start), float(sweep), vector(axis))
    return _line_shape(apply(pose, edge.points), closed=edge.closed)


def _line_shape(points: Array, *, closed: bool) -> PointShape:
    """A polyline of facets as points: corners between straight sides, smooth ones along a curve."""
    if len(points) == 2:
        return PointShape(tuple(PathPoint(vector(p), "corner") for p in points))
    return points_through(points, SECTION_TOLERANCE, closed=closed)


def add_edge_path(
    project: Project, meshes: Mapping[str, Mesh], edges: Sequence[tuple[str, int]], poses: Array | None = None
) -> Project:
    """The project with a path along edges, by part id and number of the edge: a circle, arc, line or a chain of them.

    They are where they are at rest, or under world poses (parts, 4, 4). Chained edges may be of several parts; their ends must meet. Raises BadInput naming the gap when they do not.
    """
    if not edges:
        raise BadInput("pick an edge first")
    rest = rest_poses(project) if poses is None else poses
    row = {p.id: i for i, p in enumerate(project.parts)}
    pieces = []
    for part_id, number in edges:
        part = project.parts[row[part_id]]
        faces = topology(solid_mesh(meshes, part))
        pieces.append((faces, faces.edges[number], rest[row[part_id]]))
    name = f"Edge of {project.parts[row[edges[0][0]]].name}"
    if len(pieces) == 1:
        return add_shape(project, name, edge_shape(*pieces[0]))
    lines = [apply(pose, edge.points) for _, edge, pose in pieces]
    for k, (_, edge, _) in enumerate(pieces):
        if edge.closed:
            raise BadInput(f"edge {k + 1} closes on itself and cannot be chained; pick it alone")
    order = _chained(lines)
    shapes: list[PointShape] = []
    for k, turned in order:
        shape = edge_shape(*pieces[k])
        if not isinstance(shape, PointShape) or turned:
            probe = add_shape(project, name, shape)
            path = probe.paths[-1]
            if turned:
                path = path_of(reverse(probe, path.id), path.id)
            shape = own_handles(path)
        shapes.append(shape)
    points = list(shapes[0].points)
    for following in shapes[1:]:
        end, start = points[-1], following.points[0]
        points = [*points[:-1], met(end, start), *following.points[1:]]
    gap = float(np.linalg.norm(np.subtract(points[0].position, points[-1].position)))
    closed = gap < _JOINS and len(points) > 3
    if closed:
        points = [met(points[-1], points[0]), *points[1:-1]]
    return add_shape(project, name, PointShape(tuple(points), closed))


def _chained(lines: Sequence[Array]) -> list[tuple[int, bool]]:
    """The order in which lines follow one another, and which are turned round. Raises BadInput for a gap."""
    free = set(range(len(lines)))

    def touching(place: Array) -> list[tuple[int, bool]]:
        near = [(k, at) for k in sorted(free) for at in (0, -1) if np.linalg.norm(lines[k][at] - place) < _JOINS]
        return [(k, at == -1) for k, at in near]

    # begin at an edge with an end that no other meets, so that the chain runs through
    ends = [(k, at) for k in range(len(lines)) for at in (0, -1)]
    lone = [
        (k, at)
        for k, at in ends
        if not any(np.linalg.norm(lines[j][b] - lines[k][at]) < _JOINS for j, b in ends if j != k)
    ]
    first, at = lone[0] if lone else (0, 0)
    order = [(first, at == -1)]
    free.discard(first)
    while free:
        last, turned = order[-1]
        place = lines[last][0 if turned else -1]
        onward = touching(place)
        if not onward:
            gaps = [float(np.linalg.norm(lines[k][e] - place)) for k in free for e in (0, -1)]
            raise BadInput(f"the picked edges do not meet: a gap of {min(gaps):.2f} mm remains")
        order.append(onward[0])
        free.discard(onward[0][0])
    return order


# sections


def section_shapes(
    project: Project,
    meshes: Mapping[str, Mesh],
    part_ids: Iterable[str],
    point: ArrayLike,
    normal: ArrayLike,
    poses: Array | None = None,
) -> list[PointShape]:
    """The outlines in which a plane cuts parts, the longest first; at rest, or under world poses (parts, 4, 4).

    Overlapping and touching parts have one outline together. Raises BadInput when the plane misses them.
    """
    at, across = np.asarray(point, float), np.asarray(normal, float)
    across = across / np.linalg.norm(across)
    u = np.cross(across, [0.0, 0.0, 1.0] if abs(across[2]) < 0.9 else [1.0, 0.0, 0.0])
    u /= np.linalg.norm(u)
    v = np.cross(across, u)
    rest = rest_poses(project) if poses is None else poses
    areas = []
    for i, part in _solids(project, part_ids):
        body = solid_mesh(meshes, part).body.copy()
        body.apply_transform(rest[i])
        from trimesh.intersections import mesh_plane

        cut = np.asarray(mesh_plane(body, across, at))  # type: ignore[no-untyped-call]
        if not len(cut):
            continue
        flat = np.stack([(cut - at) @ u, (cut - at) @ v], axis=-1)
        # facets give their corners to all digits but the last ones
        flat = np.round(flat, 5)
        flat = flat[np.linalg.norm(flat[:, 1] - flat[:, 0], axis=1) > 0]
        areas += list(shapely.get_parts(shapely.polygonize(shapely.linestrings(flat))))
    outline = shapely.union_all(areas) if areas else None
    if outline is None or outline.is_empty:
        raise BadInput("the plane does not cut what is chosen")
    rings = [
        ring for area in shapely.get_parts(outline) for ring in [area.exterior, *area.interiors] if ring.length > 0
    ]
    shapes = []
    for ring in sorted(rings, key=lambda r: -r.length)[:_MOST_OUTLINES]:
        flat = shapely.get_coordinates(ring)
        shapes.append(points_through(at + flat[:, :1] * u + flat[:, 1:] * v, SECTION_TOLERANCE, closed=True))
    return shapes


def add_section_paths(
    project: Project,
    meshes: Mapping[str, Mesh],
    part_ids: Sequence[str],
    point: ArrayLike,
    normal: ArrayLike,
    poses: Array | None = None,
) -> Project:
    """The project with the outlines of a section through parts as paths."""
    name = get(project, part_ids[0]).name if len(part_ids) == 1 else f"{len(part_ids)} things"
    for shape in section_shapes(project, meshes, part_ids, point, normal, poses):
        project = add_shape(project, f"Section of {name}", shape)
    return project


# pipes


def pipe_shape(project: Project, meshes: Mapping[str, Mesh], part_ids: Iterable[str]) -> PointShape:
    """The centre line of a pipe, straight and bent pieces in one or several parts: corners rounded by the bends' radii.

    It goes by the cylinders and tori of the files, and by fitted cylinders where there are none. Raises BadInput when
    no straight piece is found or they do not follow one another.
    """
    rest = rest_poses(project)
    straight: list[tuple[Array, Array]] = []
    bends: list[tuple[Array, float]] = []
    for i, part in _solids(project, part_ids):
        faces = topology(solid_mesh(meshes, part))
        for number in range(faces.count):
            face = surface_of(faces, number).face.moved(rest[i])
            if face.kind == "cylinder":
                ends = _axis_ends(face)
                if ends is not None and not any(_is_same(ends, known) for known in straight):
                    straight.append(ends)
            elif face.kind == "torus" and not any(
                np.linalg.norm(centre - np.array(face.origin)) < _SAME for centre, _ in bends
            ):
                bends.append((np.array(face.origin), face.radius))
    straight = _longest(straight)
    if not straight:
        raise BadInput("no straight piece of a pipe is found in what is chosen; pick a pipe or its pieces")
    order = _pipe_order(straight)
    points = [PathPoint(vector(order[0][0]), "corner")]
    for (a, b), (c, d) in itertools.pairwise(order):
        corner = _meeting(a, b, c, d)
        if corner is None:
            raise BadInput("two straight pieces of the pipe do not lie in one plane or run beside each other")
        radius = _bend_between(bends, b, c, corner)
        points.append(PathPoint(vector(corner), "corner", radius=radius))
    points.append(PathPoint(vector(order[-1][1]), "corner"))
    return PointShape(tuple(points))


def _axis_ends(face: Face) -> tuple[Array, Array] | None:
    axis, origin = np.array(face.axis), np.array(face.origin)
    low, high = sorted(face.along)
    if high - low < 1e-3:
        return None
    return origin + low * axis, origin + high * axis


def _is_same(ends: tuple[Array, Array], known: tuple[Array, Array]) -> bool:
    """Whether two stretches lie on one axis and overlap: the inside and outside of one pipe."""
    axis = known[1] - known[0]
    length = float(np.linalg.norm(axis))
    axis = axis / length
    off = [float(np.linalg.norm((e - known[0]) - ((e - known[0]) @ axis) * axis)) for e in ends]
    along = sorted(float((e - known[0]) @ axis) for e in ends)
    return max(off) < _SAME and along[0] < length - _SAME and along[1] > _SAME


def _longest(straight: list[tuple[Array, Array]]) -> list[tuple[Array, Array]]:
    """The stretches without those of bolts and flanges: shorter than a fiftieth of the longest."""
    most = max((float(np.linalg.norm(b - a)) for a, b in straight), default=0.0)
    return [(a, b) for a, b in straight if np.linalg.norm(b - a) > most / 50]


def _pipe_order(straight: list[tuple[Array, Array]]) -> list[tuple[Array, Array]]:
    """Stretches in the order in which they follow one another, each turned the way along."""
    if len(straight) == 1:
        return straight
    ends = np.array(straight)  # (n, 2, 3)
    gaps = np.linalg.norm(ends[:, :, None, None] - ends[None, None], axis=-1)
    gaps[np.arange(len(ends)), :, np.arange(len(ends)), :] = np.inf
    # the pipe begins at the end that is farthest from any other
    first, side = divmod(int(np.argmax(gaps.min(axis=(2, 3)))), 2)
    order, free = [straight[first] if side == 0 else straight[first][::-1]], set(range(len(ends))) - {first}
    while free:
        here = order[-1][1]
        k, at = min(((k, at) for k in free for at in (0, 1)), key=lambda q: np.linalg.norm(ends[q] - here))
        order.append(straight[k] if at == 0 else straight[k][::-1])
        free.discard(k)
    return order


def _meeting(a: Array, b: Array, c: Array, d: Array) -> Array | None:
    """Where the axes of two stretches meet; half way between them where they run on in one line."""
    u, v, w = b - a, d - c, c - b
    u, v = u / np.linalg.norm(u), v / np.linalg.norm(v)
    cross = np.cross(u, v)
    square = float(cross @ cross)
    if square < 1e-8:
        side = w - (w @ u) * u
        return 0.5 * (b + c) if np.linalg.norm(side) < _SAME else None
    if abs(float(w @ cross)) / np.sqrt(square) > 1.0:
        return None
    s, t = float(np.cross(w, v) @ cross) / square, float(np.cross(w, u) @ cross) / square
    meeting: Array = 0.5 * (b + s * u + c + t * v)
    return meeting


def _bend_between(bends: list[tuple[Array, float]], b: Array, c: Array, corner: Array) -> float:
    """The radius of the bend between two stretches: the torus there, or what touches both where they end."""
    gap = float(np.linalg.norm(c - b))
    if gap < _SAME:
        return 0.0
    for centre, radius in bends:
        if abs(float(np.linalg.norm(centre - b)) - radius) < 0.02 * radius + _SAME and (
            abs(float(np.linalg.norm(centre - c)) - radius) < 0.02 * radius + _SAME
        ):
            return radius
    back, ahead = b - corner, c - corner
    reach = min(float(np.linalg.norm(back)), float(np.linalg.norm(ahead)))
    if reach < 1e-6:
        return 0.0
    cosine = float(np.clip(back @ ahead / (np.linalg.norm(back) * np.linalg.norm(ahead)), -1, 1))
    return reach * float(np.tan(np.arccos(cosine) / 2))


def add_pipe_path(project: Project, meshes: Mapping[str, Mesh], part_ids: Sequence[str]) -> Project:
    """The project with the centre line of a pipe as a path."""
    return add_shape(project, f"Centre line of {get(project, part_ids[0]).name}", pipe_shape(project, meshes, part_ids))


def add_trace_path(project: Project, part_id: str, point: ArrayLike, times: Sequence[float] | Array) -> Project:
    """The project with the trace of a part's point, over times in order, as a path within 0.05 mm of it.

    Raises BadInput when the point does not move.
    """
    # between the frames as well: the path is to follow the motion, not the film
    times = np.asarray(times, float)
    dense = np.linspace(times[0], times[-1], 4 * (len(times) - 1) + 1)
    places = trace(project, part_id, point, dense)
    name = next(part.name for part in project.parts if part.id == part_id)
    if float(np.ptp(places, axis=0).max()) < 1e-3:
        raise BadInput(f"“{name}” does not move there, so the point leaves no trace")
    shape = points_through(places, TRACE_TOLERANCE)
    path = Path(new_id(project, Path), new_name(project, Path, f"Trace of {name}"), shape)
    return add(project, path)
