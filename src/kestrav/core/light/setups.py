"""Studio set-ups: soft boxes around the subject and what is between them, all by formula and as far away as the horizon.

Angles, sizes and ratios of strength are common practice, no source: a key light at about 45° to the side and above, a fill of a third to a
half of it from the other side, a rim light from behind.
"""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.colours import FROM_XYZ, LUMA
from kestrav.core.document.light_setup import LightSetup, SetupName
from kestrav.core.light.daylight import SUN_RADIUS, metered, sky, sun_of, sunlight
from kestrav.core.light.environments import UP, directions, irradiance, solid_angles, turned, workshop
from kestrav.core.light.exposure import FULL, WHITE
from kestrav.core.light.surroundings import around, seen

Array = NDArray[np.float64]


class SoftBox(msgspec.Struct, frozen=True):
    """A soft box: its azimuth (from +x towards +y) and elevation in degrees, half its width and height in degrees, what it gives a surface that
    faces it, by what shows as white, and its colour temperature in K, or its colour itself."""

    azimuth: float
    elevation: float
    width: float
    height: float
    strength: float
    kelvin: float = 6500.0
    tint: tuple[float, float, float] | None = None

    @property
    def colour(self) -> Array:
        """Its linear colour (3,), of a luminance of 1."""
        return kelvin_colour(self.kelvin) if self.tint is None else np.array(self.tint)

    @property
    def direction(self) -> Array:
        """The unit vector (3,) towards it."""
        a, e = np.radians(self.azimuth), np.radians(self.elevation)
        return np.array([np.cos(e) * np.cos(a), np.cos(e) * np.sin(a), np.sin(e)])


class _Setup(msgspec.Struct, frozen=True):
    """What a set-up is made of: the luminance above, at the horizon and below, by that of white, and its boxes, the key light first."""

    above: float
    level: float
    below: float
    boxes: tuple[SoftBox, ...]
    kelvin: float = 6500.0


_KEY = SoftBox(-53.746162, 49.799599, 8.0, 8.0, 0.55)  # where the steady light of every picture shines from
_SETUPS: dict[SetupName, _Setup] = {
    "workshop": _Setup(0.0, 0.0, 0.0, (_KEY, SoftBox(191.309932, 26.117055, 14.0, 10.0, 0.2265))),
    "three-point": _Setup(
        0.3, 0.22, 0.16,
        (SoftBox(-45.0, 40.0, 16.0, 16.0, 0.7), SoftBox(-140.0, 20.0, 24.0, 18.0, 0.32), SoftBox(110.0, 45.0, 10.0, 20.0, 0.6)),
    ),
    "soft boxes": _Setup(0.25, 0.2, 0.15, (SoftBox(-30.0, 35.0, 22.0, 30.0, 0.6), SoftBox(-150.0, 35.0, 22.0, 30.0, 0.5))),
    "overhead tent": _Setup(0.95, 0.6, 0.3, (SoftBox(-90.0, 82.0, 38.0, 38.0, 0.5),)),
    "window": _Setup(0.22, 0.18, 0.12, (SoftBox(180.0, 25.0, 24.0, 28.0, 1.0, 7000.0), SoftBox(0.0, 15.0, 40.0, 30.0, 0.12, 5200.0)), 6000.0),
    "dusk": _Setup(0.16, 0.3, 0.08, (SoftBox(160.0, 9.0, 12.0, 5.0, 0.7, 3200.0), SoftBox(-40.0, 50.0, 40.0, 40.0, 0.14, 9500.0)), 8500.0),
}  # fmt: skip
SETUPS: tuple[SetupName, ...] = (*_SETUPS, "daylight", "environment")


def soft_boxes(light: LightSetup) -> tuple[SoftBox, ...]:
    """The boxes of a light set-up as it is turned, sized and levelled, the key light first; the sun of daylight, and what stands out of
    surroundings, are such as well."""
    return tuple(
        msgspec.structs.replace(
            box,
            azimuth=box.azimuth + light.turn,
            width=min(box.width * light.softness, 85.0),
            height=min(box.height * light.softness, 85.0),
            strength=box.strength * 2.0**light.level,
        )
        for box in _boxes(light)
    )


def _boxes(light: LightSetup) -> tuple[SoftBox, ...]:
    if light.setup == "daylight":
        sun = sun_of(light.daylight)
        given = sunlight(sun, light.daylight.turbidity) * (metered(light.daylight) / FULL)
        return (_shining(sun.direction, given, SUN_RADIUS),)
    if light.setup == "environment":
        boxes = around(light.surroundings)
        return (_shining(boxes.direction, boxes.strength, boxes.half),)
    return _SETUPS[light.setup].boxes


def _shining(direction: Array, light: Array, half: float) -> SoftBox:
    """What shines from a direction (3,) and gives what faces it some light (3,)."""
    luma = float(light @ LUMA)
    tint = tuple(float(v) for v in light / luma) if luma > 0 else (1.0, 1.0, 1.0)
    azimuth, elevation = np.degrees(
        [np.arctan2(direction[1], direction[0]), np.arcsin(np.clip(direction[2], -1.0, 1.0))]
    )
    return SoftBox(float(azimuth), float(elevation), half, half, luma, tint=(tint[0], tint[1], tint[2]))


def environment(light: LightSetup, height: int) -> Array:
    """The light from all around (height, 2 height, 3) by the luminance of white: what is between the boxes, and these."""
    rays = directions(height)
    if light.setup == "environment":
        whole = around(light.surroundings).light
        return np.asarray(2.0**light.level * seen(whole, turned(rays, light.turn)))
    light_of = surround(light, rays)
    solid = solid_angles(height)
    for box in soft_boxes(light):
        shape = _box(box, rays)
        # as bright as gives a surface that faces it what it is to give: that of white is π times its luminance
        facing = float((shape * np.clip(rays @ box.direction, 0.0, None) * solid).sum())
        light_of = light_of + (box.strength * np.pi / max(facing, 1e-9)) * shape[..., None] * box.colour
    return np.asarray(light_of)


def surround(light: LightSetup, directions: Array) -> Array:
    """The light (n, n, 3) between the boxes from directions (n, n, 3)."""
    gain = 2.0**light.level
    if light.setup == "workshop":
        return np.asarray(gain * workshop(turned(directions, light.turn)))
    if light.setup == "daylight":
        above = sky(turned(directions, light.turn), sun_of(light.daylight), light.daylight.turbidity)
        return np.asarray(gain * metered(light.daylight) / WHITE * above)
    if light.setup == "environment":
        return np.asarray(gain * seen(around(light.surroundings).rest, turned(directions, light.turn)))
    setup = _SETUPS[light.setup]
    up = directions[..., 2]
    soft = np.tanh(3.0 * up)
    values = np.where(
        up >= 0, setup.level + (setup.above - setup.level) * soft, setup.level + (setup.level - setup.below) * soft
    )
    return np.asarray(gain * values[..., None] * kelvin_colour(setup.kelvin))


def key_share(light: LightSetup) -> float:
    """The share of the light on a level surface that is the key light's, which is what its shadow takes of it."""
    given = [box.strength * max(float(box.direction[2]), 0.0) for box in soft_boxes(light)]
    whole = sum(given) + float(irradiance(surround(light, directions(32)), UP) @ LUMA)
    return given[0] / max(whole, 1e-9)


def lamps_dimmed(light: LightSetup) -> float:
    """By what the project's own lamps show weaker than in a studio, as a picture in daylight is exposed for that."""
    return metered(light.daylight) if light.setup == "daylight" else 1.0


def picture_height(light: LightSetup) -> int:
    """How many pixels high a picture of the environment must be to show what is smallest in it."""
    return {"daylight": 512, "environment": 256}.get(light.setup, 128)


def _box(box: SoftBox, directions: Array) -> Array:
    """How much of a soft box is seen in directions (n, n, 3), 0 to 1, with a soft edge."""
    ahead = box.direction
    across = np.cross([0.0, 0.0, 1.0], ahead)
    across /= max(float(np.linalg.norm(across)), 1e-9)
    above = np.cross(ahead, across)
    front = directions @ ahead
    safe = np.where(front > 0.05, front, 1.0)
    x, y = np.degrees(np.arctan(directions @ across / safe)), np.degrees(np.arctan(directions @ above / safe))
    inside = np.minimum(box.width - np.abs(x), box.height - np.abs(y))
    edge = 0.12 * min(box.width, box.height) + 0.5
    return np.where(front > 0.05, np.clip(0.5 + inside / edge, 0.0, 1.0), 0.0)


def kelvin_colour(kelvin: float) -> Array:
    """Linear sRGB (3,) of daylight of a colour temperature, or of a black body below 4000 K, of a luminance of 1; 6500 K is white.

    Daylight by CIE 15:2004, 3.1; black bodies by the fit of Kim et al., US patent 7024034 B2 (2006), as both are given in G. Wyszecki and
    W. S. Stiles' successors; from memory, checked in a test by the points that the standards tabulate.
    """
    t = float(np.clip(kelvin, 1667.0, 25000.0))
    if t >= 4000.0:
        if t <= 7000.0:
            x = -4.6070e9 / t**3 + 2.9678e6 / t**2 + 0.09911e3 / t + 0.244063
        else:
            x = -2.0064e9 / t**3 + 1.9018e6 / t**2 + 0.24748e3 / t + 0.237040
        y = -3.0 * x**2 + 2.87 * x - 0.275
    else:
        x = -0.2661239e9 / t**3 - 0.2343589e6 / t**2 + 0.8776956e3 / t + 0.179910
        if t < 2222.0:
            y = -1.1063814 * x**3 - 1.34811020 * x**2 + 2.18555832 * x - 0.20219683
        else:
            y = -0.9549476 * x**3 - 1.37418593 * x**2 + 2.09137015 * x - 0.16748867
    xyz = np.array([x / y, 1.0, (1.0 - x - y) / y])
    rgb = np.clip(FROM_XYZ @ xyz, 0.0, None)
    white = np.clip(FROM_XYZ @ _WHITE, 1e-9, None)
    colour = rgb / white
    return np.asarray(colour / float(colour @ LUMA))


_WHITE = np.array([0.3127 / 0.3290, 1.0, (1.0 - 0.3127 - 0.3290) / 0.3290])


def gains(light: LightSetup) -> Array:
    """By what linear light (3,) is multiplied as it is exposed: the exposure, and what makes light of the white's temperature white."""
    return (
        np.asarray(2.0**light.exposure / kelvin_colour(light.white))
        if light.white != 6500.0
        else np.full(3, 2.0**light.exposure)
    )
