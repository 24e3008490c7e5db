"""Libraries that are loaded when something of theirs is asked for."""

import subprocess
import sys

import pytest

from kestrav.core.later import later

_SCRIPT = """
import sys
from kestrav.core.later import later
colours = later("colorsys")
print("colorsys" in sys.modules)
print(colours.rgb_to_hls(1.0, 1.0, 1.0)[1], "colorsys" in sys.modules)
print(colours.rgb_to_hls is sys.modules["colorsys"].rgb_to_hls)
"""


def test_a_module_is_loaded_when_something_of_it_is_asked_for():
    told = subprocess.run([sys.executable, "-c", _SCRIPT], capture_output=True, text=True, check=True).stdout
    assert told.split() == ["False", "1.0", "True", "True"]


def test_what_a_module_does_not_have_is_told_as_it_tells_it():
    with pytest.raises(AttributeError, match="colorsys"):
        _ = later("colorsys").no_such_thing
    with pytest.raises(ModuleNotFoundError):
        _ = later("no_such_module_at_all").anything
