"""What a project's frames are, and how many are looked at."""

import numpy as np
import pytest
from shapes import straight

from kestrav.core.document import edits
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.runs import frame_times, shown_times


def test_frames_that_are_too_many_to_look_at_are_told_before_it_begins(passing):
    long = edits.settings(edits.update(passing.project, "run-1", duration=36_000.0), fps=1000.0)
    with pytest.raises(
        BadInput, match=r"36,000,001 frames \(36,000 s at 1000 fps\) are too many .* 100,000 being the most"
    ):
        frame_times(long)
    # a part of it can be looked at, and curves are drawn of all of it
    assert frame_times(long, (10.0, 10.01)) == pytest.approx(np.arange(10_000, 10_011) / 1000.0)
    assert len(shown_times(long)) == 20_000 and shown_times(long)[-1] == 36_000.0
    assert len(shown_times(passing.project)) == len(frame_times(passing.project))


def test_numbers_beyond_anything_built_are_refused(passing):
    with pytest.raises(BadInput, match=r"“.*” holds the number 1e\+100; 1e\+09 is the most"):
        edits.update(passing.project, "path-1", shape=straight((0, 0, 0), (1e100, 0, 0)))
    with pytest.raises(BadInput, match=r"holds the number 1e\+13; 1e\+12 is the most"):
        edits.update(passing.project, "run-1", blend=1e13)
