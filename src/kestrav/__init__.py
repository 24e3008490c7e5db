"""Kestrav: exact motion, clearance and pictures for product visualization engineers.

``kestrav.open``, ``kestrav.new``, ``kestrav.info``, ``kestrav.Project`` and ``kestrav.Error`` are what scripts use; see :mod:`kestrav.scripting`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from kestrav.scripting import (
        Check as Check,
        Contents as Contents,
        Error as Error,
        Extraction as Extraction,
        Finding as Finding,
        Project as Project,
        info as info,
        new as new,
        open as open,
    )

_SCRIPTING = ("Check", "Contents", "Error", "Extraction", "Finding", "Project", "info", "new", "open")


def __getattr__(name: str) -> Any:
    # the window and the command line must not wait for what scripts need
    if name in _SCRIPTING:
        from kestrav import scripting

        return getattr(scripting, name)
    raise AttributeError(f"module “kestrav” has no “{name}”")


def __dir__() -> list[str]:
    return sorted([*globals(), *_SCRIPTING])
