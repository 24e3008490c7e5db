"""Ways out of assemblies, against what their geometry says."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh

from kestrav.core.clearance.certificate import certify
from kestrav.core.document import edits
from kestrav.core.document.records import FixedHeading, Part, Placement, Project, Settings
from kestrav.core.errors import BadInput
from kestrav.core.extraction.problem import Pose, pose, problem_of
from kestrav.core.extraction.pulls import directions, least_blockers, straight_pulls
from kestrav.core.extraction.ways import NoWay, WayOut, Wish, add_way, find_way
from kestrav.core.geometry.meshes import mesh
from kestrav.core.motion.solids import geometry_record

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
    way = find_way(made, meshes, ["block"], Wish(seed=3))
    assert isinstance(way, WayOut) and way.stage == "straight pull" and way.seed == 3
    assert way.length == pytest.approx(62, abs=1.0) and way.tilt == 0
    done = add_way(made, ["block"], way)
    run = done.runs[-1]
    assert run.rider == "block" and isinstance(run.heading, FixedHeading)
    assert certify(done, meshes).standing == "certified"


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
    way = find_way(made, meshes, ["block"])
    assert isinstance(way, WayOut) and way.stage == "two legs"
    assert "0 free" in way.tried[0] and len(way.poses) >= 3
    done = add_way(made, ["block"], way)
    assert certify(done, meshes).standing == "certified"


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
    way = find_way(made, meshes, ["block"], Wish(seconds=40, seed=2))
    assert isinstance(way, WayOut) and way.stage in ("turned", "planned") and way.tilt > 10
    problem = problem_of(made, meshes, ["block"])
    assert problem.out(way.poses[-1])
    for one, two in zip(way.poses[:-1], way.poses[1:], strict=True):
        assert problem.free_between(one, two)[0]
    done = add_way(made, ["block"], way)
    told = certify(edits.settings(done, required_clearance=0.9), meshes)
    assert told.standing == "certified"


def test_kept_upright_the_bar_has_no_way_out():
    made, meshes = slot()
    told = find_way(made, meshes, ["block"], Wish(seconds=2, upright=True, allowed=tuple(AXES.values())))
    assert isinstance(told, NoWay) and len(told.blockers) == 1


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
    told = find_way(made, meshes, ["block"], Wish(seconds=0.5, allowed=tuple(AXES.values())))
    assert isinstance(told, NoWay) and len(told.blockers) == 1
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


def test_what_cannot_be_asked_is_refused():
    made, meshes = u_shape()
    with pytest.raises(BadInput, match="cannot be required"):
        find_way(made, meshes, ["block"], Wish(required=-1.0))
    with pytest.raises(BadInput, match="to look for a way"):
        find_way(made, meshes, ["block"], Wish(seconds=0.0))
    bare = edits.add(made, Part("empty", "Empty"))
    with pytest.raises(BadInput, match="no geometry"):
        find_way(bare, meshes, ["empty"])


def test_a_way_keeps_to_the_lean_that_is_allowed():
    made, meshes = slot()
    way = find_way(made, meshes, ["block"], Wish(seconds=20, tilt=10.0, allowed=((0, -1, 0),)))
    # turned level, about the upright, it comes through end on
    assert isinstance(way, WayOut) and way.tilt <= 10.0
    assert max(np.linalg.norm(at.turn) for at in way.poses) > np.radians(60)
