"""What all records are made of: the base class, places and the triggers that start things."""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec

from kestrav.core.document.fields import option, quantity

LONGEST = 36_000.0  # s that a project can last
Vector = tuple[float, float, float]
Quaternion = tuple[float, float, float, float]


class Ref(msgspec.Struct, frozen=True):
    """Says of a field that it holds the id of something in one of a project's collections.

    ``moves`` says that a motion hangs on what is named; ``blank`` that the field may be empty, and is where that is removed.
    """

    kinds: tuple[str, ...]
    moves: bool = True
    blank: bool = False


class Needs(msgspec.Struct, frozen=True):
    """Says of a field what its record needs of it: ``one`` of those that it names, or ``all`` of them. Without that the record is removed
    too."""

    how: Literal["one", "all"]


PartId = Annotated[str, Ref(("parts",))]
ThingId = Annotated[str, Ref(("parts", "cameras", "lights"))]
PathId = Annotated[str, Ref(("paths",))]
RunId = Annotated[str, Ref(("runs",))]
CameraId = Annotated[str, Ref(("cameras",))]
MentionedId = Annotated[str, Ref(("parts",), moves=False)]
"""Of a part on which no motion hangs."""


class Record(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=False):
    """Common settings of all records."""


DELAY = quantity("Delay", "s", "Delay after the trigger", 3, 0.1, low=0, high=LONGEST)


class Placement(Record, frozen=True):
    """A position in mm and a rotation as a unit quaternion (w, x, y, z)."""

    position: Vector = (0.0, 0.0, 0.0)
    rotation: Quaternion = (1.0, 0.0, 0.0, 0.0)


class Trigger(Record, frozen=True, tag="run"):
    """An event in another run: that it sets out, arrives, or has first gone a share of its way; ``delay`` in s after it."""

    run: RunId
    at: Annotated[
        Literal["start", "station", "arrival"],
        option("Event", "Event of that run", start="starts", station="passes a station", arrival="arrives"),
    ] = "arrival"
    place: Annotated[
        float, quantity("Station", "%", "Station as a share of its path", 1, 5, factor=100, low=0, high=1)
    ] = 0.5
    delay: Annotated[float, DELAY] = 0.0


class ContactTrigger(Record, frozen=True, tag="contact"):
    """The event that two parts or assemblies first touch after having been apart; ``delay`` in s after it.

    What was found is kept: the ``time`` in s of the touch, none where they never do.
    """

    a: Annotated[MentionedId, option("Part", "First part or assembly of the contact")]
    b: Annotated[MentionedId, option("Touches", "Second part or assembly of the contact")]
    delay: Annotated[float, DELAY] = 0.0
    time: float | None = None


AnyTrigger = Trigger | ContactTrigger
