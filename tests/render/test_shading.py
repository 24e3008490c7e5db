"""Shade from depth pictures: against projection matrices, plane geometry and the shadow's construction."""

import numpy as np
import pytest
from vtkmodules.vtkRenderingCore import vtkCamera

from kestrav.render.shading import Sight, enlarged, normals, occlusion, shaded, smoothed, turns
from kestrav.render.soft_light import sight_of

DOWN = np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, -1.0]])  # right, up, ahead: looking down


def above(height=1000.0, half=0.5, parallel=False):
    """A sight straight down from a height in mm."""
    return Sight(np.array([0.0, 0.0, height]), DOWN, half, 10.0, 5000.0, parallel)


@pytest.mark.parametrize("parallel", [False, True])
def test_places_are_those_that_the_projection_matrix_takes_there(parallel):
    camera = vtkCamera()
    camera.SetPosition(300.0, -800.0, 500.0)
    camera.SetFocalPoint(20.0, 10.0, 30.0)
    camera.SetViewUp(0.1, 0.0, 1.0)
    camera.SetViewAngle(40.0)
    camera.SetParallelScale(350.0)
    camera.SetParallelProjection(parallel)
    camera.SetClippingRange(50.0, 3000.0)
    height, width = 30, 40
    # depth as OpenGL has it of known points: by VTK's own matrix, to the middle of a pixel
    matrix = camera.GetCompositeProjectionTransformMatrix(width / height, 0.0, 1.0)
    full = np.array([[matrix.GetElement(i, j) for j in range(4)] for i in range(4)])
    rng = np.random.default_rng(4)
    sight = sight_of(camera)
    for _ in range(20):
        i, j, depth = rng.integers(height), rng.integers(width), rng.uniform(0.02, 0.98)
        clip = np.array([(j + 0.5) / width * 2 - 1, 1 - (i + 0.5) / height * 2, depth, 1.0])
        place = np.linalg.solve(full, clip)
        picture = np.full((height, width), depth)
        found = [axis[i, j] for axis in sight.places(sight.ahead(picture))]
        assert found == pytest.approx(place[:3] / place[3], rel=2e-4, abs=0.2)


def test_nothing_is_infinitely_far_and_rays_come_down_to_the_ground():
    sight = above()
    assert np.isinf(sight.ahead(np.ones((2, 2)))).all()
    down = sight.to_ground(20, 20, 100.0)
    assert down == pytest.approx(np.full((20, 20), 900.0))
    level = Sight(np.array([0.0, 0.0, 100.0]), np.array([[0.0, 1, 0], [0, 0, 1], [1.0, 0, 0]]), 0.5, 1.0, 1e5)
    met = level.to_ground(20, 20, 0.0)
    # the upper half looks over the horizon; below it, by similar triangles
    assert np.isinf(met[:10]).all() and met[19, 0] == pytest.approx(100.0 / (0.5 * 19 / 20))


def heights(sight, shape, height_of):
    """Distances ahead at which a parallel sight from above meets a surface height_of(x, y)."""
    across, up = sight.rays(*shape)
    x, y = np.broadcast_to(across, shape), np.broadcast_to(up[:, None], shape)
    return (sight.place[2] - height_of(x, y)).astype(np.float32)


def seen(sight, ahead):
    places = sight.places(ahead)
    towards = [np.zeros_like(ahead), np.zeros_like(ahead), np.ones_like(ahead)]
    return places, normals(places, towards)


def test_normals_are_those_of_the_plane():
    sight = above(half=100.0, parallel=True)
    ahead = heights(sight, (40, 40), lambda x, y: 0.5 * x - 0.25 * y)
    _, facing = seen(sight, ahead)
    expected = np.array([-0.5, 0.25, 1.0]) / np.linalg.norm([-0.5, 0.25, 1.0])
    for axis in range(3):
        assert facing[axis][5:-5, 5:-5] == pytest.approx(np.full((30, 30), expected[axis]), abs=2e-3)


def occluded(height_of, radius=30.0, samples=48):
    sight = above(half=100.0, parallel=True)
    ahead = heights(sight, (120, 120), height_of)
    places, facing = seen(sight, ahead)
    return occlusion(places, facing, np.full_like(ahead, 120 / 200.0), radius, samples)


def test_an_open_plane_is_not_darkened_whatever_its_slope():
    assert occluded(lambda x, y: 0.0 * x).max() == 0
    assert occluded(lambda x, y: 0.6 * x)[10:-10, 10:-10].max() < 1e-3


def test_near_a_wall_it_is_darker_the_nearer():
    high = occluded(lambda x, y: np.where(x > 0, 20.0, 0.0))[40:80].mean(axis=0)
    low = occluded(lambda x, y: np.where(x > 0, 6.0, 0.0))[40:80].mean(axis=0)
    # x is (column + 0.5) · 200 / 120 − 100 mm: the wall is at column 60, its reach ends 30 mm before it
    near, half_way, beyond = high[58], high[52], high[38]
    assert near > half_way > 0.01 > beyond
    # so far off a low wall stands no higher over the floor than what counts as none
    assert low[58] > 0.05 and low[45] == 0 < high[50]
    # on top of the wall nothing is above
    assert high[66:80].max() < 1e-6


def test_a_shadow_lies_where_the_sun_puts_it():
    # a plate 40 mm square, 50 mm above the floor; the sun shines from (1, 0, 1): the shadow is 50 mm further towards −x
    def plate(x, y):
        return np.where((np.abs(x) < 20) & (np.abs(y) < 20), 50.0, 0.0)

    eye = above(half=100.0, parallel=True)
    ahead = heights(eye, (200, 200), lambda x, y: 0.0 * x)
    places, facing = seen(eye, ahead)
    ahead_of_sun = np.array([-1.0, 0.0, -1.0]) / np.sqrt(2)
    right = np.array([0.0, 1.0, 0.0])
    sun = Sight(
        -300.0 * ahead_of_sun, np.stack([right, np.cross(right, ahead_of_sun), ahead_of_sun]), 150.0, 1.0, 900.0, True
    )
    # the sun's depth picture, ray by ray: the nearer one of plate and floor
    across, up = sun.rays(300, 300)
    start = sun.place + across[None, :, None] * sun.axes[0] + up[:, None, None] * sun.axes[1]
    to_plate, to_floor = ((level - start[..., 2]) / ahead_of_sun[2] for level in (50.0, 0.0))
    at = start + to_plate[..., None] * ahead_of_sun
    met = np.where((np.abs(at[..., 0]) < 20) & (np.abs(at[..., 1]) < 20), to_plate, to_floor).astype(np.float32)
    hidden = shaded(places, facing, met, sun, 2.0, 16)
    x, y = (np.broadcast_to(a, hidden.shape) for a in (eye.rays(200, 200)[0], eye.rays(200, 200)[1][:, None]))
    inside = (np.abs(x + 50) < 14) & (np.abs(y) < 14)
    outside = (np.abs(x + 50) > 26) | (np.abs(y) > 26)
    assert hidden[inside].min() == 1.0 and hidden[outside].max() == 0.0
    # the area of the shadow is the plate's, as the sun is far away
    assert hidden.sum() * (200 / 200) ** 2 == pytest.approx(40 * 40, rel=0.04)
    assert plate(0.0, 0.0) == 50.0


def test_a_soft_shadow_has_a_wide_edge_of_the_same_middle():
    eye = above(half=100.0, parallel=True)
    places, facing = seen(eye, heights(eye, (200, 200), lambda x, y: 0.0 * x))
    sun = above(500.0, 120.0, True)
    across, _ = sun.rays(400, 400)
    # half of the sun's picture is 100 mm above the floor
    met = np.broadcast_to(np.where(across > 0, 400.0, 500.0), (400, 400)).astype(np.float32)
    rows = [shaded(places, facing, met, sun, soft, 64).mean(axis=0) for soft in (1.0, 20.0)]
    widths = [int(((row > 0.02) & (row < 0.98)).sum()) for row in rows]
    assert widths[0] <= 5 and 30 <= widths[1] <= 42
    for row in rows:
        assert np.interp(0.5, row, np.arange(200)) == pytest.approx(99.5, abs=1.5)


def test_smoothing_keeps_to_one_side_of_a_step():
    ahead = np.where(np.arange(40) < 20, 500.0, 900.0)[None].repeat(40, 0).astype(np.float32)
    values = np.where(np.arange(40) < 20, 0.2, 1.0)[None].repeat(40, 0).astype(np.float32)
    assert smoothed(values, ahead)[:, 5:-5] == pytest.approx(values[:, 5:-5])
    noise = 0.5 + 0.1 * np.cos(turns(40, 40))
    even = smoothed(noise.astype(np.float32), np.full((40, 40), 500.0, np.float32))
    assert even[8:-8, 8:-8].std() < 0.1 * noise.std()


def test_a_small_picture_is_enlarged_without_running_over_edges():
    whole = np.where(np.arange(80) < 41, 500.0, 900.0)[None].repeat(60, 0).astype(np.float32)
    small = whole[1::2, 1::2]
    values = np.where(small < 700, 0.2, 1.0).astype(np.float32)
    found = enlarged(values, small, whole)
    assert found == pytest.approx(np.where(whole < 700, 0.2, 1.0), abs=0.02)
    ramp = np.linspace(0, 1, 40, dtype=np.float32)[None].repeat(30, 0)
    flat = np.full((60, 80), 500.0, np.float32)
    assert np.diff(enlarged(ramp, flat[::2, ::2], flat)[30]).max() < 0.02
