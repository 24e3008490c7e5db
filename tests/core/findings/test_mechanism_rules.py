"""Rules about spins, drives, rods, key poses on the floor and contacts; each mend removes its finding."""

import numpy as np
import pytest
from shapes import box_mesh, gear_mesh, rack_mesh, straight, tyre, wheeled

from kestrav.core.clearance.triggers import derive_contact_triggers
from kestrav.core.document import edits
from kestrav.core.document.records import (
    Axle,
    ContactTrigger,
    KeyPose,
    Part,
    Path,
    Pin,
    Placement,
    PoseTrack,
    Project,
    Rod,
    Run,
    TimedRotation,
)
from kestrav.core.editing.mechanism_making import add_gear, lengthened, set_end
from kestrav.core.editing.wheel_making import add_wheels
from kestrav.core.findings.check import check, find_all
from kestrav.core.findings.model import Evidence
from kestrav.core.kinematics.runs import frame_times
from kestrav.core.parts.solids import geometry_record

UP = Axle((0, 0, 0), (0, 0, 1))


def found(made, meshes, rule):
    return [f for f in find_all(Evidence(made, meshes, frame_times(made))) if f.rule == rule]


def mended(made, meshes, fault):
    return derive_contact_triggers(fault.fix.edit(made), meshes)


def scene(**shapes):
    parts = tuple(Part(name, name, placement=Placement(at), geometry=m.hash) for name, (m, at) in shapes.items())
    meshes = {m.hash: m for m, _ in shapes.values()}
    return Project(parts=parts, geometry=tuple(geometry_record(m) for m in meshes.values())), meshes


def gears(apart=57.0):
    made, meshes = scene(one=(gear_mesh(17, 2.0, 0.1), (0, 0, 0)), two=(gear_mesh(40, 2.0, 0.33), (apart, 0, 0)))
    made = edits.add(made, TimedRotation("rotation-1", "One spins", "one", UP, end=2.0, turns=1.0, rpm=None))
    return add_gear(made, meshes, "one", "two", "external"), meshes


def test_sound_gears_are_not_spoken_of():
    made, meshes = gears()
    assert not any(
        found(made, meshes, rule) for rule in ("gear-teeth", "gear-axle-distance", "gear-wrong-sense", "gear-ratio")
    )


def test_less_than_a_tooth_is_noted():
    made, meshes = gears()
    assert not found(made, meshes, "gear-less-than-a-tooth")
    (fault,) = found(edits.update(made, "rotation-1", turns=0.03), meshes, "gear-less-than-a-tooth")
    assert fault.value == pytest.approx(0.03 * np.pi * 34, rel=1e-3)


def test_teeth_out_of_mesh_are_brought_in():
    made, meshes = gears()
    made = edits.update(made, "gear-1", phase=made.gears[0].phase + 2.0)
    (fault,) = found(made, meshes, "gear-teeth")
    assert fault.value == pytest.approx(2.0 / 9.0, abs=0.01)  # of 9 degrees a tooth
    assert not found(mended(made, meshes, fault), meshes, "gear-teeth")


def test_axles_too_far_apart_are_moved_or_the_module_is_changed():
    made, meshes = gears(58.5)
    made = edits.update(made, "gear-1", pitch=2.0)
    (fault,) = found(made, meshes, "gear-axle-distance")
    assert fault.value == pytest.approx(1.5)
    for fix in (fault.fix, *fault.also):
        assert not found(fix.edit(made), meshes, "gear-axle-distance")


def test_a_rack_beside_its_gear_gets_its_pitch_line():
    made, meshes = scene(gear=(gear_mesh(20, 2.0), (0, 0, 0)), rack=(rack_mesh(12, 2.0), (-30, -21.0, 0)))
    turn = Placement((-30, -21.0, 0), (np.sqrt(0.5), -np.sqrt(0.5), 0.0, 0.0))  # teeth to +y
    made = edits.update(made, "rack", placement=turn)
    made = edits.add(made, TimedRotation("rotation-1", "Spins", "gear", UP, end=2.0, turns=0.2, rpm=None))
    made = add_gear(made, meshes, "gear", "rack", "rack")
    made = set_end(made, meshes, "gear-1", "b", axle=Axle((0, 0, 0), (1, 0, 0)))
    (fault,) = found(made, meshes, "gear-axle-distance")
    assert fault.value == pytest.approx(1.0)
    for fix in (fault.fix, *fault.also):
        assert not found(fix.edit(made), meshes, "gear-axle-distance")


@pytest.mark.parametrize(("turns", "rule"), [(1.0, "gear-wrong-sense"), (-0.5, "gear-ratio"), (-17 / 40, None)])
def test_ends_that_both_turn_must_turn_as_their_teeth_say(turns, rule):
    made, meshes = gears()
    made = edits.add(made, TimedRotation("rotation-2", "Two spins", "two", UP, end=2.0, turns=turns, rpm=None))
    for name in ("gear-wrong-sense", "gear-ratio"):
        faults = found(made, meshes, name)
        assert bool(faults) == (name == rule)
        if faults:
            assert not found(mended(made, meshes, faults[0]), meshes, name)


def test_ends_and_spins_beside_their_cylinder_are_told():
    made, meshes = scene(drum=(tyre(), (0, 0, 0)), other=(tyre(), (0, 0, 200)))
    off = Axle((5, 0, 2), (0, 1, 0))
    made = edits.add(made, TimedRotation("rotation-1", "Drum spins", "drum", off, end=2.0, turns=1.0, rpm=None))
    faults = found(made, meshes, "rotation-off-axle")
    assert len(faults) == 1 and faults[0].value == pytest.approx(2.0)
    assert not found(mended(made, meshes, faults[0]), meshes, "rotation-off-axle")
    driven = add_gear(made, meshes, "drum", "other", "belt")
    faults = [f for f in found(driven, meshes, "gear-off-axle") if f.subject[0] == "gear-1"]
    assert len(faults) == 1 and not [
        f for f in found(faults[0].fix.edit(driven), meshes, "gear-off-axle") if f.subject[0] == "gear-1"
    ]


@pytest.mark.parametrize(
    ("turns", "rule"), [(-3.0, "rotation-wrong-sense"), (5.0, "rotation-slip"), (1000 / (2 * np.pi * 50), None)]
)
def test_a_wheel_that_only_spins_must_turn_as_it_rolls(turns, rule):
    project, meshes = wheeled()
    axle = add_wheels(project, meshes, ["part-3"]).wheels[0].axle
    made = edits.add(
        project, TimedRotation("rotation-1", "Wheel spins", "part-3", axle, end=4.0, turns=turns, rpm=None)
    )
    for name in ("rotation-wrong-sense", "rotation-slip"):
        faults = found(made, meshes, name)
        assert bool(faults) == (name == rule)
        if faults:
            made = mended(made, meshes, faults[0])
            assert made.wheels and not made.rotations and not found(made, meshes, name)


def rods(**fields):
    made = Project(
        parts=(Part("crank", "Crank"), Part("rod", "Rod"), Part("post", "Post", placement=Placement((200, 0, 0))))
    )
    made = edits.add(made, TimedRotation("rotation-1", "Turns", "crank", UP, end=2.0, turns=1.0, rpm=None))
    return edits.add(made, Rod("rod-1", "Rod", "rod", Pin("crank", (40, 0, 0)), to=Pin("post"), **fields))


def test_a_rod_of_changing_length_is_told():
    (fault,) = found(rods(keeps="points", far=(160, 0, 0)), {}, "rod-length")
    assert fault.value == pytest.approx(80.0, abs=0.01) and fault.fix is None
    # pins that stay apart, and a rod of another length
    made = edits.update(rods(keeps="points", far=(160, 0, 0)), "rod-1", crank=Pin("crank", (0, 0, 0)))
    (fault,) = found(made, {}, "rod-length")
    assert not found(mended(made, {}, fault), {}, "rod-length")


@pytest.mark.parametrize("keeps", ["slider", "rocker"])
def test_a_mechanism_that_cannot_reach_is_made_long_enough(keeps):
    made = rods(keeps=keeps, far=(160, 0, 0), axle=Axle((60, 0, 0), (0, 0, 1)))
    assert not found(made, {}, "out-of-reach") or keeps == "rocker"
    made = lengthened(made, "rod-1", 30.0)
    (fault,) = found(made, {}, "out-of-reach")
    assert fault.value > 5
    if fault.fix is not None:
        assert not found(mended(made, {}, fault), {}, "out-of-reach")
    else:
        assert keeps == "rocker"


def test_what_digs_in_between_its_keys_is_kept_on_the_surface():
    made, meshes = scene(box=(box_mesh(60, 60, 200), (300, 0, 100)))
    half = np.sqrt(0.5)
    keys = (KeyPose(0.0, Placement((300, 0, 100))), KeyPose(1.0, Placement((400, 0, 30), (half, 0, half, 0))))
    made = edits.add(made, PoseTrack("pose-track-1", "Falls", "box", keys))
    (fault,) = found(made, meshes, "digging")
    assert fault.value > 5 and "between keys" in fault.detail
    assert not found(mended(made, meshes, fault), meshes, "digging")


def gate(**fields):
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 100)), gate=(box_mesh(10, 400, 200), (300, 0, 100)))
    line = Path("path-1", "P", straight((0, 0, 100), (600, 0, 100)))
    made = edits.add(made, line, Run("run-1", "Rams", "ram", "path-1", duration=2.0))
    keys = (KeyPose(0.0, Placement((300, 0, 100))), KeyPose(0.5, Placement((300, 0, 700))))
    made = edits.add(made, PoseTrack("pose-track-1", "Gate opens", "gate", keys, **({"start": 1.2} | fields)))
    return edits.set_contact(made, "ram", "gate", intended=True), meshes


def test_a_contact_that_starts_nothing_is_made_the_cue():
    made, meshes = gate()
    (fault,) = found(made, meshes, "not-triggered")
    assert fault.value == pytest.approx(1.2 - 275 / 300, abs=1e-3)
    made = mended(made, meshes, fault)
    assert made.pose_tracks[0].trigger.time == pytest.approx(275 / 300, abs=1e-4)
    assert not found(made, meshes, "not-triggered")
    assert not found(gate(start=3.5)[0], meshes, "not-triggered")  # that is not about it


def test_what_waits_for_a_touch_that_never_comes_is_told():
    made, meshes = gate(trigger=ContactTrigger("ram", "gate"))
    made = derive_contact_triggers(made, meshes)
    assert not found(made, meshes, "never-begins") and not found(made, meshes, "not-triggered")
    short = derive_contact_triggers(edits.update(made, "run-1", end=0.2), meshes)
    (fault,) = found(short, meshes, "never-begins")
    assert "touch of “ram” and “gate”" in fault.detail
    assert not found(mended(short, meshes, fault), meshes, "never-begins")


def test_dragged_and_floating_wheels_have_mends():
    project, meshes = wheeled()
    made = edits.update(
        add_wheels(project, meshes, ["part-3"]),
        "part-2",
        placement=Placement((300, 200, 50), (np.cos(0.3), 0, 0, np.sin(0.3))),
    )
    (fault,) = found(made, meshes, "wheel-dragged")
    assert not found(mended(made, meshes, fault), meshes, "wheel-dragged")
    floating = edits.update(
        add_wheels(project, meshes, ["part-3"]), "path-1", shape=straight((0, 0, 20), (1000, 0, 20))
    )
    (fault,) = found(floating, meshes, "wheel-off-ground")
    assert not found(mended(floating, meshes, fault), meshes, "wheel-off-ground")


def test_what_works_on_each_other_is_not_too_near():
    # teeth with backlash do not touch as they stand, but are nearer than required
    made, meshes = scene(
        one=(gear_mesh(17, 2.0, 0.1, thin=0.6), (0, 0, 0)), two=(gear_mesh(40, 2.0, 0.33, thin=0.6), (57, 0, 0))
    )
    made = edits.add(made, TimedRotation("rotation-1", "One spins", "one", UP, end=1.0, turns=0.3, rpm=None))
    assert check(made, meshes).clearance.breaches
    made = add_gear(made, meshes, "one", "two", "external")
    told = check(made, meshes).clearance
    assert not told.breaches and [(c.pair.moving, c.pair.other) for c in told.contacts] == [("one", "two")]
    told = check(edits.set_contact(made, "one", "two", intended=False), meshes).clearance
    assert told.breaches  # unless it is to be checked after all
