"""Colours as people write them and as light is counted: sRGB and linear light (IEC 61966-2-1), and pictures of light as text."""

from __future__ import annotations

import base64
import binascii
import zlib
from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.errors import BadInput

Array = NDArray[np.float64]

# from CIE XYZ to linear sRGB (IEC 61966-2-1)
FROM_XYZ = np.array([[3.2406, -1.5372, -0.4986], [-0.9689, 1.8758, 0.0415], [0.0557, -0.2040, 1.0570]])
LUMA = np.array([0.2126, 0.7152, 0.0722])  # ITU-R BT.709-6


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


def packed_light(light: ArrayLike) -> str:
    """Linear light (h, 2 h, 3) as text: an exponent that three colours share, 32 bits a pixel (G. Ward, "Real Pixels", Graphics Gems II,
    1991)."""
    values = np.clip(np.asarray(light, float), 0.0, 1e30)
    most = values.max(axis=-1)
    mantissa, exponent = np.frexp(most)
    scale = np.where(most > 1e-30, mantissa * 256.0 / np.maximum(most, 1e-30), 0.0)
    pixels = np.zeros((*values.shape[:2], 4), np.uint8)
    pixels[..., :3] = np.clip(values * scale[..., None], 0, 255)
    pixels[..., 3] = np.where(most > 1e-30, np.clip(exponent + 128, 1, 255), 0)
    return base64.b64encode(zlib.compress(pixels.tobytes(), 9)).decode("ascii")


def unpacked_light(picture: str, height: int) -> Array:
    """The light (height, 2 height, 3) of :func:`packed_light`. Raises BadInput where it is damaged."""
    size = height * 2 * height * 4
    try:
        inflate = zlib.decompressobj()
        data = inflate.decompress(base64.b64decode(picture, validate=True), size + 1)
    except (zlib.error, binascii.Error, ValueError) as fault:
        raise BadInput("the picture of the surroundings is damaged; choose its file again") from fault
    if len(data) != size:
        raise BadInput("the picture of the surroundings is damaged; choose its file again")
    values = np.frombuffer(data, np.uint8).reshape(height, 2 * height, 4)
    scale = np.where(values[..., 3] > 0, np.ldexp(1.0, values[..., 3].astype(int) - 136), 0.0)
    return np.asarray((values[..., :3] + 0.5) * scale[..., None])
