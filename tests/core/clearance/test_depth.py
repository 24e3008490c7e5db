"""How deep solids overlap, against closed forms."""

import numpy as np
import pytest
import trimesh
from scipy.spatial.transform import Rotation
from shapes import box_mesh

from kestrav.core.clearance.depth import Solid, overlap_of
from kestrav.core.geometry.meshes import mesh
from kestrav.core.geometry.models import model
from kestrav.core.geometry.transforms import rigid

HERE = np.eye(4)


def solid(shape, closed=True):
    return Solid(shape, model(shape), closed)


def at(*place, turn=None):
    return rigid(np.eye(3) if turn is None else turn, place)


def test_boxes_overlap_by_the_least_of_what_they_share():
    one, two = solid(box_mesh(20, 30, 40)), solid(box_mesh(10, 10, 10))
    found = overlap_of(two, at(13, 8, 5), one, HERE)  # 15 - 13 = 2 mm along x
    assert found.depth == pytest.approx(2.0, abs=1e-3) and np.allclose(found.direction, (1, 0, 0), atol=1e-6)


def test_the_depth_does_not_hang_on_how_both_are_turned():
    one, two = solid(box_mesh(20, 30, 40)), solid(box_mesh(10, 10, 10))
    turn = Rotation.from_euler("xyz", (20, 30, 40), degrees=True).as_matrix()
    both = rigid(turn, (7, -3, 11))
    assert overlap_of(two, both @ at(13, 8, 5), one, both).depth == pytest.approx(2.0, abs=1e-3)


def test_a_ball_sunk_into_a_plate():
    made = trimesh.creation.icosphere(4, radius=8.0)
    found = overlap_of(solid(mesh(made.vertices, made.faces)), at(0, 0, 6.5), solid(box_mesh(90, 90, 2)), HERE)
    assert found.depth == pytest.approx(2.5, abs=0.02)  # 8 + 1 - 6.5, less the sag of a facet


def test_what_lies_wholly_inside_comes_out_the_shortest_way():
    found = overlap_of(solid(box_mesh(2, 2, 2)), at(11, 0, 0), solid(box_mesh(40, 60, 60)), HERE)
    assert found.depth == pytest.approx(20 - 11 + 1, abs=1e-3)


def test_what_is_apart_has_no_depth_and_open_meshes_have_one():
    one, two = solid(box_mesh(10, 10, 10)), solid(box_mesh(10, 10, 10))
    assert overlap_of(one, at(10.01, 0, 0), two, HERE).depth == 0.0
    whole = box_mesh(10, 10, 10)
    lid_off = mesh(whole.vertices, whole.triangles[2:])
    assert overlap_of(solid(lid_off, False), at(9, 0, 0), two, HERE).depth == pytest.approx(1.0, abs=1e-3)
