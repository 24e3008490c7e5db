"""Placing, pivots, grouping, copies and placeholders: what is edited moves, what is not stays."""

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.spatial.transform import Rotation
from shapes import box_mesh, make_project

from kestrav.core.document import edits
from kestrav.core.document.lookup import get, subtree
from kestrav.core.document.records import (
    BoxForm,
    CylinderForm,
    FloorForm,
    Part,
    Path as PathRecord,
    Placement,
    Run,
    SphereForm,
    WallForm,
)
from kestrav.core.editing.finishing import taken
from kestrav.core.errors import BadInput
from kestrav.core.finishes.shelf import BY_NAME
from kestrav.core.geometry.transforms import apply, rigid
from kestrav.core.parts import arranging, placeholders, placing
from kestrav.core.parts.rest import rest_poses
from kestrav.core.parts.solids import solid_mesh

TURN = Rotation.from_euler("zyx", [0.7, -0.4, 0.3])


@pytest.fixture
def nested():
    """Three boxes; two of them under a turned assembly within a shifted one."""
    opened = make_project(
        {
            "Lid": (box_mesh(40, 20, 10), (100.0, 0.0, 5.0)),
            "Tray": (box_mesh(60, 40, 30), (0.0, 0.0, 15.0)),
            "Knob": (box_mesh(10, 10, 10), (0.0, 0.0, 40.0)),
        }
    )
    w, x, y, z = TURN.as_quat(scalar_first=True)
    outer = Part("part-8", "Outer", placement=Placement((500.0, 0.0, 0.0)))
    inner = Part("part-9", "Inner", "part-8", Placement((0.0, 200.0, 0.0), (w, x, y, z)))
    lid, tray, knob = opened.project.parts
    parts = (outer, inner, edits.change(tray, parent="part-9"), edits.change(knob, parent="part-9"), lid)
    return type(opened)(edits.change(opened.project, parts=parts), opened.meshes)


def world(project):
    return dict(zip([p.id for p in project.parts], rest_poses(project), strict=True))


def same_places(before, after, ids=None):
    old, new = world(before), world(after)
    return all(np.allclose(old[i], new[i], atol=1e-9) for i in ids or old)


# the tree


def test_a_part_put_under_another_parent_stays_where_it_is(nested):
    project = arranging.reparent(nested.project, ["part-1"], "part-9")
    assert get(project, "part-1").parent == "part-9"
    assert same_places(nested.project, project)
    back = arranging.reparent(project, ["part-1", "part-3"], None)
    assert get(back, "part-3").parent is None
    assert same_places(nested.project, back)


def test_parts_keep_their_order_and_can_be_put_before_another(nested):
    project = arranging.reparent(nested.project, ["part-1"], "part-9", before="part-3")
    order = [p.id for p in project.parts if p.parent == "part-9"]
    assert order == ["part-2", "part-1", "part-3"]


@pytest.mark.parametrize(
    ("ids", "parent", "message"),
    [
        (["part-8"], "part-9", "into itself"),
        (["part-9"], "part-9", "into itself"),
        (["part-1"], "part-2", "is a solid"),
    ],
)
def test_impossible_parents_are_refused(nested, ids, parent, message):
    with pytest.raises(BadInput, match=message):
        arranging.reparent(nested.project, ids, parent)


def test_a_group_holds_what_was_chosen_where_it_was_and_ungrouping_undoes_it(nested):
    project = arranging.group(nested.project, ["part-2", "part-1"], "Set")
    made = next(p for p in project.parts if p.name == "Set")
    assert made.parent is None
    assert {p.id for p in project.parts if p.parent == made.id} == {"part-1", "part-2"}
    assert same_places(nested.project, project, [p.id for p in nested.project.parts])
    pivot, _, _ = placing.front_of(project, made.id)
    assert pivot == pytest.approx(placing.bounds_of(nested.project, ["part-1", "part-2"]).mean(axis=0), abs=1e-3)
    again = arranging.ungroup(project, made.id)
    assert made.id not in {p.id for p in again.parts}
    assert same_places(nested.project, again)


def test_an_assembly_with_a_run_is_not_dissolved(nested):
    project = edits.add(nested.project, PathRecord("path-1", "Way", _line()), Run("run-1", "Trip", "part-9", "path-1"))
    with pytest.raises(BadInput, match="used by “Trip”"):
        arranging.ungroup(project, "part-9")


def _line():
    from shapes import straight

    return straight((0, 0, 0), (100, 0, 0))


# moving and turning


def test_moving_an_assembly_moves_all_below_it_in_space(nested):
    project = placing.transform(nested.project, ["part-9", "part-2"], placing.shift((10, 20, 30)))
    old, new = world(nested.project), world(project)
    for i in subtree(project, "part-9"):
        assert new[i][:3, 3] - old[i][:3, 3] == pytest.approx([10, 20, 30])
    assert same_places(nested.project, project, ["part-1", "part-8"])


@settings(max_examples=30, deadline=None)
@given(angle=st.floats(-6, 6), axis=st.tuples(*[st.floats(-1, 1)] * 3), point=st.tuples(*[st.floats(-500, 500)] * 3))
def test_a_turn_keeps_its_axis_and_every_distance_to_it(angle, axis, point):
    if np.linalg.norm(axis) < 1e-3:
        return
    matrix = placing.turn_about(point, axis, angle)
    for along in (-50.0, 0.0, 80.0):
        on = np.array(point) + along * np.array(axis)
        assert apply(matrix, on[None])[0] == pytest.approx(on, abs=1e-7)
    assert np.linalg.det(matrix[:3, :3]) == pytest.approx(1.0)


def test_what_is_fixed_is_not_moved_nor_what_lies_in_it(nested):
    project = edits.update(nested.project, "part-8", role="fixed")
    with pytest.raises(BadInput, match="“Outer” is marked as fixed"):
        placing.transform(project, ["part-2"], placing.shift((1, 0, 0)))


# aligning


def test_one_face_is_laid_on_another(random):
    for _ in range(20):
        normal, target = (v / np.linalg.norm(v) for v in random.normal(size=(2, 3)))
        point, place = random.uniform(-100, 100, (2, 3))
        matrix = placing.face_onto(point, normal, place, target)
        assert matrix[:3, :3] @ normal == pytest.approx(-target, abs=1e-9)
        assert (apply(matrix, point[None])[0] - place) @ target == pytest.approx(0, abs=1e-9)
    flipped = placing.face_onto((0, 0, 0), (0, 0, 1), (5, 5, 9), (0, 0, 1), flip=True)
    assert flipped[:3, 3] == pytest.approx([0, 0, 9])


def test_opposite_normals_need_no_turn_and_equal_ones_turn_half():
    assert placing.face_onto((0, 0, 0), (0, 0, -1), (0, 0, 3), (0, 0, 1))[:3, :3] == pytest.approx(np.eye(3))
    half = placing.face_onto((0, 0, 0), (0, 0, 1), (0, 0, 3), (0, 0, 1))[:3, :3]
    assert np.trace(half) == pytest.approx(-1.0)


def test_an_axis_is_laid_on_another_with_the_least_turn(random):
    for _ in range(20):
        axis, line = (v / np.linalg.norm(v) for v in random.normal(size=(2, 3)))
        point, place = random.uniform(-100, 100, (2, 3))
        matrix = placing.axis_onto(point, axis, place, line)
        assert abs(matrix[:3, :3] @ axis @ line) == pytest.approx(1.0)
        moved = apply(matrix, point[None])[0]
        assert np.linalg.norm(np.cross(moved - place, line)) == pytest.approx(0, abs=1e-9)
        assert (moved - point) @ line == pytest.approx(0, abs=1e-9)


@pytest.mark.parametrize("count", [1, 2, 3])
def test_points_go_to_their_partners(random, count):
    first = random.uniform(-100, 100, (count, 3))
    motion = rigid(Rotation.random(rng=random).as_matrix(), random.uniform(-50, 50, 3))
    second = apply(motion, first)
    matrix = placing.points_onto(list(first), list(second))
    assert apply(matrix, first) == pytest.approx(second, abs=1e-9)
    if count == 3:
        assert matrix == pytest.approx(motion, abs=1e-9)


def test_points_that_give_no_direction_are_refused():
    with pytest.raises(BadInput, match="in one place"):
        placing.points_onto([(0, 0, 0), (0, 0, 0)], [(0, 0, 0), (1, 0, 0)])
    with pytest.raises(BadInput, match="on a line"):
        placing.points_onto([(0, 0, 0), (1, 0, 0), (2, 0, 0)], [(0, 0, 0), (1, 0, 0), (0, 1, 0)])


# scaling and baking


def test_scaling_an_assembly_scales_every_distance_about_its_pivot(nested):
    project = edits.update(nested.project, "part-9", pivot=Placement((5.0, 0.0, 0.0)))
    pivot, *_ = placing.front_of(project, "part-9")
    grown = placing.scale(project, "part-9", 2.5)
    for i in ("part-2", "part-3"):
        before = apply(world(project)[i], solid_mesh(nested.meshes, get(project, i)).vertices)
        after = apply(world(grown)[i], solid_mesh(nested.meshes, get(grown, i)).vertices)
        assert after - pivot == pytest.approx(2.5 * (before - pivot), abs=1e-3)
    assert placing.front_of(grown, "part-9")[0] == pytest.approx(pivot)


def test_scaling_to_a_known_length_and_refusing_none(nested):
    project = placing.scale_to(nested.project, "part-1", 40.0, 62.0)
    assert np.ptp(placing.bounds_of(project, ["part-1"]), axis=0)[0] == pytest.approx(62.0, abs=1e-6)
    with pytest.raises(BadInput, match="above 0"):
        placing.scale(nested.project, "part-1", 0.0)


@pytest.mark.parametrize("which", ["part-2", "part-9"])
def test_baking_moves_nothing_and_leaves_no_scale_or_turn(nested, which):
    project = placing.scale(nested.project, "part-9", 1.5)
    project = placing.transform(project, ["part-2"], placing.turn_about((0, 0, 0), (1, 1, 0), 0.6))
    baked, made = placeholders.bake(project, nested.meshes, which)
    meshes = {**nested.meshes, **{m.hash: m for m in made}}
    assert get(baked, which).placement.rotation == (1.0, 0.0, 0.0, 0.0)
    for i in subtree(baked, which):
        if get(baked, i).geometry is None:
            continue
        assert get(baked, i).scale == (1.0, 1.0, 1.0)
        before = apply(world(project)[i], solid_mesh(nested.meshes, get(project, i)).vertices)
        after = apply(world(baked)[i], meshes[get(baked, i).geometry].vertices)
        ordered = [p[np.lexsort(np.round(p, 1).T)] for p in (before, after)]
        assert ordered[1] == pytest.approx(ordered[0], abs=0.01)
    old, new = placing.front_of(project, which), placing.front_of(baked, which)
    for a, b in zip(old, new, strict=True):
        assert a == pytest.approx(b, abs=1e-6)


# pivots and fronts


def test_a_pivot_at_a_point_moves_nothing_else(nested):
    project = placing.pivot_at(nested.project, "part-2", (480, 210, 33))
    assert placing.front_of(project, "part-2")[0] == pytest.approx([480, 210, 33], abs=1e-5)
    assert same_places(nested.project, project)


@pytest.mark.parametrize(("side", "share"), placing.BOX_SIDES.items())
def test_a_pivot_in_the_middle_of_a_side_of_the_box(nested, side, share):
    low, high = placing.bounds_of(nested.project, ["part-9"])
    project = placing.pivot_at_side(nested.project, "part-9", side)
    assert placing.front_of(project, "part-9")[0] == pytest.approx(low + np.array(share) * (high - low), abs=1e-4)


def test_front_and_upside_are_kept_as_the_axes_of_the_pivot(nested):
    project = placing.set_front(nested.project, "part-2", front=(0, -1, 0))
    _, front, up = placing.front_of(project, "part-2")
    assert front == pytest.approx([0, -1, 0], abs=1e-9)
    assert front @ up == pytest.approx(0, abs=1e-9)
    project = placing.set_front(project, "part-2", up=(0, 0, 1))
    _, front, up = placing.front_of(project, "part-2")
    assert (front, up) == (pytest.approx([0, -1, 0], abs=1e-9), pytest.approx([0, 0, 1], abs=1e-9))
    # the new front lies along the old upside: the third axis takes its part
    project = placing.set_front(project, "part-2", front=(0, 0, 1))
    _, front, up = placing.front_of(project, "part-2")
    assert front == pytest.approx([0, 0, 1], abs=1e-9)
    assert abs(front @ up) < 1e-9
    with pytest.raises(BadInput, match="along each other"):
        placing.set_front(project, "part-2", (1, 0, 0), (1, 0, 0))
    assert same_places(nested.project, project)


# copies


def test_linked_copies_share_geometry_and_follow_looks(nested):
    project = arranging.copy(nested.project, ["part-9"], arranging.array_steps((0, 300, 0), 4))
    copies = [p for p in project.parts if p.parent == "part-8" and p.id != "part-9"]
    assert [c.name for c in copies] == ["Inner 2", "Inner 3", "Inner 4"]
    assert len(project.geometry) == 3
    for k, made in enumerate(copies, 1):
        assert world(project)[made.id][:3, 3] - world(project)["part-9"][:3, 3] == pytest.approx([0, 300 * k, 0])
    project, rubber = taken(project, BY_NAME["Rubber"])
    painted = edits.restyle(project, ["part-2"], colour="#112233", finish=rubber)
    trays = [p for p in painted.parts if p.name == "Tray"]
    assert {(p.colour, p.finish) for p in trays} == {("#112233", rubber)}
    assert len(trays) == 4


def test_independent_copies_do_not_follow(nested):
    project = arranging.copy(nested.project, ["part-1"], [placing.shift((50, 0, 0))], linked=False)
    painted = edits.restyle(project, ["part-1"], colour="#112233")
    assert painted.parts[-1].name == "Lid 2"
    assert painted.parts[-1].colour != "#112233"


def test_arrays_along_a_line_turn_with_it():
    places = [(0, 0, 0), (100, 0, 0), (100, 100, 0)]
    tangents = [(1, 0, 0), (1, 0, 0), (0, 1, 0)]
    matrices = arranging.array_places((0, 0, 0), places, tangents)
    assert matrices[2][:3, :3] @ [1, 0, 0] == pytest.approx([0, 1, 0])
    assert matrices[2][:3, 3] == pytest.approx([100, 100, 0])


@pytest.mark.parametrize(("step", "count", "message"), [((0, 0, 0), 3, "0 mm"), ((1, 0, 0), 1, "2 or more")])
def test_arrays_of_nothing_are_refused(step, count, message):
    with pytest.raises(BadInput, match=message):
        arranging.array_steps(step, count)


def test_too_many_copies_are_refused(nested):
    with pytest.raises(BadInput, match="at a time is the most"):
        arranging.copy(nested.project, ["part-9"], arranging.array_steps((1, 0, 0), 5000))


# placeholders

VOLUMES = {
    BoxForm(400, 300, 200): 400 * 300 * 200,
    FloorForm(1000, 2000, 20): 1000 * 2000 * 20,
    CylinderForm(200, 300): np.pi * 100**2 * 300,
    SphereForm(200): 4 / 3 * np.pi * 100**3,
    WallForm(3000, 2500, 120, 900, 2050, 1050, 0): (3000 * 2500 - 900 * 2050) * 120,
    WallForm(3000, 2500, 120, 900, 600, 0, 900): (3000 * 2500 - 900 * 600) * 120,
    WallForm(3000, 2500, 120, 900, 600, 1000, 900): (3000 * 2500 - 900 * 600) * 120,
}


@pytest.mark.parametrize("form", VOLUMES, ids=lambda f: type(f).__name__)
def test_stand_ins_are_closed_and_have_their_volumes_and_faces(form):
    shape = placeholders.form_mesh(form)
    assert shape.watertight
    assert shape.volume == pytest.approx(VOLUMES[form], rel=3e-3)
    assert shape.bounds[0, 2] == pytest.approx(-20 if isinstance(form, FloorForm) else 0, abs=1e-3)
    for number, face in enumerate(shape.faces):
        corners = shape.vertices[np.unique(shape.triangles[shape.face_of == number])]
        assert len(corners)
        assert face.distance(corners).max() < 1e-3


def test_a_placeholder_is_added_reshaped_and_its_linked_copies_follow():
    opened = make_project({"Base": (box_mesh(10, 10, 10), (0, 0, 0))})
    project, shape = placeholders.add_form(opened.project, CylinderForm(), (100, 0, 0))
    made = project.parts[-1]
    project = arranging.copy(project, [made.id], [placing.shift((0, 400, 0))])
    project, taller = placeholders.reshape(project, made.id, CylinderForm(200, 500))
    assert {p.geometry for p in project.parts[-2:]} == {taller.hash}
    assert shape.hash not in {g.hash for g in project.geometry}


@pytest.mark.parametrize("form", [BoxForm(0, 1, 1), SphereForm(-5), WallForm(offset=2500)])
def test_impossible_stand_ins_are_refused(form):
    with pytest.raises(BadInput):
        placeholders.form_mesh(form)


@pytest.mark.parametrize(("factor", "message"), [(1e9, "larger than 1000 km"), (1e-5, "smaller than 0.01 mm")])
def test_scales_beyond_what_coordinates_can_hold_are_refused(nested, factor, message):
    with pytest.raises(BadInput, match=message):
        placing.scale(nested.project, "part-9", factor)
