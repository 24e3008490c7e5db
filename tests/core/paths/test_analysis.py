"""What is said of paths, against closed forms, published tables and finite differences."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import quad

from kestrav.core.document import edits
from kestrav.core.document.records import (
    ArcShape,
    Eased,
    EllipseShape,
    HelixShape,
    Part,
    Path,
    PathPoint,
    PointShape,
    Project,
    RectangleShape,
    Run,
)
from kestrav.core.geometry.arclength import by_arc_length
from kestrav.core.geometry.curves import sampled
from kestrav.core.kinematics.traces import rider_marks
from kestrav.core.paths import analysis
from kestrav.core.paths.path_curves import path_curve


class Formula:
    """A curve by formulas of position, first and second derivative."""

    def __init__(self, *formulas, breaks=(0.0, 1.0)):
        self.formulas, self.breaks = formulas, np.asarray(breaks, float)

    def evaluate(self, parameter, order=0):
        t = np.asarray(parameter, float)
        x, y = self.formulas[order](t)
        return np.stack([np.broadcast_to(x, t.shape), np.broadcast_to(y, t.shape), np.zeros(t.shape)], axis=-1)


def shape_curve(shape, trim=(0.0, 1.0)):
    return path_curve(Path("p", "P", shape, trim))


# lengths of curves of old


@pytest.mark.parametrize("reach", [0.3, 2.0, 40.0])
def test_a_parabola_has_its_length(reach):
    # y = x² from 0 to b: (2b √(1 + 4b²) + asinh 2b) / 4, by elementary integration
    curve = by_arc_length(
        Formula(lambda t: (t, t**2), lambda t: (1.0 + 0 * t, 2 * t), lambda t: (0 * t, 2.0 + 0 * t), breaks=(0, reach))
    )
    expected = (2 * reach * np.sqrt(1 + 4 * reach**2) + np.arcsinh(2 * reach)) / 4
    assert curve.length == pytest.approx(expected, rel=1e-11)


def test_a_cycloids_arch_is_eight_radii_long_and_stops_at_its_cusps():
    # Chr. Wren, 1658 (Philosophical Transactions, 1673): one arch is eight times the rolling circle's radius
    curve = by_arc_length(
        Formula(
            lambda t: (t - np.sin(t), 1 - np.cos(t)),
            lambda t: (1 - np.cos(t), np.sin(t)),
            lambda t: (np.sin(t), np.cos(t)),
            breaks=(0, 2 * np.pi, 4 * np.pi),
        )
    )
    assert curve.length == pytest.approx(16, rel=1e-10)
    # and a station s of its first half lies at height s - s²/8 · 1: by s = 4(1 - cos t/2)
    stations = np.linspace(0.5, 3.9, 12)
    angle = 2 * np.arccos(1 - stations / 4)
    assert curve.position(stations)[:, 1] == pytest.approx(1 - np.cos(angle), rel=1e-7)


# C(x) and S(x) as tabulated: M. Abramowitz, I. Stegun, Handbook of Mathematical Functions, 1964, table 7.7
FRESNEL = {
    0.5: (0.4923442, 0.0647324),
    1.0: (0.7798934, 0.4382591),
    1.5: (0.4452612, 0.6975050),
    2.0: (0.4882534, 0.3434157),
}


def test_a_clothoid_has_the_tabulated_places_and_a_curvature_that_grows_with_its_length():
    def heading(t):
        return np.pi / 2 * t**2

    parameters = np.linspace(0, 2, 801)
    places = np.array(
        [
            [quad(lambda t: np.cos(heading(t)), 0, x)[0], quad(lambda t: np.sin(heading(t)), 0, x)[0], 0.0]
            for x in parameters
        ]
    )
    curve = by_arc_length(sampled(places))
    assert curve.length == pytest.approx(2, abs=1e-8)
    for station, expected in FRESNEL.items():
        assert curve.position([station])[0, :2] == pytest.approx(expected, abs=2e-7)
    inner = np.linspace(0.1, 1.9, 37)
    assert curve.curvature(inner) == pytest.approx(np.pi * inner, rel=1e-3)


# continuity by finite differences


@st.composite
def wavy(draw):
    count = draw(st.integers(4, 9))
    seed = draw(st.integers(0, 10_000))
    rng = np.random.default_rng(seed)
    places = np.cumsum(rng.uniform([80, -200, -60], [300, 200, 60], (count, 3)), axis=0)
    return PointShape(tuple(PathPoint(tuple(map(float, p))) for p in places), draw(st.booleans()))


@settings(max_examples=25, deadline=None)
@given(wavy())
def test_smooth_points_are_of_class_two_and_handles_of_class_one(shape):
    made = shape_curve(shape)
    curve = made.curve
    inner = made.point_stations()[1:-1]
    # twice as near: differences of a class-two curve halve, those of the third derivative need not
    gaps = [_bend_jump(curve, inner, step) for step in (0.4, 0.2)]
    assert np.all(gaps[1] <= 0.7 * gaps[0] + 1e-8)
    free = PointShape(
        tuple(
            PathPoint(p.position, "free", None, (40.0, 10.0, 5.0)) if i == 2 else p for i, p in enumerate(shape.points)
        ),
        shape.closed,
    )
    line = shape_curve(free).curve
    at = shape_curve(free).point_stations()[2]
    ways = line.position([at - 1e-4, at, at + 1e-4])
    one, two = ways[1] - ways[0], ways[2] - ways[1]
    assert np.linalg.norm(one - two) < 1e-6


def _bend_jump(curve, stations, step):
    """The jump of the second derivative across stations, by differences on either side."""
    at = curve.position(stations)
    sides = []
    for sense in (1, -1):
        one, two = (curve.position(stations + sense * k * step) for k in (1, 2))
        sides.append((two - 2 * one + at) / step**2)
    return np.linalg.norm(sides[0] - sides[1], axis=1)


def test_rounded_corners_are_of_class_one_only():
    shape = PointShape(
        tuple(PathPoint(p, "corner", radius=r) for p, r in [((0, 0, 0), 0), ((900, 0, 0), 200), ((900, 900, 0), 0)])
    )
    curve = shape_curve(shape).curve
    begin = 900 - 200
    assert not len(curve.kink_stations)
    assert curve.curvature([begin - 1, begin + 1]) == pytest.approx([0, 1 / 200], abs=1e-9)


# bends and slopes


@pytest.mark.parametrize(
    ("shape", "radius"),
    [
        (EllipseShape((0, 0, 0), 500, 300), 300**2 / 500),
        (EllipseShape((0, 0, 0), 200, 200), 200),
        (ArcShape((0, 0, 0), (0, 0, 75), 45, (1, 0, 0)), 75),
        (HelixShape((0, 0, 0), 120, 90, 2), 120 + (90 / 2 / np.pi) ** 2 / 120),
        (RectangleShape((0, 0, 0), 900, 400, 35), 35),
    ],
)
def test_the_least_bend_radius_is_that_of_the_formula(shape, radius):
    found = analysis.least_bend(shape_curve(shape).curve)
    assert found.value == pytest.approx(radius, rel=1e-9)


def test_a_straight_path_has_no_bend_and_its_slope():
    shape = PointShape(tuple(PathPoint(p, "corner") for p in [(0, 0, 0), (300, 0, 0), (600, 400, 500)]))
    curve = shape_curve(shape).curve
    assert analysis.least_bend(curve) is None
    slope = analysis.steepest(curve)
    assert slope.value == pytest.approx(45) and slope.station >= 300
    spans = analysis.tight_spans(curve, 100)
    assert [(s.first, s.radius) for s in spans] == [(pytest.approx(300), 0.0)]


def test_tight_stretches_are_just_those():
    shape = PointShape(
        tuple(
            PathPoint(p, "corner", radius=r)
            for p, r in [((0, 0, 0), 0), ((600, 0, 0), 100), ((600, 900, 0), 300), ((1500, 900, 0), 0)]
        )
    )
    curve = shape_curve(shape).curve
    (span,) = analysis.tight_spans(curve, 250)
    assert span.radius == pytest.approx(100)
    assert (span.first, span.last) == (pytest.approx(500, abs=15), pytest.approx(500 + 50 * np.pi, abs=15))
    assert not analysis.tight_spans(curve, 100)


def test_the_comb_stands_outside_the_bend_as_long_as_the_curvature():
    made = shape_curve(EllipseShape((0, 0, 0), 500, 300))
    teeth, tips = analysis.comb(made, 80.0)
    length = np.linalg.norm(teeth[:, 1] - teeth[:, 0], axis=1)
    assert length.max() == pytest.approx(80, rel=1e-3)
    assert np.all(np.linalg.norm(tips, axis=1) > np.linalg.norm(teeth[:, 0], axis=1))
    bend = made.curve.curvature(np.linspace(0, made.length, len(teeth)))
    assert length == pytest.approx(80 * bend / bend.max(), rel=1e-6)
    assert not len(analysis.comb(shape_curve(PointShape((PathPoint((0, 0, 0)), PathPoint((9, 0, 0))))), 80.0)[0])


# crossings


def figure_eight(lift):
    turn = np.linspace(0, 2 * np.pi, 60)[:-1]
    places = np.stack([800 * np.sin(turn), 400 * np.sin(2 * turn), lift * np.cos(turn)], axis=1)
    return PointShape(tuple(PathPoint(tuple(map(float, p))) for p in places), True)


@pytest.mark.parametrize(("lift", "found"), [(0.0, 1), (0.2, 1), (30.0, 0)])
def test_a_figure_of_eight_crosses_itself_where_it_comes_near_enough(lift, found):
    made = shape_curve(figure_eight(lift))
    pairs = analysis.crossings(made.curve, 0.5)
    assert len(pairs) == found
    for first, second in pairs:
        a, b = made.curve.position([first, second])
        assert np.linalg.norm(a - b) < 1.0 and np.linalg.norm(a[:2]) < 1.0


@pytest.mark.parametrize(
    "shape", [EllipseShape((0, 0, 0), 500, 3), HelixShape((0, 0, 0), 100, 20, 6), RectangleShape((0, 0, 0), 900, 600)]
)
def test_what_only_comes_near_itself_does_not_cross(shape):
    assert not analysis.crossings(shape_curve(shape).curve, 0.5)


def test_segments_are_as_far_apart_as_sampling_says():
    rng = np.random.default_rng(2)
    p, u, q, v = rng.normal(size=(4, 40, 3))
    gap, s, t = analysis.segment_distances(p, u, q, v)
    share = np.linspace(0, 1, 101)
    for k in range(40):
        a, b = p[k] + share[:, None] * u[k], q[k] + share[:, None] * v[k]
        brute = np.linalg.norm(a[:, None] - b[None], axis=2).min()
        assert gap[k] <= brute + 1e-12 and gap[k] == pytest.approx(brute, abs=0.03)
        assert np.linalg.norm(p[k] + s[k] * u[k] - q[k] - t[k] * v[k]) == pytest.approx(gap[k], abs=1e-12)


# riders


def test_riders_are_marked_at_each_second_and_rarer_when_there_are_many():
    project = Project(
        parts=(Part("part-1", "Trolley"),),
        paths=(Path("path-1", "Aisle", PointShape((PathPoint((0, 0, 0)), PathPoint((6000, 0, 0))))),),
    )
    project = edits.add(
        project, Run("run-1", "Rolls", "part-1", "path-1", start=0.5, duration=6.0, speed_profile=Eased(0, 0))
    )
    marks = rider_marks(project, "path-1")
    assert [m.time for m in marks] == [0.5, 1, 2, 3, 4, 5, 6, 6.5]
    assert [m.station for m in marks] == pytest.approx([0, 500, 1500, 2500, 3500, 4500, 5500, 6000])
    assert marks[1].place == pytest.approx([500, 0, 0])
    rarer = rider_marks(edits.update(project, "run-1", duration=600.0), "path-1")
    assert {np.round(b.time - a.time, 6) for a, b in itertools.pairwise(rarer[1:-1])} == {20.0}
