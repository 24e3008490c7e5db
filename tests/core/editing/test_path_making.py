"""Paths made of other things: contours, arcs, edges, sections, pipes, surfaces, traces."""

import msgspec
import numpy as np
import pytest
import shapely
import trimesh

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    ArcShape,
    EllipseShape,
    Part,
    Path,
    PathPoint,
    Placement,
    PointShape,
    Project,
    Run,
    SurfaceShape,
)
from kestrav.core.editing import path_making
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import Face
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.topology import topology
from kestrav.core.kinematics.traces import trace
from kestrav.core.parts.placing import shift, transform
from kestrav.core.parts.solids import with_meshes
from kestrav.core.paths import contour_shapes, surface_paths
from kestrav.core.paths.path_curves import path_curve

QUARTER = np.sqrt(0.5)


def mesh(body, *faces, of=None):
    shape = Mesh(np.asarray(body.vertices, float), np.asarray(body.faces, np.int32))
    if not faces:
        return shape
    numbers = np.zeros(len(shape.triangles), np.int32) if of is None else of
    return Mesh(shape.vertices, shape.triangles, faces, numbers)


def scene(*placed):
    """A project of parts (name, mesh, placement) and its meshes."""
    project = with_meshes(Project(), [shape for _, shape, _ in placed])
    parts = [Part(f"part-{i}", n, None, at, geometry=m.hash) for i, (n, m, at) in enumerate(placed, 1)]
    return edits.add(project, *parts), {m.hash: m for _, m, _ in placed}


BOX = mesh(trimesh.creation.box((600, 400, 200)))
TUBE = trimesh.creation.cylinder(radius=80, height=300, sections=64)


def curve(project, row=-1):
    return path_curve(project.paths[row]).curve


@pytest.mark.parametrize("kind", contour_shapes.CONTOURS)
@pytest.mark.parametrize(
    "turned", [Placement((300, 200, 0)), Placement((300, 200, 0), (np.cos(0.3), 0, 0, np.sin(0.3)))]
)
def test_a_contour_keeps_its_offset_at_its_height(kind, turned):
    project, meshes = scene(("Cabinet", BOX, turned), ("Post", mesh(TUBE), Placement((800, -100, 0))))
    made = path_making.add_contour(project, meshes, ["part-1", "part-2"], kind, 150.0, 900.0)
    line = curve(made)
    places = line.position(np.linspace(0, line.length, 2000))
    assert np.all(places[:, 2] == 900)
    inside = shapely.multipoints(path_making.plan_points(project, meshes, ["part-1", "part-2"])).convex_hull
    away = shapely.distance(inside, shapely.points(places[:, :2]))
    assert away.min() == pytest.approx(150, abs=0.5) if kind != "ellipse" else away.min() > 149.99
    assert line.closed and made.paths[-1].name == "Around 2 things"


def test_a_hull_contour_is_shapelys_buffer():
    project, meshes = scene(("Cabinet", BOX, Placement((300, 200, 0), (np.cos(0.3), 0, 0, np.sin(0.3)))))
    line = curve(path_making.add_contour(project, meshes, ["part-1"], "hull", 150.0, 0.0))
    hull = shapely.multipoints(path_making.plan_points(project, meshes, ["part-1"])).convex_hull
    assert line.length == pytest.approx(hull.buffer(150, quad_segs=512).exterior.length, rel=1e-6)


def test_a_hull_of_one_point_is_refused():
    with pytest.raises(BadInput, match="one place"):
        contour_shapes.contour_shape([[10, 10]], "hull", 50, 0)
    with pytest.raises(BadInput, match="no geometry"):
        path_making.plan_points(Project(parts=(Part("part-1", "Empty"),)), {}, ["part-1"])


@pytest.mark.parametrize("end", [(100, 100, 0), (-50, 80, 0), (10, -300, 0), (200, 5, 60)])
def test_a_tangent_arc_leaves_in_its_direction_and_reaches_its_end(end):
    shape = path_making.tangent_arc((0, 0, 0), (2, 0, 0), end)
    line = path_curve(Path("p", "P", shape)).curve
    assert line.tangent([0.0])[0] == pytest.approx([1, 0, 0], abs=1e-9)
    assert line.position([line.length])[0] == pytest.approx(end, abs=1e-9)


def test_a_tangent_arc_straight_on_is_none_and_straight_back_refused():
    assert path_making.tangent_arc((0, 0, 0), (1, 0, 0), (500, 0, 0)) is None
    with pytest.raises(BadInput, match="straight behind"):
        path_making.tangent_arc((0, 0, 0), (1, 0, 0), (-500, 0, 0))


def test_arcs_by_centre_and_by_three_points():
    shape = path_making.arc_of((0, 0, 50), (200, 0, 50), (0, -700, 50))
    assert (shape.sweep, shape.start) == (-90, (200, 0, 50))
    shape = path_making.arc_through((200, 0, 0), (0, 200, 0), (-200, 0, 0))
    assert path_curve(Path("p", "P", shape)).length == pytest.approx(200 * np.pi)
    for act in (
        lambda: path_making.arc_through((0, 0, 0), (1, 0, 0), (2, 0, 0)),
        lambda: path_making.arc_of((0, 0, 0), (0, 0, 0), (1, 0, 0)),
        lambda: path_making.arc_of((0, 0, 0), (1, 0, 0), (2, 0, 0)),
    ):
        with pytest.raises(BadInput):
            act()


@pytest.mark.parametrize("end", ["start", "end"])
def test_a_path_drawn_on_keeps_what_it_was_and_its_run(end):
    points = tuple(PathPoint(p, "corner") for p in [(0, 0, 0), (400, 0, 0), (400, 300, 0)])
    project = Project(parts=(Part("part-1", "Trolley"),), paths=(Path("path-1", "Aisle", PointShape(points)),))
    project = edits.add(project, Run("run-1", "Rolls", "part-1", "path-1", begin=0.25, end=0.75))
    further = [PathPoint((-200, 0, 0), "corner"), PathPoint((-200, 500, 0), "corner")]
    if end == "end":
        further = [PathPoint((900, 300, 0), "corner")]
    made = path_making.extended(project, "path-1", end, further)
    old, new, run = curve(project), curve(made), made.runs[0]
    for share, before in ((run.begin, 0.25), (run.end, 0.75)):
        assert new.position([share * new.length])[0] == pytest.approx(old.position([before * old.length])[0], abs=1e-6)


# edges


def box_edge(project, meshes, axis, nearest):
    found = topology(meshes[project.parts[0].geometry])
    number = min(
        range(len(found.edges)),
        key=lambda k: (
            np.linalg.norm(found.edges[k].points.mean(axis=0) - nearest)
            + (0 if np.ptp(found.edges[k].points, axis=0).argmax() == axis else 1e6)
        ),
    )
    return ("part-1", number)


def test_picked_edges_become_one_path_round_the_corners():
    project, meshes = scene(("Cabinet", BOX, Placement((0, 0, 100))))
    edges = [box_edge(project, meshes, a, p) for a, p in [(0, (0, 200, 100)), (0, (0, -200, 100)), (1, (300, 0, 100))]]
    made = path_making.add_edge_path(project, meshes, edges)
    assert curve(made).length == pytest.approx(600 + 400 + 600)
    assert not curve(made).closed and len(curve(made).kink_stations) == 2
    edges.append(box_edge(project, meshes, 1, (-300, 0, 100)))
    ring = path_making.add_edge_path(project, meshes, edges)
    assert curve(ring).closed and curve(ring).length == pytest.approx(2000)
    with pytest.raises(BadInput, match=r"do not meet: a gap of 200\.00 mm"):
        path_making.add_edge_path(project, meshes, [edges[0], box_edge(project, meshes, 0, (0, 200, -100))])


def test_a_round_edge_becomes_a_circle_of_the_faces_own_radius():
    body = trimesh.creation.cylinder(radius=80, height=300, sections=48)
    normals = body.face_normals
    of = np.select([normals[:, 2] > 0.5, normals[:, 2] < -0.5], [1, 2], 0).astype(np.int32)
    faces = (
        Face("cylinder", radius=80.0, along=(-150, 150)),
        Face("plane", (0, 0, 150)),
        Face("plane", (0, 0, -150), (0, 0, -1)),
    )
    project, meshes = scene(("Ring", mesh(body, *faces, of=of), Placement((100, 0, 0), (QUARTER, QUARTER, 0, 0))))
    made = path_making.add_edge_path(project, meshes, [("part-1", 0)])
    assert isinstance(made.paths[0].shape, ArcShape)
    assert curve(made).length == pytest.approx(160 * np.pi, rel=1e-9)
    assert abs(curve(made).position([0.0])[0][1]) == pytest.approx(150)


# sections and pipes


def test_the_outline_of_a_section_has_its_length():
    project, meshes = scene(
        ("Cabinet", BOX, Placement((0, 0, 100))),
        ("Post", mesh(TUBE), Placement((900, 0, 150))),
        ("Lean-to", mesh(trimesh.creation.box((200, 200, 200))), Placement((400, 0, 100))),
    )
    ids = [p.id for p in project.parts]
    shapes = path_making.section_shapes(project, meshes, ids, (0, 0, 120), (0, 0, 1))
    lengths = [path_curve(Path("p", "P", s)).length for s in shapes]
    # the box and what stands against it have one outline
    assert lengths == pytest.approx([2 * (800 + 400), 64 * 160 * np.sin(np.pi / 64)], rel=1e-3)
    assert all(p.position[2] == pytest.approx(120) for s in shapes for p in s.points)
    with pytest.raises(BadInput, match="does not cut"):
        path_making.section_shapes(project, meshes, ids, (0, 0, 5000), (0, 0, 1))


def elbow_scene():
    """A pipe of three parts: up, round a bend of 90 mm, along."""
    radius, bend = 20.0, 90.0
    up = Face("cylinder", radius=radius, along=(0, 500))
    along = Face("cylinder", (bend, 0, 500 + bend), (1, 0, 0), radius, along=(0, 700))
    torus = Face("torus", (bend, 0, 500), (0, 1, 0), bend, radius)
    pieces = []
    for name, face in (("Riser", up), ("Bend", torus), ("Branch", along)):
        inside = face if face.kind == "torus" else msgspec.structs.replace(face, radius=radius - 2)
        body = trimesh.creation.icosphere(1, radius=10)
        of = (np.arange(len(body.faces)) % 2).astype(np.int32)
        body.apply_translation([len(pieces), 0, 0])
        pieces.append((name, mesh(body, face, inside, of=of), Placement((50, 60, 0))))
    return scene(*pieces)


def test_the_centre_line_of_a_pipe_goes_by_its_cylinders_and_bends():
    project, meshes = elbow_scene()
    made = path_making.add_pipe_path(project, meshes, ["part-1", "part-2", "part-3"])
    assert made.paths[0].name == "Centre line of Riser"
    corners = {tuple(np.round(p.position, 6)): p.radius for p in made.paths[0].shape.points}
    assert corners == {(50, 60, 0): 0, (50, 60, 590): pytest.approx(90), (840, 60, 590): 0}
    assert curve(made).length == pytest.approx(500 + 90 * np.pi / 2 + 700)
    with pytest.raises(BadInput, match="no straight piece"):
        path_making.pipe_shape(project, meshes, ["part-2"])


# surfaces


def ball_scene():
    body = trimesh.creation.icosphere(4, radius=100)
    return scene(("Ball", mesh(body, Face("sphere", radius=100.0)), Placement((0, 0, 500))))


POINTS = [(100, 0, 0), (60, 80, 0), (0, 60, 80)]


def away_from_ball(project, centre):
    line = curve(project)
    return np.linalg.norm(line.position(np.linspace(0, line.length, 200)) - centre, axis=1)


def test_a_surface_path_sticks_to_its_part_when_points_and_part_move():
    project, meshes = ball_scene()
    made = surface_paths.add_surface_path(project, meshes, "part-1", POINTS, lift=15)
    assert away_from_ball(made, (0, 0, 500)) == pytest.approx(np.full(200, 115), abs=1e-2)
    dragged = surface_paths.reshaped(made, meshes, "path-1", points=[*POINTS[:2], (10, 20, 130)])
    assert away_from_ball(dragged, (0, 0, 500)) == pytest.approx(np.full(200, 115), abs=1e-2)
    moved = surface_paths.derive_surface_paths(transform(made, ["part-1"], shift((300, -40, 10))), made)
    assert away_from_ball(moved, (300, -40, 510)) == pytest.approx(np.full(200, 115), abs=1e-2)
    assert surface_paths.derive_surface_paths(moved, made) is moved
    assert not surface_paths.is_replaced(moved, meshes, moved.paths[0].shape)


def test_a_surface_path_outlives_its_part():
    project, meshes = ball_scene()
    made = surface_paths.add_surface_path(project, meshes, "part-1", POINTS)
    left = edits.remove(made, "part-1")
    assert isinstance(left.paths[0].shape, PointShape)
    assert curve(left).length == pytest.approx(curve(made).length, rel=1e-4)


def test_what_has_no_surface_is_refused():
    project, meshes = ball_scene()
    project = edits.add(project, Part("part-9", "Group"))
    with pytest.raises(BadInput, match="no surface of its own"):
        surface_paths.add_surface_path(project, meshes, "part-9", POINTS)
    with pytest.raises(BadInput, match="needs 2 points"):
        surface_paths.add_surface_path(project, meshes, "part-1", POINTS[:1])
    with pytest.raises(BadInput, match="not finite"):
        surface_paths.add_surface_path(project, meshes, "part-1", [POINTS[0], (np.nan, 0, 0)])


def test_a_replaced_part_leaves_the_path_until_it_is_laid_on_again():
    project, meshes = ball_scene()
    made = surface_paths.add_surface_path(project, meshes, "part-1", POINTS)
    larger = mesh(trimesh.creation.icosphere(4, radius=120), Face("sphere", radius=120.0))
    meshes[larger.hash] = larger
    made = edits.update(with_meshes(made, [larger]), "part-1", geometry=larger.hash)
    shape = made.paths[0].shape
    assert isinstance(shape, SurfaceShape) and surface_paths.is_replaced(made, meshes, shape)
    assert away_from_ball(made, (0, 0, 500)) == pytest.approx(np.full(200, 100), abs=1e-2)
    again = surface_paths.reshaped(made, meshes, "path-1")
    assert away_from_ball(again, (0, 0, 500)) == pytest.approx(np.full(200, 120), abs=2e-2)


# traces


def test_the_trace_of_a_point_beside_a_turning_rider_is_a_circle():
    project = Project(
        parts=(Part("part-1", "Trolley"),), paths=(Path("path-1", "Round", EllipseShape((0, 0, 0), 500, 500)),)
    )
    project = edits.add(
        project, Run("run-1", "Rolls", "part-1", "path-1", duration=4.0, orientation=AlongOrientation())
    )
    times = np.linspace(0, 4, 121)
    places = trace(project, "part-1", (0, 120, 0), times)
    # its left is the inside of the bend
    assert np.linalg.norm(places, axis=1) == pytest.approx(np.full(121, 380), abs=1e-6)
    made = path_making.add_trace_path(project, "part-1", (0, 120, 0), times)
    assert made.paths[-1].name == "Trace of Trolley"
    assert curve(made).length == pytest.approx(760 * np.pi, abs=0.1)
    away = np.linalg.norm(curve(made).position(np.linspace(0, curve(made).length, 300)), axis=1)
    assert np.abs(away - 380).max() < 0.15
    with pytest.raises(BadInput, match="does not move"):
        path_making.add_trace_path(project, "part-1", (0, 0, 0), [5.0, 6.0])
