"""Loading of the library that draws the charts."""

from __future__ import annotations

import importlib
import sys
from functools import partial
from types import ModuleType

_MIRRORED = ("QtCore", "QtGui", "QtWidgets")


def load_charts_library() -> None:
    """Load pyqtgraph so that it asks PySide6 for a name of Qt when that is used.

    By itself it copies all of them into modules of its own. PySide6 makes a class when it is first asked for, and so would make a thousand
    that nobody uses, which is half of the time that the charts take to load.
    """
    if "pyqtgraph" in sys.modules:
        return
    originals = [importlib.import_module(f"PySide6.{name}") for name in _MIRRORED]
    for name, original in zip(_MIRRORED, originals, strict=True):
        mirror = ModuleType(f"pyqtgraph.Qt.{name}")
        mirror.__getattr__ = partial(getattr, original)  # type: ignore[method-assign]
        sys.modules[mirror.__name__] = mirror
    # what a module lists beyond what it has made
    lists = [(original, vars(original)["__dir__"]) for original in originals if "__dir__" in vars(original)]
    try:
        for original, _ in lists:
            original.__dir__ = list  # type: ignore[method-assign, assignment]
        importlib.import_module("pyqtgraph")
    finally:
        for original, usual in lists:
            original.__dir__ = usual  # type: ignore[method-assign]
