"""Records of surfaces: finishes, the rules that give them to parts by name, and colourways."""

from __future__ import annotations

from typing import Annotated, Literal

from kestrav.core.document.base import MentionedId, Needs, Record, Ref

FinishId = Annotated[str, Ref(("finishes",), moves=False)]
GivenFinishId = Annotated[str, Ref(("finishes",), moves=False, blank=True)]
"""Of a finish that may be missing: the part shows its plain colour then."""
ColourwayId = Annotated[str, Ref(("colourways",), moves=False, blank=True)]

TextureName = Literal[
    "", "brushed", "turned", "cast", "blasted", "orange peel", "grained", "wood", "concrete", "terrazzo", "tiles", "mesh", "weave", "knurled"
]  # fmt: skip
"""What a surface's fine structure is made by; see :mod:`kestrav.core.finishes.textures`."""


LARGEST_PICTURE = 2048  # pixels along a side of one that lies on a surface
PICTURE_FORMATS = ("PNG", "JPEG")


class Pictures(Record, frozen=True):
    """Pictures that lie on a surface by the places that its geometry has on them (glTF 2.0, 3.9): PNG or JPEG files in base64, empty for none.

    ``colour`` is the base colour with its opacity, and ``factor`` what it is multiplied by; ``normal`` are normals in tangent space;
    ``surface`` has occlusion in red, and in green and blue what roughness and metalness are multiplied by; ``emission`` what the light that
    the surface gives is multiplied by.
    """

    colour: str = ""
    normal: str = ""
    surface: str = ""
    emission: str = ""
    factor: str = "#ffffff"


class Finish(Record, frozen=True):
    """What a surface is made of, with the parameters of glTF 2.0's physically based materials.

    ``colour`` is the base colour as sRGB #rrggbb; empty is each part's own. ``metallic``, ``roughness``, ``coat``, ``coat_roughness`` and
    ``transmission`` go from 0 to 1, ``anisotropy`` (the stretch of a highlight across the grain) too. ``index`` is the index of
    refraction of what is not metal. ``sheen`` is the colour of cloth's rim light (empty: none) and ``sheen_roughness`` its spread.
    ``emission`` is the colour of light that the surface gives, of ``luminance`` cd/m². ``texture`` names the fine structure, ``grain``
    its size in mm, ``relief`` its depth from 0 to 1 (glTF's normal scale), ``contrast`` how much it shades the base colour, from 0 to 1
    (glTF's occlusion strength). ``pictures`` came with the geometry, and lie on what has places for them alone.
    """

    id: str
    name: str
    colour: str = ""
    metallic: float = 0.0
    roughness: float = 0.6
    coat: float = 0.0
    coat_roughness: float = 0.05
    transmission: float = 0.0
    index: float = 1.5
    anisotropy: float = 0.0
    sheen: str = ""
    sheen_roughness: float = 0.3
    emission: str = ""
    luminance: float = 0.0
    texture: TextureName = ""
    grain: float = 20.0
    relief: float = 0.5
    contrast: float = 0.5
    pictures: Pictures | None = None


class FinishRule(Record, frozen=True):
    """Gives a finish to every part whose name, or that of an assembly above it, holds some ``words``; of several rules the last one counts.

    A star stands for anything: ``M6*screw``. Large and small letters are the same.
    """

    id: str
    name: str
    words: str
    finish: Annotated[FinishId, Needs("all")]


class GivenFinish(Record, frozen=True):
    """A finish that a colourway gives to a part, or to all in an assembly."""

    part: MentionedId
    finish: FinishId


class Colourway(Record, frozen=True):
    """A named set of finishes, in place of those that the parts have."""

    id: str
    name: str
    finishes: tuple[GivenFinish, ...] = ()
