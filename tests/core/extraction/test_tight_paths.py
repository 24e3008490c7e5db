"""Ways that are too tight or too winding for straight pulls: puzzles whose ways are known."""

import itertools

import numpy as np
import pytest
import trimesh
from shapes import box_mesh, make_project

from bench import puzzles
from kestrav.core.extraction.planning import goals
from kestrav.core.extraction.pose_tree import grown, round_about
from kestrav.core.extraction.problem import Budget, problem_of
from kestrav.core.extraction.pulls import directions, shape_axes
from kestrav.core.extraction.removal_poses import Pose, pose
from kestrav.core.extraction.search import (
    ExtractionPath,
    ExtractionRequest,
    NoExtractionPath,
    find_extraction_path,
    lifted_off,
)
from kestrav.core.geometry.meshes import mesh

CHECKS = 120_000


def asked(make):
    puzzle = make()
    project, meshes = puzzles.project_of(puzzle)
    return project, meshes, problem_of(project, meshes, puzzle.things)


@pytest.mark.parametrize("make", [puzzles.plate_past_a_shelf, puzzles.tilted_plate, puzzles.bayonet])
def test_a_way_that_turns_is_grown_and_every_leg_of_it_is_free(make):
    _, _, problem = asked(make)
    way = grown(problem, directions(problem), Budget(problem, CHECKS, 600.0), 1)
    assert way is not None and way[0] == Pose() and problem.out(way[-1])
    assert all(problem.free_between(a, b)[0] for a, b in itertools.pairwise(way))
    assert max(np.linalg.norm(at.turn) for at in way) > np.radians(20)


def test_around_five_bends_it_goes_without_turning():
    project, meshes, problem = asked(puzzles.out_and_around)
    way = grown(problem, directions(problem), Budget(problem, CHECKS, 600.0), 2, upright=True)
    assert way is not None and problem.out(way[-1])
    assert all(np.allclose(at.turn, 0) for at in way)
    again = grown(
        problem_of(project, meshes, ["thing"]), directions(problem), Budget(problem, CHECKS, 600.0), 2, upright=True
    )
    assert again == way  # the same seed finds the same way


def test_a_peg_in_a_slanting_hole_is_pulled_along_it():
    project, meshes, problem = asked(puzzles.peg_at_an_angle)
    axis = np.array([0.31, 0.23, 0.92]) / np.linalg.norm([0.31, 0.23, 0.92])
    assert any(abs(float(found @ axis)) > 0.9999 for found in shape_axes(problem))
    found = find_extraction_path(project, meshes, ["thing"])
    assert (
        isinstance(found, ExtractionPath) and found.stage == "straight pull" and found.certificate.status == "certified"
    )


def test_a_trapped_part_is_refused_and_the_effort_is_told():
    project, meshes, _ = asked(puzzles.trapped)
    found = find_extraction_path(project, meshes, ["thing"], ExtractionRequest(checks=2000))
    assert isinstance(found, NoExtractionPath)
    assert any("planned without turning, given up after 300 checks" in tried for tried in found.tried)


def test_looks_along_a_motion_stop_at_the_first_that_is_not_free():
    _, _, problem = asked(puzzles.trapped)
    shares = np.linspace(0.0, 1.0, 41)
    reached = problem.free_until(Pose(), pose((0.0, 60.0, 0.0)), shares)
    # the case's wall is 32 mm away, less the half millimetre required
    assert shares[reached - 1] * 60.0 == pytest.approx(31.5, abs=1.5)
    assert problem.free_at(Pose(), 1.0) and not problem.free_at(Pose(), 40.0)
    assert goals(problem, directions(problem))


@pytest.mark.parametrize(
    ("solid", "axis"),
    [
        (trimesh.creation.torus(20, 4, major_sections=24, minor_sections=10), (0, 0, 1)),
        (trimesh.creation.cylinder(5, 60, sections=32), (0, 0, 1)),
        (trimesh.creation.cylinder(5, 60, sections=6), None),
        (trimesh.creation.box((20, 20, 60)), None),
    ],
)
def test_what_is_round_is_told_with_its_axis(solid, axis):
    turn = trimesh.transformations.rotation_matrix(0.7, (1, 2, 0.5))
    shape = mesh(solid.vertices, solid.faces).moved(turn)
    opened = make_project({"Round": (shape, (0, 0, 0)), "Floor": (box_mesh(400, 400, 10), (0, 0, -80))})
    found = round_about(problem_of(opened.project, opened.meshes, ["part-1"]))
    if axis is None:
        assert found is None
    else:
        assert abs(found @ (turn[:3, :3] @ axis)) == pytest.approx(1.0, abs=1e-4)


def test_what_stands_on_something_comes_off_it_and_keeps_its_clearance_from_there():
    opened = make_project({"Block": (box_mesh(40, 40, 40), (0, 0, 25)), "Floor": (box_mesh(400, 400, 10), (0, 0, 0))})
    problem = problem_of(opened.project, opened.meshes, ["part-1"], required=2.0)
    clear, at = lifted_off(problem, directions(problem))
    assert problem.held and not clear.held
    assert at.translation[2] >= 2.0 and clear.free_at(at) and not clear.free_at(Pose())
