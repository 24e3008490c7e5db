"""The node tree of a binary glTF: names, nesting, colours.

trimesh reads the meshes but makes names unique and rounds colours to bytes; so the nodes and meshes are
renamed to tags before it reads them, and names and colours are taken from the original tree.
Reference: Khronos glTF 2.0 specification, section 4 (GLB container) and 3.5 (scenes and nodes).
"""

from __future__ import annotations

import copy
import struct
from dataclasses import dataclass
from typing import Any

import msgspec

_HEADER = struct.Struct("<4sII")
_CHUNK = struct.Struct("<I4s")


@dataclass(frozen=True)
class Tree:
    """A GLB's JSON and the same file with every node named ``n<i>`` and every mesh ``m<i>``."""

    json: dict[str, Any]
    tagged: bytes

    @property
    def nodes(self) -> list[dict[str, Any]]:
        """The nodes, by number."""
        found: list[dict[str, Any]] = self.json.get("nodes", [])
        return found

    def roots(self) -> list[int]:
        """Numbers of the scene's top nodes; all that nobody has as a child when no scene is given."""
        scenes = self.json.get("scenes") or []
        if scenes:
            top: list[int] = scenes[self.json.get("scene", 0)].get("nodes", [])
            return top
        below = {c for node in self.nodes for c in node.get("children", [])}
        return [i for i in range(len(self.nodes)) if i not in below]

    def name(self, number: int) -> str:
        """A node's own name, or its mesh's."""
        node = self.nodes[number]
        if node.get("name"):
            return str(node["name"])
        if "mesh" in node:
            return str(self.json["meshes"][node["mesh"]].get("name") or "")
        return ""

    def colour(self, mesh: int, primitive: int) -> tuple[str, float]:
        """sRGB colour (#rrggbb) and opacity of a mesh's primitive."""
        number = self.json["meshes"][mesh]["primitives"][primitive].get("material")
        if number is None:
            return "#9aa7ab", 1.0
        factor = self.json["materials"][number].get("pbrMetallicRoughness", {}).get("baseColorFactor", [1, 1, 1, 1])
        return "#" + "".join(f"{_srgb_byte(v):02x}" for v in factor[:3]), round(float(factor[3]), 4)


def read_tree(data: bytes) -> Tree:
    """Take a GLB apart. Raises ValueError when it is not one, or is cut short."""
    if len(data) < _HEADER.size + _CHUNK.size:
        raise ValueError("it is too short to be a GLB file")
    magic, version, total = _HEADER.unpack_from(data)
    if magic != b"glTF":
        raise ValueError("it does not begin as a GLB file does")
    if version != 2:
        raise ValueError(f"it is glTF version {version}; version 2 is read")
    if total > len(data):
        raise ValueError(f"it is cut short: {len(data)} of {total} bytes are there")
    length, kind = _CHUNK.unpack_from(data, _HEADER.size)
    start = _HEADER.size + _CHUNK.size
    if kind != b"JSON":
        raise ValueError("its first chunk is not JSON")
    try:
        tree = msgspec.json.decode(data[start : start + length])
    except msgspec.DecodeError as fault:
        raise ValueError(f"its description is broken ({fault})") from fault
    if not isinstance(tree, dict):
        raise ValueError("its description is not an object")
    return Tree(tree, _rebuilt(tree, data[start + length : total]))


def _rebuilt(tree: dict[str, Any], rest: bytes) -> bytes:
    tagged = copy.deepcopy(tree)
    for kind, letter in (("nodes", "n"), ("meshes", "m")):
        for number, item in enumerate(tagged.get(kind, [])):
            item["name"] = f"{letter}{number}"
    body = msgspec.json.encode(tagged)
    body += b" " * (-len(body) % 4)
    total = _HEADER.size + _CHUNK.size + len(body) + len(rest)
    return _HEADER.pack(b"glTF", 2, total) + _CHUNK.pack(len(body), b"JSON") + body + rest


def _srgb_byte(linear: float) -> int:
    """Linear light to an sRGB byte (IEC 61966-2-1)."""
    linear = min(max(linear, 0.0), 1.0)
    value = 12.92 * linear if linear <= 0.0031308 else 1.055 * linear ** (1 / 2.4) - 0.055
    return round(255 * value)
