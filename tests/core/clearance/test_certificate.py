"""The certificate: what it says holds, and where it says nothing."""

import numpy as np
import pytest
import trimesh
from hypothesis import HealthCheck, given, settings, strategies as st
from shapes import box_mesh, straight

from kestrav.core.clearance import certificate
from kestrav.core.clearance.certificate import certify
from kestrav.core.clearance.sweep import sweep
from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Axle,
    Eased,
    FixedOrientation,
    Part,
    Path,
    Placement,
    Project,
    Run,
    Settings,
    TimedRotation,
)
from kestrav.core.geometry.meshes import mesh
from kestrav.core.geometry.models import model, nearest, placed
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import frame_times
from kestrav.core.parts.solids import geometry_record

UP = Axle((0, 0, 0), (0, 0, 1))


def scene(required=5.0, **shapes):
    parts = tuple(Part(name, name, placement=Placement(at), geometry=m.hash) for name, (m, at) in shapes.items())
    meshes = {m.hash: m for m, _ in shapes.values()}
    made = Project(
        parts=parts,
        geometry=tuple(geometry_record(m) for m in meshes.values()),
        settings=Settings(required_clearance=required),
    )
    return made, meshes


def goes(made, thing, *points, kind="corner", **fields):
    path = Path("path-1", "Path", straight(*points, kind=kind))
    return edits.add(made, path, Run("run-1", "Run", thing, "path-1", **({"duration": 2.0} | fields)))


def truth(made, meshes, pair, times):
    """Distances of a pair at very many times."""
    rows = {p.id: i for i, p in enumerate(made.parts)}
    poses = world_poses(made, times)
    one, two = (model(meshes[made.parts[rows[i]].geometry]) for i in pair)
    return np.array([
        nearest(one, placed(p[rows[pair[0]]]), two, placed(p[rows[pair[1]]])).distance for p in poses
    ])  # fmt: skip


def test_what_passes_far_enough_is_certified():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), post=(box_mesh(10, 10, 400), (300, 30.5, 0)))
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0), speed_profile=Eased(100, 100))
    told = certify(made, meshes)
    assert told.status == "certified" and not told.stretches
    assert 5.0 <= told.at_least <= 5.5 + 1e-9  # it passes at 30.5 - 5 - 20 mm


def test_a_breach_is_told_with_its_span_and_least():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), post=(box_mesh(10, 10, 400), (300, 27.0, 0)))
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0))
    told = certify(made, meshes)
    (breach,) = told.stretches
    assert told.status == breach.status == "breached" and breach.least == pytest.approx(2.0)
    # it is nearer than 5 mm from where their corners are: 2 mm beside, so sqrt(21) before and after the faces
    edge = np.sqrt(5.0**2 - 2.0**2)
    assert breach.start == pytest.approx((300 - 25 - edge) / 300, abs=2e-4)
    assert breach.end == pytest.approx((300 + 25 + edge) / 300, abs=2e-4)


def test_a_thin_blade_passed_between_two_frames_is_caught():
    made, meshes = scene(shot=(box_mesh(2, 2, 2), (0, 0, 0)), blade=(box_mesh(0.2, 50, 50), (520, 0, 0)))
    made = goes(made, "shot", (0, 0, 0), (1000, 0, 0), duration=0.1)  # 333 mm in each frame of 30 a second
    assert not sweep(made, meshes, frame_times(made)).breaches  # what frames alone would say
    (breach,) = certify(made, meshes).stretches
    assert breach.status == "breached" and breach.least == pytest.approx(
        -1.0, abs=0.02
    )  # one of the blade's faces in the middle of the shot
    assert breach.start == pytest.approx((520 - 0.1 - 1 - 5) / 10_000, abs=2e-4)


def test_what_lies_just_at_the_limit_is_certified_or_said_not_to_be_shown():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), post=(box_mesh(10, 10, 400), (300, 30.0, 0)))
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0))
    told = certify(made, meshes)
    assert told.status in ("certified", "not shown")
    for stretch in told.stretches:
        assert stretch.status == "not shown" and stretch.least == pytest.approx(5.0, abs=1e-3)


@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    beside=st.floats(20.0, 60.0), lift=st.floats(-30.0, 30.0), turns=st.floats(-6.0, 6.0), bow=st.floats(-120.0, 120.0)
)
def test_no_bound_is_above_the_truth_of_a_thousandfold_sampling(beside, lift, turns, bow):
    made, meshes = scene(
        required=1.0, bar=(box_mesh(90, 14, 14), (0, 0, 0)), post=(box_mesh(24, 24, 60), (200, beside, lift))
    )
    made = goes(made, "bar", (0, 0, 0), (200, bow, 0), (400, 0, 0), kind="smooth", orientation=AlongOrientation())
    made = edits.add(
        made,
        TimedRotation("rotation-1", "Turns", "bar", Axle((0, 0, 0), (0.2, 0.1, 1.0)), end=2.0, turns=turns, rpm=None),
    )
    told = certify(made, meshes)
    times = np.linspace(0.0, 2.0, 61 * 100)
    away = truth(made, meshes, ("bar", "post"), times)
    outside = np.ones(len(times), bool)
    for stretch in told.stretches:
        inside = (times >= stretch.start - 1e-4) & (times <= stretch.end + 1e-4)
        outside &= ~inside
        if stretch.status == "breached":
            assert stretch.least < 1.0 and stretch.least <= away[inside].min(initial=np.inf) + 0.2
    assert away[outside].min(initial=np.inf) >= told.at_least - 1e-6
    assert (away < 1.0).any() <= (told.status != "certified")


def test_nothing_moving_and_a_cancel():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), post=(box_mesh(10, 10, 400), (300, 60.0, 0)))
    assert certify(made, meshes).status == "certified"
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0))

    class Stop(Exception):
        pass

    def progress(share):
        raise Stop

    with pytest.raises(Stop):
        certify(made, meshes, progress)


def test_what_gets_to_lie_wholly_inside_another_is_a_breach():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), hall=(box_mesh(900, 400, 400), (700, 0, 0)))
    made = goes(made, "ram", (0, 0, 0), (700, 0, 0), speed_profile=Eased(0.0, 0.0))
    told = certify(made, meshes, over=(1.9, 2.0))  # its surface is 180 mm from the hall's all along
    assert told.status == "breached" and told.stretches[0].least == pytest.approx(-200.0, abs=0.5)


def test_what_lies_inside_another_as_it_stands_is_told_as_a_contact_that_deep():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), hall=(box_mesh(900, 400, 400), (100, 0, 0)))
    made = goes(made, "ram", (0, 0, 0), (100, 0, 0))
    told = certify(made, meshes)
    (contact,) = told.contacts
    assert contact.deep == pytest.approx(200.0, abs=0.1) and not told.stretches
    # although their surfaces are far apart, it has not parted: the frames say the same
    assert contact.text == "in contact all along" and not sweep(made, meshes, frame_times(made)).breaches


def rod_mesh(radius, low, high, sections=64):
    solid = trimesh.creation.cylinder(radius, segment=[(0, 0, low), (0, 0, high)], sections=sections)
    return mesh(solid.vertices, solid.faces)


def bored_block(bore, sections=64):
    solid = trimesh.boolean.difference(
        [trimesh.creation.box((80, 80, 60)), trimesh.creation.cylinder(bore, 80, sections=sections)]
    )
    return mesh(solid.vertices, solid.faces)


@pytest.mark.parametrize("turning", ["shaft", "block"])
def test_what_is_round_turns_in_its_bore_as_fast_as_it_may(turning):
    """A shaft that turns 500 times in a bore with 0.1 mm of air, or the block about the shaft: few looks show it."""
    made, meshes = scene(6.0, shaft=(rod_mesh(10.0, -40, 60), (0, 0, 0)), block=(bored_block(10.1), (0, 0, 0)))
    made = edits.add(made, TimedRotation("rotation-1", "Spin", turning, UP, end=5.0, rpm=6000.0))
    told = certify(made, meshes)
    assert told.status == "certified" and told.measured < 10_000
    # what is left of the air between 64 sides within 64 sides, in whatever way they stand
    sagitta = 10.1 * (1 - np.cos(np.pi / 64))
    times = np.linspace(0.0, 0.02, 200)
    assert 0.1 - 2 * sagitta - 5e-3 <= told.at_least <= truth(made, meshes, ("shaft", "block"), times).min() + 1e-6


def test_a_turning_shaft_that_is_carried_aside_is_seen_to_touch_its_bore():
    shaft, block = rod_mesh(10.0, -40, 60, 48), bored_block(10.6, 48)
    made, meshes = scene(0.2, shaft=(shaft, (0, 0, 0)), block=(block, (0, 0, 0)))
    made = edits.add(made, TimedRotation("rotation-1", "Spin", "shaft", UP, end=2.0, rpm=120.0))
    for aside, status in ((0.3, "certified"), (0.5, "breached")):
        moved = goes(made, "shaft", (0, 0, 0), (aside, 0, 0), orientation=FixedOrientation())
        told = certify(moved, meshes)
        assert told.status == status, told
        least = truth(moved, meshes, ("shaft", "block"), np.linspace(1.9, 2.0, 120)).min()
        seen = told.at_least if status == "certified" else told.stretches[0].least
        assert seen <= least + 1e-3 and seen >= least - 0.05


@pytest.mark.parametrize("off", [0.05, 0.5])
def test_a_round_shaft_that_turns_about_another_line_swings_out(off):
    made, meshes = scene(0.2, shaft=(rod_mesh(10.0, -40, 60, 32), (0, 0, 0)), block=(bored_block(10.6, 32), (0, 0, 0)))
    made = edits.add(
        made, TimedRotation("rotation-1", "Spin", "shaft", Axle((off, 0, 0), (0, 0, 1)), end=1.0, rpm=60.0)
    )
    told = certify(made, meshes)
    least = truth(made, meshes, ("shaft", "block"), np.linspace(0.0, 1.0, 240)).min()
    assert told.status == ("certified" if least >= 0.2 else "breached")
    assert (told.stretches[0].least if told.stretches else told.at_least) <= least + 1e-3


def test_what_cannot_be_shown_is_not_looked_at_for_ever(monkeypatch):
    """A square shaft in its bore: each look tells of a hundredth of a turn only."""
    monkeypatch.setattr(certificate, "_MOST_OF_A_PAIR", 1000)
    made, meshes = scene(6.0, shaft=(box_mesh(14.14, 14.14, 100), (0, 0, 0)), block=(bored_block(10.1), (0, 0, 0)))
    made = edits.add(made, TimedRotation("rotation-1", "Spin", "shaft", UP, end=1.0, rpm=6000.0))
    told = certify(made, meshes)
    assert told.status == "not shown" and told.measured < 10_000
