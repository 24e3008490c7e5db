"""What the path tracer is told: the scene once, and for each frame what moves. Plain arrays, in metres, that go to another process."""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

Single = NDArray[np.float32]
Region = tuple[int, int, int, int]  # the first column and row of pixels, and those after the last
Array = NDArray[np.float64]


class Surface(msgspec.Struct, frozen=True):
    """What a body's surface is made of: linear base colour (3,) or a picture of it (n, n, 3), and the parameters of
    :class:`kestrav.core.document.surfaces.Finish`; ``metallic`` may be a picture (n, n). ``rough`` is a picture (n, n) of the roughness where
    that is not even, ``normals`` (n, n, 3) and ``holes`` (n, n) are those of the structure. Pictures may have any number of rows and columns. ``emission`` is luminance (3,) by that of white, or a picture of it
    (n, n, 3)."""

    base: Single
    metallic: Single | float = 0.0
    roughness: float = 0.6
    coat: float = 0.0
    coat_roughness: float = 0.05
    transmission: float = 0.0
    index: float = 1.5
    anisotropy: float = 0.0
    sheen: Single | None = None
    opacity: float = 1.0
    rough: Single | None = None
    normals: Single | None = None
    holes: Single | None = None
    emission: Single | None = None


class Body(msgspec.Struct, frozen=True):
    """Triangles (m, 3) over points (n, 3) with normals (n, 3) and places on a texture (n, 2), of one surface. It moves with a ``group``
    (-1: not at all); ``fades`` names what of it a camera may see faint, ``rows`` (m,) the number of the part that a triangle belongs to
    (none: no part's). What ``catches`` shows only the shadows that fall on it, where a picture lets through."""

    group: int
    points: Single
    normals: Single | None
    uv: Single | None
    triangles: NDArray[np.uint32]
    surface: Surface
    fades: str = ""
    rows: NDArray[np.int32] | None = None
    catches: bool = False


class Lamp(msgspec.Struct, frozen=True):
    """A light: a ``point`` or ``spot`` of an intensity (3,), a ``sun`` of an illuminance (3,), or an ``area`` of a luminance (3,); all by
    that of white. ``half`` is half a spot's cone in degrees, ``size`` the width and height of an area."""

    kind: str
    place: Array
    target: Array
    strength: Array
    half: float = 30.0
    size: tuple[float, float] = (1.0, 1.0)


class TracedScene(msgspec.Struct, frozen=True):
    """All that stays: bodies, the environment (h, 2h, 3) by the luminance of white, and the picture's size in pixels."""

    bodies: tuple[Body, ...]
    environment: Single
    width: int
    height: int


class Moment(msgspec.Struct, frozen=True):
    """A time within a frame: the matrices (4, 4) of the groups that move, what is faint by name, the lamps, and the camera: its place, where
    it looks and its up vector, the vertical angle in degrees or, where it is ``parallel``, the height that it shows. ``aperture`` is the
    lens's radius and ``focus`` the distance along the axis at which it is sharp (0: everywhere)."""

    groups: dict[int, Array]
    faint: dict[str, float]
    lamps: tuple[Lamp, ...]
    place: Array
    target: Array
    up: Array
    angle: float
    parallel: float = 0.0
    aperture: float = 0.0
    focus: float = 1.0


class Wanted(msgspec.Struct, frozen=True):
    """How a frame is made: its moments, samples for a pixel, when to stop earlier (seconds, noise), and whether noise is taken away. With
    ``bare`` it is told as well what of each pixel is covered without what only catches shadows. Of a ``region`` only that is made.
    ``onward`` goes on from the frame before, which had the same moments, up to so many samples in all."""

    moments: tuple[Moment, ...]
    samples: int = 32
    seconds: float = 0.0
    noise: float = 0.0
    denoise: bool = True
    seed: int = 0
    bare: bool = False
    region: Region | None = None
    onward: bool = False


class Traced(msgspec.Struct, frozen=True):
    """A frame: linear light (h, w, 3) where 1 is white, what of each pixel is covered (h, w), how many samples were taken, the noise that
    was left before it was taken away, the seconds, the variant of the tracer, and the ``bare`` cover (h, w) where it was wanted."""

    light: Single
    cover: Single
    samples: int
    noise: float
    seconds: float
    variant: str = ""
    bare: Single | None = None


Message = tuple[str, Any]
