"""Two-point carriage and what sits on a path, against the geometry of circles and boxes."""

import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    CarriedOrientation,
    EllipseShape,
    FixedOrientation,
    Path,
    PathPoint,
    Placement,
    PointShape,
    Run,
)
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.carriage import carried, rear_stations
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts.rest import own_bounds, world_bounds
from kestrav.core.paths.path_curves import path_curve


def curve_of(shape):
    return path_curve(Path("p", "P", shape)).curve


@pytest.mark.parametrize(("radius", "wheelbase"), [(500.0, 300.0), (500.0, 990.0), (2000.0, 50.0)])
def test_on_a_circle_the_body_is_a_chord(radius, wheelbase):
    curve = curve_of(EllipseShape((0, 0, 0), radius, radius))
    fronts = np.linspace(0, curve.length, 25)
    angle = 2 * np.arcsin(wheelbase / (2 * radius))
    assert rear_stations(curve, fronts, wheelbase) == pytest.approx(fronts - radius * angle, abs=1e-6)
    rear, front, frames = carried(curve, fronts, wheelbase)
    assert np.linalg.norm(front - rear, axis=1) == pytest.approx(np.full(25, wheelbase), rel=1e-9)
    # the middle of the chord runs on a smaller circle: that is how far a long body cuts the bend
    middle = np.linalg.norm(0.5 * (front + rear), axis=1)
    assert middle == pytest.approx(np.full(25, radius * np.cos(angle / 2)), rel=1e-9)
    assert np.linalg.det(frames) == pytest.approx(np.ones(25))


def test_before_its_start_the_path_goes_on_straight():
    curve = curve_of(PointShape((PathPoint((0, 0, 0)), PathPoint((1000, 0, 0)), PathPoint((1500, 900, 0)))))
    rear, front, _ = carried(curve, [0.0], 400.0)
    assert rear[0] == pytest.approx(-400 * curve.tangent([0.0])[0])
    assert front[0] == pytest.approx([0, 0, 0])


def trolley(**run):
    """A box 600 long, 300 wide, 200 high whose origin is beside its middle, on a straight path."""
    opened = make_project(
        {"Trolley": (box_mesh(600, 300, 200), (0, 0, 0))}, straight((0, 0, 0), (3000, 0, 0)), duration=4.0
    )
    project = edits.update(opened.project, "part-1", pivot=Placement((40.0, -20.0, 10.0)))
    return edits.update(project, "run-1", **run)


@pytest.mark.parametrize(
    "orientation", [FixedOrientation(), AlongOrientation(), CarriedOrientation(wheelbase=400.0, share=1.0)]
)
def test_a_stop_with_the_front_at_the_mark(orientation):
    project = trolley(reference="front", orientation=orientation)
    box = world_bounds(project, "part-1", world_poses(project, [0.0, 4.0]))
    assert box[:, 1, 0] == pytest.approx([0, 3000], abs=1e-6)
    rear = trolley(reference="rear", orientation=orientation)
    assert world_bounds(rear, "part-1", world_poses(rear, [4.0]))[0, 0, 0] == pytest.approx(3000, abs=1e-6)
    assert box[:, 0, 1] == pytest.approx([-150 + 20, -150 + 20], abs=1e-6)  # the pivot's side is kept
    below = trolley(reference="bottom", orientation=orientation)
    box = world_bounds(below, "part-1", world_poses(below, [2.0]))[0]
    assert box[0, 2] == pytest.approx(0, abs=1e-9)


def test_the_front_is_the_side_that_faces_ahead():
    for forward, size in (("+y", 300), ("-x", 600)):
        project = trolley(reference="front", orientation=AlongOrientation(forward))
        box = world_bounds(project, "part-1", world_poses(project, [4.0]))[0]
        assert box[1, 0] == pytest.approx(3000, abs=1e-6)
        assert box[1, 0] - box[0, 0] == pytest.approx(size, abs=1e-6)


@pytest.mark.parametrize("orientation", [FixedOrientation(), AlongOrientation(), CarriedOrientation(wheelbase=400.0)])
def test_it_is_carried_beside_the_path(orientation):
    near, far = trolley(orientation=orientation), trolley(orientation=orientation, offset=(50.0, 120.0, 30.0))
    step = world_poses(far, [2.0])[0, 0, :3, 3] - world_poses(near, [2.0])[0, 0, :3, 3]
    assert step == pytest.approx([50, 120, 30], abs=1e-6)


def test_a_body_on_two_points_does_not_flip_at_a_closed_paths_seam():
    project = trolley(orientation=CarriedOrientation(wheelbase=400.0))
    project = edits.update(project, "path-1", shape=EllipseShape((0, 0, 0), 900, 500))
    poses = world_poses(project, np.linspace(0, 4, 400))[:, 0]
    turns = np.einsum("nij,nij->n", poses[:-1, :3, :3], poses[1:, :3, :3])
    assert turns.min() > 2.99


def test_own_bounds_are_those_at_rest_and_a_wheelbase_is_above_nothing():
    project = trolley()
    moved = edits.update(project, "part-1", placement=Placement((500, 0, 0), (np.cos(0.4), 0, 0, np.sin(0.4))))
    assert np.ptp(own_bounds(moved, "part-1"), axis=0) == pytest.approx([600, 300, 200])
    with pytest.raises(BadInput, match="wheelbase"):
        trolley(orientation=CarriedOrientation(wheelbase=0.0))
    assert isinstance(project.runs[0], Run)
