"""What the cards remember from one use to the next: how copies, convoys and marks are made."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

import msgspec
from PySide6.QtCore import QObject, QSettings, Signal

from kestrav.core.document.fields import infos, option, quantity, switch
from kestrav.core.editing.wheel_making import MOST_MARKS


class Choices(msgspec.Struct):
    """What the card remembers of how something is made."""

    def set(self, **fields: Any) -> None:
        """Change some of it, within its bounds."""
        for name, value in fields.items():
            info = infos(type(self))[name]
            bounded = value if info.low is None else max(value, type(value)(info.low))
            setattr(self, name, bounded if info.high is None else min(bounded, type(value)(info.high)))


class Copying(Choices):
    """How copies are made."""

    step: Annotated[tuple[float, float, float], quantity("Step", "mm", "Spacing from one copy to the next")] = (
        200.0,
        0.0,
        0.0,
    )
    count: Annotated[int, quantity("Count", "", "Number of copies, the original included", 0, low=1)] = 3
    linked: Annotated[
        bool,
        switch("Linked copies", "share geometry and appearance", "A change to one linked copy changes all"),
    ] = True


class Leading(Choices):
    """How convoys and followers are made."""

    count: Annotated[int, quantity("Count", "", "Number of parts in the convoy, the original included", 0, low=1)] = 3
    spacing: Annotated[float, quantity("Spacing", "mm", "Spacing along the path, from pivot to pivot", 0, 50)] = 1500.0
    path: Annotated[str, option("Own path", "Path of the other part")] = ""


class Repeating(Choices):
    """How copies of a rod are made, and how many marks are around a wheel."""

    count: Annotated[int, quantity("Count", "", "Number of copies, the original included", 0, low=1)] = 2
    offset: Annotated[tuple[float, float, float], quantity("Spacing", "mm", "Spacing from one copy to the next")] = (
        0.0,
        100.0,
        0.0,
    )
    phase: Annotated[float, quantity("Phase", "°", "Phase angle from one pin to the next", 2)] = 90.0
    marks: Annotated[
        int,
        quantity(
            "Marks per turn",
            "",
            "Number of teeth or marks per turn on which the wheel may end; 1 for whole turns",
            0,
            low=1,
            high=MOST_MARKS,
        ),
    ] = 1


class Shaping(msgspec.Struct):
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
        value = QSettings().value(f"marks/{name}")
        return self.DEFAULTS[name] if value is None else str(value) == "true"

    def set(self, name: str, shown: bool) -> None:
        """Show a mark or not."""
        QSettings().setValue(f"marks/{name}", "true" if shown else "false")
        self.changed.emit()

    def shown(self) -> frozenset[str]:
        """The marks that are shown."""
        return frozenset(name for name in self.DEFAULTS if self.get(name))
