"""Pacing against closed forms, published coefficients, SciPy and an independent time-optimal solver."""

import numpy as np
import pytest
import toppra
import toppra.algorithm
import toppra.constraint
from scipy.integrate import quad
from scipy.interpolate import PchipInterpolator

from kestrav.core.document import edits
from kestrav.core.document.records import (
    Eased,
    EllipseShape,
    Even,
    Keyed,
    Law,
    Limited,
    Part,
    Path,
    PathPoint,
    PointShape,
    Project,
    RectangleShape,
    Run,
    SpeedKey,
    SpeedZone,
)
from kestrav.core.editing import joining
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.laws import LAWS
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import course_of
from kestrav.core.kinematics.speed_profile import peak, profile
from kestrav.core.paths.path_curves import path_curve

KEYS = Keyed((SpeedKey(0, 0), SpeedKey(0.3, 0.1), SpeedKey(0.5, 0.1), SpeedKey(1, 1)))
PACINGS = [
    Even(),
    Eased(100, 200),
    Eased(0, 300),
    Eased(900, 900),
    Eased(start_time=0.5, stop_time=1.0),
    Eased(150, 0, stop_time=1.5),
    Eased(start_time=5.0, stop_time=3.0),
    *(Law(name) for name in LAWS),
    Limited(800, 0, 500, 900),
    KEYS,
]


@pytest.mark.parametrize("kind", PACINGS, ids=str)
def test_speed_integrates_to_the_distance_and_acceleration_to_the_speed(kind):
    made = profile(kind, 1000.0, 4.0)
    assert (made.length, made.duration) == (1000, pytest.approx(4))
    for t in (0.3, 1.7, 3.0, 4.0):
        way = quad(lambda s: float(made.speed(s)), 0, t, points=[0.5, 1, 1.2, 2, 3, 3.5], limit=400)[0]
        assert float(made.distance(t)) == pytest.approx(way, rel=2e-4)
        begin = float(made.speed(1e-9))
        gained = quad(
            lambda s: float(made.acceleration(s)), 0, min(t, 3.999), points=[0.5, 1, 1.2, 2, 3, 3.5], limit=400
        )[0]
        assert float(made.speed(min(t, 3.999))) == pytest.approx(begin + gained, abs=2.5)
    assert float(made.distance(4.0)) == pytest.approx(1000.0)
    assert float(made.distance(9.0)) == pytest.approx(1000.0)
    assert float(made.distance(-1.0)) == 0.0
    assert float(made.speed(9.0)) == float(made.acceleration(-1.0)) == 0.0


@pytest.mark.parametrize("kind", PACINGS, ids=str)
def test_time_is_the_inverse_of_distance(kind):
    made = profile(kind, 1000.0, 4.0)
    ways = np.linspace(1, 999, 31)
    assert made.distance(made.times_at(ways)) == pytest.approx(ways, abs=1e-5)


def test_soft_starts_take_the_time_and_way_that_they_need():
    # a ramp at half the mean speed takes twice its length's time: 700 steady + 2 (100 + 200) = 1300 mm at 500 mm/s
    made = profile(Eased(100, 200), 1000.0, speed=500.0)
    assert made.duration == pytest.approx(2.6)
    assert profile(Eased(100, 200), 1000.0, 2.6).steady == pytest.approx(500.0)
    assert made.distance([0.4, 1.8]) == pytest.approx([100, 800])
    # and over a time it covers half that time's way: 1000 = 400 (t - 0.5 (0.5 + 1))
    made = profile(Eased(start_time=0.5, stop_time=1.0), 1000.0, speed=400.0)
    assert made.duration == pytest.approx(3.25)
    assert made.distance(0.5) == pytest.approx(100) and made.distance(2.25) == pytest.approx(800)
    # what does not fit fills the run
    made = profile(Eased(start_time=6.0, stop_time=2.0), 1000.0, 4.0)
    assert (made.ramp_in, made.ramp_out) == (pytest.approx(3), pytest.approx(1))


# Velocity and acceleration coefficients as in VDI 2143 part 1 and R. Norton, Cam Design and Manufacturing Handbook,
# 2009, table 3-1
COEFFICIENTS = {
    "parabolic": (2.0, 4.0),
    "simple harmonic": (1.571, 4.935),
    "cycloidal": (2.0, 6.283),
    "3-4-5 polynomial": (1.875, 5.774),
    "4-5-6-7 polynomial": (2.188, 7.513),
    "modified sine": (1.760, 5.528),
    "modified trapezoid": (2.0, 4.888),
}


@pytest.mark.parametrize("name", LAWS)
def test_laws_have_the_published_coefficients(name):
    velocity, acceleration = COEFFICIENTS[name]
    assert peak(Law(name), 1) == pytest.approx(velocity, abs=6e-4)
    assert peak(Law(name), 2) == pytest.approx(acceleration, abs=6e-4)


@pytest.mark.parametrize("name", LAWS)
def test_laws_begin_and_end_at_rest_and_are_symmetric_and_smooth(name):
    law = LAWS[name]
    ends = np.array([0.0, 1.0])
    assert law(ends, 0) == pytest.approx([0, 1], abs=1e-12)
    assert law(ends, 1) == pytest.approx([0, 0], abs=1e-12)
    t = np.linspace(0, 1, 4001)
    assert law(t, 0) + law(1 - t, 0) == pytest.approx(np.ones(4001), abs=1e-12)
    middle = 0.5 * (t[:-1] + t[1:])
    assert np.diff(law(t, 0)) * 4000 == pytest.approx(law(middle, 1), abs=2e-6)
    assert np.diff(law(t, 1)) * 4000 == pytest.approx(law(middle, 2), abs=2e-2 if name != "parabolic" else 5)


def test_a_law_at_a_greatest_speed_takes_its_time():
    made = profile(Law("3-4-5 polynomial"), 1000.0, speed=500.0)
    assert made.duration == pytest.approx(1.875 * 1000 / 500)
    assert made.speed(np.linspace(0, made.duration, 2001)).max() == pytest.approx(500)


# limits


def bend(straight, radius):
    """Straight, a quarter of a circle, straight."""
    corner = straight + radius
    points = [(0, 0, 0), (corner, 0, 0), (corner, corner, 0)]
    return PointShape(tuple(PathPoint(p, "corner", radius=radius if i == 1 else 0) for i, p in enumerate(points)))


def limited(shape, speed_profile, **fields):
    project = Project(parts=(Part("part-1", "Trolley"),), paths=(Path("path-1", "Aisle", shape),))
    run = {"duration": None, "speed": 10_000.0, "speed_profile": speed_profile} | fields
    return edits.add(project, Run("run-1", "Rolls", "part-1", "path-1", **run))


def course(project):
    return course_of(project, project.runs[0])


def test_a_bend_between_straights_is_taken_as_the_closed_form_says():
    straight, radius, sideways, forward, braking = 3000.0, 900.0, 400.0, 300.0, 500.0
    made = course(limited(bend(straight, radius), Limited(0, sideways, forward, braking)))
    corner = np.sqrt(sideways * radius)
    arc = radius * np.pi / 2

    def segment(a_in, a_out, v_in, v_out):
        """Seconds over a straight, gathering and losing speed at their limits."""
        top = np.sqrt((2 * straight * a_in * a_out + a_out * v_in**2 + a_in * v_out**2) / (a_in + a_out))
        return (top - v_in) / a_in + (top - v_out) / a_out

    expected = segment(forward, braking, 0, corner) + arc / corner + segment(forward, braking, corner, 0)
    assert made.duration == pytest.approx(expected, rel=2e-3)
    times = np.linspace(0, made.end, 4000)
    assert made.accelerations(times).max() <= forward * (1 + 1e-9)
    assert made.accelerations(times).min() >= -braking * (1 + 1e-9)
    inside = (made.stations(times) > straight) & (made.stations(times) < straight + arc)
    assert made.speeds(times[inside]).max() == pytest.approx(corner, rel=1e-6)


def test_a_greatest_speed_holds_in_its_zone():
    zone = SpeedZone(0.44, 0.56, 400.0)
    made = course(limited(bend(3000, 900), Limited(1500, 0, 800, 800, (zone,))))
    stations = np.linspace(0.4405, 0.5595, 50) * made.path.length
    assert made.speeds(made.times_at(stations)).max() <= 400 * (1 + 1e-9)
    assert made.speeds(made.times_at([0.3 * made.path.length]))[0] > 900


def test_a_longer_duration_is_the_same_journey_more_slowly_and_less_is_told():
    fast = course(limited(bend(3000, 900), Limited(0, 400, 300, 500)))
    slow = course(limited(bend(3000, 900), Limited(0, 400, 300, 500), duration=2 * fast.duration, speed=None))
    share = np.linspace(0, 1, 50)
    assert slow.stations(share * slow.duration) == pytest.approx(fast.stations(share * fast.duration), abs=1e-6)
    assert slow.profile.least == pytest.approx(fast.duration)


def test_a_kink_is_passed_at_rest_and_a_limit_of_nothing_is_refused():
    sharp = PointShape(tuple(PathPoint(p, "corner") for p in [(0, 0, 0), (2000, 0, 0), (2000, 2000, 0)]))
    made = course(limited(sharp, Limited(1000, 500, 400, 400)))
    assert made.speeds(made.times_at([2000.0]))[0] < 1
    with pytest.raises(BadInput, match="no limit at all"):
        limited(sharp, Limited(0, 0, 0, 0))
    with pytest.raises(BadInput, match="go forward"):
        limited(sharp, Limited(zones=(SpeedZone(0.6, 0.4, 100.0),)))


def test_bend_limits_agree_with_an_independent_solver_on_a_path_in_space():
    places = [(0, 0, 0), (800, 300, 100), (1500, -200, 250), (2400, 100, 0)]
    shape = PointShape(tuple(PathPoint(p) for p in places))
    top, sideways, along = 900.0, 350.0, 600.0
    ours = course(limited(shape, Limited(top, sideways, along, along)))
    # for a general solver the station is the one joint of a machine, whose speed the bends limit
    stations = np.linspace(0, ours.length, 1501)
    curvature = ours.path.curve.curvature(stations)
    greatest = np.minimum(top, np.sqrt(sideways / np.maximum(curvature, 1e-9)))
    way = toppra.SplineInterpolator([0, ours.length], [[0.0], [ours.length]], bc_type="natural")
    limits = [
        toppra.constraint.JointVelocityConstraintVarying(
            lambda s: np.array([[0.0, float(np.interp(s, stations, greatest))]])
        ),
        toppra.constraint.JointAccelerationConstraint(np.array([[-along, along]])),
    ]
    solver = toppra.algorithm.TOPPRA(limits, way, gridpoints=np.linspace(0, ours.length, 3001))
    assert ours.duration == pytest.approx(solver.compute_trajectory(0, 0).duration, rel=5e-3)


def rounded(radius, *places):
    return PointShape(tuple(PathPoint(p, "corner", radius=radius) for p in places))


WAYS = {
    "a bend near the start": rounded(50, (0, 0, 0), (500, 0, 0), (500, 3000, 0)),
    "a spline": PointShape(tuple(PathPoint(p) for p in ((0, 0, 0), (300, 500, 0), (900, 480, 200), (1000, -700, 0)))),
    "a superellipse": RectangleShape((0, 0, 0), 1000, 700, 200, 3.0),
    "sharp corners": rounded(0, (0, 0, 0), (800, 0, 0), (800, 600, 0)),
}
ZONES = {
    "none": (),
    "from the start": (SpeedZone(0, 0.2, 100),),
    "within": (SpeedZone(0.301, 0.5, 120), SpeedZone(0.62, 0.63, 40)),
}


@pytest.mark.parametrize("zones", ZONES.values(), ids=ZONES.keys())
@pytest.mark.parametrize("shape", WAYS.values(), ids=WAYS.keys())
@pytest.mark.parametrize(("braking", "backwards"), [(800, False), (400, True), (0, False)])
def test_no_limit_is_exceeded_anywhere_on_any_pass(shape, zones, braking, backwards):
    speed_profile = Limited(1000, 500, 800, braking, zones)
    going = course(limited(shape, speed_profile, passes=3, returns=True, backwards=backwards))
    times = np.linspace(going.start, going.end, 200_001)
    stations, speeds, gained = going.stations(times), going.speeds(times), going.accelerations(times)
    curve, most = going.path.curve, 1.001
    apart = np.abs(stations[:, None] - curve.kink_stations).min(axis=1, initial=np.inf)
    assert (speeds**2 * curve.curvature(stations)).max() <= 500 * most
    assert speeds.max() <= 1000 * most
    assert speeds[apart < 1e-3].max(initial=0) < 1.5  # it stops at kinks, all but
    assert gained.max() <= 800 * most and (not braking or gained.min() >= -braking * most)
    for zone in zones:
        inside = (stations > zone.begin * curve.length + 1e-6) & (stations < zone.end * curve.length - 1e-6)
        assert speeds[inside].max() <= zone.speed * most


# keys


def test_keys_without_slopes_are_scipys_pchip_and_never_run_back():
    made = profile(KEYS, 1000.0, 4.0)
    t = np.linspace(0, 4, 400)
    wanted = PchipInterpolator([0, 1.2, 2, 4], [0, 100, 100, 1000])(t)
    assert made.distance(t) == pytest.approx(wanted, abs=1e-9)
    assert made.speed(t).min() >= -1e-9
    # a hold is a hold
    assert made.distance([1.3, 1.6, 1.9]) == pytest.approx([100, 100, 100])


def test_a_changed_key_leaves_what_is_farther_away():
    keys = tuple(SpeedKey(k / 8, (k / 8) ** 1.5) for k in range(9))
    changed = tuple(SpeedKey(k.time, 0.3) if i == 3 else k for i, k in enumerate(keys))
    t = np.concatenate([np.linspace(0, 0.5, 50), np.linspace(2.5, 4, 100)])
    before, after = (profile(Keyed(k), 1000.0, 4.0).distance(t) for k in (keys, changed))
    assert before == pytest.approx(after, abs=1e-9)


def test_a_handle_gives_a_key_its_speed_also_backwards():
    keys = Keyed((SpeedKey(0, 0), SpeedKey(0.5, 0.6, -0.4), SpeedKey(1, 1)))
    made = profile(keys, 1000.0, 4.0)
    assert float(made.speed(2.0)) == pytest.approx(-0.4 * 1000 / 4)
    with pytest.raises(BadInput, match="times go forward"):
        limited(bend(100, 20), Keyed((SpeedKey(0, 0), SpeedKey(0.5, 0.6))), duration=2.0, speed=None)
    with pytest.raises(BadInput, match="beyond its distance"):
        limited(bend(100, 20), Keyed((SpeedKey(0, 0), SpeedKey(1, 1.2))), duration=2.0, speed=None)


# backwards


def test_a_run_goes_backwards_over_the_same_way():
    project = limited(bend(1000, 200), Eased(100, 300), duration=3.0, speed=None)
    back = edits.update(project, "run-1", backwards=True)
    there, here = course(project), course(back)
    times = np.linspace(0, 3, 40)
    assert here.stations(times) == pytest.approx(there.path.length - there.stations(times))
    assert here.sets_out_at == there.last and here.arrives_at == there.first
    assert here.times_at(here.stations(times)) == pytest.approx(times, abs=1e-4)
    poses = world_poses(back, [0.0, 3.0])[:, 0, :3, 3]
    assert poses[0] == pytest.approx(there.path.curve.position([there.last])[0])
    assert poses[1] == pytest.approx([0, 0, 0], abs=1e-9)


@pytest.mark.parametrize(
    "speed_profile", [Eased(100, 200), Eased(start_time=0.4, stop_time=0.6), Law("modified sine"), KEYS], ids=str
)
@pytest.mark.parametrize("backwards", [False, True])
def test_a_split_path_keeps_the_pace_of_its_run(speed_profile, backwards):
    project = limited(EllipseShape((0, 0, 0), 600, 400), speed_profile, duration=4.0, speed=None, backwards=backwards)
    project = joining.opened(project, "path-1")
    after = joining.split(project, "path-1", 0.6 * path_curve(project.paths[0]).length)
    times = np.linspace(0, 4, 60)
    assert len(after.runs) == 2
    assert np.abs(world_poses(project, times) - world_poses(after, times)).max() < 0.5
