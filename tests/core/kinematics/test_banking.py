"""Lean and headings toward things."""

import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Bank,
    BankKey,
    EllipseShape,
    PartAim,
    PathPoint,
    PointAim,
    PointShape,
    TowardOrientation,
)
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.banking import GRAVITY, bank, level_curvature
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import course_of
from kestrav.core.paths.path_curves import path_curve


def project(shape, **run):
    opened = make_project(
        {"Trolley": (box_mesh(100, 60, 40), (0, 0, 0)), "Post": (box_mesh(20, 20, 900), (300, 400, 0))},
        straight((0, 0, 0), (100, 0, 0)),
        duration=4.0,
    )
    made = edits.update(opened.project, "path-1", shape=shape)
    return edits.update(made, "run-1", **({"orientation": AlongOrientation()} | run))


def course(made):
    return course_of(made, made.runs[0])


@pytest.mark.parametrize("clockwise", [False, True])
def test_in_an_even_bend_the_lean_balances_the_force(clockwise):
    made = project(EllipseShape((0, 0, 0), 2000, 2000, clockwise=clockwise), bank=Bank(computed=True, limit=60))
    run = course(made)
    speed = run.length / 4.0
    expected = np.arctan(speed**2 / (GRAVITY * 2000)) * (-1 if clockwise else 1)
    assert bank(run, np.linspace(0, run.length, 30)) == pytest.approx(np.full(30, expected), rel=1e-4)
    # in space: weight and force together press along its own upside
    up = world_poses(made, [1.0])[0, 0, :3, 2]
    place = run.path.curve.position(run.stations([1.0]))[0]
    force = speed**2 / 2000 * place / 2000 + np.array([0, 0, -GRAVITY])
    assert np.cross(up, force / np.linalg.norm(force)) == pytest.approx([0, 0, 0], abs=1e-3)


def test_the_limit_holds_and_smoothing_rolls_into_the_bend():
    corner = PointShape(
        tuple(PathPoint(p, "corner", radius=r) for p, r in [((0, 0, 0), 0), ((3000, 0, 0), 800), ((3000, 3000, 0), 0)])
    )
    hard = course(project(corner, bank=Bank(computed=True, limit=10, smoothing=0)))
    soft = course(project(corner, bank=Bank(computed=True, limit=10, smoothing=600)))
    stations = np.linspace(0, hard.length, 2000)
    sharp, smooth = bank(hard, stations), bank(soft, stations)
    assert np.degrees(sharp).max() == pytest.approx(10)
    assert np.abs(np.diff(smooth)).max() < 0.1 * np.abs(np.diff(sharp)).max()
    assert np.degrees(smooth).max() <= 10 + 1e-9 and np.degrees(bank(soft, [0.0]))[0] == pytest.approx(0, abs=1e-6)


def test_keys_of_lean_are_kept_and_held_outside():
    made = project(straight((0, 0, 0), (1000, 0, 0)), bank=Bank((BankKey(0.2, 0.0), BankKey(0.6, 20.0))))
    found = np.degrees(bank(course(made), [0, 200, 600, 1000]))
    assert found == pytest.approx([0, 0, 20, 20])
    pose = world_poses(made, [4.0])[0, 0, :3, :3]
    # to the left: the upside tips toward the left side
    assert pose[:, 2] == pytest.approx([0, np.sin(np.radians(20)), np.cos(np.radians(20))])
    with pytest.raises(BadInput, match="go forward"):
        project(straight((0, 0, 0), (1000, 0, 0)), bank=Bank((BankKey(0.6, 0.0), BankKey(0.2, 20.0))))
    with pytest.raises(BadInput, match="bank limit"):
        project(straight((0, 0, 0), (1000, 0, 0)), bank=Bank(limit=95.0))


def test_level_curvature_has_the_sense_of_the_bend():
    made = path_curve(project(EllipseShape((0, 0, 0), 500, 300)).paths[0])
    stations = np.linspace(1, made.length - 1, 40)
    assert level_curvature(made, stations) == pytest.approx(made.curve.curvature(stations), rel=1e-3)


@pytest.mark.parametrize("aim", [PointAim((300.0, 400.0, 200.0)), PartAim("part-2")])
def test_a_rider_faces_what_it_is_to(aim):
    made = project(straight((-500, 0, 0), (900, 0, 0)), orientation=TowardOrientation(aim=aim))
    poses = world_poses(made, np.linspace(0, 4, 9))[:, 0]
    goal = np.array([300.0, 400.0, 200.0]) if isinstance(aim, PointAim) else np.array([300.0, 400.0, 0.0])
    ways = goal - poses[:, :3, 3]
    if isinstance(aim, PartAim):
        ways[:, 2] = poses[:, 2, 0] * np.linalg.norm(ways[:, :2], axis=1) / np.hypot(poses[:, 0, 0], poses[:, 1, 0])
    ways /= np.linalg.norm(ways, axis=1)[:, None]
    assert poses[:, :3, 0] == pytest.approx(ways, abs=1e-9)
    # its left stays level
    assert poses[:, 2, 1] == pytest.approx(np.zeros(9), abs=1e-12)


def test_facing_a_part_that_goes_leaves_the_point():
    made = project(straight((-500, 0, 0), (900, 0, 0)), orientation=TowardOrientation(aim=PartAim("part-2")))
    left = edits.remove(made, "part-2")
    assert isinstance(left.runs[0].orientation.aim, PointAim)
    with pytest.raises(BadInput, match="does not hold"):
        edits.update(made, "run-1", orientation=TowardOrientation(aim=PartAim("part-9")))
