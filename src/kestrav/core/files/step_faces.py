"""How many faces the products of a STEP file have, so that what was not read of them can be told by name.

Reference: ISO 10303-21 (clear text encoding); ISO 10303-41 and 10303-43 for how a product comes to its shape, 10303-42 for faces.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable

from kestrav.core.files.step_names import decode

# what is taken is not given back: with a quote missing there would be no end of ways to read the rest
_STATEMENT = re.compile(rb"#(\d+)\s*=\s*((?:'[^']*'|[^';])*+);")
_KIND = re.compile(rb"\s*([A-Z0-9_]+)\s*\(")
_REFERENCE = re.compile(rb"#(\d+)")
_TEXT = re.compile(rb"'((?:[^']|'')*+)'")
_FACE = re.compile(rb"=\s*(?:ADVANCED_FACE|FACE_SURFACE)\s*\(")
_FACES = (b"ADVANCED_FACE", b"FACE_SURFACE")
_SOLIDS = (b"MANIFOLD_SOLID_BREP", b"BREP_WITH_VOIDS", b"FACETED_BREP", b"SHELL_BASED_SURFACE_MODEL")
_LEAST = 0.98  # a file of which this share of its faces is there may have had some merged


def not_read(data: bytes, read: Iterable[int | None], names: Iterable[str]) -> list[str]:
    """What was not read of the products in a STEP file, a line each.

    ``read`` are the numbers of faces of the different shapes that were (None where that is not known, and nothing can be told), ``names``
    those of the parts that have geometry.
    """
    counts = list(read)
    if None in counts or sum(filter(None, counts)) >= len(_FACE.findall(data)):
        return []
    left, there = Counter(count for count in counts if count is not None), set(names)
    unmatched = []
    for name, faces in _products(data):
        if left[faces] > 0:
            left[faces] -= 1
        else:
            unmatched.append((name, faces))
    lines = []
    for name, faces in unmatched:
        # a shape of which some faces are missing has most of them
        some = max((count for count in left.elements() if 0.5 * faces <= count < faces), default=None)
        if some is not None:
            left[some] -= 1
        if some is None and name not in there:
            lines.append(f"“{name}”: its shape could not be read")
        elif some is None or some < _LEAST * faces:
            lines.append(f"“{name}”: not all of its {faces} faces could be read")
    return lines


def _products(data: bytes) -> list[tuple[str, int]]:
    """The names of products that have solids or faces of their own, and how many faces."""
    kinds: dict[bytes, bytes] = {}
    refers: dict[bytes, list[bytes]] = {}
    names: dict[bytes, bytes] = {}
    for match in _STATEMENT.finditer(data):
        number, words = match[1], match[2]
        kind = _KIND.match(words)
        kinds[number] = kind[1] if kind else b""
        # what stands in quotes refers to nothing
        refers[number] = _REFERENCE.findall(_TEXT.sub(b"", words))
        if kinds[number] == b"PRODUCT":
            texts = _TEXT.findall(words)
            names[number] = next((text for text in texts[1::-1] if text.strip()), b"")
    beside: dict[bytes, list[bytes]] = {}
    for number, kind_of in kinds.items():
        if kind_of == b"SHAPE_REPRESENTATION_RELATIONSHIP" and len(refers[number]) == 2:
            one, two = refers[number]
            beside.setdefault(one, []).append(two)
            beside.setdefault(two, []).append(one)
    parents: dict[bytes, set[bytes]] = {}
    for number, kind_of in kinds.items():
        if kind_of != b"SHAPE_DEFINITION_REPRESENTATION" or len(refers[number]) != 2:
            continue
        described, shape = refers[number]
        product = _reached(described, kinds, refers, b"PRODUCT")
        if product is None:
            continue
        for each in [shape, *beside.get(shape, [])]:
            faces = _faces(each, kinds, refers)
            if faces or any(kinds.get(item) in _SOLIDS for item in refers.get(each, ())):
                parents.setdefault(product, set()).update(faces)
    return [(decode(names.get(product, b"")).strip() or "unnamed", len(faces)) for product, faces in parents.items()]


def _reached(start: bytes, kinds: dict[bytes, bytes], refers: dict[bytes, list[bytes]], wanted: bytes) -> bytes | None:
    """The entity of a kind that one leads to, by the first of what each refers to."""
    here, seen = start, set[bytes]()
    while here in kinds and here not in seen:
        if kinds[here] == wanted:
            return here
        seen.add(here)
        here = next(iter(refers[here]), b"")
    return None


def _faces(start: bytes, kinds: dict[bytes, bytes], refers: dict[bytes, list[bytes]]) -> set[bytes]:
    """The faces that a representation holds; not those of others that it places."""
    faces, seen, waiting = set[bytes](), {start}, [start]
    while waiting:
        here = waiting.pop()
        if kinds.get(here) in _FACES:
            faces.add(here)
            continue
        if kinds.get(here) in (b"MAPPED_ITEM", b"REPRESENTATION_MAP"):
            continue
        for other in refers.get(here, ()):
            if other not in seen:
                seen.add(other)
                waiting.append(other)
    return faces
