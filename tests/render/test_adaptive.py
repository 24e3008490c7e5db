"""Adaptive sampling: who gets more samples, and that a picture is nearer to the true one for it."""

import msgspec
import numpy as np
import pytest
from scipy.optimize import minimize
from test_tracing import SIDE, above, ball, body, grey, plate, tracer

from kestrav.core.light.response import shown_light
from kestrav.render.tracing.adaptive import error_of, further_samples
from kestrav.render.tracing.description import Lamp, Surface, TracedScene, Wanted

__all__ = ["tracer"]  # a fixture


def test_samples_go_where_the_sum_of_squared_errors_is_least_for_them():
    # three sorts of pixels with 8 samples each, and 24 more for each by the mean; SciPy finds the best shares by itself
    spread = np.array([1.0, 2.0, 4.0])
    sorts = np.repeat(np.arange(3), 1000).reshape(30, 100)
    counts = np.full(sorts.shape, 8.0)
    more = 4 * further_samples(spread[sorts] / np.sqrt(8.0), counts, 24.0 * sorts.size, 4)
    best = minimize(
        lambda n: (spread**2 / (8.0 + n)).sum() * 100,
        np.full(3, 24.0),
        bounds=[(0, None)] * 3,
        constraints={"type": "eq", "fun": lambda n: n.sum() - 72.0},
        options={"ftol": 1e-12, "maxiter": 500},
        method="SLSQP",
    ).x
    assert more.sum() <= 24.0 * sorts.size
    # by four at a time
    assert [more[sorts == k].mean() for k in range(3)] == pytest.approx(best, abs=4.0)
    assert np.ptp(more[sorts == 2]) == 0


def test_nobody_gets_more_where_nothing_is_wrong_or_nothing_is_left():
    counts = np.full((4, 5), 8.0)
    assert not further_samples(np.zeros((4, 5)), counts, 1000.0, 4).any()
    assert not further_samples(np.ones((4, 5)), counts, 3.0, 4).any()
    # however much there is to give, a pixel whose error is hardly known gets sixteen times what it has at most
    much = further_samples(np.ones((4, 5)), counts, 1e9, 4)
    assert (4 * much == 16 * 8).all()


def test_the_error_is_half_of_what_two_halves_differ_by_and_spreads_to_what_is_near():
    one, two = np.full((60, 80, 3), 0.2), np.full((60, 80, 3), 0.2)
    assert error_of((one, two)).max() == 0.0
    two[:] = 0.4
    apart = float(shown_light(0.4) - shown_light(0.2))
    assert error_of((one, two)) == pytest.approx(np.full((60, 80), apart / 2))
    two[:] = 0.2
    two[30, 40] = 0.9
    error = error_of((one, two))
    assert error.argmax() == 30 * 80 + 40 and error[30, 42] > 0.5 * error.max() and error[5, 5] == 0.0


def test_a_picture_with_samples_where_they_are_needed_is_nearer_to_the_true_one(tracer):
    # a mirror ball over a plate, by a small lamp: its highlight and its edges are hard, the rest is easy
    points, normals, triangles = ball(rings=24)
    lamp = Lamp("area", np.array([1.0, 0.5, 3.0]), np.zeros(3), np.full(3, 60.0), size=(0.2, 0.2))
    scene = (
        body((points, triangles), Surface(grey(0.9), metallic=1.0, roughness=0.15), normals),
        body(plate(5.0, -0.5), Surface(grey(0.5))),
    )
    tracer.ask("scene", TracedScene(scene, np.full((16, 32, 3), 0.3, np.float32), 2 * SIDE, 2 * SIDE))
    wanted = Wanted((above(angle=30.0, lamps=[lamp]),), 16)
    adaptive = tracer.ask("frame", wanted)
    again = tracer.ask("frame", wanted)
    true = tracer.ask("frame", msgspec.structs.replace(wanted, samples=1024, denoise=False, seed=50)).light
    even = tracer.ask("frame", msgspec.structs.replace(wanted, denoise=False)).light
    off = [np.mean((shown_light(picture) - shown_light(true)) ** 2) for picture in (adaptive.light, even)]
    assert adaptive.samples == 16 and off[0] < 0.2 * off[1]
    # the same wishes give the same picture: films do not flicker by who got more
    assert np.abs(adaptive.light - again.light).max() < 1e-3
    finer = tracer.ask("frame", msgspec.structs.replace(wanted, samples=64, onward=True))
    assert finer.samples == pytest.approx(64, abs=2)
    assert np.mean((shown_light(finer.light) - shown_light(true)) ** 2) < off[0]


def test_what_stays_in_a_film_has_the_same_noise_whatever_moves_elsewhere(tracer):
    # a mirror ball goes a little at the right; the left half of the picture sees nothing of it
    points, normals, triangles = ball(rings=24)
    lamp = Lamp("area", np.array([-1.0, 0.5, 3.0]), np.zeros(3), np.full(3, 60.0), size=(0.2, 0.2))
    left = np.array([-0.6, 0.0, 0.0], np.float32)
    small = (0.3 * points).astype(np.float32)
    mirror = Surface(grey(0.9), metallic=1.0, roughness=0.15)
    scene = (body((small + left, triangles), mirror, normals), body((small, triangles), mirror, normals, group=0))
    tracer.ask("scene", TracedScene(scene, np.full((16, 32, 3), 0.3, np.float32), 2 * SIDE, 2 * SIDE))
    shown = []
    for across in (600.0, 620.0):
        matrix = np.eye(4)
        matrix[0, 3] = across
        picture = tracer.ask("frame", Wanted((above(angle=30.0, lamps=[lamp], groups={0: matrix}),), 16))
        shown.append(255 * shown_light(picture.light))
    apart = np.abs(shown[0] - shown[1]).max(axis=2)
    columns = np.sort(apart.max(axis=0) > 20)[::-1]
    assert columns.any() and not columns.all()
    calm = np.sort(apart.mean(axis=0))[:SIDE]
    assert calm.mean() < 0.5
    assert (np.sort(apart.max(axis=0))[:SIDE] > 3).mean() < 0.2
