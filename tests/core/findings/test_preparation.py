"""Findings about a product that is not ready to move, each with its mend."""

import msgspec
import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import ImportBaseline, Part, Placement, Source
from kestrav.core.findings.check import check
from kestrav.core.parts.placing import bounds_of, front_of
from kestrav.core.units import show_size

RISING = straight((0, 0, 20), (0, 0, 300))


def imported(opened, *ids):
    """The project as if these parts had come from a file."""
    parts = tuple(
        msgspec.structs.replace(p, source="source-1", baseline=ImportBaseline(p.name, p.placement, p.colour))
        if p.id in ids
        else p
        for p in opened.project.parts
    )
    return msgspec.structs.replace(opened.project, parts=parts, sources=(Source("source-1", "thing.step"),))


def found(project, opened, rule):
    return [f for f in check(project, opened.meshes).findings if f.rule == rule]


def mended(project, opened, finding):
    """The project after the mend, with the meshes it brings; it finds nothing of the kind any more."""
    after, made = finding.fix.applied(project, opened.meshes)
    opened = type(opened)(opened.project, {**opened.meshes, **made})
    assert not [
        f for f in check(after, opened.meshes).findings if (f.rule, f.subject) == (finding.rule, finding.subject)
    ]
    return after


@pytest.fixture
def opened():
    return make_project(
        {"Box": (box_mesh(20, 20, 40), (0, 0, 20)), "Post": (box_mesh(10, 10, 90), (200, 0, 45))}, RISING
    )


def test_nothing_is_wrong_with_a_tidy_product(opened):
    assert check(imported(opened, "part-1", "part-2"), opened.meshes).findings == ()


def test_a_leftover_scale_of_a_mover_is_baked(opened):
    project = edits.update(imported(opened, "part-1", "part-2"), "part-1", scale=(0.5, 0.5, 0.5))
    project = edits.update(project, "part-2", scale=(2.0, 2.0, 2.0))
    (finding,) = found(project, opened, "leftover-scale")
    assert (finding.subject, finding.value) == (("part-1",), 0.5)
    after = mended(project, opened, finding)
    assert after.parts[0].scale == (1.0, 1.0, 1.0)
    assert bounds_of(after, ["part-1"]) == pytest.approx(bounds_of(project, ["part-1"]), abs=1e-3)


def test_turned_axes_of_a_mover_are_squared(opened):
    lying = Placement((0.0, 0.0, 20.0), (0.5**0.5, 0.5**0.5, 0.0, 0.0))
    project = edits.update(imported(opened, "part-1"), "part-1", placement=lying)
    (finding,) = found(project, opened, "leftover-turn")
    assert finding.value == pytest.approx(90)
    assert "its upside points along −y" in finding.detail
    after = mended(project, opened, finding)
    _, front, up = front_of(after, "part-1")
    assert (front, up) == (pytest.approx([1, 0, 0], abs=1e-9), pytest.approx([0, 0, 1], abs=1e-9))


def test_a_front_that_somebody_chose_is_no_leftover(opened):
    turned = Placement((0.0, 0.0, 20.0), (0.5**0.5, 0.0, 0.0, 0.5**0.5))
    project = edits.update(
        imported(opened, "part-1"),
        "part-1",
        placement=turned,
        pivot=Placement(rotation=(0.5**0.5, 0.0, 0.0, -(0.5**0.5))),
    )
    assert not found(project, opened, "leftover-turn")


@pytest.mark.parametrize(
    ("size", "word", "label"), [(1.2, "very small", "metres"), (900_000.0, "very large", "micrometres")]
)
def test_an_implausible_size_is_taken_for_another_unit(size, word, label):
    opened = make_project({"Box": (box_mesh(size, size / 2, size / 2), (0, 0, size / 4))})
    project = imported(opened, "part-1")
    (finding,) = found(project, opened, "implausible-size")
    assert word in finding.title
    assert label in finding.fix.label
    mended(project, opened, finding)


def test_an_engine_of_745_metres_is_taken_for_millimetres_first_with_its_size_on_the_button():
    opened = make_project({"Engine": (box_mesh(745_000, 500_000, 400_000), (0, 0, 200_000))})
    project = imported(opened, "part-1")
    project = msgspec.structs.replace(project, sources=(Source("source-1", "engine.glb", unit=1000.0),))
    (finding,) = found(project, opened, "implausible-size")
    assert finding.fix.label == "Change unit to millimetres: 745\u2009mm" and "745\u2009m overall" in finding.detail
    assert all("micrometres" not in fix.label for fix in finding.also)
    after, made = finding.fix.applied(project, opened.meshes)
    assert bounds_of(after, ["part-1"]) == pytest.approx(np.array([[-372.5, -250, 0], [372.5, 250, 400]]), abs=0.01)
    # a change of unit, and no scale that is left behind and then complained of
    assert after.parts[0].scale == (1.0, 1.0, 1.0) and after.sources[0].unit == pytest.approx(1.0)
    moving = edits.update(after, "part-1", role="moves")
    assert not [f for f in check(moving, {**opened.meshes, **made}).findings if f.rule == "leftover-scale"]


def test_a_bearing_of_a_tenth_of_a_millimetre_is_offered_in_metres():
    opened = make_project(
        {"Ring": (box_mesh(0.1, 0.1, 0.03), (0, 0, 0.015)), "Ball": (box_mesh(0.02, 0.02, 0.02), (0.03, 0, 0.01))}
    )
    project = imported(opened, "part-1", "part-2")
    (finding,) = found(project, opened, "implausible-size")  # of all of the file at once
    assert finding.fix.label == "Change unit to metres: 100\u2009mm" and "Ring and 1 more" in finding.title
    after, _ = finding.fix.applied(project, opened.meshes)
    assert after.parts[1].placement.position[0] == pytest.approx(30.0)


@pytest.mark.parametrize(
    ("size", "said"),
    [
        (0.0007, "0.7\u2009µm"),
        (0.7, "700\u2009µm"),
        (745.0, "745\u2009mm"),
        (1200.0, "1\u20091200"[:-4] + "200\u2009mm"),
        (745e3, "745\u2009m"),
        (3.2e6, "3.2\u2009km"),
    ],
)
def test_sizes_are_told_for_people(size, said):
    assert show_size(size) == said


def test_what_is_below_the_floor_is_lifted_and_a_floor_is_no_fault():
    opened = make_project(
        {
            "Box": (box_mesh(20, 20, 40), (0, 0, 5)),
            "Slab": (box_mesh(900, 900, 80), (2000, 0, -40)),
            "Crate": (box_mesh(20, 20, 20), (2000, 0, 10)),
            "Foundation": (box_mesh(500, 500, 20), (2000, 0, -90)),
            "Sunk": (box_mesh(20, 20, 20), (300, 0, -200)),
        },
        RISING,
    )
    findings = {f.subject[0]: f for f in found(opened.project, opened, "below-floor")}
    assert set(findings) == {"part-1", "part-5"}
    after = mended(opened.project, opened, findings["part-1"])
    assert bounds_of(after, ["part-1"])[0, 2] == pytest.approx(0, abs=1e-9)


def test_empty_assemblies_and_sheets_are_told_and_removed(opened):
    flat = make_project({"Box": (box_mesh(20, 20, 40), (0, 0, 20))})
    sheet = msgspec.structs.replace(flat.project.geometry[0], low=(-10.0, -10.0, 0.0), high=(10.0, 10.0, 0.0))
    project = msgspec.structs.replace(flat.project, geometry=(sheet,))
    (finding,) = found(project, flat, "degenerate-geometry")
    assert finding.value == 0.0
    project = edits.add(opened.project, Part("part-8", "Empty"), Part("part-9", "Inside", "part-8"))
    (finding,) = found(project, opened, "empty-assembly")
    assert finding.subject == ("part-8",)
    assert len(mended(project, opened, finding).parts) == 2


def test_twins_in_one_place_are_found_and_one_removed(opened):
    twin = msgspec.structs.replace(opened.project.parts[1], id="part-7", name="Post again")
    project = edits.add(opened.project, twin)
    (finding,) = found(project, opened, "same-place")
    assert finding.subject == ("part-7", "part-2")
    assert [p.name for p in mended(project, opened, finding).parts] == ["Box", "Post"]


def test_a_thing_far_away_is_brought_to_the_origin(opened):
    project = edits.update(opened.project, "part-2", placement=Placement((2e6, 0.0, 5e5)))
    (finding,) = found(project, opened, "far-away")
    after = mended(project, opened, finding)
    assert bounds_of(after, ["part-2"]) == pytest.approx(bounds_of(after, ["part-2"]) * [[1, 1, 1], [1, 1, 1]])
    assert bounds_of(after, ["part-2"])[0, 2] == pytest.approx(0, abs=1e-6)


def test_roles_that_do_not_fit_the_runs_are_told(opened):
    project = edits.update(edits.update(opened.project, "part-1", role="fixed"), "part-2", role="moving")
    (finding,) = found(project, opened, "fixed-moves")
    assert mended(project, opened, finding).parts[0].role == ""
    (standing,) = found(project, opened, "moving-without-motion")
    assert standing.severity == "note"


def test_a_pivot_off_something_meant_to_move_is_found_before_it_has_a_run(opened):
    project = edits.update(opened.project, "part-2", role="moving", pivot=Placement((0.0, 300.0, 0.0)))
    assert [f.subject for f in found(project, opened, "pivot-outside")] == [("part-2",)]


def test_how_a_part_lies_in_its_product_is_no_finding(opened):
    # a part of several that came in one file: turned, and reaching below height 0
    lying = Placement((0.0, 0.0, 5.0), (0.5**0.5, 0.5**0.5, 0.0, 0.0))
    alone = edits.update(imported(opened, "part-1"), "part-1", placement=lying)
    assert found(alone, opened, "leftover-turn") and found(alone, opened, "below-floor")
    several = edits.update(imported(opened, "part-1", "part-2"), "part-1", placement=lying)
    assert not found(several, opened, "leftover-turn") and not found(several, opened, "below-floor")
