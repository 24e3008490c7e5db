"""Pictures of surroundings, and what of them counts as a key light."""

from __future__ import annotations

from functools import lru_cache

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.colours import LUMA, unpacked_light
from kestrav.core.document.light_setup import SURROUNDINGS_HEIGHT, Surroundings
from kestrav.core.light.environments import UP, directions, irradiance, solid_angles
from kestrav.core.light.exposure import METERED

Array = NDArray[np.float64]

_SPREAD = 0.97  # cosine of the angle around the brightest place that counts as the key light (14°)
_STANDS_OUT = 6.0  # times that a place is brighter than all around it, from which on it is a lamp


class Around(msgspec.Struct, frozen=True, eq=False):
    """Surroundings taken apart: all of the light (256, 512, 3), that without its key light, and of that the direction (3,), what it gives a
    surface that faces it by what shows as white (3,), and half its angle in degrees. Exposed so that a level surface shows just below white."""

    light: Array
    rest: Array
    direction: Array
    strength: Array
    half: float


@lru_cache(maxsize=4)
def around(surroundings: Surroundings) -> Around:
    """Surroundings taken apart; even light where there is no picture. Raises BadInput where it is damaged."""
    height = SURROUNDINGS_HEIGHT
    light = unpacked_light(surroundings.picture, height) if surroundings.picture else np.ones((height, 2 * height, 3))
    rays, solid = directions(height), solid_angles(height)
    light = light * (METERED / max(float(irradiance(light, UP) @ LUMA), 1e-12))
    luma = light @ LUMA
    row, column = np.unravel_index(int(luma.argmax()), luma.shape)
    near = rays @ rays[row, column] > _SPREAD
    bright = near & (luma > _STANDS_OUT * float((luma * solid).sum() / (4.0 * np.pi)))
    if not bright.any():
        return Around(light, light, np.array([0.0, 0.0, 1.0]), np.zeros(3), 1.0)
    # what is left there is as bright as its neighbourhood
    beside = near & ~bright
    calm = np.median(light[beside], axis=0) if beside.any() else np.zeros(3)
    over = np.where(bright[..., None], np.maximum(light - calm, 0.0), 0.0)
    weight = (over @ LUMA) * solid
    direction = (rays * weight[..., None]).sum(axis=(0, 1))
    direction /= max(float(np.linalg.norm(direction)), 1e-12)
    strength = irradiance(over, direction)
    half = np.degrees(np.sqrt(float((solid * bright).sum()) / np.pi))
    return Around(light, light - over, direction, strength, half)


def seen(picture: Array, directions: Array) -> Array:
    """What a picture (256, 512, 3) shows in directions (n, n, 3): the mean over as much as such a direction stands for."""
    height, given = len(directions), len(picture)
    if given % height == 0 and height < given and directions.shape[1] == 2 * height:
        step = given // height
        blurred = picture.reshape(height, step, 2 * height, step, 3).mean(axis=(1, 3))
    else:
        blurred = picture
    rows = (np.arccos(np.clip(directions[..., 2], -1.0, 1.0)) / np.pi * len(blurred)).astype(int)
    columns = np.mod(np.arctan2(directions[..., 0], directions[..., 1]) / (2.0 * np.pi), 1.0) * blurred.shape[1]
    return np.asarray(blurred[np.minimum(rows, len(blurred) - 1), columns.astype(int) % blurred.shape[1]])
