"""What finishes are made of, as physically based shading has it."""

from __future__ import annotations

from dataclasses import dataclass

from kestrav.core.document.records import FinishName


@dataclass(frozen=True)
class Finish:
    """Metalness, roughness and clear coat from 0 to 1, and the most opacity that it lets through."""

    metallic: float
    roughness: float
    coat: float = 0.0
    opacity: float = 1.0


# common practice, no source: values as physically based shading is commonly set for these materials
FINISHES: dict[FinishName, Finish | None] = {
    "painted": None,
    "bare metal": Finish(1.0, 0.28),
    "brushed": Finish(1.0, 0.52),
    "plastic": Finish(0.0, 0.34, coat=0.15),
    "rubber": Finish(0.0, 0.92),
    "glass": Finish(0.0, 0.05, coat=0.6, opacity=0.3),
    "wood": Finish(0.0, 0.7, coat=0.08),
}
PAINT = Finish(0.0, 0.6)  # what paint is where everything must be physically based
