"""Certificates of motions that are made to deceive them, against the true motion."""

import numpy as np
import pytest
from shapes import box_mesh, straight

from bench.adversarial import judged
from kestrav.core.clearance.certificate import certify
from kestrav.core.clearance.contacts import touches
from kestrav.core.document import edits
from kestrav.core.document.records import (
    Contact,
    KeyPose,
    Part,
    Path,
    Placement,
    PoseTrack,
    Project,
    Run,
    Settings,
)
from kestrav.core.parts.solids import geometry_record


@pytest.mark.parametrize("first", range(20_000, 20_200, 50))  # `make bench` goes through them all
def test_no_certificate_says_more_than_the_truth(first):
    found = [v for v in map(judged, range(first, first + 20)) if v is not None]
    assert [v for v in found if v.wrong] == []
    assert {"certified", "breached"} <= {v.status for v in found}


def test_the_least_distance_is_found_where_a_heading_swings_round_at_once():
    # a body carried by two points of a path that bends within its wheelbase: no bound on its turning shrinks with the step
    verdict = judged(46_709)
    assert verdict is not None and (verdict.status, verdict.wrong) == ("breached", "")


def scene(gap, required=5.0):
    """A cube of 100 mm that goes along x, and a wall so far beyond its farthest place, 995.8 mm on."""
    cube, wall = box_mesh(100, 100, 100), box_mesh(20, 400, 400)
    parts = (
        Part("cube", "Cube", geometry=cube.hash),
        Part("wall", "Wall", placement=Placement((_FAR + 50 + gap + 10, 0, 0)), geometry=wall.hash),
    )
    geometry = (geometry_record(cube), geometry_record(wall))
    made = Project(parts=parts, geometry=geometry, settings=Settings(required_clearance=required))
    return edits.change(made, contacts=(Contact("cube", "wall", False),)), {cube.hash: cube, wall.hash: wall}


_FAR = 119.5 / 120 * 1000.0


@pytest.mark.parametrize(("speed", "gap"), [(1000.0, 2.0), (400.0, 4.0), (2000.0, -1.0), (4000.0, -5.0)])
@pytest.mark.parametrize("by", ["run", "poses"])
def test_a_turning_point_between_two_steps_is_seen(speed, gap, by):
    # it turns half-way between two steps of 1/120 s
    seconds = 119.5 / 120
    far = speed * seconds
    made, meshes = scene(gap)
    made = edits.update(made, "wall", placement=Placement((far + 50 + gap + 10, 0, 0)))
    if by == "run":
        path = Path("path-1", "Path", straight((0, 0, 0), (far, 0, 0)))
        made = edits.add(made, path, Run("run-1", "R", "cube", "path-1", duration=seconds, passes=2, returns=True))
    else:
        keys = tuple(KeyPose(k * seconds, Placement((x, 0.0, 0.0))) for k, x in enumerate((0.0, far, 0.0)))
        made = edits.add(made, PoseTrack("pose-track-1", "P", "cube", keys, between="straight"))
    told = certify(made, meshes)
    (breach,) = told.stretches
    assert told.status == "breached" and breach.least == pytest.approx(gap, abs=0.01)
    assert breach.time == pytest.approx(seconds, abs=1e-3)


def test_a_sharp_corner_between_two_steps_is_seen():
    turn = np.radians(150)
    seconds, speed = 119.5 / 120, 1000.0
    far = speed * seconds
    made, meshes = scene(2.5)
    made = edits.update(made, "wall", placement=Placement((far + 50 + 2.5 + 10, 0, 0)))
    back = (far + far * np.cos(turn), far * np.sin(turn), 0.0)
    made = edits.add(made, Path("path-1", "Path", straight((0, 0, 0), (far, 0, 0), back)))
    made = edits.add(made, Run("run-1", "R", "cube", "path-1", duration=2 * seconds))
    (breach,) = certify(made, meshes).stretches
    assert breach.status == "breached" and breach.least == pytest.approx(2.5, abs=0.01)


@pytest.mark.parametrize("gap", [0.03, 1.0])
def test_parting_and_touching_again_within_a_step_are_both_found(gap):
    # it comes to touch, parts for three milliseconds, and touches again
    made, meshes = scene(10.0)
    wall = made.parts[1].placement.position[0] - 60.0
    at = 0.5 + 0.0041
    places = [
        (0.0, wall - 10),
        (at - 0.05, wall),
        (at, wall),
        (at + 0.0015, wall - gap),
        (at + 0.003, wall),
        (0.9, wall),
    ]
    keys = tuple(KeyPose(t, Placement((x, 0.0, 0.0))) for t, x in places)
    made = edits.add(made, PoseTrack("pose-track-1", "P", "cube", keys, between="straight"))
    found = [touch.time for touch in touches(made, meshes)]
    assert found == pytest.approx([at - 0.05, at + 0.003], abs=2e-4)
