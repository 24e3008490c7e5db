"""Taking assemblies apart in order."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh

from kestrav.core.clearance.certificate import certify
from kestrav.core.document import edits
from kestrav.core.document.records import Part, Placement, Project, Settings
from kestrav.core.editing.timing import reversed_in_time
from kestrav.core.errors import BadInput, Cancelled
from kestrav.core.extraction.disassembly import (
    add_sequence,
    blocking,
    exploded,
    in_one_step,
    in_own_steps,
    order_of,
    parts_of,
)
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.runs import course_of
from kestrav.core.parts.rest import rest_and_pivot
from kestrav.core.parts.solids import geometry_record


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
    courses = [course_of(done, run) for run in done.runs]
    assert [t.start for t in courses[1:]] == pytest.approx([t.end for t in courses[:-1]])
    assert certify(done, meshes).status == "certified"
    back = reversed_in_time(done, [run.id for run in done.runs])
    assert course_of(back, back.runs[2]).start == pytest.approx(0.0)  # the motor goes in first
    assert certify(back, meshes).status == "certified"


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


def placed(**shapes):
    """Parts of their own meshes as they stand, under one assembly."""
    meshes = {shape.hash: shape for shape in shapes.values()}
    parts = [Part("all", "Product"), *(Part(name, name, "all", geometry=shape.hash) for name, shape in shapes.items())]
    made = Project(
        parts=tuple(parts),
        geometry=tuple(geometry_record(m) for m in meshes.values()),
        settings=Settings(required_clearance=0.2),
    )
    return made, meshes


def solid(*made, without=()):
    whole = trimesh.boolean.union(list(made)) if len(made) > 1 else made[0]
    whole = trimesh.boolean.difference([whole, *without]) if without else whole
    return mesh(whole.vertices, whole.faces)


def rod(x, y, low, high, radius):
    return trimesh.creation.cylinder(radius, segment=[(x, y, low), (x, y, high)], sections=24)


def block(low, high):
    made = trimesh.creation.box(np.subtract(high, low))
    made.apply_translation(0.5 * np.add(low, high))
    return made


@pytest.fixture(scope="module")
def gearbox():
    """A base with a pin that fills its bore, under a lid with four screws that cut 0.2 mm into their threads."""
    places = [(x, y) for x in (-30, 30) for y in (-20, 20)]
    shapes = {
        "base": solid(
            block((-40, -30, 0), (40, 30, 40)),
            without=[rod(0, 0, 10, 50, 8), *(rod(x, y, 10, 50, 2.3) for x, y in places)],
        ),
        "pin": solid(rod(0, 0, 10, 40, 8)),
        "lid": solid(block((-40, -30, 40), (40, 30, 46)), without=[rod(x, y, 30, 60, 3) for x, y in places]),
    }
    for number, (x, y) in enumerate(places):
        shapes[f"screw {number}"] = solid(rod(x, y, 16, 46, 2.5), rod(x, y, 46, 50, 4.5))
    return placed(**shapes)


def test_a_whole_product_gives_its_screws_first_in_one_step_and_the_base_stays(gearbox):
    made, meshes = gearbox
    said = []
    order = order_of(made, meshes, parts_of(made, ["all"]), tick=lambda share, text: said.append((share, text)))
    names = [r.thing for r in order.removals]
    assert sorted(names[:4]) == [f"screw {k}" for k in range(4)] and names[4:] == ["lid", "pin"]
    assert order.stays == "base" and not order.left and not order.stopped
    assert all(r.fastener for r in order.removals[:4]) and not any(r.fastener for r in order.removals[4:])
    assert [r.step for r in order.removals] == [1, 1, 1, 1, 2, 3]
    assert all(r.direction == pytest.approx((0, 0, 1), abs=1e-6) for r in order.removals)
    assert said[-1][0] == pytest.approx(6 / 7, abs=0.2) and any("of 7 out, last screw" in text for _, text in said)
    done = add_sequence(made, order)
    courses = [course_of(done, run) for run in done.runs]
    # the screws at once, then the lid, then the pin
    assert [t.start for t in courses[:4]] == pytest.approx([courses[0].start] * 4)
    assert courses[4].start == pytest.approx(max(t.end for t in courses[:4]))
    assert certify(done, meshes).status == "certified"
    together = add_sequence(made, order, speed=100.0, together=True)
    back = [course_of(together, run) for run in together.runs]
    assert back[5].start == pytest.approx(0.0) and min(t.start for t in back[:4]) >= back[4].end - 1e-6
    assert {run.speed for run in together.runs} == {100.0}


def test_steps_are_made_one_and_parted_again(gearbox):
    made, meshes = gearbox
    order = order_of(made, meshes, parts_of(made, ["all"]))
    one = in_one_step(order, [3, 5])
    assert [r.step for r in one.removals] == [1, 1, 1, 2, 2, 2]
    own = in_own_steps(one, [4])
    assert [r.step for r in own.removals] == [1, 1, 1, 2, 3, 4]


def test_a_search_that_is_stopped_keeps_what_it_has_found(gearbox):
    made, meshes = gearbox

    def stop(share, _text):
        if share > 0.5:
            raise Cancelled

    order = order_of(made, meshes, parts_of(made, ["all"]), tick=stop)
    assert order.stopped and len(order.removals) >= 4 and order.left

    def at_once(_share, _text):
        raise Cancelled

    with pytest.raises(Cancelled):
        order_of(made, meshes, parts_of(made, ["all"]), tick=at_once)


def test_two_that_hold_each_other_come_out_together_and_then_apart():
    # a bar and its key, each of which stands in a notch of the other, in a channel that is open at its end
    channel = solid(block((0, 0, 0), (200, 60, 60)), without=[block((-10, 10, 10), (160, 50, 50))])
    upper = solid(block((20, 11, 31), (120, 49, 49)), block((60, 11, 22), (70, 49, 32)))
    lower = solid(block((20, 11, 11), (120, 49, 30)), without=[block((59, 0, 21), (71, 60, 31))])
    weight = solid(block((240, 0, 0), (260, 60, 60)))
    made, meshes = placed(channel=channel, upper=upper, lower=lower, weight=weight)
    order = order_of(made, meshes, ["upper", "lower", "weight"])
    pair = next(r for r in order.removals if r.companions)
    assert set(pair.things) == {"upper", "lower"} and pair.direction == (-1, 0, 0)
    done = add_sequence(made, order)
    run = next(run for run in done.runs if run.companions)
    assert {run.rider, *run.companions} == {"upper", "lower"}
    assert certify(done, meshes).status == "certified"
