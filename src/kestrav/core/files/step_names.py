"""Names that a STEP file gives to products, for occurrences that have none of their own.

OpenCASCADE names an occurrence without a name by its number, which says nothing to people. Reference: ISO 10303-21
(clear text encoding), and 10303-44 (product structure) for the entities.
"""

from __future__ import annotations

import re

_TEXT = rb"'((?:[^']|'')*+)'"
_OCCURRENCE = re.compile(
    rb"NEXT_ASSEMBLY_USAGE_OCCURRENCE\s*\(\s*" + _TEXT + rb"\s*,\s*" + _TEXT + rb"\s*,[^,]*,\s*#\d+\s*,\s*#(\d+)"
)
_DEFINITION = re.compile(rb"#(\d+)\s*=\s*PRODUCT_DEFINITION(?:_WITH_ASSOCIATED_DOCUMENTS)?\s*\([^#]*#(\d+)")
_FORMATION = re.compile(rb"#(\d+)\s*=\s*PRODUCT_DEFINITION_FORMATION\w*\s*\([^#]*#(\d+)")
_PRODUCT = re.compile(rb"#(\d+)\s*=\s*PRODUCT\s*\(\s*" + _TEXT + rb"\s*,\s*" + _TEXT)
_WIDE = re.compile(r"\\X2\\((?:[0-9A-Fa-f]{4})+)\\X0\\")
_WIDER = re.compile(r"\\X4\\((?:[0-9A-Fa-f]{8})+)\\X0\\")
_BYTE = re.compile(r"\\X\\([0-9A-Fa-f]{2})")
_SHIFT = re.compile(r"\\S\\(.)")


def decode(text: bytes) -> str:
    """A STEP string without its quotes, its escapes resolved (ISO 10303-21, 6.4.3)."""
    decoded = text.decode("utf-8", "replace").replace("''", "'")
    decoded = _WIDER.sub(lambda m: bytes.fromhex(m[1]).decode("utf-32-be", "replace"), decoded)
    decoded = _WIDE.sub(lambda m: bytes.fromhex(m[1]).decode("utf-16-be", "replace"), decoded)
    decoded = _BYTE.sub(lambda m: bytes.fromhex(m[1]).decode("latin-1"), decoded)
    decoded = _SHIFT.sub(lambda m: chr(ord(m[1]) + 128), decoded)
    return decoded.replace("\\\\", "\\")


def product_names(data: bytes) -> dict[str, str]:
    """Product names by the numbers of the occurrences that have no name of their own."""
    unnamed = [(m[1], m[3]) for m in _OCCURRENCE.finditer(data) if not m[2].strip()]
    if not unnamed:
        return {}
    definition = dict(_DEFINITION.findall(data))
    formation = dict(_FORMATION.findall(data))
    product = {m[1]: m[3] if m[3].strip() else m[2] for m in _PRODUCT.finditer(data)}
    product_names = {}
    for number, related in unnamed:
        name = product.get(formation.get(definition.get(related, b""), b""), b"")
        if name.strip():
            product_names[decode(number)] = decode(name)
    return product_names
