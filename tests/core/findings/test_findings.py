"""The rules, on projects made to have just the fault."""

import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import AlongOrientation, Eased, PathPoint, Placement, PointShape
from kestrav.core.findings.check import certified, check
from kestrav.core.findings.report import as_data, as_text


def rules(opened, project=None):
    return {f.rule: f for f in check(project or opened.project, opened.meshes).findings}


def test_a_breach_tells_pair_number_limit_frames_and_gap(passing):
    result = check(passing.project, passing.meshes)
    (finding,) = result.findings
    assert finding.rule == "clearance-breach"
    assert finding.severity == "breach"
    assert (finding.value, finding.limit, finding.unit) == (pytest.approx(4.0), 5.0, "mm")
    assert finding.subject == ("part-1", "part-2")
    assert finding.intervals == result.clearance.intervals()
    assert np.linalg.norm(np.subtract(*finding.gap)) == pytest.approx(4.0)
    assert "Cube too close to Post" in finding.title
    assert result.has_breach


def test_a_collision_is_called_one(passing):
    project = edits.update(passing.project, "part-2", placement=Placement((0.0, 9.0, 0.0)))
    found = rules(passing, project)
    assert set(found) == {"collision"}
    assert found["collision"].value == pytest.approx(-6.0, abs=0.001)  # how deep
    assert "hits" in found["collision"].title


def test_nothing_is_found_where_nothing_is_wrong(passing):
    assert rules(passing, edits.settings(passing.project, required_clearance=3.9)) == {}


def test_a_pivot_off_its_part_is_found_and_mended(passing):
    project = edits.update(passing.project, "part-1", pivot=Placement((0.0, -60.0, 0.0)))
    # a run that never turns its rider takes it the same way wherever its pivot is
    assert "pivot-outside" not in rules(passing, project)
    project = edits.update(project, "run-1", orientation=AlongOrientation())
    finding = rules(passing, project)["pivot-outside"]
    assert finding.value == pytest.approx(50.0)
    assert "pivot-outside" not in rules(passing, finding.fix.edit(project))


def test_a_sharp_corner_with_heading_along_travel_flips():
    opened = make_project(
        {"Body": (box_mesh(10, 10, 10), (0, 0, 0))},
        straight((0, 0, 0), (100, 0, 0), (0, 5, 0)),
        orientation=AlongOrientation(),
    )
    finding = rules(opened)["orientation-flip"]
    assert finding.value == pytest.approx(180 - np.degrees(np.arctan2(5, 100)), abs=0.1)
    assert finding.limit == 45.0
    assert finding.intervals[0][1] - finding.intervals[0][0] == 1


def test_a_smooth_path_with_heading_along_travel_does_not_flip():
    shape = PointShape(tuple(PathPoint(p) for p in [(0, 0, 0), (0, 0, 200), (200, 0, 300), (500, 100, 300)]))
    opened = make_project({"Body": (box_mesh(10, 10, 10), (0, 0, 0))}, shape, orientation=AlongOrientation())
    assert "orientation-flip" not in rules(opened)


def test_a_kink_taken_at_speed_is_found_and_mended():
    opened = make_project(
        {"Body": (box_mesh(10, 10, 10), (0, 0, 0))},
        straight((0, 0, 0), (300, 0, 0), (300, 300, 0)),
        duration=None,
        speed=200.0,
    )
    finding = rules(opened)["kink-at-speed"]
    # the velocity turns by 90 degrees: its jump is 2 v sin(45 degrees)
    assert finding.value == pytest.approx(200 * np.sqrt(2))
    assert finding.time == pytest.approx(1.5)
    assert "kink-at-speed" not in rules(opened, finding.fix.edit(opened.project))


def test_a_kink_taken_slowly_is_none():
    path = straight((0, 0, 0), (300, 0, 0), (300, 300, 0))
    slow = make_project({"Body": (box_mesh(1, 1, 1), (0, 0, 0))}, path, duration=None, speed=30.0)
    assert "kink-at-speed" not in rules(slow)
    eased = make_project(
        {"Body": (box_mesh(1, 1, 1), (0, 0, 0))}, path, duration=None, speed=200.0, end=0.5, speed_profile=Eased(50, 50)
    )
    assert "kink-at-speed" not in rules(eased)


def test_the_report_says_it_in_data_and_in_words(passing):
    result = check(passing.project, passing.meshes)
    data = as_data(passing.project, result)
    assert data["min_clearance_mm"] == pytest.approx(4.0)
    assert data["pair"] == ["Cube", "Post"]
    assert data["breach_frames"] == [list(i) for i in result.clearance.intervals()]
    assert {"rule", "severity", "subject", "time", "value", "limit"} <= data["findings"][0].keys()
    text = as_text(passing.project, result)
    assert "Least clearance 4.000 mm" in text
    assert "Cube to Post" in text


def test_a_project_in_which_nothing_moves_is_fine():
    opened = make_project({"Cube": (box_mesh(1, 1, 1), (0, 0, 0))})
    result = check(opened.project, opened.meshes)
    assert not result.findings
    assert as_data(opened.project, result)["min_clearance_mm"] is None
    assert "nothing to measure" in as_text(opened.project, result)


def test_the_demo_is_too_close_to_the_riser_pipe(demo):
    result = check(demo.project, demo.meshes)
    (finding,) = result.findings
    assert "Riser" in finding.title
    assert 2.0 < finding.value < 4.0


def test_what_frames_do_not_tell_the_certificate_does():
    made = make_project(
        {"Shot": (box_mesh(2, 2, 2), (0, 0, 0)), "Blade": (box_mesh(0.2, 50, 50), (520, 0, 0))},
        straight((0, 0, 0), (1000, 0, 0)),
        duration=0.1,
    )
    sampled = check(made.project, made.meshes)
    assert sampled.status == "sampled at the frames" and not [f for f in sampled.findings if "Blade" in f.title]
    told = certified(made.project, made.meshes, sampled)
    (fault,) = [f for f in told.findings if f.rule == "between-frames"]
    assert told.status == "breached" and "hits Blade between frames" in fault.title
    assert as_data(made.project, told)["certificate"]["stretches"][0]["status"] == "breached"
    assert "between the frames too: breached" in as_text(made.project, told)
    # what the frames tell is not told twice
    slow = edits.update(made.project, "run-1", duration=4.0)
    told = certified(slow, made.meshes, check(slow, made.meshes))
    assert not [f for f in told.findings if f.rule == "between-frames"]
    assert [f for f in told.findings if f.rule in ("collision", "clearance-breach")]
