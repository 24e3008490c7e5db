"""Taking assemblies apart in order."""

import numpy as np
import pytest
from shapes import box_mesh

from kestrav.core.clearance.certificate import certify
from kestrav.core.document import edits
from kestrav.core.document.records import Part, Placement, Project, Settings
from kestrav.core.errors import BadInput
from kestrav.core.extraction.taking_apart import add_sequence, blocking, exploded, order_of
from kestrav.core.motion.resting import rest_and_pivot
from kestrav.core.motion.runs import journey
from kestrav.core.motion.solids import geometry_record
from kestrav.core.motion.timing import reversed_in_time


@pytest.fixture
def cupboard():
    """A box closed by a panel in front, in it a motor behind a cassette."""
    sizes = {
        "left": ((10, 300, 200), (-105, 0, 0)),
        "right": ((10, 300, 200), (105, 0, 0)),
        "floor": ((200, 300, 10), (0, 0, -105)),
        "roof": ((200, 300, 10), (0, 0, 105)),
        "back": ((220, 10, 220), (0, 155, 0)),
        "panel": ((220, 10, 220), (0, -158, 0)),
        "cassette": ((180, 100, 180), (0, -80, 0)),
        "motor": ((120, 100, 120), (0, 60, 0)),
    }
    meshes, parts = {}, [Part("all", "Cupboard")]
    for name, (size, at) in sizes.items():
        shape = box_mesh(*size)
        meshes[shape.hash] = shape
        parts.append(Part(name, name, "all", Placement(at), geometry=shape.hash))
    made = Project(
        parts=tuple(parts),
        geometry=tuple(geometry_record(m) for m in meshes.values()),
        settings=Settings(required_clearance=2.0),
    )
    return made, meshes


def test_panel_cassette_motor(cupboard):
    made, meshes = cupboard
    order = order_of(made, meshes, ["motor", "cassette", "panel"])
    assert [r.thing for r in order.removals] == ["panel", "cassette", "motor"] and not order.left
    assert order.removals[1].direction == order.removals[2].direction == (0, -1, 0)
    done = add_sequence(made, order)
    trips = [journey(done, run) for run in done.runs]
    assert [t.start for t in trips[1:]] == pytest.approx([t.end for t in trips[:-1]])
    assert certify(done, meshes).standing == "certified"
    back = reversed_in_time(done, [run.id for run in done.runs])
    assert journey(back, back.runs[2]).start == pytest.approx(0.0)  # the motor goes in first
    assert certify(back, meshes).standing == "certified"


def test_what_blocks_what(cupboard):
    made, meshes = cupboard
    graph = blocking(made, meshes, ["motor", "cassette", "panel"])
    assert graph["motor"][(0, -1, 0)] == ("cassette", "panel")
    assert graph["cassette"][(0, -1, 0)] == ("panel",)
    assert graph["cassette"][(0, 1, 0)] == ("motor", "back")
    assert graph["panel"][(0, -1, 0)] == ()


def test_what_does_not_come_out_names_what_holds_it(cupboard):
    made, meshes = cupboard
    order = order_of(made, meshes, ["motor", "cassette"])
    assert not order.removals and set(order.left) == {"motor", "cassette"}
    assert all(len(blockers) >= 1 for blockers in order.blockers.values())
    with pytest.raises(BadInput, match="choose 1 to"):
        order_of(made, meshes, [])


def test_things_are_moved_apart(cupboard):
    made, meshes = cupboard
    order = order_of(made, meshes, ["motor", "cassette", "panel"])
    apart = exploded(made, order, 1.5)
    y = {i: rest_and_pivot(apart, i)[0][1, 3] for i in ("panel", "cassette", "motor")}
    assert y["panel"] < -158 and y["cassette"] < -80 and y["motor"] < 60
    assert np.allclose(rest_and_pivot(apart, "back")[0], rest_and_pivot(made, "back")[0])
    with pytest.raises(BadInput, match="spread"):
        exploded(made, order, 0.0)
    assert edits.remove(apart, "motor")
