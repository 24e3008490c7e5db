"""Rules about what moves a thing one after another, and where and when it arrives; each mend removes its finding."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Attachment,
    Camera,
    CarriedOrientation,
    Eased,
    FixedOrientation,
    Following,
    Ground,
    Hold,
    Keyed,
    KeyPose,
    Path,
    Placement,
    PointAim,
    PoseTrack,
    Run,
    Shot,
    SpeedKey,
    Trigger,
)
from kestrav.core.editing.grounding import derive_ground
from kestrav.core.findings.check import check
from kestrav.core.kinematics.runs import course_of


def opened(shape=None, **run):
    fields = {"duration": 4.0, "speed_profile": Eased(200, 200)} | run
    return make_project(
        {"Trolley": (box_mesh(400, 200, 100), (0, 0, 50)), "Crate": (box_mesh(50, 50, 50), (1500, 600, 25))},
        shape or straight((0, 0, 50), (3000, 0, 50)),
        **fields,
    )


def found(made, rule, meshes):
    return [f for f in check(derive_ground(made, meshes), meshes).findings if f.rule == rule]


def every_mend_helps(made, rule, meshes, count=1):
    faults = found(made, rule, meshes)
    assert len(faults) == 1, faults
    (fault,) = faults
    fixes = [fault.fix, *fault.also]
    assert len(fixes) >= count and fault.fix is not None
    for fix in fixes:
        after = fix.edit(made)
        assert not found(after, rule, meshes), fix.label
    return fault


def with_second(opened, **fields):
    run = {"id": "run-2", "name": "Second", "rider": "part-1", "path": "path-2", "start": 4.0, "duration": 3.0} | fields
    project = edits.add(opened.project, Path("path-2", "Second way", straight((3000, 40, 50), (3000, 2000, 50))))
    return edits.add(project, Run(**run))


def test_overlapping_runs_are_an_error_that_can_be_mended_both_ways():
    start = opened()
    made = with_second(start, start=3.2)
    fault = every_mend_helps(made, "overlap", start.meshes, 2)
    assert fault.severity == "breach" and fault.value == pytest.approx(0.8) and fault.unit == "s"


def test_a_gap_between_paths_is_mended_by_moving_joining_or_blending():
    start = opened()
    made = with_second(start)
    fault = every_mend_helps(made, "joint", start.meshes, 3)
    assert fault.value == pytest.approx(40, abs=0.1)
    # a path in between takes its own time, and what follows comes later
    joined = next(m for m in fault.also if "path" in m.label).edit(made)
    assert len(joined.paths) == 3 and len(joined.runs) == 3
    assert not found(joined, "overlap", start.meshes) and not found(joined, "jump", start.meshes)


def test_a_jump_that_the_paths_do_not_show_is_found():
    start = opened()
    # the same path, but something else of it sits on it
    made = edits.add(
        start.project,
        Run(
            "run-2",
            "Back",
            "part-1",
            "path-1",
            0.5,
            1.0,
            4.0,
            3.0,
            backwards=True,
            reference="front",
            speed_profile=Eased(100, 100),
        ),
    )
    fault = every_mend_helps(made, "jump", start.meshes, 2)
    assert fault.value == pytest.approx(200, abs=0.1) and fault.severity == "breach"


def test_key_poses_that_begin_elsewhere_jump():
    start = opened()
    keys = (KeyPose(0, Placement((3000, 90, 50))), KeyPose(2, Placement((3000, 900, 50))))
    made = edits.add(start.project, PoseTrack("pose-track-1", "Pushed", "part-1", keys, 5.0))
    fault = every_mend_helps(made, "jump", start.meshes, 3)
    assert fault.value == pytest.approx(90, abs=0.1)


def test_a_turn_at_a_hand_over_is_blended():
    start = opened(orientation=AlongOrientation())
    made = edits.add(
        start.project,
        Path("path-2", "Second way", straight((3000, 0, 50), (3000, 2000, 50))),
        Run(
            "run-2",
            "Second",
            "part-1",
            "path-2",
            start=5.0,
            duration=3.0,
            orientation=FixedOrientation(),
            turn=(30, 0, 0),
        ),
    )
    fault = every_mend_helps(made, "orientation-jump", start.meshes)
    assert fault.value == pytest.approx(30, abs=0.01) and fault.unit == "°"


def test_a_jump_of_speed_is_mended_by_going_on_or_softly():
    start = opened(speed_profile=edits.change(Run("r", "r", "r", "r")).speed_profile, end=0.5)
    made = edits.add(start.project, Run("run-2", "Faster", "part-1", "path-1", 0.5, 1.0, 4.0, 2.0))
    fault = every_mend_helps(made, "speed-jump", start.meshes, 2)
    assert fault.value == pytest.approx(375) and fault.unit == "mm/s"


def test_a_ride_that_follows_has_no_jump():
    start = opened()
    made = edits.add(start.project, Attachment("attachment-1", "Rides", "part-2", "part-1", 2.0, 4.0))
    assert not found(made, "jump", start.meshes)


@pytest.mark.parametrize("orientation", [FixedOrientation(), AlongOrientation(), CarriedOrientation(wheelbase=300.0)])
def test_a_front_beyond_its_mark_and_short_of_it(orientation):
    start = opened(orientation=orientation, mark=0.9)
    fault = every_mend_helps(start.project, "mark", start.meshes)
    assert fault.severity == "breach" and "beyond" in fault.title
    short = edits.update(start.project, "run-1", end=0.5)
    fault = every_mend_helps(short, "mark", start.meshes)
    assert fault.severity == "warning" and "short of" in fault.title


@pytest.mark.parametrize(("arrive_by", "severity", "how"), [(3.0, "breach", "late"), (5.5, "warning", "early")])
def test_arriving_late_or_early(arrive_by, severity, how):
    start = opened(arrive_by=arrive_by, start=0.5, holds=(Hold(0.5, 0.2),))
    fault = every_mend_helps(start.project, "late", start.meshes)
    assert fault.severity == severity and how in fault.title
    assert fault.value == pytest.approx(abs(4.5 - arrive_by))


def test_what_never_arrives_or_never_begins():
    start = opened()
    endless = edits.update(start.project, "run-1", passes=0, arrive_by=4.0)
    every_mend_helps(endless, "run-never-arrives", start.meshes)
    short = edits.update(start.project, "run-1", speed_profile=Keyed((SpeedKey(0, 0), SpeedKey(1, 0.8))))
    fault = every_mend_helps(short, "run-stops-short", start.meshes)
    assert fault.value == pytest.approx(600)
    waiting = edits.add(short, Run("run-2", "Waits", "part-2", "path-1", trigger=Trigger("run-1", "station", 0.95)))
    (fault,) = [f for f in found(waiting, "run-never-begins", start.meshes) if f.subject == ("run-2",)]
    assert "“Run”" in fault.detail
    assert not [f for f in found(fault.fix.edit(waiting), "run-never-begins", start.meshes) if f.subject == ("run-2",)]
    # and so does what follows it
    led = edits.add(
        waiting,
        edits.change(waiting.runs[1], id="run-3", name="Led", rider="part-1", trigger=None, follows=Following("run-2")),
    )
    (fault,) = [f for f in found(led, "run-never-begins", start.meshes) if f.subject == ("run-3",)]
    assert not [f for f in found(fault.fix.edit(led), "run-never-begins", start.meshes) if f.subject == ("run-3",)]


def test_dead_time_is_noted_and_taken_out():
    start = opened(start=2.5)
    made = edits.add(start.project, Camera("camera-1", "Room", PointAim((0, 0, 0))))
    made = edits.add(made, Shot("shot-1", "All", "camera-1", 0.0, 9.0))
    faults = found(made, "dead-time", start.meshes)
    assert [f.value for f in faults] == pytest.approx([2.5, 2.5])
    for fault in reversed(faults):
        made = fault.fix.edit(made)
    assert not found(made, "dead-time", start.meshes)
    assert course_of(made, made.runs[0]).start == 0 and made.shots[0].end == 4.0
    assert not found(edits.settings(start.project, dead_time=0.0), "dead-time", start.meshes)


@pytest.mark.parametrize(("height", "how"), [(12.0, "floats above"), (-8.0, "sinks into")])
def test_floating_and_sunk_things_are_put_onto_the_ground(height, how):
    start = opened(straight((0, 0, height), (3000, 0, height)), reference="bottom")
    fault = every_mend_helps(start.project, "ground", start.meshes)
    assert how in fault.title and fault.value == pytest.approx(abs(height), abs=0.01)


def test_ground_out_of_reach_is_looked_for_farther():
    start = opened(straight((0, 0, 700), (3000, 0, 700)), ground=Ground(reach=100.0), reference="bottom")
    fault = every_mend_helps(start.project, "ground", start.meshes)
    assert "1,400 mm" in fault.fix.label


def test_a_pivot_on_the_ground_sinks_its_rider():
    start = opened(straight((0, 0, 30), (3000, 0, 30)), ground=Ground(reach=100.0))
    fault = every_mend_helps(start.project, "ground", start.meshes)
    assert fault.value == pytest.approx(50, abs=0.01)


def test_riding_with_what_is_not_there_yet():
    start = opened()
    # the crate stands beside the aisle, which the trolley passes 475 mm away; it is put 2 mm beside it
    made = edits.update(start.project, "part-2", placement=Placement((1500, 127, 50)))
    made = edits.add(made, Attachment("attachment-1", "Crate rides", "part-2", "part-1", 0.4))
    fault = every_mend_helps(made, "absent-carrier", start.meshes, 2)
    assert fault.value > 500 and "before Trolley is there" in fault.title
    later = fault.fix.edit(made).attachments[0].start
    assert 1.0 < later < 3.0
    # what is never there can only be taken out
    far = edits.update(made, "part-2", placement=Placement((1500, 900, 50)))
    assert len([fault.fix, *found(far, "absent-carrier", start.meshes)[0].also]) == 1


def test_a_flip_within_a_run_has_mends_that_help():
    start = make_project(
        {"Body": (box_mesh(20, 10, 10), (0, 0, 0))},
        straight((0, 0, 0), (1000, 0, 0), (1000, 900, 0)),
        duration=3.0,
        orientation=AlongOrientation(),
    )
    fault = every_mend_helps(start.project, "orientation-flip", start.meshes, 2)
    assert fault.value == pytest.approx(90, abs=1)


def test_what_hands_over_is_not_told_as_a_flip_too():
    start = opened(orientation=AlongOrientation())
    half = tuple(np.roll(Rotation.from_euler("z", 170, degrees=True).as_quat(), 1).tolist())
    keys = (KeyPose(0, Placement((3000, 0, 50), half)), KeyPose(1, Placement((3000, 0, 50), half)))
    made = edits.add(start.project, PoseTrack("pose-track-1", "Turned", "part-1", keys, 4.5))
    assert found(made, "orientation-jump", start.meshes) and not found(made, "orientation-flip", start.meshes)
