"""Curves on surfaces against closed forms of their geodesics."""

import numpy as np
import pytest
import trimesh

from kestrav.core.geometry.arclength import by_arc_length
from kestrav.core.geometry.curves import sampled
from kestrav.core.geometry.faces import Face
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.on_surface import surface_line

RADIUS = 100.0


def mesh(body, face=None):
    shape = Mesh(np.asarray(body.vertices), np.asarray(body.faces, np.int32))
    if face is None:
        return shape
    return Mesh(shape.vertices, shape.triangles, (face,), np.zeros(len(shape.triangles), np.int32))


def ball(exact=True):
    face = Face("sphere", radius=RADIUS) if exact else None
    return mesh(trimesh.creation.icosphere(4, radius=RADIUS), face)


def on_ball(azimuth, elevation):
    a, e = np.radians(azimuth), np.radians(elevation)
    return RADIUS * np.array([np.cos(e) * np.cos(a), np.cos(e) * np.sin(a), np.sin(e)])


def curve_of(line, between, lift=0.0, closed=False):
    joints = line.marks if between == "shortest" else ()
    return by_arc_length(sampled(line.lifted(lift), joints, closed=closed), closed=closed)


@pytest.mark.parametrize("ends", [((0, 0), (70, 0)), ((10, 5), (95, 50)), ((-40, -60), (30, 20))])
def test_the_shortest_way_on_a_ball_is_the_great_circle(ends):
    points = np.array([on_ball(*end) for end in ends])
    line = surface_line(ball(), points, points / RADIUS, "shortest")
    curve = curve_of(line, "shortest")
    angle = np.arccos(points[0] @ points[1] / RADIUS**2)
    assert curve.length == pytest.approx(RADIUS * angle, rel=1e-6)
    # and lies in the plane through the centre
    normal = np.cross(*points)
    across = curve.position(np.linspace(0, curve.length, 50)) @ normal / np.linalg.norm(normal)
    assert np.abs(across).max() < 1e-4


@pytest.mark.parametrize("between", ["smooth", "shortest"])
@pytest.mark.parametrize("lift", [0.0, 12.0])
def test_a_line_on_a_ball_stays_on_it_and_its_lift_beside_it(between, lift):
    points = np.array([on_ball(0, 0), on_ball(50, 30), on_ball(110, -10), on_ball(150, 60)])
    line = surface_line(ball(), points, points / RADIUS, between)
    curve = curve_of(line, between, lift)
    away = np.linalg.norm(curve.position(np.linspace(0, curve.length, 400)), axis=1)
    assert np.abs(away - RADIUS - lift).max() < 2e-3
    for point in points:
        near = curve.position([curve.nearest(point)])[0]
        assert np.linalg.norm(near - point * (1 + lift / RADIUS)) < 1e-4 * RADIUS


def test_on_facets_the_line_is_as_near_as_they_are():
    points = np.array([on_ball(0, 0), on_ball(50, 30), on_ball(110, -10)])
    line = surface_line(ball(exact=False), points, points / RADIUS)
    sagitta = RADIUS - np.linalg.norm(ball(False).vertices[ball(False).triangles].mean(axis=1), axis=1).min()
    assert np.abs(np.linalg.norm(line.samples, axis=1) - RADIUS).max() < 2 * sagitta


def test_a_closed_line_has_no_seam():
    points = np.array([on_ball(a, 20 * np.sin(np.radians(2 * a))) for a in range(0, 360, 60)])
    curve = curve_of(surface_line(ball(), points, points / RADIUS, closed=True), "smooth", closed=True)
    assert not len(curve.kink_stations)
    assert curve.position([0.0])[0] == pytest.approx(curve.position([curve.length])[0], abs=1e-9)


def test_the_shortest_way_round_a_cylinder_is_a_helix():
    body = trimesh.creation.cylinder(radius=RADIUS, height=600, sections=96)
    shape = mesh(body)
    side = np.abs(body.face_normals[:, 2]) < 0.5
    faces = (Face("cylinder", radius=RADIUS), Face("free"))
    shape = Mesh(shape.vertices, shape.triangles, faces, np.where(side, 0, 1).astype(np.int32))
    ends = np.array([[RADIUS, 0, -120], [RADIUS * np.cos(2), RADIUS * np.sin(2), 150]])
    line = surface_line(shape, ends, ends * [1, 1, 0] / RADIUS, "shortest")
    assert curve_of(line, "shortest").length == pytest.approx(np.hypot(2 * RADIUS, 270), rel=1e-4)


def test_the_shortest_way_over_an_edge_is_straight_on_the_unfolded_box():
    shape = mesh(trimesh.creation.box((400, 400, 400)))
    ends, normals = np.array([[200, -100, 120.0], [80, 60, 200.0]]), np.array([[1.0, 0, 0], [0, 0, 1]])
    line = surface_line(shape, ends, normals, "shortest")
    length = np.linalg.norm(np.diff(line.samples, axis=0), axis=1).sum()
    # 80 mm up to the edge, 120 mm on beyond it, 160 mm along it; one chord in sixteen cuts the edge
    assert length == pytest.approx(np.hypot(80 + 120, 160), rel=0.03)


def test_points_off_the_surface_and_gaps_are_named():
    points = np.array([on_ball(0, 0), [0.0, 0, 900]])
    with pytest.raises(ValueError, match="point 2 does not lie"):
        surface_line(ball(), points, np.array([[1.0, 0, 0], [1.0, 0, 0]]))
    slabs = trimesh.util.concatenate(
        [trimesh.creation.box((100, 100, 10)), trimesh.creation.box((100, 100, 10)).apply_translation([400, 0, 0])]
    )
    with pytest.raises(ValueError, match="between points 1 and 2"):
        surface_line(mesh(slabs), [[0, 0, 5], [400, 0, 5]], [[0, 0, 1], [0, 0, 1]])
