"""Turns composed by plain numbers, against SciPy's rotations."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from kestrav.core.extraction.removal_poses import (
    Pose,
    composed,
    leaning,
    motions,
    pose,
    pose_between,
    rotated,
    turn_between,
    turn_of,
)


def some(seed, count=60):
    """Rotation vectors of all sizes up to a half turn, some of them tiny or none."""
    rng = np.random.default_rng(seed)
    turns = [Rotation.random(random_state=k + 100 * seed).as_rotvec() for k in range(count)]
    turns += [1e-9 * rng.normal(size=3), np.zeros(3), np.array([np.pi, 0.0, 0.0]), np.array([0.0, -np.pi + 1e-7, 0.0])]
    return [tuple(float(v) for v in turn) for turn in turns]


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_turns_are_composed_and_applied_as_scipy_does(seed):
    for first, second in zip(some(seed), some(seed + 10), strict=True):
        wanted = Rotation.from_rotvec(second) * Rotation.from_rotvec(first)
        # half turns one way and the other are the same
        assert (Rotation.from_rotvec(composed(second, first)) * wanted.inv()).magnitude() == pytest.approx(0, abs=1e-7)
        point = (3.0, -2.0, 0.5)
        assert rotated(point, first) == pytest.approx(Rotation.from_rotvec(first).apply(point), abs=1e-9)
        one, two = pose((1, 2, 3), first), pose((4, -1, 0), second)
        step = (Rotation.from_rotvec(second) * Rotation.from_rotvec(first).inv()).magnitude()
        assert turn_between(one, two) == pytest.approx(step, abs=1e-7)
        up = Rotation.from_rotvec(first).apply([0, 0, 1])[2]
        assert leaning(one) == pytest.approx(np.degrees(np.arccos(np.clip(up, -1, 1))), abs=1e-5)


@pytest.mark.parametrize("seed", [4, 5])
def test_motions_go_evenly_about_one_axis(seed):
    pivot, shares = np.array([10.0, -5.0, 2.0]), np.array([0.0, 0.2, 0.7, 1.0])
    for first, second in zip(some(seed), some(seed + 10), strict=True):
        one, two = pose((1, 2, 3), first), pose((4, -1, 0), second)
        found = motions(one, two, shares, pivot)
        for share, matrix in zip(shares, found, strict=True):
            assert matrix == pytest.approx(pose_between(one, two, float(share)).matrix(pivot), abs=1e-7)
            assert matrix[:3, :3] @ matrix[:3, :3].T == pytest.approx(np.eye(3), abs=1e-9)
        if np.linalg.norm(second) < 3.1:
            assert found[-1][:3, :3] == pytest.approx(Rotation.from_rotvec(second).as_matrix(), abs=1e-7)
    assert motions(Pose(), Pose((2.0, 0.0, 0.0)), shares, pivot)[:, 0, 3] == pytest.approx(2.0 * shares)


def test_turns_of_normal_numbers_are_alike_in_all_directions():
    rng = np.random.default_rng(7)
    places = np.array([rotated((1.0, 0.0, 0.0), turn_of(rng.normal(size=4))) for _ in range(4000)])
    # the mean of places all over a sphere is its middle, and its square a third in each direction
    assert places.mean(axis=0) == pytest.approx(np.zeros(3), abs=0.04)
    assert (places**2).mean(axis=0) == pytest.approx(np.full(3, 1 / 3), abs=0.03)
