"""What all records are made of: the base class, places and the cues that start things."""

from __future__ import annotations

from typing import Literal

import msgspec

Vector = tuple[float, float, float]
Quaternion = tuple[float, float, float, float]


class Record(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=False):
    """Common settings of all records."""


class Placement(Record, frozen=True):
    """A position in mm and a rotation as a unit quaternion (w, x, y, z)."""

    position: Vector = (0.0, 0.0, 0.0)
    rotation: Quaternion = (1.0, 0.0, 0.0, 0.0)


class Cue(Record, frozen=True, tag="run"):
    """An event in another run: that it sets out, arrives, or has first gone a share of its way; ``delay`` in s after it."""

    run: str
    at: Literal["start", "way", "arrival"] = "arrival"
    place: float = 0.5
    delay: float = 0.0


class ContactCue(Record, frozen=True, tag="contact"):
    """The event that two parts or assemblies first touch after having been apart; ``delay`` in s after it.

    What was found is kept: the ``time`` in s of the touch, none where they never do.
    """

    a: str
    b: str
    delay: float = 0.0
    time: float | None = None


AnyCue = Cue | ContactCue
