"""The record of a project's steady light: which studio set-up, how it is turned, and how it is exposed."""

from __future__ import annotations

from typing import Literal

from kestrav.core.document.base import Record

SetupName = Literal["workshop", "three-point", "soft boxes", "overhead tent", "window", "dusk"]


class LightSetup(Record, frozen=True):
    """The light of a studio, beside the lights that stand in the project.

    ``turn`` in degrees is about the vertical, counter-clockwise from above. ``level`` in stops makes its lamps brighter, ``softness`` by
    so much larger. ``exposure`` in EV brightens the whole picture; ``white`` in K is the colour temperature of light that shows as white.
    """

    setup: SetupName = "workshop"
    turn: float = 0.0
    level: float = 0.0
    softness: float = 1.0
    exposure: float = 0.0
    white: float = 6500.0
