"""Libraries that are loaded when something of theirs is first asked for, so that the window and short commands do not wait for them."""

from __future__ import annotations

import importlib
from typing import Any


class _Later:
    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, attribute: str) -> Any:
        value = getattr(importlib.import_module(self._name), attribute)
        # the next time it is found without asking
        setattr(self, attribute, value)
        return value


def later(name: str) -> Any:
    """A stand-in for a module by its name: whatever is taken from it, is taken from the module, which is loaded then.

    Raises AttributeError, as it is asked, for what the module does not have.
    """
    return _Later(name)
