"""The records of a project. Lengths in mm, times in s, angles in degrees where a record says so.

Every record is frozen: an edit makes a new one (:mod:`kestrav.core.document.edits`).
"""

from __future__ import annotations

from typing import Annotated, Literal

from kestrav.core.document.base import (
    LONGEST,
    AnyTrigger as AnyTrigger,
    ContactTrigger as ContactTrigger,
    MentionedId,
    Needs,
    PartId,
    PathId,
    Placement as Placement,
    Quaternion as Quaternion,
    Record as Record,
    RunId,
    ThingId,
    Trigger as Trigger,
    Vector as Vector,
)
from kestrav.core.document.cameras import (
    Aim as Aim,
    AlongAim as AlongAim,
    Camera as Camera,
    CameraAim as CameraAim,
    Fade as Fade,
    FloorName as FloorName,
    Focus as Focus,
    FocusKey as FocusKey,
    Framing as Framing,
    FreeAim as FreeAim,
    LookKey as LookKey,
    LookName as LookName,
    OnPicture as OnPicture,
    PartAim as PartAim,
    PathAim as PathAim,
    PointAim as PointAim,
    QualityName as QualityName,
    RollKey as RollKey,
    Section as Section,
    Shot as Shot,
    Walk as Walk,
)
from kestrav.core.document.comments import (
    Comment as Comment,
    SavedView as SavedView,
)
from kestrav.core.document.fields import option, quantity, swatch, switch
from kestrav.core.document.light_setup import (
    LightSetup as LightSetup,
)
from kestrav.core.document.mechanisms import (
    Axle as Axle,
    Ball as Ball,
    Castor as Castor,
    Coupled as Coupled,
    End as End,
    Gear as Gear,
    Pin as Pin,
    Rod as Rod,
    TimedRotation as TimedRotation,
    Wheel as Wheel,
)
from kestrav.core.document.sheets import (
    Step as Step,
    StepSheet as StepSheet,
)
from kestrav.core.document.surfaces import (
    Colourway as Colourway,
    Finish as Finish,
    FinishRule as FinishRule,
    GivenFinish as GivenFinish,
    GivenFinishId,
)

FORMAT_VERSION = 17
MOST_TURNS = 1000  # of a helix
MOST_LAPS = 100  # of an orbit


class Geometry(Record, frozen=True):
    """A mesh kept beside the document under its content hash; bounds, and a point amid the one wide bore that it has, in mm."""

    hash: str
    triangles: int
    low: Vector
    high: Vector
    watertight: bool = False
    bore: Vector | None = None


class Source(Record, frozen=True):
    """A file that products came from, and how it was read.

    ``chord`` in mm is the tessellation tolerance (0: by the size of each part), ``unit`` is one of the file in
    mm, ``up`` the file's upward axis.
    """

    id: str
    file: str
    chord: float = 0.0
    unit: float = 1.0
    up: Literal["x", "y", "z"] = "z"


class BoxForm(Record, frozen=True, tag="box"):
    """A box standing on its origin; width along x, depth along y, height along z, in mm."""

    width: float = 400.0
    depth: float = 300.0
    height: float = 200.0


class CylinderForm(Record, frozen=True, tag="cylinder"):
    """An upright cylinder standing on its origin, in mm."""

    diameter: float = 200.0
    height: float = 300.0


class SphereForm(Record, frozen=True, tag="sphere"):
    """A ball resting on its origin, in mm."""

    diameter: float = 200.0


class FloorForm(Record, frozen=True, tag="floor"):
    """A slab whose upper side is at height 0, in mm."""

    width: float = 4000.0
    depth: float = 4000.0
    thickness: float = 20.0


class WallForm(Record, frozen=True, tag="wall"):
    """A wall along x with one opening; ``sill`` is the opening's height above the floor, ``offset`` its left side."""

    length: float = 3000.0
    height: float = 2500.0
    thickness: float = 120.0
    opening_width: float = 900.0
    opening_height: float = 2050.0
    offset: float = 1050.0
    sill: float = 0.0


Form = BoxForm | CylinderForm | SphereForm | FloorForm | WallForm


class ImportBaseline(Record, frozen=True):
    """How a part came from its file: what differs from this was changed here, and is kept when the file changes."""

    name: str
    placement: Placement
    colour: str


class Swept(Record, frozen=True):
    """Which motion a part is the swept space of: of what, from one time to another in s, as near as ``tolerance`` in mm; ``mark`` tells
    the motion apart from later ones."""

    thing: MentionedId
    start: float
    end: float
    tolerance: float
    mark: str


class Part(Record, frozen=True):
    """A placed solid, or an assembly (no geometry) that others name as their parent.

    ``placement`` is relative to the parent; ``pivot`` is in the part's own coordinates, its x axis being the
    part's front and its z axis the part's upside. ``scale`` are factors along the own axes between the geometry
    and the solid. ``role`` says what a part is meant for: ``fixed`` must not move, ``moving`` is going to.
    ``locked`` parts are not picked. ``source``, ``origin`` and ``baseline`` say where it came from: the file, the names
    down to it there, and what it was then. ``form`` are the measures of a placeholder. Parts with the same ``link`` share their geometry
    and looks: a change of one changes all. ``least_radius`` in mm is the tightest bend that it can take; 0 for any.
    ``swept`` is set where the solid is the space that something sweeps.
    """

    id: str
    name: str
    parent: PartId | None = None
    placement: Placement = Placement()
    pivot: Placement = Placement()
    geometry: str | None = None
    colour: str = "#9aa7ab"
    opacity: float = 1.0
    shown: Annotated[bool, switch("Shown", "visible and checked", "Hidden parts are neither drawn nor checked (H)")] = (
        True
    )
    scale: Vector = (1.0, 1.0, 1.0)
    finish: GivenFinishId = ""
    role: Annotated[
        Literal["", "fixed", "moving"],
        option(
            "Role",
            "Role of the part: a fixed part cannot be moved; a part that will move is checked before it has a run",
            **{"": "free"},
            moving="will move",
        ),
    ] = ""
    locked: Annotated[
        bool, switch("Locked", "not selectable in the stage", "Clicks pass through this part to the parts behind")
    ] = False
    source: str | None = None
    origin: str = ""
    form: Form | None = None
    link: str = ""
    baseline: ImportBaseline | None = None
    least_radius: Annotated[
        float,
        quantity(
            "Minimum bend radius",
            "mm",
            "Tightest bend this part can take; its paths are checked against it",
            1,
            50,
            zero="any",
            low=0,
        ),
    ] = 0.0
    swept: Swept | None = None


class PathPoint(Record, frozen=True):
    """A point of a path; handles are vectors from it and count for free points only.

    ``radius`` in mm rounds a corner between two straight sides; 0 leaves it sharp.
    """

    position: Vector
    kind: Literal["corner", "smooth", "free"] = "smooth"
    handle_in: Vector | None = None
    handle_out: Vector | None = None
    radius: float = 0.0


class PointShape(Record, frozen=True, tag="points"):
    """A path through points."""

    points: tuple[PathPoint, ...]
    closed: bool = False


class EllipseShape(Record, frozen=True, tag="ellipse"):
    """A level ellipse; ``turn`` and ``start`` in degrees, clockwise as seen from above."""

    centre: Annotated[Vector, quantity("Centre", "mm", "Centre of the ellipse; z is its height")]
    half_x: Annotated[float, quantity("Half width", "mm", "Half axis along x", 1, 10, above=0)]
    half_y: Annotated[float, quantity("Half depth", "mm", "Half axis along y", 1, 10, above=0)]
    turn: Annotated[float, quantity("Rotation", "°", "Rotation of the ellipse about z")] = 0.0
    start: Annotated[float, quantity("Start angle", "°", "Start angle from the ellipse's x axis", 1, 5)] = 0.0
    clockwise: Annotated[bool, switch("Direction", "clockwise seen from above", "Direction of travel")] = False


class ArcShape(Record, frozen=True, tag="arc"):
    """A circular arc about an axis through a centre, from a start, by a sweep in degrees of either sign."""

    centre: Annotated[Vector, quantity("Centre", "mm", "Centre of the circle")]
    start: Annotated[Vector, quantity("Start", "mm", "Start of the arc")]
    sweep: Annotated[float, quantity("Sweep", "°", "Swept angle; negative for the other direction", 1, 5)] = 90.0
    axis: Annotated[Vector, quantity("Axis", "", "Axis of rotation, as a vector", 3)] = (0.0, 0.0, 1.0)


class RectangleShape(Record, frozen=True, tag="rectangle"):
    """A level rectangle; corners of a radius in mm are round (exponent 2) or superelliptic (above 2).

    ``turn`` in degrees; it starts in the middle of its front side.
    """

    centre: Annotated[Vector, quantity("Centre", "mm", "Centre of the shape; z is its height")]
    width: Annotated[float, quantity("Width", "mm", "Overall size along x before rotation", 1, 10, above=0)]
    depth: Annotated[float, quantity("Depth", "mm", "Overall size along y before rotation", 1, 10, above=0)]
    radius: Annotated[float, quantity("Corner radius", "mm", "Radius of the corners; 0 for sharp corners", 1, 10)] = 0.0
    exponent: Annotated[
        float, quantity("Exponent", "", "2 for round corners, more for superelliptic corners", 2, 0.5, low=2)
    ] = 2.0
    turn: Annotated[float, quantity("Rotation", "°", "Rotation about z", 1, 5)] = 0.0
    clockwise: Annotated[bool, switch("Direction", "clockwise seen from above", "Direction of travel")] = False


class HelixShape(Record, frozen=True, tag="helix"):
    """An upright helix from a centre upwards; ``pitch`` in mm per turn, ``start`` in degrees."""

    centre: Annotated[Vector, quantity("Centre", "mm", "Centre of the shape; z is its height")]
    radius: Annotated[float, quantity("Radius", "mm", "Radius of the helix", 1, 10, above=0)]
    pitch: Annotated[float, quantity("Pitch", "mm", "Rise of one turn; negative downwards", 1, 10)]
    turns: Annotated[float, quantity("Turns", "", "Number of turns", 3, 0.25, above=0, high=MOST_TURNS)] = 3.0
    start: Annotated[float, quantity("Start angle", "°", "Start angle from the x axis", 1, 5)] = 0.0
    clockwise: Annotated[bool, switch("Direction", "clockwise seen from above", "Direction of travel")] = False


class SurfaceShape(Record, frozen=True, tag="surface"):
    """A path on the surface of a part, through points (in the part's own coordinates) that stick to it.

    ``lift`` in mm raises it along the surface's normals. Between the points it runs ``smooth``, or the ``shortest``
    way. What was worked out is kept: ``samples`` of the lifted curve in space, the numbers ``marks`` of those that
    are the points, and what it was worked out of: the solid's hash and the part's placement in space at rest.
    """

    part: PartId
    points: tuple[Vector, ...]
    lift: float = 0.0
    between: Literal["smooth", "shortest"] = "smooth"
    closed: bool = False
    samples: tuple[Vector, ...] = ()
    marks: tuple[int, ...] = ()
    solid: str = ""
    at: Placement = Placement()


class OrbitShape(Record, frozen=True, tag="orbit"):
    """A way around things as seen from above, at an ``offset`` in mm from their outline.

    ``kind`` is the figure laid around them. Its corners are rounded by ``rounding`` mm, or by the offset where none is
    given. It goes at a ``height`` in mm above the room's zero, tilted by ``tilt`` degrees so that it is highest ``toward``
    an azimuth in degrees, and rises evenly by ``rise`` mm in all. It begins at the azimuth ``start`` in degrees, seen from
    its middle, and goes ``laps`` times around, or a part of once. What was worked out is kept: the corners of the
    ``outline`` of the things ``around`` in plan.
    """

    around: tuple[PartId, ...]
    outline: tuple[tuple[float, float], ...]
    kind: Annotated[
        Literal["circle", "ellipse", "rectangle", "hull"], option("Shape", "Shape around the parts in plan")
    ] = "circle"
    offset: Annotated[float, quantity("Offset", "mm", "Distance from the outline", 0, 50, low=0)] = 2000.0
    rounding: float | None = None
    height: Annotated[float, quantity("Height", "mm", "Height above z = 0", 0, 50)] = 1500.0
    tilt: Annotated[float, quantity("Tilt", "°", "Tilt of the plane", low=-80, high=80)] = 0.0
    toward: Annotated[
        float, quantity("Azimuth of highest point", "°", "Azimuth of the tilted shape's highest point", 1, 5)
    ] = 0.0
    start: Annotated[
        float, quantity("Start angle", "°", "Azimuth of the start, counter-clockwise from +x", 1, 5)
    ] = -90.0
    laps: Annotated[
        float,
        quantity("Laps", "", "Number of laps; below 1 for a part of a lap", 3, 0.25, above=0, high=MOST_LAPS),
    ] = 1.0
    rise: Annotated[float, quantity("Rise", "mm", "Height gained from start to end", 0, 50)] = 0.0
    clockwise: Annotated[bool, switch("Direction", "clockwise seen from above", "Direction of travel")] = False


Shape = PointShape | EllipseShape | ArcShape | RectangleShape | HelixShape | SurfaceShape | OrbitShape


class Path(Record, frozen=True):
    """A curve in space; ``trim`` are the shares of its shape's length at which it begins and ends."""

    id: str
    name: str
    shape: Shape
    trim: tuple[float, float] = (0.0, 1.0)


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

    begin: float
    end: float
    speed: float


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
    """At a share of the run's duration it has covered a share of its way; ``slope`` is way by time there, in shares, or
    none for one by which it never runs back."""

    time: float
    way: float
    slope: float | None = None


class Keyed(Record, frozen=True, tag="keyed"):
    """Distance by keys in time."""

    keys: tuple[SpeedKey, ...] = (SpeedKey(0.0, 0.0), SpeedKey(1.0, 1.0))


SpeedProfile = Even | Eased | Law | Limited | Keyed


Axis = Literal["+x", "-x", "+y", "-y", "+z", "-z"]


class FixedOrientation(Record, frozen=True, tag="fixed"):
    """The rider keeps the rotation it has at rest."""


class _Facing(Record, frozen=True):
    """Which of the rider's own axes look ahead and up; ``flip`` turns it about. Where both are along one axis its x axis
    looks up."""

    forward: Axis = "+x"
    flip: bool = False
    up: Axis = "+z"


class AlongOrientation(_Facing, frozen=True, tag="along"):
    """The rider's forward axis follows the path: on the ``slope`` with its left level, ``level`` whatever the slope, or
    ``free`` with the least rotation."""

    stance: Literal["slope", "level", "free"] = "slope"


class CarriedOrientation(_Facing, frozen=True, tag="carried"):
    """The rider is carried on two points of the path a ``wheelbase`` in mm apart, as vehicles are.

    The run's station is that of the front one; ``share`` of the way from the rear to the front one lies what sits on
    the path.
    """

    wheelbase: float = 800.0
    share: float = 0.5


class TowardOrientation(_Facing, frozen=True, tag="toward"):
    """The rider's forward axis points at something, its upside as upright as can be."""

    aim: Aim = PointAim((0.0, 0.0, 0.0))


class OrientationKey(Record, frozen=True):
    """A rotation of the rider's front, left and upside at a share of the path's length."""

    place: float
    rotation: Quaternion = (1.0, 0.0, 0.0, 0.0)


class KeyedOrientation(_Facing, frozen=True, tag="keyed"):
    """Rotations by keys along the path, against its own upright frame or (``room``) against the room; ``smooth`` turns at
    even acceleration from key to key, otherwise at even rates."""

    keys: tuple[OrientationKey, ...] = (OrientationKey(0.0), OrientationKey(1.0))
    room: bool = False
    smooth: bool = True


Orientation = FixedOrientation | AlongOrientation | CarriedOrientation | TowardOrientation | KeyedOrientation


class BankKey(Record, frozen=True):
    """A bank in degrees, to the left positive, at a share of the path's length."""

    place: float
    angle: float


class Bank(Record, frozen=True):
    """The roll about the direction of travel: by keys along the path, or ``computed`` from bend and speed so that it
    balances, up to a ``limit`` in degrees and averaged over ``smoothing`` mm."""

    keys: tuple[BankKey, ...] = ()
    computed: bool = False
    limit: float = 30.0
    smoothing: float = 200.0


class Hold(Record, frozen=True):
    """A stop of a ``duration`` in s at a share of the path's length; a camera may turn to ``look`` at something there."""

    place: float
    duration: float = 1.0
    look: Aim | None = None


class Following(Record, frozen=True):
    """The rider keeps a ``distance`` in mm along the path behind another run's (negative: ahead of it)."""

    run: RunId
    distance: float = 1000.0


class Ground(Record, frozen=True):
    """The rider rides on what lies beneath its path, within a ``reach`` in mm above and below it; ``tilted`` with it.

    What was found is kept: heights on the left of, on and on the right of the path, ``width`` mm apart in all, at
    even shares of its length (nan is not JSON, so where nothing lies in reach the path's own height stands), and
    whether there was something.
    """

    reach: float = 300.0
    tilted: bool = False
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
    amplitude: float = 1.0
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
    arrive_by: float | None = None
    blend: Annotated[
        float,
        quantity("Blend", "s", "Time over which the motion is blended with the one before", 2, 0.1, zero="none", low=0),
    ] = 0.0
    link: str = ""
    portion: tuple[float, float] | None = None


LINKED_FIELDS = (
    "begin", "end", "duration", "speed", "speed_profile", "orientation", "backwards", "reference", "offset", "bank", "reference_point", "turn",
    "holds", "passes", "returns", "before", "after", "roughness",
)  # fmt: skip
LINKED: dict[type, tuple[str, ...]] = {
    Run: LINKED_FIELDS,
    Wheel: ("radius", "outer", "slip"),
    TimedRotation: ("start", "end", "turns", "rpm", "ramp_in", "ramp_out", "trigger"),
    Rod: ("near", "far", "keeps", "line", "other"),
}


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
    """A part, light or camera goes with a part from a time in s (or a trigger) to another, or for good.

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


class LightKey(Record, frozen=True):
    """A light's strength and colour at a time in s."""

    time: float
    strength: float
    colour: str = "#fff3dd"


class Light(Record, frozen=True):
    """A light. ``strength`` is in candela, of a sun in lux; keys in time hold instead where there are some.

    Spot and area lights and the sun shine at what they ``aim`` at; ``cone`` is a spot's whole angle in degrees,
    ``size`` an area's width and height in mm.
    """

    id: str
    name: str
    kind: Annotated[
        Literal["point", "spot", "area", "sun"],
        option("Kind", "Kind of light: all around, in a cone, from an area, or distant"),
    ] = "point"
    position: Annotated[Vector, quantity("Position", "mm", "Position of the light while nothing moves it")] = (
        0.0,
        -1500.0,
        2200.0,
    )
    aim: Aim = PointAim((0.0, 0.0, 0.0))
    strength: float = 800.0
    colour: Annotated[str, swatch("Colour", "Colour of the light")] = "#fff3dd"
    cone: Annotated[float, quantity("Cone", "°", "Full cone angle", above=0, below=180)] = 60.0
    size: tuple[float, float] = (600.0, 600.0)
    keys: tuple[LightKey, ...] = ()
    on: Annotated[bool, switch("On", "light is on", "Whether the light is on")] = True


class Contact(Record, frozen=True):
    """Whether the touching of two parts is intended; unlisted pairs that touch at rest are proposed. ``deeper`` in mm is by how much they
    may get deeper into each other than other contacts, as a snap fit does."""

    a: MentionedId
    b: MentionedId
    intended: bool = True
    deeper: float = 0.0


class Requirement(Record, frozen=True):
    """What is checked against what, and how far in mm it must stay apart.

    ``things`` and ``others`` are parts and assemblies; no others are all that is not of the things. ``required`` none is the
    project's. Of several that apply to a pair the last one holds. What is not ``checked`` is left out, and said to be.
    """

    id: str
    name: str
    things: Annotated[tuple[MentionedId, ...], Needs("one")]
    others: Annotated[tuple[MentionedId, ...], Needs("one")] = ()
    required: Annotated[
        float | None, quantity("Clearance", "mm", "Least distance required between these parts", 2, low=0)
    ] = None
    checked: bool = True


class Feature(Record, frozen=True):
    """Something picked on a part, in the part's own coordinates (in space when ``part`` is none).

    ``origin`` is a point, the middle of a line, a circle's or ball's centre, or a point of a plane or axis; ``axis``
    a direction where there is one. ``radius`` and ``length`` in mm. ``exact`` says that the numbers are the
    file's own; otherwise ``residual`` in mm is the root mean square of a fit to the facets.
    """

    kind: Literal["point", "line", "circle", "plane", "cylinder", "cone", "sphere", "torus", "edge", "thing"]
    part: Annotated[MentionedId | None, Needs("one")] = None
    origin: Vector = (0.0, 0.0, 0.0)
    axis: Vector | None = None
    radius: float = 0.0
    length: float = 0.0
    exact: bool = True
    residual: float = 0.0


class Note(Record, frozen=True):
    """A kept measurement: what was measured, between or of which features."""

    id: str
    name: str
    measure: Literal["distance", "axis distance", "round", "faces", "nearest", "length"]
    features: Annotated[tuple[Feature, ...], Needs("all")]


class Settings(Record, frozen=True):
    """Limits and rates that hold for the whole project.

    fps in 1/s; required_clearance and contact_distance in mm; interference_tolerance in mm, by which parts in contact may get deeper
    into each other than they are as they stand (0: what the facets of both may be off); flip_angle in degrees between two
    frames; kink_step in mm/s, the jump of velocity allowed at a kink; speed_limit in mm/s and acceleration_limit
    in mm/s² of what moves (0 for none); smallest_size
    and largest_size in mm, of products over all; ground_gap in mm between a thing and the ground it rides on; dead_time in s
    in which nothing moves; walking_speed in mm/s, the fastest that a walkthrough may go; crossing_time in s, the least
    that what a camera looks at may take to cross the frame (0 for any). ``only_listed`` pairs are checked for clearance, those of the requirements, instead of all that moves.
    ``lanes`` are the curves that the chart shows.
    """

    fps: Annotated[
        float, quantity("Frame rate", "fps", "Frames per second for checking and stepping", 0, above=0, high=1000)
    ] = 30.0
    required_clearance: Annotated[
        float, quantity("Clearance", "mm", "Required clearance between moving parts and all others", low=0)
    ] = 5.0
    contact_distance: float = 0.05
    interference_tolerance: Annotated[
        float,
        quantity(
            "Contact tolerance",
            "mm",
            "Allowed increase of interference for parts in contact; 0 for the facets' own error",
            2,
            low=0,
        ),
    ] = 0.0
    flip_angle: Annotated[
        float, quantity("Flip limit", "°", "Largest change of orientation of a rider between two frames", 0, above=0)
    ] = 45.0
    kink_step: Annotated[
        float, quantity("Kink limit", "mm/s", "Largest jump of velocity at a kink of a path", 0, above=0)
    ] = 50.0
    speed_limit: Annotated[
        float, quantity("Top speed", "mm/s", "Greatest speed of any part; 0 for no limit", 0, low=0)
    ] = 0.0
    acceleration_limit: Annotated[
        float, quantity("Acceleration", "mm/s²", "Greatest acceleration of any part; 0 for no limit", 0, low=0)
    ] = 0.0
    smallest_size: float = 2.0
    largest_size: float = 200_000.0
    ground_gap: Annotated[float, quantity("Ground gap", "mm", "Largest gap between a wheel and the ground", low=0)] = (
        2.0
    )
    dead_time: Annotated[float, quantity("Dead time", "s", "Longest time without motion; 0 for no limit", low=0)] = 1.0
    walking_speed: float = 1800.0
    crossing_time: float = 7.0
    only_listed: Annotated[
        bool,
        switch(
            "Checked", "listed pairs only", "Check only the pairs listed in requirements, not everything that moves"
        ),
    ] = False
    lanes: tuple[str, ...] = ("clearance", "speed")


class Project(Record, frozen=True):
    """Everything there is to know, but for the meshes. ``colourway`` is the one that is shown; empty for the parts' own finishes."""

    name: str = "Untitled"
    version: int = FORMAT_VERSION
    parts: tuple[Part, ...] = ()
    geometry: tuple[Geometry, ...] = ()
    paths: tuple[Path, ...] = ()
    runs: tuple[Run, ...] = ()
    cameras: tuple[Camera, ...] = ()
    shots: tuple[Shot, ...] = ()
    contacts: tuple[Contact, ...] = ()
    settings: Settings = Settings()
    sources: tuple[Source, ...] = ()
    notes: tuple[Note, ...] = ()
    pose_tracks: tuple[PoseTrack, ...] = ()
    attachments: tuple[Attachment, ...] = ()
    lights: tuple[Light, ...] = ()
    wheels: tuple[Wheel, ...] = ()
    castors: tuple[Castor, ...] = ()
    rotations: tuple[TimedRotation, ...] = ()
    gears: tuple[Gear, ...] = ()
    rods: tuple[Rod, ...] = ()
    balls: tuple[Ball, ...] = ()
    requirements: tuple[Requirement, ...] = ()
    finishes: tuple[Finish, ...] = ()
    finish_rules: tuple[FinishRule, ...] = ()
    colourways: tuple[Colourway, ...] = ()
    colourway: str = ""
    light_setup: LightSetup = LightSetup()
    comments: tuple[Comment, ...] = ()
    sheets: tuple[StepSheet, ...] = ()


Turner = Wheel | Castor | TimedRotation | Gear | Rod | Ball
Item = (
    Part
    | Path
    | Run
    | PoseTrack
    | Attachment
    | Turner
    | Camera
    | Light
    | Shot
    | Note
    | Requirement
    | Finish
    | FinishRule
    | Colourway
    | Comment
    | StepSheet
)
COLLECTIONS: dict[type, str] = {
    Part: "parts",
    Path: "paths",
    Run: "runs",
    PoseTrack: "pose_tracks",
    Attachment: "attachments",
    Wheel: "wheels",
    Castor: "castors",
    TimedRotation: "rotations",
    Gear: "gears",
    Rod: "rods",
    Ball: "balls",
    Camera: "cameras",
    Light: "lights",
    Shot: "shots",
    Note: "notes",
    Requirement: "requirements",
    Finish: "finishes",
    FinishRule: "finish_rules",
    Colourway: "colourways",
    Comment: "comments",
    StepSheet: "sheets",
}

KIND_WORDS: dict[type, str] = {
    Part: "part",
    Path: "path",
    Run: "run",
    PoseTrack: "pose track",
    Attachment: "attachment",
    Wheel: "wheel",
    Castor: "castor",
    TimedRotation: "rotation",
    Gear: "gear",
    Rod: "rod",
    Ball: "ball",
    Camera: "camera",
    Light: "light",
    Shot: "shot",
    Note: "note",
    Requirement: "requirement",
    Finish: "finish",
    FinishRule: "finish rule",
    Colourway: "colourway",
    Comment: "comment",
    StepSheet: "step sheet",
}
"""What the kinds of things are called."""
