"""Records of surfaces: finishes, the rules that give them to parts by name, and colourways."""

from __future__ import annotations

from typing import Annotated, Literal

from kestrav.core.document.base import MentionedId, Needs, Record, Ref
from kestrav.core.document.fields import option, quantity, swatch

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
    colour: Annotated[
        str, swatch("Base colour", "Colour of the material; of a metal the reflectance facing the viewer")
    ] = ""
    metallic: Annotated[
        float,
        quantity(
            "Metallic",
            "%",
            "How far the material is a metal: 0 % for paint, plastic and glass",
            0,
            5,
            factor=100,
            low=0,
            high=1,
        ),
    ] = 0.0
    roughness: Annotated[
        float, quantity("Roughness", "%", "0 % is a mirror, 100 % has no highlight", 0, 5, factor=100, low=0, high=1)
    ] = 0.6
    coat: Annotated[
        float,
        quantity("Clear coat", "%", "Strength of a clear layer over the material", 0, 5, factor=100, low=0, high=1),
    ] = 0.0
    coat_roughness: Annotated[
        float, quantity("Coat roughness", "%", "Roughness of the clear coat", 0, 5, factor=100, low=0, high=1)
    ] = 0.05
    transmission: Annotated[
        float,
        quantity(
            "Transmission",
            "%",
            "Share of light that goes through, bent by the index of refraction",
            0,
            5,
            factor=100,
            low=0,
            high=1,
        ),
    ] = 0.0
    index: Annotated[
        float,
        quantity(
            "Index of refraction", "", "1.5 for most paints and plastics, 1.52 for window glass", 3, 0.01, low=1, high=5
        ),
    ] = 1.5
    anisotropy: Annotated[
        float,
        quantity(
            "Anisotropy", "%", "How far highlights are drawn out across the grain", 0, 5, factor=100, low=0, high=1
        ),
    ] = 0.0
    sheen: str = ""
    sheen_roughness: Annotated[
        float, quantity("Sheen roughness", "%", "Spread of the sheen", 0, 5, factor=100, low=0, high=1)
    ] = 0.3
    emission: str = ""
    luminance: Annotated[float, quantity("Luminance", "cd/m²", "Luminance of the surface", 0, 100, low=0)] = 0.0
    texture: Annotated[
        TextureName, option("Texture", "Fine structure of the surface, mapped onto each part as onto a box")
    ] = ""
    grain: Annotated[float, quantity("Grain", "mm", "Size of a square of the texture on the part", 1, 5, above=0)] = (
        20.0
    )
    relief: Annotated[
        float, quantity("Relief", "%", "Depth of the structure in the light", 0, 5, factor=100, low=0, high=1)
    ] = 0.5
    contrast: Annotated[
        float, quantity("Contrast", "%", "How much the structure shades the colour", 0, 5, factor=100, low=0, high=1)
    ] = 0.5
    pictures: Pictures | None = None


class FinishRule(Record, frozen=True):
    """Gives a finish to every part whose name, or that of an assembly above it, holds some ``words``; of several rules the last one counts.

    A star stands for anything: ``M6*screw``. Large and small letters are the same.
    """

    id: str
    name: str
    words: Annotated[
        str, option("Words", "Words in the names of parts, or of assemblies above them; a star stands for anything")
    ]
    finish: Annotated[
        Annotated[FinishId, Needs("all")], option("Finish", "Finish of these parts, where they have none of their own")
    ]


class GivenFinish(Record, frozen=True):
    """A finish that a colourway gives to a part, or to all in an assembly."""

    part: MentionedId
    finish: FinishId


class Colourway(Record, frozen=True):
    """A named set of finishes, in place of those that the parts have."""

    id: str
    name: str
    finishes: tuple[GivenFinish, ...] = ()
