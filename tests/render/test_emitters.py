"""How often the path tracer looks at each light: by what it gives the surfaces that are there."""

import numpy as np
import pytest
from test_tracing import above, body, grey, plate, traced, tracer

from kestrav.render.tracing.description import Lamp, Surface
from kestrav.render.tracing.emitters import SurfaceSample, sampling_weights
from kestrav.render.tracing.samples import at_once, spread_evenly

LEAST = 0.1
__all__ = ["tracer"]  # a fixture


def weights(moment, environment, bodies=None):
    bodies = bodies or [body(plate(0.5), Surface(grey(0.5)))]
    around = np.full((16, 32, 3), environment, np.float32)
    return sampling_weights(SurfaceSample(bodies), around, moment)


def point(height, intensity):
    return Lamp("point", np.array([0.0, 0.0, height]), np.zeros(3), grey(intensity))


def test_an_environment_and_a_sun_share_the_looks_as_they_share_the_light():
    # an even environment of luminance 1 gives a surface π, a sun straight above what it has
    sun = Lamp("sun", np.array([0.0, 0.0, 5.0]), np.zeros(3), grey(3.0 * np.pi))
    told = weights(above(lamps=[sun]), 1.0)
    assert np.mean(told) == pytest.approx(1.0)
    assert told[0] == pytest.approx(LEAST + (1 - LEAST) * 2 / 4, rel=1e-3)
    assert told[1] == pytest.approx(LEAST + (1 - LEAST) * 2 * 3 / 4, rel=1e-3)


def test_a_lamp_is_looked_at_as_the_inverse_square_law_says():
    near, far = point(4.0, 8.0), point(8.0, 8.0)
    _, first, second = weights(above(lamps=[near, far]), 0.0)
    # four times the light, nearly: the plate is a metre wide
    assert (first - LEAST) / (second - LEAST) == pytest.approx(4.0, rel=0.05)


def test_what_gives_nothing_is_looked_at_a_little_and_where_nothing_shines_all_alike():
    dark = point(3.0, 0.0)
    assert weights(above(lamps=[dark]), 1.0)[1] == pytest.approx(LEAST)
    assert weights(above(lamps=[dark]), 0.0) == [1.0, 1.0]


def test_a_sheet_is_lit_on_whichever_side_the_lamp_is_and_where_it_has_gone():
    below = point(-4.0, 8.0)
    assert weights(above(lamps=[below]), 0.0)[1] == pytest.approx(weights(above(lamps=[point(4.0, 8.0)]), 0.0)[1])
    moved = np.eye(4)
    moved[2, 3] = 2000.0  # mm
    sheet = [body(plate(0.1), Surface(grey(0.5)), group=0)]
    far, near = point(4.0, 8.0), Lamp("sun", np.array([0.0, 0.0, 9.0]), np.zeros(3), grey(1.0))
    here, there = (weights(above(lamps=[far, near], groups={0: m}), 0.0, sheet) for m in (np.eye(4), moved))
    # at half the distance from the lamp it gets four times its light: half of a sun's at first, then twice as much
    assert (here[1] - LEAST) / (here[2] - LEAST) == pytest.approx(0.5, rel=0.02)
    assert (there[1] - LEAST) / (there[2] - LEAST) == pytest.approx(2.0, rel=0.02)


@pytest.mark.parametrize(("asked", "taken"), [(1, 1), (2, 2), (3, 3), (5, 4), (7, 6), (10, 9), (16, 16), (18, 16)])
def test_samples_fill_a_grid(asked, taken):
    assert spread_evenly(asked) == taken


def test_fewer_samples_are_taken_together_of_a_large_picture():
    assert at_once(32, 1, 1280 * 720) == 16
    assert at_once(32, 1, 3840 * 2160) == 1
    assert at_once(32, 8, 640 * 360) == 4
    assert at_once(2, 1, 100) == 1


def test_where_nothing_is_the_surroundings_are_all_there_is_to_look_at():
    told = sampling_weights(SurfaceSample([]), np.ones((16, 32, 3), np.float32), above(lamps=[point(3.0, 8.0)]))
    assert told[0] > 1.0 and told[1] == pytest.approx(LEAST)
    sliver = body((np.zeros((3, 3), np.float32), np.array([[0, 1, 2]], np.uint32)), Surface(grey(0.5)))
    assert np.isfinite(weights(above(lamps=[point(3.0, 8.0)]), 1.0, [sliver])).all()


def test_an_empty_scene_is_traced(tracer):
    found = traced(tracer, [], above(), 1.0, samples=4, side=16)
    assert found.cover.max() == 0.0
