"""The materials of glTF 2.0: colours, finishes, and the pictures that they lay on surfaces.

Reference: Khronos glTF 2.0 specification, section 3.9, and the ratified extensions of the Khronos registry.
"""

from __future__ import annotations

import base64
from collections.abc import Callable
from functools import cached_property
from typing import Any
from urllib.parse import unquote

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.colours import srgb_hex
from kestrav.core.document.records import Finish
from kestrav.core.document.surfaces import LARGEST_PICTURE, Pictures
from kestrav.core.files.product_tree import GREY, clean_name
from kestrav.core.finishes.pictures import kept, mean_colour, merged_surface
from kestrav.core.finishes.shelf import BY_NAME
from kestrav.core.light.exposure import WHITE

Array = NDArray[np.float64]

_FEW_PICTURES = 12  # of which each may be as large as pictures can be
_DAMAGED = (KeyError, IndexError, TypeError, ValueError, AttributeError, OSError)
"""What may come of a description whose values are of other kinds than they should be."""


class Look(msgspec.Struct, frozen=True):
    """A material: sRGB colour (#rrggbb), opacity, finish, and by which coordinates its pictures lie on a surface, under which matrix (3, 3)."""

    colour: str
    opacity: float
    finish: Finish | None
    coordinates: int = 0
    transform: Array | None = None


class Materials(msgspec.Struct, dict=True):
    """A file's materials: its lists by ``items``, its binary data by buffer, what gives other files (none: there are none), and what was left
    out."""

    items: Callable[[str], list[dict[str, Any]]]
    buffers: list[bytes]
    fetch: Callable[[str], bytes] | None
    left_out: list[str]
    _files: dict[int, bytes] = msgspec.field(default_factory=dict)
    _looks: dict[int, Look] = msgspec.field(default_factory=dict)

    def picture(self, texture: dict[str, Any]) -> bytes:
        """The file of the picture that a material names. Raises ValueError or OSError where there is none that can be read."""
        named = self.items("textures")[int(texture["index"])]
        # a browser's format beside the usual ones, or in their place
        other = (named.get("extensions") or {}).get("EXT_texture_webp") or {}
        number = int(named["source"] if "source" in named else other["source"])
        if number not in self._files:
            image = self.items("images")[number]
            if "bufferView" in image:
                view = self.items("bufferViews")[image["bufferView"]]
                start = int(view.get("byteOffset", 0))
                self._files[number] = self.buffers[view["buffer"]][start : start + int(view["byteLength"])]
            else:
                uri = str(image["uri"])
                if uri.startswith("data:"):
                    self._files[number] = base64.b64decode(uri.split(",", 1)[1], validate=False)
                elif self.fetch is not None:
                    self._files[number] = self.fetch(unquote(uri))
                else:
                    raise ValueError(uri)
        return self._files[number]

    @cached_property
    def largest(self) -> int:
        """How many pixels along a side pictures may keep: fewer where there are many."""
        return LARGEST_PICTURE if len(self.items("images")) <= _FEW_PICTURES else LARGEST_PICTURE // 2

    def look(self, number: int | None) -> Look:
        """What a material looks like; plain grey for none."""
        if number is None or not 0 <= number < len(self.items("materials")):
            return Look(GREY, 1.0, None)
        if number not in self._looks:
            self._looks[number] = _look(self, self.items("materials")[number])
        return self._looks[number]


def _look(file: Materials, material: dict[str, Any]) -> Look:
    """What a material looks like."""
    look = material.get("pbrMetallicRoughness") or {}
    factor = look.get("baseColorFactor", [1, 1, 1, 1])
    extensions = material.get("extensions") or {}
    older = extensions.get("KHR_materials_pbrSpecularGlossiness") or {}
    factor = older.get("diffuseFactor", factor)
    maps = _Maps(file, material, look, older)
    pictures = maps.pictures([float(v) for v in factor[:3]])
    factor = maps.mean(factor)
    opacity = round(float(factor[3]), 4) if material.get("alphaMode") != "OPAQUE" else 1.0
    name = str(material.get("name") or "")
    # a file that says nothing of metal or roughness, or only that the surface is even all over, as CAD exporters do, means plain paint
    even = float(look.get("metallicFactor", 1.0)) == 0 and float(look.get("roughnessFactor", 1.0)) == 1
    silent = "metallicFactor" not in look and "roughnessFactor" not in look and not _SURFACES & extensions.keys()
    mapped = "metallicRoughnessTexture" in look
    bare = not mapped and (
        silent or (even and not _SURFACES & extensions.keys() and not any(material.get("emissiveFactor") or ()))
    )
    finish = finish_by_name(name) if bare else _finish(name, material, look, extensions)
    if pictures is not None:
        plain = Finish("", clean_name(name) or "Material", contrast=1.0, relief=1.0)
        finish = msgspec.structs.replace(finish or plain, pictures=pictures)
    return Look(srgb_hex([float(v) for v in factor[:3]]), opacity, finish, maps.coordinates, maps.transform)


class _Maps:
    """The pictures that a material lays on surfaces. What cannot be read, or lies by other coordinates than the first, is left out and told."""

    def __init__(self, file: Materials, material: dict[str, Any], look: dict[str, Any], older: dict[str, Any]) -> None:
        self.file = file
        self.opaque = material.get("alphaMode", "OPAQUE") == "OPAQUE"
        named = {
            "colour": look.get("baseColorTexture") or older.get("diffuseTexture"),
            "normal": material.get("normalTexture"),
            "rough": look.get("metallicRoughnessTexture"),
            "occlusion": material.get("occlusionTexture"),
            "emission": material.get("emissiveTexture"),
        }
        self.named = {kind: one for kind, one in named.items() if isinstance(one, dict)}
        self.coordinates: int = 0
        self.transform: Array | None = None
        for kind in list(self.named):
            try:
                self._by = self._placed(self.named[kind])
                self.coordinates, self.transform = self._by[0], _transform(self._by[1])
                break
            except _DAMAGED:
                del self.named[kind]
                self._lost(kind)

    @staticmethod
    def _placed(texture: dict[str, Any]) -> tuple[int, dict[str, Any]]:
        """By which coordinates a picture lies, and how these are moved."""
        moved = dict((texture.get("extensions") or {}).get("KHR_texture_transform") or {})
        return int(moved.pop("texCoord", texture.get("texCoord", 0))), moved

    def _data(self, kind: str) -> bytes | None:
        """The file of a picture; None where there is none that can be shown."""
        texture = self.named.get(kind)
        if texture is None:
            return None
        try:
            if self._placed(texture) == self._by:
                return self.file.picture(texture)
        except _DAMAGED:
            pass
        self._lost(kind)
        return None

    def _lost(self, kind: str) -> None:
        note = f"a picture on a surface ({kind}) cannot be read or lies otherwise than the others, and is not shown"
        if note not in self.file.left_out:
            self.file.left_out.append(note)

    def pictures(self, factor: list[float]) -> Pictures | None:
        """All that can be shown, for a base colour in linear light; None where that is nothing."""
        pictures = {"colour": "", "normal": "", "surface": "", "emission": ""}
        for kind in ("colour", "normal", "emission"):
            data = self._data(kind)
            try:
                pictures[kind] = "" if data is None else kept(data, self.file.largest, opaque=self.opaque)
            except ValueError:
                self._lost(kind)
        try:
            occlusion, rough = self._data("occlusion"), self._data("rough")
            pictures["surface"] = merged_surface(
                None if occlusion is None else (occlusion, 0),
                None if rough is None else (rough, 1),
                None if rough is None else (rough, 2),
                self.file.largest,
            )
        except ValueError:
            self._lost("roughness")
        return Pictures(**pictures, factor=srgb_hex(factor)) if any(pictures.values()) else None

    def mean(self, factor: list[float]) -> list[float]:
        """A linear colour and opacity, times the mean of the picture of the base colour where that can be read."""
        data = self._data("colour")
        try:
            mean = (1.0, 1.0, 1.0) if data is None else mean_colour(data)
        except ValueError:
            return factor
        return [float(v) * m for v, m in zip(factor, (*mean, 1.0), strict=True)]


def _transform(moved: dict[str, Any]) -> Array | None:
    """The matrix (3, 3) that places on pictures are under (KHR_texture_transform, ratified by Khronos): scaled, turned, shifted."""
    if not moved:
        return None
    (across, down), (u, v), turn = (
        moved.get("scale", (1.0, 1.0)),
        moved.get("offset", (0.0, 0.0)),
        float(moved.get("rotation", 0.0)),
    )
    c, s = np.cos(turn), np.sin(turn)
    turned = np.array([[c, s, u], [-s, c, v], [0.0, 0.0, 1.0]], float)
    return turned @ np.diag([float(across), float(down), 1.0])


_SURFACES = {
    "KHR_materials_clearcoat", "KHR_materials_transmission", "KHR_materials_ior", "KHR_materials_sheen", "KHR_materials_anisotropy",
    "KHR_materials_emissive_strength",
}  # fmt: skip


def _finish(name: str, material: dict[str, Any], look: dict[str, Any], extensions: dict[str, Any]) -> Finish:
    """A material's parameters: glTF 2.0, 3.9, and the ratified extensions of the Khronos registry."""

    def value(extension: str, field: str, default: float = 0.0) -> float:
        return _share((extensions.get(f"KHR_materials_{extension}") or {}).get(field, default))

    def colour(values: Any) -> str:
        light = [float(v) for v in values or ()][:3]
        return srgb_hex(light) if len(light) == 3 and max(light) > 0 else ""

    sheen = extensions.get("KHR_materials_sheen") or {}
    stronger = (extensions.get("KHR_materials_emissive_strength") or {}).get("emissiveStrength", 1.0)
    emission = colour(material.get("emissiveFactor"))
    index = float((extensions.get("KHR_materials_ior") or {}).get("ior", 1.5))
    return Finish(
        "",
        clean_name(name) or "Material",
        metallic=_share(look.get("metallicFactor", 1.0)),
        roughness=_share(look.get("roughnessFactor", 1.0)),
        coat=value("clearcoat", "clearcoatFactor"),
        coat_roughness=value("clearcoat", "clearcoatRoughnessFactor"),
        transmission=value("transmission", "transmissionFactor"),
        index=min(max(index, 1.0), 5.0),
        anisotropy=value("anisotropy", "anisotropyStrength"),
        sheen=colour(sheen.get("sheenColorFactor")),
        sheen_roughness=_share(sheen.get("sheenRoughnessFactor", 0.0)),
        emission=emission,
        luminance=max(float(stronger), 0.0) * WHITE if emission else 0.0,
        relief=_share((material.get("normalTexture") or {}).get("scale", 1.0)),
        contrast=_share((material.get("occlusionTexture") or {}).get("strength", 1.0)),
    )


def _share(value: Any) -> float:
    return round(min(max(float(value), 0.0), 1.0), 6)


_WORDS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("Rubber", ("rubber", "tyre", "tire", "silicone")),
    ("Glass, clear", ("glass", "glazing")),
    ("Oak", ("wood", "timber", "oak", "beech", "plywood")),
    ("Brushed steel", ("brushed", "satin metal")),
    ("Zinc-plated", ("zinc", "galvan")),
    ("Brass", ("brass",)),
    ("Copper", ("copper",)),
    ("Raw aluminium", ("alumin",)),
    ("Polished steel", ("chrome", "polished")),
    ("Raw steel", ("steel", "metal")),
    ("Moulded plastic, gloss", ("plastic", "abs", "nylon", "polymer")),
)


def finish_by_name(name: str) -> Finish | None:
    """The finish of the shelf that a material's name tells of, in the file's own colour; none for plain paint."""
    lowered = name.lower()
    for finish, words in _WORDS:
        if any(word in lowered for word in words):
            return msgspec.structs.replace(BY_NAME[finish], colour="")
    return None
