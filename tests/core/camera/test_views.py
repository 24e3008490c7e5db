"""Where cameras look: aims, looks at stops, lags, horizons, sizes kept."""

import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.camera import framing, making, views
from kestrav.core.camera.subject import subject_of
from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongAim,
    Attachment,
    Axle,
    Camera,
    FreeAim,
    Hold,
    LookKey,
    PartAim,
    Path,
    PathAim,
    PathPoint,
    PointAim,
    PointShape,
    RollKey,
    Run,
    TimedRotation,
)
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.poses import world_poses


def with_camera(opened, aim, path=None, **fields):
    run = {k: fields.pop(k) for k in list(fields) if k in ("holds", "duration", "backwards")}
    camera = Camera("camera-1", "Eye", aim, **fields)
    project = edits.add(opened.project, camera)
    if path is not None:
        project = edits.add(project, Path("path-9", "Way", path))
        project = edits.add(project, Run("run-9", "Goes", camera.id, "path-9", **({"duration": 4.0} | run)))
    return project, camera


def look(opened, project, camera, times):
    return views.views(project, opened.meshes, camera, times)


BEND = PointShape((PathPoint((0, -500, 0), "corner"), PathPoint((0, 0, 0), "corner"), PathPoint((500, 0, 0), "corner")))


def test_along_the_travel_it_looks_where_it_goes_also_backwards(passing):
    project, camera = with_camera(passing, AlongAim(), BEND)
    seen = look(passing, project, camera, [1.0, 3.0])
    assert seen.forward == pytest.approx(np.array([[0, 1, 0], [1, 0, 0]]), abs=1e-9)
    project, camera = with_camera(passing, AlongAim(), BEND, backwards=True)
    assert look(passing, project, camera, [1.0]).forward[0] == pytest.approx([-1, 0, 0], abs=1e-9)


def test_looking_ahead_it_turns_before_the_corner(passing):
    project, camera = with_camera(passing, AlongAim(ahead=250.0), BEND)
    # 125 mm before the corner the place 250 mm on is 125 mm round it
    seen = look(passing, project, camera, [1.5])
    assert seen.forward[0] == pytest.approx([np.sqrt(0.5), np.sqrt(0.5), 0], abs=1e-6)
    # beyond the end of the path it goes on looking straight
    assert look(passing, project, camera, [4.0]).forward[0] == pytest.approx([1, 0, 0], abs=1e-9)


def test_yaw_and_pitch_turn_it_against_the_travel(passing):
    project, camera = with_camera(passing, AlongAim(yaw=90.0, pitch=30.0), straight((0, 0, 0), (0, 500, 0)))
    assert look(passing, project, camera, [1.0]).forward[0] == pytest.approx([-np.sqrt(0.75), 0, 0.5], abs=1e-9)


def test_at_a_second_path_it_looks_as_far_along_as_it_is_on_its_own(passing):
    project, camera = with_camera(passing, PointAim((0, 0, 0)), straight((0, -500, 0), (1000, -500, 0)))
    project = edits.add(project, Path("path-8", "Gaze", straight((0, 0, 0), (0, 0, 200))))
    project = edits.update(project, camera.id, aim=PathAim("path-8"))
    seen = look(passing, project, project.cameras[0], [0.0, 2.0, 4.0])
    assert seen.target == pytest.approx(np.array([[0, 0, 0], [0, 0, 100], [0, 0, 200]]), abs=1e-6)


def test_free_looks_go_by_keys_also_beyond_a_whole_turn(passing):
    aim = FreeAim((LookKey(0.0, 90.0), LookKey(4.0, 450.0, 0.0)))
    project, camera = with_camera(passing, aim)
    seen = look(passing, project, camera, [0.0, 1.0, 2.0, 4.0, 9.0])
    wanted = [[0, 1, 0], [-1, 0, 0], [0, -1, 0], [0, 1, 0], [0, 1, 0]]
    assert seen.forward == pytest.approx(np.array(wanted), abs=1e-9)


def test_a_free_look_can_turn_with_what_carries_the_camera(passing):
    project, camera = with_camera(passing, FreeAim((LookKey(0.0, 0.0),), riding=True), position=(-100, 0, 50))
    turning = PointShape((PathPoint((-100, 0, 0), "corner"), PathPoint((-100, 100, 0), "corner")))
    project = edits.update(project, "path-1", shape=turning)
    from kestrav.core.document.records import KeyedOrientation, OrientationKey

    quarter = (float(np.sqrt(0.5)), 0.0, 0.0, float(np.sqrt(0.5)))
    orientation = KeyedOrientation(keys=(OrientationKey(0.0), OrientationKey(1.0, quarter)), room=True)
    project = edits.update(project, "run-1", orientation=orientation)
    project = edits.add(project, Attachment("attachment-1", "Rides", camera.id, "part-1"))
    seen = look(passing, project, camera, [0.0, 2.0])
    assert seen.forward == pytest.approx(np.array([[1, 0, 0], [0, 1, 0]]), abs=1e-6)


def test_where_it_stops_it_turns_to_what_there_is_to_look_at(passing):
    hold = Hold(0.5, 6.0, PartAim("part-2"))
    project, camera = with_camera(
        passing, AlongAim(), straight((-500, 500, 0), (500, 500, 0)), holds=(hold,), duration=10.0
    )
    seen = look(passing, project, camera, [0.0, 5.0, 10.0])
    assert seen.forward[0] == pytest.approx([1, 0, 0], abs=1e-6)
    assert seen.forward[1] == pytest.approx([0, -1, 0], abs=1e-3)  # the post stands at (0, 19, 0)
    assert seen.forward[2] == pytest.approx([1, 0, 0], abs=1e-2)


def test_the_horizon_is_level_unless_rolled_by_keys(passing):
    project, camera = with_camera(passing, PointAim((0, 0, 300)), roll=(RollKey(0.0, 0.0), RollKey(2.0, 20.0)))
    seen = look(passing, project, camera, [0.0, 2.0, 5.0])
    from kestrav.core.camera.turning import rolls

    level = np.degrees(rolls(seen))
    assert level[0] == pytest.approx(0.0, abs=1e-9)
    # rolled to the right about the line of sight, the right side sinks by the sine of both
    tilt = np.degrees(np.arcsin(np.sin(np.radians(20)) * np.hypot(*seen.forward[1, :2])))
    assert level[1:] == pytest.approx([-tilt, -tilt], abs=1e-9)


def test_followed_softly_what_moves_evenly_is_followed_so_much_later():
    times = np.arange(0.0, 8.0, 1 / 120)
    values = 300.0 * np.maximum(times - 1.0, 0.0)
    found = views.behind(values[:, None], 0.4)[:, 0]
    assert found[0] == 0.0
    assert found[-1] == pytest.approx(300.0 * (times[-1] - 1.0 - 0.4), abs=0.01)
    # the exact response of two first-order lags to a ramp, from the table of Laplace transforms
    t, tau = times[times > 1] - 1.0, 0.2
    exact = 300.0 * (t - 2 * tau + (t + 2 * tau) * np.exp(-t / tau))
    assert found[times > 1] == pytest.approx(exact, abs=0.05)


def test_a_lagging_camera_comes_after_what_it_rides_with(passing):
    project, camera = with_camera(passing, PartAim("part-1"), position=(-100, -300, 100), lag=0.2, aim_lag=0.1)
    project = edits.add(project, Attachment("attachment-1", "Rides", camera.id, "part-1"))
    seen = look(passing, project, camera, [0.0, 1.9])
    assert seen.position[0] == pytest.approx([-100, -300, 100])
    # the cube goes 100 mm/s
    assert seen.position[1, 0] == pytest.approx(90 - 20, abs=0.1)
    assert seen.target[1, 0] == pytest.approx(90 - 10, abs=0.1)


@pytest.mark.parametrize("keeps", ["lens", "distance"])
def test_a_size_is_kept_exactly_by_lens_or_distance(passing, keeps):
    project, camera = with_camera(
        passing, PartAim("part-1"), straight((-600, -900, 300), (300, -250, 100)), keeps=keeps, size=0.4
    )
    times = np.linspace(0, 4, 30)
    poses = world_poses(project, times)
    seen = views.views(project, passing.meshes, camera, times, poses)
    subject = subject_of(project, passing.meshes, camera)
    found = framing.framed(camera, subject, seen, poses, 16 / 9)
    assert found.size == pytest.approx(np.full(30, 0.4), abs=1e-6)
    assert np.ptp(seen.focal_length if keeps == "lens" else found.distance) > 1


def test_a_size_is_kept_of_what_turns_by_itself_too():
    made = make_project(
        {"Hub": (box_mesh(60, 60, 60), (0, 0, 0)), "Blade": (box_mesh(20, 20, 500), (0, 80, 0))},
        straight((-900, -900, 300), (600, -700, 100)),
    )
    project = edits.update(made.project, "part-2", parent="part-1")
    project = edits.add(project, TimedRotation("rotation-1", "Turns", "part-2", Axle((0, 0, 0), (0, 1, 0)), rpm=20.0))
    opened = type(made)(project, made.meshes)
    project, camera = with_camera(
        opened, PartAim("part-1"), straight((-900, -900, 300), (600, -700, 100)), keeps="distance", size=0.3
    )
    times = np.linspace(0, 4, 41)
    poses = world_poses(project, times)
    subject = subject_of(project, made.meshes, camera)
    assert len(subject.groups) == 2
    seen = views.views(project, made.meshes, camera, times)
    # by the places of all points in space, which are not used for it
    assert views.heights(camera, seen, subject.places(poses), 16 / 9) == pytest.approx(np.full(41, 0.3), abs=1e-8)
    given = views.views(project, made.meshes, camera, times, poses)
    assert given.position == pytest.approx(seen.position, abs=1e-6)


def test_on_an_arc_about_its_subject_a_ball_keeps_its_size():
    import trimesh

    from kestrav.core.geometry.meshes import mesh

    ball = trimesh.creation.icosphere(4, 150.0)
    opened = make_project({"Ball": (mesh(ball.vertices, ball.faces), (300.0, -200.0, 400.0))})
    project = making.add_arc(opened.project, "part-1", (1500.0, -900.0, 900.0), 140.0, 5.0)
    camera = project.cameras[0]
    times = np.linspace(0, 5, 40)
    poses = world_poses(project, times)
    seen = views.views(project, opened.meshes, camera, times, poses)
    found = framing.framed(camera, subject_of(project, opened.meshes, camera), seen, poses, 16 / 9)
    assert np.ptp(found.distance) < 1e-3
    assert np.ptp(found.size) / found.size.mean() < 2e-3
    # a ball of radius r at a distance d reaches over 2 tan(asin(r / d)) of the frame's 2 tan(half its angle)
    d = np.linalg.norm(np.array([300, -200, 400]) - seen.position[0])
    exact = np.tan(np.arcsin(150 / d)) / np.tan(seen.vertical_angle(camera, 16, 9)[0] / 2)
    assert found.size.mean() == pytest.approx(exact, rel=5e-3)


@pytest.mark.parametrize(
    ("fields", "told"),
    [
        ({"focal_length": 0.0}, "focal length"),
        ({"aim": PartAim("part-77")}, "does not hold"),
        ({"aim": PathAim("path-77")}, "does not hold"),
        ({"subject": "part-77"}, "does not hold"),
        ({"aim": FreeAim(())}, "no key"),
        ({"roll": (RollKey(2.0, 0), RollKey(1.0, 0))}, "follow each other"),
        ({"lag": -1.0}, "the lag of the camera"),
    ],
)
def test_impossible_cameras_are_refused(passing, fields, told):
    with pytest.raises(BadInput, match=told):
        edits.add(passing.project, Camera(**({"id": "camera-1", "name": "Eye", "aim": PointAim((0, 0, 0))} | fields)))


def test_what_a_camera_aimed_at_leaves_it_looking_there_when_it_is_removed(passing):
    project, camera = with_camera(passing, PartAim("part-2"), straight((0, -500, 0), (500, -500, 0)), subject="part-2")
    project = edits.update(project, "run-9", holds=(Hold(0.5, 1.0, PartAim("part-2")),))
    project = edits.remove(project, "part-2")
    assert project.cameras[0].aim == PointAim((0.0, 19.0, 0.0))
    assert project.cameras[0].subject == ""
    assert project.runs[-1].holds[0].look == PointAim((0.0, 19.0, 0.0))
    assert camera.subject == "part-2"


def test_riding_in_a_circle_is_refused(passing):
    project, camera = with_camera(passing, PartAim("part-1"))
    with pytest.raises(BadInput):
        edits.add(project, Attachment("attachment-1", "Rides", camera.id, camera.id))
    project = edits.add(project, Attachment("attachment-1", "One", "part-2", "part-3"))
    with pytest.raises(BadInput, match="carried or driven by itself"):
        edits.add(project, Attachment("attachment-2", "Two", "part-3", "part-2"))
