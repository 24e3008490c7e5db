"""Edits in time."""

import numpy as np
import pytest

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Attachment,
    Bank,
    Camera,
    Eased,
    Even,
    Hold,
    Keyed,
    KeyPose,
    Law,
    Light,
    LightKey,
    Limited,
    Part,
    Path,
    PathPoint,
    Placement,
    PointAim,
    PointShape,
    PoseTrack,
    Project,
    Roughness,
    Run,
    Shot,
    SpeedKey,
    SpeedZone,
    Trigger,
)
from kestrav.core.document.shots import frame_count, frame_time
from kestrav.core.editing.timing import (
    dead_spans,
    fitted,
    moved,
    reversed_in_time,
    set_span,
    snap_times,
    snapped,
    split_run,
    stretched,
    timed_ids,
    without_span,
)
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import course_of, span

AISLE = PointShape((PathPoint((0, 0, 0)), PathPoint((1200, 500, 0)), PathPoint((2000, 0, 0))))
PACINGS = [
    Even(),
    Eased(200, 300),
    Eased(start_time=0.5, stop_time=0.8),
    Law("modified sine"),
    Limited(top=900, sideways=400, forward=700, braking=500),
    Keyed((SpeedKey(0, 0), SpeedKey(0.3, 0.6), SpeedKey(1, 1))),
]


def project(**run):
    made = Project(
        parts=(Part("part-1", "Trolley"), Part("part-2", "Gate"), Part("part-3", "Crate")),
        paths=(Path("path-1", "Aisle", AISLE),),
        cameras=(Camera("camera-1", "Room", PointAim((0, 0, 0))),),
        shots=(Shot("shot-1", "All", "camera-1", 0.0, 8.0),),
        lights=(Light("light-1", "Lamp", keys=(LightKey(1.0, 0.0), LightKey(3.0, 500.0))),),
    )
    return edits.add(
        made,
        Run("run-1", "Rolls", "part-1", "path-1", **({"start": 1.0, "duration": 4.0} | run)),
        PoseTrack(
            "pose-track-1",
            "Swings",
            "part-2",
            (KeyPose(0), KeyPose(1.5, Placement((9, 0, 0)))),
            trigger=Trigger("run-1", delay=0.5),
        ),
        Attachment("attachment-1", "Rides", "part-3", "part-1", 2.0, 4.0),
    )


def places(made, times, thing="part-1"):
    return Motion(made).poses(thing, times)[:, :3, 3]


@pytest.mark.parametrize("speed_profile", PACINGS)
@pytest.mark.parametrize("by", [{"duration": 4.0}, {"duration": None, "speed": 700.0}])
def test_stretching_everything_keeps_its_shape(speed_profile, by):
    made = project(speed_profile=speed_profile, **by)
    twice = stretched(made, timed_ids(made), 2.0, about=0.0)
    times = np.linspace(0, 9, 91)
    for thing in ("part-1", "part-2", "part-3"):
        assert places(twice, 2 * times, thing) == pytest.approx(places(made, times, thing), abs=1e-4)
    assert twice.shots[0].end == 16 and [k.time for k in twice.lights[0].keys] == [2, 6]
    assert span(twice) == pytest.approx(2 * span(made))


def test_holds_stretch_too():
    made = project(holds=(Hold(0.5, 1.0),), speed_profile=Eased(100, 100))
    half = stretched(made, ["run-1"], 0.5, about=0.0)
    times = np.linspace(0, 6, 61)
    assert places(half, times / 2) == pytest.approx(places(made, times), abs=1e-5)


def test_fitting_a_choice_to_a_length():
    made = fitted(project(), ["run-1"], 6.0)
    assert course_of(made, made.runs[0]).start == 1.0 and course_of(made, made.runs[0]).end == pytest.approx(7.0)
    with pytest.raises(BadInput, match="above 0"):
        stretched(made, ["run-1"], 0.0)
    with pytest.raises(BadInput, match="nothing that is selected"):
        stretched(made, [], 2.0)


def test_moving_stops_at_zero():
    made = moved(project(), ["run-1", "attachment-1", "shot-1"], -3.0)
    # the shot begins at 0 already
    assert made == project()
    made = moved(project(), ["run-1", "attachment-1"], -3.0)
    assert made.runs[0].start == 0 and (made.attachments[0].start, made.attachments[0].end) == (1.0, 3.0)


@pytest.mark.parametrize("speed_profile", PACINGS)
def test_reversed_in_time_it_goes_as_a_film_played_backwards(speed_profile):
    made = project(speed_profile=speed_profile, holds=(Hold(0.4, 0.5),))
    back = reversed_in_time(made, ["run-1"])
    times = np.linspace(1, 5, 81)
    assert places(back, times) == pytest.approx(places(made, 6 - times), abs=1e-6)
    again = reversed_in_time(back, ["run-1"])
    assert places(again, times) == pytest.approx(places(made, times), abs=1e-6)


def test_key_poses_reverse_with_their_handles():
    keys = (KeyPose(0, Placement(), None, (0, 30, 0)), KeyPose(2.0, Placement((90, 0, 0)), (5, 6, 7), None))
    made = edits.update(project(), "pose-track-1", keys=keys, between="by hand", trigger=None)
    back = reversed_in_time(made, ["pose-track-1"])
    times = np.linspace(0, 2, 21)
    assert places(back, times, "part-2") == pytest.approx(places(made, 2 - times, "part-2"))


def test_what_is_carried_cannot_be_reversed():
    with pytest.raises(BadInput, match="reversed in time"):
        reversed_in_time(project(), ["attachment-1"])


def test_times_to_snap_to_are_those_of_others():
    made = project()
    others = snap_times(made, leaving=["attachment-1"])
    assert {0.0, 1.0, 5.0, 5.5, 7.0, 8.0, 3.0} <= set(others.tolist()) and 2.0 not in others
    assert snapped(4.04, 30) == pytest.approx(121 / 30)


def test_an_end_that_is_moved_stretches_what_ends_there():
    made = set_span(project(), "run-1", end=7.0)
    assert (course_of(made, made.runs[0]).start, course_of(made, made.runs[0]).end) == pytest.approx((1, 7))
    made = set_span(project(), "run-1", start=2.0)
    assert (course_of(made, made.runs[0]).start, course_of(made, made.runs[0]).end) == pytest.approx((2, 5))
    made = set_span(project(), "attachment-1", end=3.0)
    assert (made.attachments[0].start, made.attachments[0].end) == (2, 3)
    made = set_span(project(), "shot-1", start=1.0)
    assert (made.shots[0].start, made.shots[0].end) == (1, 8)
    with pytest.raises(BadInput, match="before it begins"):
        set_span(project(), "run-1", end=0.5)


@pytest.mark.parametrize("speed_profile", PACINGS)
@pytest.mark.parametrize("backwards", [False, True])
def test_a_split_run_goes_on_as_before(speed_profile, backwards):
    made = project(speed_profile=speed_profile, backwards=backwards)
    two = split_run(made, "run-1", 2.3)
    assert [r.name for r in two.runs] == ["Rolls", "Rolls, second part"] and two.runs[1].start == 2.3
    times = np.linspace(0, 6, 241)
    assert places(two, times) == pytest.approx(places(made, times), abs=1e-6)


RUNS = {
    "limits with a zone and a bend": {"speed_profile": Limited(800, 300, 500, 900, (SpeedZone(0.3, 0.45, 150),))},
    "limits there and back": {"speed_profile": Limited(800, 300, 500, 900), "passes": 3, "returns": True},
    "limits, told more slowly": {
        "speed_profile": Limited(800, 300, 500, 900),
        "duration": 9.0,
        "passes": 2,
        "returns": True,
    },
    "holds there and back": {"speed_profile": Eased(50, 80), "holds": (Hold(0.3, 0.4),), "passes": 2, "returns": True},
    "keys that run back": {"speed_profile": Keyed((SpeedKey(0, 0), SpeedKey(0.5, 0.9, -0.5), SpeedKey(1, 1)))},
    "shaken in time": {
        "speed_profile": Law(),
        "roughness": (Roughness("up", 3.0, frequency=4.0), Roughness("roll", 2.0)),
    },
    "leaning": {"speed_profile": Eased(50, 80), "orientation": AlongOrientation(), "bank": Bank(computed=True)},
}


def poses_of(made, times, thing="part-1"):
    return Motion(made).poses(thing, np.asarray(times))


def bent(**run):
    bend = PointShape(tuple(PathPoint(p, "corner", radius=150) for p in ((0, 0, 0), (500, 0, 0), (500, 600, 0))))
    return edits.update(project(**run), "path-1", shape=bend)


@pytest.mark.parametrize("run", RUNS.values(), ids=RUNS.keys())
def test_halves_of_every_kind_of_run_move_as_the_whole_did(run):
    made = bent(**run)
    whole = course_of(made, made.runs[0])
    two = split_run(made, "run-1", whole.start + 0.37 * whole.duration)
    again = split_run(two, "run-1-2", whole.start + 0.8 * whole.duration)
    assert len(again.runs) == 3
    times = np.linspace(0, whole.end + 1, 1501)
    for one in (two, again):
        assert poses_of(one, times) == pytest.approx(poses_of(made, times), abs=1e-6)


@pytest.mark.parametrize("run", RUNS.values(), ids=RUNS.keys())
def test_every_kind_of_run_reversed_is_its_film_played_backwards(run):
    made = bent(**run)
    whole = course_of(made, made.runs[0])
    back = reversed_in_time(made, ["run-1"])
    times = np.linspace(whole.start, whole.end, 1501)
    assert poses_of(back, whole.start + whole.end - times) == pytest.approx(poses_of(made, times), abs=1e-6)
    half = split_run(back, "run-1", whole.start + 0.4 * whole.duration)
    assert poses_of(half, times) == pytest.approx(poses_of(back, times), abs=1e-6)


@pytest.mark.parametrize("run", list(RUNS.values())[:-1], ids=list(RUNS)[:-1])
def test_every_kind_of_run_stretched_goes_as_before_but_slower(run):
    made = bent(**run)
    whole = course_of(made, made.runs[0])
    slow = stretched(made, ["run-1"], 1.7)
    times = np.linspace(whole.start, whole.end, 1501)
    there = whole.start + 1.7 * (times - whole.start)
    assert poses_of(slow, there) == pytest.approx(poses_of(made, times), abs=1e-6)


def test_the_second_half_of_a_run_that_waits_begins_as_the_first_arrives():
    made = edits.add(project(), Run("run-0", "Before", "part-2", "path-1", duration=2.0))
    made = edits.update(made, "run-1", trigger=Trigger("run-0", delay=0.5))
    two = split_run(made, "run-1", 4.0)
    later = edits.update(two, "run-0", duration=3.0)
    first, second = (course_of(later, run) for run in later.runs if run.id != "run-0")
    assert second.start == pytest.approx(first.end) and first.start == pytest.approx(3.5)


def test_a_run_is_not_split_while_it_stands_or_goes_round():
    for time in (0.5, 1.0, 5.0, 9.0):
        with pytest.raises(BadInput, match="while it moves"):
            split_run(project(), "run-1", time)
    with pytest.raises(BadInput, match="without end"):
        split_run(project(passes=0), "run-1", 2.0)
    with pytest.raises(BadInput, match="brought over from before"):
        split_run(project(blend=1.0), "run-1", 1.5)
    with pytest.raises(BadInput, match="brought over from before"):
        reversed_in_time(project(blend=1.0), ["run-1"])


def test_dead_time_is_found_and_taken_out():
    made = edits.add(project(), Run("run-2", "Later", "part-3", "path-1", start=12.0, duration=2.0))
    made = edits.update(made, "shot-1", end=16.0)
    assert dead_spans(made, 0.9) == [(0.0, 1.0), (7.0, 12.0), (14.0, 16.0)]
    shorter = without_span(made, 7.0, 12.0)
    assert shorter.runs[1].start == 7.0 and shorter.shots[0].end == 11.0
    assert dead_spans(shorter, 2.5) == []


def test_a_loop_leaves_out_the_frame_that_repeats_its_first():
    shot = Shot("s", "Loop", "c", 0.0, 4.0, fps=25.0)
    assert frame_count(shot) == 100 and frame_time(shot, 99) == pytest.approx(4.0 - 1 / 25)
