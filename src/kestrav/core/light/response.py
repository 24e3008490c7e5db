"""From linear light to what a screen shows."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.colours import to_linear, to_srgb

Array = NDArray[np.float64]
KNEE = 0.8  # of white, from where on brighter light is drawn together as film does


def shown_light(light: ArrayLike) -> Array:
    """sRGB values from 0 to 1 of linear light, 1 being white: as it is up to a knee, and from there on drawn together towards white, so that
    highlights keep their shape. The shoulder is a Reinhard curve (E. Reinhard et al., "Photographic Tone Reproduction for Digital Images",
    SIGGRAPH 2002) that leaves the knee with the slope 1."""
    values = np.maximum(np.asarray(light, float), 0.0)
    over = np.maximum(values - KNEE, 0.0) / (1.0 - KNEE)
    return to_srgb(np.where(values <= KNEE, values, KNEE + (1.0 - KNEE) * over / (1.0 + over)))


def light_shown_as(colours: ArrayLike) -> Array:
    """Linear light that :func:`shown_light` shows as sRGB values from 0 to 1, below full white."""
    values = np.minimum(to_linear(colours), 0.995)
    over = (values - KNEE) / np.maximum(1.0 - values, 1e-9)
    return np.asarray(np.where(values <= KNEE, values, KNEE + (1.0 - KNEE) * over))
