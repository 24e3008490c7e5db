"""Things of a kind by their id."""

import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document.lookup import get_as
from kestrav.core.document.records import Part, Path, Run
from kestrav.core.errors import BadInput


def test_a_thing_is_had_as_what_it_is_and_refused_as_another():
    project = make_project({"Cart": (box_mesh(1, 1, 1), (0, 0, 0))}, straight((0, 0, 0), (9, 0, 0))).project
    assert get_as(project, "run-1", Run).rider == "part-1" and get_as(project, "part-1", Part).name == "Cart"
    with pytest.raises(BadInput, match="“Cart” is a part, not a path"):
        get_as(project, "part-1", Path)
    with pytest.raises(BadInput, match="nothing with the id “part-9”"):
        get_as(project, "part-9", Part)
