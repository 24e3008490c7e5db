"""Curves and arc length against closed forms and SciPy."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import quad
from scipy.special import ellipe

from kestrav.core.geometry.arclength import by_arc_length
from kestrav.core.geometry.curves import EllipseCurve, spline_through


def spline(points, kinds, handles_in=None, handles_out=None, closed=False):
    none = [None] * len(points)
    return spline_through(points, kinds, handles_in or none, handles_out or none, closed=closed)


@pytest.mark.parametrize(("a", "b"), [(1000.0, 1000.0), (2900.0, 1900.0), (5000.0, 12.0), (3.0, 4.0)])
def test_ellipse_perimeter_is_the_complete_elliptic_integral(a, b):
    # NIST Digital Library of Mathematical Functions, 19.30(i): L = 4 a E(k), k^2 = 1 - b^2/a^2, a >= b
    major, minor = max(a, b), min(a, b)
    expected = 4 * major * ellipe(1 - (minor / major) ** 2)
    curve = by_arc_length(EllipseCurve((10.0, 20.0, 30.0), a, b, turn=0.4, start=1.1), closed=True)
    assert curve.length == pytest.approx(expected, rel=1e-12)
    assert not len(curve.kink_stations)


coordinate = st.floats(-1000, 1000).map(lambda v: round(v, 2))
point = st.tuples(coordinate, coordinate, coordinate)
kind = st.sampled_from(["corner", "smooth", "free"])


@settings(deadline=None, max_examples=20)
@given(st.lists(st.tuples(point, kind, point), min_size=3, max_size=7), st.booleans())
def test_length_and_stations_agree_with_scipy_quad(rows, closed):
    points = np.array([r[0] for r in rows])
    steps = np.linalg.norm(np.diff(points, axis=0, append=points[:1]), axis=1)
    if steps.min() < 5:
        return
    shape = spline(points, [r[1] for r in rows], handles_out=[r[2] for r in rows], closed=closed)

    def speed(u):
        return float(np.linalg.norm(shape.evaluate(u, 1)))

    pieces = [
        quad(speed, a, b, epsabs=0, epsrel=1e-12, limit=100)[0]
        for a, b in zip(shape.breaks[:-1], shape.breaks[1:], strict=True)
    ]
    curve = by_arc_length(shape, closed=closed)
    assert curve.length == pytest.approx(sum(pieces), rel=1e-9)
    # the inverse: the parameter of a station, integrated back, gives the station
    for share in (0.123, 0.5, 0.871):
        u = float(curve.parameter(share * curve.length))
        inner = [min(b, u) for b in shape.breaks]
        back = sum(
            quad(speed, a, b, epsabs=0, epsrel=1e-12, limit=100)[0] for a, b in itertools.pairwise(inner) if b > a
        )
        assert back == pytest.approx(share * curve.length, abs=2e-9 * curve.length)


def test_smooth_points_join_with_continuous_curvature(random):
    points = random.uniform(-500, 500, (8, 3))
    shape = spline(points, ["smooth"] * 8)
    inner = shape.breaks[1:-1]
    for order in (1, 2):
        after, before = shape.evaluate(inner, order), shape.evaluate(np.nextafter(inner, -np.inf), order)
        assert np.abs(after - before).max() < 1e-9 * np.abs(after).max()
    curve = by_arc_length(shape)
    stations = curve.breaks[1:-1]
    assert curve.curvature(stations - 1e-7) == pytest.approx(curve.curvature(stations + 1e-7), rel=1e-4)
    assert not len(curve.kink_stations)


def test_closed_smooth_path_has_no_seam(random):
    shape = spline(random.uniform(-500, 500, (6, 3)), ["smooth"] * 6, closed=True)
    curve = by_arc_length(shape, closed=True)
    ends = [0.0, curve.length]
    assert curve.position(ends)[0] == pytest.approx(curve.position(ends)[1], abs=1e-9)
    assert curve.tangent(ends)[0] == pytest.approx(curve.tangent(ends)[1], abs=1e-9)
    assert curve.curvature(ends)[0] == pytest.approx(curve.curvature(ends)[1], rel=1e-6)


def test_corners_are_straight_and_their_kinks_are_known():
    curve = by_arc_length(spline([[0, 0, 0], [300, 0, 0], [300, 400, 0]], ["corner"] * 3))
    assert curve.length == pytest.approx(700)
    assert curve.kink_stations == pytest.approx([300])
    assert np.degrees(curve.kink_angles) == pytest.approx([90])
    assert curve.position([150, 500]) == pytest.approx(np.array([[150, 0, 0], [300, 200, 0]]))
    assert curve.tangent([300]) == pytest.approx(np.array([[0, 1, 0]]))
    assert curve.tangent([300], before=True) == pytest.approx(np.array([[1, 0, 0]]))


def test_free_point_follows_its_handles_as_a_bezier_curve():
    # de Casteljau at 1/2 of the control points 0, 100 x, (200, 100), (300, 100)
    shape = spline([[0, 0, 0], [300, 100, 0]], ["free", "free"], [None, (-100, 0, 0)], [(100, 0, 0), None])
    middle = 0.5 * (shape.breaks[0] + shape.breaks[1])
    assert shape.evaluate([middle])[0] == pytest.approx([150, 50, 0])


def test_one_handle_keeps_the_path_smooth_and_two_may_break_it():
    points, kinds = [[0, 0, 0], [100, 0, 0], [200, 100, 0]], ["corner", "free", "corner"]
    one = by_arc_length(spline(points, kinds, handles_out=[None, (40, 20, 0), None]))
    assert not len(one.kink_stations)
    two = by_arc_length(spline(points, kinds, [None, (-40, 30, 0), None], [None, (40, 20, 0), None]))
    assert len(two.kink_stations) == 1


def test_closed_path_begins_at_its_first_point_wherever_its_corner_is():
    points = [[0, 0, 0], [100, 10, 0], [120, 90, 0], [20, 80, 0]]
    curve = by_arc_length(spline(points, ["smooth", "smooth", "corner", "smooth"], closed=True), closed=True)
    assert curve.position(curve.breaks[:-1]) == pytest.approx(np.array(points, float), abs=1e-8)


def test_circle_curvature_is_one_over_the_radius():
    curve = by_arc_length(EllipseCurve((0, 0, 0), 250.0, 250.0), closed=True)
    assert curve.curvature(np.linspace(0, curve.length, 50)) == pytest.approx(1 / 250)


def test_nearest_finds_the_place():
    curve = by_arc_length(EllipseCurve((0, 0, 0), 300.0, 200.0), closed=True)
    for station in (10.0, 333.3, 1200.0):
        assert curve.nearest(curve.position([station])[0]) == pytest.approx(station, abs=1e-2)


@pytest.mark.parametrize("points", [[[0, 0, 0]], [[0, 0, 0], [0, 0, 0]], [[1, 2, 3], [4, 5, 6], [4, 5, 6]]])
def test_too_few_or_coincident_points_are_refused(points):
    with pytest.raises(ValueError, match="points"):
        spline(points, ["smooth"] * len(points))
