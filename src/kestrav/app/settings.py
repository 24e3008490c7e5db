"""What a person has set for all projects."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QSettings

_CHORD, _UP = "import/chord", "import/up"


def chord() -> float | None:
    """The tessellation tolerance in mm that was set, or None for automatic."""
    kept: Any = QSettings().value(_CHORD, 0.0)
    value = float(kept)
    return value if value > 0 else None


def set_chord(value: float) -> None:
    """Set the tessellation tolerance in mm; 0 for automatic."""
    QSettings().setValue(_CHORD, max(value, 0.0))


def upward() -> str:
    """The upward axis of mesh files, or nothing for the format's own."""
    return str(QSettings().value(_UP, ""))


def set_upward(axis: str) -> None:
    """Set the upward axis of mesh files."""
    QSettings().setValue(_UP, axis)
