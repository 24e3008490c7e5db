"""Solids that are round about an axis: how far their facets depart from themselves as they are turned."""

import numpy as np
import pytest
import trimesh
from scipy.spatial.transform import Rotation

from kestrav.core.geometry.meshes import mesh
from kestrav.core.geometry.roundness import _goes_round, facet_error

UP = (0.0, 0.0, 1.0)
GRID = 2e-3  # mm, by which corners on the grid are held to be off their rings at most


def shape(solid):
    return mesh(solid.vertices, solid.faces)


def rod(radius, height, sections):
    return trimesh.creation.cylinder(radius, height, sections=sections)


def bored(sections=64, bore_sections=48):
    return trimesh.boolean.difference([rod(30.0, 10.0, sections), rod(12.0, 12.0, bore_sections)])


@pytest.mark.parametrize(("radius", "sections"), [(10.0, 96), (40.0, 24), (3.0, 12)])
def test_a_prism_of_many_sides_departs_by_the_sagitta_of_a_side(radius, sections):
    sagitta = radius * (1.0 - np.cos(np.pi / sections))
    assert facet_error(shape(rod(radius, 50.0, sections)), (0, 0, 0), UP) == pytest.approx(sagitta, abs=GRID)


@pytest.mark.parametrize(
    "solid",
    [
        rod(10.0, 30.0, 40),
        bored(),
        trimesh.creation.annulus(14, 20, 4, sections=30),
        trimesh.creation.torus(20, 4, 32, 12),
        trimesh.creation.uv_sphere(10.0),
        trimesh.creation.cone(10.0, 25.0, sections=36),
        trimesh.boolean.union([rod(8.0, 60.0, 30), trimesh.creation.annulus(7.0, 20.0, 6.0, sections=50)]),
    ],
    ids=["rod", "bored disc", "ring", "torus", "sphere", "cone", "shaft with a collar"],
)
def test_however_it_is_turned_no_point_of_its_surface_departs_by_more(solid):
    error = facet_error(shape(solid), (0, 0, 0), UP)
    assert error < 1.0
    spots = trimesh.sample.sample_surface(solid, 400, seed=1)[0]
    for angle in (0.03, 0.1, 1.0, 4.4):
        turned = Rotation.from_rotvec([0.0, 0.0, angle]).apply(spots)
        assert trimesh.proximity.closest_point_naive(solid, turned)[1].max() <= error + 1e-9


def test_it_is_told_about_any_line_in_space():
    way = np.array([0.3, -0.5, 0.8]) / np.linalg.norm([0.3, -0.5, 0.8])
    solid = rod(10.0, 50.0, 60)
    solid.apply_transform(trimesh.geometry.align_vectors(UP, way))
    solid.apply_translation((200.0, -70.0, 1000.0))
    beside = np.array([200.0, -70.0, 1000.0]) + 3.0 * way
    assert facet_error(shape(solid), beside, way) == pytest.approx(10 * (1 - np.cos(np.pi / 60)), abs=GRID)
    assert facet_error(shape(solid), beside + np.array([0.05, 0.0, 0.0]), way) == np.inf
    assert facet_error(shape(solid), beside, UP) == np.inf


def test_what_only_seems_round_is_not():
    def holes(count, at=20.0, radius=3.0):
        turns = 2 * np.pi * np.arange(count) / count
        tools = [rod(radius, 30.0, 16) for _ in turns]
        for tool, turn in zip(tools, turns, strict=True):
            tool.apply_translation((at * np.cos(turn), at * np.sin(turn), 0.0))
        return tools

    disc = rod(30.0, 10.0, 64)
    assert facet_error(shape(trimesh.boolean.difference([disc, *holes(12)])), (0, 0, 0), UP) == np.inf
    # a pocket, which does not go through, and studs, which stand in a ring
    pocket = holes(8)
    for tool in pocket:
        tool.apply_translation((0.0, 0.0, 12.0))
    assert facet_error(shape(trimesh.boolean.difference([disc, *pocket])), (0, 0, 0), UP) == np.inf
    assert facet_error(shape(trimesh.boolean.union([disc, *pocket])), (0, 0, 0), UP) == np.inf
    # a flat on a shaft
    flat = trimesh.creation.box((30.0, 4.0, 60.0))
    flat.apply_translation((0.0, 11.5, 0.0))
    assert facet_error(shape(trimesh.boolean.difference([rod(10.0, 50.0, 64), flat])), (0, 0, 0), UP) == np.inf


def test_half_a_shell_drawn_from_both_sides_does_not_go_round():
    """Its facets make as many degrees as a whole one's do."""
    whole = rod(10.0, 30.0, 32)
    sides = np.abs(whole.face_normals[:, 2]) < 0.5
    half = sides & (whole.triangles_center[:, 1] > 0)
    assert half.sum() * 2 == sides.sum()
    faces = np.concatenate([whole.faces[half], whole.faces[half][:, ::-1]])
    assert facet_error(mesh(whole.vertices, faces), (0, 0, 0), UP) == np.inf


def test_a_band_with_a_window_in_it_does_not_go_round():
    ring = np.array([[True, True, False], [True, True, False], [False, True, True]])
    angles = np.array([[0.0, 2.0, 0.0], [2.0, 4.0, 0.0], [0.0, 4.0, 5.5]])
    assert not _goes_round(ring, angles)
    assert _goes_round(np.vstack([ring, [True, True, False]]), np.vstack([angles, [5.5, 2 * np.pi, 0.0]]))


def test_sides_that_may_have_the_axis_between_them_are_not_taken_for_round():
    assert facet_error(shape(rod(10.0, 30.0, 3)), (0, 0, 0), UP) == np.inf
    assert facet_error(shape(rod(10.0, 30.0, 4)), (0, 0, 0), UP) == pytest.approx(10 * (1 - np.sqrt(0.5)), abs=GRID)
