"""Gears, racks, sprockets and pulleys."""

import coal
import numpy as np
import pytest
from shapes import gear_mesh, rack_mesh

from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import (
    Axle,
    End,
    Gear,
    Part,
    Path,
    PathPoint,
    Placement,
    PointShape,
    Project,
    Run,
    TimedRotation,
    Wheel,
)
from kestrav.core.document.trains import driven
from kestrav.core.editing.mechanism_making import add_gear, centre_distance, into_mesh, length_of_chain, set_end
from kestrav.core.errors import BadInput
from kestrav.core.geometry.models import model, placed
from kestrav.core.kinematics.motion import Motion
from kestrav.core.mechanisms.gears import MODULES, mesh_error, pitch_radius, ratio
from kestrav.core.parts.rest import rest_and_pivot
from kestrav.core.parts.solids import geometry_record

UP = Axle((0, 0, 0), (0, 0, 1))
TIMES = np.linspace(0.0, 4.0, 41)


def parts_of(shapes):
    """A project of solids at places, and its meshes."""
    meshes = {shape.hash: shape for shape, _ in shapes}
    parts = tuple(
        Part(f"part-{k}", f"Part {k}", placement=Placement(place), geometry=shape.hash)
        for k, (shape, place) in enumerate(shapes, 1)
    )
    return Project(parts=parts, geometry=tuple(geometry_record(m) for m in meshes.values())), meshes


def spun_at(made, number=1, turns=2.0):
    return edits.add(
        made, TimedRotation(f"rotation-{number}", "Spins", f"part-{number}", UP, end=4.0, turns=turns, rpm=None)
    )


def error(made, gear_id, times=TIMES):
    gear, motion = get(made, gear_id), Motion(made)
    turned = [motion.turned(end.part, end.axle.direction, times) for end in (gear.a, gear.b)]
    return mesh_error(gear, motion.stands(gear, times), *turned)


def pair(one=17, two=40, module=2.0, at=0.4, thin=1.0):
    """Two gears in mesh's distance, teeth anyhow."""
    apart = 0.5 * module * (one + two)
    place = (apart * np.cos(at), apart * np.sin(at), 0.0)
    return parts_of(
        [(gear_mesh(one, module, 0.1, thin=thin), (0, 0, 0)), (gear_mesh(two, module, 0.33, thin=thin), place)]
    )


def test_gears_read_from_their_solids_turn_by_their_teeth_and_mesh():
    made, meshes = pair()
    made = add_gear(spun_at(made), meshes, "part-1", "part-2", "external")
    gear = made.gears[0]
    assert (gear.a.teeth, gear.b.teeth, gear.pitch) == (17, 40, 2.0)
    assert gear.a.toothed and gear.b.toothed
    # ISO 54: the pitch diameter is module times teeth, and half of both is how far the axles are apart
    assert 2 * pitch_radius(gear, gear.a) == 34.0 and centre_distance(made, gear) == pytest.approx(57.0)
    turned = Motion(made).turned("part-2", (0, 0, 1), TIMES)
    assert np.diff(turned[[0, -1]])[0] == pytest.approx(-2 * 17 / 40 * 2 * np.pi)
    assert np.abs(error(made, gear.id)).max() < 5e-3
    # brought into mesh by the least turn
    assert abs(gear.phase) <= 180 / 40 + 1e-9


def test_teeth_in_mesh_do_not_cut_each_other():
    made, meshes = pair(14, 21, 3.0, 1.1, thin=0.55)
    made = add_gear(spun_at(made, turns=0.31), meshes, "part-1", "part-2", "external")
    solids = [model(meshes[p.geometry]) for p in made.parts]

    def cut(project, time):
        poses = [Motion(project).poses(p.id, [time])[0] for p in project.parts]
        return coal.collide(
            solids[0], placed(poses[0]), solids[1], placed(poses[1]), coal.CollisionRequest(), coal.CollisionResult()
        )

    apart = edits.update(made, "gear-1", phase=made.gears[0].phase + 180 / 21)
    assert not any(cut(made, t) for t in TIMES) and cut(apart, 0.0)


def test_a_gear_in_a_ring_turns_the_same_way():
    apart = 0.5 * 2.0 * (60 - 20)
    made, meshes = parts_of(
        [(gear_mesh(20, 2.0, 0.07), (apart, 0, 0)), (gear_mesh(60, 2.0, 0.02, ring=True), (0, 0, 0))]
    )
    made = add_gear(spun_at(made, turns=3.0), meshes, "part-1", "part-2", "internal")
    assert (made.gears[0].a.teeth, made.gears[0].b.teeth, made.gears[0].pitch) == (20, 60, 2.0)
    turned = Motion(made).turned("part-2", (0, 0, 1), TIMES)
    assert turned[-1] - turned[0] == pytest.approx(3.0 / 3 * 2 * np.pi)
    assert np.abs(error(made, "gear-1")).max() < 5e-3


def test_either_end_drives_the_other():
    made, meshes = pair()
    first = add_gear(spun_at(made, 1), meshes, "part-1", "part-2", "external")
    second = edits.remove(spun_at(first, 2, turns=-2 * 17 / 40), "rotation-1")
    assert driven(first) == {"gear-1": "b"} and driven(second) == {"gear-1": "a"}
    turned = Motion(second).turned("part-1", (0, 0, 1), TIMES)
    assert turned[-1] - turned[0] == pytest.approx(4 * np.pi)
    assert np.abs(error(second, "gear-1")).max() < 5e-3


def test_a_train_multiplies_its_ratios():
    # two stages on one shaft: 20 to 60, then 15 to 45 on the same part
    made = Project(parts=tuple(Part(f"part-{k}", f"Part {k}", placement=Placement((k * 100, 0, 0))) for k in (1, 2, 3)))
    made = edits.add(
        spun_at(made, turns=9.0),
        Gear("gear-1", "One", End("part-1", UP, 20), End("part-2", UP, 60)),
        Gear("gear-2", "Two", End("part-2", UP, 15), End("part-3", UP, 45)),
    )
    turned = Motion(made).turned("part-3", (0, 0, 1), TIMES)
    assert turned[-1] / (2 * np.pi) == pytest.approx(1.0)


def test_an_axle_the_other_way_about_is_told():
    down = Axle((0, 0, 0), (0, 0, -1))
    made = Project(parts=(Part("part-1", "A"), Part("part-2", "B", placement=Placement((30, 0, 0)))))
    made = edits.add(spun_at(made), Gear("gear-1", "D", End("part-1", UP, 20), End("part-2", down, 10)))
    pose = Motion(made).poses("part-2", [0.25])[0]
    # a quarter of a second is an eighth of a turn of the first, a quarter of the second the other way about
    assert np.degrees(np.arctan2(pose[1, 0], pose[0, 0])) == pytest.approx(-90.0)


def test_a_rack_goes_as_far_as_its_gear_rolls_and_drives_it_too():
    made, meshes = parts_of([(gear_mesh(20, 2.0, 0.2), (0, 0, 20.0)), (rack_mesh(30, 2.0, 0.9), (-90, 0, 0))])
    turn = Placement((0, 0, 20.0), (np.cos(np.pi / 4), np.sin(np.pi / 4), 0.0, 0.0))  # its axle along -y
    made = edits.update(made, "part-1", placement=turn)
    made = add_gear(spun_at(made, turns=0.75), meshes, "part-1", "part-2", "rack")
    gear = made.gears[0]
    assert gear.a.teeth == 20 and gear.pitch == 2.0 and gear.b.toothed
    made = set_end(made, meshes, gear.id, "b", axle=Axle((0, 0, 0), (1, 0, 0)))  # its pitch line
    assert centre_distance(made, made.gears[0]) == pytest.approx(20.0)
    ways = Motion(made).poses("part-2", TIMES)[:, 0, 3]
    assert abs(ways[-1] - ways[0]) == pytest.approx(0.75 * np.pi * 40)  # π · d for each turn
    assert np.abs(error(made, gear.id)).max() < 5e-3
    # the axle points to -y: by the right hand what is below the axle goes to -x... to where its teeth go
    rotation = Motion(made).poses("part-1", [0.0, 0.1])
    below = [m[:3, :3] @ (rotation[0][:3, :3].T @ np.array([0, 0, -20.0])) for m in rotation]
    assert np.sign(below[1][0] - below[0][0]) == np.sign(ways[-1] - ways[0])
    # a rack that a run moves turns its gear
    line = PointShape((PathPoint((-90, 0, 0)), PathPoint((-90 + 40 * np.pi, 0, 0))))
    moved = edits.add(
        edits.remove(made, "rotation-1"), Path("path-1", "P", line), Run("run-1", "R", "part-2", "path-1", duration=4.0)
    )
    turned = Motion(moved).turned("part-1", made.gears[0].a.axle.direction, TIMES)
    assert abs(turned[-1] - turned[0]) == pytest.approx(2 * np.pi)
    assert np.abs(error(moved, gear.id)).max() < 5e-3


def test_a_gear_rolls_along_a_rack_that_stands_still():
    axle = Axle((0, 0, 0), (0, -1, 0))
    line = PointShape((PathPoint((0, 0, 0)), PathPoint((20 * np.pi, 0, 0))))
    made = Project(
        parts=(
            Part("part-1", "Carriage"),
            Part("part-2", "Gear", "part-1", Placement((0, 0, 10))),
            Part("part-3", "Rack"),
        ),
        paths=(Path("path-1", "P", line),),
    )
    made = edits.add(
        made,
        Run("run-1", "R", "part-1", "path-1", duration=4.0),
        Gear("gear-1", "D", End("part-2", axle, 10), End("part-3", Axle((0, 0, 0), (1, 0, 0))), "rack"),
    )
    assert driven(made) == {"gear-1": "a"}
    turned = Motion(made).turned("part-2", axle.direction, TIMES)
    assert abs(turned[-1]) == pytest.approx(2 * np.pi)
    # as a wheel on the same ground
    rolled = edits.add(edits.remove(made, "gear-1"), Wheel("wheel-1", "W", "part-2", axle, 10.0))
    assert turned == pytest.approx(Motion(rolled).turned("part-2", axle.direction, TIMES), abs=1e-9)


def test_a_gear_with_a_run_of_its_own_rolls_along_a_rack_that_stands():
    axle = Axle((0, 0, 0), (0, -1, 0))
    line = PointShape((PathPoint((0, 0, 10)), PathPoint((20 * np.pi, 0, 10))))
    parts = (Part("part-2", "Gear", placement=Placement((0, 0, 10))), Part("part-3", "Rack"))
    made = edits.add(
        Project(parts=parts, paths=(Path("path-1", "P", line),)),
        Run("run-1", "R", "part-2", "path-1", duration=4.0),
        Gear("gear-1", "D", End("part-2", axle, 10), End("part-3", Axle((0, 0, 0), (1, 0, 0))), "rack"),
    )
    assert driven(made) == {"gear-1": "a"}
    motion = Motion(made)
    assert abs(motion.turned("part-2", axle.direction, TIMES)[-1]) == pytest.approx(2 * np.pi)
    # the rack stays, and the gear's touching point does not slide on it
    assert motion.poses("part-3", TIMES) == pytest.approx(np.broadcast_to(np.eye(4), (len(TIMES), 4, 4)))
    rolled = edits.add(edits.remove(made, "gear-1"), Wheel("wheel-1", "W", "part-2", axle, 10.0))
    assert motion.poses("part-2", TIMES) == pytest.approx(Motion(rolled).poses("part-2", TIMES), abs=1e-9)
    # a rack that has a run itself turns a gear that stands
    pushed = edits.update(made, "run-1", rider="part-3")
    assert driven(pushed) == {"gear-1": "a"}


def test_a_planet_turns_by_willis():
    # sun 20 stands, planet 30 runs around it on an arm that turns once: 1 + 20/30 turns in space (R. Willis, 1841)
    made = Project(
        parts=(
            Part("part-1", "Arm"),
            Part("part-2", "Planet", "part-1", Placement((50, 0, 0))),
            Part("part-3", "Sun"),
        )
    )
    made = edits.add(
        made,
        TimedRotation("rotation-1", "Arm turns", "part-1", UP, end=4.0, turns=1.0, rpm=None),
        Gear("gear-1", "D", End("part-3", UP, 20), End("part-2", UP, 30)),
    )
    own = Motion(made).turned("part-2", (0, 0, 1), TIMES)  # in the arm
    assert own[-1] / (2 * np.pi) == pytest.approx(20 / 30)
    # the ring of an epicyclic train: planets of 20 about a sun of 20 in a ring of 60 that stands
    ring = edits.replace(made, Gear("gear-1", "D", End("part-3", UP, 60), End("part-2", UP, 20), "internal"))
    own = Motion(ring).turned("part-2", (0, 0, 1), TIMES)
    assert own[-1] / (2 * np.pi) == pytest.approx(-60 / 20)


def test_sprockets_and_pulleys():
    # ISO 606: d = p / sin(180° / z); a 08B sprocket (p = 12.7) of 25 teeth has 101.33 mm (handbook table, from memory)
    ends = End("part-1", UP, 25), End("part-2", UP, 50)
    chain = Gear("gear-1", "Chain", *ends, "chain", 12.7)
    assert 2 * pitch_radius(chain, chain.a) == pytest.approx(101.33, abs=0.01)
    made = Project(parts=(Part("part-1", "A"), Part("part-2", "B", placement=Placement((400, 0, 0)))))
    made = edits.add(spun_at(made), chain)
    assert Motion(made).turned("part-2", (0, 0, 1), TIMES)[-1] == pytest.approx(2 * np.pi)
    belt = Gear("gear-1", "Belt", End("part-1", UP, radius=50), End("part-2", UP, radius=50), "belt")
    open_, crossed = edits.replace(made, belt), edits.replace(made, edits.change(belt, crossed=True))
    assert ratio(belt) == 1.0
    assert Motion(open_).turned("part-2", (0, 0, 1), TIMES)[-1] == pytest.approx(4 * np.pi)
    assert Motion(crossed).turned("part-2", (0, 0, 1), TIMES)[-1] == pytest.approx(-4 * np.pi)
    # a belt about equal pulleys is twice the distance and once around
    assert length_of_chain(open_, belt) == pytest.approx(2 * 400 + 2 * np.pi * 50)
    assert length_of_chain(crossed, edits.change(belt, crossed=True)) > length_of_chain(open_, belt)


def test_a_chain_lies_in_the_gaps_of_both_sprockets():
    made, meshes = parts_of([(gear_mesh(19, 4.0, 0.11), (0, 0, 0)), (gear_mesh(38, 4.0, 0.02), (350.3, 20, 0))])
    made = add_gear(spun_at(made), meshes, "part-1", "part-2", "chain")
    assert made.gears[0].a.toothed and np.abs(error(made, "gear-1")).max() < 1e-6
    out = edits.update(made, "gear-1", phase=made.gears[0].phase + 360 / 38 / 4)
    assert np.abs(error(out, "gear-1")) == pytest.approx(0.25, abs=1e-6)
    assert np.abs(error(into_mesh(out, meshes, "gear-1"), "gear-1")).max() < 1e-6


def test_modules_are_those_of_iso_54():
    assert {1.0, 1.25, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0} <= set(MODULES)


@pytest.mark.parametrize(
    ("gear", "complaint"),
    [
        (Gear("d", "D", End("part-1", UP, 20), End("part-1", UP, 20)), "same part"),
        (Gear("d", "D", End("part-1", UP, 2), End("part-2", UP, 20)), "3 or more"),
        (Gear("d", "D", End("part-1", UP, 20), End("part-2", UP, 20), pitch=0.0), "module"),
        (Gear("d", "D", End("part-1", UP, 20), End("part-2", UP, 20), "internal"), "a ring has more"),
        (Gear("d", "D", End("part-1", UP, 20), End("part-9", UP, 20)), "does not hold"),
        (Gear("d", "D", End("part-1", Axle((0, 0, 0), (0, 0, 0)), 20), End("part-2", UP, 20)), "without direction"),
        (Gear("d", "D", End("part-1", UP), End("part-2", UP), "belt"), "radius of a pulley"),
        (Gear("d", "D", End("part-1", UP, 20), End("part-2", UP, 20), crossed=True), "only belts"),
    ],
)
def test_drives_that_cannot_be_are_refused(gear, complaint):
    made = Project(parts=(Part("part-1", "A"), Part("part-2", "B", placement=Placement((30, 0, 0)))))
    with pytest.raises(BadInput, match=complaint):
        edits.add(made, gear)


def test_a_ring_of_drives_is_refused():
    made = Project(parts=tuple(Part(f"part-{k}", f"Gear {k}", placement=Placement((k * 40, 0, 0))) for k in (1, 2, 3)))
    gears = [
        Gear(f"gear-{k}", f"D{k}", End(f"part-{a}", UP, 20), End(f"part-{b}", UP, 20))
        for k, (a, b) in enumerate([(1, 2), (2, 3), (3, 1)], 1)
    ]
    with pytest.raises(BadInput, match="would drive itself"):
        edits.add(made, *gears)


def test_a_drive_goes_with_its_parts():
    made, meshes = pair()
    made = add_gear(spun_at(made), meshes, "part-1", "part-2", "external")
    assert edits.remove(made, "part-2").gears == ()
    assert np.allclose(rest_and_pivot(made, "part-1")[0][:3, :3], np.eye(3))
    with pytest.raises(BadInput, match="two parts"):
        add_gear(made, meshes, "part-1", "part-1", "external")
