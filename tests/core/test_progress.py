"""How far work is, told as shares of the whole."""

import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.errors import Cancelled
from kestrav.core.findings.check import certified, check
from kestrav.core.progress import one_by_one, portion


def test_portions_are_told_as_shares_of_the_whole():
    told = []
    assert list(one_by_one("abcd", portion(told.append, 0.5, 0.9))) == list("abcd")
    assert told == pytest.approx([0.5, 0.6, 0.7, 0.8, 0.9])
    assert list(one_by_one([], portion(None, 0.0, 1.0))) == []


def test_who_is_told_may_stop_the_work():
    def stop(_):
        raise Cancelled

    with pytest.raises(Cancelled):
        list(one_by_one([1, 2], portion(stop, 0.0, 1.0)))


def test_a_check_goes_on_from_nothing_to_its_end_and_never_back():
    # a box that slides on a plate, in contact with it, and goes through a post
    opened = make_project(
        {
            "Box": (box_mesh(20, 20, 20), (-100.0, 0.0, 10.0)),
            "Plate": (box_mesh(400, 200, 10), (0.0, 0.0, -5.0)),
            "Post": (box_mesh(10, 10, 100), (0.0, 12.0, 50.0)),
        },
        straight((-100, 0, 10), (100, 0, 10)),
        duration=2.0,
    )
    told = []
    result = check(opened.project, opened.meshes, told.append)
    assert told[0] == 0.0 and told[-1] == 1.0 and told == sorted(told)
    assert len(set(told)) > 20
    told.clear()
    certified(opened.project, opened.meshes, result, told.append)
    assert told[-1] == 1.0 and told == sorted(told)
