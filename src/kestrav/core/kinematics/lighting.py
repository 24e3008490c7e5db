"""Lights in time: their strength and colour."""

from __future__ import annotations

import numpy as np

from kestrav.core.document.records import Light


def state(light: Light, time: float) -> tuple[float, str]:
    """Strength (cd, or lx of a sun) and colour as #rrggbb at a time in s, in between keys by even steps; 0 when it is off."""
    if not light.keys:
        return (light.strength if light.on else 0.0), light.colour
    times = [key.time for key in light.keys]
    strength = float(np.interp(time, times, [key.strength for key in light.keys]))
    channels = np.array([_linear(key.colour) for key in light.keys])
    mixed = [float(np.interp(time, times, channels[:, k])) for k in range(3)]
    return (strength if light.on else 0.0), _written(mixed)


def _linear(colour: str) -> list[float]:
    """A colour's channels as amounts of light (sRGB, IEC 61966-2-1)."""
    values = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    return [v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4 for v in values]


def _written(channels: list[float]) -> str:
    values = [12.92 * v if v <= 0.0031308 else 1.055 * v ** (1 / 2.4) - 0.055 for v in channels]
    return "#" + "".join(f"{round(255 * min(max(v, 0.0), 1.0)):02x}" for v in values)
