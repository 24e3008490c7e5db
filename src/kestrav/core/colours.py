"""Colours as people write them and as light is counted: sRGB and linear light (IEC 61966-2-1)."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]


def to_linear(values: ArrayLike) -> Array:
    """Linear light of sRGB values from 0 to 1, of any shape."""
    shown = np.asarray(values, float)
    return np.where(shown <= 0.04045, shown / 12.92, ((np.maximum(shown, 0.04045) + 0.055) / 1.055) ** 2.4)


def to_srgb(light: ArrayLike) -> Array:
    """sRGB values from 0 to 1 of linear light, of any shape; what is beyond is cut off."""
    cut = np.clip(np.asarray(light, float), 0.0, 1.0)
    shown: Array = np.where(cut <= 0.0031308, 12.92 * cut, 1.055 * np.maximum(cut, 0.0031308) ** (1 / 2.4) - 0.055)
    return shown


def linear(colour: str) -> Array:
    """Linear light (3,) of #rrggbb."""
    return to_linear([int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)])


def srgb_hex(light: Sequence[float]) -> str:
    """#rrggbb of linear light (red, green, blue)."""
    return "#" + "".join(f"{v:02x}" for v in np.rint(255 * to_srgb(light)).astype(int))
