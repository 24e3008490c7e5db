"""The mean colour of a picture that lies on a surface, which stands for it where pictures are not shown."""

from __future__ import annotations

import io
import warnings

import numpy as np

from kestrav.core.colours import to_linear
from kestrav.core.errors import Damaged

_MOST_PIXELS = 1 << 27


def mean_colour(data: bytes) -> tuple[float, float, float]:
    """The mean linear colour of a picture file, weighed by its opacity. Raises ValueError or OSError for one that cannot be read."""
    from PIL import Image

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with Image.open(io.BytesIO(data)) as picture:
            if picture.width * picture.height > _MOST_PIXELS:
                raise Damaged("a picture of it is too large")
            pixels = np.asarray(picture.convert("RGBA")).reshape(-1, 4)
    weights = pixels[:, 3].astype(float)
    if weights.sum() <= 0:
        raise Damaged("a picture of it is all transparent")
    # light is added up, and not the numbers that stand for it
    light = to_linear(np.arange(256) / 255.0)
    r, g, b = (float(np.bincount(pixels[:, k], weights, 256) @ light / weights.sum()) for k in range(3))
    return r, g, b
