"""The shelf: finishes of the trade that a project can take.

Reflectances of metals facing the viewer, in linear light, come from optical constants (aluminium, copper, gold, silver, chromium and
nickel: the tables of SOPRA S.A. and of E. D. Palik, "Handbook of Optical Constants of Solids", as Mitsuba 3 distributes them; a test works
them out from there again). Indices of refraction: BK7 glass 1.517 (SCHOTT's data sheet of N-BK7, 587.6 nm), PMMA 1.49, polycarbonate
1.58, polystyrene-based plastics 1.54, water-clear polyurethane and epoxy coats 1.5, rubber 1.52 (handbook values, from memory). All else
(roughnesses, coats, colours of pigments) is common practice, no source.
"""

from __future__ import annotations

import msgspec

from kestrav.core.colours import srgb_hex
from kestrav.core.document.surfaces import Finish
from kestrav.core.errors import BadInput

METALS = {
    "aluminium": (0.928, 0.918, 0.919),
    "copper": (0.952, 0.620, 0.511),
    "gold": (0.967, 0.802, 0.324),
    "silver": (0.975, 0.958, 0.906),
    "chromium": (0.688, 0.649, 0.687),
    "nickel": (0.700, 0.594, 0.494),
    # common practice, no source
    "iron": (0.562, 0.565, 0.578),
    "zinc": (0.664, 0.700, 0.722),
    "brass": (0.880, 0.690, 0.370),
    "titanium": (0.545, 0.500, 0.449),
}
"""Reflectance of metals facing the viewer (red, green, blue) in linear light."""


def _metal(name: str, metal: str, roughness: float, **fields: object) -> Finish:
    return _of(name, colour=srgb_hex(METALS[metal]), metallic=1.0, roughness=roughness, **fields)


def _of(name: str, **fields: object) -> Finish:
    return msgspec.structs.replace(Finish("", name), **fields)


SHELF: tuple[tuple[str, tuple[Finish, ...]], ...] = (
    (
        "Metal",
        (
            _metal("Raw steel", "iron", 0.42, texture="turned", grain=12.0, relief=0.15, contrast=0.15),
            _metal("Polished steel", "chromium", 0.06),
            _metal("Brushed steel", "iron", 0.34, anisotropy=0.7, texture="brushed", grain=40.0, relief=0.35, contrast=0.2),
            _metal("Cast iron", "iron", 0.62, texture="cast", grain=8.0, relief=0.8, contrast=0.3),
            _metal("Zinc-plated", "zinc", 0.3, texture="blasted", grain=6.0, relief=0.1, contrast=0.15),
            _metal("Chrome-plated", "chromium", 0.03),
            _metal("Nickel-plated", "nickel", 0.12),
            _metal("Raw aluminium", "aluminium", 0.38, texture="turned", grain=15.0, relief=0.12, contrast=0.1),
            _metal("Brushed aluminium", "aluminium", 0.32, anisotropy=0.7, texture="brushed", grain=40.0, relief=0.3, contrast=0.15),
            _metal("Blasted aluminium", "aluminium", 0.5, texture="blasted", grain=5.0, relief=0.35, contrast=0.1),
            _metal("Cast aluminium", "aluminium", 0.55, texture="cast", grain=10.0, relief=0.6, contrast=0.2),
            _metal("Anodised, natural", "aluminium", 0.42, coat=0.25, coat_roughness=0.3),
            _of("Anodised, black", colour="#1d1e20", metallic=0.85, roughness=0.45, coat=0.3, coat_roughness=0.3),
            _of("Anodised, in its colour", metallic=0.9, roughness=0.4, coat=0.3, coat_roughness=0.25),
            _metal("Copper", "copper", 0.22),
            _metal("Brass", "brass", 0.2),
            _metal("Titanium", "titanium", 0.4),
            _metal("Gold-plated", "gold", 0.12),
            _metal("Steel mesh", "iron", 0.4, texture="mesh", grain=12.0, relief=0.8, contrast=1.0),
            _metal("Knurled steel", "iron", 0.35, texture="knurled", grain=4.0, relief=1.0, contrast=0.3),
        ),
    ),
    (
        "Paint",
        (
            _of("Powder coat, fine", roughness=0.55, texture="orange peel", grain=10.0, relief=0.25, contrast=0.0, coat=0.15, coat_roughness=0.35),
            _of("Powder coat, rough", roughness=0.75, texture="cast", grain=4.0, relief=0.6, contrast=0.1),
            _of("Paint, gloss", roughness=0.45, coat=1.0, coat_roughness=0.04),
            _of("Paint, matt", roughness=0.85),
            _of("Paint, metallic", metallic=0.6, roughness=0.4, coat=1.0, coat_roughness=0.04, texture="blasted", grain=3.0, relief=0.05, contrast=0.25),
        ),
    ),
    (
        "Plastic and rubber",
        (
            _of("Moulded plastic, gloss", roughness=0.15, index=1.54),
            _of("Moulded plastic, grained", roughness=0.5, index=1.54, texture="grained", grain=8.0, relief=0.5, contrast=0.05),
            _of("Moulded plastic, matt", roughness=0.65, index=1.54),
            _of("Rubber", colour="#1b1c1e", roughness=0.88, index=1.52),
            _of("Silicone", roughness=0.6, index=1.41, sheen="#ffffff", sheen_roughness=0.6),
            _of("Polycarbonate, clear", colour="#f7fafa", roughness=0.03, transmission=1.0, index=1.58),
        ),
    ),
    (
        "Glass",
        (
            _of("Glass, clear", colour="#f6fbf9", roughness=0.0, transmission=1.0, index=1.517),
            _of("Glass, frosted", colour="#f4f8f7", roughness=0.35, transmission=1.0, index=1.517),
            _of("Glass, tinted", colour="#5d6b68", roughness=0.0, transmission=0.9, index=1.517),
        ),
    ),
    (
        "Building",
        (
            _of("Concrete", colour="#a8a49c", roughness=0.9, texture="concrete", grain=400.0, relief=0.5, contrast=0.6),
            _of("Floor coating", colour="#8e9594", roughness=0.35, coat=0.5, coat_roughness=0.15, texture="orange peel", grain=60.0, relief=0.1, contrast=0.0),
            _of("Terrazzo", colour="#b9b4aa", roughness=0.35, coat=0.4, coat_roughness=0.1, texture="terrazzo", grain=250.0, relief=0.0, contrast=0.8),
            _of("Tiles", colour="#d9d8d3", roughness=0.25, texture="tiles", grain=300.0, relief=0.6, contrast=0.5),
            _of("Plaster", colour="#e8e5de", roughness=0.95, texture="cast", grain=60.0, relief=0.35, contrast=0.1),
            _of("Oak", colour="#b08654", roughness=0.6, texture="wood", grain=180.0, relief=0.3, contrast=0.8, coat=0.1, coat_roughness=0.4),
            _of("Beech plywood", colour="#d6b48a", roughness=0.6, texture="wood", grain=240.0, relief=0.15, contrast=0.5),
        ),
    ),
    (
        "Textile",
        (
            _of("Canvas", colour="#8c8a80", roughness=0.95, sheen="#ffffff", sheen_roughness=0.5, texture="weave", grain=8.0, relief=1.0, contrast=0.6),
            _of("Felt", roughness=1.0, sheen="#ffffff", sheen_roughness=0.8, texture="cast", grain=5.0, relief=0.5, contrast=0.3),
        ),
    ),
    (
        "Light",
        (
            _of("Light panel", colour="#ffffff", roughness=0.6, emission="#fff4e2", luminance=3000.0),
            _of("Indicator, green", colour="#20c05a", roughness=0.3, emission="#20e070", luminance=800.0),
        ),
    ),
)  # fmt: skip
"""Finishes by group. They have no id: a project takes a copy of its own."""

BY_NAME: dict[str, Finish] = {finish.name: finish for _, finishes in SHELF for finish in finishes}


def named_finish(name: str) -> Finish:
    """The finish of the shelf of a name. Raises BadInput where it has none."""
    if name not in BY_NAME:
        raise BadInput(f"the shelf has no finish “{name}”; it has {', '.join(sorted(BY_NAME))}")
    return BY_NAME[name]
