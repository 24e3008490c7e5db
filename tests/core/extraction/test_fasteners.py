"""Fasteners are told by their shape and by what they are in."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh
from test_search import boxes

from kestrav.core.extraction.fasteners import fastener_axis, head_along
from kestrav.core.extraction.problem import problem_of
from kestrav.core.geometry.meshes import mesh

Z = np.array([0.0, 0.0, 1.0])


def rod(radius, low, high, sections=24):
    return trimesh.creation.cylinder(radius, segment=[(0, 0, low), (0, 0, high)], sections=sections)


def solid(*made):
    whole = trimesh.boolean.union(list(made)) if len(made) > 1 else made[0]
    return mesh(whole.vertices, whole.faces)


def screw(sections=6):
    return solid(rod(3, -20, 0.0), rod(5.5, 0, 4, sections))


@pytest.mark.parametrize("sections", [6, 24])
def test_a_screw_is_pulled_by_its_head(sections):
    assert head_along(screw(sections), Z) == pytest.approx(Z)
    assert head_along(screw(sections), -Z) == pytest.approx(Z)


def test_a_socket_in_the_head_changes_nothing():
    head = trimesh.boolean.difference([rod(5.5, 0, 6), rod(2.5, 3, 7, 6)])
    assert head_along(solid(rod(3, -20, 0.0), head), Z) == pytest.approx(Z)


@pytest.mark.parametrize(
    "shape",
    [
        solid(rod(5, -20, 20)),  # a pin has no head
        box_mesh(20, 20, 60),
        solid(rod(3, -20, 0), rod(5, 0, 30)),  # a stepped shaft, not a head
        solid(rod(20, -5, 0), rod(40, 0, 5)),  # a flange is too flat
        solid(rod(5, -30, -26), rod(3, -26, 26), rod(5, 26, 30)),  # a spool has two
    ],
)
def test_what_is_no_fastener(shape):
    assert head_along(shape, Z) is None


def test_it_must_be_in_something():
    plate = trimesh.boolean.difference([trimesh.creation.box((60, 60, 30)), rod(3.4, -30, 30)])
    made, meshes = boxes(screw=(screw(), (0, 0, 15.2)), plate=(mesh(plate.vertices, plate.faces), (0, 0, 0)))
    assert fastener_axis(problem_of(made, meshes, ["screw"])) == pytest.approx(Z)
    assert fastener_axis(problem_of(made, meshes, ["plate"])) is None
    alone, meshes = boxes(screw=(screw(), (0, 0, 15.2)), plate=(mesh(plate.vertices, plate.faces), (200, 0, 0)))
    assert fastener_axis(problem_of(alone, meshes, ["screw"])) is None
