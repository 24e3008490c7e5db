"""Lenses, views, orbits and lines of sight."""

import numpy as np
import pytest
from shapes import box_mesh, make_project

from kestrav.core.camera.orbits import add_orbit, ellipse_around
from kestrav.core.camera.sight import best_sight, free_lengths
from kestrav.core.camera.views import vertical_angle, views
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, PartAim, PointAim
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.motion.resting import rest_poses
from kestrav.core.motion.runs import journey


@pytest.mark.parametrize(
    ("focal", "horizontal", "vertical"),
    # photographic handbook values for the 36 x 24 mm frame, from memory
    [(24, 73.7, 53.1), (35, 54.4, 37.8), (50, 39.6, 27.0), (85, 23.9, 16.1)],
)
def test_angles_of_view_of_common_lenses(focal, horizontal, vertical):
    camera = Camera("c", "C", PointAim((0, 0, 0)), focal_length=focal)
    angle = vertical_angle(camera, 3, 2)
    assert np.degrees(angle) == pytest.approx(vertical, abs=0.06)
    assert np.degrees(2 * np.arctan(np.tan(angle / 2) * 1.5)) == pytest.approx(horizontal, abs=0.06)


def test_the_output_frame_is_the_largest_that_fits_on_the_sensor():
    camera = Camera("c", "C", PointAim((0, 0, 0)), focal_length=50.0)
    wide, tall = vertical_angle(camera, 1920, 1080), vertical_angle(camera, 1080, 1920)
    assert 2 * 50 * np.tan(wide / 2) == pytest.approx(36 * 1080 / 1920)
    assert 2 * 50 * np.tan(tall / 2) == pytest.approx(24)


def test_a_camera_aims_at_the_middle_of_what_moves(passing):
    project = edits.add(passing.project, Camera("camera-1", "Eye", PartAim("part-1"), position=(0, -500, 200)))
    seen = views(project, project.cameras[0], [0.0, 1.0, 2.0])
    assert seen.target == pytest.approx(np.array([[-100, 0, 0], [0, 0, 0], [100, 0, 0]]), abs=1e-9)
    direction = seen.target - seen.position
    assert np.einsum("ij,ij->i", seen.up, direction) == pytest.approx([0, 0, 0], abs=1e-9)
    # a level horizon: the picture's right has no height
    assert np.cross(direction, seen.up)[:, 2] == pytest.approx([0, 0, 0], abs=1e-9)


@pytest.mark.parametrize("position", [(0, 0, 500), (0, 0, -500), (0, 0, 0)])
def test_looking_straight_down_up_or_from_the_aim_itself_still_gives_a_picture(position):
    opened = make_project({"Cube": (box_mesh(10, 10, 10), (0, 0, 0))})
    project = edits.add(opened.project, Camera("camera-1", "Eye", PointAim((0, 0, 0)), position=position))
    seen = views(project, project.cameras[0], [0.0])
    assert np.isfinite(seen.up).all()
    assert np.linalg.norm(seen.up[0]) == pytest.approx(1)


def test_the_ellipse_passes_the_corners_at_its_offset():
    shape = ellipse_around([[-300, -200, 0], [300, 200, 900]], 0.0, 500.0)
    # the corner satisfies x^2/a^2 + y^2/b^2 = 1
    assert (300 / shape.half_x) ** 2 + (200 / shape.half_y) ** 2 == pytest.approx(1)
    assert shape.centre == (0, 0, 500)
    grown = ellipse_around([[-300, -200, 0], [300, 200, 900]], 150.0, 500.0)
    assert grown.half_x - shape.half_x == pytest.approx(150)


def test_an_orbit_is_a_path_a_camera_a_run_and_a_shot(passing):
    project = add_orbit(passing.project, "part-2", offset=300.0, duration=6.0)
    camera, run, shot = project.cameras[0], project.runs[-1], project.shots[0]
    assert run.rider == camera.id
    assert shot.camera == camera.id
    trip = journey(project, run)
    assert trip.duration == 6.0
    assert trip.path.curve.closed
    seen = views(project, camera, [0.0, 3.0, 6.0])
    assert seen.position[0] == pytest.approx(seen.position[2], abs=1e-6)
    assert np.linalg.norm(seen.position[0] - seen.position[1]) > 500
    assert path_curve(project.paths[-1]).length == pytest.approx(trip.length)


def test_sight_is_hidden_by_what_stands_in_it(passing):
    poses = rest_poses(passing.project)
    lengths = free_lengths(passing.project, passing.meshes, poses, (0, 0, 0), np.array([[0, 1.0, 0], [0, -1.0, 0]]))
    assert lengths[0] == pytest.approx(14.0)
    assert np.isinf(lengths[1])


def test_the_best_sight_sees_the_gap_from_the_side(passing):
    poses = rest_poses(passing.project)
    gap = [(0, 10, 0), (0, 14, 0)]
    way = best_sight(passing.project, passing.meshes, poses, (0, 12, 0), gap, (1, 0, 0.2), 1000.0)
    assert abs(way[1]) < 0.5
    assert np.isinf(free_lengths(passing.project, passing.meshes, poses, (0, 12, 0), way[None]))
