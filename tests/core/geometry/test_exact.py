"""Exact curves against closed forms and published values."""

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import quad
from scipy.special import gamma

from kestrav.core.document.records import ArcShape, HelixShape, Path, PathPoint, PointShape, RectangleShape
from kestrav.core.document.validation import check_path
from kestrav.core.errors import BadInput
from kestrav.core.geometry.arclength import by_arc_length
from kestrav.core.geometry.exact import SuperCorner, arc_about, circle_through
from kestrav.core.paths.path_curves import path_curve


def path(shape, trim=(0.0, 1.0)):
    made = Path("path-1", "Way", shape, trim)
    check_path(made)
    return path_curve(made)


def corners(*points, radius=0.0, closed=False):
    return PointShape(tuple(PathPoint(p, "corner", radius=radius) for p in points), closed)


# arcs and helices


@pytest.mark.parametrize("sweep", [90.0, -90.0, 17.3, 359.9, 360.0, -360.0])
def test_an_arc_has_the_length_of_its_angle(sweep):
    made = path(ArcShape((10, 20, 30), (110, 20, 30), sweep))
    assert made.length == pytest.approx(100 * np.radians(abs(sweep)), rel=1e-12)
    assert made.curve.closed == (abs(sweep) == 360)
    ends = made.curve.position([0.0, made.length])
    angle = np.radians(sweep)
    assert ends[0] == pytest.approx([110, 20, 30])
    assert ends[1] == pytest.approx([10 + 100 * np.cos(angle), 20 + 100 * np.sin(angle), 30], abs=1e-9)
    assert made.curve.curvature(np.linspace(0, made.length, 9)) == pytest.approx(0.01, rel=1e-9)


@settings(max_examples=40, deadline=None)
@given(points=st.tuples(*[st.tuples(*[st.floats(-500, 500)] * 3)] * 3))
def test_an_arc_through_three_points_passes_all_of_them(points):
    a, b, c = (np.array(p) for p in points)
    area = np.linalg.norm(np.cross(b - a, c - a))
    if area < 1.0 or area < 1e-3 * np.linalg.norm(b - a) * np.linalg.norm(c - a):
        return
    centre, axis, sweep = circle_through(a, b, c)
    arc = by_arc_length(arc_about(centre, axis, a, sweep))
    assert arc.position([0.0])[0] == pytest.approx(a, abs=1e-6)
    assert arc.position([arc.length])[0] == pytest.approx(c, abs=1e-4)
    assert np.linalg.norm(arc.position([arc.nearest(b)])[0] - b) < 1e-3 * arc.length


def test_points_on_a_line_make_no_arc():
    with pytest.raises(ValueError, match="on a line"):
        circle_through((0, 0, 0), (1, 1, 1), (3, 3, 3))


@pytest.mark.parametrize(("radius", "pitch", "turns"), [(100.0, 40.0, 3.0), (25.0, 500.0, 0.6), (80.0, 0.0, 1.0)])
def test_a_helix_has_its_length_curvature_and_rise(radius, pitch, turns):
    # length of a turn sqrt((2 pi r)^2 + p^2), curvature r / (r^2 + (p / 2 pi)^2); handbook formulas
    made = path(HelixShape((1, 2, 3), radius, pitch, turns))
    assert made.length == pytest.approx(turns * np.hypot(2 * np.pi * radius, pitch), rel=1e-12)
    rise = pitch / (2 * np.pi)
    assert made.curve.curvature([0.3 * made.length])[0] == pytest.approx(radius / (radius**2 + rise**2), rel=1e-9)
    ends = made.curve.position([0.0, made.length])
    assert ends[1, 2] - ends[0, 2] == pytest.approx(pitch * turns)


def test_a_clockwise_helix_is_the_other_ones_mirror_image():
    one, other = (path(HelixShape((0, 0, 0), 50, 20, 2, clockwise=c)) for c in (False, True))
    stations = np.linspace(0, one.length, 30)
    assert other.curve.position(stations) == pytest.approx(one.curve.position(stations) * [1, -1, 1], abs=1e-9)


# rectangles


@pytest.mark.parametrize("radius", [0.0, 50.0, 200.0])
def test_a_round_rectangle_has_its_length_and_closes(radius):
    made = path(RectangleShape((0, 0, 10), 600, 400, radius))
    assert made.length == pytest.approx(2 * (600 + 400) - 8 * radius + 2 * np.pi * radius, rel=1e-12)
    assert made.curve.closed
    assert made.curve.position([0.0])[0] == pytest.approx([0, -200, 10])
    kinks = made.curve.kink_angles
    assert np.degrees(kinks) == pytest.approx([90] * 4 if radius == 0 else [])


@pytest.mark.parametrize("exponent", [2.0, 2.5, 3.0, 4.0, 6.0])
def test_a_superelliptic_corner_has_lamés_area_and_the_length_of_its_integral(exponent):
    corner = SuperCorner(np.zeros(3), np.array([1.0, 0, 0]), np.array([0, 1.0, 0]), 100.0, exponent)
    places = corner.evaluate(np.linspace(0, np.pi / 2, 4001))
    assert (np.abs(places[:, :2]) ** exponent).sum(axis=1) == pytest.approx(100.0**exponent, rel=1e-12)
    # the area of a quarter: r^2 Gamma(1 + 1/n)^2 / Gamma(1 + 2/n) (G. Lamé's curve; handbook formula)
    area = np.trapezoid(places[::-1, 1], places[::-1, 0])
    assert area == pytest.approx(1e4 * gamma(1 + 1 / exponent) ** 2 / gamma(1 + 2 / exponent), rel=1e-5)
    expected = (
        2
        * quad(
            lambda x: np.hypot(1, (x / 100) ** (exponent - 1) * (1 - (x / 100) ** exponent) ** (1 / exponent - 1)),
            0,
            100 * 0.5 ** (1 / exponent),
        )[0]
    )
    assert by_arc_length(corner).length == pytest.approx(expected, rel=1e-8)
    # derivatives by central differences
    t, h = np.linspace(0.1, 1.4, 14), 1e-5
    for order in (1, 2):
        differences = (corner.evaluate(t + h, order - 1) - corner.evaluate(t - h, order - 1)) / (2 * h)
        assert corner.evaluate(t, order) == pytest.approx(differences, rel=1e-5, abs=1e-4)


def test_a_clockwise_turned_rectangle_runs_the_other_way_about_the_same_line():
    one = path(RectangleShape((5, 6, 7), 600, 400, 80, 3.0, 25.0))
    other = path(RectangleShape((5, 6, 7), 600, 400, 80, 3.0, 25.0, True))
    assert other.length == pytest.approx(one.length)
    stations = np.linspace(0, one.length, 40)
    assert other.curve.position(one.length - stations) == pytest.approx(one.curve.position(stations), abs=1e-6)


# rounded corners


@pytest.mark.parametrize("angle", [30.0, 90.0, 150.0])
def test_a_rounded_corner_is_an_arc_of_its_radius_tangent_to_both_sides(angle):
    turn = np.radians(angle)
    end = (1000 + 1000 * np.cos(turn), 1000 * np.sin(turn), 0)
    made = path(corners((0, 0, 0), (1000, 0, 0), end, radius=200))
    reach = 200 * np.tan(turn / 2)
    assert made.length == pytest.approx(2000 - 2 * reach + 200 * turn, rel=1e-12)
    assert len(made.curve.kink_stations) == 0
    middle = made.point_stations()[1]
    assert middle == pytest.approx(1000 - reach + 100 * turn)
    assert made.curve.curvature([middle])[0] == pytest.approx(1 / 200, rel=1e-9)


def test_all_corners_of_a_closed_path_are_rounded_from_its_first_point_on():
    made = path(corners((0, 0, 0), (600, 0, 0), (600, 400, 0), (0, 400, 0), radius=100, closed=True))
    assert made.length == pytest.approx(2000 - 800 + 200 * np.pi, rel=1e-12)
    assert len(made.curve.kink_stations) == 0
    stations = made.point_stations()
    assert len(stations) == 4
    assert stations[0] == 0.0
    # each point's station is the middle of its arc
    places = made.curve.position(stations)
    gap = 100 * (np.sqrt(2) - 1)
    away = np.linalg.norm(places - [(0, 0, 0), (600, 0, 0), (600, 400, 0), (0, 400, 0)], axis=1)
    assert away == pytest.approx(gap, abs=1e-6)


def test_corners_next_to_a_spline_are_rounded_where_both_sides_are_straight():
    points = [(0, 0, 0), (500, 0, 0), (500, 500, 0), (700, 900, 0), (1200, 900, 100), (1500, 500, 0)]
    kinds = ["corner", "corner", "corner", "smooth", "smooth", "corner"]
    shape = PointShape(
        tuple(PathPoint(p, k, radius=80 if i == 1 else 0) for i, (p, k) in enumerate(zip(points, kinds, strict=True)))
    )
    made = path(shape)
    places = made.curve.position(made.point_stations())
    assert places[[0, 2, 3, 4, 5]] == pytest.approx(np.array(points, float)[[0, 2, 3, 4, 5]], abs=1e-6)
    bad = PointShape(
        tuple(PathPoint(p, k, radius=80 if i == 2 else 0) for i, (p, k) in enumerate(zip(points, kinds, strict=True)))
    )
    with pytest.raises(BadInput, match="point 3 cannot be rounded"):
        path(bad)


def test_a_radius_without_room_is_refused_with_the_most_that_fits():
    with pytest.raises(BadInput, match=r"at most about 100\.0 mm"):
        path(corners((0, 0, 0), (100, 0, 0), (100, 100, 0), radius=101))
    with pytest.raises(BadInput, match="turns right back"):
        path(corners((0, 0, 0), (100, 0, 0), (0, 0, 0), radius=5))


def test_a_straight_through_corner_needs_no_arc():
    assert path(corners((0, 0, 0), (100, 0, 0), (250, 0, 0), radius=50)).length == pytest.approx(250)


# trims and faults


@pytest.mark.parametrize(
    "shape",
    [
        corners((0, 0, 0), (600, 0, 0), (600, 400, 0), radius=90),
        ArcShape((0, 0, 0), (100, 0, 0), 270.0),
        RectangleShape((0, 0, 0), 600, 400, 50),
    ],
)
def test_a_trimmed_path_is_just_that_share_of_the_whole(shape):
    whole, part = path(shape), path(shape, (0.2, 0.65))
    assert part.length == pytest.approx(0.45 * whole.length, rel=1e-9)
    assert not part.curve.closed
    stations = np.linspace(0, part.length, 25)
    assert part.curve.position(stations) == pytest.approx(whole.curve.position(stations + 0.2 * whole.length), abs=1e-6)


@pytest.mark.parametrize(
    ("shape", "message"),
    [
        (ArcShape((0, 0, 0), (0, 0, 0)), "radius 0"),
        (ArcShape((0, 0, 0), (1, 0, 0), 0.0), "arc of 0"),
        (ArcShape((0, 0, 0), (1, 0, 0), 400.0), "up to 360"),
        (ArcShape((0, 0, 0), (1, 0, 0), 90.0, (0, 0, 0)), "without direction"),
        (ArcShape((0, 0, 0), (0, 0, 5), 90.0), "radius is 0"),
        (RectangleShape((0, 0, 0), 100, 80, 41), "at most 40 mm fit"),
        (RectangleShape((0, 0, 0), 0, 80), "width"),
        (RectangleShape((0, 0, 0), 100, 80, 10, 1.5), "exponent"),
        (HelixShape((0, 0, 0), 0, 10), "radius"),
        (HelixShape((0, 0, 0), 10, 10, 1e9), "turns"),
        (corners((0, 0, 0), (1, 0, 0), radius=-1), "negative radius"),
    ],
)
def test_impossible_shapes_are_refused_by_name(shape, message):
    with pytest.raises(BadInput, match=message) as caught:
        path(shape)
    assert "Way" in str(caught.value)


def test_a_trim_must_go_forward():
    with pytest.raises(BadInput, match="go forward"):
        path(ArcShape((0, 0, 0), (1, 0, 0)), (0.7, 0.2))


def test_the_nearest_place_is_found_on_both_sides_of_a_closed_paths_seam():
    made = path(RectangleShape((0, 0, 0), 600, 400, 100)).curve
    for station in (*np.linspace(-5, 5, 21), *np.linspace(0, made.length, 37)):
        place = made.position([station % made.length])[0]
        assert made.position([made.nearest(place)])[0] == pytest.approx(place, abs=1e-3)
