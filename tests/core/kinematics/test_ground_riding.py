"""Riding on what lies beneath the path."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import AlongOrientation, CarriedOrientation, Ground, TimedRotation
from kestrav.core.editing.grounding import derive_ground
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.motion import Motion


def wedge(length, width, height):
    """A ramp that rises along x from 0."""
    corners = [(x, y, z) for x, z in ((0, 0), (length, 0), (length, height)) for y in (-width / 2, width / 2)]
    hull = trimesh.convex.convex_hull(np.array(corners, float))
    return mesh(hull.vertices, hull.faces)


def opened(ground=None, **run):
    """A box of 100 × 60 × 40 on a path 80 mm above the floor, a ramp from 400 to 1400 rising 200 below it."""
    fields = {
        "duration": 4.0,
        "orientation": AlongOrientation(),
        "reference": "bottom",
        "ground": ground or Ground(reach=250.0),
    } | run
    made = make_project(
        {"Box": (box_mesh(100, 60, 40), (0, 0, 20)), "Ramp": (wedge(1000, 400, 200), (400, 0, 0))},
        straight((0, 0, 80), (2000, 0, 80)),
        **fields,
    )
    return derive_ground(made.project, made.meshes), made.meshes


def undersides(project, times):
    poses = Motion(project).poses("part-1", times)
    return poses[:, :3, :3] @ np.array([0, 0, -20.0]) + poses[:, :3, 3]


def ramp(x):
    return np.where((x >= 400) & (x <= 1400), 0.2 * (x - 400), 0.0)


def test_it_follows_floor_and_ramp():
    project, _ = opened()
    places = undersides(project, np.linspace(0, 4, 321))
    steep = np.abs(places[:, 0] - 1400) < 15  # the drop at its end
    assert places[~steep, 2] == pytest.approx(ramp(places[~steep, 0]), abs=0.01)
    pose = Motion(project).poses("part-1", [1.5])[0, :3, :3]
    assert pose == pytest.approx(np.eye(3), abs=1e-6)


def test_tilted_it_lies_on_the_slope():
    project, _ = opened(Ground(reach=250.0, tilted=True))
    pose = Motion(project).poses("part-1", [1.6])[0, :3, :3]
    assert np.degrees(np.arcsin(pose[2, 0])) == pytest.approx(np.degrees(np.arctan(0.2)), abs=0.05)


def test_tilted_it_rolls_with_a_cross_slope():
    side = wedge(1000, 3000, 200)
    turned = side.vertices @ np.array([[0.0, 1, 0], [-1, 0, 0], [0, 0, 1]])
    fields = {
        "duration": 4.0,
        "orientation": AlongOrientation(),
        "reference": "bottom",
        "ground": Ground(250.0, tilted=True),
    }
    made = make_project(
        {"Box": (box_mesh(100, 60, 40), (0, 0, 20)), "Bank": (mesh(turned, side.triangles), (0, -500, 0))},
        straight((-900, 0, 120), (900, 0, 120)),
        **fields,
    )
    project = derive_ground(made.project, made.meshes)
    pose = Motion(project).poses("part-1", [2.0])[0, :3, :3]
    # the bank rises to the left, so its left side is the higher one
    assert abs(pose[2, 1]) == pytest.approx(np.sin(np.arctan(0.2)), abs=1e-3)
    rise = undersides(project, [2.0])[0, 2]
    assert rise == pytest.approx(100, abs=0.1)


def test_two_points_on_the_ground_pitch_the_body():
    project, _ = opened(orientation=CarriedOrientation(wheelbase=80.0))
    pose = Motion(project).poses("part-1", [1.6])[0, :3, :3]
    assert pose[2, 0] == pytest.approx(np.sin(np.arctan(0.2)), abs=1e-3)


def test_beyond_its_reach_it_stays_at_the_paths_height():
    project, _ = opened(Ground(reach=50.0))
    assert not project.runs[0].ground.found[0]
    places = undersides(project, np.linspace(0, 4, 81))
    on = (places[:, 0] > 560) & (places[:, 0] < 1040)
    assert places[on, 2] == pytest.approx(ramp(places[on, 0]), abs=0.01)
    assert places[:10, 2] == pytest.approx(80)


def test_it_is_worked_out_again_only_when_it_must_be():
    project, meshes = opened()
    renamed = edits.update(project, "run-1", name="Else")
    assert derive_ground(renamed, meshes, project).runs[0].ground is project.runs[0].ground
    lower = edits.update(project, "part-2", shown=False)
    assert max(h[1] for h in derive_ground(lower, meshes, project).runs[0].ground.heights) == 0


def test_no_reach_is_refused():
    project, _ = opened()
    with pytest.raises(BadInput, match="reach"):
        edits.update(project, "run-1", ground=Ground(reach=0.0))


def test_what_begins_to_turn_by_time_is_no_ground_any_more():
    project, meshes = opened()
    turning = edits.add(project, TimedRotation("rotation-1", "Ramp turns", "part-2"))
    assert max(h[1] for h in derive_ground(turning, meshes, project).runs[0].ground.heights) == 0
