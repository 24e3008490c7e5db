"""Textures repeat without a seam and are what their names say; mappings keep their size."""

from typing import get_args

import numpy as np
import pytest
from shapes import box_mesh

from kestrav.core.document.surfaces import Finish, TextureName
from kestrav.core.finishes.box_mapping import box_mapped
from kestrav.core.finishes.shelf import BY_NAME
from kestrav.core.finishes.swatches import swatch
from kestrav.core.finishes.textures import SIDE, texture

NAMES = [name for name in get_args(TextureName) if name]


@pytest.mark.parametrize("name", NAMES)
def test_a_texture_goes_on_over_its_edges_as_it_does_inside(name):
    made = texture(name)
    assert made.height.shape == made.shade.shape == (SIDE, SIDE)
    for values in (made.height, made.shade):
        assert values.min() >= 0 and values.max() <= 1
        for axis in (0, 1):
            steps = np.abs(np.diff(values, axis=axis)).mean(axis=1 - axis)
            seam = np.abs(np.take(values, 0, axis) - np.take(values, -1, axis)).mean()
            assert seam <= 1.5 * np.quantile(steps, 0.98) + 1e-9


@pytest.mark.parametrize("name", NAMES)
def test_normals_are_those_of_the_height(name):
    made = texture(name)
    assert np.linalg.norm(made.normals, axis=-1) == pytest.approx(1.0)
    assert made.normals[..., 2].min() > 0
    # where the height rises along u the normal leans back
    rising = np.roll(made.height, -1, 1) - np.roll(made.height, 1, 1)
    assert np.all(made.normals[..., 0][rising > 1e-6] < 0)


def test_brushing_is_drawn_out_along_u_and_a_mesh_has_holes():
    height = texture("brushed").height
    assert np.abs(np.diff(height, axis=0)).mean() > 5 * np.abs(np.diff(height, axis=1)).mean()
    holes = texture("mesh").opacity
    assert 0.2 < (holes == 0).mean() < 0.8 and texture("wood").opacity is None


def test_a_box_is_mapped_by_its_sides_at_the_size_of_the_grain():
    shape = box_mesh(200, 50, 20)
    found = box_mapped(shape.vertices, shape.triangles, 10.0)
    corners, uv = shape.vertices[found.source][found.triangles], found.uv[found.triangles]
    # a texture keeps its size and its angles: areas go by the square of the grain
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    assert 0.5 * np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) == pytest.approx(area / 10.0**2)
    # on the four long sides u goes along the length
    top = np.abs(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])[:, 0]) < 1e-9
    assert np.all(found.along[found.triangles[top]][..., 0] == 1.0)
    assert len(box_mapped(np.empty((0, 3)), np.empty((0, 3), int), 5.0).uv) == 0


def test_swatches_tell_finishes_apart_and_have_holes_where_these_do():
    clear = {name: swatch(BY_NAME[name], 32) for name in ("Copper", "Rubber", "Oak", "Steel mesh")}
    middle = {name: picture[16, 16, :3].astype(int) for name, picture in clear.items()}
    assert middle["Copper"][0] > middle["Copper"][2] + 20  # reddish
    assert middle["Rubber"].max() < 90
    assert clear["Oak"][0, 0, 3] == 0 and clear["Oak"][16, 16, 3] == 255
    assert (clear["Steel mesh"][8:24, 8:24, 3] < 128).any()
    painted = swatch(Finish("", "Paint"), 32, paint="#c02020")
    assert painted[16, 16, 0] > 2 * painted[16, 16, 1]
