"""Ways out of assemblies, against what their geometry says."""

import itertools
import subprocess
import sys
import time
from pathlib import Path

import msgspec
import numpy as np
import pytest
import trimesh
from shapes import box_mesh

from kestrav.core.clearance.certificate import certify
from kestrav.core.document import edits
from kestrav.core.document.records import FixedOrientation, Part, Placement, Project, Settings
from kestrav.core.errors import BadInput
from kestrav.core.extraction.disassembly import order_of
from kestrav.core.extraction.problem import Budget, problem_of
from kestrav.core.extraction.pulls import directions, least_blockers, legged_pull, straight_pulls
from kestrav.core.extraction.removal_poses import Pose, pose
from kestrav.core.extraction.search import (
    ExtractionPath,
    ExtractionRequest,
    NoExtractionPath,
    add_extraction_path,
    find_extraction_path,
)
from kestrav.core.geometry.meshes import mesh
from kestrav.core.parts.rest import rest_and_pivot
from kestrav.core.parts.solids import geometry_record

AXES = {"+x": (1, 0, 0), "-x": (-1, 0, 0), "+y": (0, 1, 0), "-y": (0, -1, 0), "+z": (0, 0, 1), "-z": (0, 0, -1)}


def boxes(required=2.0, **shapes):
    """An assembly of boxes (size, middle) by name; what begins with an underscore belongs to the housing."""
    parts = [Part("all", "Assembly")]
    meshes = {}
    for name, (size, middle) in shapes.items():
        shape = size if not isinstance(size, tuple) else box_mesh(*size)
        meshes[shape.hash] = shape
        parts.append(Part(name, name, "all", Placement(middle), geometry=shape.hash))
    made = Project(
        parts=tuple(parts),
        geometry=tuple(geometry_record(m) for m in meshes.values()),
        settings=Settings(required_clearance=required),
    )
    return made, meshes


def free_axes(made, meshes, thing="block", **fields):
    problem = problem_of(made, meshes, [thing], **fields)
    pulls = straight_pulls(problem, directions(problem, allowed=[np.array(d, float) for d in AXES.values()]))
    return {name for name, d in AXES.items() if any(p.free and np.allclose(p.direction, d) for p in pulls)}


def u_shape(gap=10.0, lid=False):
    """A block in a U that is open upwards and to both ends."""
    shapes = {
        "block": ((60, 40, 40), (0, 0, 0)),
        "floor": ((60, 40 + 2 * gap + 20, 10), (0, 0, -25 - gap)),
        "left": ((60, 10, 80), (0, 25 + gap, 0)),
        "right": ((60, 10, 80), (0, -25 - gap, 0)),
    }
    if lid:
        shapes["lid"] = ((60, 100, 10), (0, 0, 50))
    return boxes(**shapes)


def test_free_directions_of_a_block_in_a_u():
    assert free_axes(*u_shape()) == {"+x", "-x", "+z"}
    assert free_axes(*u_shape(lid=True)) == {"+x", "-x"}


def test_a_block_that_touches_may_slide():
    made, meshes = u_shape(gap=0.0)
    assert free_axes(made, meshes) == {"+x", "-x", "+z"}


def test_a_peg_in_a_hole_comes_out_along_its_axis_only():
    outer = trimesh.creation.annulus(10.5, 40.0, 60.0, sections=48)
    peg = trimesh.creation.cylinder(10.0, 100.0, sections=48)
    made, meshes = boxes(
        required=0.2,
        block=(mesh(peg.vertices, peg.faces), (0, 0, 0)),
        plate=(mesh(outer.vertices, outer.faces), (0, 0, 0)),
    )
    assert free_axes(made, meshes) == {"+z", "-z"}


def test_a_dovetail_slides_along_its_groove_only():
    def prism(points, length):
        n = len(points)
        ends = [np.column_stack([np.full(n, x), *np.array(points).T]) for x in (-length / 2, length / 2)]
        return trimesh.Trimesh(*_hull(np.vstack(ends)), process=False)

    def _hull(points):
        hull = trimesh.convex.convex_hull(points)
        return hull.vertices, hull.faces

    tail = prism([(-20, 0), (20, 0), (10, 15), (-10, 15)], 60)
    left = prism([(-40, -2), (-23, -2), (-13, 13), (-13, 17), (-40, 17)], 60)
    right = prism([(40, -2), (23, -2), (13, 13), (13, 17), (40, 17)], 60)
    floor = prism([(-40, -20), (40, -20), (40, -3), (-40, -3)], 60)
    made, meshes = boxes(
        required=0.5,
        block=(mesh(tail.vertices, tail.faces), (0, 0, 0)),
        left=(mesh(left.vertices, left.faces), (0, 0, 0)),
        right=(mesh(right.vertices, right.faces), (0, 0, 0)),
        floor=(mesh(floor.vertices, floor.faces), (0, 0, 0)),
    )
    assert free_axes(made, meshes) == {"+x", "-x"}


def test_the_shortest_free_pull_becomes_a_path_and_a_run_that_are_certified():
    made, meshes = u_shape()
    way = find_extraction_path(made, meshes, ["block"], ExtractionRequest(seed=3, margin=2.0))
    assert isinstance(way, ExtractionPath) and way.stage == "straight pull" and way.seed == 3
    assert way.length == pytest.approx(62, abs=1.0) and way.tilt == 0
    done = add_extraction_path(made, ["block"], way)
    run = done.runs[-1]
    assert run.rider == "block" and isinstance(run.orientation, FixedOrientation)
    assert certify(done, meshes).status == "certified"


def l_channel():
    """A block in a channel that goes up and then to the side: two legs."""
    return boxes(
        required=1.0,
        block=((40, 40, 40), (0, 0, 0)),
        floor=((60, 60, 10), (0, 0, -30)),
        back=((10, 60, 170), (-30, 0, 50)),
        front=((10, 60, 70), (30, 0, 0)),
        left=((220, 10, 170), (80, 30, 50)),
        right=((220, 10, 170), (80, -30, 50)),
        roof=((220, 60, 10), (80, 0, 130)),
    )


def test_two_legs_where_no_straight_pull_serves():
    made, meshes = l_channel()
    way = find_extraction_path(made, meshes, ["block"])
    assert isinstance(way, ExtractionPath) and way.stage == "two legs"
    assert "0 free" in way.tried[0] and len(way.poses) >= 3
    done = add_extraction_path(made, ["block"], way)
    assert certify(done, meshes).status == "certified"


def test_what_pulls_in_legs_have_found_is_kept_when_their_budget_is_spent():
    made, meshes = l_channel()
    problem = problem_of(made, meshes, ["block"])
    axes = [*np.eye(3), *-np.eye(3)]
    whole = legged_pull(problem, axes, 2)
    assert whole is not None and problem.measured > 0
    for checks in (1, problem.measured // 2, 10 * problem.measured):
        own = problem_of(made, meshes, ["block"])
        found = legged_pull(own, axes, 2, None, Budget(own, checks, 600.0))
        # no way, or one that is free, and with enough the same one
        assert found is None or all(own.free_between(a, b)[0] for a, b in itertools.pairwise(found))
        assert own.measured < problem.measured + 2000
    assert found == whole


def slot():
    """A long bar behind a wall with a slot: it must be turned to come through."""
    return boxes(
        required=1.0,
        block=((160, 20, 20), (0, 0, 0)),
        left=((10, 300, 300), (-110, 0, 0)),
        right=((10, 300, 300), (110, 0, 0)),
        back=((210, 10, 300), (0, 130, 0)),
        top=((210, 270, 10), (0, 0, 145)),
        bottom=((210, 270, 10), (0, 0, -145)),
        front1=((85, 10, 280), (-62.5, -130, 0)),
        front2=((85, 10, 280), (62.5, -130, 0)),
    )


def test_a_bar_that_must_be_turned_is_planned_and_shown_to_be_free():
    made, meshes = slot()
    way = find_extraction_path(made, meshes, ["block"], ExtractionRequest(seed=2))
    assert isinstance(way, ExtractionPath) and way.stage in ("turned", "planned") and way.tilt > 10
    problem = problem_of(made, meshes, ["block"])
    assert problem.out(way.poses[-1])
    for one, two in zip(way.poses[:-1], way.poses[1:], strict=True):
        assert problem.free_between(one, two)[0]
    done = add_extraction_path(made, ["block"], way)
    told = certify(edits.settings(done, required_clearance=0.9), meshes)
    assert told.status == "certified"


def test_kept_upright_the_bar_has_no_way_out():
    made, meshes = slot()
    told = find_extraction_path(
        made, meshes, ["block"], ExtractionRequest(checks=15_000, upright=True, allowed=tuple(AXES.values()))
    )
    assert isinstance(told, NoExtractionPath) and len(told.blockers) == 1


def test_what_is_enclosed_has_no_way_out_and_its_blockers_are_named():
    walls = {
        "left": ((10, 120, 120), (-55, 0, 0)),
        "right": ((10, 120, 120), (55, 0, 0)),
        "back": ((100, 10, 120), (0, 55, 0)),
        "front": ((100, 10, 120), (0, -55, 0)),
        "floor": ((100, 100, 10), (0, 0, -55)),
        "lid": ((100, 100, 10), (0, 0, 55)),
        "cover": ((100, 100, 10), (0, 0, 70)),
    }
    made, meshes = boxes(block=((84, 84, 84), (0, 0, 0)), **walls)
    told = find_extraction_path(made, meshes, ["block"], ExtractionRequest(checks=4000, allowed=tuple(AXES.values())))
    assert isinstance(told, NoExtractionPath) and len(told.blockers) == 1
    assert told.blockers[0] in walls and told.blockers[0] not in ("lid", "cover")
    problem = problem_of(made, meshes, ["block"])
    parts, way = least_blockers(problem, [np.array([0.0, 0, 1])])
    assert parts == ["lid", "cover"] and tuple(way) == (0, 0, 1)


def test_a_motion_is_free_or_not_as_its_bounds_say():
    made, meshes = boxes(block=((20, 20, 20), (0, 0, 0)), blade=((0.5, 100, 100), (60, 0, 0)))
    problem = problem_of(made, meshes, ["block"])
    assert problem.free_between(Pose(), pose((40, 0, 0)))[0]
    assert not problem.free_between(Pose(), pose((200, 0, 0)))[0]  # a thin blade between two ends that are free
    turned = problem.free_between(Pose(), pose((0, 0, 0), (0, 0, np.pi)))
    assert turned[0] and 60 - 0.25 - np.hypot(10, 10) - 2.0 - 1e-6 <= turned[1] <= 60 - 0.25 - 10 - 2.0 + 1e-6


def bayonet():
    """A pin with a lug on each side under a plate with a keyhole: a round hole with a slot along y for the lugs, which stand along x."""
    boxes_of = {
        # the plate around a hole of 24 by 24 mm with slots of 10 mm width along y, as boxes
        "west": ((40, 120, 6), (-32, 0, 20)),
        "east": ((40, 120, 6), (32, 0, 20)),
        "north": ((24, 30, 6), (0, 45, 20)),
        "south": ((24, 30, 6), (0, -45, 20)),
        "nw": ((7, 18, 6), (-8.5, 21, 20)),
        "ne": ((7, 18, 6), (8.5, 21, 20)),
        "sw": ((7, 18, 6), (-8.5, -21, 20)),
        "se": ((7, 18, 6), (8.5, -21, 20)),
        # a cup below, so that nothing but up is out
        "floor": ((120, 120, 6), (0, 0, -30)),
        "wall w": ((6, 120, 50), (-55, 0, -5)),
        "wall e": ((6, 120, 50), (55, 0, -5)),
        "wall n": ((104, 6, 50), (0, 57, -5)),
        "wall s": ((104, 6, 50), (0, -57, -5)),
    }
    pin = trimesh.util.concatenate(
        [
            trimesh.creation.box((14, 14, 60), transform=trimesh.transformations.translation_matrix((0, 0, 20))),
            trimesh.creation.box((52, 6, 8)),
        ]
    )
    return boxes(required=0.5, block=(mesh(pin.vertices, pin.faces), (0, 0, 0)), **boxes_of)


def test_a_bayonet_is_turned_and_then_pulled():
    made, meshes = bayonet()
    assert free_axes(made, meshes) == set()
    way = find_extraction_path(made, meshes, ["block"], ExtractionRequest(tilt=5.0))
    assert isinstance(way, ExtractionPath) and way.stage in ("turned", "planned")
    turned = np.degrees([np.linalg.norm(at.turn) for at in way.poses])
    assert turned.max() > 60 and way.tilt <= 5.0  # a quarter turn, less what the slot leaves free
    assert way.certificate.status == "certified"


def hook(sign):
    """A hook of three bars in the x-z plane: a shank, a bow and a tip that points back."""
    bars = [
        trimesh.creation.box((60, 10, 10), transform=trimesh.transformations.translation_matrix((30 * sign, 0, 0))),
        trimesh.creation.box((10, 10, 40), transform=trimesh.transformations.translation_matrix((-5 * sign, 0, 15))),
        trimesh.creation.box((30, 10, 10), transform=trimesh.transformations.translation_matrix((10 * sign, 0, 40))),
    ]
    return trimesh.util.concatenate(bars)


def test_two_interlocked_hooks_come_apart():
    one, two = hook(1), hook(-1)
    # the other hook turned about x by a quarter, its bow through the first one's
    two.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, (1, 0, 0)))
    two.apply_translation((12, 20, 20))
    made, meshes = boxes(
        required=0.5, block=(mesh(one.vertices, one.faces), (0, 0, 0)), hook=(mesh(two.vertices, two.faces), (0, 0, 0))
    )
    problem = problem_of(made, meshes, ["block"])
    assert not problem.held
    way = find_extraction_path(made, meshes, ["block"], ExtractionRequest(seed=3))
    assert isinstance(way, ExtractionPath) and way.certificate.status == "certified"
    for a, b in zip(way.poses[:-1], way.poses[1:], strict=True):
        assert problem.free_between(a, b)[0]


def notched(size, *notches):
    """A box less notches, as boxes that touch."""
    cells = [trimesh.creation.box(size)]
    for notch in notches:
        cells = [piece for cell in cells for piece in _without(cell.bounds, notch)]
    body = trimesh.util.concatenate(cells)
    return mesh(body.vertices, body.faces)


def _without(bounds, notch):
    """A box less a notch, as boxes."""
    low, high = np.array(bounds[0]), np.array(bounds[1])
    a, b = np.maximum(low, notch[0]), np.minimum(high, notch[1])
    if (a >= b).any():
        return [trimesh.creation.box(bounds=(low, high))]
    pieces = []
    for k in range(3):
        for start, end in ((low[k], a[k]), (b[k], high[k])):
            if end - start > 1e-9:
                one, two = low.copy(), high.copy()
                one[k], two[k] = start, end
                pieces.append(trimesh.creation.box(bounds=(one, two)))
        low[k], high[k] = a[k], b[k]
    return pieces


def test_a_burr_gives_its_key_first_and_then_the_rest():
    # a key along x goes through a bar along y, and both through an upright: nothing moves but the key, along itself
    made, meshes = boxes(
        required=0.2,
        key=(notched((160, 20, 20)), (0, 0, 0)),
        across=(notched((24, 120, 40), ((-13, -11, -11), (13, 11, 11))), (0, 0, 0)),
        upright=(
            notched((60, 40, 120), ((-13, -21, -21), (13, 21, 21)), ((-31, -11, -11), (31, 11, 11))),
            (0, 0, 0),
        ),
    )
    assert free_axes(made, meshes, "key") == {"+x", "-x"}
    assert free_axes(made, meshes, "across") == free_axes(made, meshes, "upright") == set()
    order = order_of(made, meshes, ["across", "key", "upright"])
    assert [r.thing for r in order.removals] == ["key", "across"] and order.stays == "upright"
    assert abs(order.removals[1].direction[1]) == 1.0  # what is left slides apart along y
    told = find_extraction_path(made, meshes, ["across"], ExtractionRequest(checks=8000, upright=True))
    assert isinstance(told, NoExtractionPath) and told.blockers in (("key",), ("upright",))  # either would do
    way = find_extraction_path(made, meshes, ["across"], ExtractionRequest(checks=8000, aside=("key",)))
    assert isinstance(way, ExtractionPath) and way.aside == ("key",)


def test_a_thing_is_taken_to_a_placement_over_what_is_in_between():
    made, meshes = boxes(
        required=2.0,
        block=((40, 40, 40), (0, 0, 0)),
        wall=((10, 400, 100), (100, 0, 30)),
        floor=((600, 400, 10), (150, 0, -26)),
    )
    way = find_extraction_path(made, meshes, ["block"], ExtractionRequest(target=Placement((200.0, 0.0, 0.0))))
    assert isinstance(way, ExtractionPath) and way.stage in ("two legs", "three legs")
    assert way.poses[-1].translation == pytest.approx((200, 0, 0))
    assert max(at.translation[2] for at in way.poses) > 80  # over the wall: its top is at 80, the block's foot at -20
    assert way.certificate.status == "certified"


def test_a_thing_is_put_onto_a_carrier():
    made, meshes = boxes(
        required=2.0,
        block=((40, 40, 40), (0, 0, 0)),
        cart=((120, 120, 20), (300, 0, -60)),
        wall=((10, 400, 100), (100, 0, 0)),
    )
    way = find_extraction_path(made, meshes, ["block"], ExtractionRequest(onto="cart"))
    assert isinstance(way, ExtractionPath)
    # its foot comes to stand on the cart's top, at -50
    assert way.poses[-1].translation == pytest.approx((300, 0, -30), abs=0.05)
    with pytest.raises(BadInput, match="taken out itself"):
        find_extraction_path(made, meshes, ["block"], ExtractionRequest(onto="all"))


def test_a_target_inside_another_part_is_refused_with_how_deep():
    made, meshes = u_shape()
    with pytest.raises(BadInput, match=r"overlap “left” by .* mm"):
        find_extraction_path(made, meshes, ["block"], ExtractionRequest(target=Placement((0.0, 30.0, 0.0))))
    with pytest.raises(BadInput, match="not both"):
        find_extraction_path(made, meshes, ["block"], ExtractionRequest(target=Placement(), onto="left"))
    with pytest.raises(BadInput, match="room"):
        find_extraction_path(made, meshes, ["block"], ExtractionRequest(room=((-10, -10, -10), (10, 10, 10))))


def test_what_is_in_another_part_as_it_stands_comes_out_and_is_told_with_how_deep():
    made, meshes = u_shape()
    sunk = edits.update(made, "block", placement=Placement((0.0, 0.0, -17.0)))  # its foot at -37, the floor at -30
    way = find_extraction_path(sunk, meshes, ["block"], ExtractionRequest(checks=4000))
    assert isinstance(way, ExtractionPath) and way.certificate.status == "certified"
    (contact,) = way.certificate.contacts
    assert contact.pair.other == "floor" and contact.deep == pytest.approx(7.0, abs=0.05)
    assert contact.spans[0][1] < np.inf  # it has parted at the end


def test_it_is_out_well_clear_or_by_the_margin_asked_for():
    made, meshes = u_shape()
    up = ((0.0, 0.0, 1.0),)
    # its foot is at -20 and the sides end at 40; a quarter of its mean size of 46.7 is 11.7
    for margin, way_up in ((None, 60.0 + 11.7), (40.0, 100.0)):
        way = find_extraction_path(made, meshes, ["block"], ExtractionRequest(margin=margin, allowed=up))
        assert isinstance(way, ExtractionPath) and way.length == pytest.approx(way_up, abs=0.1)


def test_a_cover_on_a_block_is_out_beyond_what_it_touches():
    made, meshes = boxes(
        cover=((100, 100, 4), (0, 0, 2)), block=((90, 90, 60), (0, 0, -30)), shelf=((400, 400, 4), (0, 0, -62))
    )
    way = find_extraction_path(made, meshes, ["cover"], ExtractionRequest(allowed=((1.0, 0.0, 0.0),), margin=10.0))
    assert isinstance(way, ExtractionPath) and way.length >= 50 + 45 + 10
    assert way.certificate.status == "certified"


def test_what_may_be_taken_away_is_named_when_it_was():
    made, meshes = u_shape(lid=True)
    ends = edits.add(made, Part("end", "End", "all", Placement((60.0, 0.0, 0.0)), geometry=made.parts[1].geometry))
    ends = edits.add(ends, Part("stop", "Stop", "all", Placement((-60.0, 0.0, 0.0)), geometry=made.parts[1].geometry))
    assert isinstance(find_extraction_path(ends, meshes, ["block"], ExtractionRequest(checks=4000)), NoExtractionPath)
    way = find_extraction_path(ends, meshes, ["block"], ExtractionRequest(checks=4000, aside=("lid",)))
    assert isinstance(way, ExtractionPath) and way.aside == ("lid",) and way.poses[-1].translation[2] > 0


def test_a_requirement_larger_than_the_opening_is_answered():
    made, meshes = u_shape(gap=10.0)
    told = find_extraction_path(made, meshes, ["block"], ExtractionRequest(required=30.0, checks=8000))
    # as near as it stands it may be, so along the walls it still comes out
    assert isinstance(told, ExtractionPath)
    narrow, meshes = slot()
    told = find_extraction_path(narrow, meshes, ["block"], ExtractionRequest(required=25.0, checks=8000))
    assert isinstance(told, NoExtractionPath) and told.blockers


def test_the_room_holds_a_way_back():
    made, meshes = u_shape()
    free = find_extraction_path(made, meshes, ["block"])
    end = np.array(free.poses[-1].translation)
    axis = int(np.argmax(np.abs(end)))
    low, high = np.full(3, -500.0), np.full(3, 500.0)
    (high if end[axis] > 0 else low)[axis] = np.sign(end[axis]) * 60.0  # no room to come out there
    other = find_extraction_path(made, meshes, ["block"], ExtractionRequest(room=(tuple(low), tuple(high))))
    assert isinstance(other, ExtractionPath) and not np.allclose(np.sign(other.poses[-1].translation), np.sign(end))


def test_corners_are_rounded_as_far_as_the_certificate_allows():
    made, meshes = l_channel()
    way = find_extraction_path(made, meshes, ["block"])
    done = add_extraction_path(made, ["block"], way)
    points = done.paths[-1].shape.points
    if way.rounding > 0:
        assert any(point.radius > 0 for point in points)
    assert len(points) <= 8 and way.certificate.status == "certified"


def test_what_cannot_be_asked_is_refused():
    made, meshes = u_shape()
    with pytest.raises(BadInput, match="cannot be required"):
        find_extraction_path(made, meshes, ["block"], ExtractionRequest(required=-1.0))
    with pytest.raises(BadInput, match="to look for an extraction path"):
        find_extraction_path(made, meshes, ["block"], ExtractionRequest(seconds=0.0))
    with pytest.raises(BadInput, match="checks to look for an extraction path"):
        find_extraction_path(made, meshes, ["block"], ExtractionRequest(checks=0))
    bare = edits.add(made, Part("empty", "Empty"))
    with pytest.raises(BadInput, match="no geometry"):
        find_extraction_path(bare, meshes, ["empty"])


def test_a_way_keeps_to_the_lean_that_is_allowed():
    made, meshes = slot()
    way = find_extraction_path(made, meshes, ["block"], ExtractionRequest(tilt=10.0, allowed=((0, -1, 0),)))
    # turned level, about the upright, it comes through end on
    assert isinstance(way, ExtractionPath) and way.tilt <= 10.0
    assert max(np.linalg.norm(at.turn) for at in way.poses) > np.radians(60)


PLANNED = """
import sys
sys.path[:0] = sys.argv[2:]
from test_search import u_shape
from kestrav.core.extraction.planning import goals, plan
from kestrav.core.extraction.problem import Budget, problem_of
from kestrav.core.extraction.pulls import directions
problem = problem_of(*u_shape(), ["block"])
for _ in range(2):
    found = plan(problem, goals(problem, directions(problem)), Budget(problem, 500_000, 600.0), int(sys.argv[1]))
    print([tuple(round(v, 9) for v in (*at.translation, *at.turn)) for at in found])
"""


def test_the_same_seed_finds_the_same_plan_in_one_process_and_in_another():
    here = Path(__file__).parent

    def planned(seed):
        folders = [str(here), str(here.parent.parent)]
        done = subprocess.run(
            [sys.executable, "-c", PLANNED, str(seed), *folders], capture_output=True, text=True, check=True
        )
        assert "seed" not in done.stderr and "Error" not in done.stderr
        first, again = done.stdout.splitlines()
        assert first == again
        return first

    first = planned(3)
    assert first.startswith("[") and planned(3) == first and planned(4) != first


def test_what_is_found_hangs_on_checks_and_not_on_time(monkeypatch):
    made, meshes = slot()
    request = ExtractionRequest(checks=20_000, upright=True)
    told = find_extraction_path(made, meshes, ["block"], request)
    # a clock that goes a hundred times as fast
    clock = time.monotonic
    monkeypatch.setattr(time, "monotonic", lambda: 100 * clock())
    again = find_extraction_path(made, meshes, ["block"], msgspec.structs.replace(request, seconds=1e6))
    assert isinstance(told, NoExtractionPath) and again.tried == told.tried and "checks" in " ".join(told.tried)
    # what only the outer cap cuts off is said
    late = find_extraction_path(made, meshes, ["block"], msgspec.structs.replace(request, seconds=1e-3))
    assert "s, after" in " ".join(late.tried)


def test_a_part_whose_origin_is_far_off_is_turned_about_a_point_of_its_own():
    # the bar of the slot, its mesh drawn 700 mm beside its origin, as parts of an assembly often are
    made, meshes = slot()
    shape = box_mesh(160, 20, 20).moved(np.array([[1, 0, 0, 700], [0, 1, 0, -300], [0, 0, 1, 80], [0, 0, 0, 1]], float))
    meshes = {**meshes, shape.hash: shape}
    bar = next(p for p in made.parts if p.id == "block")
    place = np.subtract(bar.placement.position, (700, -300, 80))
    made = edits.change(made, geometry=(*made.geometry, geometry_record(shape)))
    made = edits.update(made, "block", geometry=shape.hash, placement=Placement(tuple(float(v) for v in place)))
    found = find_extraction_path(made, meshes, ["block"])
    assert isinstance(found, ExtractionPath) and found.certificate.status == "certified"
    done = add_extraction_path(made, ["block"], found)
    rest, pivot = rest_and_pivot(done, "block")
    assert (rest @ pivot)[:3, 3] == pytest.approx(bar.placement.position, abs=1e-6)
