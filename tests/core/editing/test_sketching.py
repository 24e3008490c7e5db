"""Drawing by places on a plane."""

import numpy as np
import pytest

from kestrav.core.document.records import ArcShape, EllipseShape, Path, PointShape, Project, RectangleShape
from kestrav.core.editing.sketching import Plane, drawn_path, drawn_shape, path_ends
from kestrav.core.errors import BadInput
from kestrav.core.paths.path_curves import path_curve

FLOOR = Plane(np.zeros(3), np.array([0.0, 0, 1]))
WALL = Plane(np.array([0.0, 250, 0]), np.array([0.0, 1, 0]))
SLANT = Plane(np.array([100.0, 0, 50]), np.array([0.6, 0.0, 0.8]))


@pytest.mark.parametrize("plane", [FLOOR, WALL, SLANT])
def test_places_are_brought_onto_the_plane_and_its_grid(plane):
    place = plane.brought((33.0, -71.0, 19.0))
    assert (place - plane.point) @ plane.normal == pytest.approx(0, abs=1e-9)
    step = plane.on_grid(place, 25.0)
    foot, (u, v) = plane.brought(np.zeros(3)), plane.axes
    for axis in (u, v):
        assert (
            float((step - foot) @ axis) % 25 == pytest.approx(0, abs=1e-6) or float((step - foot) @ axis) % 25 > 24.999
        )
    assert np.linalg.norm(step - place) <= 25 / np.sqrt(2) + 1e-9
    assert (step - plane.point) @ plane.normal == pytest.approx(0, abs=1e-9)
    assert abs(u[2]) < 1e-12 and v @ plane.normal == pytest.approx(0, abs=1e-12)


def test_angles_lock_to_15_degrees_and_lengths_hold():
    on_floor = FLOOR.locked(np.zeros(3), (100.0, 27.0, 0), by_steps=True)
    assert np.degrees(np.arctan2(on_floor[1], on_floor[0])) == pytest.approx(15)
    upright = WALL.locked((0, 250.0, 0), (3.0, 250, 100), by_steps=True)
    assert upright == pytest.approx([0, 250, 100], abs=1e-9)
    assert FLOOR.locked((50, 0, 0), (50, 999, 0), length=120.0) == pytest.approx([50, 120, 0])
    assert FLOOR.locked((0, 0, 0), (0, 0, 0), length=200.0, angle=30.0) == pytest.approx([200 * np.sqrt(0.75), 100, 0])


def length(shape):
    return path_curve(drawn_path(shape)).length


@pytest.mark.parametrize(
    ("draws", "places", "kind", "expected"),
    [
        ("circle", [(0, 0, 0), (300, 0, 0)], EllipseShape, 600 * np.pi),
        ("rectangle", [(0, 0, 0), (300, -200, 0)], RectangleShape, 1000),
        ("three", [(200, 0, 0), (0, 200, 0), (-200, 0, 0)], ArcShape, 200 * np.pi),
        ("centre", [(0, 0, 0), (100, 0, 0), (0, 50, 0)], ArcShape, 50 * np.pi),
        ("corners", [(0, 0, 0), (300, 0, 0), (300, 400, 0)], PointShape, 700),
        ("ellipse", [(0, 0, 0), (200, 0, 0), (50, 200, 0)], EllipseShape, 400 * np.pi),
    ],
)
def test_so_many_places_make_an_exact_shape(draws, places, kind, expected):
    shape = drawn_shape(draws, places, FLOOR)
    assert isinstance(shape, kind)
    assert length(shape) == pytest.approx(expected)


@pytest.mark.parametrize(
    ("draws", "places", "expected"),
    [
        ("circle", [(0, 250, 0), (0, 250, 300)], 600 * np.pi),
        ("rectangle", [(0, 250, 0), (300, 250, 200)], 1000),
        ("ellipse", [(0, 250, 0), (200, 250, 0), (50, 250, 200)], 400 * np.pi),
        ("centre", [(0, 250, 0), (100, 250, 0), (0, 250, 50)], 50 * np.pi),
    ],
)
def test_on_a_wall_they_stay_on_the_wall(draws, places, expected):
    shape = drawn_shape(draws, places, WALL)
    curve = path_curve(drawn_path(shape)).curve
    assert curve.length == pytest.approx(expected, rel=1e-4)
    assert curve.position(np.linspace(0, curve.length, 50))[:, 1] == pytest.approx(np.full(50, 250))


@pytest.mark.parametrize(
    ("draws", "places", "message"),
    [
        ("smooth", [(0, 0, 0)], "two points"),
        ("circle", [(0, 0, 0), (0, 0, 0)], "radius is 0"),
        ("rectangle", [(0, 0, 0), (300, 0, 0)], "no area"),
        ("ellipse", [(0, 0, 0), (300, 0, 0), (100, 0, 0)], "second half axis is 0"),
        ("ellipse", [(0, 0, 0), (0, 0, 0), (100, 0, 0)], "first half axis is 0"),
        ("tangent", [(0, 0, 0), (300, 0, 0)], "at the end of a path"),
        ("three", [(0, 0, 0), (1, 0, 0), (2, 0, 0)], "on a line"),
    ],
)
def test_places_that_make_no_shape_are_refused(draws, places, message):
    with pytest.raises(BadInput, match=message):
        drawn_shape(draws, places, FLOOR)


def test_an_arc_leaves_a_paths_end_in_its_direction():
    line = drawn_shape("corners", [(0, 0, 0), (500, 0, 0)], FLOOR)
    project = Project(paths=(Path("path-1", "Aisle", line), Path("path-2", "Round", EllipseShape((0, 0, 0), 9, 9))))
    ends = path_ends(project)
    assert [(e[0], e[1]) for e in ends] == [("path-1", "start"), ("path-1", "end")]
    assert ends[0][3] == pytest.approx([-1, 0, 0]) and ends[1][3] == pytest.approx([1, 0, 0])
    arc = drawn_shape("tangent", [ends[1][2], (800, 300, 0)], FLOOR, ends[1][3])
    assert length(arc) == pytest.approx(300 * np.pi / 2)
    straight = drawn_shape("tangent", [ends[1][2], (900, 0, 0)], FLOOR, ends[1][3])
    assert isinstance(straight, PointShape)
