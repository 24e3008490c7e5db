"""The record of a project's steady light: which studio set-up, how it is turned, and how it is exposed."""

from __future__ import annotations

from typing import Annotated, Literal

from kestrav.core.document.base import Record
from kestrav.core.document.fields import option, quantity

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
    utc: Annotated[
        float, quantity("Hours ahead of UTC", "h", "Hours that local time is ahead of UTC", 2, low=-14, high=14)
    ] = 2.0
    latitude: Annotated[float, quantity("Latitude", "°", "Degrees north; negative is south", 3, low=-90, high=90)] = (
        50.0
    )
    longitude: Annotated[float, quantity("Longitude", "°", "Degrees east; negative is west", 3, low=-180, high=180)] = (
        10.0
    )
    turbidity: Annotated[
        float, quantity("Turbidity", "", "Haze of the air: 2 very clear, 10 hazy", 1, 0.5, low=1.7, high=10)
    ] = 3.0


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

    setup: Annotated[
        SetupName,
        option("Light set-up", "Soft boxes, sky or surroundings that light the stage, the lens and all pictures"),
    ] = "workshop"
    turn: Annotated[float, quantity("Light turned", "°", "Turn of the light about the vertical", 0, 15)] = 0.0
    level: Annotated[
        float,
        quantity("Light level", "EV", "Brightness of the set-up's lamps in stops", 1, 0.5, low=-STOPS, high=STOPS),
    ] = 0.0
    softness: Annotated[
        float, quantity("Softness", "%", "Size of the soft boxes", 0, 10, factor=100, low=HARDEST, high=SOFTEST)
    ] = 1.0
    exposure: Annotated[
        float, quantity("Exposure", "EV", "Exposure of pictures in stops", 1, 0.5, low=-STOPS, high=STOPS)
    ] = 0.0
    white: Annotated[
        float,
        quantity("White balance", "K", "Colour temperature of light that shows as white", 0, 250, low=1667, high=25000),
    ] = 6500.0
    daylight: Daylight = Daylight()
    surroundings: Surroundings = Surroundings()
