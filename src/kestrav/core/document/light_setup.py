"""The record of a project's steady light: which studio set-up, how it is turned, and how it is exposed."""

from __future__ import annotations

from typing import Literal

from kestrav.core.document.base import Record

SetupName = Literal[
    "workshop", "three-point", "soft boxes", "overhead tent", "window", "dusk", "daylight", "environment"
]


SOFTEST, HARDEST = 10.0, 0.05  # times the size of a set-up's boxes
STOPS = 12.0  # that a level or an exposure may be, up or down
SURROUNDINGS_HEIGHT = 256  # pixels of a packed picture; it is twice as wide


class Daylight(Record, frozen=True):
    """A clear sky by ``date`` (YYYY-MM-DD), ``clock`` (HH:MM), ``utc`` (hours that the clock is ahead of UTC) and place (``latitude`` north
    and ``longitude`` east, in degrees); ``turbidity`` is the haze of the air, 2 (very clear) to 10 (hazy). North is +y."""

    date: str = "2026-06-21"
    clock: str = "10:00"
    utc: float = 2.0
    latitude: float = 50.0
    longitude: float = 10.0
    turbidity: float = 3.0


class Surroundings(Record, frozen=True):
    """What is around, of a file by ``name``: linear light (256, 512, 3) as :func:`kestrav.core.colours.packed_light`
    has it, in ``picture``; even light where that is empty."""

    name: str = ""
    picture: str = ""


class LightSetup(Record, frozen=True):
    """The light of a studio, beside the lights that stand in the project.

    ``turn`` in degrees is about the vertical, counter-clockwise from above. ``level`` in stops makes its lamps brighter, ``softness`` by
    so much larger. ``exposure`` in EV brightens the whole picture; ``white`` in K is the colour temperature of light that shows as white.
    ``daylight`` is what the set-up of that name shows, ``surroundings`` what “environment” does.
    """

    setup: SetupName = "workshop"
    turn: float = 0.0
    level: float = 0.0
    softness: float = 1.0
    exposure: float = 0.0
    white: float = 6500.0
    daylight: Daylight = Daylight()
    surroundings: Surroundings = Surroundings()
