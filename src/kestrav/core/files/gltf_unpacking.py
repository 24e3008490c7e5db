"""What glTF files pack their meshes with, unpacked into plain accessors: Draco, meshopt, and quantised positions.

Reference: the extensions KHR_draco_mesh_compression, EXT_meshopt_compression and KHR_mesh_quantization of the glTF registry; section 3.6.2.2 of the glTF 2.0 specification
for the range of normalised whole numbers.
"""

from __future__ import annotations

from typing import Any

import DracoPy
import numpy as np
from numpy.typing import NDArray

from kestrav.core.errors import Damaged, in_words
from kestrav.core.files import meshopt

DRACO = "KHR_draco_mesh_compression"
_FLOAT, _COUNT = 5126, 5125
_MOST_BYTES = 2_000_000_000  # of one view
_KINDS = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}


def stands_in(buffer: dict[str, Any]) -> bool:
    """Whether a buffer without data stands in for views that are packed elsewhere."""
    extensions = buffer.get("extensions")
    packed = extensions.get(meshopt.EXTENSION) if isinstance(extensions, dict) else None
    return isinstance(packed, dict) and packed.get("fallback") is True


class Unpacked:
    """Accessors and views added to a file's, with their data in a buffer of its own."""

    def __init__(self, json: dict[str, Any], buffers: list[bytes]) -> None:
        self._json, self._buffers = json, buffers
        self._data = bytearray()
        self.left_out: list[str] = []

    def unpack(self) -> None:
        """Unpack every mesh that is packed; what cannot be is taken out of the file and told in ``left_out``."""
        known: dict[int, int] = {}
        for number, mesh in enumerate(_list(self._json, "meshes")):
            kept = []
            for primitive in _list(mesh, "primitives"):
                try:
                    self._primitive(primitive, known)
                except (KeyError, IndexError, TypeError, ValueError, DracoPy.FileTypeException) as fault:
                    label = mesh.get("name") or f"mesh {number + 1}"
                    why = in_words(fault, "its packed data is damaged")
                    self.left_out.append(f"“{label}”: {why}")
                    continue
                kept.append(primitive)
            mesh["primitives"] = kept
        if self._data:
            self._json.setdefault("buffers", []).append({"byteLength": len(self._data)})
            self._buffers.append(bytes(self._data))

    def _primitive(self, primitive: dict[str, Any], known: dict[int, int]) -> None:
        extensions = primitive.get("extensions")
        packed = extensions.get(DRACO) if isinstance(extensions, dict) else None
        if packed is not None:
            decoded = DracoPy.decode(self._view(packed["bufferView"]))
            points, faces = np.asarray(decoded.points, "<f4"), np.asarray(getattr(decoded, "faces", ()), "<u4")
            if not len(faces):
                raise Damaged("no triangles")
            accessors = self._json["accessors"]
            # what the accessor says of quantised positions holds here too, as Draco gives back the numbers that were packed
            place = primitive["attributes"]["POSITION"]
            points = _in_range(points, accessors[place])
            primitive["attributes"] = {"POSITION": self._add(points, "VEC3", _FLOAT)}
            primitive["indices"] = self._add(faces.reshape(-1), "SCALAR", _COUNT)
            primitive["mode"] = 4
            return
        place = primitive.get("attributes", {}).get("POSITION")
        for used in (place, primitive.get("indices")):
            if isinstance(used, int):
                self._unpack_view(self._json["accessors"][used].get("bufferView"))
        if not isinstance(place, int):
            return
        accessor = self._json["accessors"][place]
        if accessor.get("componentType") == _FLOAT or accessor.get("type") != "VEC3" or "sparse" in accessor:
            return
        if place not in known:
            known[place] = self._add(_in_range(self._points(accessor), accessor), "VEC3", _FLOAT)
        primitive["attributes"] = {**primitive["attributes"], "POSITION": known[place]}

    def _unpack_view(self, number: Any) -> None:
        """Unpack a view that is packed with meshopt."""
        view = self._json["bufferViews"][number] if isinstance(number, int) else {}
        extensions = view.get("extensions")
        if not isinstance(extensions, dict) or meshopt.EXTENSION not in extensions:
            return
        packed = extensions[meshopt.EXTENSION]
        count, stride = int(packed["count"]), int(packed["byteStride"])
        if count * stride > _MOST_BYTES:
            raise Damaged("it would be larger than what is read")
        data = meshopt.unpacked(
            self._cut(packed), str(packed["mode"]), count, stride, str(packed.get("filter", "NONE"))
        )
        del extensions[meshopt.EXTENSION]
        view |= self._keep(data)
        if packed["mode"] == "ATTRIBUTES":
            view["byteStride"] = stride

    def _view(self, number: int) -> bytes:
        return self._cut(self._json["bufferViews"][number])

    def _cut(self, view: dict[str, Any]) -> bytes:
        start = int(view.get("byteOffset", 0))
        held = self._data if view["buffer"] == len(self._buffers) else self._buffers[view["buffer"]]
        data = bytes(held[start : start + int(view["byteLength"])])
        if len(data) < int(view["byteLength"]):
            raise Damaged("a view is cut short")
        return data

    def _points(self, accessor: dict[str, Any]) -> NDArray[np.float32]:
        """The numbers (n, 3) of an accessor, which may lie among others."""
        kind = np.dtype(_KINDS[accessor["componentType"]])
        view = self._json["bufferViews"][accessor["bufferView"]]
        data = self._view(accessor["bufferView"])
        step, start, count = (
            int(view.get("byteStride", 0)) or 3 * kind.itemsize,
            int(accessor.get("byteOffset", 0)),
            int(accessor["count"]),
        )
        if count < 1 or start < 0 or start + (count - 1) * step + 3 * kind.itemsize > len(data):
            raise Damaged("an accessor reaches beyond its view")
        points = np.ndarray((count, 3), kind, data, start, (step, kind.itemsize))
        return points.astype("<f4")

    def _keep(self, data: bytes) -> dict[str, int]:
        """A view of data that is added."""
        view = {"buffer": len(self._buffers), "byteOffset": len(self._data), "byteLength": len(data)}
        self._data += data + b"\0" * (-len(data) % 4)
        return view

    def _add(self, values: NDArray[Any], shape: str, kind: int) -> int:
        """The number of a new accessor."""
        accessors, views = self._json.setdefault("accessors", []), self._json.setdefault("bufferViews", [])
        views.append(self._keep(np.ascontiguousarray(values).tobytes()))
        accessor: dict[str, Any] = {
            "bufferView": len(views) - 1,
            "componentType": kind,
            "count": len(values),
            "type": shape,
        }
        if shape == "VEC3":
            accessor |= {"min": values.min(axis=0).tolist(), "max": values.max(axis=0).tolist()}
        accessors.append(accessor)
        return len(accessors) - 1


def _in_range(points: NDArray[Any], accessor: dict[str, Any]) -> NDArray[np.float32]:
    """Points as they are meant: normalised whole numbers stand for -1 to 1, or 0 to 1 where they have no sign."""
    kind = np.dtype(_KINDS[accessor["componentType"]])
    if not accessor.get("normalized") or kind.kind == "f":
        return points.astype("<f4")
    return np.maximum(points / float(np.iinfo(kind).max), -1.0).astype("<f4")


def _list(owner: dict[str, Any], name: str) -> list[dict[str, Any]]:
    values = owner.get(name) or []
    return [item for item in values if isinstance(item, dict)] if isinstance(values, list) else []
