"""The records of what turns and drives: wheels, castors, rotations, gears with teeth, rods and balls.

Lengths in mm, times in s, angles in degrees.
"""

from __future__ import annotations

from typing import Annotated, Literal

from kestrav.core.document.base import AnyTrigger, Needs, PartId, Record, Vector
from kestrav.core.document.fields import option, quantity, switch

LARGEST_RADIUS = 1e6  # mm of what turns


class Axle(Record, frozen=True):
    """A line to turn about, in a part's own coordinates: a point on it and its direction, about which turning is counted by
    the right hand."""

    origin: Vector = (0.0, 0.0, 0.0)
    direction: Vector = (0.0, 1.0, 0.0)


class Wheel(Record, frozen=True):
    """A wheel that turns about its axle by the way that it rolls.

    ``radius`` in mm is the working one, by which it rolls; ``outer`` that of its tread (0: the same). ``start`` is its angle
    at the project's start in degrees, ``slip`` the share by which it turns more (spinning) or less (braking) than it rolls.
    ``residual`` in mm is that of the fit that the axle and radius were taken from, if they were. Wheels with the same
    ``link`` share radius and slip.
    """

    id: str
    name: str
    part: PartId
    axle: Axle = Axle()
    radius: Annotated[
        float, quantity("Radius", "mm", "Rolling radius of the wheel", 3, above=0, high=LARGEST_RADIUS)
    ] = 50.0
    outer: Annotated[
        float,
        quantity(
            "Tread radius", "mm", "Outer radius of the tread, which touches the ground", 3, zero="as above", low=0
        ),
    ] = 0.0
    start: Annotated[float, quantity("Start angle", "°", "Angle of the wheel at the start")] = 0.0
    slip: Annotated[
        float,
        quantity(
            "Slip",
            "%",
            "Rotation beyond pure rolling (wheelspin); negative for less (braking)",
            2,
            zero="none",
            factor=100,
            above=-1,
        ),
    ] = 0.0
    residual: float = 0.0
    link: str = ""


class Castor(Record, frozen=True):
    """A castor that turns about its kingpin so that its wheel rolls and is not dragged.

    ``trail`` in mm is how far behind the kingpin its wheel touches the ground; without any it turns the shorter way, and so
    does not turn about where it is pushed back. ``forward`` is its own axis that looks ahead then.
    """

    id: str
    name: str
    part: PartId
    kingpin: Axle = Axle((0.0, 0.0, 0.0), (0.0, 0.0, 1.0))
    forward: Annotated[Vector, quantity("Ahead", "", "Direction of the castor at zero angle", 3)] = (1.0, 0.0, 0.0)
    trail: Annotated[
        float,
        quantity(
            "Trail",
            "mm",
            "Distance of the wheel's ground contact behind the kingpin; without trail the castor does not turn on reversing",
            zero="none",
            low=0,
        ),
    ] = 0.0


class TimedRotation(Record, frozen=True):
    """Parts that turn about their axles by time: by ``turns`` from a start to an end in s (none: without end) or at ``rpm`` (exactly
    one of both; with turns there is an end), softly over ``ramp_in`` and ``ramp_out`` in s. Rotations with the same ``link`` go alike, a ``mirrored`` one the other way about."""

    id: str
    name: str
    part: PartId
    axle: Axle = Axle()
    start: Annotated[float, quantity("From", "s", "Time at which the rotation starts", 3, 0.1)] = 0.0
    end: Annotated[float | None, quantity("To", "s", "Time at which the rotation ends", 3, 0.1, zero="no end")] = None
    turns: Annotated[
        float | None, quantity("Turns", "", "Number of turns in all; negative for the other direction", 3)
    ] = None
    rpm: Annotated[
        float | None, quantity("Rate", "rpm", "Revolutions per minute; negative for the other direction", 2, 10)
    ] = 60.0
    ramp_in: Annotated[float, quantity("Soft start", "s", "Duration of the ramp", 2, 0.1)] = 0.0
    ramp_out: Annotated[float, quantity("Soft stop", "s", "Duration of the ramp", 2, 0.1)] = 0.0
    trigger: AnyTrigger | None = None
    mirrored: Annotated[bool, switch("", "Mirrored", "Turn opposite to the linked rotations")] = False
    link: str = ""


class End(Record, frozen=True):
    """One end of a gear: a gear, sprocket, pulley or rack.

    ``axle`` is what it turns about; of a rack the line along which it runs, through a point of its pitch line. A pulley
    without teeth has a ``radius`` in mm. ``tooth`` is where the middle of a tooth is in the part's own axes: an angle in
    degrees about the axle from its first direction across (:func:`kestrav.core.mechanisms.gears.across`), of a rack mm along its
    line; ``toothed`` says that it was found on the solid or typed, and so that teeth can be brought into mesh.
    """

    part: PartId
    axle: Axle = Axle()
    teeth: int = 0
    radius: float = 0.0
    tooth: float = 0.0
    toothed: bool = False


class Gear(Record, frozen=True):
    """Two ends that turn each other: ``external`` gears, or ``internal`` ones (the larger one is a ring), a gear on a ``rack`` (the second
    end), sprockets with a ``chain``, pulleys with a ``belt``.

    ``pitch`` in mm is the module of gears and racks, and the pitch of chains and toothed belts. ``crossed`` belts turn their
    pulleys the opposite ways. ``phase`` is how far the second end stands turned (degrees; a rack: moved, mm) when the
    first has not turned, so that the teeth mesh.
    """

    id: str
    name: str
    a: End
    b: End
    kind: Annotated[
        Literal["external", "internal", "rack", "chain", "belt"],
        option(
            "Kind",
            "Kind of transmission",
            external="two gears",
            internal="a gear in a ring",
            rack="a gear on a rack",
            chain="sprockets with a chain",
            belt="pulleys with a belt",
        ),
    ] = "external"
    pitch: float = 2.0
    crossed: Annotated[bool, switch("Belt", "crossed", "A crossed belt turns its pulleys in opposite directions")] = (
        False
    )
    phase: Annotated[
        float, quantity("Phase angle", "°", "Phase angle of the second gear at which the teeth mesh", 3)
    ] = 0.0


class Pin(Record, frozen=True):
    """A point of a part, in its own coordinates."""

    part: Annotated[PartId, option("Part", "Part that carries the pin")]
    at: Annotated[Vector, quantity("Pin", "mm", "Pin position on the part, in its coordinates")] = (0.0, 0.0, 0.0)


class Coupled(Record, frozen=True):
    """A part that a rod turns along with its crank, about an axle of its own."""

    part: PartId
    axle: Axle = Axle()


class Rod(Record, frozen=True):
    """A link between pins. Its ``near`` point (in its own coordinates) sits on a pin of its ``crank``, which turns.

    It stays ``level`` (and turns what is ``coupled`` to it as its crank turns), or its ``far`` point looks at the pin ``to``:
    ``points`` at it, or moves the part that has it along a ``line`` (a ``slider``), or about an ``axle`` (a ``rocker``), both in
    that part's own coordinates. ``other`` chooses the other of the two ways in which the mechanism can be put together. Rods
    with the same ``link`` are copies of one mechanism.
    """

    id: str
    name: str
    part: PartId
    crank: Pin
    near: Annotated[Vector, quantity("Near end", "mm", "Pin position on the rod at the crank end")] = (0.0, 0.0, 0.0)
    far: Annotated[Vector, quantity("Far end", "mm", "Pin position on the rod at the far end")] = (100.0, 0.0, 0.0)
    keeps: Annotated[
        Literal["level", "points", "slider", "rocker"],
        option(
            "Motion",
            "Motion of the rod's other end",
            level="stays parallel",
            points="points at a pin",
            slider="moves a slider",
            rocker="moves a rocker",
        ),
    ] = "level"
    to: Annotated[Pin | None, Needs("one")] = None
    line: Annotated[Vector, quantity("Slide direction", "", "Direction of the slide, in the slider's axes", 3)] = (
        1.0,
        0.0,
        0.0,
    )
    axle: Axle = Axle()
    coupled: tuple[Coupled, ...] = ()
    other: Annotated[bool, switch("", "Other assembly", "Use the mechanism's second assembly configuration")] = False
    link: str = ""


class Ball(Record, frozen=True):
    """A ball that rolls without slip as its centre goes, over a plane along its way or over a part's surface ``on``.

    Radius and centre (in its own coordinates) in mm. What was found on a surface is kept: its ``normals`` at the ball, at even
    times from 0 to ``until`` s, in the coordinates of that part.
    """

    id: str
    name: str
    part: PartId
    centre: Annotated[Vector, quantity("Centre", "mm", "Centre of the ball, in the part's coordinates")] = (
        0.0,
        0.0,
        0.0,
    )
    radius: Annotated[float, quantity("Radius", "mm", "Rolling radius", 3, above=0, high=LARGEST_RADIUS)] = 50.0
    on: PartId | None = None
    normals: tuple[Vector, ...] = ()
    until: float = 0.0
