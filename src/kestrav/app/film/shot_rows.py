"""Rows of a shot's picture that its card and the dialog before rendering share."""

from __future__ import annotations

from collections.abc import Callable

from kestrav.app.widgets.sheet import Sheet
from kestrav.core.document.records import Shot
from kestrav.core.document.shots import SIZES, background_text, read_background

Change = Callable[..., object]  # told fields of the shot by their names


def add_size(form: Sheet, shot: Shot, change: Change) -> None:
    """The usual picture sizes."""
    size = f"{shot.width}x{shot.height}"
    sizes = [(f"{wide}x{high}", f"{name}: {wide} × {high}") for name, (wide, high) in SIZES.items()]
    if size not in dict(sizes):
        sizes.insert(0, (size, f"{shot.width} × {shot.height}"))

    def resize(text: str) -> None:
        wide, high = (int(v) for v in text.split("x"))
        change(width=wide, height=high)

    form.choice("Size", sizes, size, resize, "Picture size in pixels")


def add_background(form: Sheet, shot: Shot, change: Change) -> None:
    """The background, as it is typed."""
    form.text(
        "Background",
        background_text(shot),
        lambda v: change(**read_background(v)),
        "#rrggbb, #rrggbb:#rrggbb for a gradient from bottom to top, or clear for transparent",
    )
