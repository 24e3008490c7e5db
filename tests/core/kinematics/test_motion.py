"""Pacing, runs and poses."""

import msgspec
import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    EllipseShape,
    Part,
    Path,
    PathPoint,
    Placement,
    PointShape,
    Run,
)
from kestrav.core.editing.run_making import add_run
from kestrav.core.errors import BadInput
from kestrav.core.geometry.transforms import quaternion_from_rotation
from kestrav.core.kinematics.motion import thing_speeds
from kestrav.core.kinematics.poses import mover_bounds, moving_groups, world_poses
from kestrav.core.kinematics.runs import course_of, frame_times, span
from kestrav.core.parts.placing import pivot_at_side
from kestrav.core.parts.rest import rest_poses, top_bounds, world_bounds
from kestrav.core.paths.path_curves import path_curve


def nested():
    """An arm turned and placed, with a tool below it that has a run."""
    shape = box_mesh(10, 10, 10)
    opened = make_project({"Arm": (shape, (0, 0, 0))})
    turned = quaternion_from_rotation(Rotation.from_euler("z", 90, degrees=True).as_matrix())
    parts = (
        Part("a", "Arm", placement=Placement((100, 0, 0), tuple(turned))),
        Part("b", "Tool", "a", Placement((10, 0, 0)), pivot=Placement((0, 0, 5)), geometry=shape.hash),
        Part("c", "Tip", "b", Placement((0, 0, 20)), geometry=shape.hash),
    )
    path = Path("p", "P", straight((0, 0, 0), (300, 0, 0)))
    run = Run("r", "R", "b", "p", start=1.0, duration=2.0)
    project = msgspec.structs.replace(opened.project, parts=parts, paths=(path,), runs=(run,))
    return project, opened.meshes


def test_nesting_is_composed_as_matrices_are():
    project, _ = nested()
    rest = rest_poses(project)
    # 10 mm along the arm's x, which is the world's y
    assert rest[1, :3, 3] == pytest.approx([100, 10, 0])
    assert rest[2, :3, 3] == pytest.approx([100, 10, 20])


def test_the_pivot_lies_on_the_path_and_what_hangs_below_follows():
    project, _ = nested()
    poses = world_poses(project, [0.0, 1.0, 2.0, 3.0, 9.0])
    assert poses[:, 1, :3, 3] + [0, 0, 5] == pytest.approx(
        np.array([[0, 0, 0], [0, 0, 0], [150, 0, 0], [300, 0, 0], [300, 0, 0]]), abs=1e-9
    )
    assert poses[:, 2, :3, 3] - poses[:, 1, :3, 3] == pytest.approx(np.tile([0, 0, 20.0], (5, 1)))
    # fixed heading: the rotation at rest is kept, though the parent is turned
    assert poses[2, 1, :3, :3] == pytest.approx(rest_poses(project)[1, :3, :3])
    assert moving_groups(project) == {"b": 1, "c": 1}


@pytest.mark.parametrize("forward", ["+x", "-x", "+y", "-y", "+z", "-z"])
@pytest.mark.parametrize("flip", [False, True])
def test_heading_along_travel_points_the_forward_axis_ahead(forward, flip):
    shape = PointShape(tuple(PathPoint(p) for p in [(0, 0, 0), (200, 100, 30), (500, -50, 60)]))
    opened = make_project(
        {"Body": (box_mesh(10, 10, 10), (0, 0, 0))}, shape, duration=2.0, orientation=AlongOrientation(forward, flip)
    )
    times = np.linspace(0, 2, 21)
    rotation = world_poses(opened.project, times)[:, 0, :3, :3]
    axis = "xyz".index(forward[1])
    sign = (1 if forward[0] == "+" else -1) * (-1 if flip else 1)
    course = course_of(opened.project, opened.project.runs[0])
    assert sign * rotation[:, :, axis] == pytest.approx(course.path.curve.tangent(course.stations(times)), abs=1e-9)
    assert np.linalg.det(rotation) == pytest.approx(1.0)


def test_runs_follow_one_another_and_hold_between():
    opened = make_project({"Body": (box_mesh(1, 1, 1), (0, 0, 0))}, straight((0, 0, 0), (100, 0, 0)), duration=1.0)
    project = edits.add(opened.project, Path("path-2", "Back", straight((100, 0, 0), (100, 50, 0))))
    project = edits.add(project, Run("run-2", "Second", "part-1", "path-2", start=2.0, speed=50.0, duration=None))
    places = world_poses(project, [0.5, 1.5, 2.5, 5.0])[:, 0, :3, 3]
    assert places == pytest.approx(np.array([[50, 0, 0], [100, 0, 0], [100, 25, 0], [100, 50, 0]]))
    assert thing_speeds(project, "part-1", [0.5, 1.5, 2.5, 5.0]) == pytest.approx([100, 0, 50, 0])
    assert span(project) == pytest.approx(3.0)
    assert len(frame_times(project)) == 61


def test_portion_of_a_path():
    opened = make_project(
        {"Body": (box_mesh(1, 1, 1), (0, 0, 0))}, straight((0, 0, 0), (100, 0, 0)), begin=0.25, end=0.75
    )
    course = course_of(opened.project, opened.project.runs[0])
    assert (course.first, course.last, course.length) == pytest.approx((25, 75, 50))
    assert course.times_at([50.0])[0] == pytest.approx(course.start + course.duration / 2)


def test_bounds_of_an_assembly_hold_its_parts():
    project, _ = nested()
    low, high = world_bounds(project, "a", rest_poses(project)[None])[0]
    assert low == pytest.approx([95, 5, -5])
    assert high == pytest.approx([105, 15, 25])


def test_ellipse_is_travelled_from_its_start_in_its_sense():
    shape = EllipseShape((0, 0, 100), 300, 200, start=-90, clockwise=True)
    curve = path_curve(Path("p", "P", shape)).curve
    assert curve.position([0.0])[0] == pytest.approx([0, -200, 100])
    assert curve.tangent([0.0])[0] == pytest.approx([-1, 0, 0])


def test_a_path_that_cannot_be_travelled_is_named():
    with pytest.raises(BadInput, match="“Lost”"):
        path_curve(Path("p", "Lost", straight((0, 0, 0), (0, 0, 0))))


def test_a_new_run_follows_the_old_ones_whether_set_by_duration_or_by_speed():
    path = straight((0, 0, 0), (100, 0, 0))
    opened = make_project({"Body": (box_mesh(1, 1, 1), (0, 0, 0))}, path, start=1.0, duration=None, speed=20.0)
    project = add_run(opened.project, "part-1", "path-1")
    assert project.runs[-1].start == pytest.approx(6.0)
    assert add_run(project, "part-1", "path-1").runs[-1].start == pytest.approx(10.0)
    with pytest.raises(BadInput, match="nothing with the id"):
        add_run(project, "part-1", "path-9")


def test_a_pivot_is_centred_on_an_assembly_at_rest():
    project, _ = nested()
    pivot = pivot_at_side(project, "a", "middle").parts[0].pivot.position
    # bounds (95..105, 5..15, -5..25) about (100, 10, 10), in the arm's turned axes
    assert pivot == pytest.approx((10, 0, 10))


def test_what_moves_is_bounded_with_where_it_belongs_and_goes():
    project, _ = nested()
    whole, way = mover_bounds(project)
    assert whole == pytest.approx(np.array([[95, 5, -5], [105, 15, 25]]))
    assert way == pytest.approx(np.array([[0, 0, 0], [300, 0, 0]]))
    assert top_bounds(project)[0] == pytest.approx(whole)
