"""The design's colours, as #rrggbb and as VTK's triples."""

from __future__ import annotations

PAPER, CARD, INK, RULE = "#f4f1ea", "#fffdf8", "#1d2a33", "#d9d2c3"
PETROL_DARK, PETROL, STRAW = "#1d3a40", "#0d6b74", "#e9c46a"
VERMILION, OCHRE, MOSS = "#d6452b", "#c98a1b", "#4c8b4a"
SKY = "#dfe6e6"
SHOT = "#7a6a9b"


def rgb(colour: str) -> tuple[float, float, float]:
    """#rrggbb as three numbers from 0 to 1."""
    return tuple(int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5))  # type: ignore[return-value]
