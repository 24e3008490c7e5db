"""The records of a project. Lengths in mm, times in s, angles in degrees where a record says so.

Every record is frozen: an edit makes a new one (:mod:`kestrav.core.document.edits`).
"""

from __future__ import annotations

from typing import Literal

import msgspec

Vector = tuple[float, float, float]
Quaternion = tuple[float, float, float, float]

FORMAT_VERSION = 1


class Record(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=False):
    """Common settings of all records."""


class Placement(Record, frozen=True):
    """A position in mm and a rotation as a unit quaternion (w, x, y, z)."""

    position: Vector = (0.0, 0.0, 0.0)
    rotation: Quaternion = (1.0, 0.0, 0.0, 0.0)


class Geometry(Record, frozen=True):
    """A mesh kept beside the document under its content hash; bounds in mm."""

    hash: str
    triangles: int
    low: Vector
    high: Vector
    watertight: bool = False


class Part(Record, frozen=True):
    """A placed solid, or an assembly (no geometry) that others name as their parent.

    ``placement`` is relative to the parent; ``pivot`` is in the part's own coordinates.
    """

    id: str
    name: str
    parent: str | None = None
    placement: Placement = Placement()
    pivot: Placement = Placement()
    geometry: str | None = None
    colour: str = "#9aa7ab"
    opacity: float = 1.0
    shown: bool = True


class PathPoint(Record, frozen=True):
    """A point of a path; handles are vectors from it and count for free points only."""

    position: Vector
    kind: Literal["corner", "smooth", "free"] = "smooth"
    handle_in: Vector | None = None
    handle_out: Vector | None = None


class PointShape(Record, frozen=True, tag="points"):
    """A path through points."""

    points: tuple[PathPoint, ...]
    closed: bool = False


class EllipseShape(Record, frozen=True, tag="ellipse"):
    """A level ellipse; ``turn`` and ``start`` in degrees, clockwise as seen from above."""

    centre: Vector
    half_x: float
    half_y: float
    turn: float = 0.0
    start: float = 0.0
    clockwise: bool = False


Shape = PointShape | EllipseShape


class Path(Record, frozen=True):
    """A curve in space."""

    id: str
    name: str
    shape: Shape


class Even(Record, frozen=True, tag="even"):
    """Constant speed."""


class Eased(Record, frozen=True, tag="eased"):
    """Soft start and stop over lengths in mm."""

    start_length: float = 100.0
    stop_length: float = 100.0


Pacing = Even | Eased


class FixedHeading(Record, frozen=True, tag="fixed"):
    """The rider keeps the rotation it has at rest."""


class AlongHeading(Record, frozen=True, tag="along"):
    """The rider's forward axis follows the path; ``flip`` turns it about."""

    forward: Literal["+x", "-x", "+y", "-y", "+z", "-z"] = "+x"
    flip: bool = False
    upright: bool = True


Heading = FixedHeading | AlongHeading


class Run(Record, frozen=True):
    """One journey of a rider (a part, an assembly or a camera) along a portion of a path.

    ``begin`` and ``end`` are shares of the path's length; ``start`` is in s; exactly one of
    ``duration`` (s) and ``speed`` (mm/s, the steady one) is given.
    """

    id: str
    name: str
    rider: str
    path: str
    begin: float = 0.0
    end: float = 1.0
    start: float = 0.0
    duration: float | None = 4.0
    speed: float | None = None
    pacing: Pacing = Even()
    heading: Heading = FixedHeading()


class PartAim(Record, frozen=True, tag="part"):
    """Look at the middle of a part or assembly, wherever it is."""

    part: str


class PointAim(Record, frozen=True, tag="point"):
    """Look at a point in space."""

    point: Vector


Aim = PartAim | PointAim


class Camera(Record, frozen=True):
    """What looks. Focal length and sensor in mm; ``position`` holds while no run carries it."""

    id: str
    name: str
    aim: Aim
    position: Vector = (2500.0, -2500.0, 1700.0)
    focal_length: float = 35.0
    sensor_width: float = 36.0
    sensor_height: float = 24.0


class Shot(Record, frozen=True):
    """A camera over a span of time, with its picture settings."""

    id: str
    name: str
    camera: str
    start: float = 0.0
    end: float = 4.0
    width: int = 1280
    height: int = 720
    fps: float = 30.0
    background: str = "#dfe6e6"


class Contact(Record, frozen=True):
    """Whether the touching of two parts is intended; unlisted pairs that touch at rest are proposed."""

    a: str
    b: str
    intended: bool = True


class Settings(Record, frozen=True):
    """Limits and rates that hold for the whole project.

    fps in 1/s; required_clearance and contact_distance in mm; flip_angle in degrees between two
    frames; kink_step in mm/s, the jump of velocity allowed at a kink.
    """

    fps: float = 30.0
    required_clearance: float = 5.0
    contact_distance: float = 0.05
    flip_angle: float = 45.0
    kink_step: float = 50.0


class Project(Record, frozen=True):
    """Everything there is to know, but for the meshes."""

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


Item = Part | Path | Run | Camera | Shot
COLLECTIONS: dict[type, str] = {Part: "parts", Path: "paths", Run: "runs", Camera: "cameras", Shot: "shots"}
