"""Bending a path away from what its rider comes too near to."""

import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.clearance.bending import bent_away, can_bend
from kestrav.core.clearance.certificate import certify
from kestrav.core.document import edits
from kestrav.core.document.records import EllipseShape, Path, Run
from kestrav.core.errors import BadInput
from kestrav.core.findings.check import certified, check, with_fixes


def passing_by(beside):
    """A cube of 20 mm that passes a post of 10 mm so far beside its way."""
    return make_project(
        {"Cube": (box_mesh(20, 20, 20), (0, 0, 0)), "Post": (box_mesh(10, 10, 60), (200, beside, 0))},
        straight((0, 0, 0), (100, 0, 0), (200, 0, 0), (300, 0, 0), (400, 0, 0), kind="smooth"),
        duration=2.0,
    )


def between_posts():
    """A cube of 20 mm that passes between two walls that are 26 mm apart, where 5 mm are required on both sides."""
    return make_project(
        {
            "Cube": (box_mesh(20, 20, 20), (0, 0, 0)),
            "One": (box_mesh(30, 10, 900), (200, 18, 0)),
            "Two": (box_mesh(30, 10, 900), (200, -18, 0)),
        },
        straight((0, 0, 0), (100, 0, 0), (200, 0, 0), (300, 0, 0), (400, 0, 0), kind="smooth"),
        duration=2.0,
    )


def moves(before, after):
    return np.array(
        [
            np.subtract(b.position, a.position)
            for a, b in zip(before.paths[0].shape.points, after.paths[0].shape.points, strict=True)
        ]
    )


def test_the_points_near_the_post_go_aside_and_the_ends_stay():
    made = passing_by(18.0)  # 3 mm where 5 are required
    bent = bent_away(made.project, made.meshes, "run-1")
    step = moves(made.project, bent)
    assert np.allclose(step[[0, -1]], 0)
    assert step[2, 1] == pytest.approx(-2.0, abs=0.4) and np.abs(step).max() < 2.6  # no more than needed
    assert certify(bent, made.meshes).status == "certified"
    assert bent_away(bent, made.meshes, "run-1") is bent


def test_where_it_cannot_be_bent_it_says_why():
    made = passing_by(18.0)
    two = edits.update(made.project, "path-1", shape=straight((0, 0, 0), (400, 0, 0)))
    assert not can_bend(two, two.runs[0])
    with pytest.raises(BadInput, match="no point between its ends"):
        bent_away(two, made.meshes, "run-1")
    narrow = between_posts()
    with pytest.raises(BadInput, match="does not clear it"):
        bent_away(narrow.project, narrow.meshes, "run-1")
    round_ = edits.update(made.project, "path-1", shape=EllipseShape((200.0, 0.0, 0.0), 200.0, 200.0))
    assert not can_bend(round_, round_.runs[0])


def test_the_mend_of_a_breach_bends_the_path_with_a_certificate():
    made = passing_by(18.0)
    told = certified(made.project, made.meshes, check(made.project, made.meshes))
    (fault,) = [f for f in told.findings if f.rule == "clearance-breach"]
    assert fault.fix.label == "Bend path away" and "of Path by up to" in fault.fix.detail
    mended = fault.fix.edit(made.project)
    again = certified(mended, made.meshes, check(mended, made.meshes))
    assert again.status == "certified" and not again.has_breach
    with pytest.raises(BadInput, match="other points by now"):
        fault.fix.edit(edits.delete_point(made.project, "path-1", 1))
    # what is required where the opening is too small says why it has none
    made = between_posts()
    told = certified(made.project, made.meshes, check(made.project, made.meshes))
    faults = [f for f in told.findings if f.rule == "clearance-breach"]
    assert faults and all(f.fix is None and f.detail.count("cannot be bent away") == 1 for f in faults)


def test_fixes_need_not_wait_for_the_proof_and_stay_with_it():
    made = passing_by(18.0)
    sampled = check(made.project, made.meshes)
    assert sampled.fixes is None and all(f.fix is None for f in sampled.findings if f.rule == "clearance-breach")
    fixed = with_fixes(made.project, made.meshes, sampled)
    (fault,) = [f for f in fixed.findings if f.rule == "clearance-breach"]
    assert fixed.certificate is None and fault.fix.label == "Bend path away"
    proved = certified(made.project, made.meshes, fixed)
    assert proved.certificate is not None and fault in proved.findings
    assert with_fixes(made.project, made.meshes, proved) is proved


def test_raising_is_offered_where_what_is_near_lies_below():
    made = make_project(
        {"Cube": (box_mesh(20, 20, 20), (0, 0, 0)), "Sill": (box_mesh(30, 400, 10), (200, 0, -18.0))},
        straight((0, 0, 0), (100, 0, 0), (200, 0, 0), (300, 0, 0), (400, 0, 0), kind="smooth"),
        duration=2.0,
    )
    result = certified(made.project, made.meshes, check(made.project, made.meshes))
    (fault,) = [f for f in result.findings if f.rule == "clearance-breach"]
    fixes = {fix.label: fix for fix in (fault.fix, *fault.also)}
    assert "Delay the run" not in fixes  # a sill waits for ever
    up = fixes["Raise the path"]
    clear = up.edit(made.project)
    assert certify(clear, made.meshes).status == "certified"
    assert moves(made.project, clear)[[0, -1]] == pytest.approx(0.0)
    assert moves(made.project, clear)[2, 2] == pytest.approx(2.0, abs=0.2)  # 3 mm where 5 are required
    assert "mm" in up.detail


def test_delaying_is_offered_where_the_other_one_moves_out_of_the_way():
    made = make_project(
        {"Cube": (box_mesh(20, 20, 20), (0, 0, 0)), "Cart": (box_mesh(20, 20, 20), (200, 0, 0))},
        straight((0, 0, 0), (100, 0, 0), (200, 0, 0), (300, 0, 0), (400, 0, 0), kind="smooth"),
        duration=2.0,
    )
    project = edits.add(
        made.project,
        Path("path-2", "Aside", straight((200, 0, 0), (200, 300, 0))),
        Run("run-2", "Cart goes", "part-2", "path-2", start=1.0, duration=2.0),
    )
    result = certified(project, made.meshes, check(project, made.meshes))
    fault = next(f for f in result.findings if f.rule == "collision")
    wait = next(fix for fix in (fault.fix, *fault.also) if fix is not None and fix.label == "Delay the run")
    later = wait.edit(project)
    assert later.runs[0].start > 0 and certify(later, made.meshes).status == "certified"
    assert later.runs[0].start * project.settings.fps == pytest.approx(
        round(later.runs[0].start * project.settings.fps)
    )
