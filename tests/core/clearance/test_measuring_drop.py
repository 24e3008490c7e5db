"""Measuring between features, against closed forms; letting things down."""

import numpy as np
import pytest
import trimesh
from shapes import DEMO, box_mesh, make_project

from kestrav.core.clearance import measuring
from kestrav.core.clearance.drop import drop, drop_height
from kestrav.core.document import edits
from kestrav.core.document.records import CylinderForm, Feature, Note, Placement
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import mesh
from kestrav.core.geometry.topology import topology
from kestrav.core.parts import placeholders, placing
from kestrav.core.parts.rest import rest_poses

HALF = np.sqrt(0.5)


@pytest.fixture
def two():
    """A box of 20 x 30 x 40 at the origin and a cube of 10 mm 100 mm along x, turned by 45 degrees about z."""
    opened = make_project({"Box": (box_mesh(20, 30, 40), (0, 0, 0)), "Cube": (box_mesh(10, 10, 10), (100, 0, 0))})
    project = placing.transform(opened.project, ["part-2"], placing.turn_about((100, 0, 0), (0, 0, 1), np.pi / 4))
    return type(opened)(project, opened.meshes)


def read(opened, measure, *features):
    project = opened.project
    return measuring.read(Note("note-1", "Test", measure, features), project, opened.meshes, rest_poses(project))


def point(x, y, z, part=None):
    return Feature("point", part, (x, y, z))


def test_point_to_point_in_the_parts_own_coordinates(two):
    # the cube's corner (5, 5, 5) is at (100, 5 sqrt 2, 5) in space
    found = read(two, "distance", point(0, 0, 0), point(5, 5, 5, "part-2"))
    assert found.value == pytest.approx(np.sqrt(100**2 + 50 + 25))
    assert (found.unit, found.exact) == ("mm", True)
    assert found.drawn[0, 1] == pytest.approx([100, 5 * np.sqrt(2), 5])


def test_faces_give_their_distance_when_parallel_and_their_angle_when_not(two):
    right = Feature("plane", "part-1", (10, 0, 0), (1, 0, 0))
    left = Feature("plane", "part-1", (-10, 5, 5), (-1, 0, 0))
    slanted = Feature("plane", "part-2", (-5, 0, 0), (-1, 0, 0))
    assert read(two, "faces", right, left).value == pytest.approx(20)
    found = read(two, "faces", right, slanted)
    assert (found.value, found.unit) == (pytest.approx(135), "°")
    assert read(two, "faces", right, point(42, 3, 3)).value == pytest.approx(32)


def test_axes_give_radius_distance_and_crossing(two):
    axis = Feature("line", None, (0, 0, 0), (0, 0, 1), length=10)
    assert read(two, "axis distance", point(3, 4, 99), axis).value == pytest.approx(5)
    parallel = Feature("cylinder", None, (30, 40, 7), (0, 0, -1), 8.0, 20.0)
    assert read(two, "axis distance", axis, parallel).value == pytest.approx(50)
    skew = Feature("cylinder", None, (0, 25, 7), (1, 0, 0), 8.0, 20.0)
    found = read(two, "axis distance", axis, skew)
    assert found.value == pytest.approx(25)
    assert "90.000°" in " ".join(found.lines)
    with pytest.raises(BadInput, match="neither of the two has an axis"):
        read(two, "axis distance", point(0, 0, 0), point(1, 0, 0))


def test_round_things_give_radius_diameter_and_circumference(two):
    found = read(two, "round", Feature("cylinder", None, (0, 0, 0), (0, 0, 1), 62.5, 36.0))
    assert found.value == 62.5
    assert "392.699" in " ".join(found.lines)  # 2 pi 62.5
    fitted = read(two, "round", Feature("circle", None, (0, 0, 0), (0, 0, 1), 10.0, exact=False, residual=0.02))
    assert not fitted.exact
    assert "residual 0.0200" in " ".join(fitted.lines)
    with pytest.raises(BadInput, match="not round"):
        read(two, "round", point(0, 0, 0))


def test_nearest_points_of_two_parts(two):
    # from the box's side at x = 10 to the turned cube's edge at 100 - 5 sqrt 2
    found = read(two, "nearest", Feature("thing", "part-1"), Feature("thing", "part-2"))
    assert found.value == pytest.approx(90 - 5 * np.sqrt(2), abs=1e-4)


def test_edges_add_up(two):
    edges = topology(two.meshes[two.project.parts[0].geometry]).edges
    features = [measuring.edge_feature(topology(two.meshes[two.project.parts[0].geometry]), e, "part-1") for e in edges]
    assert read(two, "length", *features).value == pytest.approx(4 * (20 + 30 + 40))


def test_snaps_prefer_corners_then_edges_then_faces(two):
    shape = two.meshes[two.project.parts[0].geometry]
    top = next(i for i in range(12) if (shape.vertices[shape.triangles[i]][:, 2] == 20).all())

    def caught(x, y):
        return measuring.snaps_near(shape, "part-1", top, (x, y, 20.0), 1.0)[0]

    assert caught(9.6, 14.8).kind == "vertex"
    assert caught(9.6, 14.8).place == pytest.approx([10, 15, 20])
    edge = caught(9.6, 3.0)
    assert (edge.kind, edge.feature.kind, edge.feature.length) == ("edge", "line", pytest.approx(30))
    assert edge.place == pytest.approx([10, 3, 20])
    face = caught(2.0, 3.0)
    assert (face.kind, face.feature.axis) == ("face", pytest.approx((0, 0, 1)))


def test_a_round_rim_is_caught_at_its_centre_and_a_bore_at_its_axis():
    shape = placeholders.form_mesh(CylinderForm(125, 36))
    top = int(np.flatnonzero(shape.face_of == 2)[0])
    rim = measuring.snaps_near(shape, "p", top, (62.0, 0, 36), 1.0)[0]
    assert (rim.kind, rim.feature.radius, rim.feature.exact) == ("circle", 62.5, True)
    assert rim.place == pytest.approx([0, 0, 36])
    assert rim.feature.length == pytest.approx(np.pi * 125)
    side = int(np.flatnonzero(shape.face_of == 0)[0])
    middle = measuring.snaps_near(shape, "p", side, (62.5, 0, 18), 1.0)[0]
    assert (middle.kind, middle.feature.radius, middle.feature.length) == ("cylinder", 62.5, 36)
    assert middle.place == pytest.approx([0, 0, 18])


def test_a_wheel_of_the_demo_measures_exactly_what_it_was_made_with(demo):
    # made with a radius of 62.5 mm and 36 mm wide (demo/make_geometry.py)
    from kestrav.core.document.records import Project
    from kestrav.core.files.product_import import into_project, read_product

    imported = read_product(DEMO.parent / "trolley.step")
    project = into_project(Project(), imported)
    wheel = next(p for p in project.parts if p.name == "Wheel")
    shape = imported.meshes[wheel.geometry]
    largest = max((f for f in shape.faces if f.kind == "cylinder"), key=lambda f: f.radius)
    assert largest.radius == pytest.approx(62.5, abs=1e-9)


def test_the_likely_measure_of_what_was_picked():
    plane, rim, spot = Feature("plane"), Feature("circle", radius=3), Feature("point")
    assert measuring.measure_for([rim]) == "round"
    assert measuring.measure_for([plane, spot]) == "faces"
    assert measuring.measure_for([spot, rim]) == "distance"
    assert measuring.measure_for([Feature("cylinder"), spot]) == "axis distance"
    assert measuring.measure_for([Feature("thing"), Feature("thing")]) == "nearest"


def test_kept_notes_follow_their_parts_and_go_with_them(two):
    project = measuring.keep(two.project, "distance", [point(0, 0, 0, "part-1"), point(0, 0, 0, "part-2")])
    moved = placing.transform(project, ["part-2"], placing.shift((0, 0, 100)))
    (note,) = moved.notes
    assert measuring.read(note, moved, two.meshes, rest_poses(moved)).value == pytest.approx(np.hypot(100, 100))
    assert edits.remove(moved, "part-2").notes == ()


# letting down


def test_a_box_is_let_down_on_the_floor_and_on_a_table():
    opened = make_project(
        {"Box": (box_mesh(20, 20, 20), (0, 0, 500)), "Table": (box_mesh(200, 200, 40), (500, 0, 100))}
    )
    assert drop_height(opened.project, opened.meshes, ["part-1"]) == pytest.approx(490)
    over = edits.update(opened.project, "part-1", placement=Placement((550.0, 30.0, 500.0)))
    let_down = drop(over, opened.meshes, ["part-1"])
    assert let_down.parts[0].placement.position[2] == pytest.approx(130, abs=1e-3)


def test_what_lies_below_the_floor_is_lifted_onto_it():
    opened = make_project({"Box": (box_mesh(20, 20, 20), (0, 0, -300))})
    assert drop(opened.project, opened.meshes, ["part-1"]).parts[0].placement.position[2] == pytest.approx(10)


def test_a_ball_comes_to_rest_on_a_peg_off_its_middle():
    ball, peg = trimesh.creation.icosphere(subdivisions=5, radius=50), trimesh.creation.box((2, 2, 100))
    opened = make_project(
        {"Ball": (mesh(ball.vertices, ball.faces), (0, 0, 400)), "Peg": (mesh(peg.vertices, peg.faces), (30, 0, 50))}
    )
    height = drop(opened.project, opened.meshes, ["part-1"]).parts[0].placement.position[2]
    # the peg's inner edge is 29 mm from the ball's middle
    assert height == pytest.approx(100 + np.sqrt(50**2 - 29**2), abs=0.1)


def test_two_crossed_ridges_meet_edge_on_edge():
    roof = np.array([[-50, -20, 0], [50, -20, 0], [-50, 20, 0], [50, 20, 0], [-50, 0, 30], [50, 0, 30]], float)
    sides = [[0, 1, 5], [0, 5, 4], [3, 2, 4], [3, 4, 5], [0, 4, 2], [1, 3, 5], [0, 2, 3], [0, 3, 1]]
    ridge = mesh(roof, sides)
    keel = ridge.moved(np.diag([1.0, 1.0, -1.0, 1.0]))
    opened = make_project({"Keel": (keel, (0, 0, 300)), "Ridge": (ridge, (0, 0, 0))})
    crossed = placing.transform(opened.project, ["part-1"], placing.turn_about((0, 0, 0), (0, 0, 1), np.pi / 2))
    assert drop_height(crossed, opened.meshes, ["part-1"]) == pytest.approx(240, abs=2e-3)


def test_things_without_geometry_cannot_be_let_down():
    opened = make_project({"Box": (box_mesh(20, 20, 20), (0, 0, 0))})
    from kestrav.core.document.records import Part

    project = edits.add(opened.project, Part("part-9", "Empty"))
    with pytest.raises(BadInput, match="no geometry"):
        drop(project, opened.meshes, ["part-9"])
