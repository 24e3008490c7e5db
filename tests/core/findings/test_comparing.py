"""Two checks compared."""

import json

import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import Placement
from kestrav.core.errors import BadInput
from kestrav.core.findings.check import check
from kestrav.core.findings.comparing import as_data, as_text, compare, read_check
from kestrav.core.findings.report import as_data as told_of


def finding(rule="clearance-breach", subject=("Cube", "Wall"), value=2.0, limit=6.0, severity="breach", time=1.0):
    return {
        "rule": rule, "severity": severity, "subject": list(subject), "title": " ".join(subject), "time": time,
        "value": value, "limit": limit, "unit": "mm",
    }  # fmt: skip


def changes(before, after):
    told = compare({"findings": before}, {"findings": after})
    return [(c.change, c.finding["rule"]) for c in told.findings], told


def test_findings_are_known_again_by_rule_and_names_whatever_their_order():
    one, two = finding(), finding("kink", ("Path",), 3.0, 1.0, "warning")
    found, told = changes([one, two], [two, finding(subject=("Wall", "Cube"))])
    assert {change for change, _ in found} == {"same"} and not told.is_worse


@pytest.mark.parametrize(("value", "limit", "now", "change"), [
    (2.0, 6.0, 1.0, "worse"), (2.0, 6.0, 4.0, "better"), (2.0, 6.0, 2.0004, "same"),
    (9.0, 6.0, 12.0, "worse"), (9.0, 6.0, 7.0, "better"), (-1.0, 6.0, -3.0, "worse"),
])  # fmt: skip
def test_what_is_farther_beyond_its_limit_is_worse(value, limit, now, change):
    found, told = changes([finding(value=value, limit=limit)], [finding(value=now, limit=limit)])
    assert found[0][0] == change and told.is_worse == (change == "worse")


def test_what_is_new_comes_first_and_what_is_gone_last():
    found, told = changes([finding("kink")], [finding("flip", severity="warning"), finding("digging")])
    assert found == [("new", "digging"), ("new", "flip"), ("resolved", "kink")]
    assert told.is_worse and "resolved (1):" in as_text(told)


def test_several_of_one_kind_are_paired_in_their_order_in_time():
    before = [finding(time=1.0, value=2.0), finding(time=5.0, value=4.0)]
    after = [finding(time=5.1, value=3.0), finding(time=1.1, value=2.0)]
    told = compare({"findings": before}, {"findings": after})
    assert sorted(c.change for c in told.findings) == ["same", "worse"]


def test_real_checks_are_compared_through_what_is_written_down(tmp_path):
    made = make_project(
        {"Cube": (box_mesh(80, 80, 80), (0, 0, 0)), "Wall": (box_mesh(20, 300, 300), (343, 0, 0))},
        straight((0, 0, 0), (290, 0, 0)),
        duration=1.0,
    )
    nearer = edits.update(made.project, "part-2", placement=Placement((341, 0, 0)))
    files = []
    for name, project in (("a.json", made.project), ("b.json", nearer)):
        data = told_of(project, check(project, made.meshes))
        (tmp_path / name).write_text(json.dumps(data))
        files.append(read_check(tmp_path / name))
    told = compare(*files)
    (worse,) = [c for c in told.findings if c.finding["rule"] == "clearance-breach"]
    assert worse.change == "worse" and told.is_worse
    assert told.least_before - told.least_after == pytest.approx(2.0, abs=0.01)
    assert as_data(told)["findings"][0]["change"] == "worse"


@pytest.mark.parametrize(
    "text", ["{", "[]", '{"findings": 3}', '{"findings": [{"rule": "kink"}]}', '{"findings": [3]}']
)
def test_what_is_no_check_is_refused(tmp_path, text):
    (tmp_path / "a.json").write_text(text)
    with pytest.raises(BadInput, match="no check"):
        read_check(tmp_path / "a.json")
    with pytest.raises(BadInput, match="cannot be read"):
        read_check(tmp_path / "missing.json")
