"""Walkthroughs: planned around things, over floors, through doors."""

import numpy as np
import pytest
import shapely
from shapes import box_mesh, make_project

from kestrav.core.camera import making, walking
from kestrav.core.camera.judged import of_shot
from kestrav.core.document import edits
from kestrav.core.document.records import AlongAim, Camera, FreeAim, PartAim, Path as PathRecord, PointAim, Run, Trigger
from kestrav.core.editing.grounding import derive_ground
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import course_of
from kestrav.core.paths.path_curves import path_curve


@pytest.fixture
def room():
    """A floor, a wall with an opening of 1000 mm in it from x 1000 to 2000, and a table before it."""
    return make_project(
        {
            "Floor": (box_mesh(8000, 6000, 100), (0, 0, -50)),
            "Wall, left": (box_mesh(5000, 120, 2400), (-1500, 0, 1200)),
            "Wall, right": (box_mesh(2000, 120, 2400), (3000, 0, 1200)),
            "Table": (box_mesh(1200, 800, 740), (0, -1200, 370)),
            "Mat": (box_mesh(900, 600, 12), (1500, 1500, 6)),
            "Door": (box_mesh(960, 40, 2000), (1500, 0, 1010)),
        }
    )


OUTLINES = shapely.union_all(
    [shapely.box(-4000, -60, 1000, 60), shapely.box(2000, -60, 4000, 60), shapely.box(-600, -1600, 600, -800)]
)
OVER = [(-2500, -2200, 0), (1500, 2000, 0)]


@pytest.mark.parametrize("distance", [100.0, 300.0, 450.0])
def test_a_walk_keeps_its_distance_from_walls_and_furniture(room, distance):
    planned = walking.plan_walk(room.project, room.meshes, OVER, distance, doors=["part-6"])
    curve = path_curve(PathRecord("", "", walking._shape(planned.points, planned.radii))).curve
    places = curve.position(np.linspace(0, curve.length, 3000))
    away = shapely.distance(OUTLINES, shapely.points(places[:, :2]))
    assert away.min() >= distance - 0.5
    assert planned.clearance == pytest.approx(away.min(), abs=2.0)
    # through the opening, and with no corner to speak of
    crossing = places[np.argmin(np.abs(places[:, 1]))]
    assert 1000 < crossing[0] < 2000
    assert (np.degrees(curve.kink_angles) < 3).all()
    # no longer than need be
    assert curve.length < (6900 if distance < 400 else 7600)


def test_a_closed_door_or_a_narrow_one_leaves_no_way_and_says_what_would_fit(room):
    with pytest.raises(BadInput, match="no path from waypoint 1 to 2 that keeps 400"):
        walking.plan_walk(room.project, room.meshes, OVER)
    with pytest.raises(BadInput, match="499 mm could be kept"):
        walking.plan_walk(room.project, room.meshes, OVER, 600.0, doors=["part-6"])


def test_a_waypoint_too_near_to_something_is_moved_and_one_inside_it_is_refused(room):
    planned = walking.plan_walk(room.project, room.meshes, [(-700, -1200, 0), (-2500, -2200, 0)])
    assert planned.moved[0] > 250
    assert planned.clearance >= 400.0 - 0.5
    with pytest.raises(BadInput, match="waypoint 1"):
        walking.plan_walk(room.project, room.meshes, [(0, -1200, 0), (-2500, -2200, 0)], 800.0)


@pytest.mark.parametrize("waypoints", [[], [(0, 0, 0)], [(0, 500, 0), (0.2, 500, 0)]])
def test_a_walk_of_one_point_is_refused(room, waypoints):
    with pytest.raises(BadInput, match="two waypoints"):
        walking.plan_walk(room.project, room.meshes, waypoints)


def test_straight_on_it_goes_from_point_to_point(room):
    planned = walking.plan_walk(room.project, room.meshes, OVER, around=False)
    assert len(planned.points) == 2
    assert planned.clearance < 400


def walked(room, waypoints=OVER, **fields):
    project = walking.add_walk(room.project, room.meshes, waypoints, **({"doors": ["part-6"]} | fields))
    return derive_ground(project, room.meshes)


def test_eyes_are_at_their_height_and_the_pace_is_a_walk(room):
    project = walked(room)
    camera, run = project.cameras[0], project.runs[0]
    course = course_of(project, run)
    times = np.linspace(course.start, course.end, 200)
    places = Motion(project).poses(camera.id, times)[:, :3, 3]
    # 12 mm higher on the mat
    assert places[:, 2] == pytest.approx(np.full(200, 1600.0), abs=12.5)
    assert course.speeds(times).max() == pytest.approx(1200.0, rel=0.02)
    assert isinstance(camera.aim, AlongAim)
    assert project.shots[0].end == pytest.approx(course.end)


def test_it_goes_up_steps(room):
    opened = make_project(
        {
            "Floor": (box_mesh(8000, 6000, 100), (0, 0, -50)),
            "Step": (box_mesh(2000, 6000, 140), (1000, 0, 70)),
        }
    )
    project = derive_ground(
        walking.add_walk(opened.project, opened.meshes, [(-2500, 0, 0), (1500, 0, 140)]), opened.meshes
    )
    course = course_of(project, project.runs[0])
    places = Motion(project).poses(project.cameras[0].id, [course.start, course.end])[:, :3, 3]
    assert places[:, 2] == pytest.approx([1600.0, 1740.0], abs=1.0)


def test_where_there_is_no_floor_the_floor_is_at_height_0():
    opened = make_project({"Cube": (box_mesh(100, 100, 100), (0, 0, 5000))})
    project = walking.add_walk(opened.project, opened.meshes, [(0, 0, 0), (3000, 0, 0)])
    course = course_of(project, project.runs[0])
    place = Motion(derive_ground(project, opened.meshes)).poses(project.cameras[0].id, [course.end])[0, :3, 3]
    assert place == pytest.approx([3000, 0, 1600])


def test_the_kept_distance_is_measured_in_plan_and_to_what_moves(room):
    project = walked(room, distance=420.0)
    judged = of_shot(project, room.meshes, project.shots[0], project.cameras[0])
    assert judged.near.distance.min() >= 419.5 or judged.near.row[judged.near.distance.argmin()] == 5
    # the door stands in the way; opened, it is out of it
    assert (judged.passed >= 0).any() or judged.near.distance.min() < 100
    opened = walking.open_door(project, room.meshes, project.runs[0].id, "part-6", 100.0)
    judged = of_shot(opened, room.meshes, opened.shots[0], opened.cameras[0])
    assert not (judged.passed >= 0).any()
    assert judged.near.distance.min() > 200


def test_a_door_swings_away_from_who_comes_before_they_are_there(room):
    project = walked(room)
    run = project.runs[0]
    project = walking.open_door(project, room.meshes, run.id, "part-6")
    rotation = project.rotations[-1]
    assert isinstance(rotation.trigger, Trigger)
    course = course_of(project, run)
    row = [p.id for p in project.parts].index("part-6")
    at = float(course.times_at([course.path.curve.nearest((1500, 0, 0))])[0])
    from kestrav.core.kinematics.poses import world_poses

    there = world_poses(project, [0.0, at])[:, row]
    middle = there[:, :3, 3]
    assert middle[0] == pytest.approx([1500, 0, 1010])
    assert middle[1, 1] > 400  # the walk goes to +y
    with pytest.raises(BadInput, match="does not pass"):
        walking.open_door(project, room.meshes, run.id, "part-4")


def test_a_stop_looks_at_a_thing_and_takes_its_time(room):
    project = walked(room)
    before = course_of(project, project.runs[0]).end
    project = walking.with_stop(project, project.runs[0].id, 0.4, 3.0, PartAim("part-4"))
    course = course_of(project, project.runs[0])
    assert course.end > before + 2.9
    begun = float(course.times_at([0.4 * course.path.length])[0])
    judged = of_shot(project, room.meshes, project.shots[0], project.cameras[0])
    from msgspec.structs import replace

    judged = replace(judged, camera=edits.change(judged.camera, aim_lag=0.0), times=np.array([begun + 1.5]))
    toward = np.array([0, -1200, 370]) - judged.seen.position[0]
    assert judged.seen.forward[0] == pytest.approx(toward / np.linalg.norm(toward), abs=1e-6)


def test_looking_around_sees_all_directions_once_and_outwards_from_a_circle(room):
    project = making.add_look_around(room.project, (0, 1500, 1600), duration=10.0)
    judged = of_shot(project, room.meshes, project.shots[0], project.cameras[0])
    assert isinstance(project.cameras[0].aim, FreeAim)
    assert np.linalg.norm(judged.seen.forward.mean(axis=0)) < 0.02
    assert judged.pan_rate == pytest.approx(np.full(len(judged.times), 36.0), rel=1e-3)
    project = making.add_look_around(room.project, (0, 1500, 1600), radius=300.0, duration=10.0)
    judged = of_shot(project, room.meshes, project.shots[0], project.cameras[0])
    out = judged.seen.position - [0, 1500, 1600]
    assert np.einsum("ij,ij->i", judged.seen.forward, out) == pytest.approx(np.full(len(out), 300.0), abs=1.0)


# cameras that follow


@pytest.fixture
def going(passing):
    """The cube that passes a post, at 100 mm/s along +x."""
    return passing


@pytest.mark.parametrize(
    ("side", "offset"),
    [
        ("behind", (-300, 0, 50)),
        ("ahead", (300, 0, 50)),
        ("left", (0, 300, 50)),
        ("right", (0, -300, 50)),
        ("above", (0, 0, 300)),
    ],
)
def test_a_follower_keeps_its_place_by_what_it_follows(going, side, offset):
    project = making.add_follower(going.project, "part-1", side, 300.0, 50.0, lag=0.0)
    judged = of_shot(project, going.meshes, project.shots[0], project.cameras[0])
    cube = judged.poses[:, 0, :3, 3]
    assert judged.seen.position - cube == pytest.approx(np.tile(offset, (len(cube), 1)), abs=1e-6)
    assert judged.seen.target == pytest.approx(cube, abs=1e-6)


def test_what_does_not_move_cannot_be_followed(going):
    with pytest.raises(BadInput, match="does not move"):
        making.add_follower(going.project, "part-2")


def test_along_the_path_the_distance_is_that_along_it(going):
    project = making.add_follower_on_path(going.project, "run-1", 80.0, 40.0)
    run = project.runs[-1]
    course, lead = course_of(project, run), course_of(project, project.runs[0])
    times = np.linspace(1.0, 2.0, 20)
    assert lead.stations(times) - course.stations(times) == pytest.approx(np.full(20, 80.0))
    place = Motion(project).poses(run.rider, [2.0])[0, :3, 3]
    assert place == pytest.approx([20.0, 0.0, 40.0])


def test_passing_shots_stand_beside_the_way_and_look_after_it(going):
    project = making.add_passing(going.project, "run-1", 0.5, 200.0, 60.0, left=False)
    judged = of_shot(project, going.meshes, project.shots[0], project.cameras[0])
    assert judged.seen.position == pytest.approx(np.tile([0, -200, 60], (len(judged.times), 1)))
    assert judged.crossing.min() > 1e3  # what it looks at stays in the middle


def test_a_camera_on_a_path_sets_out_and_arrives_softly_and_around_it_loops(going):
    from kestrav.core.document.records import ArcShape

    project = making.add_on_path(going.project, "path-1", PointAim((0, 0, 0)), 5.0)
    course = course_of(project, project.runs[-1])
    assert course.speeds([0.0, 5.0]) == pytest.approx([0.0, 0.0], abs=1e-6)
    circle = PathRecord("path-2", "Round", ArcShape((0, 0, 100), (300, 0, 100), 360.0))
    project = making.add_on_path(edits.add(going.project, circle), "path-2", PartAim("part-2"), 5.0)
    assert project.shots[-1].loops
    with pytest.raises(BadInput, match="not a path"):
        making.add_on_path(project, "part-1", PartAim("part-2"), 5.0)
    assert isinstance(project.runs[-1], Run)
    assert isinstance(project.cameras[-1], Camera)
