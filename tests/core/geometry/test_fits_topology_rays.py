"""Fits against known shapes with noise, faces and edges of meshes, rays."""

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings, strategies as st
from scipy.spatial.transform import Rotation

from kestrav.core.geometry.faces import Face
from kestrav.core.geometry.meshes import mesh
from kestrav.core.geometry.rays import cast, first_hits
from kestrav.core.geometry.shape_fits import fit_circle, fit_cylinder, fit_plane
from kestrav.core.geometry.topology import ring_of, surface_of, topology
from kestrav.core.geometry.transforms import rigid

TURN = Rotation.from_euler("xyz", [0.4, -0.9, 1.3]).as_matrix()


def cylinder_points(random, radius, noise, count=400, arc=2 * np.pi):
    around, along = random.uniform(0, arc, count), random.uniform(-20, 60, count)
    normals = np.stack([np.cos(around), np.sin(around), 0 * around], axis=1)
    points = radius * normals + along[:, None] * [0, 0, 1] + random.normal(0, noise, (count, 3))
    return points @ TURN.T + [100, -50, 30], normals @ TURN.T


@pytest.mark.parametrize("noise", [0.0, 0.01, 0.1])
@pytest.mark.parametrize("arc", [2 * np.pi, 1.2])
def test_a_cylinder_with_noise_gives_its_radius_back_and_tells_its_residual(random, noise, arc):
    points, normals = cylinder_points(random, 62.5, noise, arc=arc)
    for given_normals in (normals, None) if arc > 6 else (normals,):
        fit = fit_cylinder(points, given_normals)
        # the standard error of a radius from n points on a full turn is about noise / sqrt(n)
        assert fit.radius == pytest.approx(62.5, abs=1e-7 + (4 if arc > 6 else 40) * noise / np.sqrt(len(points)))
        assert fit.residual == pytest.approx(noise, rel=0.15, abs=1e-9)
        assert abs(fit.axis @ TURN[:, 2]) == pytest.approx(1.0, abs=1e-6 + noise * 1e-3)


@settings(max_examples=40, deadline=None)
@given(
    radius=st.floats(0.5, 5000),
    share=st.floats(0.15, 1.0),
    turn=st.tuples(*[st.floats(-3, 3)] * 3),
    shift=st.tuples(*[st.floats(-2000, 2000)] * 3),
)
def test_circles_are_found_wherever_they_lie(radius, share, turn, shift):
    angle = np.linspace(0, 2 * np.pi * share, 40)
    flat = radius * np.stack([np.cos(angle), np.sin(angle), 0 * angle], axis=1)
    fit = fit_circle(flat @ Rotation.from_rotvec(turn).as_matrix().T + shift)
    assert fit.radius == pytest.approx(radius, rel=1e-6)
    assert fit.centre == pytest.approx(shift, abs=1e-5 * max(radius, 1) + 1e-6)
    assert fit.worst < 1e-6 * radius + 1e-6


@pytest.mark.parametrize("fit", [fit_plane, fit_circle])
def test_points_on_a_line_fix_nothing(fit):
    with pytest.raises(ValueError, match="on a line"):
        fit(np.linspace(0, 1, 9)[:, None] * [1, 2, 3])


def test_too_few_points_are_refused():
    with pytest.raises(ValueError, match="5 points or more"):
        fit_cylinder(np.eye(3))


def test_a_cylinder_without_cad_faces_has_three_faces_and_two_round_edges():
    body = trimesh.creation.cylinder(20, 50, sections=64, transform=rigid(TURN, (5, 6, 7)))
    found = topology(mesh(body.vertices, body.faces))
    assert found.count == 3
    surfaces = [surface_of(found, k) for k in range(3)]
    assert sorted(s.face.kind for s in surfaces) == ["cylinder", "plane", "plane"]
    side = next(s for s in surfaces if s.face.kind == "cylinder")
    assert not side.exact
    assert side.face.radius == pytest.approx(20, abs=1e-3)
    assert len(found.edges) == 2
    for edge in found.edges:
        ring = ring_of(found, edge)
        assert edge.closed
        assert ring.radius == pytest.approx(20, abs=1e-3)
        assert 0 <= ring.residual < 1e-3
        assert not ring.exact


def test_a_box_has_six_faces_twelve_edges_and_eight_corners():
    body = trimesh.creation.box((10, 20, 30))
    found = topology(mesh(body.vertices, body.faces))
    assert (found.count, len(found.edges), len(found.corners)) == (6, 12, 8)
    assert sum(e.length for e in found.edges) == pytest.approx(4 * 60)
    areas = sorted(found.area_of(k) for k in range(6))
    assert areas == pytest.approx([200, 200, 300, 300, 600, 600])
    assert all(surface_of(found, k).face.kind == "plane" for k in range(6))


def test_an_open_sheet_has_its_border_as_edges():
    grid = np.array([[x, y, 0] for y in range(4) for x in range(4)], float)
    cells = [[r * 4 + c, r * 4 + c + 1, r * 4 + c + 5, r * 4 + c + 4] for r in range(3) for c in range(3)]
    triangles = [t for a, b, c, d in cells for t in ((a, b, c), (a, c, d))]
    found = topology(mesh(grid, triangles))
    (border,) = found.edges
    assert border.closed
    assert border.length == pytest.approx(12)


def test_a_ring_between_a_plane_and_a_cylinder_of_the_file_is_exact():
    # a 12-sided prism that stands for a cylinder of radius 10: the facets' own fit would say so only within its corners
    body = trimesh.creation.cylinder(10, 8, sections=12)
    level = body.face_normals[:, 2]
    faces = (
        Face("cylinder", radius=10.0, along=(-4, 4)),
        Face("plane", (0, 0, -4), (0, 0, -1)),
        Face("plane", (0, 0, 4), (0, 0, 1)),
    )
    of = np.where(level > 0.5, 2, np.where(level < -0.5, 1, 0)).astype(np.int32)
    found = topology(mesh(body.vertices, body.faces, faces, of))
    rings = [ring_of(found, e) for e in found.edges]
    assert [r.radius for r in rings] == [10.0, 10.0]
    assert all(r.exact for r in rings)
    assert sorted(r.centre[2] for r in rings) == pytest.approx([-4, 4])


@pytest.mark.parametrize(
    ("face", "on", "off"),
    [
        (Face("plane", (0, 0, 5), (0, 0, 1)), (3, 4, 5), (3, 4, 7)),
        (Face("cylinder", (1, 0, 0), (0, 0, 1), 2.0), (3, 0, 9), (5, 0, 9)),
        (Face("sphere", (0, 0, 0), radius=3.0), (0, 3, 0), (0, 5, 0)),
        (Face("torus", (0, 0, 0), (0, 0, 1), 10.0, 2.0), (10, 0, 2), (10, 0, 4)),
        (Face("cone", (0, 0, 0), (0, 0, 1), half_angle=np.pi / 4), (3, 0, 3), (3 + 2 * np.sqrt(2), 0, 3)),
    ],
    ids=lambda v: v.kind if isinstance(v, Face) else "",
)
def test_faces_move_scale_and_keep_their_distance(face, on, off):
    matrix = rigid(TURN, (7, -8, 9))
    matrix[:3, :3] *= 2.5
    moved = face.moved(matrix)
    for place, expected in ((on, 0.0), (off, 2.0)):
        assert face.distance([place])[0] == pytest.approx(expected, abs=1e-9)
        there = matrix[:3, :3] @ place + matrix[:3, 3]
        assert moved.distance([there])[0] == pytest.approx(2.5 * expected, abs=1e-8)


def test_an_uneven_scale_leaves_planes_and_frees_the_rest():
    stretch = np.diag([1.0, 2.0, 3.0, 1.0])
    assert Face("cylinder", radius=2.0).moved(stretch).kind == "free"
    plane = Face("plane", (0, 0, 1), (0, np.sqrt(0.5), np.sqrt(0.5))).moved(stretch)
    assert plane.kind == "plane"
    assert plane.distance([stretch[:3, :3] @ [5, 1, 0]])[0] == pytest.approx(0, abs=1e-12)


def every_triangle(shape, start, way):
    """The nearest meeting by Möller and Trumbore's test ("Fast, minimum storage ray-triangle intersection", 1997)."""
    a, b, c = (shape.vertices[shape.triangles[:, k]] for k in range(3))
    first, second = b - a, c - a
    across = np.cross(way, second)
    scale = np.einsum("ij,ij->i", first, across)
    with np.errstate(divide="ignore", invalid="ignore"):
        u = np.einsum("ij,ij->i", start - a, across) / scale
        side = np.cross(start - a, first)
        v = side @ way / scale
        t = np.einsum("ij,ij->i", second, side) / scale
    return np.where((u >= 0) & (v >= 0) & (u + v <= 1) & (t > 0), t, np.inf)


def test_rays_agree_with_a_test_of_every_triangle(random):
    body = trimesh.creation.icosphere(subdivisions=3, radius=50)
    shape = mesh(body.vertices, body.faces)
    ways = random.normal(size=(300, 3))
    ways /= np.linalg.norm(ways, axis=1)[:, None]
    starts = random.uniform(-80, 80, (300, 3))
    distances, triangles = first_hits(shape, starts, ways)
    expected = np.array([every_triangle(shape, s, w) for s, w in zip(starts, ways, strict=True)])
    assert distances == pytest.approx(expected.min(axis=1), abs=1e-6)
    met = np.isfinite(distances)
    assert 20 < met.sum() < 280
    assert expected[met, triangles[met]] == pytest.approx(distances[met], abs=1e-6)


def test_a_ray_meets_the_nearest_of_many_and_sees_into_what_is_cut_away():
    body = trimesh.creation.box((10, 10, 10))
    shape = mesh(body.vertices, body.faces)
    poses = np.array([rigid(np.eye(3), (x, 0, 0)) for x in (0, 40, 80)])
    boxes = np.array([np.add(shape.bounds, [x, 0, 0]) for x in (0, 40, 80)])
    hit = cast((200, 1, 2), (-1, 0, 0), [shape] * 3, poses, boxes)
    assert (hit.body, hit.distance) == (2, pytest.approx(115))
    # all beyond x = 60 is cut away
    hit = cast((200, 1, 2), (-1, 0, 0), [shape] * 3, poses, boxes, (np.array([60.0, 0, 0]), np.array([1.0, 0, 0])))
    assert (hit.body, hit.place[0]) == (1, pytest.approx(45))
    # a plane through a box shows its inside
    hit = cast((200, 1, 2), (-1, 0, 0), [shape] * 3, poses, boxes, (np.array([40.0, 0, 0]), np.array([1.0, 0, 0])))
    assert (hit.body, hit.place[0]) == (1, pytest.approx(35))
    assert cast((200, 1, 2), (1, 0, 0), [shape] * 3, poses, boxes) is None


def test_rings_where_two_round_faces_meet_about_one_axis_are_exact():
    """A wheel of the demo: its tread of radius 62.5 mm meets fillets of 6 mm, which meet its flat sides."""
    from shapes import DEMO

    from kestrav.core.files.product_import import read_product

    imported = read_product(DEMO.parent / "trolley.step")
    wheel = next(p for p in imported.parts if p.name == "Wheel")
    found = topology(imported.meshes[wheel.geometry])
    rings = [r for e in found.edges if (r := ring_of(found, e)) is not None and r.radius > 50]
    assert {round(r.radius, 9) for r in rings} == {62.5, 56.5}
    assert all(r.exact for r in rings)
