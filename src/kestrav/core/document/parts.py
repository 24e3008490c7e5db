"""The records of parts: geometry, where it came from, placeholders, placed solids and assemblies. Lengths in mm."""

from __future__ import annotations

from typing import Annotated, Literal

from kestrav.core.document.base import MentionedId, PartId, Placement, Record, Vector
from kestrav.core.document.fields import option, quantity, switch
from kestrav.core.document.surfaces import GivenFinishId


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
    """Which motion a part is the swept volume of: of what, from one time to another in s, as near as ``tolerance`` in mm; ``mark`` tells
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
