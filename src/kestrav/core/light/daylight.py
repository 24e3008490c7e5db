"""Daylight of a clear sky: where the sun stands, what it gives, and how bright the sky is in every direction.

The sun by NOAA's solar calculator (as the library astral has it, after J. Meeus, "Astronomical Algorithms"). The sky by A. J. Preetham,
P. Shirley, B. Smits, "A Practical Analytic Model for Daylight", SIGGRAPH 1999, which extends R. Perez et al., "All-weather model for sky
luminance distribution", Solar Energy 50, 1993; its appendix 1 has the sunlight's attenuation by air and haze. Twilight's illuminance: P. K.
Seidelmann (ed.), "Explanatory Supplement to the Astronomical Almanac", 1992, from memory. Coefficients from memory; how bright the
whole sky is follows the IESNA's formula for clear skies, as the model's own is nearly twice that.
"""

from __future__ import annotations

import datetime
import math
from functools import lru_cache

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.colours import FROM_XYZ, LUMA
from kestrav.core.document.light_checks import moment_of
from kestrav.core.document.light_setup import Daylight
from kestrav.core.light.environments import UP, directions, irradiance
from kestrav.core.light.exposure import FULL, METERED

Array = NDArray[np.float64]

SUN_RADIUS = 0.2666  # degrees, half of what it measures in the sky on average
_CONSTANT = (
    127_500.0  # lx outside the air (IESNA, "Recommended Practice for the Calculation of Daylight Availability", 1984)
)
_CALIBRATED = 0.53  # by which the model's sky is dimmed, so that a level surface gets what the IESNA's formula for clear skies says
_GROUND = 0.2  # share of light that the ground sends back; common practice, no source
_LOWEST = 1.0  # degrees of the sun's elevation below which the sky keeps its pattern
_TWILIGHT = ((-18.0, -12.0, -6.0, -0.83, 0.0), (6.5e-4, 8.3e-3, 3.4, 453.0, 732.0))  # degrees; lx of a level surface
_DAY = 5.0  # degrees of the sun's elevation from which on the model holds
_WAVES = np.array([0.61, 0.55, 0.465])  # µm that stand for red, green and blue


class Sun(msgspec.Struct, frozen=True):
    """Where the sun stands: degrees above the horizon as it is seen, and clockwise from north."""

    elevation: float
    azimuth: float

    @property
    def direction(self) -> Array:
        """The unit vector (3,) towards it; +y is north and +x east."""
        e, a = math.radians(self.elevation), math.radians(self.azimuth)
        return np.array([math.cos(e) * math.sin(a), math.cos(e) * math.cos(a), math.sin(e)])


@lru_cache(maxsize=64)
def sun_of(light: Daylight) -> Sun:
    """Where the sun stands."""
    from astral import Observer
    from astral.sun import azimuth, elevation

    # at the very poles all directions are south or north
    there = Observer(max(-89.99, min(light.latitude, 89.99)), light.longitude)
    when = moment_of(light).astimezone(datetime.UTC)
    return Sun(float(elevation(there, when)), float(azimuth(there, when)))


def sunlight(sun: Sun, turbidity: float) -> Array:
    """What the sun gives a surface that faces it, in lx as linear sRGB (3,); nothing where it is below the horizon."""
    if sun.elevation <= 0:
        return np.zeros(3)
    # F. Kasten, A. T. Young, "Revised optical air mass tables", Applied Optics 28, 1989
    mass = 1.0 / (math.sin(math.radians(sun.elevation)) + 0.50572 * (sun.elevation + 6.07995) ** -1.6364)
    beta = 0.04608 * turbidity - 0.04586
    air = np.exp(-0.008735 * _WAVES**-4.08 * mass)
    haze = np.exp(-beta * _WAVES**-1.3 * mass)
    return np.asarray(_CONSTANT * air * haze)


def sky(directions: Array, sun: Sun, turbidity: float) -> Array:
    """The luminance (n, n, 3) of sky and ground in directions (n, n, 3), in cd/m² as linear sRGB, without the sun itself."""
    direct, diffuse, dims = _level(sun, turbidity)
    ground = _GROUND * (direct + diffuse) / math.pi
    return np.where(directions[..., 2:] > 0, dims * _dome(directions, sun, turbidity), ground)


def _dome(directions: Array, sun: Sun, t: float) -> Array:
    """The model's sky (n, n, 3) over a sun that is above the horizon; what is below it means nothing."""
    high = math.radians(max(sun.elevation, _LOWEST))
    theta = 0.5 * math.pi - high
    up = np.clip(directions[..., 2], 0.01, 1.0)
    gamma = np.arccos(np.clip(directions @ Sun(math.degrees(high), sun.azimuth).direction, -1.0, 1.0))
    chi = (4.0 / 9.0 - t / 120.0) * (math.pi - 2.0 * theta)
    zenith = max(_CALIBRATED * 1000.0 * ((4.0453 * t - 4.9710) * math.tan(chi) - 0.2155 * t + 2.4192), 30.0)
    powers, turbidities = np.array([theta**3, theta**2, theta, 1.0]), np.array([t * t, t, 1.0])
    at_zenith = (zenith, turbidities @ _X_ZENITH @ powers, turbidities @ _Y_ZENITH @ powers)
    bright, x, y = (
        value * _perez(coefficients @ np.array([t, 1.0]), up, gamma, theta)
        for value, coefficients in zip(at_zenith, (_LUMINANCE, _X, _Y), strict=True)
    )
    xyz = np.stack([x / y * bright, bright, (1.0 - x - y) / y * bright], axis=-1)
    return np.asarray(np.clip(xyz @ FROM_XYZ.T, 0.0, None))


@lru_cache(maxsize=64)
def _level(sun: Sun, turbidity: float) -> tuple[float, float, float]:
    """What sun and sky give a level surface in lx, and by what the model's sky is multiplied for that: in twilight it follows the almanac."""
    rays = directions(48)
    dome = np.where(rays[..., 2:] > 0, _dome(rays, sun, turbidity), 0.0)
    diffuse = math.pi * float(irradiance(dome, UP) @ LUMA)
    direct = float(sunlight(sun, turbidity) @ LUMA) * max(float(sun.direction[2]), 0.0)
    if sun.elevation >= _DAY:
        return direct, diffuse, 1.0
    day = sum(_level(Sun(_DAY, sun.azimuth), turbidity)[:2])
    angles, given = (*_TWILIGHT[0], _DAY), np.log([*_TWILIGHT[1], day])
    wanted = math.exp(float(np.interp(sun.elevation, angles, given)))
    dims = max(wanted - direct, 0.1 * wanted) / max(diffuse, 1e-9)
    return direct, dims * diffuse, dims


def _perez(c: Array, up: Array, gamma: Array, theta: float) -> Array:
    """Perez's distribution, by what it is at the zenith; ``up`` is the cosine of the angle from there."""
    a, b, around, d, e = c

    def value(cosine: Array | float, angle: Array | float) -> Array:
        near = 1.0 + around * np.exp(d * np.asarray(angle)) + e * np.cos(angle) ** 2
        return np.asarray((1.0 + a * np.exp(b / cosine)) * near)

    return value(up, gamma) / value(1.0, theta)


def level_illuminance(light: Daylight) -> tuple[float, float]:
    """What sun and sky give a level surface, in lx."""
    return _level(sun_of(light), light.turbidity)[:2]


def metered(light: Daylight) -> float:
    """By what daylight is multiplied so that a level white surface in it shows just below white; never above 1, as at night lamps count."""
    return min(1.0, METERED * FULL / max(sum(level_illuminance(light)), 1e-9))


# A. J. Preetham et al. 1999, appendix 2: rows are the coefficients a to e, columns turbidity and 1
_LUMINANCE = np.array([[0.1787, -1.4630], [-0.3554, 0.4275], [-0.0227, 5.3251], [0.1206, -2.5771], [-0.0670, 0.3703]])
_X = np.array([[-0.0193, -0.2592], [-0.0665, 0.0008], [-0.0004, 0.2125], [-0.0641, -0.8989], [-0.0033, 0.0452]])
_Y = np.array([[-0.0167, -0.2608], [-0.0950, 0.0092], [-0.0079, 0.2102], [-0.0441, -1.6537], [-0.0109, 0.0529]])
_X_ZENITH = np.array(
    [[0.00166, -0.00375, 0.00209, 0.0], [-0.02903, 0.06377, -0.03202, 0.00394], [0.11693, -0.21196, 0.06052, 0.25886]]
)
_Y_ZENITH = np.array(
    [[0.00275, -0.00610, 0.00317, 0.0], [-0.04214, 0.08970, -0.04153, 0.00516], [0.15346, -0.26756, 0.06670, 0.26688]]
)
