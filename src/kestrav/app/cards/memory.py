"""What the cards remember from one use to the next: how copies, convoys and marks are made."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal

from PySide6.QtCore import QObject, QSettings, Signal


@dataclass
class Copying:
    """How copies are made; the card remembers it."""

    step: tuple[float, float, float] = (200.0, 0.0, 0.0)
    count: int = 3
    linked: bool = True

    def set(self, **fields: Any) -> None:
        """Change some of it."""
        for name, value in fields.items():
            setattr(self, name, value)


@dataclass
class Leading:
    """How convoys and followers are made; the card remembers it."""

    count: int = 3
    spacing: float = 1500.0
    path: str = ""

    def set(self, **fields: Any) -> None:
        """Change some of it."""
        for name, value in fields.items():
            setattr(self, name, value)


@dataclass
class Repeating:
    """How copies of a rod are made, and how many marks are around a wheel; the card remembers it."""

    count: int = 2
    offset: tuple[float, float, float] = (0.0, 100.0, 0.0)
    phase: float = 90.0
    marks: int = 1

    def set(self, **fields: Any) -> None:
        """Change some of it."""
        for name, value in fields.items():
            setattr(self, name, value)


@dataclass
class Shaping:
    """How a path's typed length is got, and how far it is lifted off the ground; the card remembers it."""

    anchor: Literal["start", "middle", "end", "last"] = "start"
    lift: float = 0.0

    def set_lift(self, lift: float) -> None:
        """Choose how far above what lies below a path is let down."""
        self.lift = lift

    def set_anchor(self, anchor: str) -> None:
        """Choose what stays where it is."""
        self.anchor = anchor  # type: ignore[assignment]


class PathMarkChoice(QObject):
    """Which marks the stage shows of the selected path; remembered."""

    changed = Signal()
    DEFAULTS: ClassVar[dict[str, bool]] = {"numbers": True, "seconds": True, "comb": False}

    def get(self, name: str) -> bool:
        """Whether a mark is shown."""
        found = QSettings().value(f"marks/{name}")
        return self.DEFAULTS[name] if found is None else str(found) == "true"

    def set(self, name: str, shown: bool) -> None:
        """Show a mark or not."""
        QSettings().setValue(f"marks/{name}", "true" if shown else "false")
        self.changed.emit()

    def shown(self) -> frozenset[str]:
        """The marks that are shown."""
        return frozenset(name for name in self.DEFAULTS if self.get(name))
