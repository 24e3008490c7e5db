"""Keys in tooltips: “(D)” at the end of one is the key that its command has now, where a person has changed it."""

from __future__ import annotations

import re

from PySide6.QtWidgets import QWidget

_NOW: dict[
    str, str
] = {}  # keys that commands have now, by those that they come with, where they differ; empty for none
_IN_BRACKETS = re.compile(r" \(([^()]+)\)")
_USUAL = "usual-tip"  # the property that keeps a tooltip as it was written


def set_changed(keys: dict[str, str]) -> None:
    """Take the keys that have changed."""
    _NOW.clear()
    _NOW.update(keys)


def keyed(tip: str) -> str:
    """A tooltip with the keys as they are now."""

    def now(match: re.Match[str]) -> str:
        key = _NOW.get(match[1])
        return match[0] if key is None else f" ({key})" if key else ""

    return _IN_BRACKETS.sub(now, tip) if _NOW else tip


def retell(root: QWidget) -> None:
    """Let the tooltips of all widgets below one tell the keys as they are now."""
    for widget in root.findChildren(QWidget):
        usual = widget.property(_USUAL)
        tip = widget.toolTip() if usual is None else str(usual)
        text = keyed(tip)
        if text != widget.toolTip():
            widget.setProperty(_USUAL, tip)
            widget.setToolTip(text)
