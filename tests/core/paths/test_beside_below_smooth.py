"""Paths moved sideways, let down, smoothed, by table and by several points."""

import itertools

import numpy as np
import pytest
import shapely
import trimesh

from kestrav.core.document import edits
from kestrav.core.document.records import (
    ArcShape,
    EllipseShape,
    HelixShape,
    Part,
    Path,
    PathPoint,
    Placement,
    PointShape,
    Project,
    RectangleShape,
    Run,
)
from kestrav.core.editing.grounding import projected_down
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.parts.solids import with_meshes
from kestrav.core.paths import shaping
from kestrav.core.paths.analysis import least_bend
from kestrav.core.paths.fitting import departure, points_through
from kestrav.core.paths.offsetting import offset_sideways
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.smoothing import smoothed, widened


def points(*places, kind="smooth", closed=False, radius=0.0):
    return PointShape(tuple(PathPoint(p, kind, radius=radius) for p in places), closed)


WAVY = points((0, 0, 0), (300, 100, 0), (700, -80, 0), (1100, 60, 0), (1500, 0, 0))
ZIGZAG = points((0, 0, 0), (800, 0, 0), (800, 600, 0), (1600, 600, 0), kind="corner", radius=150)
SHAPES = {
    "wavy": WAVY,
    "rounded": ZIGZAG,
    "sharp": points((0, 0, 0), (800, 0, 0), (800, 600, 0), (1600, 900, 0), kind="corner"),
    "ring of corners": points((0, 0, 0), (900, 0, 0), (900, 500, 0), (0, 700, 0), kind="corner", closed=True),
    "ellipse": EllipseShape((0, 0, 40), 500, 300, 20),
    "circle": EllipseShape((0, 0, 40), 400, 400),
    "clockwise circle": EllipseShape((0, 0, 40), 400, 400, clockwise=True),
    "rectangle": RectangleShape((0, 0, 0), 900, 600, 150),
    "arc": ArcShape((0, 0, 0), (400, 0, 0), 130),
    "arc back": ArcShape((0, 0, 0), (400, 0, 0), -130),
}


def project(shape, trim=(0.0, 1.0)):
    return Project(paths=(Path("path-1", "Way", shape, trim),))


def curve(made):
    return path_curve(made.paths[0]).curve


@pytest.mark.parametrize("distance", [60.0, -60.0])
@pytest.mark.parametrize("shape", SHAPES.values(), ids=SHAPES)
def test_a_path_beside_is_shapelys_offset_curve(shape, distance):
    before, after = curve(project(shape)), curve(offset_sideways(project(shape), "path-1", distance))
    line, made = (c.position(np.union1d(np.linspace(0, c.length, 6001), c.breaks)) for c in (before, after))
    kinked = len(before.kink_stations) > 0
    if kinked:
        line = before.position(before.breaks)
    style = "mitre" if kinked else "round"
    if before.closed:
        area = shapely.Polygon(line[:-1, :2])
        outward = -distance if area.exterior.is_ccw else distance
        wanted = area.buffer(outward, quad_segs=128, join_style=style, mitre_limit=20).exterior
    else:
        wanted = shapely.LineString(line[:, :2]).offset_curve(distance, quad_segs=128, join_style=style, mitre_limit=20)
    assert shapely.distance(shapely.points(made[:, :2]), wanted).max() < 0.05
    assert shapely.LineString(made[:, :2]).length == pytest.approx(wanted.length, rel=1e-4)
    assert np.all(made[:, 2] == before.position([0.0])[0, 2])


def test_exact_shapes_and_radii_stay_exact_beside():
    made = offset_sideways(project(SHAPES["rectangle"]), "path-1", 50.0).paths[0].shape
    assert (made.width, made.depth, made.radius) == (800, 500, 100)
    made = offset_sideways(project(SHAPES["clockwise circle"]), "path-1", 50.0).paths[0].shape
    assert made.half_x == made.half_y == 450
    made = offset_sideways(project(ZIGZAG), "path-1", 50.0).paths[0].shape
    assert [p.radius for p in made.points] == [150, 100, 200, 150]


@pytest.mark.parametrize(
    ("shape", "distance", "message"),
    [
        (EllipseShape((0, 0, 0), 500, 100), 90.0, "bends more tightly"),
        (EllipseShape((0, 0, 0), 400, 400), 400.0, "no room"),
        (SHAPES["ring of corners"], 400.0, "no room beside it between points 2 and 3"),
        (points((0, 0, 0), (0, 0, 500), (0, 0, 900)), 50.0, "straight up or down"),
        (WAVY, float("nan"), "not a number"),
    ],
)
def test_where_nothing_runs_beside_it_is_said(shape, distance, message):
    with pytest.raises(BadInput, match=message):
        offset_sideways(project(shape), "path-1", distance)


def test_turning_and_scaling_keep_what_a_shape_is_made_of():
    matrix = np.eye(4)
    matrix[:2, :2] = [[0, -2], [2, 0]]
    matrix[2, 2], matrix[:3, 3] = 2, (10, 20, 30)
    for shape in (
        SHAPES["ellipse"],
        SHAPES["rectangle"],
        HelixShape((5, 5, 5), 100, 40),
        ArcShape((1, 2, 3), (90, 0, 3), 77, (1, 1, 1)),
    ):
        before = project(shape)
        after = shaping.transformed(before, "path-1", matrix)
        assert type(after.paths[0].shape) is type(shape)
        stations = np.linspace(0, 1, 33)
        moved = curve(before).position(stations * curve(before).length) @ matrix[:3, :3].T + matrix[:3, 3]
        assert curve(after).position(stations * curve(after).length) == pytest.approx(moved, abs=1e-6)
    arc = project(ArcShape((0, 0, 0), (100, 0, 0), 77))
    mirror = shaping.mirrored(arc, "path-1", "x", 0.0)
    assert isinstance(mirror.paths[0].shape, ArcShape)
    assert curve(mirror).position([30.0])[0] == pytest.approx(curve(arc).position([30.0])[0] * [-1, 1, 1])


# the ground


def ground():
    blocks = [("Plinth", (600, 800, 150), (700, 0, 75)), ("Step", (300, 800, 60), (1300, 0, 30))]
    shapes = [(name, trimesh.creation.box(size), Placement(at)) for name, size, at in blocks]
    shapes.append(("Dome", trimesh.creation.icosphere(4, radius=400), Placement((2400, 0, 0))))
    made, meshes = Project(paths=project(points((0, 0, 900), (1500, 50, 1000), (3000, 0, 900))).paths), {}
    for i, (name, body, at) in enumerate(shapes, 1):
        mesh = Mesh(np.asarray(body.vertices), np.asarray(body.faces, np.int32))
        meshes[mesh.hash] = mesh
        made = edits.add(with_meshes(made, [mesh]), Part(f"part-{i}", name, None, at, geometry=mesh.hash))
    return made, meshes


def test_a_path_let_down_lies_on_what_is_below_it():
    made, meshes = ground()
    line = curve(projected_down(made, meshes, "path-1", lift=20.0))
    for x, height in (
        (200, 20),
        (700, 170),
        (1300, 80),
        (1700, 20),
        (2400, 420),
        (2600, 20 + np.sqrt(400**2 - 200**2)),
    ):
        places = line.position(np.linspace(0, line.length, 4000))
        near = places[np.argmin(np.abs(places[:, 0] - x))]
        y = near[1]
        expected = height if x < 2000 else 20 + np.sqrt(400**2 - (near[0] - 2400) ** 2 - y**2)
        assert near[2] == pytest.approx(expected, abs=1.5), x


def test_what_rides_on_the_path_is_not_its_ground_and_chosen_parts_alone_can_be():
    made, meshes = ground()
    ridden = edits.add(made, Run("run-1", "Rides", "part-1", "path-1"))
    line = curve(projected_down(ridden, meshes, "path-1"))
    assert line.position([line.nearest((700, 0, 0))])[0][2] == pytest.approx(0, abs=0.5)
    line = curve(projected_down(made, meshes, "path-1", over=["part-3"]))
    assert line.position([line.nearest((700, 0, 0))])[0][2] == pytest.approx(0, abs=0.5)


# smoothing


def test_smoothing_departs_by_no_more_than_is_allowed_and_says_how_far():
    rng = np.random.default_rng(4)
    rough = points(*((float(x), float(80 * np.sin(x / 300) + rng.normal(0, 8)), 0.0) for x in range(0, 2000, 60)))
    before = project(rough)
    after, gone = smoothed(before, "path-1", 25.0)
    assert 10 < gone.distance <= 25
    assert departure(curve(before), curve(after)).distance == pytest.approx(gone.distance)
    assert least_bend(curve(after)).value > 4 * least_bend(curve(before)).value
    for end in (0.0, np.inf):
        assert curve(after).position([end])[0] == pytest.approx(curve(before).position([end])[0], abs=1e-6)
    with pytest.raises(BadInput, match="above 0"):
        smoothed(before, "path-1", 0.0)


def test_a_closed_path_stays_closed_and_without_a_seam():
    turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    rough = points(
        *((float(500 * np.cos(t) + 20 * (-1) ** k), float(500 * np.sin(t)), 0.0) for k, t in enumerate(turn)),
        closed=True,
    )
    after, _ = smoothed(project(rough), "path-1", 30.0)
    assert curve(after).closed and not len(curve(after).kink_stations)
    assert least_bend(curve(after)).value > 2 * least_bend(curve(project(rough))).value


@pytest.mark.parametrize("shape", [SHAPES["sharp"], ZIGZAG, WAVY, SHAPES["ring of corners"]])
def test_widening_brings_every_bend_to_the_radius(shape):
    after = widened(project(shape), "path-1", 220.0)
    assert not len(curve(after).kink_stations)
    assert least_bend(curve(after)).value >= 220 * (1 - 1e-5)
    corners = isinstance(shape, PointShape) and shape.points[0].kind == "corner"
    assert (after.paths[0].shape.points[1].radius == 220) == corners


def test_a_radius_that_cannot_be_is_refused():
    with pytest.raises(BadInput, match="cannot be smoothed to bends of 5000 mm"):
        widened(project(EllipseShape((0, 0, 0), 300, 300)), "path-1", 5000.0)


# tables and several points


def test_several_points_move_together_and_others_stay():
    made = shaping.moved_points(project(WAVY), "path-1", [1, 3], (0, 50, 7))
    places = [p.position for p in made.paths[0].shape.points]
    assert places == [(0, 0, 0), (300, 150, 7), (700, -80, 0), (1100, 110, 7), (1500, 0, 0)]
    with pytest.raises(BadInput, match="not all of those"):
        shaping.moved_points(project(WAVY), "path-1", [9], (1, 0, 0))


def test_a_table_of_coordinates_keeps_kinds_and_adds_smooth_points():
    made = shaping.with_coordinates(
        project(ZIGZAG), "path-1", [(0, 0, 1), (900, 0, 1), (900, 700, 1), (1, 2, 3), (4, 5, 600)]
    )
    shape = made.paths[0].shape
    assert [p.kind for p in shape.points] == ["corner"] * 4 + ["smooth"]
    assert shape.points[1].radius == 150 and shape.points[4].position == (4, 5, 600)
    with pytest.raises(BadInput, match="needs 2 or more"):
        shaping.with_coordinates(project(ZIGZAG), "path-1", [(0, 0, 0)])


def test_a_copy_has_its_own_name_and_no_riders():
    made = shaping.copied(project(WAVY), "path-1", (0, 100, 0))
    assert [p.name for p in made.paths] == ["Way", "Way, copy"]
    assert made.paths[1].shape.points[0].position == (0, 100, 0)


@pytest.mark.parametrize("closed", [False, True])
def test_points_through_samples_keep_within_the_tolerance_with_few_points(closed):
    turn = np.linspace(0, 2 * np.pi, 400, endpoint=not closed)
    samples = np.stack([600 * np.cos(turn), 350 * np.sin(turn), 40 * np.sin(2 * turn)], axis=1)
    shape = points_through(samples, 0.1, closed=closed)
    line = path_curve(Path("p", "P", shape)).curve
    away = [np.linalg.norm(line.position([line.nearest(s)])[0] - s) for s in samples[::7]]
    assert max(away) < 0.1 and len(shape.points) < 45


def test_points_through_find_corners():
    sides = [(0, 0, 0), (700, 0, 0), (700, 400, 0), (200, 900, 100)]
    samples = np.concatenate([np.linspace(a, b, 60) for a, b in itertools.pairwise(sides)])
    shape = points_through(samples, 0.05)
    assert [p.position for p in shape.points] == [pytest.approx(s) for s in sides]
    with pytest.raises(ValueError, match="no length"):
        points_through([[1, 2, 3]] * 5, 0.1)
