"""Who refers to whom: removal, dissolving assemblies and other ids, in projects that use every kind of reference."""

import typing

import msgspec
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings, strategies as st
from shapes import box_mesh, straight

from kestrav.core.document import edits, references
from kestrav.core.document.base import Ref
from kestrav.core.document.lookup import find, items, stands_at, subtree
from kestrav.core.document.records import (
    COLLECTIONS,
    AlongOrientation,
    Attachment,
    Axle,
    Ball,
    Camera,
    Castor,
    Colourway,
    Comment,
    Contact,
    ContactTrigger,
    Coupled,
    End,
    Fade,
    Feature,
    Finish,
    FinishRule,
    Focus,
    Following,
    Gear,
    GivenFinish,
    Hold,
    KeyPose,
    Light,
    Note,
    OnPicture,
    OrbitShape,
    Part,
    PartAim,
    Path,
    PathAim,
    Pin,
    Placement,
    PoseTrack,
    Project,
    Requirement,
    Rod,
    Run,
    Shot,
    Step,
    StepSheet,
    SurfaceShape,
    Swept,
    TimedRotation,
    TowardOrientation,
    Trigger,
    Wheel,
)
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput
from kestrav.core.files.product_tree import Imported
from kestrav.core.files.refresh import replace
from kestrav.core.parts.arranging import ungroup
from kestrav.core.parts.rest import rest_poses
from kestrav.core.parts.solids import geometry_record

BOX = box_mesh(20, 20, 20)
UP = Axle((0, 0, 0), (0, 0, 1))
TURN = (float(np.cos(0.4)), 0.0, float(np.sin(0.4)), 0.0)


def every_kind() -> Project:
    """A project in which everything that can name something does."""
    parts = [
        Part("asm", "Assembly", placement=Placement((1000, 0, 0), TURN)),
        Part("sub", "Inner", "asm", Placement((0, 50, 0))),
    ]
    parts += [
        Part(f"p{k}", f"Part {k}", ("asm", "sub", None)[k % 3], Placement((5.0 + 7 * k, k, 0), TURN), geometry=BOX.hash)
        for k in range(16)
    ]
    parts[2] = edits.change(parts[2], finish="f1")
    parts.append(Part("swept", "Swept", geometry=BOX.hash, swept=Swept("p0", 0.0, 1.0, 1.0, "x")))
    lying = SurfaceShape(
        "p3",
        ((0.0, 0.0, 10.0), (5.0, 0.0, 10.0)),
        samples=((0.0, 0.0, 10.0), (5.0, 0.0, 10.0)),
        marks=(0, 1),
        solid="x",
    )
    around = OrbitShape(("p4", "asm"), ((0.0, 0.0), (10.0, 0.0), (10.0, 10.0), (0.0, 10.0)))
    paths = [
        Path("way", "Way", straight((0, 0, 0), (100, 0, 0), (200, 50, 0))),
        Path("on", "On", lying),
        Path("orbit", "Orbit", around),
    ]
    runs = [
        Run(
            "r1",
            "First",
            "p5",
            "way",
            companions=("p6",),
            holds=(Hold(0.5, 0.1, PartAim("p7")),),
            orientation=AlongOrientation(),
        ),
        Run("r2", "Second", "p8", "way", orientation=TowardOrientation(aim=PartAim("p9")), trigger=Trigger("r1")),
        Run("r3", "Third", "p10", "on", follows=Following("r1", 5.0)),
        Run("r4", "Fourth", "cam2", "orbit", trigger=ContactTrigger("p5", "p11")),
    ]
    made = Project(
        parts=tuple(parts),
        geometry=(geometry_record(BOX),),
        paths=tuple(paths),
        runs=tuple(runs),
        pose_tracks=(PoseTrack("k1", "Keys", "p11", (KeyPose(0.0),), trigger=Trigger("r2")),),
        attachments=(
            Attachment("c1", "Carry", "p12", "p8", end=1.0, put=Placement(), onto="p13"),
            Attachment("c2", "Lamp", "light", "p5", trigger=Trigger("r1")),
        ),
        cameras=(
            Camera("cam1", "Eye", PartAim("p1"), subject="asm", fades=(Fade("p2", 0.0, 1.0), Fade("sub", 0.0, 1.0))),
            Camera("cam2", "Chase", PathAim("way"), subject="p3", focus=Focus(part="p1")),
        ),
        lights=(Light("light", "Lamp", aim=PartAim("p4")),),
        shots=(Shot("s1", "Shot", "cam1", shows=OnPicture(labels=("p5", "asm"))), Shot("s2", "Other", "cam2", colourway="way1")),
        contacts=(Contact("p0", "p1"), Contact("p14", "p15", False)),
        requirements=(Requirement("q1", "Apart", ("p0", "sub"), ("p1",)), Requirement("q2", "All", ("p2",))),
        notes=(Note("n1", "Gap", "distance", (Feature("point", "p0"), Feature("point", "p1"))), Note("n2", "R", "round", (Feature("circle"),))),
        wheels=(Wheel("w1", "Wheel", "p6"),),
        castors=(Castor("v1", "Castor", "p7"),),
        rotations=(TimedRotation("t1", "Spin", "p0", UP, trigger=Trigger("r1")),),
        gears=(Gear("d1", "Gears", End("p0", UP, 20), End("p1", UP, 30)),),
        rods=(
            Rod("o1", "Rod", "p2", Pin("p0"), (0, 0, 0), (50, 0, 0), "level", coupled=(Coupled("p3", UP), Coupled("p4", UP))),
            Rod("o2", "Slider", "p14", Pin("p0"), (0, 0, 0), (50, 0, 0), "slider", Pin("p15")),
        ),
        finishes=(Finish("f1", "Paint"),),
        finish_rules=(FinishRule("u1", "Rule", "part", "f1"),),
        colourways=(Colourway("way1", "Other", (GivenFinish("p1", "f1"),)),),
        comments=(Comment("said1", "Said", "R. Viewer", "Too near", parts=("p1", "p2")),),
        sheets=(StepSheet("sheet1", "Sheet", (Step(("r2", "k1"), "Both"), Step(("k1",), "One"))),),
        balls=(Ball("b1", "Ball", "p9", on="p13", normals=((0.0, 0.0, 1.0),) * 3, until=1.0),),
    )  # fmt: skip
    return validate(made)


PROJECT = every_kind()
IDS = [item.id for item in items(PROJECT)]


def kinds_of_fields(kind, seen):
    """All fields of records, from a kind on, that hold ids."""
    if kind in seen:
        return
    seen.add(kind)
    for hint in typing.get_type_hints(kind, include_extras=True).values():
        stack = [hint]
        while stack:
            here = stack.pop()
            stack += [a for a in typing.get_args(here) if not isinstance(a, Ref)]
            if isinstance(here, type) and issubclass(here, msgspec.Struct):
                kinds_of_fields(here, seen)


def test_every_kind_of_reference_is_used_in_what_is_tried_here():
    kinds: set[type] = set()
    for kind in (*COLLECTIONS, Contact):
        kinds_of_fields(kind, kinds)
    declared = {(kind, name) for kind in kinds for name, node in references._plan(kind) if not node.records}
    used = set()

    def look(record):
        for name, node in references._plan(type(record)):
            value = getattr(record, name)
            if value and not node.records:
                used.add((type(record), name))
            for inner in value if isinstance(value, tuple) else (value,):
                if isinstance(inner, msgspec.Struct):
                    look(inner)

    for item in (*items(PROJECT), *PROJECT.contacts):
        look(item)
    plain = {
        (kind, name)
        for kind, name in declared
        if not any(n == name and d.several and d.several.records for n, d in references._plan(kind))
    }
    assert plain <= used


def stands(project):
    return dict(zip([p.id for p in project.parts], rest_poses(project), strict=True))


def as_before(after, before):
    """Check that what stays stands where it did, and that nothing names what is gone."""
    validate(after)
    for part_id, pose in stands(after).items():
        if part_id in before:
            assert pose == pytest.approx(before[part_id], abs=1e-9)
    known = {item.id for item in items(after)}
    for record in (*items(after), *after.contacts):
        assert {r.id for r in references.references(record)} <= known


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(
    st.lists(st.tuples(st.sampled_from(["remove", "remove", "ungroup", "replace"]), st.sampled_from(IDS)), max_size=8)
)
def test_whatever_is_removed_dissolved_or_replaced_leaves_a_whole_project(steps):
    project = PROJECT
    other = box_mesh(10, 12, 14)
    for how, target in steps:
        if find(project, target) is None:
            continue
        before = stands(project)
        try:
            if how == "remove":
                project = edits.remove(project, target)
            elif how == "ungroup":
                project = ungroup(project, target)
            else:
                inside = set(subtree(project, target)) if find(project, target).__class__ is Part else set()
                imported = Imported("new.step", (Part("n", "New", geometry=other.hash),), {other.hash: other})
                project = replace(project, target, imported)
                before = {i: p for i, p in before.items() if i not in inside}
        except BadInput as fault:
            assert "asm" not in str(fault).split("“") and " id " not in str(fault)
            continue
        as_before(project, before)


def test_what_aimed_at_a_nested_part_aims_at_where_that_stood_in_the_room():
    made = Project(
        parts=(Part("asm", "A", placement=Placement((1000, 0, 0))), Part("in", "In", "asm", Placement((5, 0, 0))))
    )
    made = edits.add(made, Camera("cam", "Eye", PartAim("in")))
    assert edits.remove(made, "in").cameras[0].aim.point == (1005.0, 0.0, 0.0)
    # turned and nested as deep as may be, it is as the poses say
    for part in PROJECT.parts:
        assert stands_at(PROJECT, part.id) == pytest.approx(stands(PROJECT)[part.id][:3, 3], abs=1e-9)


def test_an_assembly_that_is_a_subject_is_not_dissolved_and_the_message_names_who_needs_it():
    with pytest.raises(BadInput, match="“Assembly” is used by"):
        ungroup(PROJECT, "asm")
    made = Project(parts=(Part("asm", "A"), Part("in", "In", "asm")))
    made = edits.add(made, Camera("cam", "Eye", subject="asm", aim=PartAim("in")))
    with pytest.raises(BadInput, match="“A” is used by “Eye”"):
        ungroup(made, "asm")


def test_other_ids_are_put_in_wherever_they_stand():
    ids = {f"p{k}": f"x{k}" for k in range(16)} | {
        "asm": "xasm",
        "sub": "xsub",
        "r1": "xr1",
        "way": "xway",
        "cam1": "xcam1",
    }
    for item in (*items(PROJECT), *PROJECT.contacts):
        told = [r.id for r in references.references(item)]
        assert [r.id for r in references.references(references.renamed(item, ids))] == [ids.get(i, i) for i in told]
        assert references.renamed(item, {}) is item
