"""How far things go at most, against how far they go."""

import numpy as np
import pytest
from shapes import straight

from bench.adversarial import made_case
from kestrav.core.document import edits
from kestrav.core.document.records import (
    Attachment,
    Axle,
    Ball,
    Castor,
    Eased,
    End,
    Gear,
    Part,
    Path,
    Pin,
    Placement,
    Project,
    Rod,
    Run,
    TimedRotation,
)
from kestrav.core.geometry.meshes import box_corners
from kestrav.core.kinematics.bounds import WORLD, of_box
from kestrav.core.kinematics.displacement import Displacement
from kestrav.core.kinematics.law_changes import with_changes
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.poses import riders
from kestrav.core.kinematics.runs import span
from kestrav.core.parts.rest import own_bounds

INNER = 9  # instants within each step at which it is looked
BOX = np.array([[-30.0, -20, -10], [30, 20, 10]])
UP = Axle((0, 0, 0), (0, 0, 1))


def gone(motion, thing, corners, times, seen_by=None):
    """How far (steps,) a corner is from both ends of each step together, at the worst of some instants in it, and how far the one goes
    that goes farthest."""
    shares = np.linspace(0, 1, INNER + 2)
    instants = times[:-1, None] + shares * np.diff(times)[:, None]
    instants[:, -1] = times[1:]
    poses = motion.poses(thing, instants.ravel())
    if seen_by is not None:
        poses = np.linalg.inv(motion.poses(seen_by, instants.ravel())) @ poses
    places = np.einsum("nij,cj->nci", poses[:, :3, :3], corners) + poses[:, None, :3, 3]
    places = places.reshape(len(times) - 1, INNER + 2, len(corners), 3)
    away = [np.linalg.norm(places - places[:, [k]], axis=3) for k in (0, -1)]
    return (away[0] + away[1]).max(axis=(1, 2)), np.linalg.norm(np.diff(places, axis=1), axis=3).sum(axis=1).max(axis=1)


def bounded(project, most=4.0, boxes=None):
    """Check all that moves in a project: nothing goes farther than is told, and that is no more than is of use."""
    motion = Motion(project)
    times = with_changes(motion, np.array([0.0, span(project)]))
    told = Displacement(motion, times)
    for thing in riders(project):
        box = own_bounds(project, thing) if boxes is None else boxes
        way = told.of(thing, WORLD, of_box(box)).distance
        true, long = gone(motion, thing, box_corners(box), times)
        good = ~told.sudden
        assert (true[good] <= way[good] + 1e-6).all(), thing
        if most is not None:
            assert way[good].sum() <= most * long[good].sum() + 1e-6, thing


def test_nothing_in_the_demo_goes_farther_than_is_told(demo):
    bounded(demo.project, most=5.0)


def test_nothing_in_random_projects_goes_farther_than_is_told():
    tried = 0
    for seed in range(7000, 7120):
        made = made_case(seed)
        if made is not None:
            bounded(made[0], None, BOX)
            tried += 1
    assert tried > 70


def spinning(*parts, turns=2.0, **fields):
    made = Project(parts=(Part("holder", "Holder"), Part("part-1", "Crank", "holder"), *parts))
    return edits.add(made, TimedRotation("rotation-1", "Turns", "part-1", UP, end=4.0, turns=turns, rpm=None, **fields))


MECHANISMS = {
    "four-bar": (
        [
            Part("part-2", "Rod", placement=Placement((40, 0, 0))),
            Part("part-3", "Rocker", placement=Placement((150, 0, 0))),
        ],
        Rod(
            "rod-1", "Rod", "part-2", Pin("part-1", (40, 0, 0)), (0, 0, 0), (120, 0, 0), "rocker",
            Pin("part-3", (0, 80, 0)), axle=UP,
        ),
    ),
    "rod that points": (
        [
            Part("part-2", "Rod", placement=Placement((40, 0, 0))),
            Part("part-3", "Post", placement=Placement((200, 30, 0))),
        ],
        Rod("rod-1", "Rod", "part-2", Pin("part-1", (40, 0, 0)), (0, 0, 0), (120, 0, 0), "points", Pin("part-3")),
    ),
    "level rod": (
        [Part("part-2", "Rod", placement=Placement((40, 0, 0)))],
        Rod("rod-1", "Rod", "part-2", Pin("part-1", (40, 0, 0)), (0, 0, 0), (120, 0, 0), "level"),
    ),
    "rack": (
        [Part("part-2", "Rack", placement=Placement((0, -20, 0)))],
        Gear("gear-1", "D", End("part-1", UP, 20), End("part-2", Axle((0, 0, 0), (1, 0, 0))), "rack"),
    ),
    "chain": (
        [Part("part-2", "Sprocket", placement=Placement((300, 0, 0)))],
        Gear("gear-1", "D", End("part-1", UP, 20), End("part-2", UP, 35), "chain", 12.7),
    ),
}  # fmt: skip


@pytest.mark.parametrize("made", MECHANISMS.values(), ids=MECHANISMS.keys())
@pytest.mark.parametrize("carried", [False, True])
def test_nothing_in_mechanisms_goes_farther_than_is_told(made, carried):
    parts, link = made
    project = edits.add(spinning(*parts, ramp_in=1.0), link)
    if carried:
        # the crank alone goes away from what it drives, so that all that stands otherwise counts
        path = Path("path-1", "Path", straight((0, 0, 0), (8, 3, 0), (4, 9, 0), kind="smooth"))
        project = edits.add(
            project, path, Run("run-1", "Run", "holder", "path-1", duration=4.0, speed_profile=Eased(2, 2))
        )
    bounded(project, None, BOX)


def test_castors_and_balls_go_no_farther_than_is_told():
    way = Path("path-1", "Path", straight((0, 0, 0), (600, 0, 0), (900, 400, 0), kind="smooth"))
    parts = (
        Part("part-1", "Trolley"),
        Part("castor", "Castor", "part-1", Placement((100, 50, 0))),
        Part("ball", "Ball"),
    )
    project = edits.add(Project(parts=parts), way, Run("run-1", "Run", "part-1", "path-1", duration=2.0))
    project = edits.add(project, Run("run-2", "Rolls", "ball", "path-1", duration=1.5, speed_profile=Eased(50, 50)))
    project = edits.add(
        project, Castor("castor-1", "S", "castor", trail=30.0), Ball("ball-1", "B", "ball", radius=50.0)
    )
    bounded(project, 5.0, BOX)


def test_what_both_hang_on_does_not_count():
    # both ride on a trolley that goes fast; the one turns slowly on it
    path = Path("path-1", "Path", straight((0, 0, 0), (4000, 0, 0)))
    parts = (Part("trolley", "T"), Part("one", "One", "trolley"), Part("two", "Two"))
    project = edits.add(Project(parts=parts), path, Run("run-1", "Run", "trolley", "path-1", duration=2.0))
    project = edits.add(
        project,
        TimedRotation("rotation-1", "S", "one", UP, rpm=1.0),
        Attachment("attachment-1", "C", "two", "trolley", 0.0),
    )
    motion = Motion(project)
    times = with_changes(motion, np.linspace(0, 2, 20))
    told = Displacement(motion, times)
    way = told.between("one", of_box(BOX), "two", of_box(BOX))
    true, long = gone(motion, "one", box_corners(BOX), times, "two")
    assert (true[~told.sudden] <= way[~told.sudden] + 1e-6).all()
    assert way.sum() < 1.2 * long.sum() < 0.01 * told.of("one", WORLD, of_box(BOX)).distance.sum()
