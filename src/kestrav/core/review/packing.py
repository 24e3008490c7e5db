"""Plain data and arrays in one run of bytes, small and quickly read by a page.

A header in JSON, whose arrays are named by their numbers, then the arrays: each in planes of its bytes, whole numbers as differences, all of
it deflated (RFC 1950), which is what a browser's own ``DecompressionStream("deflate")`` takes.
"""

from __future__ import annotations

import struct
import zlib
from typing import Any

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

_ALIGNED = 8
_KINDS: dict[str, np.dtype[Any]] = {"f8": np.dtype("<f8"), "f4": np.dtype("<f4"), "i4": np.dtype("<i4")}


class Pack:
    """Collects arrays; each is named by the number that :meth:`add` returns."""

    def __init__(self) -> None:
        self._data = bytearray()
        self._arrays: list[dict[str, Any]] = []

    def add(self, values: ArrayLike, kind: str = "f8") -> int:
        """Put numbers in as ``f8``, ``f4`` or ``i4``; what is whole is kept as differences along its rows."""
        flat = np.asarray(values, _KINDS[kind])
        rows = flat.reshape(len(flat), -1) if flat.ndim > 1 else flat[:, None]
        if kind == "i4":
            rows = np.diff(rows, axis=0, prepend=np.zeros((1, rows.shape[1]), rows.dtype))
        data = _planes(np.ascontiguousarray(rows.T))
        self._data += b"\0" * (-len(self._data) % _ALIGNED)
        self._arrays.append({"kind": kind, "rows": len(flat), "wide": rows.shape[1], "at": len(self._data)})
        self._data += data
        return len(self._arrays) - 1

    def packed(self, header: dict[str, Any], level: int = 9) -> bytes:
        """All of it, deflated, with a header of plain data."""
        text = msgspec.json.encode({**header, "arrays": self._arrays})
        text += b" " * (-(len(text) + 4) % _ALIGNED)
        return zlib.compress(struct.pack("<I", len(text)) + text + bytes(self._data), level)


def _planes(rows: NDArray[Any]) -> bytes:
    """The bytes of an array plane by plane: those of alike worth lie side by side, which deflates best."""
    return rows.reshape(-1).view(np.uint8).reshape(-1, rows.dtype.itemsize).T.tobytes()


def unpacked(data: bytes) -> tuple[dict[str, Any], list[NDArray[Any]]]:
    """The header and the arrays (rows, wide) of what :meth:`Pack.packed` made."""
    plain = zlib.decompress(data)
    (size,) = struct.unpack_from("<I", plain)
    header = msgspec.json.decode(plain[4 : 4 + size])
    arrays = []
    for one in header.pop("arrays"):
        kind = _KINDS[one["kind"]]
        count = one["rows"] * one["wide"]
        planes = np.frombuffer(plain, np.uint8, count * kind.itemsize, 4 + size + one["at"])
        rows = np.ascontiguousarray(planes.reshape(kind.itemsize, -1).T).view(kind).reshape(one["wide"], one["rows"]).T
        arrays.append(np.cumsum(rows, axis=0, dtype=np.int32) if one["kind"] == "i4" else rows)
    return header, arrays
