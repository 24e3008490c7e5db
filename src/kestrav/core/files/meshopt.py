"""Views of a glTF file that are packed with meshopt, unpacked.

Reference: the extension EXT_meshopt_compression of the glTF registry, its appendices A (the three bitstreams) and B (filters). Lists of
attributes are unpacked a block at a time on arrays; triangles follow one another, so they go one by one.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kestrav.core.errors import Damaged

EXTENSION = "EXT_meshopt_compression"
_ATTRIBUTES, _TRIANGLES, _INDICES = 0xA0, 0xE1, 0xD1  # the headers, with the version that the extension knows
_BLOCK_BYTES, _BLOCK_MOST, _GROUP = 8192, 256, 16
_TAIL, _TABLE = 32, 16
_LEAST_CODE, _RESET = 13, 0xFE

Bytes = NDArray[np.uint8]


def unpacked(data: bytes, mode: str, count: int, stride: int, filtered: str = "NONE") -> bytes:
    """The ``count`` elements of ``stride`` bytes that a view packs in a mode of the extension.

    Raises ValueError when the data is cut short, is not of that mode, or is filtered in a way that is not read.
    """
    if count < 0 or stride < 1:
        raise Damaged("its counts make no sense")
    try:
        if mode == "ATTRIBUTES":
            made = _filtered(_attributes(data, count, stride), filtered)
        elif mode == "TRIANGLES":
            made = _triangles(data, count)
        elif mode == "INDICES":
            made = _indices(data, count)
        else:
            raise Damaged(f"its mode “{mode}” is not known")
    except (IndexError, OverflowError):
        raise Damaged("its packed data is cut short") from None
    if mode != "ATTRIBUTES":
        made = made.astype({2: "<u2", 4: "<u4"}[stride]) if stride in (2, 4) else made
    return made.tobytes()


# attributes: the bytes of neighbours differ by little, each place of an element by itself


def _attributes(data: bytes, count: int, stride: int) -> Bytes:
    """Elements (count, stride) of bytes."""
    if stride > _TABLE * _GROUP or stride % 4 or not data or data[0] != _ATTRIBUTES:
        raise Damaged("its attributes are packed in a way that is not known")
    packed, at = np.frombuffer(data, np.uint8), 1
    made, last = np.empty((count, stride), np.uint8), np.frombuffer(data[-stride:], np.uint8)
    most = min(_BLOCK_BYTES // stride & ~(_GROUP - 1), _BLOCK_MOST)
    end = len(data) - max(stride, _TAIL)
    if end < at:
        raise IndexError
    for first in range(0, count, most):
        size = min(most, count - first)
        for place in range(stride):
            steps, at = _steps(packed, at, end, -(-size // _GROUP))
            # a step is folded so that small ones of either sign are small
            signed = (steps[:size] >> 1) ^ (-(steps[:size] & 1)).astype(np.uint8)
            made[first : first + size, place] = np.cumsum(signed, dtype=np.uint8) + last[place]
        last = made[first + size - 1]
    return made


def _steps(packed: Bytes, at: int, end: int, groups: int) -> tuple[Bytes, int]:
    """The folded steps of groups of 16, and where the next ones begin."""
    found = np.zeros((groups, _GROUP), np.uint8)
    header = _taken(packed, at, -(-groups // 4), end)
    at += len(header)
    kinds = (header[:, None] >> np.array([0, 2, 4, 6], np.uint8)) & 3
    for group, kind in enumerate(kinds.reshape(-1)[:groups].tolist()):
        if kind == 3:
            found[group] = _taken(packed, at, _GROUP, end)
            at += _GROUP
        elif kind:
            bits = 2 * kind
            lead = _taken(packed, at, 2 * bits, end)
            shifts = np.arange(8 - bits, -1, -bits, dtype=np.uint8)
            short = ((lead[:, None] >> shifts) & (2**bits - 1)).reshape(-1)
            long = np.flatnonzero(short == 2**bits - 1)
            at += len(lead)
            short[long] = _taken(packed, at, len(long), end)
            at += len(long)
            found[group] = short
    return found.reshape(-1), at


def _taken(packed: Bytes, at: int, size: int, end: int) -> Bytes:
    if at + size > end:
        raise IndexError
    return packed[at : at + size]


def _filtered(made: Bytes, name: str) -> NDArray[np.generic]:
    """What a filter makes of elements; of those that places need."""
    if name == "NONE":
        return made
    if name != "EXPONENTIAL":
        raise Damaged(f"its filter “{name}” is not read")
    words = made.view("<i4")
    # a float by 24 bits of mantissa and 8 of exponent, both with a sign
    found: NDArray[np.float32] = np.ldexp(((words << 8) >> 8).astype(np.float64), words >> 24).astype("<f4")
    return found


# indices


class _Codes:
    """Whole numbers of one to five bytes, one after the other."""

    def __init__(self, data: bytes, at: int, end: int) -> None:
        self.data, self.at, self.end = data, at, end

    def byte(self) -> int:
        if self.at >= self.end:
            raise IndexError
        self.at += 1
        return self.data[self.at - 1]

    def number(self) -> int:
        value = shift = 0
        while shift < 35:
            byte = self.byte()
            value |= (byte & 127) << shift
            if byte < 128:
                return value & 0xFFFFFFFF
            shift += 7
        raise Damaged("a number of its packed data has no end")


def _unfolded(value: int) -> int:
    return (value >> 1) ^ -(value & 1)


def _indices(data: bytes, count: int) -> NDArray[np.int64]:
    """A list (count,) of indices, each told by its step from one of two before."""
    if not data or data[0] != _INDICES:
        raise Damaged("its indices are packed in a way that is not known")
    codes, last = _Codes(data, 1, len(data) - 4), [0, 0]
    made = np.empty(count, np.int64)
    for k in range(count):
        value = codes.number()
        last[value & 1] = (last[value & 1] + _unfolded(value >> 1)) & 0xFFFFFFFF
        made[k] = last[value & 1]
    return made


def _triangles(data: bytes, count: int) -> NDArray[np.int64]:
    """Indices (count,) of triangles, each told by an edge or corners of the sixteen last ones where it can be."""
    if count % 3 or not data or data[0] != _TRIANGLES:
        raise Damaged("its triangles are packed in a way that is not known")
    table = data[-_TABLE:]
    codes = _Codes(data, 1 + count // 3, len(data) - _TABLE)
    if codes.at > codes.end:
        raise IndexError
    edges, corners = [(0, 0)] * 16, [0] * 16
    edge_at = corner_at = fresh = last = 0
    made = list[int]()
    for code in data[1 : codes.at]:
        first, second = code >> 4, code & 15
        if first < 15:
            a, b = edges[(edge_at - 1 - first) & 15]
            if second == 0:
                c, fresh = fresh, fresh + 1
            elif second < _LEAST_CODE:
                c = corners[(corner_at - 1 - second) & 15]
            elif second < 15:
                c = last = last + (-1 if second == _LEAST_CODE else 1)
            else:
                c = last = (last + _unfolded(codes.number())) & 0xFFFFFFFF
            if second == 0 or second >= _LEAST_CODE:
                corners[corner_at] = c
                corner_at = (corner_at + 1) & 15
            added = [(c, b), (a, c)]
        else:
            own = second < 14
            word = table[second] if own else codes.byte()
            if not own and word == 0:
                fresh = 0
            new = [code == _RESET or own, word >> 4 == 0, word & 15 == 0]
            told = [code == 255, not own and word >> 4 == 15, not own and word & 15 == 15]
            triangle = [0, corners[(corner_at - (word >> 4)) & 15], corners[(corner_at - (word & 15)) & 15]]
            for k in range(3):
                if new[k]:
                    triangle[k], fresh = fresh, fresh + 1
            for k in range(3):
                if told[k]:
                    triangle[k] = last = (last + _unfolded(codes.number())) & 0xFFFFFFFF
            for k in range(3):
                if new[k] or told[k]:
                    corners[corner_at] = triangle[k]
                    corner_at = (corner_at + 1) & 15
            a, b, c = triangle
            added = [(b, a), (c, b), (a, c)]
        made += (a, b, c)
        for edge in added:
            edges[edge_at] = edge
            edge_at = (edge_at + 1) & 15
    return np.array(made, np.int64)
