"""Lights in time: their strength and colour."""

from __future__ import annotations

import numpy as np

from kestrav.core.colours import linear, srgb_hex
from kestrav.core.document.records import Light


def state(light: Light, time: float) -> tuple[float, str]:
    """Strength (cd, or lx of a sun) and colour as #rrggbb at a time in s, in between keys by even steps; 0 when it is off."""
    if not light.keys:
        return (light.strength if light.on else 0.0), light.colour
    times = [key.time for key in light.keys]
    strength = float(np.interp(time, times, [key.strength for key in light.keys]))
    channels = np.array([linear(key.colour) for key in light.keys])
    mixed = [float(np.interp(time, times, channels[:, k])) for k in range(3)]
    return (strength if light.on else 0.0), srgb_hex(mixed)
