"""Runs made, led, copied and brought where they must be."""

import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    CarriedOrientation,
    Eased,
    EllipseShape,
    FixedOrientation,
    Law,
    Path,
    PathPoint,
    PointShape,
    Run,
)
from kestrav.core.editing.run_making import (
    add_attachment,
    bring_path,
    convoy,
    follow_on,
    front_station,
    linked_copy,
    seat_place,
    stop_at_mark,
    with_hold,
)
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.poses import world_bounds, world_poses
from kestrav.core.kinematics.runs import course_of
from kestrav.core.paths.shaping import reverse

BEND = PointShape(
    (PathPoint((0, 0, 0)), PathPoint((2000, 0, 0)), PathPoint((3000, 1200, 0)), PathPoint((3000, 3000, 0)))
)


def project(shape=None, **run):
    fields = {"duration": 6.0, "orientation": AlongOrientation()} | run
    return make_project(
        {"Trolley": (box_mesh(600, 300, 200), (10, 20, 30)), "Crate": (box_mesh(50, 50, 50), (0, 900, 0))},
        shape or straight((0, 0, 0), (3000, 0, 0)),
        **fields,
    ).project


def far_end(made, axis):
    course = course_of(made, made.runs[0])
    return world_bounds(made, "part-1", world_poses(made, [course.end]))[0][:, axis]


@pytest.mark.parametrize("seat", ["pivot", "front", "rear", "bottom", "point"])
@pytest.mark.parametrize(
    "orientation", [FixedOrientation(), AlongOrientation(), CarriedOrientation(wheelbase=400.0, share=0.5)]
)
def test_the_front_comes_to_stand_at_the_mark(seat, orientation):
    made = project(reference=seat, orientation=orientation, mark=0.8, reference_point=(40.0, 0.0, 0.0))
    made = stop_at_mark(made, "run-1")
    assert far_end(made, 0)[1] == pytest.approx(2400, abs=1e-3)
    assert front_station(made, made.runs[0]) == pytest.approx(2400, abs=1e-6)


def test_backwards_it_is_the_rear_that_stops_at_the_mark():
    made = stop_at_mark(project(backwards=True, mark=0.2), "run-1")
    assert far_end(made, 0)[0] == pytest.approx(600, abs=1e-3)


def test_on_two_points_in_a_bend_the_overhang_counts():
    made = project(BEND, orientation=CarriedOrientation(wheelbase=400.0, share=0.5), mark=0.95)
    made = stop_at_mark(made, "run-1")
    run, course = made.runs[0], course_of(made, made.runs[0])
    curve = course.path.curve
    mark, way = curve.position([0.95 * curve.length])[0], curve.tangent([0.95 * curve.length])[0]
    pose = world_poses(made, [course.end])[0, 0]
    corners = np.array([[x, y, z] for x in (-300, 300) for y in (-150, 150) for z in (-100, 100)])
    ahead = (corners @ pose[:3, :3].T + pose[:3, 3] - mark) @ way
    # square to the path at the mark its foremost corner touches it
    assert ahead.max() == pytest.approx(0, abs=0.5) and run.end < 0.95


def test_a_path_too_short_for_its_mark_is_said():
    with pytest.raises(BadInput, match="too short"):
        stop_at_mark(project(mark=1.0, reference="rear", begin=0.5, offset=(-2000.0, 0.0, 0.0)), "run-1")


@pytest.mark.parametrize("seat", ["pivot", "front", "bottom"])
def test_a_path_is_brought_to_its_rider(seat):
    made = project(BEND, reference=seat, begin=0.1, orientation=FixedOrientation())
    brought = bring_path(made, "run-1")
    course = course_of(brought, brought.runs[0])
    assert course.path.curve.position([course.first])[0] == pytest.approx(
        seat_place(brought, brought.runs[0]), abs=1e-6
    )
    # its rider does not move to it then
    rest = world_poses(edits.remove(brought, "run-1"), [0])[0, 0]
    assert world_poses(brought, [0])[0, 0] == pytest.approx(rest, abs=1e-6)


def test_a_convoy_keeps_its_spacing_and_its_looks():
    made = convoy(project(EllipseShape((0, 0, 0), 2000, 2000), speed_profile=Eased(300, 300)), "run-1", 4, 700.0)
    assert [p.name for p in made.parts if p.link] == ["Trolley", "Trolley 2", "Trolley 3", "Trolley 4"]
    times = np.linspace(0, 6, 61)
    length = course_of(made, made.runs[0]).path.length
    stations = np.array([course_of(made, r).stations(times) for r in made.runs])
    assert pytest.approx(np.tile([700, 1400, 2100], (61, 1))) == np.mod(stations[0] - stations[1:], length).T
    # what is changed of one is changed of all
    changed = edits.update(made, "run-1", speed_profile=Law("simple harmonic"), orientation=FixedOrientation())
    assert {r.speed_profile for r in changed.runs} == {Law("simple harmonic")} and {
        r.orientation for r in changed.runs
    } == {FixedOrientation()}


def test_a_convoy_needs_two_and_a_part():
    with pytest.raises(BadInput, match="2 or more"):
        convoy(project(), "run-1", 1, 500.0)


def test_following_on_another_path():
    made = edits.add(project(), Path("path-2", "Beside", straight((0, 500, 0), (5000, 500, 0))))
    made = follow_on(made, "run-1", "part-2", "path-2", 200.0)
    places = Motion(made).poses("part-2", [3.0, 6.0])[:, :3, 3]
    assert places == pytest.approx(np.array([[1300, 500, 0], [2800, 500, 0]]))


def test_a_linked_copy_goes_as_the_first_on_its_own_path():
    made = edits.add(
        project(speed_profile=Eased(500, 500)), Path("path-2", "Beside", straight((0, 500, 0), (6000, 500, 0)))
    )
    made = linked_copy(made, "run-1", "part-2", "path-2")
    changed = edits.update(made, "run-2", duration=9.0)
    assert [r.duration for r in changed.runs] == [9.0, 9.0]
    assert course_of(changed, changed.runs[1]).length == pytest.approx(6000)
    moved = edits.update(changed, "run-2", start=2.0)
    assert moved.runs[0].start == 0


def test_a_hold_is_put_in_where_it_is():
    made = with_hold(project(), "run-1", 2.0, 1.5)
    assert made.runs[0].holds[0].place == pytest.approx(1 / 3) and made.runs[0].duration == 7.5
    course = course_of(made, made.runs[0])
    assert course.stations([2.0, 3.0, 3.5, 7.5]) == pytest.approx([1000, 1000, 1000, 3000])
    with pytest.raises(BadInput, match="at one of its ends"):
        with_hold(project(), "run-1", 6.0)


def test_nothing_rides_with_its_own_part():
    made = project()
    assert add_attachment(made, "part-2", "part-1", 1.0).attachments[0].carrier == "part-1"
    with pytest.raises(BadInput, match="parts of each other"):
        add_attachment(made, "part-1", "part-1", 1.0)


def test_what_is_removed_takes_its_rides_and_company_along():
    made = add_attachment(edits.update(project(), "run-1", companions=("part-2",)), "part-2", "part-1", 1.0)
    gone = edits.remove(made, "part-2")
    assert gone.runs[0].companions == () and not gone.attachments
    assert not edits.remove(made, "part-1").attachments


def test_a_run_keeps_its_marks_when_its_path_is_reversed():
    made = project(mark=0.8, holds=())
    made = with_hold(made, "run-1", 2.0)
    turned = reverse(made, "path-1").runs[0]
    assert turned.mark == pytest.approx(0.2) and turned.holds[0].place == pytest.approx(2 / 3)
    assert isinstance(turned, Run)
