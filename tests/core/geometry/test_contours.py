"""Outlines in plan against shapely, brute force and closed forms."""

import numpy as np
import pytest
import shapely
from hypothesis import given, strategies as st

from kestrav.core.geometry import contours

SEEDS = range(6)


def cloud(seed, count=80):
    rng = np.random.default_rng(seed)
    turn = rng.uniform(0, np.pi)
    c, s = np.cos(turn), np.sin(turn)
    return rng.normal(size=(count, 2)) * [400, 120] @ np.array([[c, s], [-s, c]]) + rng.uniform(-900, 900, 2)


@pytest.mark.parametrize("seed", SEEDS)
def test_the_hull_is_shapelys_and_runs_counter_clockwise(seed):
    points = cloud(seed)
    ring = shapely.Polygon(contours.hull(points))
    assert ring.exterior.is_ccw
    assert ring.symmetric_difference(shapely.convex_hull(shapely.multipoints(points))).area < 1e-3 * ring.length


@pytest.mark.parametrize("seed", SEEDS)
@pytest.mark.parametrize("offset", [1.0, 75.0])
def test_offset_corners_rounded_by_the_offset_are_shapelys_buffer(seed, offset):
    ring = contours.hull(cloud(seed))
    mitred = shapely.Polygon(contours.offset_corners(ring, offset))
    # opened by the offset, the mitred outline loses just its corners
    rounded = mitred.buffer(-offset, join_style="mitre").buffer(offset, quad_segs=256)
    wanted = shapely.Polygon(ring).buffer(offset, quad_segs=256)
    assert rounded.symmetric_difference(wanted).area < 1e-9 * wanted.area


@pytest.mark.parametrize("seed", SEEDS)
def test_the_tightest_rectangle_holds_everything_and_no_turned_one_is_smaller(seed):
    points = cloud(seed)
    centre, width, depth, turn = contours.tightest_rectangle(points)
    axes = np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]])
    own = (points - centre) @ axes.T
    assert np.all(np.abs(own) <= np.array([width, depth]) / 2 + 1e-6)
    assert width >= depth and abs(turn) <= np.pi / 2 + 1e-12
    assert width * depth == pytest.approx(shapely.minimum_rotated_rectangle(shapely.multipoints(points)).area, rel=1e-9)
    for angle in np.linspace(0, np.pi, 181):
        way = np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]])
        assert width * depth <= np.prod(np.ptp(points @ way.T, axis=0)) * (1 + 1e-9)


@pytest.mark.parametrize("seed", SEEDS)
def test_the_smallest_circle_holds_everything_and_touches(seed):
    points = cloud(seed)
    centre, radius = contours.smallest_circle(points)
    away = np.linalg.norm(points - centre, axis=1)
    assert away.max() == pytest.approx(radius, rel=1e-9)
    # it is the smallest when the touching points do not fit in half of it (Welzl, 1991)
    touching = points[away > radius * (1 - 1e-7)] - centre
    angles = np.sort(np.arctan2(touching[:, 1], touching[:, 0]))
    assert np.max(np.diff(angles, append=angles[0] + 2 * np.pi)) <= np.pi + 1e-4


def test_the_smallest_ellipse_of_a_rectangle_is_known():
    # the affine image of the circle around a square: half axes are the sides by the root of two
    centre, long, short, turn = contours.smallest_ellipse([[0, 0], [200, 0], [200, 100], [0, 100]])
    assert centre == pytest.approx([100, 50])
    assert (long, short) == pytest.approx((200 / np.sqrt(2), 100 / np.sqrt(2)), rel=1e-6)
    assert turn == pytest.approx(0, abs=1e-6)


@pytest.mark.parametrize("thin", [1.0, 0.3, 1e-3])
def test_the_smallest_ellipse_of_a_round_outline_is_the_one_it_was_made_from(thin):
    # an affine image of a regular polygon: its ellipse is that of the circle around it (John, 1948: the circle is the polygon's own)
    turn = np.linspace(0, 2 * np.pi, 72, endpoint=False)
    c, s = np.cos(0.3), np.sin(0.3)
    points = np.column_stack([500 * np.cos(turn), thin * 500 * np.sin(turn)]) @ [[c, s], [-s, c]] + [4000, -2000]
    centre, long, short, at = contours.smallest_ellipse(points)
    assert centre == pytest.approx([4000, -2000], abs=1e-4)
    assert (long, short) == pytest.approx((500, thin * 500), rel=1e-6)
    if thin < 1:
        assert at == pytest.approx(0.3, abs=1e-5)


@pytest.mark.parametrize("seed", SEEDS)
def test_the_smallest_ellipse_holds_everything_and_small_changes_do_not(seed):
    points = cloud(seed, 30)
    centre, long, short, turn = contours.smallest_ellipse(points)
    c, s = np.cos(turn), np.sin(turn)

    def reach(at, a, b):
        own = (points - at) @ np.array([[c, -s], [s, c]])
        return np.hypot(own[:, 0] / a, own[:, 1] / b).max()

    assert reach(centre, long, short) <= 1 + 1e-9
    for shift in ([1, 0], [-1, 0], [0, 1], [0, -1]):
        assert reach(centre + np.array(shift), long, short) > 1
    for a in (0.99, 0.999, 1.01):
        # of the same area less a little, longer one way and shorter the other
        assert reach(centre, long * a, short / a * 0.999) > 1


@given(st.integers(1, 12), st.floats(0, 2 * np.pi))
def test_points_on_a_line_have_no_outline(count, turn):
    line = np.linspace(0, 500, count)[:, None] * [np.cos(turn), np.sin(turn)]
    for shape in (contours.hull, contours.tightest_rectangle, contours.smallest_ellipse):
        with pytest.raises(ValueError, match="one place or on one line"):
            shape(line)


@pytest.mark.parametrize("points", [[], [[np.nan, 0], [1, 1], [2, 0]]])
def test_no_points_and_broken_ones_are_refused(points):
    for shape in (contours.hull, contours.smallest_circle):
        with pytest.raises(ValueError, match="no points"):
            shape(points)
