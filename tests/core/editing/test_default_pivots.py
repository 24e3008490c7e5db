"""A part of CAD has its origin far off; what is to move it sets its pivot first."""

import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import AlongOrientation, Path, Placement
from kestrav.core.editing.run_making import add_pose, add_run, pivot_on_it
from kestrav.core.findings.check import check
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.poses import world_poses


@pytest.fixture
def far():
    """A lever whose file has its origin 300 mm beside it, and a path."""
    shape = box_mesh(40, 20, 10)
    off = mesh(shape.vertices + np.array([300.0, 0, 0]), shape.triangles)
    opened = make_project({"Lever": (off, (0, 0, 5))})
    return edits.add(opened.project, Path("path-9", "Way", straight((300, 0, 5), (500, 100, 5)))), opened.meshes


def test_a_run_sets_a_pivot_that_is_on_the_part_and_nothing_is_found_about_it(far):
    project, meshes = far
    ran = add_run(project, "part-1", "path-9")
    assert ran.parts[0].pivot.position == pytest.approx((300.0, 0.0, 0.0), abs=1e-3)
    # it starts where it stands
    start = world_poses(ran, np.array([ran.runs[-1].start]))[0, 0]
    assert start[:3, 3] == pytest.approx((0, 0, 5), abs=1e-3)
    turned = edits.update(ran, ran.runs[-1].id, orientation=AlongOrientation())
    assert not [f for f in check(turned, meshes).findings if f.rule == "pivot-outside"]


def test_a_key_pose_does_too_and_a_chosen_pivot_stays(far):
    project, _ = far
    posed = add_pose(project, "part-1", 0.0)
    assert posed.parts[0].pivot.position == pytest.approx((300.0, 0.0, 0.0), abs=1e-3)
    chosen = edits.update(project, "part-1", pivot=Placement((250.0, 0.0, 0.0)))
    assert pivot_on_it(chosen, "part-1") is chosen
    assert pivot_on_it(posed, "part-1") is posed


def test_a_run_that_never_turns_its_part_is_not_complained_of(far):
    project, meshes = far
    chosen = edits.update(project, "part-1", pivot=Placement((250.0, 0.0, 0.0)))
    ran = add_run(chosen, "part-1", "path-9")
    rules = {f.rule for f in check(ran, meshes).findings}
    assert ("pivot-outside" in rules) == (ran.runs[-1].orientation.__class__.__name__ != "FixedOrientation")
