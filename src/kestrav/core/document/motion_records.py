"""The records of what moves: speed profiles, orientations, runs, key poses and attachments. Lengths in mm, times in s, angles in degrees."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from kestrav.core.document.base import (
    LONGEST,
    AnyTrigger,
    MentionedId,
    PartId,
    PathId,
    Placement,
    Quaternion,
    Record,
    RunId,
    ThingId,
    Vector,
)
from kestrav.core.document.cameras import Aim, PointAim
from kestrav.core.document.fields import option, quantity, switch


class Even(Record, frozen=True, tag="even"):
    """Constant speed."""


class Eased(Record, frozen=True, tag="eased"):
    """Soft start and stop, each over a length in mm or, where it is given, over a time in s."""

    start_length: float = 100.0
    stop_length: float = 100.0
    start_time: float | None = None
    stop_time: float | None = None


LawName = Literal[
    "parabolic",
    "simple harmonic",
    "cycloidal",
    "3-4-5 polynomial",
    "4-5-6-7 polynomial",
    "modified sine",
    "modified trapezoid",
]


class Law(Record, frozen=True, tag="law"):
    """A standard motion law from standstill to standstill, by the English name that VDI 2143 and the handbooks have for it."""

    name: LawName = "modified sine"


class SpeedZone(Record, frozen=True):
    """A greatest speed in mm/s between two shares of the path's length."""

    begin: Annotated[float, quantity("From", "%", "Station as a share of the path's length", 2, factor=100)]
    end: Annotated[float, quantity("To", "%", "Station as a share of the path's length", 2, factor=100)]
    speed: Annotated[float, quantity("Speed", "mm/s", "Greatest speed in the zone", 1, 50)]


class Limited(Record, frozen=True, tag="limited"):
    """The fastest run within limits: a top speed in mm/s, accelerations in mm/s² sideways, forward and braking (0
    for any), and speeds by zone."""

    top: Annotated[float, quantity("Top speed", "mm/s", "Greatest speed", 1, 50, zero="any", low=0)] = 1000.0
    sideways: Annotated[
        float,
        quantity(
            "Lateral",
            "mm/s²",
            "Greatest lateral acceleration; the rider slows down for bends",
            1,
            50,
            zero="any",
            low=0,
        ),
    ] = 0.0
    forward: Annotated[
        float, quantity("Forward", "mm/s²", "Greatest forward acceleration", 1, 50, zero="any", low=0)
    ] = 500.0
    braking: Annotated[float, quantity("Braking", "mm/s²", "Greatest deceleration", 1, 50, zero="any", low=0)] = 500.0
    zones: tuple[SpeedZone, ...] = ()
    from_rest: Annotated[
        bool, switch("From rest", "starts from standstill", "Otherwise the rider is at speed there")
    ] = True
    to_rest: Annotated[bool, switch("To rest", "ends at standstill", "Otherwise the rider is at speed there")] = True


class SpeedKey(Record, frozen=True):
    """At a share of the run's duration it has covered a share of its distance; ``slope`` is distance by time there, in shares, or
    none for one by which it never runs back."""

    time: float
    distance: float
    slope: float | None = None


class Keyed(Record, frozen=True, tag="keyed"):
    """Distance by keys in time."""

    keys: tuple[SpeedKey, ...] = (SpeedKey(0.0, 0.0), SpeedKey(1.0, 1.0))


SpeedProfile = Even | Eased | Law | Limited | Keyed


Axis = Literal["+x", "-x", "+y", "-y", "+z", "-z"]
_AXES = {axis: f"its {axis}" for axis in get_args(Axis)}


class FixedOrientation(Record, frozen=True, tag="fixed"):
    """The rider keeps the rotation it has at rest."""


class _Facing(Record, frozen=True):
    """Which of the rider's own axes look ahead and up; ``flip`` turns it about. Where both are along one axis its x axis
    looks up."""

    forward: Annotated[Axis, option("Forward axis", "Axis of the rider that points ahead", **_AXES)] = "+x"
    flip: bool = False
    up: Annotated[Axis, option("Up axis", "Axis of the rider that points up", **_AXES)] = "+z"


class AlongOrientation(_Facing, frozen=True, tag="along"):
    """The rider's forward axis follows the path: on the ``slope`` with its left level, ``level`` whatever the slope, or
    ``free`` with the least rotation."""

    stance: Annotated[
        Literal["slope", "level", "free"],
        option(
            "Frame",
            "With the slope, the rider's left axis stays level; upright, it does not pitch; least rotation also suits loops",
            slope="with the slope",
            level="upright",
            free="least rotation",
        ),
    ] = "slope"


class CarriedOrientation(_Facing, frozen=True, tag="carried"):
    """The rider is carried on two points of the path a ``wheelbase`` in mm apart, as vehicles are.

    The run's station is that of the front one; ``share`` of the way from the rear to the front one lies what sits on
    the path.
    """

    wheelbase: Annotated[
        float, quantity("Wheelbase", "mm", "Distance between the front and rear points, both on the path", 1, 10)
    ] = 800.0
    share: Annotated[
        float,
        quantity(
            "Pivot position",
            "%",
            "Position of the point on the path between the rear (0 %) and the front point (100 %)",
            1,
            5,
            factor=100,
        ),
    ] = 0.5


class TowardOrientation(_Facing, frozen=True, tag="toward"):
    """The rider's forward axis points at something, its upside as upright as can be."""

    aim: Aim = PointAim((0.0, 0.0, 0.0))


STATION = quantity("Station", "%", "Station as a share of the path's length", 2, 5, factor=100)


class OrientationKey(Record, frozen=True):
    """A rotation of the rider's front, left and upside at a share of the path's length."""

    place: Annotated[float, STATION]
    rotation: Quaternion = (1.0, 0.0, 0.0, 0.0)


class KeyedOrientation(_Facing, frozen=True, tag="keyed"):
    """Rotations by keys along the path, against its own upright frame or (``room``) against the room; ``smooth`` turns at
    even acceleration from key to key, otherwise at even rates."""

    keys: tuple[OrientationKey, ...] = (OrientationKey(0.0), OrientationKey(1.0))
    room: bool = False
    smooth: Annotated[
        bool,
        switch("Smooth", "eased between keys", "Ease the rotation between keys; otherwise the rate is constant"),
    ] = True


Orientation = FixedOrientation | AlongOrientation | CarriedOrientation | TowardOrientation | KeyedOrientation


class BankKey(Record, frozen=True):
    """A bank in degrees, to the left positive, at a share of the path's length."""

    place: Annotated[float, STATION]
    angle: Annotated[float, quantity("Bank", "°", "Bank to the left; negative is to the right")]


class Bank(Record, frozen=True):
    """The roll about the direction of travel: by keys along the path, or ``computed`` from bend and speed so that it
    balances, up to a ``limit`` in degrees and averaged over ``smoothing`` mm."""

    keys: tuple[BankKey, ...] = ()
    computed: Annotated[
        bool,
        switch(
            "Computed",
            "from curvature and speed",
            "Bank at which weight and centrifugal force act straight down: tan(bank) = v² ÷ (g r)",
        ),
    ] = False
    limit: Annotated[float, quantity("Maximum", "°", "Greatest bank angle")] = 30.0
    smoothing: Annotated[
        float,
        quantity("Smoothing", "mm", "Distance over which the bank is averaged, for a smooth entry into bends", 0, 50),
    ] = 200.0


class Hold(Record, frozen=True):
    """A stop of a ``duration`` in s at a share of the path's length; a camera may turn to ``look`` at something there."""

    place: float
    duration: float = 1.0
    look: Aim | None = None


class Following(Record, frozen=True):
    """The rider keeps a ``distance`` in mm along the path behind another run's (negative: ahead of it)."""

    run: RunId
    distance: Annotated[
        float, quantity("Distance behind", "mm", "Distance along the path; negative is ahead", 1, 50)
    ] = 1000.0


class Ground(Record, frozen=True):
    """The rider rides on what lies beneath its path, within a ``reach`` in mm above and below it; ``tilted`` with it.

    What was found is kept: heights on the left of, on and on the right of the path, ``width`` mm apart in all, at
    even shares of its length (nan is not JSON, so where nothing lies in reach the path's own height stands), and
    whether there was something.
    """

    reach: Annotated[
        float, quantity("Reach", "mm", "Search distance for the ground above and below the path", 0, 50)
    ] = 300.0
    tilted: Annotated[
        bool,
        switch("Follow slope", "with the slope beneath", "Tilt the rider with the slope; otherwise it stays upright"),
    ] = False
    width: float = 0.0
    heights: tuple[Vector, ...] = ()
    found: tuple[bool, ...] = ()


class Roughness(Record, frozen=True):
    """A small repeatable irregularity along or about one axis of travel.

    ``amplitude`` is the greatest deviation in mm, or in degrees about an axis; about its ``wavelength`` in mm of way
    or, where it is given, its ``frequency`` in 1/s it is spread over an octave.
    """

    axis: Annotated[Literal["along", "side", "up", "roll", "pitch", "yaw"], option("axis", "Axis of the deviation")] = (
        "up"
    )
    amplitude: Annotated[float, quantity("Amplitude", "mm", "Greatest deviation", 2, 0.1)] = 1.0
    wavelength: Annotated[float, quantity("about", "mm", "Wavelength, in a band of one octave", 0, 10, above=0)] = 200.0
    frequency: Annotated[
        float | None, quantity("about", "1/s", "Frequency, in a band of one octave", 1, 0.5, above=0)
    ] = None
    seed: Annotated[int, quantity("seed", "", "The same seed gives the same roughness", 0)] = 1


class Run(Record, frozen=True):
    """One run of a rider (a part, an assembly, a light or a camera) along a portion of a path.

    ``begin`` and ``end`` are shares of the path's length; ``start`` is in s, unless a ``trigger`` tells when it begins; exactly
    one of ``duration`` (s, of one pass with its ``holds``) and ``speed`` (mm/s, the steady or greatest one) is given.
    ``backwards`` it goes from the end to the beginning. It is made ``passes`` times (0: without end), each the way
    it came where ``returns``. ``before`` it the rider waits on the path or rests in its own place, ``after`` it it stays or
    rests.

    ``companions`` are parts that keep their arrangement with the rider. ``reference`` is what of a part sits on the path: its
    pivot, that at its front or rear, the middle of its underside, or a ``reference_point`` in its own coordinates; ``offset``
    in mm is how far along, to the left and above it is carried beside the path. ``turn`` are the rider's own yaw, pitch
    and roll under the run, in degrees. ``mark`` is the share of the path where its front must stop and ``arrive_by`` the time in s
    when it must be there. Over ``blend`` s after its start it is brought over from where the thing was before.
    Runs with the same ``link`` share how they go. Of all that, only a ``portion`` of its time may be made, between two shares of it: what
    is left of a run that was split, or, from a greater share to a smaller one, a run backward in time.
    """

    id: str
    name: str
    rider: Annotated[ThingId, option("Rider", "Part, camera or light that travels")]
    path: Annotated[PathId, option("Path", "Path of the run")]
    begin: float = 0.0
    end: float = 1.0
    start: Annotated[
        float, quantity("Start", "s", "Time at which the run starts; a trigger can be set under Links", 3, 0.1)
    ] = 0.0
    duration: Annotated[
        float | None, quantity("Duration", "s", "Duration of the run", 3, 0.1, above=0, high=LONGEST)
    ] = 4.0
    speed: Annotated[
        float | None,
        quantity("Speed", "mm/s", "Constant speed, or the greatest where the speed varies", 1, 10, above=0),
    ] = None
    speed_profile: SpeedProfile = Even()
    orientation: Orientation = FixedOrientation()
    backwards: Annotated[
        bool,
        switch(
            "Backwards",
            "from end to start",
            "Travel the portion in reverse, facing as before; Face the other way turns the rider round",
        ),
    ] = False
    reference: Annotated[
        Literal["pivot", "front", "rear", "bottom", "point"],
        option(
            "Point on path",
            "Point of the rider that lies on the path; with the front on the path, the front stops at the mark",
            bottom="middle of underside",
            point="picked point",
        ),
    ] = "pivot"
    offset: Annotated[Vector, quantity("Offset from path", "mm", "Offset along, to the left of and above the path")] = (
        0.0,
        0.0,
        0.0,
    )
    bank: Bank = Bank()
    companions: tuple[MentionedId, ...] = ()
    reference_point: Annotated[Vector, quantity("Point", "mm", "Point in the rider's coordinates")] = (0.0, 0.0, 0.0)
    turn: Annotated[
        Vector, quantity("Rotation offset", "°", "Yaw, pitch and roll of the rider relative to the run's orientation")
    ] = (0.0, 0.0, 0.0)
    trigger: AnyTrigger | None = None
    holds: tuple[Hold, ...] = ()
    passes: int = 1
    returns: Annotated[
        bool,
        switch(
            "Back and forth", "every other pass returns", "Every other pass returns; otherwise each pass starts anew"
        ),
    ] = False
    before: Literal["waits", "rests"] = "waits"
    after: Literal["stays", "rests"] = "stays"
    follows: Following | None = None
    ground: Ground | None = None
    roughness: tuple[Roughness, ...] = ()
    mark: float | None = None
    arrive_by: Annotated[
        float | None, quantity("Arrive by", "s", "Latest arrival; checked", 3, 0.1, zero="any time")
    ] = None
    blend: Annotated[
        float,
        quantity("Blend", "s", "Time over which the motion is blended with the one before", 2, 0.1, zero="none", low=0),
    ] = 0.0
    link: str = ""
    portion: tuple[float, float] | None = None


class KeyPose(Record, frozen=True):
    """Where a thing's pivot is in the room, at a time in s since its key poses begin; handles are vectors from it."""

    time: float
    placement: Placement = Placement()
    handle_in: Vector | None = None
    handle_out: Vector | None = None


class PoseTrack(Record, frozen=True):
    """A thing placed at times without a path: between its keys it goes ``straight``, ``smooth`` or as shaped by hand."""

    id: str
    name: str
    rider: ThingId
    keys: tuple[KeyPose, ...]
    start: Annotated[float, quantity("Start", "s", "Time at which the motion leaves the first pose", 3, 0.1)] = 0.0
    between: Annotated[
        Literal["straight", "smooth", "by hand"],
        option(
            "Interpolation",
            "Linear, smooth without overshoot, or with your own handles",
            straight="linear",
            **{"by hand": "own handles"},
        ),
    ] = "smooth"
    trigger: AnyTrigger | None = None
    blend: Annotated[
        float,
        quantity("Blend", "s", "Time over which the motion is blended with the one before", 2, 0.1, zero="none", low=0),
    ] = 0.0


class Attachment(Record, frozen=True):
    """A part, light or camera goes with a part from a time in s (or a trigger) to another, or without end.

    It is picked up as it is. With an end it can be ``put`` down: where its pivot comes to rest, in the room or in the
    coordinates of the part ``onto``; over the last ``lowering`` s it is brought there.
    """

    id: str
    name: str
    rider: Annotated[ThingId, option("Part", "Part that is attached")]
    carrier: Annotated[PartId, option("Carrier", "Part it is attached to")]
    start: Annotated[float, quantity("From", "s", "Time of attaching", 3, 0.1)] = 0.0
    end: float | None = None
    trigger: AnyTrigger | None = None
    put: Placement | None = None
    onto: PartId | None = None
    lowering: Annotated[
        float,
        quantity("Lowering", "s", "Time before release over which the part is lowered", 3, 0.1, low=0, high=LONGEST),
    ] = 1.0
