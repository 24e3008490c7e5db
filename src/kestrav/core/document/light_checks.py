"""Checks of the steady light's record."""

from __future__ import annotations

import datetime
from functools import lru_cache

from kestrav.core.colours import unpacked_light
from kestrav.core.document.light_setup import HARDEST, SOFTEST, STOPS, SURROUNDINGS_HEIGHT, Daylight, LightSetup
from kestrav.core.errors import BadInput


def check_light(light: LightSetup) -> None:
    """Raise BadInput for numbers that no light has, and for damaged surroundings."""
    if not HARDEST <= light.softness <= SOFTEST:
        raise BadInput(f"the softness of the light is {light.softness:g}; it can be {HARDEST:g} to {SOFTEST:g}")
    if not 1667 <= light.white <= 25000:
        raise BadInput(f"the white balance is {light.white:g} K; it can be 1667 to 25000")
    if max(abs(light.level), abs(light.exposure)) > STOPS:
        raise BadInput(f"the light's level or exposure is beyond {STOPS:g} stops; give −{STOPS:g} to {STOPS:g}")
    _check_daylight(light.daylight)
    if light.surroundings.picture:
        _check_picture(light.surroundings.picture)


@lru_cache(maxsize=8)
def _check_picture(picture: str) -> None:
    unpacked_light(picture, SURROUNDINGS_HEIGHT)


def moment_of(light: Daylight) -> datetime.datetime:
    """The time that is meant. Raises BadInput for what is no date or time of day."""
    try:
        date = datetime.date.fromisoformat(light.date)
        clock = datetime.time.fromisoformat(light.clock)
    except ValueError as fault:
        raise BadInput(
            f"“{light.date} {light.clock}” is no date and time; give them as 2026-06-21 and 14:30"
        ) from fault
    if clock.tzinfo is not None:
        raise BadInput(f"the time of day “{light.clock}” has a time zone; give that as hours ahead of UTC")
    zone = datetime.timezone(datetime.timedelta(hours=light.utc))
    return datetime.datetime.combine(date, clock, zone)


def _check_daylight(light: Daylight) -> None:
    """Raise BadInput for what is no place, time or haze."""
    if not -14 <= light.utc <= 14:
        raise BadInput(f"a clock that is {light.utc:g} h ahead of UTC is not possible; give −14 to 14")
    moment = moment_of(light)
    if not 1900 <= moment.year <= 2200:
        raise BadInput(f"the sun's place in the year {moment.year} is not known well; give 1900 to 2200")
    if not -90 <= light.latitude <= 90:
        raise BadInput(f"the latitude {light.latitude:g}° is not possible; give −90 (south) to 90 (north)")
    if not -180 <= light.longitude <= 180:
        raise BadInput(f"the longitude {light.longitude:g}° is not possible; give −180 (west) to 180 (east)")
    if not 1.7 <= light.turbidity <= 10:
        raise BadInput(f"the turbidity {light.turbidity:g} is not possible; give 1.7 (very clear) to 10 (hazy)")
