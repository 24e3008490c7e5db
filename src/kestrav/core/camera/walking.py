"""Walkthroughs: smooth walks over the floor, around what stands there. Lengths in mm, speeds in mm/s."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.camera.camera_surroundings import Near, surroundings
from kestrav.core.camera.making import with_shot
from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import get, get_as, new_id, new_name, subtree
from kestrav.core.document.records import (
    Aim,
    AlongAim,
    Axle,
    Camera,
    Ground,
    Hold,
    Limited,
    Part,
    Path,
    PathPoint,
    PointShape,
    Project,
    Run,
    TimedRotation,
    Trigger,
    Walk,
)
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import apply
from kestrav.core.kinematics.ground import heights_below, standing
from kestrav.core.kinematics.runs import course_of
from kestrav.core.later import later
from kestrav.core.memo import Memo
from kestrav.core.parts.rest import own_bounds, rest_poses, row_of
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.paths.path_curves import path_curve

if TYPE_CHECKING:
    import shapely
else:
    shapely = later("shapely")

Array = NDArray[np.float64]

EYE_HEIGHT, DISTANCE, SPEED = 1600.0, 400.0, 1200.0  # common practice, no source
STEP = 150.0  # what is lower is stepped over; what lies higher above the eyes than HEAD is passed under
HEAD = 200.0
AHEAD = 2000.0  # how far ahead a walker looks
REACH = 500.0  # in which the floor is looked for above and below the waypoints
_SIDEWAYS, _GAIN = 350.0, 500.0  # mm/s² in bends, and in setting out and coming to rest
_SMALL = 250.0  # parts smaller than this in plan are taken as their hull
# mm kept beyond the distance for corners that are rounded off, and mm that these may be cut by
_TRIES = ((30.0, np.inf), (30.0, 20.0), (12.0, 8.0), (4.0, 2.0), (90.0, np.inf), (250.0, 200.0))
_MOVED = 600.0  # by which a waypoint is moved at most
_SEGMENTS = 3  # of a quarter turn about an obstacle's corner
_MOST_CORNERS = 240
_HAIR = 0.5
_JOINT = 100.0  # mm
_FINEST = 20.0  # from place to place where the distance is measured
_BEFORE_DOOR = 1500.0  # from a door's middle at which it begins to open
_DOOR_TAKES = 1.2  # s


class Planned(msgspec.Struct, frozen=True):
    """A walk: its points (k, 3), the radii (k,) of its corners, the least distance in plan to what stands there, and how far each
    waypoint was moved to keep it."""

    points: Array
    radii: Array
    clearance: float
    moved: Array


def floor_heights(project: Project, meshes: Mapping[str, Mesh], places: ArrayLike) -> Array:
    """Heights (n,) of the floor at places (n, 3), the floor at height 0 where nothing lies within reach below them."""
    places = np.asarray(places, float)
    met = heights_below(project, meshes, places + np.array([0.0, 0.0, REACH]), standing(project))
    return np.where(met > places[:, 2] - REACH, met, 0.0)


class Obstacles(msgspec.Struct, frozen=True, dict=True):
    """What stands on a floor, as seen from above: areas and lines, the row of the part of each, and a tree of them."""

    rows: NDArray[np.intp]
    tree: shapely.STRtree

    @cached_property
    def whole(self) -> shapely.Geometry:
        """All of it as one."""
        return shapely.union_all(self.tree.geometries) if len(self.rows) else shapely.Point()

    def distances(self, places: Array) -> tuple[Array, NDArray[np.intp], Array]:
        """Distances (n,) in plan from places (n, 2), the rows (n,) of what is nearest, and the nearest places (n, 2) of it."""
        if not len(self.rows):
            none = np.full(len(places), -1, np.intp)
            return np.full(len(places), np.inf), none, np.full((len(places), 2), np.nan)
        spots = shapely.points(places)
        nearest = self.tree.nearest(spots)
        lines = shapely.shortest_line(self.tree.geometries[nearest], spots)
        return shapely.length(lines), self.rows[nearest], shapely.get_coordinates(lines).reshape(-1, 2, 2)[:, 0]


_obstacles_kept: Memo[Obstacles] = Memo(8)


def obstacles(
    project: Project, meshes: Mapping[str, Mesh], low: float, high: float, exclude: Iterable[str] = ()
) -> Obstacles:
    """What stands between two heights, as seen from above; without some things, and without what moves."""
    left = frozenset(standing(project)) - {inner for thing in exclude for inner in subtree(project, thing)}
    by = (low, high, left)
    return _obstacles_kept.get((project.parts, meshes), lambda: _obstacles(project, meshes, *by), *by)


def _obstacles(
    project: Project, meshes: Mapping[str, Mesh], low: float, high: float, left: frozenset[str]
) -> Obstacles:
    from trimesh.intersections import slice_mesh_plane

    rest, shapes, rows_ = rest_poses(project), list[shapely.Geometry](), list[int]()
    for row, part in enumerate(project.parts):
        if part.geometry is None or part.id not in left:
            continue
        shape = solid_mesh(meshes, part)
        heights = apply(rest[row], shape.vertices)[:, 2]
        if heights.max() <= low or heights.min() >= high:
            continue
        body = shape.body.copy()
        body.apply_transform(rest[row])
        for direction, at in (((0, 0, 1), low), ((0, 0, -1), high)):
            if len(body.faces):
                body = slice_mesh_plane(body, direction, (0, 0, at))  # type: ignore[no-untyped-call]
        if len(body.faces):
            shapes.append(_from_above(np.asarray(body.vertices)[:, :2], np.asarray(body.faces)))
            rows_.append(row)
    return Obstacles(np.array(rows_, np.intp), shapely.STRtree(shapes))


def _from_above(flat: Array, triangles: NDArray[np.intp]) -> shapely.Geometry:
    """Triangles of points (k, 2) as one; small ones as their hull."""
    if np.ptp(flat, axis=0).max() < _SMALL:
        return shapely.convex_hull(shapely.multipoints(flat))
    corners = flat[triangles]
    across = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    wide = np.abs(across[0][:, 0] * across[1][:, 1] - across[0][:, 1] * across[1][:, 0]) > 1e-6
    # upright faces are lines from above
    sides = [*shapely.polygons(corners[wide]), *shapely.linestrings(corners[~wide][:, [0, 1, 2, 0]])]
    return shapely.union_all(sides)


def kept_distances(project: Project, meshes: Mapping[str, Mesh], walk: Walk, places: ArrayLike, poses: Array) -> Near:
    """What is nearest to one who walks with the eyes at places (n, 3), under world poses (n, parts, 4, 4).

    In plan, to what stands between the heights of :data:`STEP` above the floor and of the head; and to what moves.
    """
    places = np.asarray(places, float)
    floor = places[:, 2] - walk.eye_height
    band = float(floor.min()) + STEP, float(floor.max()) + walk.eye_height + HEAD
    still = obstacles(project, meshes, *band)
    away, row, spot = still.distances(places[:, :2])
    near = Near(away, row, np.column_stack([spot, places[:, 2]]), away <= 0)
    stands = frozenset(i for i, part in enumerate(project.parts) if part.id in standing(project))
    moving = surroundings(project, meshes, places, poses, stands, max(walk.eye_height - STEP, 0.0))
    nearer = moving.distance < near.distance
    return Near(
        np.where(nearer, moving.distance, near.distance),
        np.where(nearer, moving.row, near.row),
        np.where(nearer[:, None], moving.point, near.point),
        np.where(nearer, moving.inside, near.inside),
    )


def plan_walk(
    project: Project,
    meshes: Mapping[str, Mesh],
    waypoints: ArrayLike,
    distance: float = DISTANCE,
    eye_height: float = EYE_HEIGHT,
    *,
    around: bool = True,
    doors: Sequence[str] = (),
) -> Planned:
    """A smooth walk over waypoints (n, 3) on the floor, ``around`` what stands between them at a distance, or straight.

    Between waypoints it is the shortest way: along the visibility graph of the obstacles grown by the distance (T.
    Lozano-Pérez, M. Wesley, CACM 22(10), 1979). ``doors`` are gone through. Raises BadInput for fewer than two
    waypoints or where there is no way that keeps the distance, naming the distance that could be kept.
    """
    points = np.asarray(waypoints, float).reshape(-1, 3)
    apart = np.linalg.norm(np.diff(points, axis=0), axis=1) > 1.0
    if not apart.any():
        raise BadInput("a walk needs two waypoints or more; click them on the floor")
    if not distance >= 0 or not eye_height > STEP:
        raise BadInput(f"a walk keeps 0 mm or more, with eyes above {STEP:g} mm")
    points = points[np.concatenate([[True], apart])].copy()
    points[:, 2] = floor_heights(project, meshes, points)
    low = float(points[:, 2].min()) + STEP
    high = float(points[:, 2].max()) + eye_height + HEAD
    blocked = obstacles(project, meshes, low, high, doors).whole
    if not around or blocked.is_empty:
        return _rounded(points, points, blocked)
    blocked = shapely.union(blocked, _no_floor(project, meshes, points))
    for slack, cut in _TRIES:
        path, moved = _around(points[:, :2], blocked, distance, slack)
        placed = np.column_stack([path, np.interp(_along(path), _at(path, moved), points[:, 2])])
        planned = _rounded(placed, points, blocked, cut)
        if planned.clearance >= distance - 1e-6:
            break
    return msgspec.structs.replace(planned, moved=np.linalg.norm(moved - points[:, :2], axis=1))


def _along(path: Array) -> Array:
    return np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(path, axis=0), axis=1))])


def _at(path: Array, places: Array) -> Array:
    """How far along a line (k, 2) its corners are that are these places (m, 2), in their order."""
    along, pieces, first = _along(path), [], 0
    for place in places:
        k = first + int(np.argmin(np.linalg.norm(path[first:] - place, axis=1)))
        pieces.append(along[k])
        first = k
    return np.array(pieces)


def _around(points: Array, blocked: shapely.Geometry, distance: float, slack: float) -> tuple[Array, Array]:
    """The shortest line (k, 2) over places (n, 2), and the places as they were moved out of what is too near."""
    grown, tolerance = _grown(blocked, distance + slack, 2.0), 4.0
    while shapely.get_num_coordinates(grown) > _MOST_CORNERS and tolerance < 0.5 * (distance + slack):
        grown = shapely.simplify(_grown(blocked, distance + slack + tolerance, 2.0), tolerance)
        tolerance *= 2.0
    inner = shapely.buffer(grown, -_HAIR)
    shapely.prepare(inner)
    moved = points.copy()
    for i, place in enumerate(points):
        spot = shapely.Point(place)
        if grown.contains(spot):
            moved[i] = shapely.get_coordinates(shapely.shortest_line(grown.boundary, spot))[0]
            if np.linalg.norm(moved[i] - place) > max(_MOVED, distance + slack):
                raise BadInput(
                    f"waypoint {i + 1} lies within what stands there; {distance:g} mm away from it is too far"
                )
    rings = [ring for area in shapely.get_parts(grown) if area.geom_type == "Polygon" for ring in _rings(area)]
    corners = np.concatenate([moved, *(_turning_out(ring) for ring in rings)]) if rings else moved
    a, b = np.triu_indices(len(corners), 1)
    sides = shapely.linestrings(np.stack([corners[a], corners[b]], axis=1))
    free = ~shapely.intersects(inner, sides)
    length = np.linalg.norm(corners[a] - corners[b], axis=1)
    graph = scipy.sparse.csr_matrix((length[free], (a[free], b[free])), (len(corners), len(corners)))
    reached, before = scipy.sparse.csgraph.dijkstra(
        graph, directed=False, indices=np.arange(len(moved) - 1), return_predecessors=True
    )
    path = [0]
    for i in range(len(moved) - 1):
        if not np.isfinite(reached[i, i + 1]):
            raise BadInput(_no_path(moved, i, blocked, distance))
        segment, here = [], i + 1
        while here != i:
            segment.append(here)
            here = int(before[i, here])
        path += segment[::-1]
    return corners[path], moved


def _grown(blocked: shapely.Geometry, by: float, tolerance: float) -> shapely.Geometry:
    """What lies within a distance, which may be a little more."""
    # piece by piece and with few corners, as that is far faster than all at once
    pieces = shapely.simplify(shapely.get_parts(blocked), tolerance)
    return shapely.union_all(shapely.buffer(pieces, by + tolerance, quad_segs=_SEGMENTS))


def _rings(area: shapely.Polygon) -> list[Array]:
    """The outline and the holes of an area, counter-clockwise about it and clockwise about the holes."""
    area = shapely.orient_polygons(area)
    return [shapely.get_coordinates(ring)[:-1] for ring in (area.exterior, *area.interiors)]


def _turning_out(ring: Array) -> Array:
    """The corners of a ring about an obstacle that a taut line can bend at."""
    before, after = ring - np.roll(ring, 1, axis=0), np.roll(ring, -1, axis=0) - ring
    return ring[before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0] > 0]


def _no_path(places: Array, i: int, blocked: shapely.Geometry, distance: float) -> str:
    """That there is no way between two places, and the distance that could be kept there."""
    low, high = 0.0, distance
    pair = [shapely.Point(p) for p in places[i : i + 2]]
    box = shapely.box(*shapely.total_bounds(shapely.multipoints(places))).buffer(10 * distance + 5000.0)
    for _ in range(12):
        middle = 0.5 * (low + high)
        free = shapely.difference(box, shapely.buffer(blocked, middle))
        together = any(all(area.buffer(1.0).contains(p) for p in pair) for area in shapely.get_parts(free))
        low, high = (middle, high) if together else (low, middle)
    could = f"; {np.floor(low):g} mm could be kept" if low >= 1 else ""
    return f"there is no path from waypoint {i + 1} to {i + 2} that keeps {distance:g} mm from everything{could}"


def _no_floor(project: Project, meshes: Mapping[str, Mesh], points: Array) -> shapely.Geometry:
    """Where there is no floor to walk on around points (n, 3) that all lie on one; nothing where they do not."""
    low, high = float(points[:, 2].min()) - STEP, float(points[:, 2].max()) + STEP
    rest, floors, left = rest_poses(project), [], standing(project)
    for row, part in enumerate(project.parts):
        if part.geometry is None or part.id not in left:
            continue
        shape = solid_mesh(meshes, part)
        places = apply(rest[row], shape.vertices)
        corners = places[shape.triangles]
        if np.ptp(places[:, :2], axis=0).min() < _SMALL:
            continue
        normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        heights = corners[:, :, 2]
        flat = (normal[:, 2] > 0.7 * np.linalg.norm(normal, axis=1)) & (heights.min(axis=1) >= low)
        flat &= heights.max(axis=1) <= high
        if flat.any():
            floors.append(shapely.union_all(shapely.polygons(corners[flat][:, :, :2])))
    floor = shapely.union_all(floors) if floors else shapely.Polygon()
    # gaps as wide as a joint are walked over
    floor = shapely.buffer(shapely.buffer(floor, _JOINT, join_style="mitre"), -_JOINT, join_style="mitre")
    if not shapely.covers(floor, shapely.multipoints(points[:, :2])):
        return shapely.Polygon()
    around = shapely.box(*shapely.total_bounds(floor)).buffer(_MOVED, join_style="mitre")
    return shapely.difference(around, floor)


def _rounded(points: Array, waypoints: Array, blocked: shapely.Geometry, cut: float = np.inf) -> Planned:
    """Points (k, 3) with corners as round as their sides have room for and as they may be cut, and the least distance of that line."""
    flat = points[:, :2]
    keep = np.concatenate([[True], np.linalg.norm(np.diff(flat, axis=0), axis=1) > 1.0])
    points, flat = points[keep], flat[keep]
    side = np.linalg.norm(np.diff(flat, axis=0), axis=1)
    direction = np.diff(flat, axis=0) / side[:, None]
    radii = np.zeros(len(flat))
    for i in range(1, len(flat) - 1):
        turn = float(np.arccos(np.clip(direction[i - 1] @ direction[i], -1.0, 1.0)))
        if turn > 1e-3:
            # an end's side has no other corner to share with
            room = min(side[i - 1] * (0.98 if i == 1 else 0.49), side[i] * (0.98 if i == len(flat) - 2 else 0.49))
            radii[i] = min(room / np.tan(turn / 2), cut / (1.0 / np.cos(turn / 2) - 1.0))
    radii = np.minimum(np.round(radii, 3), 1e5)
    clearance = float("inf")
    if not blocked.is_empty:
        curve = path_curve(Path("", "", _shape(points, radii))).curve
        places = curve.position(np.linspace(0.0, curve.length, max(int(curve.length / _FINEST), 2)))
        shapely.prepare(blocked)
        clearance = float(shapely.distance(blocked, shapely.points(places[:, :2])).min())
    return Planned(points, radii, clearance, np.zeros(len(waypoints)))


def _shape(points: Array, radii: Array) -> PointShape:
    return PointShape(
        tuple(PathPoint(vector(np.round(p, 3)), "corner", radius=float(r)) for p, r in zip(points, radii, strict=True))
    )


def add_walk(
    project: Project,
    meshes: Mapping[str, Mesh],
    waypoints: ArrayLike,
    eye_height: float = EYE_HEIGHT,
    speed: float = SPEED,
    distance: float = DISTANCE,
    ahead: float = AHEAD,
    *,
    around: bool = True,
    doors: Sequence[str] = (),
    begin: float = 0.0,
) -> Project:
    """The project with a walk over waypoints, a camera that goes along it at the height of the eyes looking ahead, and a shot.

    It follows the floor's slopes and steps. Raises BadInput as :func:`plan_walk`.
    """
    planned = plan_walk(project, meshes, waypoints, distance, eye_height, around=around, doors=doors)
    path = Path(new_id(project, Path), new_name(project, Path, "Walk"), _shape(planned.points, planned.radii))
    camera = Camera(
        new_id(project, Camera),
        new_name(project, Camera, "Walkthrough"),
        AlongAim(ahead),
        position=vector(planned.points[0] + [0.0, 0.0, eye_height]),
        focal_length=24.0,
        aim_lag=0.5,
        walk=Walk(eye_height, distance),
    )
    run = Run(
        new_id(project, Run),
        new_name(project, Run, "Walkthrough"),
        camera.id,
        path.id,
        start=begin,
        duration=None,
        speed=speed,
        speed_profile=Limited(speed, _SIDEWAYS, _GAIN, _GAIN),
        offset=(0.0, 0.0, eye_height),
        ground=Ground(REACH),
    )
    project = add(project, path, camera, run)
    return with_shot(project, camera.id)


def with_stop(project: Project, run_id: str, share: float, seconds: float = 3.0, look: Aim | None = None) -> Project:
    """The project with a stop of a run at a share of its path's length, to look at something there."""
    run = get_as(project, run_id, Run)
    inside = min(max(share, run.begin + 1e-3), run.end - 1e-3)
    kept = [h for h in run.holds if abs(h.place - inside) > 1e-6]
    holds = tuple(sorted([*kept, Hold(inside, seconds, look)], key=lambda h: h.place))
    duration = None if run.duration is None else run.duration + seconds
    return update(project, run_id, holds=holds, duration=duration)


def open_door(project: Project, meshes: Mapping[str, Mesh], run_id: str, door: str, angle: float = 90.0) -> Project:
    """The project with a door that swings open, away from who comes, as a run nears it.

    It turns about the upright edge of its box that its origin is nearest to. Raises BadInput for what is no door: what the
    run's path does not pass.
    """
    run, leaf = get(project, run_id), get(project, door)
    assert isinstance(run, Run)
    if not isinstance(leaf, Part):
        raise BadInput(f"“{leaf.name}” is no part; a door is a part or an assembly")
    low, high = own_bounds(project, door)
    pose = rest_poses(project)[row_of(project, door)]
    up = pose[:3, :3].T @ np.array([0.0, 0.0, 1.0])
    tall = int(np.argmax(np.abs(up)))
    wide = max((i for i in range(3) if i != tall), key=lambda i: high[i] - low[i])
    middle = 0.5 * (low + high)
    hinge = middle.copy()
    hinge[wide] = low[wide] if abs(low[wide]) <= abs(high[wide]) else high[wide]
    course = course_of(project, run)
    centre = apply(pose, middle[None])[0]
    station = course.path.curve.nearest(np.array([centre[0], centre[1], course.path.curve.position([0.0])[0, 2]]))
    passes = float(np.linalg.norm((course.path.curve.position([station])[0] - centre)[:2]))
    if passes > 0.6 * float(high[wide] - low[wide]):
        raise BadInput(f"“{run.name}” does not pass “{leaf.name}”: it stays {passes:,.0f} mm from its middle")
    ahead = course.path.curve.tangent([station])[0] * (-1.0 if run.backwards else 1.0)
    away = pose[:3, :3] @ (middle - hinge)
    # turned to the left about the upright, the leaf's middle goes where the upright times its arm points
    sense = 1.0 if np.cross([0.0, 0.0, 1.0], away) @ ahead > 0 else -1.0
    distance = (course.last - station if run.backwards else station - course.first) - _BEFORE_DOOR
    share = float(np.clip(distance / course.length, 0.0, 1.0))
    rotation = TimedRotation(
        new_id(project, TimedRotation),
        new_name(project, TimedRotation, f"{leaf.name} opens"),
        door,
        Axle(vector(hinge), vector(np.round(up, 9))),
        end=_DOOR_TAKES,
        turns=sense * angle / 360.0,
        rpm=None,
        ramp_in=0.3 * _DOOR_TAKES,
        ramp_out=0.3 * _DOOR_TAKES,
        trigger=Trigger(run_id, "station", share) if share > 0 else Trigger(run_id, "start"),
    )
    return add(project, rotation)


def replanned(project: Project, meshes: Mapping[str, Mesh], run_id: str) -> Project:
    """The project with a walk planned anew around what stands there, over the points of its path. Raises BadInput as
    :func:`plan_walk`."""
    run = get_as(project, run_id, Run)
    camera, path = get(project, run.rider), get(project, run.path)
    if not isinstance(camera, Camera) or camera.walk is None or not isinstance(path, Path):
        raise BadInput(f"“{run.name}” is no walkthrough; only those are planned around things")
    if not isinstance(path.shape, PointShape):
        raise BadInput(f"“{path.name}” has no points to go over")
    doors = [
        rotation.part
        for rotation in project.rotations
        if isinstance(rotation.trigger, Trigger) and rotation.trigger.run == run_id
    ]
    places = [p.position for p in path.shape.points]
    planned = plan_walk(project, meshes, places, camera.walk.distance, camera.walk.eye_height, around=True, doors=doors)
    return update(project, path.id, shape=_shape(planned.points, planned.radii))
