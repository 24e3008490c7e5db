"""What is required of pairs and groups, what came of it, and the table of breaches."""

import csv
import io

import numpy as np
import pytest
from shapes import box_mesh
from test_certificate import goes, scene

from kestrav.core.clearance.breaches import outcomes, rows_of
from kestrav.core.clearance.certificate import certify
from kestrav.core.clearance.sweep import sweep
from kestrav.core.document import edits
from kestrav.core.document.records import Requirement
from kestrav.core.errors import BadInput
from kestrav.core.findings.check import certified, check
from kestrav.core.findings.html_report import as_html
from kestrav.core.findings.page import Figure
from kestrav.core.findings.report import as_data, as_text, frames_as_csv, table_as_csv
from kestrav.core.findings.typed_requirements import with_pairs
from kestrav.core.kinematics.runs import frame_times


def two_posts(**fields):
    """A cube of 40 mm that goes 600 mm in 2 s past a post 2 mm and another 4 mm beside its way; 5 mm are required in general."""
    made, meshes = scene(
        ram=(box_mesh(40, 40, 40), (0, 0, 0)),
        near=(box_mesh(10, 10, 400), (200, 27.0, 0)),
        far=(box_mesh(10, 10, 400), (400, -29.0, 0)),
    )
    return goes(made, "ram", (0, 0, 0), (600, 0, 0), **fields), meshes


def asks(made, things, others=(), required=None, checked=True):
    number = len(made.requirements)
    return edits.add(made, Requirement(f"need-{number}", f"Need {number}", things, others, required, checked))


def pairs_of(found):
    return {(b.pair.moving, b.pair.other) for b in found.breaches}


def test_a_pair_may_be_asked_for_less_and_another_for_more():
    made, meshes = two_posts()
    times = frame_times(made)
    assert pairs_of(sweep(made, meshes, times)) == {("ram", "near"), ("ram", "far")}
    less = asks(made, ("ram",), ("near",), 1.5)
    assert pairs_of(sweep(less, meshes, times)) == {("ram", "far")}
    assert {s.pair.other for s in certify(less, meshes).stretches} == {"far"}
    more = asks(edits.settings(less, required_clearance=3.0), ("far",), ("ram",), 4.5)  # either may be named first
    (breach,) = sweep(more, meshes, times).breaches
    assert breach.pair.other == "far" and breach.required == 4.5 and breach.distance == pytest.approx(4.0)
    (stretch,) = certify(more, meshes).stretches
    assert stretch.required == 4.5 and stretch.status == "breached"


def test_the_last_requirement_that_applies_holds_and_one_may_leave_things_out():
    made, meshes = two_posts()
    off = asks(asks(made, ("ram",), (), 9.0), ("ram",), ("near",), checked=False)
    found = sweep(off, meshes, frame_times(made))
    assert pairs_of(found) == {("ram", "far")} and found.unchecked == 1
    told = {o.item.name if o.item else "": o.status for o in outcomes(off, found, certify(off, meshes))}
    assert told == {"": "not checked", "Need 0": "breached", "Need 1": "not checked"}


def test_only_what_is_listed_is_checked_when_asked_for():
    made, meshes = two_posts()
    listed = edits.settings(asks(made, ("ram",), ("far",)), only_listed=True)
    found = sweep(listed, meshes, frame_times(made))
    assert pairs_of(found) == {("ram", "far")}
    general, own = outcomes(listed, found)
    assert general.status == "not checked" and own.least == pytest.approx(4.0) and own.pairs == 1
    nothing = edits.settings(made, only_listed=True)
    assert sweep(nothing, meshes, frame_times(made)).worst is None
    assert certify(nothing, meshes).pairs == 0


def test_each_result_says_what_it_rests_on():
    made, meshes = two_posts()
    fine = edits.settings(made, required_clearance=1.0)
    found = sweep(fine, meshes, frame_times(made))
    assert [o.status for o in outcomes(fine, found)] == ["sampled"]
    assert [o.status for o in outcomes(fine, found, certify(fine, meshes))] == ["certified"]


def test_the_table_tells_from_when_to_when_how_near_where_and_how_fast():
    made, meshes = two_posts()
    found = sweep(made, meshes, frame_times(made))
    first, second = rows_of(made, meshes, found, certify(made, meshes))
    assert [first.pair.other, second.pair.other] == ["near", "far"]  # what falls most short first
    # 5 mm are left until the cube's corner is sqrt(5² - 2²) mm before the post's, at 300 mm/s
    ahead = np.sqrt(21.0)
    assert first.start == pytest.approx((200 - 5 - ahead - 20) / 300, abs=2e-3)
    assert first.end == pytest.approx((200 + 5 + ahead + 20) / 300, abs=2e-3)
    assert first.least == pytest.approx(2.0) and first.speed == pytest.approx(300.0, rel=1e-3)
    assert first.place[1] == pytest.approx(21.0, abs=0.01) and first.status == "breached"
    sampled = rows_of(made, meshes, found)
    assert [row.status for row in sampled] == ["sampled", "sampled"]
    assert sampled[0].start == pytest.approx(first.start, abs=1 / 30)


def test_a_part_of_the_time_can_be_checked_alone():
    made, meshes = two_posts()
    result = certified(made, meshes, check(made, meshes, over=(1.0, 2.0)))
    assert {row.pair.other for row in result.table} == {"far"}
    assert result.certificate.since == 1.0 and result.certificate.until == 2.0
    assert as_data(made, result)["breach_frames"][0][0] >= 30
    with pytest.raises(BadInput, match="no frame"):
        check(made, meshes, over=(7.0, 8.0))


def test_requirements_are_typed():
    made, _ = two_posts()
    asked = with_pairs(made, ["ram:near=1.5", "ram = 2 mm", "ram:far=off"], only=True)
    assert [(r.things, r.others, r.required, r.checked) for r in asked.requirements] == [
        (("ram",), ("near",), 1.5, True), (("ram",), (), 2.0, True), (("ram",), ("far",), None, False),
    ]  # fmt: skip
    assert asked.settings.only_listed
    for text, why in (
        ("ram", "no pair"),
        ("ram:near=wide", "no number"),
        ("ram:nobody=2", "called"),
        ("ram=-1", "0 mm or more"),
    ):
        with pytest.raises(BadInput, match=why):
            with_pairs(made, [text])


def test_requirements_go_with_their_things_and_must_make_sense():
    made, _ = two_posts()
    asked = asks(asks(made, ("ram",), ("near", "far"), 2.0), ("near",))
    left = edits.remove(asked, "near")
    assert [(r.things, r.others) for r in left.requirements] == [(("ram",), ("far",))]
    for wrong in (
        Requirement("a", "A", ()),
        Requirement("a", "A", ("ram",), ("ram",)),
        Requirement("a", "A", ("gone",)),
    ):
        with pytest.raises(BadInput):
            edits.add(made, wrong)


def test_reports_say_what_was_checked_and_how_to_repeat_it():
    made, meshes = two_posts()
    made = asks(edits.rename_project(made, "Ram & posts"), ("ram",), ("near",), 1.5)
    result = certified(made, meshes, check(made, meshes))
    text = as_text(made, result)
    assert "Need 0" in text and "certified" in text and "breached" in text
    page = as_html(made, result, [Figure(b"\x89PNG", "far <b>")], "kestrav check posts.kestrav")
    for wanted in (
        "Ram &amp; posts",
        "ram to far",
        "far &lt;b&gt;",
        "kestrav check posts.kestrav",
        "stroke-dasharray",
        "breached",
    ):
        assert wanted in page
    table = list(csv.DictReader(io.StringIO(table_as_csv(made, result))))
    assert [row["other"] for row in table] == ["far"] and float(table[0]["worst [mm]"]) == pytest.approx(4.0, abs=1e-3)
    frames = list(csv.DictReader(io.StringIO(frames_as_csv(made, result))))
    assert len(frames) == len(result.times)
    assert {row["required [mm]"] for row in frames} <= {"1.5000", "5.0000"}
