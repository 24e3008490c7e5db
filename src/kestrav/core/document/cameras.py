"""The records of cameras and shots. Lengths in mm, times in s, angles in degrees.

An azimuth is counted from +X to the left as seen from above, a pitch upwards from level.
"""

from __future__ import annotations

from typing import Annotated, Literal

from kestrav.core.document.base import CameraId, MentionedId, PartId, PathId, Record, Ref, Vector
from kestrav.core.document.surfaces import ColourwayId


class PartAim(Record, frozen=True, tag="part"):
    """Look at the middle of a part or assembly, wherever it is."""

    part: PartId


class PointAim(Record, frozen=True, tag="point"):
    """Look at a point in space."""

    point: Vector


class AlongAim(Record, frozen=True, tag="along"):
    """Look along the travel: at the place of its way ``ahead`` mm further on, turned by a ``yaw`` to the left and a ``pitch`` up."""

    ahead: float = 0.0
    yaw: float = 0.0
    pitch: float = 0.0


class PathAim(Record, frozen=True, tag="path"):
    """Look at a place on a second path that is as far along it as the camera along its own."""

    path: PathId


class LookKey(Record, frozen=True):
    """Where a camera looks at a time: azimuth ``yaw`` (it may go beyond a whole turn) and ``pitch``."""

    time: float
    yaw: float
    pitch: float = 0.0


class FreeAim(Record, frozen=True, tag="free"):
    """Look in directions keyed in time; ``riding`` they turn with what carries the camera."""

    keys: tuple[LookKey, ...] = (LookKey(0.0, 0.0),)
    riding: bool = False


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

    least: float = 0.05
    most: float = 1.2
    change: float = 0.0
    visible: float = 0.3
    margin: float = 0.0
    near: float = 100.0
    roll: float = 2.0


class Walk(Record, frozen=True):
    """A walkthrough: the height of the eyes above the floor and the distance kept from everything, in mm."""

    eye_height: float = 1600.0
    distance: float = 400.0


class FocusKey(Record, frozen=True):
    """A distance in mm along a camera's axis that is sharp at a time in s."""

    time: float
    distance: float


class Focus(Record, frozen=True):
    """Where a camera is sharp: at distances by ``keys``; else on a ``part``, followed; else at a ``point``; else at what it looks at."""

    part: Annotated[str, Ref(("parts",), blank=True)] = ""
    point: Vector | None = None
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
    focal_length: float = 35.0
    sensor_width: float = 36.0
    sensor_height: float = 24.0
    least_radius: float = 0.0
    parallel: bool = False
    view_height: float = 2000.0
    roll: tuple[RollKey, ...] = ()
    banks: bool = False
    lag: float = 0.0
    aim_lag: float = 0.0
    subject: Annotated[str, Ref(("parts",), blank=True)] = ""
    keeps: Literal["", "lens", "distance"] = ""
    size: float = 0.5
    fades: tuple[Fade, ...] = ()
    framing: Framing = Framing()
    walk: Walk | None = None
    f_number: float = 0.0
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
    clearance: bool = False
    turns: bool = False
    speed: bool = False
    trace: bool = False
    images: float = 0.0
    clock: bool = False
    title: str = ""
    subtitle: str = ""
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
    camera: CameraId
    start: float = 0.0
    end: float = 4.0
    width: int = 1280
    height: int = 720
    fps: float = 30.0
    background: str = "#dfe6e6"
    background_top: str = ""
    clear: bool = False
    paths: bool = False
    loops: bool = False
    in_film: bool = True
    fade: float = 0.0
    look: LookName = "studio"
    quality: QualityName = "good"
    section: Section | None = None
    shows: OnPicture = OnPicture()
    colourway: ColourwayId = ""
    shutter: float = 0.0
    samples: int = 24
    seconds: float = 0.0
    noise: float = 0.0
    floor: FloorName = "shadow"
    edges: bool = False
