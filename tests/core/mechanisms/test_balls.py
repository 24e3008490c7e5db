"""Balls that roll without slip."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from kestrav.core.document import edits
from kestrav.core.document.records import (
    ArcShape,
    Ball,
    Eased,
    Hold,
    Part,
    Path,
    PathPoint,
    PointShape,
    Project,
    Run,
)
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.motion import Motion
from kestrav.core.mechanisms.balls import ball_rotation, plane_normals

RADIUS = 30.0


def rolling(shape, **run):
    made = Project(parts=(Part("part-1", "Ball"),), paths=(Path("path-1", "P", shape),))
    made = edits.add(made, Ball("ball-1", "Ball rolls", "part-1", radius=RADIUS))
    return edits.add(made, Run("run-1", "R", "part-1", "path-1", **({"duration": 4.0} | run)))


def turn(made, time):
    return Rotation.from_matrix(Motion(made).poses("part-1", [0.0, time])[-1, :3, :3])


def test_a_ball_turns_by_its_way_about_the_line_across_it():
    line = PointShape((PathPoint((0, 0, RADIUS)), PathPoint((400, 0, RADIUS))))
    made = rolling(line, speed_profile=Eased(100, 100))
    way = Motion(made).poses("part-1", [1.3])[0, 0, 3]
    # forward is about +y: what is on top goes ahead
    assert turn(made, 1.3).as_rotvec() == pytest.approx([0, _within(way / RADIUS), 0], abs=1e-9)
    held = edits.update(made, "run-1", holds=(Hold(0.5, 1.0),))
    assert turn(held, 4.0).as_rotvec() == pytest.approx([0, _within(400 / RADIUS), 0], abs=1e-9)


def _within(angle):
    return (angle + np.pi) % (2 * np.pi) - np.pi


def test_on_a_slope_it_turns_by_the_way_along_the_slope():
    line = PointShape((PathPoint((0, 0, 0)), PathPoint((300, 0, 400))))
    made = rolling(line)
    assert turn(made, 1.0).as_rotvec() == pytest.approx([0, _within(125 / RADIUS), 0], abs=1e-9)


@pytest.mark.parametrize("circle", [45.0, 120.0, 1000.0])
def test_a_ball_around_a_circle_turns_as_gauss_and_bonnet_say(circle):
    # rolled without spinning around a circle of radius ρ the contact runs on the ball along a circle whose geodesic curvature is 1/ρ,
    # cot α / R = 1/ρ; seen by the way ahead the ball turns evenly about an axis that leans by α, by 2π · sqrt(ρ² + R²) / R in all, and
    # the way ahead itself once about the upright (Gauss-Bonnet: what the turn lacks of whole turns is the solid angle enclosed)
    start = (circle, 0.0, RADIUS)
    made = rolling(ArcShape((0.0, 0.0, RADIUS), start, 360.0))
    rotation = np.sqrt(circle**2 + RADIUS**2) / RADIUS * 2 * np.pi
    bank = np.arctan2(RADIUS, circle)
    # rates in the frame that goes around: rolling about the radius outward (-x at the start), less the frame's own turning
    axis = np.array([-np.cos(bank), 0.0, -np.sin(bank)])
    told = Rotation.from_rotvec(rotation * axis)
    found = turn(made, 4.0)
    assert (found * told.inv()).magnitude() == pytest.approx(0.0, abs=2e-5)
    # by solid angle: with the contact's circle on the ball gone round once, the ball is turned by that angle about the upright
    alpha = np.arctan2(circle, RADIUS)
    once = 2 * np.pi * RADIUS * np.sin(alpha) / (2 * np.pi * circle)  # share of the way around
    cap = 2 * np.pi * (1 - np.cos(alpha))
    part = turn(made, 4.0 * once)
    upright = part.apply([0, 0, -1])
    assert upright == pytest.approx([0, 0, -1], abs=1e-4)  # the first point of contact is down again
    orientation = 2 * np.pi * once
    turned = part.as_rotvec()[2]
    assert _within(turned - orientation) == pytest.approx(0.0, abs=1e-4)
    assert _within(turned + cap) == pytest.approx(0.0, abs=1e-4)


def test_steps_join_to_the_fourth_order():
    def end(count):
        angle = np.linspace(0, 3.0, count)
        centre = 100 * np.column_stack([np.cos(angle), np.sin(angle), 0 * angle])
        roll = ball_rotation(angle, centre, plane_normals(centre), RADIUS)
        return roll.turned[-1]

    fine = end(20_001)
    coarse, half = ((end(n) * fine.inv()).magnitude() for n in (101, 201))
    assert coarse / half > 6  # its chords are second order in the step: the joining adds nothing larger
    assert half < 2e-3


def test_a_ball_stands_where_its_run_stands_and_rolls_back():
    line = PointShape((PathPoint((0, 0, RADIUS)), PathPoint((400, 0, RADIUS))))
    made = rolling(line, passes=2, returns=True, duration=1.0)
    assert turn(made, 2.0).magnitude() == pytest.approx(0.0, abs=1e-9)
    assert turn(made, 5.0).magnitude() == pytest.approx(0.0, abs=1e-9)


@pytest.mark.parametrize(("ball", "complaint"), [
    (Ball("b", "B", "part-1", radius=0.0), "above 0"),
    (Ball("b", "B", "part-1", radius=1e9), "at most 1,000,000 mm"),
    (Ball("b", "B", "part-1", on="part-1"), "on itself"),
    (Ball("b", "B", "part-4"), "does not hold"),
])  # fmt: skip
def test_balls_that_cannot_be_are_refused(ball, complaint):
    with pytest.raises(BadInput, match=complaint):
        edits.add(Project(parts=(Part("part-1", "Ball"),)), ball)
