"""Solids cut by planes, against closed forms."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh

from kestrav.core.geometry.cutting import cut_by
from kestrav.core.geometry.meshes import Mesh, mesh


def test_half_of_a_box_is_closed_again():
    left = cut_by(box_mesh(20, 30, 40), (0, 0, 5), (0, 0, 1))
    assert left.body.is_watertight and left.body.volume == pytest.approx(20 * 30 * 25)
    assert left.bounds[1][2] == pytest.approx(5)


def test_an_oblique_cut_takes_as_much_as_it_should():
    # a plane through the middle halves whatever is the same on both sides
    left = cut_by(box_mesh(20, 30, 40), (0, 0, 0), (1, 2, 3))
    assert left.body.is_watertight and left.body.volume == pytest.approx(0.5 * 20 * 30 * 40)


def test_what_is_not_cut_is_the_same_and_what_is_cut_away_is_nothing():
    box = box_mesh(10, 10, 10)
    assert cut_by(box, (0, 0, 6), (0, 0, 1)) is box
    assert cut_by(box, (0, 0, -6), (0, 0, 1)) is None


def test_of_an_open_surface_what_is_before_the_plane_is_left():
    sheet = mesh([[0, 0, 0], [10, 0, 0], [10, 10, 0], [0, 10, 0]], [[0, 1, 2], [0, 2, 3]])
    left = cut_by(sheet, (4, 0, 0), (1, 0, 0))
    assert left.body.area == pytest.approx(40.0) and left.bounds[1][0] == pytest.approx(4.0)
    assert np.allclose(left.vertices[:, 2], 0.0)


def test_tints_and_places_on_pictures_stay_where_they_were():
    box = box_mesh(20, 30, 40)
    tint_of = np.arange(len(box.triangles), dtype=np.int32) % 2
    uv = box.vertices[box.triangles][:, :, [0, 2]] / 100.0
    looked = Mesh(box.vertices, box.triangles, (), None, ("#112233", "#445566"), tint_of, uv.astype(np.float32))
    left = cut_by(looked, (0, 0, 5), (0, 0, 1))
    assert left.bounds[1][2] == pytest.approx(5.0) and left.volume == pytest.approx(20 * 30 * 25)
    on_cut = np.isnan(left.uv[:, 0, 0])
    heights = left.vertices[left.triangles][:, :, 2]
    assert on_cut.any() and (np.abs(heights[on_cut] - 5.0) < 1e-3).all()
    assert all(left.tints[t] == "" for t in left.tint_of[on_cut])
    # a place on the picture is still the hundredth of x and z
    expected = left.vertices[left.triangles][:, :, [0, 2]] / 100.0
    assert np.abs(left.uv[~on_cut] - expected[~on_cut]).max() < 1e-5
    # and each triangle has the colour of the one that it is of: trimesh cuts those of one colour alone
    for number, tint in enumerate(looked.tints):
        alone = trimesh.Trimesh(box.vertices, box.triangles[tint_of == number], process=False)
        expected = trimesh.intersections.slice_mesh_plane(alone, (0, 0, -1), (0, 0, 5)).area
        chosen = np.array([left.tints[t] == tint for t in left.tint_of])
        assert trimesh.Trimesh(left.vertices, left.triangles[chosen], process=False).area == pytest.approx(expected)
