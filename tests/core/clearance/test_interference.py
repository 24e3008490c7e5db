"""How deep solids are in each other and what they share: against closed forms and OpenCASCADE's common volume."""

import numpy as np
import pytest
import trimesh
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common
from OCP.BRepGProp import BRepGProp
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeSphere
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from OCP.GProp import GProp_GProps
from scipy.spatial.transform import Rotation
from shapes import box_mesh

from kestrav.core.clearance.depth import Solid
from kestrav.core.clearance.interference import deeper_than, interference_of
from kestrav.core.geometry.meshes import mesh
from kestrav.core.geometry.models import model
from kestrav.core.geometry.skin import drawn_in, facet_error
from kestrav.core.geometry.transforms import rigid

HERE = np.eye(4)


def solid(made, closed=True):
    shape = mesh(made.vertices, made.faces) if isinstance(made, trimesh.Trimesh) else made
    return Solid(shape, model(shape), closed)


def at(*place, turn=None):
    return rigid(np.eye(3) if turn is None else turn, place)


def common(one, two):
    """The volume that two shapes of OpenCASCADE share."""
    told = GProp_GProps()
    BRepGProp.VolumeProperties_s(BRepAlgoAPI_Common(one, two).Shape(), told)
    return told.Mass()


def ball(radius):
    return solid(trimesh.creation.icosphere(5, radius=radius))


def test_a_box_dipped_into_another():
    found = interference_of(solid(box_mesh(10, 10, 10)), at(13, 8, 5), solid(box_mesh(20, 30, 40)), HERE)
    assert found.depth == pytest.approx(2.0, abs=0.01)
    ours = BRepPrimAPI_MakeBox(gp_Pnt(-10, -15, -20), 20, 30, 40).Shape()
    theirs = BRepPrimAPI_MakeBox(gp_Pnt(8, 3, 0), 10, 10, 10).Shape()
    assert found.volume == pytest.approx(common(ours, theirs), rel=1e-6)


@pytest.mark.parametrize("apart", [9.0, 12.0, 15.0])
def test_two_balls_share_a_lens(apart):
    # deepest on the line between their centres: by the sum of the radii less how far the centres are apart
    found = interference_of(ball(8.0), at(apart, 0, 0), ball(8.0), HERE)
    assert found.depth == pytest.approx(16.0 - apart, rel=0.02)
    lens = common(
        BRepPrimAPI_MakeSphere(gp_Pnt(0, 0, 0), 8.0).Shape(), BRepPrimAPI_MakeSphere(gp_Pnt(apart, 0, 0), 8.0).Shape()
    )
    assert found.volume == pytest.approx(lens, rel=0.02)


def test_a_thread_that_cuts_into_its_hole_is_told_by_how_far_and_not_by_the_way_out():
    screw = solid(trimesh.creation.cylinder(3.0, 40.0, sections=96))
    hole = solid(trimesh.creation.annulus(2.8, 20.0, 30.0, sections=96))
    found = interference_of(screw, HERE, hole, HERE)
    assert found.depth == pytest.approx(0.2, abs=0.01)
    axis = gp_Ax2(gp_Pnt(0, 0, -15), gp_Dir(0, 0, 1))
    outer, inner = (BRepPrimAPI_MakeCylinder(axis, r, 30.0).Shape() for r in (3.0, 2.8))
    told = [GProp_GProps(), GProp_GProps()]
    for props, shape in zip(told, (outer, inner), strict=True):
        BRepGProp.VolumeProperties_s(shape, props)
    assert found.volume == pytest.approx(told[0].Mass() - told[1].Mass(), rel=0.02)


def test_a_bar_through_a_plate_is_as_deep_as_the_plates_face_is_in_the_bar():
    bar, plate = solid(trimesh.creation.cylinder(5.0, 100.0, sections=96)), solid(box_mesh(90, 90, 8))
    assert interference_of(bar, HERE, plate, HERE).depth == pytest.approx(5.0, rel=0.02)


def test_what_lies_inside_is_as_deep_as_its_innermost_place():
    found = interference_of(solid(box_mesh(2, 2, 2)), at(11, 0, 0), solid(box_mesh(40, 60, 60)), HERE)
    assert found.depth == pytest.approx(20 - 11 + 1, abs=0.01) and found.volume == pytest.approx(8.0)


def test_touching_is_no_interference():
    boxes = solid(box_mesh(10, 10, 10)), solid(box_mesh(10, 10, 10))
    for place in ((10, 0, 0), (10, 10, 10), (10, 3, -4), (30, 0, 0)):
        found = interference_of(boxes[0], at(*place), boxes[1], HERE)
        assert found.depth == 0.0 and found.volume == 0.0
    assert not deeper_than(boxes[0], at(10, 0, 0), boxes[1], 0.0)


def test_it_does_not_hang_on_how_both_are_turned_nor_on_which_is_first():
    one, two = solid(trimesh.creation.annulus(6.0, 12.0, 20.0, sections=40)), solid(box_mesh(10, 10, 30))
    turn = Rotation.from_euler("xyz", (20, 30, 40), degrees=True).as_matrix()
    both = rigid(turn, (7, -3, 11))
    told = interference_of(one, at(8, 1, 2), two, HERE)
    turned = interference_of(one, both @ at(8, 1, 2), two, both)
    other = interference_of(two, HERE, one, at(8, 1, 2))
    assert turned.depth == pytest.approx(told.depth, rel=0.02) == pytest.approx(other.depth, rel=0.02)
    assert turned.volume == pytest.approx(told.volume, rel=1e-6)


def test_whether_deeper_than_agrees_with_the_depth():
    one, two = ball(8.0), solid(box_mesh(30, 30, 30))
    for height in (20.0, 21.5, 22.9):
        depth = interference_of(one, at(0, 0, height), two, HERE).depth
        assert deeper_than(one, at(0, 0.001, height), two, 0.9 * depth)
        assert not deeper_than(one, at(0, 0.002, height), two, 1.1 * depth)


def test_an_open_mesh_shares_no_volume_and_is_told_by_the_way_apart():
    whole = box_mesh(10, 10, 10)
    lid_off = mesh(whole.vertices, whole.triangles[2:])
    found = interference_of(solid(lid_off, False), at(9, 0, 0), solid(whole), HERE)
    assert found.volume is None and found.depth == pytest.approx(1.0, abs=1e-3)


@pytest.mark.parametrize("sections", [12, 24, 64])
def test_what_facets_are_off_is_the_sagitta_of_a_polygon(sections):
    made = trimesh.creation.cylinder(10.0, 40.0, sections=sections)
    # r (1 - cos(180° / n)), from the geometry of a regular polygon
    sagitta = 10.0 * (1.0 - np.cos(np.pi / sections))
    assert facet_error(mesh(made.vertices, made.faces)) == pytest.approx(sagitta, rel=0.02)


def test_flat_parts_and_slopes_are_not_off():
    wedge = trimesh.convex.convex_hull(
        np.array([[0, 0, 0], [90, 0, 0], [90, 0, 20], [0, 0, 10], [40, 0, 22]] * 2)
        + np.repeat([[0, 0, 0], [0, 50, 0]], 5, axis=0)
    )
    assert facet_error(box_mesh(10, 20, 30)) == 0.0 and facet_error(mesh(wedge.vertices, wedge.faces)) == 0.0


def test_no_point_of_a_surface_is_farther_from_the_drawn_in_one_than_that():
    shape = mesh(*(lambda t: (t.vertices, t.faces))(trimesh.creation.annulus(6.0, 12.0, 20.0, sections=30)))
    thin = drawn_in(shape, 0.3)
    moved = np.linalg.norm(np.asarray(thin.vertices) - np.asarray(shape.body.vertices), axis=1)
    assert moved.max() <= 0.3 + 1e-12
