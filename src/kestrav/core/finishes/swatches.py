"""A finish shown small: a ball under a studio's light, shaded by formula.

The light is a bright ceiling over a darker floor with a large and a small soft box; what is mirrored is blurred by the roughness. Reflectance
at an angle by C. Schlick, "An Inexpensive BRDF Model for Physically-based Rendering", Computer Graphics Forum 13, 1994.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kestrav.core.colours import linear, to_srgb
from kestrav.core.document.surfaces import Finish
from kestrav.core.finishes.applied import emitted
from kestrav.core.finishes.textures import SIDE, roughness, shading, texture

Array = NDArray[np.float64]

_ACROSS, _MORE = 0.45, {"tiles": 1.6, "mesh": 0.9}  # of a texture's side that the ball shows
_SAMPLES = 2  # along either side of a pixel
_BOXES = (
    (np.array([-0.55, 0.62, 0.56]), 0.42, 2.6),
    (np.array([0.8, 0.15, 0.58]), 0.2, 1.2),
)  # direction, half width, brightness


def swatch(finish: Finish, size: int, paint: str = "#9aa7ab") -> NDArray[np.uint8]:
    """A picture (size, size, 4) of a finish, with its opacity; ``paint`` is the colour of what has none of its own."""
    count = size * _SAMPLES
    steps = (np.arange(count) + 0.5) / count * 2.0 - 1.0
    x, y = steps[None] * 1.06, -steps[:, None] * 1.06
    inside = x**2 + y**2 < 1.0
    z = np.sqrt(np.maximum(1.0 - x**2 - y**2, 0.0))
    normal = np.stack(np.broadcast_arrays(x, y, z), axis=-1)
    fine = texture(finish.texture)
    across = _MORE.get(finish.texture, _ACROSS)
    rows = (np.rint((y * 0.5 + 0.5) * across * SIDE).astype(int) + 0 * x.astype(int)) % SIDE
    columns = (np.rint((x * 0.5 + 0.5) * across * SIDE).astype(int) + 0 * y.astype(int)) % SIDE
    if finish.texture:
        bent = fine.normals[rows, columns]
        normal = normal + finish.relief * np.concatenate([bent[..., :2], np.zeros((*bent.shape[:2], 1))], axis=-1)
        normal /= np.linalg.norm(normal, axis=-1, keepdims=True)
    shade, rough = shading(finish)[rows, columns], roughness(finish)[rows, columns]
    base = linear(finish.colour or paint) * shade[..., None]
    light = _lit(finish, normal, base, rough)
    opacity = inside.astype(float)
    if fine.opacity is not None:
        opacity = opacity * fine.opacity[rows, columns]
    picture = np.concatenate([to_srgb(light), opacity[..., None]], axis=-1)
    whole = picture.reshape(size, _SAMPLES, size, _SAMPLES, 4)
    weight = whole[..., 3:].sum(axis=(1, 3))
    colour = (whole[..., :3] * whole[..., 3:]).sum(axis=(1, 3)) / np.maximum(weight, 1e-9)
    shown = np.rint(255 * np.concatenate([colour, weight / _SAMPLES**2], axis=-1))
    return np.asarray(shown, np.uint8)


def _lit(finish: Finish, normal: Array, base: Array, rough: Array) -> Array:
    """Linear light (n, n, 3) that a ball sends to the viewer, who looks along -z."""
    facing = np.clip(normal[..., 2], 0.0, 1.0)
    mirrored = np.stack([2 * facing * normal[..., 0], 2 * facing * normal[..., 1], 2 * facing**2 - 1.0], axis=-1)
    plain = ((finish.index - 1.0) / (finish.index + 1.0)) ** 2
    front = plain + (base - plain) * finish.metallic
    edge = front + (1.0 - front) * ((1.0 - facing) ** 5 * (1.0 - 0.7 * rough))[..., None]
    body = base * (1.0 - finish.metallic) * _studio(normal, np.full(rough.shape, 1.0))[..., None]
    through = finish.transmission * (1.0 - finish.metallic)
    if through:
        bent = np.stack([-0.4 * normal[..., 0], -0.4 * normal[..., 1], np.full(facing.shape, -0.9)], axis=-1)
        body = (1.0 - through) * body + through * base * (0.15 + _studio(bent, rough)[..., None])
    light = body * (1.0 - edge) + edge * _studio(mirrored, rough)[..., None]
    if finish.coat:
        coat = finish.coat * (0.04 + 0.96 * (1.0 - facing) ** 5)[..., None]
        light = light * (1.0 - coat) + coat * _studio(mirrored, np.full(rough.shape, finish.coat_roughness))[..., None]
    if finish.sheen:
        light = (
            light
            + 0.5 * linear(finish.sheen) * ((1.0 - facing) ** (1.0 + 4.0 * (1.0 - finish.sheen_roughness)))[..., None]
        )
    glow = emitted(finish)
    if glow is not None:
        light = light + np.minimum(glow, 1.5)
    return np.asarray(light)


def _studio(directions: Array, blur: Array) -> Array:
    """The light (n, n) that comes from directions (n, n, 3), as blurred as a roughness."""
    spread = 0.02 + 0.55 * blur**1.5
    light = 0.42 + 0.33 * np.tanh(directions[..., 1] / (0.12 + 0.6 * blur))
    for middle, half, bright in _BOXES:
        away = np.arccos(np.clip(directions @ (middle / np.linalg.norm(middle)), -1.0, 1.0))
        # a box of the same light in all, however far it is spread
        weight = half**2 / (half**2 + spread**2)
        light = light + bright * weight / (1.0 + np.exp(np.clip((away - half) / (0.25 * spread), -40, 40)))
    return np.asarray(light)
