"""Joining and splitting paths: the curve stays, and so does what runs along it."""

import numpy as np
import pytest

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Bank,
    BankKey,
    Eased,
    EllipseShape,
    Limited,
    Part,
    Path,
    PathPoint,
    PointShape,
    Project,
    RectangleShape,
    Run,
    SpeedZone,
)
from kestrav.core.editing import joining
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.paths.analysis import crossings
from kestrav.core.paths.fitting import departure
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import reverse

WAVY = PointShape(
    tuple(PathPoint(p, k) for p, k in [
        ((0, 0, 0), "smooth"), ((300, 100, 20), "smooth"), ((500, -50, 80), "free"), ((900, 0, 10), "corner"),
        ((1200, 300, 0), "corner"), ((1500, 250, 40), "smooth"), ((1900, 0, 0), "smooth"),
    ])
)  # fmt: skip
WAVY = PointShape(
    tuple(PathPoint(p.position, "free", (-90, 10, 0), (120, 30, 5)) if p.kind == "free" else p for p in WAVY.points)
)
STRAIGHT = PointShape((PathPoint((0, 0, 0), "corner"), PathPoint((800, 0, 0), "corner")))


def project(*shapes, **run):
    paths = tuple(Path(f"path-{i}", f"Way {i}", shape) for i, shape in enumerate(shapes, 1))
    made = Project(parts=(Part("part-1", "Trolley"),), paths=paths)
    fields = {"duration": 4.0, "speed_profile": Eased(200, 300), "orientation": AlongOrientation()} | run
    return edits.add(made, Run("run-1", "Goes", "part-1", "path-1", **fields))


def curve(made, row=0):
    return path_curve(made.paths[row]).curve


def test_own_handles_are_the_same_curve_exactly():
    made = Path("p", "P", joining.own_handles(Path("p", "P", WAVY)))
    before, after = curve(project(WAVY)), path_curve(made).curve
    assert after.length == pytest.approx(before.length, abs=1e-9)
    stations = np.linspace(0, before.length, 500)
    assert np.abs(before.position(stations) - after.position(stations)).max() < 1e-8
    assert np.abs(before.tangent(stations) - after.tangent(stations)).max() < 1e-7


@pytest.mark.parametrize("station", [250.0, 620.0, 1100.0, 1650.0])
def test_a_split_path_is_the_same_line_in_two_parts_and_its_run_goes_on(station):
    before = project(WAVY)
    after = joining.split(before, "path-1", station)
    assert [p.name for p in after.paths] == ["Way 1", "Way 1, second part"]
    assert curve(after, 0).length == pytest.approx(station, abs=1e-6)
    assert curve(after, 0).length + curve(after, 1).length == pytest.approx(curve(before).length, abs=1e-6)
    inside = np.linspace(0, station, 40)
    assert np.abs(curve(after, 0).position(inside) - curve(before).position(inside)).max() < 1e-5
    rest = np.linspace(0, curve(after, 1).length, 40)
    assert np.abs(curve(after, 1).position(rest) - curve(before).position(station + rest)).max() < 1e-5
    times = np.linspace(0, 5, 101)
    assert np.abs(world_poses(before, times) - world_poses(after, times)).max() < 1e-4


def test_split_parts_are_joined_to_what_they_were():
    before = project(WAVY)
    after = joining.join(joining.split(before, "path-1", 620.0), "path-1", "path-2")
    assert len(after.paths) == 1
    assert curve(after).length == pytest.approx(curve(before).length, abs=1e-6)
    assert departure(curve(before), curve(after)).distance < 1e-3
    times = np.linspace(0, 5, 101)
    assert np.abs(world_poses(before, times) - world_poses(after, times)).max() < 1e-4


def test_a_run_that_does_not_cross_stays_whole():
    made = joining.split(project(WAVY, begin=0.1, end=0.3), "path-1", 1500.0)
    assert [r.path for r in made.runs] == ["path-1"]
    made = joining.split(project(WAVY, begin=0.8, end=0.95), "path-1", 500.0)
    assert [r.path for r in made.runs] == ["path-2"]


def test_joining_bridges_a_gap_by_a_straight_piece():
    far = PointShape(tuple(PathPoint(p) for p in [(2200, 0, 0), (2500, 200, 0), (2900, 100, 0)]))
    made = joining.join(project(WAVY, far), "path-1", "path-2")
    gap = 300.0
    assert curve(made).length == pytest.approx(curve(project(WAVY)).length + gap + curve(project(far)).length, abs=1e-6)
    middle = curve(made).position([curve(project(WAVY)).length + gap / 2])[0]
    assert middle == pytest.approx([2050, 0, 0], abs=1e-6)


def test_joining_turns_the_second_round_where_its_end_is_nearer():
    back = PointShape(tuple(PathPoint(p, "corner") for p in [(1600, 900, 0), (800, 0, 0)]))
    made = joining.join(project(STRAIGHT, back), "path-1", "path-2")
    assert [p.position for p in made.paths[0].shape.points] == [(0, 0, 0), (800, 0, 0), (1600, 900, 0)]
    assert all(p.kind == "corner" for p in made.paths[0].shape.points)


def test_a_closed_path_is_opened_where_wanted_and_closed_again():
    ring = EllipseShape((0, 0, 0), 400, 250)
    made = project(ring)
    length = curve(made).length
    open_ = joining.split(made, "path-1", 700.0)
    assert not curve(open_).closed
    assert curve(open_).length == pytest.approx(length, rel=1e-5)
    assert curve(open_).position([0.0])[0] == pytest.approx(curve(made).position([700.0])[0], abs=0.02)
    assert not len(curve(open_).kink_stations)
    shut = joining.closed(open_, "path-1")
    assert curve(shut).closed and curve(shut).length == pytest.approx(length, rel=1e-5)
    assert not len(curve(shut).kink_stations)


@pytest.mark.parametrize("times", [2, 5])
def test_a_repeated_path_goes_on_by_itself_and_its_run_stays_on_the_first(times):
    before = project(WAVY)
    after = joining.repeated(before, "path-1", times)
    assert curve(after).length == pytest.approx(times * curve(before).length, rel=1e-9)
    moments = np.linspace(0, 5, 60)
    assert np.abs(world_poses(before, moments) - world_poses(after, moments)).max() < 1e-4


def test_a_loop_is_cut_out():
    turn = np.linspace(0, 2 * np.pi, 17)[1:-1]
    loop = [(500 + 150 * np.sin(t), 150 - 150 * np.cos(t), 0) for t in turn]
    shape = PointShape(
        tuple(PathPoint(tuple(map(float, p))) for p in [(0, 0, 0), (450, 0, 0), *loop, (550, 0, 0), (1000, 0, 0)])
    )
    made = project(shape)
    ((first, last),) = crossings(curve(made), 1.0)
    cut = joining.cut_out(made, "path-1", first, last)
    assert curve(cut).length == pytest.approx(curve(made).length - (last - first), abs=0.5)
    assert not crossings(curve(cut), 1.0)


def test_neighbouring_points_are_merged_in_their_middle():
    made = joining.merge_points(project(WAVY), "path-1", [1, 2])
    assert len(made.paths[0].shape.points) == 6
    assert made.paths[0].shape.points[1].position == (400, 25, 50)


@pytest.mark.parametrize(
    ("act", "message"),
    [
        (lambda p: joining.join(p, "path-1", "path-1"), "to itself"),
        (lambda p: joining.join(p, "path-1", "path-2"), "is closed"),
        (lambda p: joining.split(p, "path-1", 0.0), "at its end"),
        (lambda p: joining.repeated(p, "path-1", 1), "2 to 200"),
        (lambda p: joining.repeated(p, "path-2", 3), "is closed"),
        (lambda p: joining.closed(p, "path-2"), "closed already"),
        (lambda p: joining.opened(p, "path-1"), "open already"),
        (lambda p: joining.merge_points(p, "path-1", [0, 3]), "follow one another"),
        (lambda p: joining.cut_out(p, "path-1", 0.0, 100.0), "between the ends"),
    ],
)
def test_what_cannot_be_is_refused_with_its_reason(act, message):
    with pytest.raises(BadInput, match=message):
        act(project(WAVY, RectangleShape((0, 0, 0), 400, 300)))


def carrying(shape, **run):
    """A run with a zone of speed and keys of lean, at known places."""
    zone, keys = SpeedZone(0.25, 0.5, 300.0), (BankKey(0.2, 5.0), BankKey(0.7, -10.0))
    fields = {
        "speed_profile": Limited(900.0, zones=(zone,)),
        "bank": Bank(keys),
        "duration": None,
        "speed": 900.0,
    } | run
    return project(shape, **fields)


def marked(made, row=0):
    """Where in space a run begins and ends, and where its zones and keys lie."""
    run = made.runs[row]
    line = curve(made, [p.id for p in made.paths].index(run.path))
    zones = run.speed_profile.zones if isinstance(run.speed_profile, Limited) else ()
    shares = [run.begin, run.end, *(s for z in zones for s in (z.begin, z.end)), *(k.place for k in run.bank.keys)]
    return line.position(np.array(shares) * line.length)


def test_reversing_keeps_the_portion_with_what_belongs_to_its_places():
    before = carrying(WAVY, begin=0.1, end=0.8)
    after = reverse(before, "path-1")
    begin, end, low, high, first, last = marked(before)
    assert marked(after) == pytest.approx(np.array([end, begin, high, low, last, first]), abs=1e-5)
    assert [k.angle for k in after.runs[0].bank.keys] == [10.0, -5.0]


def test_joining_and_drawing_on_keep_zones_and_keys_at_their_places():
    before = carrying(WAVY)
    far = PointShape(tuple(PathPoint(p) for p in [(2200, 0, 0), (2500, 200, 0)]))
    joined = joining.join(edits.add(before, Path("path-2", "Far", far)), "path-1", "path-2")
    assert marked(joined) == pytest.approx(marked(before), abs=1e-5)
    ahead = PointShape(tuple(PathPoint(p) for p in [(-600, 50, 0), (-300, 0, 0)]))
    joined = joining.join(edits.add(before, Path("path-2", "Ahead", ahead)), "path-1", "path-2")
    assert marked(joined) == pytest.approx(marked(before), abs=1e-5)
    assert marked(joining.repeated(before, "path-1", 3)) == pytest.approx(marked(before), abs=1e-5)


def test_a_split_gives_each_part_its_zone_and_its_keys():
    before = carrying(STRAIGHT, begin=0.6, end=1.0)
    after = joining.split(before, "path-1", 320.0)  # 40 %: in the zone and between the keys
    (run,) = after.runs
    assert run.path == "path-2"
    assert [(z.begin, z.end) for z in run.speed_profile.zones] == [(0.0, pytest.approx((400 - 320) / 480))]
    # a key at the cut holds the lean that there was: 5° and -10° at 20 and 70 %
    assert [(k.place, k.angle) for k in run.bank.keys] == [
        (0.0, pytest.approx(-1.0)),
        (pytest.approx((560 - 320) / 480), -10.0),
    ]


def test_a_run_of_a_portion_stays_on_it_when_a_ring_is_opened_or_a_path_closed():
    ring = carrying(EllipseShape((0, 0, 0), 400, 250), begin=0.5, end=0.9)
    for station in (300.0, 2020.0):
        opened = joining.opened(ring, "path-1", station)
        assert marked(opened)[:2] == pytest.approx(marked(ring)[:2], abs=0.05)
    open_ = carrying(PointShape((*STRAIGHT.points, PathPoint((800, 600, 0), "corner"))), begin=0.1, end=0.6)
    assert marked(joining.closed(open_, "path-1")) == pytest.approx(marked(open_), abs=1e-6)
