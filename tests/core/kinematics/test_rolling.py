"""Wheels by the way they roll, castors and spins."""

import numpy as np
import pytest

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    ArcShape,
    Axle,
    CarriedOrientation,
    Castor,
    Eased,
    EllipseShape,
    Hold,
    Part,
    PartAim,
    Path,
    PathPoint,
    Placement,
    PointShape,
    Project,
    Run,
    TimedRotation,
    TowardOrientation,
    Trigger,
    Wheel,
)
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.poses import moving_groups, world_poses
from kestrav.core.kinematics.rolling import rolled, sideways, track
from kestrav.core.kinematics.runs import course_of

SIDES = {"left": 300.0, "right": -300.0}


def vehicle(shape, wheels=SIDES, radius=62.5, **run):
    """A vehicle whose wheels turn about its y axis, at places to its sides."""
    parts = [Part("part-1", "Vehicle")]
    rolling = []
    for k, (name, y) in enumerate(wheels.items(), 2):
        parts.append(Part(f"part-{k}", f"Wheel {name}", "part-1", Placement((0.0, y, radius))))
        rolling.append(Wheel(f"wheel-{k}", f"Wheel {name}", f"part-{k}", radius=radius))
    made = Project(parts=tuple(parts), paths=(Path("path-1", "Aisle", shape),), wheels=tuple(rolling))
    fields = {"duration": 4.0, "orientation": AlongOrientation(), "speed_profile": Eased(200, 200)} | run
    return edits.add(made, Run("run-1", "Rolls", "part-1", "path-1", **fields))


def straight(length):
    return PointShape((PathPoint((0, 0, 0)), PathPoint((length, 0, 0))))


def angle_of(made, number, times):
    return Motion(made).angles(made.wheels[number], times)


def test_turns_are_way_by_circumference():
    # common practice, no source: 30 of way at a radius of 5.7 are 301.6 degrees
    made = vehicle(straight(30.0), radius=5.7, speed_profile=Eased(3, 3))
    assert np.degrees(angle_of(made, 0, [4.0]))[0] == pytest.approx(301.6, abs=0.05)
    assert np.degrees(angle_of(made, 0, [4.0]))[0] == pytest.approx(30 / (2 * np.pi * 5.7) * 360, abs=1e-6)
    # three turns are 1 080 degrees
    three = vehicle(straight(3 * 2 * np.pi * 62.5))
    assert np.degrees(angle_of(three, 0, [9.0])) == pytest.approx([1080], abs=1e-6)


def test_the_wheel_itself_turns_and_is_carried():
    made = vehicle(straight(2 * np.pi * 62.5 / 4))
    pose = world_poses(made, [4.0])[0, 1]
    # a quarter turn forwards: what was on top looks ahead
    assert pose[:3, :3] @ np.array([0, 0, 1.0]) == pytest.approx([1, 0, 0], abs=1e-9)
    assert pose[:3, 3] == pytest.approx([2 * np.pi * 62.5 / 4, 300, 62.5])
    assert moving_groups(made) == {"part-1": 0, "part-2": 1, "part-3": 2}


@pytest.mark.parametrize("direction", [(0, 1, 0), (0, -1, 0)])
def test_the_sense_follows_from_axle_and_travel(direction):
    made = vehicle(straight(1000.0))
    made = edits.update(made, "wheel-2", axle=Axle((0, 0, 0), direction))
    # about either direction of its axle the wheel turns the same way in the room
    pose = Motion(made).poses("part-2", [2.0])[0]
    other = Motion(vehicle(straight(1000.0))).poses("part-2", [2.0])[0]
    assert pose == pytest.approx(other)


def test_on_a_circle_inner_and_outer_wheels_go_by_their_own_radius():
    # the ratio of the ways of two wheels on one axle is that of their distances from the middle of the bend
    made = vehicle(EllipseShape((0, 0, 0), 2000, 2000), passes=1)
    inner, outer = (angle_of(made, k, [4.0])[0] for k in (0, 1))
    assert inner == pytest.approx(2 * np.pi * 1700 / 62.5, rel=1e-8)
    assert outer == pytest.approx(2 * np.pi * 2300 / 62.5, rel=1e-8)
    assert outer / inner == pytest.approx(2300 / 1700, rel=1e-8)


@pytest.mark.parametrize(
    "fields",
    [
        {"holds": (Hold(0.4, 1.0),)},
        {"backwards": True},
        {"passes": 3, "returns": True},
        {"speed_profile": Eased(start_time=0.5, stop_time=1.0)},
    ],
)
def test_wheels_turn_with_any_pacing_holds_and_reversing(fields):
    made = vehicle(straight(1700.0), **fields)
    course = course_of(made, made.runs[0])
    times = np.linspace(0, course.end, 57)
    way = course.stations(times) - course.stations([0.0])
    assert angle_of(made, 0, times) * 62.5 == pytest.approx(way, abs=1e-5)


def test_sequences_and_waits_go_on_where_they_were():
    made = vehicle(straight(1000.0))
    made = edits.add(made, edits.change(made.runs[0], id="run-2", name="Back", start=6.0, backwards=True))
    turned = angle_of(made, 0, [0.0, 4.0, 5.9, 10.0])
    assert turned * 62.5 == pytest.approx([0, 1000, 1000, 0], abs=1e-6)


def test_on_two_points_a_wheel_is_dragged_by_the_chord_of_its_bend():
    # a chord of w on a circle of r meets it at asin(w / 2r): by that the rear wheel goes across its own way
    ring = EllipseShape((0, 0, 0), 2000, 2000)
    made = vehicle(ring, {"middle": 0.0}, orientation=CarriedOrientation(wheelbase=800.0, share=0.0))
    base = Motion(made)
    path = track(lambda t: base.unturned("part-2", t), made.wheels[0].axle, np.linspace(0, 4, 1921))
    angle = np.arcsin(800 / (2 * 2000))
    assert sideways(path)[-1] / rolled(path)[-1] == pytest.approx(np.tan(angle), rel=1e-4)
    assert rolled(path)[-1] == pytest.approx(2 * np.pi * 2000 * np.cos(angle), rel=1e-5)


def test_start_angle_and_slip():
    made = edits.update(vehicle(straight(1000.0)), "wheel-2", start=30.0, slip=0.1)
    assert angle_of(made, 0, [0.0]) == pytest.approx([np.radians(30)])
    assert angle_of(made, 0, [4.0]) - np.radians(30) == pytest.approx([1.1 * 1000 / 62.5])


def test_a_wheel_that_is_turned_about_its_axle_by_its_run_rolls_no_further():
    # a lone wheel that pitches with a vertical loop has been turned once by the loop itself
    loop = ArcShape((0, 0, 500), (0, 0, 0), 360.0, (0, -1, 0))
    made = vehicle(loop, wheels={"lone": 0.0}, orientation=AlongOrientation(stance="free"), duration=4.0)
    steady = Motion(made).rolling(made.wheels[0])
    assert abs(steady.path.own[-1]) == pytest.approx(2 * np.pi, rel=1e-3)


def castor(shape, trail=0.0, **run):
    made = vehicle(shape, wheels={}, **run)
    fork = Part("part-2", "Castor", "part-1", Placement((400.0, 250.0, 60.0)))
    wheel = Part("part-3", "Wheel", "part-2", Placement((-trail, 0.0, 0.0)))
    made = edits.add(made, fork, wheel)
    return edits.add(
        made,
        Castor("castor-1", "Castor", "part-2", trail=trail),
        Wheel("wheel-1", "Wheel", "part-3", radius=60.0),
    )


def test_a_castor_looks_along_its_way_and_rolls_all_of_it():
    made = castor(EllipseShape((0, 0, 0), 2000, 2000))
    motion = Motion(made)
    times = np.linspace(0.5, 3.5, 31)
    step = 1e-3
    moved = motion.poses("part-2", times + step)[:, :3, 3] - motion.poses("part-2", times - step)[:, :3, 3]
    ahead = motion.poses("part-2", times)[:, :3, 0]
    assert np.cross(ahead, moved / np.linalg.norm(moved, axis=1)[:, None])[:, 2] == pytest.approx(
        np.zeros(31), abs=2e-3
    )
    # its way is that of its own circle about the middle
    own = np.hypot(400, 2000 - 250)
    assert motion.angles(made.wheels[0], [4.0]) * 60 == pytest.approx([2 * np.pi * own], rel=1e-5)


def test_a_castor_without_trail_is_not_turned_about_by_reversing():
    made = castor(straight(1000.0), passes=2, returns=True)
    angles = Motion(made).angles(made.castors[0], np.linspace(0, 8, 200))
    assert np.abs(angles).max() < 1e-6
    assert Motion(made).angles(made.wheels[0], [4.0, 8.0]) * 60 == pytest.approx([1000, 0], abs=1e-4)


def test_a_castor_with_trail_swings_round_behind_as_the_tractrix_does():
    # towed at a right angle by s, a wheel at d behind turns to 2 atan(exp(-s / d)) from straight behind (C. Huygens'
    # tractrix)
    made = castor(straight(600.0), trail=80.0, speed_profile=Eased(50, 50))
    made = edits.update(made, "castor-1", forward=(0.0, 1.0, 0.0))
    times = np.linspace(0, 4, 21)
    way = course_of(made, made.runs[0]).stations(times)
    angle = Motion(made).angles(made.castors[0], times)
    off = np.pi / 2 + angle  # from the direction of travel
    assert off == pytest.approx(2 * np.arctan(np.exp(-way / 80.0)), abs=2e-3)


def test_spins_by_rate_and_by_turns():
    made = Project(parts=(Part("part-1", "Impeller"),))
    axle = Axle((10, 0, 0), (0, 0, 1))
    made = edits.add(made, TimedRotation("rotation-1", "Spins", "part-1", axle, start=1.0, rpm=120.0))
    turns = Motion(made).angles(made.rotations[0], [0.0, 1.0, 2.0, 3.25]) / (2 * np.pi)
    assert turns == pytest.approx([0, 0, 2, 4.5])
    pose = Motion(made).poses("part-1", [1.125])[0]
    # a quarter turn about its axle: the axle stays, the part's own origin goes round it
    assert pose[:3, :3] @ [10, 0, 0] + pose[:3, 3] == pytest.approx([10, 0, 0])
    assert pose[:3, 3] == pytest.approx([10, -10, 0])
    by_turns = edits.update(made, "rotation-1", rpm=None, turns=5.0, end=4.0, ramp_in=1.0, ramp_out=0.5)
    angles = Motion(by_turns).angles(by_turns.rotations[0], np.linspace(0, 6, 601)) / (2 * np.pi)
    assert angles[-1] == pytest.approx(5) and np.diff(angles).min() >= 0
    rate = np.gradient(angles, 0.01)
    assert rate[:100].max() == 0 and rate[300] == pytest.approx(5 / (3 - 0.75), abs=1e-6)
    assert rate[150] == pytest.approx(rate[300] / 2, rel=0.02)


def test_a_spin_waits_for_its_cue():
    made = vehicle(straight(1000.0), wheels={})
    made = edits.add(made, TimedRotation("rotation-1", "Spins", "part-1", trigger=Trigger("run-1"), rpm=60.0))
    assert Motion(made).angles(made.rotations[0], [4.0, 4.5]) / (2 * np.pi) == pytest.approx([0, 0.5])
    assert edits.remove(made, "run-1").rotations[0].trigger is None and not edits.remove(made, "part-1").rotations


@pytest.mark.parametrize(
    ("item", "complaint"),
    [
        (Wheel("r", "R", "part-1", radius=0.0), "must be above 0"),
        (Wheel("r", "R", "part-1", radius=-5.0), "must be above 0"),
        (Wheel("r", "R", "part-1", radius=1e9), "at most 1,000,000 mm"),
        (Wheel("r", "R", "part-1", Axle((0, 0, 0), (0, 0, 0))), "without direction"),
        (Wheel("r", "R", "part-1", slip=-1.0), "must be above -100 %"),
        (Wheel("r", "R", "part-9"), "does not hold"),
        (Castor("s", "S", "part-1", forward=(0, 0, 2)), "along its kingpin"),
        (Castor("s", "S", "part-1", trail=-1.0), "the trail of the castor"),
        (TimedRotation("p", "P", "part-1", turns=3.0), "not both"),
        (TimedRotation("p", "P", "part-1", turns=3.0, rpm=None), "an end in time"),
        (TimedRotation("p", "P", "part-1", end=0.0), "after its start"),
        (TimedRotation("p", "P", "part-1", ramp_in=-1.0), "negative ramp"),
    ],
)
def test_what_cannot_turn_is_refused(item, complaint):
    with pytest.raises(BadInput, match=complaint):
        edits.add(vehicle(straight(100.0), wheels={}), item)


def test_an_axle_along_the_upright_rolls_nothing():
    made = vehicle(straight(1000.0))
    made = edits.update(made, "wheel-2", axle=Axle((0, 0, 0), (0, 0, 1)))
    assert angle_of(made, 0, [4.0]) == pytest.approx([0])


def test_wheels_elsewhere_change_nothing_of_what_turns_to_each_other():
    made = vehicle(straight(1000.0), wheels={})
    made = edits.add(made, Part("part-2", "Other", placement=Placement((400, 700, 0))), Part("part-3", "Wheel"))
    one = edits.update(made, "run-1", orientation=TowardOrientation(aim=PartAim("part-2")))
    both = edits.add(
        one, edits.change(one.runs[0], id="run-2", rider="part-2", orientation=TowardOrientation(aim=PartAim("part-1")))
    )
    times = np.linspace(0, 4, 9)
    plain = world_poses(both, times)
    assert world_poses(edits.add(both, TimedRotation("rotation-1", "Spins", "part-3")), times)[:, :2] == pytest.approx(
        plain[:, :2]
    )


def test_a_wheel_follows_a_cue_that_turns_what_carries_it():
    made = vehicle(straight(1000.0))
    made = edits.add(
        made, Run("run-2", "Waits", "part-1", "path-1", start=20.0, backwards=True, trigger=Trigger("run-1", delay=1.0))
    )
    turned = angle_of(made, 0, [9.0])
    later = edits.update(made, "run-1", start=2.0)
    assert turned == pytest.approx([0], abs=1e-6) and angle_of(later, 0, [9.0])[0] * 62.5 == pytest.approx(500, abs=1)
