"""Edits, validation, look-ups."""

import msgspec
import numpy as np
import pytest
from shapes import straight

from kestrav.core.document import edits
from kestrav.core.document.lookup import ancestors, children, find, get, new_id, new_name, subtree
from kestrav.core.document.records import (
    Camera,
    Contact,
    Part,
    PartAim,
    Path,
    PathPoint,
    Placement,
    PointAim,
    PointShape,
    Project,
    Run,
    Shot,
)
from kestrav.core.document.shots import frame_count, frame_time, pick_shot, with_settings
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput


def changed(project, **fields):
    return msgspec.structs.replace(project, **fields)


def test_an_edit_shares_what_it_does_not_change(passing):
    before = passing.project
    after = edits.set_point(before, "path-1", 1, position=(100.0, 5.0, 0.0))
    assert after is not before
    assert after.parts is before.parts
    assert before.paths[0].shape.points[1].position == (100, 0, 0)
    assert after.paths[0].shape.points[1].position == (100, 5, 0)


def test_points_are_inserted_deleted_and_changed_in_kind(passing):
    project = edits.insert_point(passing.project, "path-1", 1, (0.0, 30.0, 0.0))
    assert [p.position[1] for p in project.paths[0].shape.points] == [0, 30, 0]
    project = edits.set_kind(project, "path-1", 1, "free")
    point = project.paths[0].shape.points[1]
    assert point.kind == "free"
    # its handle lies along its neighbours
    assert point.handle_out[0] > 0
    assert point.handle_out[1:] == (0, 0)
    project = edits.delete_point(project, "path-1", 1)
    assert len(project.paths[0].shape.points) == 2
    with pytest.raises(BadInput, match="1 point"):
        edits.delete_point(project, "path-1", 0)


def test_removing_takes_along_what_cannot_be_without(passing):
    project = edits.add(
        passing.project,
        Camera("camera-1", "Eye", PartAim("part-1")),
        Shot("shot-1", "Take", "camera-1"),
    )
    project = edits.set_contact(project, "part-1", "part-2", intended=True)
    without = edits.remove(project, "part-1")
    assert find(without, "part-1") is None
    assert not without.runs
    assert not without.contacts
    assert without.cameras[0].aim == PointAim((-100.0, 0.0, 0.0))
    assert len(without.geometry) == 2
    assert not edits.remove(project, "path-1").runs
    assert not edits.remove(project, "camera-1").shots


def test_contact_is_set_either_way_round(passing):
    project = edits.set_contact(passing.project, "part-1", "part-2", intended=True)
    project = edits.set_contact(project, "part-2", "part-1", intended=False)
    assert project.contacts == (Contact("part-2", "part-1", False),)


def test_looking_up(passing):
    parts = (*passing.project.parts, Part("x", "X"), Part("y", "Y", "x"), Part("z", "Z", "y"))
    project = changed(passing.project, parts=parts)
    assert subtree(project, "x") == ["x", "y", "z"]
    assert ancestors(project, "z") == ["x", "y"]
    assert [p.id for p in children(project, "x")] == ["y"]
    assert new_id(project, Path) == "path-2"
    assert new_name(project, Path, "Path") == "Path 2"
    with pytest.raises(BadInput, match="nothing with the id"):
        get(project, "nobody")


INF = float("inf")
WRONG = {
    "same id": (lambda p: changed(p, paths=p.paths * 2), "two things have the id"),
    "one point": (lambda p: changed(p, paths=(Path("path-1", "Short", straight((0, 0, 0))),)), "“Short” has 1 point"),
    "coincident": (
        lambda p: changed(p, paths=(Path("path-1", "Folded", straight((0, 0, 0), (1, 0, 0), (1, 0, 0))),)),
        "points 2 and 3 of the path “Folded”",
    ),
    "not finite": (
        lambda p: changed(p, paths=(Path("path-1", "Far", straight((0, 0, 0), (INF, 0, 0))),)),
        "“Far”.*not finite",
    ),
    "no duration": (lambda p: changed(p, runs=(Run("run-1", "R", "part-1", "path-1", duration=0.0),)), "duration"),
    "neither": (
        lambda p: changed(p, runs=(Run("run-1", "R", "part-1", "path-1", duration=None),)),
        "duration or a speed",
    ),
    "no way": (lambda p: changed(p, runs=(Run("run-1", "R", "part-1", "path-1", begin=0.5, end=0.5),)), "forward"),
    "no rider": (lambda p: changed(p, runs=(Run("run-1", "R", "ghost", "path-1"),)), "rider “ghost”"),
    "no path": (lambda p: changed(p, runs=(Run("run-1", "R", "part-1", "gone"),)), "path “gone”"),
    "orphan": (lambda p: changed(p, parts=(Part("x", "X", "later"), *p.parts)), "parent “later”"),
    "geometry": (lambda p: changed(p, parts=(*p.parts, Part("x", "X", geometry="no"))), "geometry “no”"),
    "quaternion": (
        lambda p: changed(p, parts=(Part("part-1", "X", placement=Placement(rotation=(2, 0, 0, 0))), *p.parts[1:])),
        "unit quaternion",
    ),
    "lens": (lambda p: changed(p, cameras=(Camera("c", "C", PointAim((0, 0, 0)), focal_length=0.0),)), "focal length"),
    "shot": (lambda p: changed(p, shots=(Shot("s", "S", "nobody"),)), "camera “nobody”"),
    "clearance": (lambda p: edits.settings(p, required_clearance=-1.0), "clearance of the project"),
}


@pytest.mark.parametrize("case", WRONG.values(), ids=WRONG.keys())
def test_what_cannot_be_is_refused_by_name(passing, case):
    make, message = case
    with pytest.raises(BadInput, match=message):
        validate(make(passing.project))


def test_shots_take_settings_as_typed(demo):
    shot = with_settings(pick_shot(demo.project, "Cabinet orbit"), "640x360", 25.0, "#ffffff", "1.5:4")
    assert (shot.width, shot.height, shot.fps, shot.start, shot.end) == (640, 360, 25.0, 1.5, 4.0)
    with pytest.raises(BadInput, match="there is no shot “Nope”"):
        pick_shot(demo.project, "Nope")


@pytest.mark.parametrize(
    "settings",
    [{"size": "big"}, {"span": "1-2"}, {"span": "4:1"}, {"background": "red"}, {"fps": 0.0}, {"size": "9x9"}],
)
def test_settings_that_make_no_sense_are_refused(demo, settings):
    with pytest.raises(BadInput):
        with_settings(demo.project.shots[0], **settings)


def test_a_shots_frames_leave_the_loops_first_one_out(demo):
    shot = with_settings(demo.project.shots[0], fps=24.0, span="1:3")
    assert frame_count(shot) == 48
    assert frame_time(shot, 0) == 1.0
    assert frame_time(shot, 47) == pytest.approx(3.0 - 1 / 24)


def test_a_point_that_is_not_there_is_told(passing):
    for edit in (
        lambda p: edits.set_kind(p, "path-1", 7, "smooth"),
        lambda p: edits.set_point(p, "path-1", -1, kind="corner"),
        lambda p: edits.delete_point(p, "path-1", 2),
    ):
        with pytest.raises(BadInput, match="“Path” has no point"):
            edit(passing.project)


def test_numbers_of_numpy_become_plain_ones_wherever_they_are():
    # no file can hold numpy's, and nothing could be kept or saved any more
    project = Project(
        parts=(Part("part-1", "Part", placement=Placement((np.float64(1.5), 0.0, 2.0))),),
        paths=(
            Path("path-1", "Path", PointShape((PathPoint((0.0, 0.0, 0.0)), PathPoint((np.float64(9.0), 0.0, 0.0))))),
        ),
        runs=(Run("run-1", "Run", "part-1", "path-1", start=np.float64(2.0), duration=np.float32(1.5)),),
    )
    made = validate(project)
    assert msgspec.json.decode(msgspec.json.encode(made), type=Project) == made == project
    kinds = {type(v) for v in (made.parts[0].placement.position[0], made.runs[0].start, made.runs[0].duration)}
    assert kinds == {float} and validate(made) is made
