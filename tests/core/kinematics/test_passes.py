"""Journeys with holds, made again and again, led by others and begun by cues."""

import numpy as np
import pytest

from kestrav.core.document import edits
from kestrav.core.document.records import (
    Eased,
    EllipseShape,
    Even,
    Following,
    Hold,
    Keyed,
    Law,
    Limited,
    Part,
    Path,
    PathPoint,
    PointShape,
    Project,
    Run,
    SpeedKey,
    Trigger,
)
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import course_of, span

AISLE = PointShape((PathPoint((0, 0, 0)), PathPoint((2000, 0, 0))))


def project(shape=AISLE, **run):
    made = Project(parts=(Part("part-1", "Trolley"), Part("part-2", "Tug")), paths=(Path("path-1", "Aisle", shape),))
    return edits.add(made, Run("run-1", "Rolls", "part-1", "path-1", **({"duration": 4.0} | run)))


def course(made, index=0):
    return course_of(made, made.runs[index])


@pytest.mark.parametrize(
    "speed_profile",
    [
        Even(),
        Eased(100, 200),
        Eased(start_time=0.4, stop_time=0.2),
        Law("3-4-5 polynomial"),
        Limited(top=900, forward=800, braking=600),
        Keyed((SpeedKey(0, 0), SpeedKey(0.4, 0.7), SpeedKey(1, 1))),
    ],
)
@pytest.mark.parametrize("backwards", [False, True])
def test_a_hold_stands_at_its_place_for_its_time_and_the_run_arrives_in_time(speed_profile, backwards):
    made = project(
        speed_profile=speed_profile,
        duration=6.0,
        holds=(Hold(0.25, 0.8), Hold(0.6, 0.5)),
        backwards=backwards,
        start=1.0,
    )
    going = course(made)
    assert going.end == pytest.approx(7.0, abs=1e-9)
    times = np.linspace(1.0, 7.0, 60_001)
    stations, speeds = going.stations(times), going.speeds(times)
    ends = (2000, 0) if backwards else (0, 2000)
    assert stations[0] == pytest.approx(ends[0], abs=1e-6) and stations[-1] == pytest.approx(ends[1], abs=1e-6)
    for place, seconds in ((500, 0.8), (1200, 0.5)):
        standing = times[(np.abs(stations - place) < 1e-6) & (speeds == 0)]
        assert np.ptp(standing) == pytest.approx(seconds, abs=1e-3)
    # speed is what the stations say, between the holds too
    middle = 0.5 * (times[1:] + times[:-1])
    off = np.abs(np.abs(np.diff(stations)) / np.diff(times) - going.speeds(middle))
    # but for the few steps in which it stops or sets out at once
    assert np.count_nonzero(off > 2.0) <= 4


def test_legs_between_holds_share_one_steady_speed():
    made = project(speed_profile=Eased(100, 100), duration=None, speed=500.0, holds=(Hold(0.5, 1.0),))
    going = course(made)
    # each segment: 1000 mm at 500 mm/s, its two ramps of 100 mm taking twice their time
    assert going.duration == pytest.approx(1.0 + 2 * (1000 + 200) / 500)
    assert going.speeds([1.0, 4.0]) == pytest.approx([500, 500])


def test_times_at_are_those_of_first_arriving():
    going = course(project(holds=(Hold(0.5, 1.0),)))
    assert going.times_at([0, 500, 1000, 1500, 2000]) == pytest.approx([0, 0.75, 1.5, 3.25, 4.0])


def test_there_and_back_three_times():
    going = course(project(passes=3, returns=True, duration=2.0, start=1.0))
    assert going.end == 7.0 and going.once == 2.0
    assert going.stations([0, 1, 2, 3, 3.5, 5, 6, 7, 9]) == pytest.approx([0, 0, 1000, 2000, 1500, 0, 1000, 2000, 2000])
    assert going.arrives_at == pytest.approx(2000)
    assert course(project(passes=2, returns=True)).arrives_at == pytest.approx(0)


def test_braking_on_the_way_back_is_braking():
    going = course(project(passes=2, returns=True, speed_profile=Eased(500, 500), duration=4.0))
    times = np.array([0.3, 3.7, 4.3, 7.7])
    assert np.sign(going.accelerations(times)).tolist() == [1, -1, 1, -1]


def test_a_ring_goes_round_without_end():
    ring = EllipseShape((0, 0, 0), 1000, 1000)
    made = project(ring, passes=0, duration=5.0)
    going = course(made)
    assert not np.isfinite(going.end) and span(made) == 10.0
    places = going.path.curve.position(going.stations([1.0, 6.0, 5001.0]))
    assert places[1] == pytest.approx(places[0], abs=1e-6) and places[2] == pytest.approx(places[0], abs=1e-6)


def test_a_follower_keeps_its_distance_and_stops_at_the_ends():
    made = project(speed_profile=Eased(200, 300), begin=0.2, start=0.5)
    made = edits.add(
        made, edits.change(made.runs[0], id="run-2", rider="part-2", follows=Following("run-1", 250.0), begin=0.2)
    )
    times = np.linspace(0, 6, 200)
    gap = course(made).stations(times) - course(made, 1).stations(times)
    assert gap == pytest.approx(250)
    ahead = edits.update(made, "run-2", follows=Following("run-1", -250.0))
    stations = course(ahead, 1).stations(times)
    assert stations.max() == pytest.approx(2000) and stations[0] == pytest.approx(650)
    assert course(ahead, 1).speeds([4.5]) == 0


def test_a_follower_on_a_ring_goes_across_its_seam():
    ring = EllipseShape((0, 0, 0), 1000, 1000)
    made = project(ring)
    made = edits.add(made, edits.change(made.runs[0], id="run-2", rider="part-2", follows=Following("run-1", 500.0)))
    length = course(made).path.length
    assert course(made, 1).stations([0.0]) == pytest.approx([length - 500])
    assert course(made, 1).stations([4.0]) == pytest.approx([length - 500])


def test_a_follower_follows_live():
    made = project()
    made = edits.add(made, edits.change(made.runs[0], id="run-2", rider="part-2", follows=Following("run-1", 100.0)))
    before = course(made, 1).stations([2.0])[0]
    later = edits.update(made, "run-1", start=1.0)
    assert before == pytest.approx(900) and course(later, 1).stations([2.0]) == pytest.approx([400])


@pytest.mark.parametrize(
    ("trigger", "start"),
    [
        (Trigger("run-1", "start", delay=0.5), 1.5),
        (Trigger("run-1", "arrival"), 5.0),
        (Trigger("run-1", "station", 0.25, 0.1), 2.1),
    ],
)
def test_a_cue_begins_a_run(trigger, start):
    made = edits.add(project(start=1.0), Run("run-2", "Waits", "part-2", "path-1", trigger=trigger))
    assert course(made, 1).start == pytest.approx(start)
    # and it follows when what it waits for is later
    assert course(edits.update(made, "run-1", start=2.0), 1).start == pytest.approx(start + 1)


def test_what_waits_for_what_never_comes_waits_at_its_start():
    keys = Keyed((SpeedKey(0, 0), SpeedKey(1, 0.4)))
    made = edits.add(
        project(speed_profile=keys), Run("run-2", "Waits", "part-2", "path-1", trigger=Trigger("run-1", "station", 0.9))
    )
    assert course(made, 1).start == np.inf
    assert Motion(made).poses("part-2", [0, 3, 9])[:, :3, 3] == pytest.approx(np.zeros((3, 3)))
    assert span(made) == 4.0


@pytest.mark.parametrize(
    ("fields", "complaint"),
    [
        ({"holds": (Hold(1.2),)}, "holds that do not go forward"),
        ({"holds": (Hold(0.6), Hold(0.4))}, "holds that do not go forward"),
        ({"holds": (Hold(0.5, 5.0),)}, "holds for longer"),
        ({"holds": (Hold(0.5, 0.0),)}, "must be above 0"),
        ({"passes": -1}, "is made -1 times"),
        ({"trigger": Trigger("run-9")}, "does not hold"),
        ({"trigger": Trigger("run-1")}, "waits for itself"),
        ({"follows": Following("run-1")}, "waits for itself"),
        ({"trigger": Trigger("run-1", delay=-1.0)}, "delay"),
        ({"mark": 1.5}, "mark"),
        ({"arrive_by": 0.0}, "due"),
        ({"blend": -1.0}, "the blend of the run"),
        ({"companions": ("part-1",)}, "among its companions"),
        ({"companions": ("part-7",)}, "does not hold"),
    ],
)
def test_bad_runs_are_refused(fields, complaint):
    with pytest.raises(BadInput, match=complaint):
        edits.update(project(), "run-1", **fields)


def test_a_circle_of_cues_is_refused_by_name():
    made = edits.add(project(), Run("run-2", "Waits", "part-2", "path-1", trigger=Trigger("run-1")))
    with pytest.raises(BadInput, match=r"“(Rolls|Waits)” waits for itself"):
        edits.update(made, "run-1", follows=Following("run-2"))


def test_what_followed_a_removed_run_goes_by_itself():
    made = project()
    made = edits.add(
        made,
        edits.change(made.runs[0], id="run-2", rider="part-2", follows=Following("run-1")),
        Run("run-3", "Waits", "part-2", "path-1", start=7.0, trigger=Trigger("run-1")),
    )
    left = edits.remove(made, "run-1")
    assert [r.follows for r in left.runs] == [None, None] and left.runs[1].trigger is None
