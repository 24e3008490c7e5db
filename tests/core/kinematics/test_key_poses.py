"""Key poses: in between, and turned into paths and runs and back."""

import numpy as np
import pytest
from scipy.interpolate import PchipInterpolator
from scipy.spatial.transform import Rotation

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Eased,
    EllipseShape,
    FixedOrientation,
    KeyPose,
    Part,
    Path,
    PathPoint,
    Placement,
    PointShape,
    PoseTrack,
    Project,
    Run,
)
from kestrav.core.editing.run_making import add_pose, poses_to_run, run_to_poses
from kestrav.core.errors import BadInput
from kestrav.core.geometry.transforms import rotation_angle
from kestrav.core.kinematics.key_poses import pivot_poses, places, velocities
from kestrav.core.kinematics.motion import Motion


def turn(degrees, axis="z"):
    return tuple(np.roll(Rotation.from_euler(axis, degrees, degrees=True).as_quat(), 1).tolist())


def keyed(*keys, between="smooth", start=1.0, pivot=None):
    made = Project(
        parts=(Part("part-1", "Gate", pivot=pivot or Placement(), placement=Placement((5, 6, 7), turn(20))),)
    )
    return edits.add(made, PoseTrack("pose-track-1", "Swings", "part-1", tuple(keys), start, between))


LINE = (
    KeyPose(0.0, Placement((0, 0, 0))),
    KeyPose(1.0, Placement((100, 0, 0))),
    KeyPose(3.0, Placement((100, 300, 50))),
)


@pytest.mark.parametrize("between", ["straight", "smooth", "by hand"])
def test_keys_are_met_and_held_before_and_after(between):
    made = keyed(*LINE, between=between)
    poses = Motion(made).poses("part-1", [0, 1, 2, 4, 9])[:, :3, 3]
    assert poses == pytest.approx(np.array([[0, 0, 0], [0, 0, 0], [100, 0, 0], [100, 300, 50], [100, 300, 50]]))


def test_straight_goes_evenly_in_between():
    poses = keyed(*LINE, between="straight").pose_tracks[0]
    assert places(poses, [0.25, 2.0]) == pytest.approx(np.array([[25, 0, 0], [100, 150, 25]]))


def test_smooth_never_overshoots_and_starts_and_stops_softly():
    keys = (KeyPose(0, Placement((0, 0, 0))), KeyPose(1, Placement((80, 0, 0))), KeyPose(2, Placement((80, 0, 0))))
    poses = keyed(*keys, KeyPose(3, Placement((100, 0, 0)))).pose_tracks[0]
    way = places(poses, np.linspace(0, 3, 3001))[:, 0]
    assert np.diff(way).min() >= -1e-9 and way.max() == pytest.approx(100)
    assert way[1000:2001] == pytest.approx(80)
    assert np.linalg.norm(velocities(poses, [1e-6, 3 - 1e-6]), axis=1) == pytest.approx([0, 0], abs=0.1)
    # within, its slopes are those of SciPy's PCHIP
    slope = PchipInterpolator([0, 1, 2, 3], [0, 80, 80, 100]).derivative()(1.0)
    assert velocities(poses, [1.0])[0, 0] == pytest.approx(slope, abs=0.1)


def test_handles_shape_what_is_between_by_hand():
    shaped = (
        KeyPose(0, Placement((0, 0, 0)), None, (0, 90, 0)),
        KeyPose(1, Placement((100, 0, 0)), (0, 90, 0), None),
    )
    # a cubic with both handles 90 mm to the side comes to 3/4 of that halfway
    assert places(keyed(*shaped, between="by hand").pose_tracks[0], [0.5]) == pytest.approx(np.array([[50, 67.5, 0]]))


@pytest.mark.parametrize("between", ["straight", "smooth"])
def test_a_swing_turns_about_its_pivot_alone(between):
    pivot = Placement((30, 0, 0))
    keys = (KeyPose(0, Placement((1, 2, 3))), KeyPose(2, Placement((1, 2, 3), turn(95))))
    made = keyed(*keys, between=between, pivot=pivot)
    times = np.linspace(1, 3, 41)
    poses = Motion(made).poses("part-1", times)
    hinge = poses[:, :3, :3] @ np.array([30, 0, 0]) + poses[:, :3, 3]
    assert hinge == pytest.approx(np.broadcast_to([1, 2, 3], hinge.shape))
    angle = np.degrees(rotation_angle(poses[:1, :3, :3], poses[:, :3, :3]))
    assert np.diff(angle).min() > 0 and angle[-1] == pytest.approx(95) and angle[20] == pytest.approx(47.5)


def test_keys_join_those_that_are_there_and_begin_earlier():
    made = Project(parts=(Part("part-1", "Gate", placement=Placement((5, 6, 7))),))
    pose = np.eye(4)
    made = add_pose(made, "part-1", 2.0)
    pose[:3, 3] = 10, 20, 30
    made = add_pose(made, "part-1", 3.5, pose)
    assert len(made.pose_tracks) == 1 and [k.time for k in made.pose_tracks[0].keys] == [0.0, 1.5]
    assert made.pose_tracks[0].keys[0].placement.position == (5, 6, 7)
    made = add_pose(made, "part-1", 1.0, pose)
    assert made.pose_tracks[0].start == 1.0 and [k.time for k in made.pose_tracks[0].keys] == [0.0, 1.0, 2.5]
    # one at the same time takes its place
    again = add_pose(made, "part-1", 2.0, pose)
    assert len(again.pose_tracks[0].keys) == 3 and again.pose_tracks[0].keys[1].placement.position == (10, 20, 30)


def far(one, two, times):
    a, b = (Motion(p).poses("part-1", times) for p in (one, two))
    turned = np.degrees(rotation_angle(a[:, :3, :3], b[:, :3, :3]))
    return np.linalg.norm(a[:, :3, 3] - b[:, :3, 3], axis=1).max(), turned.max()


@pytest.mark.parametrize("between", ["straight", "smooth", "by hand"])
def test_key_poses_become_a_path_and_a_run_that_goes_the_same(between):
    turning = (LINE[0], LINE[1], KeyPose(3.0, Placement((100, 300, 50), turn(60))))
    made = keyed(*turning, between=between)
    turned = poses_to_run(made, "pose-track-1")
    assert not turned.pose_tracks and len(turned.paths) == 1 and turned.runs[0].rider == "part-1"
    gap, angle = far(made, turned, np.linspace(0.5, 4.5, 201))
    assert gap < 0.5 and angle < 1.0


def test_a_hold_between_key_poses_survives():
    keys = (LINE[0], LINE[1], KeyPose(2.0, LINE[1].placement), KeyPose(3.0, Placement((300, 0, 0))))
    made = keyed(*keys)
    assert far(made, poses_to_run(made, "pose-track-1"), np.linspace(0.5, 4.5, 201))[0] < 0.5


def test_what_cannot_become_a_run_is_said():
    still = keyed(KeyPose(0, Placement()), KeyPose(2, Placement((0, 0, 0), turn(90))))
    with pytest.raises(BadInput, match="stays in one place"):
        poses_to_run(still, "pose-track-1")
    with pytest.raises(BadInput, match="single pose"):
        poses_to_run(keyed(KeyPose(0)), "pose-track-1")
    turning = keyed(LINE[0], LINE[1], KeyPose(2.0, Placement((100, 0, 0), turn(40))), LINE[2])
    with pytest.raises(BadInput, match="turns while it stands"):
        poses_to_run(turning, "pose-track-1")


@pytest.mark.parametrize(
    "shape",
    [
        PointShape((PathPoint((0, 0, 0)), PathPoint((900, 200, 0)), PathPoint((1200, 900, 100)))),
        EllipseShape((0, 0, 0), 400, 300),
    ],
)
@pytest.mark.parametrize("orientation", [FixedOrientation(), AlongOrientation()])
def test_a_run_becomes_key_poses_that_go_the_same(shape, orientation):
    made = Project(parts=(Part("part-1", "Gate"),), paths=(Path("path-1", "Way", shape),))
    run = Run("run-1", "Goes", "part-1", "path-1", start=0.5, orientation=orientation, speed_profile=Eased(150, 150))
    made = edits.add(made, run)
    told = run_to_poses(made, "run-1")
    assert not told.runs and len(told.pose_tracks) == 1 and len(told.pose_tracks[0].keys) <= 60
    gap, angle = far(made, told, np.linspace(0, 5, 301))
    assert gap < 3.0 and angle < 1.5


@pytest.mark.parametrize(
    ("keys", "complaint"),
    [
        ((KeyPose(0.5),), "from their start"),
        ((KeyPose(0), KeyPose(0)), "go forward"),
        ((), "go forward"),
        ((KeyPose(0, Placement(rotation=(1, 1, 0, 0))),), "unit quaternion"),
    ],
)
def test_bad_key_poses_are_refused(keys, complaint):
    with pytest.raises(BadInput, match=complaint):
        keyed(*keys)


def test_a_single_pose_holds():
    assert pivot_poses(keyed(KeyPose(0, Placement((1, 2, 3)))).pose_tracks[0], [-1, 0, 5])[:, :3, 3] == pytest.approx(
        np.tile([1, 2, 3], (3, 1))
    )
