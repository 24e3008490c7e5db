"""What is asked for when something is made: the fields of its dialog. Lengths in mm, times in s, angles in degrees."""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec

from kestrav.core.document.fields import option, quantity, switch
from kestrav.core.document.records import OrbitShape

Duration = Annotated[float, quantity("Duration", "s", "Duration of the motion", 2, above=0)]
Begin = Annotated[float, quantity("Start time", "s", "Time at which the motion starts", 2, 0.5, low=0)]
Turns = Annotated[float, quantity("Turns", "", "Number of turns; negative turns clockwise", 2)]


class TurntableRequest(msgspec.Struct, frozen=True):
    """A part that turns before a camera."""

    turns: Turns = 1.0
    duration: Duration = 12.0


class ArcRequest(msgspec.Struct, frozen=True):
    """A camera that goes about its subject by an angle."""

    sweep: Annotated[float, quantity("Sweep", "°", "Angle about the subject, counter-clockwise", 1, 5)] = 90.0
    duration: Duration = 6.0
    begin: Begin = 0.0


class AlongPathRequest(msgspec.Struct, frozen=True):
    """A camera that goes along a path and looks ahead."""

    duration: Duration = 8.0
    begin: Begin = 0.0
    ahead: Annotated[
        float, quantity("Look-ahead", "mm", "Distance along the path of what the camera looks at", 0, 50, above=0)
    ] = 500.0


class LookAroundRequest(msgspec.Struct, frozen=True):
    """A camera that pans all around at a place, or outwards from a circle about it."""

    place: Annotated[
        tuple[float, float, float], quantity("Position", "mm", "Place of the camera, or middle of its circle", 0)
    ]
    radius: Annotated[
        float,
        quantity("Circle radius", "mm", "Radius of the circle on which the camera moves", 0, 50, zero="none", low=0),
    ] = 0.0
    duration: Duration = 60.0


class OrbitRequest(msgspec.Struct, frozen=True):
    """An orbit of a ``shape``, at a pace given by its duration or, where that is 0, by its speed."""

    shape: OrbitShape
    from_view: Annotated[
        bool,
        switch(
            "Start point",
            "at the present viewpoint",
            "Start the orbit at the present viewpoint, at its height and distance",
        ),
    ] = False
    rounding: Annotated[
        float, quantity("Corner radius", "mm", "Radius of the corners", 0, 50, zero="as offset", low=0)
    ] = 0.0
    duration: Annotated[float, quantity("Duration", "s", "Duration of the orbit", 2, zero="from speed", low=0)] = 12.0
    speed: Annotated[
        float, quantity("Speed", "mm/s", "Speed, instead of a duration", 0, 50, zero="from duration", low=0)
    ] = 0.0
    lateral: Annotated[
        float,
        quantity(
            "Lateral acceleration",
            "mm/s²",
            "Greatest lateral acceleration; the camera slows down in bends to keep it",
            0,
            50,
            zero="constant speed",
            low=0,
        ),
    ] = 0.0
    begin: Begin = 0.0


class FollowRequest(msgspec.Struct, frozen=True):
    """A camera that follows a part that moves: attached to it, along the path of a ``run``, or from a place beside that."""

    mode: Annotated[
        Literal["ride", "path", "passing"],
        option(
            "Mode",
            "How the camera follows",
            ride="attached to the part",
            path="along the part's path",
            passing="from a place beside the path",
        ),
    ] = "ride"
    run: Annotated[str, option("Run", "Run of the part to follow")] = ""
    side: Annotated[Literal["behind", "ahead", "left", "right", "above"], option("Side", "Side of the part")] = "behind"
    place: Annotated[
        float,
        quantity("Station", "%", "Place along the path as a share of its length", 0, 5, factor=100, low=0, high=1),
    ] = 0.5
    distance: Annotated[
        float,
        quantity(
            "Distance",
            "mm",
            "Distance from the middle of the part, or behind it along its path (negative: ahead), or from the path (negative: to the right)",
            0,
            50,
        ),
    ] = 500.0
    height: Annotated[
        float, quantity("Height", "mm", "Height above the middle of the part, or above the path", 0, 50)
    ] = 200.0
    left: Annotated[float, quantity("Left offset", "mm", "Distance from the path to the left", 0, 50)] = 0.0
    lag: Annotated[
        float, quantity("Lag", "s", "Delay with which the camera follows, smoothed", 2, 0.1, zero="none", low=0)
    ] = 0.35


class DrivePastRequest(msgspec.Struct, frozen=True):
    """Something that drives past a standing camera."""

    distance: Annotated[
        float, quantity("Distance", "mm", "Length of the path", 0, 500, zero="five times its length", low=0)
    ] = 0.0
    duration: Duration = 6.0


class WheelRequest(msgspec.Struct, frozen=True):
    """A wheel that rolls a number of turns."""

    part: Annotated[str, option("Part", "The wheel")]
    turns: Annotated[float, quantity("Turns", "", "Number of turns of the wheel over its path", 2, above=0)] = 3.0
    duration: Duration = 6.0


class GridRequest(msgspec.Struct, frozen=True):
    """Lines over the lens, and how dark what is outside its frame is."""

    columns: Annotated[int, quantity("Columns", "", "Columns of the grid", 0, zero="none", low=0, high=64)]
    rows: Annotated[int, quantity("Rows", "", "Rows of the grid", 0, zero="none", low=0, high=64)]
    mask: Annotated[
        float,
        quantity("Mask", "%", "Darkness of the mask outside the frame", 0, 5, zero="none", factor=100, low=0, high=1),
    ]


class SweptRequest(msgspec.Struct, frozen=True):
    """The space that a part sweeps over a span of time."""

    end: Annotated[float, quantity("To", "s", "End of the span", 2, 0.5, above=0)]
    start: Annotated[float, quantity("From", "s", "Start of the span", 2, 0.5, low=0)] = 0.0
    tolerance: Annotated[
        float, quantity("Tolerance", "mm", "Greatest error of the surface", 2, 0.1, zero="by the part's size", low=0)
    ] = 0.0


class KnockRequest(msgspec.Struct, frozen=True):
    """A part that falls over as another strikes it."""

    frames: Annotated[int, quantity("Duration", "frames", "Frames from the blow to rest", 0, above=0)]
    slide: Annotated[float, quantity("Slide distance", "mm", "Distance that the part slides", 1, 10, low=0)]
    tilt: Annotated[float, quantity("Tilt angle", "°", "Angle by which the part tips over", 1, 5, low=0, high=180)] = (
        90.0
    )


class ExplodedRequest(msgspec.Struct, frozen=True):
    """Parts moved apart by a share of the distance over which they come out."""

    spread: Annotated[
        float,
        quantity("Spread", "%", "Distance of the parts from each other, as a share", 0, 10, factor=100, above=0),
    ] = 1.0


class SequenceRequest(msgspec.Struct, frozen=True):
    """How an order of taking apart becomes runs."""

    speed: Annotated[float, quantity("Speed", "mm/s", "Speed of all runs", 0, 50, above=0)]
    motion: Annotated[
        Literal["apart", "together"],
        option("Motion", "Direction in time", apart="disassembly", together="assembly"),
    ] = "apart"


class RequirementRequest(msgspec.Struct, frozen=True):
    """A clearance required between two things, or between one and all the rest."""

    thing: Annotated[str, option("Part", "Part or assembly that keeps the clearance")]
    other: Annotated[str, option("From", "Part or assembly to keep clear of")]
    clearance: Annotated[float, quantity("Clearance", "mm", "Least distance required between these parts", 2, low=0)]
    kind: Annotated[
        Literal["own", "off"],
        option("Requirement", "Whether these parts are checked", own="keep this clearance", off="not checked"),
    ] = "own"


class StretchRequest(msgspec.Struct, frozen=True):
    """Motions that take so many times as long."""

    factor: Annotated[float, quantity("Time factor", "", "Times as long as now", 3, 0.25, above=0)] = 2.0


class FitRequest(msgspec.Struct, frozen=True):
    """Motions that take so long in all."""

    duration: Annotated[float, quantity("Duration", "s", "Duration of all of them", 3, 0.5, above=0)]


class ShiftRequest(msgspec.Struct, frozen=True):
    """Motions that begin later."""

    later: Annotated[
        float, quantity("Later by", "s", "Time by which they begin later; negative is earlier", 3, 0.5)
    ] = 1.0
