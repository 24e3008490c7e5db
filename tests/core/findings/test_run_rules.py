"""Rules about runs: limits of speed and acceleration, facing."""

import numpy as np
import pytest

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Eased,
    Law,
    Part,
    Path,
    PathPoint,
    Placement,
    PointShape,
    Project,
    Run,
)
from kestrav.core.findings.check import check

AISLE = PointShape((PathPoint((0, 0, 0)), PathPoint((3000, 0, 0))))


def project(limits, **run):
    made = Project(parts=(Part("part-1", "Trolley"),), paths=(Path("path-1", "Aisle", AISLE),))
    made = edits.settings(made, **limits)
    return edits.add(made, Run("run-1", "Rolls", "part-1", "path-1", **({"duration": 3.0} | run)))


def found(made, rule):
    return [f for f in check(made, {}).findings if f.rule == rule]


def test_without_limits_nothing_is_too_fast():
    made = project({})
    assert not found(made, "abrupt") and not found(made, "speed-over-limit")


@pytest.mark.parametrize("speed_profile", [Eased(300, 300), Law("cycloidal")])
def test_a_run_over_the_speed_limit_takes_longer(speed_profile):
    made = project({"speed_limit": 800.0}, speed_profile=speed_profile)
    (fault,) = found(made, "speed-over-limit")
    assert fault.value > 800 and fault.limit == 800
    assert not found(fault.fix.edit(made), "speed-over-limit")


def test_an_abrupt_start_gets_soft_ends_within_the_limit():
    made = project({"acceleration_limit": 500.0})
    (fault,) = found(made, "abrupt")
    assert "starts abruptly" in fault.title and fault.value == pytest.approx(1000)
    after = fault.fix.edit(made)
    assert not found(after, "abrupt")
    assert after.runs[0].speed_profile.start_time == pytest.approx(np.pi / 2 * 1000 / 500)


@pytest.mark.parametrize(
    "speed_profile", [Eased(50, 100), Eased(start_time=0.2, stop_time=0.3), Law("3-4-5 polynomial")]
)
def test_too_much_acceleration_is_mended_by_time(speed_profile):
    made = project({"acceleration_limit": 300.0}, speed_profile=speed_profile)
    (fault,) = found(made, "abrupt")
    assert fault.value > 300 and fault.unit == "mm/s²"
    assert not found(fault.fix.edit(made), "abrupt")


def test_a_hand_over_at_speed_is_no_jump():
    made = project(
        {"acceleration_limit": 500.0}, speed_profile=Eased(start_time=4.0, stop_time=0.0), duration=5.0, end=0.5
    )
    speed = 1500 / (5 - 2)
    made = edits.add(
        made,
        Run("run-2", "On", "part-1", "path-1", 0.5, 1.0, 5.0, None, speed, Eased(start_time=0.0, stop_time=4.0)),
    )
    assert not found(made, "abrupt")


@pytest.mark.parametrize(("turn", "how"), [(90, "sideways"), (180, "backwards")])
def test_a_front_that_looks_elsewhere_is_told_and_faces_ahead_then(turn, how):
    half = np.radians(turn) / 2
    pivot = Placement(rotation=(float(np.cos(half)), 0.0, 0.0, float(np.sin(half))))
    made = edits.update(project({}), "part-1", pivot=pivot)
    forward = {90: "-y", 180: "-x"}[turn]
    made = edits.update(made, "run-1", orientation=AlongOrientation(forward))
    (fault,) = found(made, "facing")
    assert how in fault.title and fault.value == pytest.approx(turn, abs=1e-6)
    assert not found(fault.fix.edit(made), "facing")
    # what nobody gave a front has none
    assert not found(edits.update(made, "part-1", pivot=Placement()), "facing")
