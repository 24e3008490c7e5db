"""Frames along curves: convergence on a helix, and no flips."""

from dataclasses import dataclass

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from kestrav.core.geometry.arclength import by_arc_length
from kestrav.core.geometry.curve_frames import carried_frames, double_reflection, frame_table, upright_frames
from kestrav.core.geometry.curves import EllipseCurve, spline_through
from kestrav.core.geometry.exact import rounded_through


def helix(radius, rise, turns, count):
    """Points and tangents of a helix, and the exact rotation-minimizing normal at its end.

    The Frenet normal turns by the torsion per length about the tangent, so a rotation-minimizing vector
    falls behind it by torsion times length: tau = b / (r^2 + b^2), with b the rise per radian.
    """
    u = np.linspace(0, 2 * np.pi * turns, count)
    b = rise / (2 * np.pi)
    points = np.stack([radius * np.cos(u), radius * np.sin(u), b * u], axis=1)
    tangents = np.stack([-radius * np.sin(u), radius * np.cos(u), np.full_like(u, b)], axis=1)
    tangents /= np.linalg.norm(tangents, axis=1, keepdims=True)
    length = np.hypot(radius, b) * u[-1]
    twist = -b / (radius**2 + b**2) * length
    normal_end = np.array([-np.cos(u[-1]), -np.sin(u[-1]), 0.0])
    exact = Rotation.from_rotvec(twist * tangents[-1]).apply(normal_end)
    return points, tangents, np.array([-1.0, 0.0, 0.0]), exact


def test_double_reflection_converges_with_fourth_order_on_a_helix():
    # Wang, Juettler, Zheng, Liu, "Computation of Rotation Minimizing Frames", ACM Transactions on
    # Graphics 27(1), 2008: global error of order 4
    errors = []
    for count in (61, 121, 241, 481):
        points, tangents, start, exact = helix(100.0, 150.0, 3, count)
        found = double_reflection(points, tangents, start)[-1]
        errors.append(np.linalg.norm(found - exact))
    orders = np.log2(np.array(errors[:-1]) / errors[1:])
    assert orders == pytest.approx([4, 4, 4], abs=0.2)


@dataclass
class _Helix:
    """A helix as a parametric curve."""

    radius: float
    rise: float
    turns: float

    @property
    def breaks(self):
        return np.linspace(0, 2 * np.pi * self.turns, 9)

    def evaluate(self, parameter, order=0):
        u = np.asarray(parameter, float)
        b = self.rise / (2 * np.pi)
        along = [b * u, np.full_like(u, b), np.zeros_like(u)][min(order, 2)]
        turn = u + order * np.pi / 2
        return np.stack([self.radius * np.cos(turn), self.radius * np.sin(turn), along], axis=-1)


def test_frames_at_any_station_have_the_exact_twist():
    curve = by_arc_length(_Helix(100.0, 150.0, 2))
    table = frame_table(curve)
    stations = np.array([0.0, 123.4, 777.7, curve.length])
    frames = carried_frames(curve, table, stations)
    b = 150.0 / (2 * np.pi)
    for station, frame in zip(stations, frames, strict=True):
        u = station / np.hypot(100.0, b)
        twist = -b / (100.0**2 + b**2) * station
        tangent = frame[:, 0]
        start_angle = _angle_to_normal(frames[0], 0.0)
        exact = Rotation.from_rotvec((twist + start_angle) * tangent).apply([-np.cos(u), -np.sin(u), 0.0])
        assert frame[:, 1] == pytest.approx(exact, abs=1e-6)


def _angle_to_normal(frame, u):
    normal = np.array([-np.cos(u), -np.sin(u), 0.0])
    return np.arctan2(np.dot(np.cross(normal, frame[:, 1]), frame[:, 0]), np.dot(normal, frame[:, 1]))


def smooth(points, kind="smooth", closed=False):
    none = [None] * len(points)
    return by_arc_length(spline_through(points, [kind] * len(points), none, none, closed=closed), closed=closed)


def largest_step(frames):
    relative = np.swapaxes(frames[:-1], 1, 2) @ frames[1:]
    return np.degrees(Rotation.from_matrix(relative).magnitude().max())


PATHS = {
    "straight up and away": [[0, 0, 0], [0, 0, 300], [0, 0, 600], [200, 0, 700], [500, 0, 700]],
    "away and straight down": [[0, 0, 500], [300, 0, 500], [400, 20, 300], [400, 20, 0]],
    "over the top": [
        [0, 0, 0],
        [300, 0, 0],
        [420, 10, 200],
        [300, 20, 400],
        [100, 30, 300],
        [200, 40, 0],
        [600, 50, 0],
    ],
    "vertical throughout": [[5, 5, 0], [5, 5, 100], [5, 5, 400]],
}


@pytest.mark.parametrize("points", PATHS.values(), ids=PATHS.keys())
def test_upright_frames_survive_the_vertical_without_a_flip(points):
    curve = smooth(points)
    stations = np.linspace(0, curve.length, 3001)
    for make in (upright_frames, carried_frames):
        frames = make(curve, frame_table(curve), stations)
        assert np.abs(frames @ np.swapaxes(frames, 1, 2) - np.eye(3)).max() < 1e-9
        assert np.linalg.det(frames) == pytest.approx(1.0)
        assert frames[:, :, 0] == pytest.approx(curve.tangent(stations), abs=1e-9)
        # a smooth curve of some hundred mm, sampled in fractions of a mm, cannot turn by degrees a step
        assert largest_step(frames) < 4.0


def test_upright_frames_keep_their_left_level():
    curve = smooth([[0, 0, 0], [300, 100, 50], [600, -100, 200], [900, 0, 100]])
    frames = upright_frames(curve, frame_table(curve), np.linspace(0, curve.length, 500))
    assert np.abs(frames[:, 2, 1]).max() < 1e-12
    assert (frames[:, 2, 2] > 0).all()


def test_closed_curve_meets_itself_in_both_kinds_of_frame(random):
    curve = smooth(random.uniform(-400, 400, (6, 3)), closed=True)
    for make in (carried_frames, upright_frames):
        frames = make(curve, frame_table(curve), np.array([0.0, curve.length]))
        assert frames[0] == pytest.approx(frames[1], abs=1e-6)


def test_the_turn_that_closes_a_curve_is_spread_without_steps(random):
    curve = smooth(random.uniform(-400, 400, (6, 3)), closed=True)
    table = frame_table(curve)
    assert abs(table.twist_rate * curve.length) > 0.2
    # just before and just after each sample that the frames are carried from
    inner = table.stations[1:-1]
    before, after = (carried_frames(curve, table, inner + side) for side in (-1e-6, 1e-6))
    relative = np.swapaxes(before, 1, 2) @ after
    assert np.degrees(Rotation.from_matrix(relative).magnitude().max()) < 1e-4


def test_flat_circle_needs_no_twist():
    curve = by_arc_length(EllipseCurve((0, 0, 0), 100.0, 100.0), closed=True)
    frames = carried_frames(curve, frame_table(curve), np.linspace(0, curve.length, 40))
    assert frames[:, :, 2] == pytest.approx(np.tile([0, 0, 1.0], (40, 1)), abs=1e-9)


def test_a_kink_turns_the_frame_by_the_kink_and_no_more():
    curve = smooth([[0, 0, 0], [100, 0, 0], [100, 100, 0]], "corner")
    frames = upright_frames(curve, frame_table(curve), np.array([99.999, 100.001]))
    assert largest_step(frames) == pytest.approx(90, abs=1e-6)
    assert frames[:, :, 2] == pytest.approx(np.tile([0, 0, 1.0], (2, 1)), abs=1e-9)


def cornered(points, radius):
    none = [None] * len(points)
    return by_arc_length(rounded_through(points, ["corner"] * len(points), none, none, [radius] * len(points)))


RISES = {
    "a metre up": ([(0, 0, 0), (5000, 0, 0), (5000, 0, 1000), (5000, 5000, 1000)], (300, 50, 5)),
    "over a lip": ([(0, 0, 0), (2000, 0, 0), (2000, 0, 40), (2000, 2000, 40)], (10,)),
}


@pytest.mark.parametrize("rise", RISES.values(), ids=RISES.keys())
def test_upright_frames_do_not_jump_where_level_ceases_to_be_a_guide(rise):
    points, radii = rise
    for radius in radii:
        curve = cornered(points, radius)
        table = frame_table(curve)
        fine = np.linspace(0, curve.length, 400_001)
        # about both ends of each steep stretch the frames of neighbours differ by the bend and the spread turn alone
        for edge in table.steep.ends:
            near = fine[np.abs(fine - edge) < 5 * fine[1]]
            assert len(near) > 5
            bend = np.degrees(np.arcsin(np.linalg.norm(np.diff(curve.tangent(near), axis=0), axis=1).max()))
            spread = 180 * fine[1] / (table.steep.last - table.steep.first).min()
            assert largest_step(upright_frames(curve, table, near)) < 1.1 * bend + spread
        # and so near the edge that nothing else shows
        edges = [upright_frames(curve, table, table.steep.ends + side) for side in (-1e-9, 1e-9)]
        turn = Rotation.from_matrix(np.swapaxes(edges[0], 1, 2) @ edges[1]).magnitude()
        assert np.degrees(turn).max() < 1e-6


def test_closed_paths_through_the_vertical_close_without_a_seam(random):
    odd = 0
    for _ in range(60):
        points = random.uniform(-400, 400, (int(random.integers(4, 8)), 3)) * (1, 1, 2)
        curve = smooth(points, closed=True)
        table = frame_table(curve)
        first, last = upright_frames(curve, table, np.array([0.0, curve.length]))
        assert np.degrees(Rotation.from_matrix(first.T @ last).magnitude()) < 1e-6
        edges = [
            upright_frames(curve, table, np.clip(table.steep.ends + side, 0, curve.length)) for side in (-1e-9, 1e-9)
        ]
        if len(table.steep.first):
            odd += 1
            turn = Rotation.from_matrix(np.swapaxes(edges[0], 1, 2) @ edges[1]).magnitude()
            assert np.degrees(turn).max() < 1e-3
    assert odd > 20


def test_least_twist_is_that_of_a_hundred_times_finer_steps(random):
    for _ in range(5):
        curve = smooth(random.uniform(-400, 400, (6, 3)))
        table = frame_table(curve)
        fine = np.linspace(0, curve.length, 100 * len(table.stations))
        finer = double_reflection(curve.position(fine), curve.tangent(fine), table.carried[0])
        left = carried_frames(curve, table, fine)[:, :, 1]
        assert np.degrees(np.arccos(np.clip(np.einsum("ij,ij->i", finer, left), -1, 1))).max() < 0.01


@pytest.mark.parametrize("upright", [True, False])
def test_frames_never_turn_more_than_is_told(upright, random):
    curves = [smooth(random.uniform(-400, 400, (6, 3)) * (1, 1, 2), closed=bool(k % 2)) for k in range(10)]
    curves += [
        cornered(*[RISES["a metre up"][0], 50]),
        by_arc_length(EllipseCurve((0, 0, 0), 100.0, 20.0), closed=True),
    ]
    make = upright_frames if upright else carried_frames
    for curve in curves:
        table = frame_table(curve)
        stations = np.linspace(0, curve.length, 20_001)
        frames = make(curve, table, stations)
        turned = Rotation.from_matrix(np.swapaxes(frames[:-1], 1, 2) @ frames[1:]).magnitude()
        told = np.diff(np.interp(stations, *table.most_turned(upright)))
        assert (turned <= told + 1e-9).all()
        # and told by no more than is of use
        assert told.sum() < 2.5 * turned.sum()
