"""The rules about paths: each finds its fault, and its mends remove it."""

import numpy as np
import pytest

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Camera,
    EllipseShape,
    Part,
    Path,
    PathPoint,
    PointAim,
    PointShape,
    Project,
    Run,
)
from kestrav.core.findings.check import check
from kestrav.core.paths.analysis import least_bend
from kestrav.core.paths.path_curves import check_curves, path_curve


def points(*places, kind="smooth"):
    return PointShape(tuple(p if isinstance(p, PathPoint) else PathPoint(p, kind) for p in places))


AISLE = points((0, 0, 0), (2000, 0, 0), (2000, 1500, 0), (3000, 1500, 0), kind="corner")


def project(*shapes, **run):
    made = Project(parts=(Part("part-1", "Trolley"),))
    made = edits.add(made, *(Path(f"path-{i}", f"Aisle {i}", s) for i, s in enumerate(shapes, 1)))
    fields = {"duration": 10.0, "orientation": AlongOrientation()} | run
    return edits.add(made, Run("run-1", "Rolls", "part-1", "path-1", **fields))


def found(made, rule):
    return [f for f in check(made, {}).findings if f.rule == rule]


def mended(made, finding, which=0):
    fix = [finding.fix, *finding.also][which]
    return check_curves(fix.edit(made), made)


@pytest.mark.parametrize(("duration", "rule"), [(10.0, "kink-at-speed"), (400.0, "kink-in-path")])
@pytest.mark.parametrize("which", [0, 1])
def test_a_kink_is_told_at_any_speed_and_made_smooth_or_rounded(duration, rule, which):
    made = project(AISLE, duration=duration)
    kinks = found(made, rule)
    assert kinks and not found(made, "kink-in-path" if rule == "kink-at-speed" else "kink-at-speed")
    worst = kinks[0]
    assert worst.severity == ("warning" if duration == 10.0 else "note")
    assert worst.place == (2000, 0, 0)
    after = mended(made, worst, which)
    at = path_curve(after.paths[0]).curve.kink_stations
    assert len(at) == 1
    assert after.paths[0].shape.points[1].kind == ("smooth" if which == 0 else "corner")


def test_a_path_that_nothing_follows_may_have_kinks():
    made = edits.remove(project(AISLE), "run-1")
    assert not [f for f in check(made, {}).findings if f.rule.startswith("kink")]


def test_a_kink_is_rounded_by_the_riders_own_radius():
    made = edits.update(project(AISLE), "part-1", least_radius=600.0)
    kink = found(made, "kink-at-speed")[0]
    assert kink.also[0].label == "Round by 600 mm"
    assert mended(made, kink, 1).paths[0].shape.points[1].radius == 600


@pytest.mark.parametrize("end", ["start", "end"])
def test_an_end_whose_handle_turns_the_rider_round_is_found_and_follows_the_path_then(end):
    stray = PathPoint((0, 0, 0) if end == "start" else (2000, 300, 0), "free", None, None)
    handle = {"handle_out": (-3.0, -4.0, 0.0)} if end == "start" else {"handle_in": (4.0, 3.0, 0.0)}
    stray = PathPoint(stray.position, "free", **handle)
    places = [(700, 50, 0), (1400, 200, 0)]
    shape = points(stray, *places, (2000, 300, 0)) if end == "start" else points((0, 0, 0), *places, stray)
    made = project(shape)
    (fault,) = found(made, "undirected-end")
    assert fault.subject == ("path-1", end) and fault.value > 90
    assert fault.time == pytest.approx(0 if end == "start" else 10, abs=1e-6)
    assert not found(mended(made, fault), "undirected-end")
    # what keeps its rotation does not turn round
    assert not found(
        project(
            shape, orientation=edits.change(made.runs[0]).orientation.__class__(stance="slope"), begin=0.2, end=0.8
        ),
        "undirected-end",
    )


def test_a_bend_tighter_than_the_rider_states_is_widened():
    made = edits.update(
        project(points((0, 0, 0), (600, 0, 0), (700, 500, 0), (1500, 600, 0))), "part-1", least_radius=400.0
    )
    (fault,) = found(made, "tight-bend")
    assert fault.severity == "breach" and fault.limit == 400 and fault.unit == "mm"
    assert fault.value == pytest.approx(least_bend(path_curve(made.paths[0]).curve).value, rel=1e-2)
    after = mended(made, fault)
    assert not found(after, "tight-bend")
    assert least_bend(path_curve(after.paths[0]).curve).value >= 400 * (1 - 1e-5)


def test_corners_are_widened_by_their_radius_and_cameras_have_one_as_well():
    made = project(AISLE)
    made = edits.add(made, Camera("camera-1", "Chase", PointAim((0, 0, 0)), least_radius=250.0))
    made = edits.add(made, Run("run-2", "Films", "camera-1", "path-1"))
    (fault,) = found(made, "tight-bend")
    assert fault.value == 0 and "Chase" in fault.title
    after = mended(made, fault)
    assert [p.radius for p in after.paths[0].shape.points] == [0, 250, 250, 0]
    assert not found(after, "tight-bend")


@pytest.mark.parametrize("second", [(800.4, 0, 0), (800, 2, 0)])
def test_a_doubled_point_is_found_and_deleted(second):
    made = project(points((0, 0, 0), (800, 0, 0), second, (1500, 200, 0)))
    (fault,) = found(made, "doubled-point")
    assert fault.value == pytest.approx(np.linalg.norm(np.subtract(second, (800, 0, 0))))
    after = mended(made, fault)
    assert len(after.paths[0].shape.points) == 3 and not found(after, "doubled-point")


def test_an_end_is_not_deleted_and_short_steps_all_along_are_no_fault():
    made = project(points((0, 0, 0), (800, 0, 0), (1499.9, 200, 0), (1500, 200, 0)))
    (fault,) = found(made, "doubled-point")
    assert mended(made, fault).paths[0].shape.points[-1].position == (1500, 200, 0)
    assert not found(project(points(*((0.4 * k, 0.0, 0.0) for k in range(40)))), "doubled-point")


def test_a_loop_is_told_and_cut_off():
    made = project(points((0, 0, 0), (900, 0, 0), (1100, 300, 0), (800, 300, 0), (1000, 0, 0), (2000, 0, 0)))
    (fault,) = found(made, "self-crossing")
    assert fault.severity == "note"
    assert not found(mended(made, fault), "self-crossing")
    eight = EllipseShape((0, 0, 0), 500, 400)
    assert not found(project(eight), "self-crossing")


def test_tangled_handles_are_shortened():
    shape = points(
        PathPoint((0, 0, 0), "free", None, (900.0, 500.0, 0.0)),
        PathPoint((400, 0, 0), "free", (900.0, -500.0, 0.0), (200.0, 0.0, 0.0)),
        (900, 0, 0),
    )
    made = project(shape)
    (fault,) = found(made, "tangled-handle")
    assert fault.value > 200
    assert not found(mended(made, fault), "tangled-handle")


def two_runs(second, **fields):
    made = project(points((0, 0, 0), (1000, 0, 0), kind="corner"), second, duration=4.0)
    run = {"start": 4.0, "duration": 4.0, "orientation": AlongOrientation()} | fields
    return edits.add(made, Run("run-2", "Rolls on", "part-1", "path-2", **run))


def test_a_gap_between_two_paths_is_a_jump_and_is_closed():
    made = two_runs(points((1000, 40, 0), (2000, 40, 0)))
    (fault,) = found(made, "joint")
    assert fault.severity == "breach" and fault.value == pytest.approx(40) and fault.time == 4
    after = mended(made, fault)
    assert after.paths[1].shape.points[0].position == (1000, 0, 0)
    far = two_runs(EllipseShape((1500, 0, 0), 300, 300))
    (fault,) = found(far, "joint")
    after = mended(far, fault)
    assert path_curve(after.paths[1]).curve.position([0.0])[0] == pytest.approx([1000, 0, 0])


def test_paths_that_meet_but_are_not_tangent_are_told_and_turned():
    made = two_runs(points((1000, 0, 0), (1500, 500, 0), (2500, 600, 0)))
    (fault,) = found(made, "joint")
    assert fault.severity == "warning" and fault.unit == "°" and fault.value > 30
    after = mended(made, fault)
    assert not found(after, "joint")
    assert not found(two_runs(points((1000, 0, 0), (2000, 0, 0))), "joint")
