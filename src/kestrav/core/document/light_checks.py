"""Checks of the steady light's record."""

from __future__ import annotations

import datetime
from functools import lru_cache

from kestrav.core.colours import unpacked_light
from kestrav.core.document.light_setup import SURROUNDINGS_HEIGHT, Daylight, LightSetup
from kestrav.core.errors import BadInput


def check_light(light: LightSetup) -> None:
    """Raise BadInput for what is no date, and for damaged surroundings."""
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
    """Raise BadInput for what is no time."""
    moment = moment_of(light)
    if not 1900 <= moment.year <= 2200:
        raise BadInput(f"the sun's place in the year {moment.year} is not known well; give 1900 to 2200")
