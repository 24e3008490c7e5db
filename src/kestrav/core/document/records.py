"""The records of a project. Lengths in mm, times in s, angles in degrees where a record says so.

Every record is frozen: an edit makes a new one (:mod:`kestrav.core.document.edits`).
"""

from __future__ import annotations

from typing import Annotated, Literal

from kestrav.core.document.base import (
    AnyTrigger as AnyTrigger,
    ContactTrigger as ContactTrigger,
    MentionedId,
    Needs,
    Placement as Placement,
    Quaternion as Quaternion,
    Record as Record,
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
from kestrav.core.document.motion_records import (
    AlongOrientation as AlongOrientation,
    Attachment as Attachment,
    Axis as Axis,
    Bank as Bank,
    BankKey as BankKey,
    CarriedOrientation as CarriedOrientation,
    Eased as Eased,
    Even as Even,
    FixedOrientation as FixedOrientation,
    Following as Following,
    Ground as Ground,
    Hold as Hold,
    Keyed as Keyed,
    KeyedOrientation as KeyedOrientation,
    KeyPose as KeyPose,
    Law as Law,
    LawName as LawName,
    Limited as Limited,
    Orientation as Orientation,
    OrientationKey as OrientationKey,
    PoseTrack as PoseTrack,
    Roughness as Roughness,
    Run as Run,
    SpeedKey as SpeedKey,
    SpeedProfile as SpeedProfile,
    SpeedZone as SpeedZone,
    TowardOrientation as TowardOrientation,
)
from kestrav.core.document.parts import (
    BoxForm as BoxForm,
    CylinderForm as CylinderForm,
    FloorForm as FloorForm,
    Form as Form,
    Geometry as Geometry,
    ImportBaseline as ImportBaseline,
    Part as Part,
    Source as Source,
    SphereForm as SphereForm,
    Swept as Swept,
    WallForm as WallForm,
)
from kestrav.core.document.paths import (
    ArcShape as ArcShape,
    EllipseShape as EllipseShape,
    HelixShape as HelixShape,
    OrbitShape as OrbitShape,
    Path as Path,
    PathPoint as PathPoint,
    PointShape as PointShape,
    RectangleShape as RectangleShape,
    Shape as Shape,
    SurfaceShape as SurfaceShape,
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
)

FORMAT_VERSION = 18


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


class LightKey(Record, frozen=True):
    """A light's strength and colour at a time in s."""

    time: Annotated[float, quantity("Time", "s", "Time of the key", 3, 0.1)]
    strength: Annotated[float, quantity("Intensity", "cd", "Intensity at the key; in lux for the sun", 0, 50)]
    colour: Annotated[str, swatch("Colour", "Colour at the key")] = "#fff3dd"


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
    strength: Annotated[
        float, quantity("Intensity", "cd", "Intensity in candela; illuminance in lux for the sun", 0, 50)
    ] = 800.0
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
