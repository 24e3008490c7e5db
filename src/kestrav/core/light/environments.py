"""Light that comes from all around, as luminance by direction, made by formula.

A picture of an environment has its first row straight up and its last straight down; columns go round from +y over +x (as seen from above,
clockwise). Values are relative to what shows as white (:data:`kestrav.core.light.exposure.WHITE`).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
UP = np.array([0.0, 0.0, 1.0])


def directions(height: int) -> Array:
    """Unit vectors (height, 2 height, 3) of an environment's pixels."""
    polar = (np.arange(height) + 0.5) / height * np.pi
    around = (np.arange(2 * height) + 0.5) / (2 * height) * 2.0 * np.pi
    level = np.sin(polar)[:, None]
    parts = [level * np.sin(around)[None], level * np.cos(around)[None], np.cos(polar)[:, None] + 0 * around[None]]
    return np.stack(parts, axis=-1)


def solid_angles(height: int) -> Array:
    """The solid angle in sr of an environment's pixels (height, 1)."""
    edges = np.cos(np.arange(height + 1) / height * np.pi)
    return np.asarray((edges[:-1] - edges[1:])[:, None] * (2.0 * np.pi / (2 * height)))


def irradiance(picture: Array, normal: Array) -> Array:
    """What an environment (h, 2h, 3) gives a surface of a normal (3,), by what shows as white there: π times the luminance of white."""
    rays, solid = directions(len(picture)), solid_angles(len(picture))
    weight = np.clip(rays @ np.asarray(normal, float), 0.0, None) * solid
    return np.asarray((picture * weight[..., None]).sum(axis=(0, 1)) / np.pi)


def turned(directions: Array, degrees: float) -> Array:
    """Directions as an environment turned counter-clockwise by some degrees about the vertical sees them."""
    angle = np.radians(-degrees)
    c, s = np.cos(angle), np.sin(angle)
    return np.asarray(directions @ np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]]).T)


def workshop(directions: Array) -> Array:
    """A calm workshop (n, n, 3): a bright ceiling, two windows, a dark floor."""
    up = directions[..., 2]
    around = np.mod(np.arctan2(directions[..., 1], directions[..., 0]), 2.0 * np.pi)
    height = np.arcsin(np.clip(up, -1.0, 1.0)) / (0.5 * np.pi)
    light = np.where(up > 0, 0.34 + 0.22 * height, 0.24 + 0.1 * height)
    light = light + 0.9 * np.exp(-((around - 5.2) ** 2 / 0.3 + (height - 0.5) ** 2 / 0.1))
    light = light + 0.4 * np.exp(-((around - 2.4) ** 2 / 0.5 + (height - 0.3) ** 2 / 0.3))
    return np.repeat(light[..., None], 3, axis=-1)
