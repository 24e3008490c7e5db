"""The records of cameras and shots. Lengths in mm, times in s, angles in degrees.

An azimuth is counted from +X to the left as seen from above, a pitch upwards from level.
"""

from __future__ import annotations

from typing import Annotated, Literal

from kestrav.core.document.base import CameraId, MentionedId, PartId, PathId, Record, Ref, Vector
from kestrav.core.document.fields import option, quantity, swatch, switch
from kestrav.core.document.surfaces import ColourwayId

LARGEST_PICTURE = 16384  # pixels along one side; what common graphics drivers can hold
LONGEST_LENS = 10_000.0  # mm


class PartAim(Record, frozen=True, tag="part"):
    """Look at the middle of a part or assembly, wherever it is."""

    part: Annotated[PartId, option("Part", "The camera looks at the middle of this part")]


class PointAim(Record, frozen=True, tag="point"):
    """Look at a point in space."""

    point: Annotated[Vector, quantity("At", "mm", "Point the camera looks at")]


class AlongAim(Record, frozen=True, tag="along"):
    """Look along the travel: at the place of its way ``ahead`` mm further on, turned by a ``yaw`` to the left and a ``pitch`` up."""

    ahead: Annotated[
        float,
        quantity(
            "Look-ahead", "mm", "Distance ahead on the path that the camera looks at", 0, 100, zero="straight ahead"
        ),
    ] = 0.0
    yaw: Annotated[float, quantity("Yaw", "°", "Yaw from the direction of travel; negative is to the right", 1, 5)] = (
        0.0
    )
    pitch: Annotated[float, quantity("Pitch", "°", "Pitch from the direction of travel", 1, 5)] = 0.0


class PathAim(Record, frozen=True, tag="path"):
    """Look at a place on a second path that is as far along it as the camera along its own."""

    path: Annotated[
        PathId, option("Path", "The camera looks at the same share of this path as it has covered of its own")
    ]


class LookKey(Record, frozen=True):
    """Where a camera looks at a time: azimuth ``yaw`` (it may go beyond a whole turn) and ``pitch``."""

    time: float
    yaw: Annotated[float, quantity("Azimuth here", "°", "Counter-clockwise from +x; beyond 360° for whole turns", 1, 5)]
    pitch: Annotated[float, quantity("Pitch here", "°", "Upwards from horizontal", 1, 5)] = 0.0


class FreeAim(Record, frozen=True, tag="free"):
    """Look in directions keyed in time; ``riding`` they turn with what carries the camera."""

    keys: tuple[LookKey, ...] = (LookKey(0.0, 0.0),)
    riding: Annotated[bool, switch("Attached", "turns with its carrier", "Keys are relative to the carrier")] = False


Aim = PartAim | PointAim
CameraAim = PartAim | PointAim | AlongAim | PathAim | FreeAim


class RollKey(Record, frozen=True):
    """How far a camera is rolled to the right at a time."""

    time: float
    angle: float


class Fade(Record, frozen=True):
    """A part or assembly is shown to a camera with an opacity (0: not at all) from a time to another."""

    thing: MentionedId
    start: float
    end: float
    opacity: float = 0.12


class Framing(Record, frozen=True):
    """What is demanded of a camera's picture of its subject; shares, where nothing else is said.

    ``least`` of the frame's width or height, whichever is more, and ``most`` of its height that the subject covers, by how much the
    share of its height may ``change`` against its mean (0: any), how much of it must be ``visible`` (0: any), what ``margin`` of the
    frame must stay around it; how ``near`` in mm the camera may come to anything, and how far in degrees its horizon may ``roll``.
    """

    least: Annotated[
        float,
        quantity(
            "Minimum size",
            "%",
            "Least share of the frame's width or height, whichever is more, that the subject covers",
            0,
            factor=100,
            low=0,
        ),
    ] = 0.05
    most: Annotated[
        float,
        quantity("Maximum size", "%", "Greatest share of the frame's height that the subject covers", 0, factor=100),
    ] = 1.2
    change: Annotated[
        float,
        quantity(
            "Size variation", "%", "Allowed departure of the size from its mean", 0, zero="any", factor=100, low=0
        ),
    ] = 0.0
    visible: Annotated[
        float,
        quantity(
            "Visible",
            "%",
            "Share of the subject in the frame that must be visible",
            0,
            zero="any",
            factor=100,
            low=0,
            high=1,
        ),
    ] = 0.3
    margin: Annotated[
        float,
        quantity(
            "Margin",
            "%",
            "Share of the frame kept free around the subject; negative lets it be cropped",
            0,
            factor=100,
            above=-1,
            below=0.5,
        ),
    ] = 0.0
    near: Annotated[
        float, quantity("Minimum distance", "mm", "Least distance of the camera from any part", 0, low=0)
    ] = 100.0
    roll: Annotated[float, quantity("Maximum roll", "°", "Greatest roll of the horizon", low=0)] = 2.0


class Walk(Record, frozen=True):
    """A walkthrough: the height of the eyes above the floor and the distance kept from everything, in mm."""

    eye_height: Annotated[float, quantity("Eye height", "mm", "Eye height above the floor", 0, 50, above=0)] = 1600.0
    distance: Annotated[
        float, quantity("Wall distance", "mm", "Distance kept from walls and furniture; checked", 0, 50, low=0)
    ] = 400.0


class FocusKey(Record, frozen=True):
    """A distance in mm along a camera's axis that is sharp at a time in s."""

    time: Annotated[float, quantity("Time", "s", "Time of the key", 3, 0.1)]
    distance: Annotated[float, quantity("Distance", "mm", "Distance that is sharp at the key", 0, 50)]


class Focus(Record, frozen=True):
    """Where a camera is sharp: at distances by ``keys``; else on a ``part``, followed; else at a ``point``; else at what it looks at."""

    part: Annotated[str, Ref(("parts",), blank=True), option("Focus on", "Part that stays sharp")] = ""
    point: Annotated[Vector | None, quantity("Focus at", "mm", "Point that is sharp")] = None
    keys: tuple[FocusKey, ...] = ()


class Camera(Record, frozen=True):
    """What looks. Focal length and sensor in mm; ``position`` holds while nothing carries it.

    Its horizon is level, rolled by the keys of ``roll``; ``banks`` it leans with what carries it instead. ``parallel`` it shows
    ``view_height`` mm without perspective. Its place comes ``lag`` s after what carries it, its look ``aim_lag`` s after
    its aim. ``subject`` is what its picture is of, if not the part that it aims at. It ``keeps`` the subject's share ``size``
    of the frame's height by its focal length, or by its distance. ``fades`` are shown faint to it alone. ``least_radius`` is the
    tightest bend that its path may have; 0 for any. ``f_number`` is the focal length by the diameter of the lens's opening (0: all is
    sharp), ``focus`` where it is sharp.
    """

    id: str
    name: str
    aim: CameraAim
    position: Vector = (2500.0, -2500.0, 1700.0)
    focal_length: Annotated[
        float, quantity("Focal length", "mm", "Focal length of the lens", above=0, high=LONGEST_LENS)
    ] = 35.0
    sensor_width: Annotated[float, quantity("Sensor width", "mm", "Width of the exposed sensor area", above=0)] = 36.0
    sensor_height: Annotated[float, quantity("Sensor height", "mm", "Height of the exposed sensor area", above=0)] = (
        24.0
    )
    least_radius: Annotated[
        float,
        quantity(
            "Minimum bend radius", "mm", "Tightest bend allowed on the camera's path; checked", 1, 50, zero="any", low=0
        ),
    ] = 0.0
    parallel: Annotated[
        bool, switch("Parallel", "no perspective", "Parallel projection: parts keep their size at any distance")
    ] = False
    view_height: Annotated[float, quantity("View height", "mm", "Height of the visible area", 0, 50, above=0)] = 2000.0
    roll: tuple[RollKey, ...] = ()
    banks: Annotated[
        bool, switch("Bank", "banks with its carrier", "Take the horizon of the carrier instead of a level one")
    ] = False
    lag: Annotated[
        float,
        quantity("Lag", "s", "Delay of the camera's position behind its carrier, smoothed", 2, 0.1, zero="none", low=0),
    ] = 0.0
    aim_lag: Annotated[
        float,
        quantity("Aim lag", "s", "Delay of the view direction behind the aim, smoothed", 2, 0.1, zero="none", low=0),
    ] = 0.0
    subject: Annotated[
        Annotated[str, Ref(("parts",), blank=True)], option("Subject", "Part whose size and visibility are checked")
    ] = ""
    keeps: Annotated[
        Literal["", "distance", "lens"],
        option(
            "Keep size",
            "Keep the subject's size as at the playhead, by moving along the line of sight or by focal length",
            **{"": "no"},
            distance="by distance",
            lens="by lens",
        ),
    ] = ""
    size: Annotated[float, quantity("Size", "%", "Share of the frame's height", factor=100)] = 0.5
    fades: tuple[Fade, ...] = ()
    framing: Framing = Framing()
    walk: Walk | None = None
    f_number: Annotated[
        float,
        quantity(
            "F-number",
            "",
            "Focal length by the diameter of the lens's opening; smaller blurs more. Shown in rendered pictures",
            1,
            0.5,
            zero="all sharp",
        ),
    ] = 0.0
    focus: Focus = Focus()


LookName = Literal["studio", "technical", "ghost", "wire"]
QualityName = Literal["preview", "good", "best", "finished"]
FloorName = Literal["shadow", "sweep", "none"]
"""What a product without a floor of its own stands on: only its shadow and mirror image, a seamless sweep, or nothing."""


class Section(Record, frozen=True):
    """A plane that cuts a picture open: what lies on the side that its normal points to is left out."""

    point: Vector = (0.0, 0.0, 0.0)
    normal: Vector = (0.0, -1.0, 0.0)


class OnPicture(Record, frozen=True):
    """What is written and drawn on a shot's pictures.

    ``labels`` are things whose names are told with leaders; ``clearance`` is the dimension of the least distance, ``turns`` those
    of the wheels, ``speed`` that of what rides. A ``trace`` of the rider grows as it goes; images of it stand every ``images`` s
    (0: none). ``clock`` is time and frame. A ``title`` stands at the shot's beginning with a ``subtitle`` below it, and ``end``
    at its end.
    """

    labels: tuple[MentionedId, ...] = ()
    clearance: Annotated[bool, switch("Clearance", "as a dimension", "Show the least clearance as a dimension")] = False
    turns: Annotated[bool, switch("Wheels", "turns and degrees", "Show the rotation of the wheels")] = False
    speed: Annotated[bool, switch("Speed", "of the rider", "Show the speed of the shot's subject")] = False
    trace: Annotated[bool, switch("Trace", "of the rider", "Show the travelled path as it grows")] = False
    images: Annotated[
        float,
        quantity("Image spacing", "s", "Show translucent images of the rider along its path", 2, 0.1, zero="none"),
    ] = 0.0
    clock: Annotated[bool, switch("Time", "and frame", "Show the project's time and the shot's frame")] = False
    title: Annotated[str, option("Title", "Title at the start of the shot")] = ""
    subtitle: Annotated[str, option("Subtitle", "Smaller line below the title")] = ""
    end: str = ""


class Shot(Record, frozen=True):
    """A camera over a span of time, with its picture settings; ``paths`` are shown only where asked for, and where it
    ``loops`` its end joins its beginning. In the film, of all shots ``in_film`` in their order, it comes over the end of the
    shot before by a cross-fade of ``fade`` s (0: a cut). The background goes over to ``background_top`` upwards, where that is
    given, or is left out where it is ``clear``. It shows the parts in its ``colourway``, or in the project's where it has
    none. The shutter is open for ``shutter`` degrees of a frame's 360 (0: an instant), from the frame's time on; a finished picture takes
    ``samples`` of each pixel, fewer where it has taken ``seconds`` s or its noise is below ``noise`` % of white (0: no such limit). A
    ``floor`` is shown where the product has none. Finished pictures have lines along ``edges`` where that is asked for."""

    id: str
    name: str
    camera: Annotated[CameraId, option("Camera", "Camera of the shot")]
    start: Annotated[float, quantity("From", "s", "Start time", 3, 0.1)] = 0.0
    end: Annotated[float, quantity("To", "s", "End time; its frame is not included", 3, 0.1)] = 4.0
    width: Annotated[int, quantity("Width", "px", "Width in pixels", 0, 2, low=16, high=LARGEST_PICTURE)] = 1280
    height: Annotated[int, quantity("Height", "px", "Height in pixels", 0, 2, low=16, high=LARGEST_PICTURE)] = 720
    fps: Annotated[float, quantity("Frame rate", "fps", "Frames per second", 0, above=0, high=1000)] = 30.0
    background: Annotated[str, swatch("Background", "Colour behind the product")] = "#dfe6e6"
    background_top: str = ""
    clear: bool = False
    paths: Annotated[bool, switch("Paths", "shown in pictures", "Draw the paths in this shot's pictures and film")] = (
        False
    )
    loops: Annotated[
        bool, switch("Loops", "end joins start", "Check that the loop closes, with no frame shown twice")
    ] = False
    in_film: Annotated[bool, switch("Film", "part of the film", "The film is all such shots in order")] = True
    fade: Annotated[float, quantity("Cross-fade", "s", "Cross-fade from the previous shot", 2, 0.1, zero="cut")] = 0.0
    look: Annotated[
        LookName,
        option(
            "Style",
            "Display style of the parts in the lens and the film",
            studio="studio: finishes, soft light",
            technical="technical: flat tones, edges",
            ghost="ghost: moving parts solid, the rest see-through",
        ),
    ] = "studio"
    quality: Annotated[
        QualityName,
        option(
            "Quality",
            "Samples per pixel, and shading; more samples take longer and flicker less",
            preview="preview: 1 sample per pixel",
            good="good: 4 samples, shade",
            best="best: 16 samples, fine shade",
            finished="finished: path-traced, about a minute each",
        ),
    ] = "good"
    section: Section | None = None
    shows: OnPicture = OnPicture()
    colourway: Annotated[ColourwayId, option("Colourway", "Finishes that this shot shows")] = ""
    shutter: Annotated[
        float,
        quantity(
            "Shutter angle",
            "°",
            "How long of a frame's 360° the shutter is open; blurs what moves",
            0,
            10,
            low=0,
            high=360,
        ),
    ] = 0.0
    samples: Annotated[
        int,
        quantity("Samples", "", "Light paths that a finished picture takes for each pixel", 0, 8, low=1, high=65536),
    ] = 32
    seconds: Annotated[
        float,
        quantity("Time limit", "s", "Seconds after which a finished picture stops; 0 for none", 0, 10, low=0, high=1e6),
    ] = 0.0
    noise: Annotated[
        float,
        quantity(
            "Noise limit",
            "%",
            "Noise at which a finished picture stops before all samples are taken, in % of white; 0 for none",
            2,
            0.25,
            low=0,
            high=100,
        ),
    ] = 0.0
    floor: Annotated[
        FloorName,
        option(
            "Floor",
            "What a product without a floor of its own stands on; the sweep shows from the quality good on",
            shadow="shadow and mirror image only",
            sweep="seamless sweep",
        ),
    ] = "shadow"
    edges: Annotated[
        bool, switch("Edges", "drawn", "Draw lines along the outlines and sharp edges of parts over finished pictures")
    ] = False
