"""Clearance during a drag: what it says is what a full check says, and it stays within its time."""

import numpy as np
import pytest
from shapes import box_mesh
from test_certificate import goes, scene

from kestrav.core.clearance.live import Live, with_live
from kestrav.core.clearance.sweep import sweep
from kestrav.core.document import edits
from kestrav.core.document.records import Requirement
from kestrav.core.kinematics.runs import frame_times, span


def bent_past_a_post():
    made, meshes = scene(
        ram=(box_mesh(40, 40, 40), (0, 0, 0)),
        post=(box_mesh(10, 10, 400), (300, 60.0, 0)),
        other=(box_mesh(10, 10, 400), (100, -60.0, 0)),
    )
    return goes(made, "ram", (0, 0, 0), (300, 0, 0), (600, 0, 0), (900, 0, 0), kind="smooth"), meshes


def dragged(made, point, *place):
    return edits.set_point(made, "path-1", point, position=place)


def test_it_says_what_a_full_check_says_of_the_changed_stretch_and_the_playhead():
    made, meshes = bent_past_a_post()
    live = Live()
    live.checked(made, meshes)
    for across in (10.0, 22.0, 31.0):  # nearer and nearer to the post
        now = dragged(made, 1, 300.0, across, 0.0)
        told = live.follow(now, meshes, 0.5)
        assert told.complete and told.times[0] == 0.5
        known = sweep(now, meshes, told.times)
        assert told.distance == pytest.approx(np.maximum(known.distance, 0), abs=1e-9)
        assert [p.other for p in told.pairs] == [p.other for p in known.pairs]


def test_only_what_changed_is_measured_and_merged_into_what_was_known():
    made, meshes = bent_past_a_post()
    before, live = sweep(made, meshes, frame_times(made)), Live()
    live.checked(made, meshes)
    assert live.follow(made, meshes, 0.0, 4).stretch is None

    now = dragged(made, 3, 900.0, 40.0, 0.0)
    told = live.follow(now, meshes, 0.0)
    curve = with_live(before, told, span(now))
    assert np.all(np.diff(curve.times) > 0)
    whole = sweep(now, meshes, curve.times)
    assert curve.distance == pytest.approx(np.maximum(whole.distance, 0), abs=1e-9)
    assert np.array_equal(curve.short, whole.distance < 5.0)


def test_a_short_time_gives_fewer_frames_evenly_spread():
    made, meshes = bent_past_a_post()
    live = Live()
    live.checked(made, meshes)
    now = dragged(made, 1, 300.0, 20.0, 0.0)
    few, all_of_it = live.follow(now, meshes, 0.0, 1), live.follow(now, meshes, 0.0)
    assert not few.complete and len(few.times) == 2  # the playhead, and one frame at least
    assert all_of_it.complete and few.stretch == all_of_it.stretch


def test_a_project_never_checked_counts_as_changed_throughout():
    made, meshes = bent_past_a_post()
    told = Live().follow(made, meshes, 0.0)
    assert told.complete and len(told.times) == len(frame_times(made)) + 1


def test_the_pair_that_is_worst_off_is_told_where_pairs_have_requirements_of_their_own():
    made, meshes = bent_past_a_post()
    # the other post may be as near as 1 mm, the post must stay 20 mm away
    made = edits.add(
        made,
        Requirement("need-1", "Post", ("ram",), ("post",), 20.0),
        Requirement("need-2", "Other", ("ram",), ("other",), 1.0),
    )
    live = Live()
    live.checked(made, meshes)
    now = dragged(made, 1, 300.0, 22.0, 0.0)
    told = live.follow(now, meshes, 0.5)
    known = sweep(now, meshes, told.times)
    assert told.distance == pytest.approx(np.maximum(known.distance, 0), abs=1e-9)
    assert told.needs == pytest.approx(known.needs)
    curve = with_live(known, told, span(now))
    assert curve.short.any() and not curve.short.all()


def test_what_is_in_contact_is_told_while_it_is_dragged_deeper():
    made, meshes = scene(block=(box_mesh(20, 20, 20), (0, 0, 10)), table=(box_mesh(400, 400, 10), (0, 0, -5)))
    made = goes(made, "block", (0, 0, 10), (60, 0, 10), (120, 0, 10), kind="smooth")
    live = Live()
    live.checked(made, meshes)
    assert live.follow(made, meshes, 0.5).pairs == (None,)  # sliding is no distance
    told = live.follow(dragged(made, 1, 60.0, 0.0, 7.0), meshes, 1.0)
    assert told.distance.min() == pytest.approx(-3.0, abs=0.1)
    worst = int(np.argmin(told.distance))
    assert told.needs[worst] < 0 and told.pairs[worst].other == "table"
