"""The window's colours, light or dark: as the system is set when the program starts, or as the person chose.

Pictures and films have colours of their own (:mod:`kestrav.render.palette`), which this does not touch.
"""

from __future__ import annotations

from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QGuiApplication

CHOICES = ("system", "light", "dark")
_KEPT = "window/colours"

LIGHT = {
    "PAPER": "#f4f1ea",
    "CARD": "#fffdf8",
    "INK": "#1d2a33",
    "RULE": "#d9d2c3",
    "PETROL_DARK": "#1d3a40",
    "PETROL": "#0d6b74",
    "STRAW": "#e9c46a",
    "VERMILION": "#d6452b",
    "OCHRE": "#c98a1b",
    "MOSS": "#4c8b4a",
    "SKY": "#dfe6e6",
    "SHOT": "#7a6a9b",
    "MUTED": "#5b666d",  # 5.3:1 on paper
    "HEADING": "#ece7da",
    "CHOSEN": "#dbe8e8",
    "FIELD": "#ffffff",
    "FIELD_LINE": "#cfc8b8",
    "FIELD_OFF": "#f1eee6",
    "HOVER": "#f3efe3",
    "WORKED": "#f2efe6",
    "FAULT": "#fbf1dc",
    "ROW_LINE": "#e9e3d5",
    "SCROLL": "#cbc4b3",
    "HANDLE": "#b9b19e",
    "DISABLED": "#98948a",
    "ON_PETROL": "#ffffff",
    "BREACH_TEXT": "#bf3a22",
    "WARNING_TEXT": "#8a5d08",
    "NOTE_TEXT": "#6a675b",
    "NOTE": "#8b8778",
    "UNKNOWN": "#9b968a",
    "POSED": "#7a5a2e",
    "CARRIED": "#5f6f52",
    "SPUN": "#5d6570",
    "LAMP": "#8a6414",
    "STALE": "#9fb4b5",
    "STALE_SHOT": "#b9b2c6",
    "STAGE": "#f1eee6",
    "STAGE_SKY": "#dfe6e6",
    "STAGE_BACK": "#cdd3d1",
    "ON_STRAW": "#1d2a33",
}
DARK = LIGHT | {
    "PAPER": "#22292d",
    "CARD": "#2a3236",
    "INK": "#e9e6dd",
    "RULE": "#3f484c",
    "PETROL_DARK": "#14272b",
    "PETROL": "#62bcc6",
    "SHOT": "#a99bc9",
    "VERMILION": "#e2593f",
    "OCHRE": "#d9a036",
    "MOSS": "#6fae6c",
    "SKY": "#8e989b",
    "MUTED": "#aab2b4",
    "HEADING": "#2f383c",
    "CHOSEN": "#284347",
    "FIELD": "#1d2326",
    "FIELD_LINE": "#4d575b",
    "FIELD_OFF": "#283034",
    "HOVER": "#364045",
    "WORKED": "#31393c",
    "FAULT": "#463a22",
    "ROW_LINE": "#2e363a",
    "SCROLL": "#566064",
    "HANDLE": "#6b757a",
    "DISABLED": "#747d80",
    "ON_PETROL": "#10191c",
    "BREACH_TEXT": "#f08a74",
    "WARNING_TEXT": "#e3b45c",
    "NOTE_TEXT": "#b9b4a4",
    "NOTE": "#8f8a7b",
    "UNKNOWN": "#8f8a7b",
    "POSED": "#c79a5f",
    "CARRIED": "#9db18a",
    "SPUN": "#a3adb9",
    "LAMP": "#d9a95a",
    "STALE": "#567679",
    "STALE_SHOT": "#6c6480",
    "STAGE": "#b5bab8",
    "STAGE_SKY": "#8e989b",
    "STAGE_BACK": "#8e989b",
}


def choice() -> str:
    """What the person chose: as the system is, light or dark."""
    kept = str(QSettings().value(_KEPT, "system"))
    return kept if kept in CHOICES else "system"


def choose(name: str) -> None:
    """Keep a choice; the window takes it when it starts the next time."""
    QSettings().setValue(_KEPT, name)


def is_dark() -> bool:
    """Whether the dark colours are wanted now."""
    chosen = choice()
    if chosen != "system":
        return chosen == "dark"
    application = QGuiApplication.instance()
    return isinstance(application, QGuiApplication) and application.styleHints().colorScheme() == Qt.ColorScheme.Dark


_now = DARK if is_dark() else LIGHT
PAPER, CARD, INK, RULE = _now["PAPER"], _now["CARD"], _now["INK"], _now["RULE"]
PETROL_DARK, PETROL, STRAW = _now["PETROL_DARK"], _now["PETROL"], _now["STRAW"]
VERMILION, OCHRE, MOSS = _now["VERMILION"], _now["OCHRE"], _now["MOSS"]
SKY, SHOT, MUTED, HEADING, CHOSEN = _now["SKY"], _now["SHOT"], _now["MUTED"], _now["HEADING"], _now["CHOSEN"]
FIELD, FIELD_LINE, FIELD_OFF = _now["FIELD"], _now["FIELD_LINE"], _now["FIELD_OFF"]
HOVER, WORKED, FAULT, ROW_LINE = _now["HOVER"], _now["WORKED"], _now["FAULT"], _now["ROW_LINE"]
SCROLL, HANDLE, DISABLED, ON_PETROL = _now["SCROLL"], _now["HANDLE"], _now["DISABLED"], _now["ON_PETROL"]
POSED, CARRIED, SPUN, LAMP = _now["POSED"], _now["CARRIED"], _now["SPUN"], _now["LAMP"]
STALE, STALE_SHOT, ON_STRAW = _now["STALE"], _now["STALE_SHOT"], _now["ON_STRAW"]
STAGE, STAGE_SKY, STAGE_BACK = _now["STAGE"], _now["STAGE_SKY"], _now["STAGE_BACK"]
SEVERITY_COLOUR = {"breach": VERMILION, "warning": OCHRE, "note": _now["NOTE"]}
# the same as text, dark enough to be read on a card, or light enough (4.5:1 and more)
SEVERITY_TEXT = {"breach": _now["BREACH_TEXT"], "warning": _now["WARNING_TEXT"], "note": _now["NOTE_TEXT"]}
HEALTH_COLOUR = {"good": MOSS, "warning": OCHRE, "breach": VERMILION, "unknown": _now["UNKNOWN"]}
