"""Company, rides, blends, own turns, and what holds before and after."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Attachment,
    Camera,
    EllipseShape,
    FixedOrientation,
    KeyedOrientation,
    Light,
    OrientationKey,
    Part,
    Path,
    PathPoint,
    Placement,
    PointAim,
    PointShape,
    Project,
    Run,
)
from kestrav.core.editing.run_making import quarter_turn
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.motion import Motion, thing_speeds
from kestrav.core.kinematics.poses import light_places, prefetch_lights, world_poses

AISLE = PointShape((PathPoint((0, 0, 0)), PathPoint((1000, 0, 0)), PathPoint((1000, 800, 300))))


def turn(degrees, axis="z"):
    return tuple(np.roll(Rotation.from_euler(axis, degrees, degrees=True).as_quat(), 1).tolist())


def project(shape=AISLE, **run):
    made = Project(
        parts=(
            Part("part-1", "Trolley", placement=Placement((50, -20, 5), turn(30))),
            Part("part-2", "Crate", placement=Placement((100, 60, 40), turn(70))),
            Part("part-3", "Lid", parent="part-2", placement=Placement((0, 0, 30))),
        ),
        paths=(Path("path-1", "Aisle", shape),),
        cameras=(Camera("camera-1", "Chase", PointAim((0, 0, 0)), (10, 20, 30)),),
        lights=(Light("light-1", "Lamp", position=(0, 0, 500), aim=PointAim((0, 0, 0))),),
    )
    return edits.add(made, Run("run-1", "Rolls", "part-1", "path-1", **({"start": 1.0, "duration": 4.0} | run)))


TIMES = np.linspace(0, 7, 29)


@pytest.mark.parametrize("orientation", [FixedOrientation(), AlongOrientation(stance="free")])
def test_company_keeps_its_arrangement(orientation):
    made = project(orientation=orientation, companions=("part-2",))
    poses = world_poses(made, TIMES)
    between = np.linalg.inv(poses[:, 0]) @ poses[:, 1]
    rest = np.linalg.inv(world_poses(edits.remove(made, "run-1"), [0])[0, 0])
    assert between == pytest.approx(np.broadcast_to(between[0], between.shape), abs=1e-9)
    assert between[0] == pytest.approx(rest @ world_poses(edits.remove(made, "run-1"), [0])[0, 1], abs=1e-9)
    # and takes along what is below it
    assert np.linalg.inv(poses[:, 1]) @ poses[:, 2] == pytest.approx(
        np.broadcast_to(np.linalg.inv(poses[0, 1]) @ poses[0, 2], poses[:, 1].shape), abs=1e-9
    )


@pytest.mark.parametrize("rider", ["part-2", "camera-1", "light-1"])
def test_a_ride_has_no_jump_at_its_ends_and_moves_as_its_carrier(rider):
    made = edits.add(
        project(orientation=AlongOrientation()), Attachment("attachment-1", "Rides", rider, "part-1", 2.0, 4.0)
    )
    motion = Motion(made)
    at = motion.poses(rider, [0, 2 - 1e-9, 2 + 1e-9, 4 - 1e-9, 4 + 1e-9, 6])
    assert at[0] == pytest.approx(at[1]) and at[1] == pytest.approx(at[2], abs=1e-4)
    assert at[3] == pytest.approx(at[4], abs=1e-4) and at[4] == pytest.approx(at[5])
    during = np.linspace(2, 4, 9)
    relative = np.linalg.inv(motion.poses("part-1", during)) @ motion.poses(rider, during)
    assert relative == pytest.approx(np.broadcast_to(relative[0], relative.shape), abs=1e-9)
    assert np.linalg.norm(at[5, :3, 3] - at[0, :3, 3]) > 100


def test_a_ride_goes_on_from_where_a_run_left_its_rider():
    made = edits.add(
        project(),
        Run("run-2", "Crate comes", "part-2", "path-1", end=0.3, duration=1.0),
        Attachment("attachment-1", "Rides", "part-2", "part-1", 3.0, 5.0),
    )
    motion = Motion(made)
    before, after = motion.poses("part-2", [2.9, 3.0])
    assert before == pytest.approx(after)
    assert thing_speeds(made, "part-2", [0.5, 2.0, 4.0]) == pytest.approx(
        [0.3 * motion_length(made), 0, motion_length(made) / 4], rel=1e-4
    )


def motion_length(made):
    from kestrav.core.kinematics.runs import course_of

    return course_of(made, made.runs[0]).path.length


def test_a_chain_of_rides_moves_together_and_a_circle_is_refused():
    made = edits.add(
        project(),
        Attachment("attachment-1", "Crate rides", "part-2", "part-1", 1.0, 6.0),
        Attachment("attachment-2", "Camera rides", "camera-1", "part-3", 1.0, 6.0),
    )
    motion = Motion(made)
    steps = [
        np.diff(motion.poses(thing, [2.0, 3.0])[:, :3, 3], axis=0)[0] for thing in ("part-1", "part-3", "camera-1")
    ]
    assert steps[0] == pytest.approx(steps[1]) and steps[1] == pytest.approx(steps[2])
    with pytest.raises(BadInput, match="is carried or driven by itself"):
        edits.add(made, Attachment("attachment-3", "Round", "part-1", "part-3", 0.0))


def test_before_and_after_a_run():
    made = project(before="rests", after="rests", orientation=AlongOrientation())
    rest = world_poses(edits.remove(made, "run-1"), [0])[0, 0]
    poses = world_poses(made, [0.5, 1.5, 5.5])[:, 0]
    assert poses[0] == pytest.approx(rest) and poses[2] == pytest.approx(rest)
    assert np.linalg.norm(poses[1, :3, 3] - rest[:3, 3]) > 50


def test_a_blend_has_neither_jump_nor_jerk():
    made = edits.add(
        project(orientation=AlongOrientation()),
        Run("run-2", "Elsewhere", "part-1", "path-1", start=5.5, duration=2.0, end=0.6, blend=1.0),
    )
    times = np.linspace(5.4, 7.6, 2201)
    poses = Motion(made).poses("part-1", times)
    steps = np.linalg.norm(np.diff(poses[:, :3, 3], axis=0), axis=1) / np.diff(times)
    assert steps[:100].max() == 0 and np.abs(np.diff(steps[times[1:] < 7.4])).max() < 15
    plain = Motion(edits.update(made, "run-2", blend=0.0)).poses("part-1", times)
    late = times > 6.5
    assert poses[late] == pytest.approx(plain[late])


def test_own_turns_under_a_run_leave_it_on_its_path():
    made = project(orientation=AlongOrientation(), turn=(90.0, 0.0, 0.0))
    plain = project(orientation=AlongOrientation())
    a, b = (Motion(p).poses("part-1", TIMES) for p in (made, plain))
    assert a[:, :3, 3] == pytest.approx(b[:, :3, 3])
    # yaw to the left: its front looks where its left looked
    assert a[:, :3, 0] == pytest.approx(b[:, :3, 1], abs=1e-9)
    level = project(
        PointShape((PathPoint((0, 0, 0)), PathPoint((9, 9, 0)))), orientation=AlongOrientation(), turn=(0, 10.0, 0)
    )
    pitched = Motion(level).poses("part-1", [1.0])[0]
    assert pitched[2, 0] == pytest.approx(np.sin(np.radians(10)), abs=1e-6)


def test_quarter_turns_go_to_the_left_and_round():
    orientation = AlongOrientation()
    front = []
    for _ in range(4):
        orientation = quarter_turn(orientation)
        made = project(PointShape((PathPoint((0, 0, 0)), PathPoint((900, 0, 0)))), orientation=orientation)
        front.append(Motion(made).poses("part-1", [2.0])[0, :3, 0])
    assert np.array(front) == pytest.approx(np.array([[0, 1, 0], [-1, 0, 0], [0, -1, 0], [1, 0, 0]]), abs=1e-9)
    assert orientation == AlongOrientation()


@pytest.mark.parametrize("up", ["+z", "-z", "+x", "+y"])
def test_the_chosen_axes_look_ahead_and_up(up):
    forward = "+y" if up[1] != "y" else "+x"
    made = project(
        PointShape((PathPoint((0, 0, 0)), PathPoint((900, 900, 0)))), orientation=AlongOrientation(forward, up=up)
    )
    pose = Motion(made).poses("part-1", [2.0])[0, :3, :3]
    axes = {"x": 0, "y": 1, "z": 2}
    ahead = pose[:, axes[forward[1]]]
    above = pose[:, axes[up[1]]] * (1 if up[0] == "+" else -1)
    assert ahead == pytest.approx(np.array([1, 1, 0]) / np.sqrt(2)) and above == pytest.approx([0, 0, 1])
    assert np.linalg.det(pose) == pytest.approx(1)


def test_level_and_sloping_stances():
    rise = PointShape((PathPoint((0, 0, 0)), PathPoint((900, 0, 300))))
    level = Motion(project(rise, orientation=AlongOrientation(stance="level"))).poses("part-1", [2.0])[0, :3, :3]
    slope = Motion(project(rise, orientation=AlongOrientation())).poses("part-1", [2.0])[0, :3, :3]
    assert level == pytest.approx(np.eye(3))
    assert slope[2, 0] == pytest.approx(300 / np.hypot(900, 300))


def test_headings_by_keys_are_met_and_turn_as_scipy_does():
    keys = tuple(OrientationKey(p, turn(a)) for p, a in ((0.0, 0.0), (0.3, 80.0), (0.8, 20.0), (1.0, 90.0)))
    straight = PointShape((PathPoint((0, 0, 0)), PathPoint((1000, 0, 0))))
    made = project(straight, orientation=KeyedOrientation(keys=keys, room=True, smooth=False), start=0.0, duration=1.0)
    shares = np.array([0.0, 0.3, 0.55, 0.8, 1.0])
    front = Motion(made).poses("part-1", shares)[:, :3, 0]
    angles = np.degrees(np.arctan2(front[:, 1], front[:, 0]))
    # halfway between keys at even rates: half the angle
    assert angles == pytest.approx([0, 80, 50, 20, 90], abs=1e-5)
    smooth = edits.update(made, "run-1", orientation=KeyedOrientation(keys=keys, room=True))
    front = Motion(smooth).poses("part-1", shares[[0, 1, 3, 4]])[:, :3, 0]
    assert np.degrees(np.arctan2(front[:, 1], front[:, 0])) == pytest.approx([0, 80, 20, 90], abs=1e-5)


def test_keys_against_the_path_turn_with_it():
    ring = EllipseShape((0, 0, 0), 500, 500)
    made = project(ring, orientation=KeyedOrientation(keys=(OrientationKey(0.0, turn(-90)),)))
    poses = Motion(made).poses("part-1", TIMES)
    outwards = poses[:, :3, 3] / np.linalg.norm(poses[:, :3, 3], axis=1)[:, None]
    assert poses[:, :3, 0] == pytest.approx(outwards, abs=1e-6)


def test_a_light_shines_along_with_what_carries_it():
    made = edits.add(
        project(orientation=AlongOrientation()), Attachment("attachment-1", "Rides", "light-1", "part-1", 1.0)
    )
    light = made.lights[0]
    (place,), (target,) = light_places(made, light, [0.0])
    assert place == pytest.approx([0, 0, 500]) and target == pytest.approx([0, 0, 0])
    place, target = light_places(made, light, [1.0, 5.0])
    assert np.linalg.norm(target - place, axis=1) == pytest.approx([500, 500])
    assert np.linalg.norm(place[1] - place[0]) > 500


def test_lights_worked_out_together_ahead_are_where_they_are_one_by_one(monkeypatch):
    made = edits.add(
        project(orientation=AlongOrientation()), Attachment("attachment-1", "Rides", "light-1", "part-1", 1.0)
    )
    again = edits.update(made, "light-1", name="Other lamp")  # nothing is known of this document yet
    each = [light_places(made, made.lights[0], [t]) for t in TIMES]
    prefetch_lights(again, TIMES)
    monkeypatch.setattr("kestrav.core.kinematics.poses._shining", None)  # no more is worked out
    for t, (place, target) in zip(TIMES, each, strict=True):
        ahead = light_places(again, again.lights[0], [t])
        assert ahead[0] == pytest.approx(place, abs=1e-9) and ahead[1] == pytest.approx(target, abs=1e-9)


@pytest.mark.parametrize(
    ("fields", "complaint"),
    [
        ({"strength": -1.0}, "negative strength"),
        ({"cone": 180.0}, "cone"),
        ({"size": (0.0, 1.0)}, "must be above 0"),
        ({"colour": "red"}, "#rrggbb"),
    ],
)
def test_bad_lights_are_refused(fields, complaint):
    with pytest.raises(BadInput, match=complaint):
        edits.update(project(), "light-1", **fields)
