"""What is in contact may slide and part, and never gets deeper than it was."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh
from test_certificate import goes, scene, truth

from kestrav.core.clearance.certificate import certify
from kestrav.core.clearance.sweep import sweep
from kestrav.core.document import edits
from kestrav.core.document.records import Axle, Even, Requirement, TimedRotation
from kestrav.core.findings.report import nearer_in_words
from kestrav.core.geometry.meshes import joined, mesh
from kestrav.core.kinematics.runs import frame_times

AXIS = Axle((0, 0, 0), (0, 0, 1))


def fused(*solids):
    """One solid of several, by a boolean union."""
    made = trimesh.boolean.union([trimesh.Trimesh(s.vertices, s.triangles) for s in solids])
    return mesh(made.vertices, made.faces)


def cabinet():
    """A plate 600 × 300 × 20 with a wall 20 thick and 200 high at its end, as one solid; its floor is at z = 0."""
    plate, wall = box_mesh(600, 300, 20), box_mesh(20, 300, 220)
    return fused(plate.moved(shift(0, 0, -10)), wall.moved(shift(310, 0, 90)))


def shift(*by):
    found = np.eye(4)
    found[:3, 3] = by
    return found


def drawer(way):
    made, meshes = scene(drawer=(box_mesh(200, 200, 100), (-150, 0, 50)), cabinet=(cabinet(), (0, 0, 0)))
    return goes(made, "drawer", (-150, 0, 50), (-150 + way, 0, 50), speed_profile=Even()), meshes


def test_a_drawer_slides_on_its_floor_and_is_caught_where_it_goes_through_the_back_wall():
    # its front is at -50 + way, the wall's face at 300: 350 mm are free, and the last 50 go into it
    made, meshes = drawer(400.0)
    told = certify(made, meshes)
    (breach,) = told.stretches
    assert breach.status == "breached" and breach.required < 0
    assert breach.start == pytest.approx(2.0 * 350 / 400, abs=0.02) and breach.end == pytest.approx(2.0, abs=0.01)
    found = sweep(made, meshes, frame_times(made))
    (frames,) = [b for b in found.breaches]
    # 50 mm in, of a wall 20 thick: its own face in the drawer is 20 deep less nothing, the drawer's in the wall 10
    assert frames.distance == pytest.approx(-50.0, abs=0.6) and frames.required == -told.contacts[0].allowed
    assert found.times[frames.intervals[0][0]] == pytest.approx(1.75, abs=0.06)


def test_sliding_alone_is_no_breach():
    made, meshes = drawer(340.0)
    told = certify(made, meshes)
    assert told.status == "certified" and not sweep(made, meshes, frame_times(made)).breaches
    (contact,) = told.contacts
    assert contact.deep == 0.0 and contact.text == "in contact all along"
    assert contact.shown <= contact.allowed + 0.2


def test_a_pair_that_has_parted_keeps_its_clearance_from_then_on():
    # up by 30, across, and down to 3 mm above the table
    made, meshes = scene(block=(box_mesh(20, 20, 20), (0, 0, 10)), table=(box_mesh(400, 400, 10), (0, 0, -5)))
    made = goes(made, "block", (0, 0, 10), (0, 0, 40), (60, 0, 40), (60, 0, 13), speed_profile=Even())
    told = certify(made, meshes)
    (contact,) = told.contacts
    parted = contact.spans[0][1]
    assert contact.spans == ((-np.inf, parted),) and parted == pytest.approx(2.0 * 5.1 / 117, abs=0.01)
    assert contact.least == pytest.approx(3.0, abs=0.01)
    assert contact.text == f"in contact until {parted:.2f}\u2009s, then at least 3.00\u2009mm"
    (breach,) = told.stretches
    assert breach.required == 5.0 and breach.least == pytest.approx(3.0, abs=0.01)


def test_what_comes_back_to_how_it_stood_is_in_contact_again():
    made, meshes = scene(block=(box_mesh(20, 20, 20), (0, 0, 10)), table=(box_mesh(400, 400, 10), (0, 0, -5)))
    made = goes(made, "block", (0, 0, 10), (0, 0, 40), (0, 40, 40), (0, 0, 40), (0, 0, 10), speed_profile=Even())
    told = certify(made, meshes)
    assert told.status == "certified" and len(told.contacts[0].spans) == 2
    assert told.contacts[0].text.startswith("in contact until 0.0") and "otherwise at least" in told.contacts[0].text


def sleeved(radius, sections=48, around=48):
    """A shaft of a radius in a sleeve whose bore has a radius of 10."""
    shaft = trimesh.creation.cylinder(radius, 60.0, sections=sections)
    sleeve = trimesh.creation.annulus(10.0, 20.0, 40.0, sections=around)
    return scene(
        shaft=(mesh(shaft.vertices, shaft.faces), (0, 0, 0)), sleeve=(mesh(sleeve.vertices, sleeve.faces), (0, 0, 0))
    )


def test_a_shaft_that_fills_its_bore_turns_and_comes_out_although_their_facets_cross():
    made, meshes = sleeved(10.0, around=36)
    turned = edits.add(made, TimedRotation("rotation-1", "Shaft turns", "shaft", AXIS, end=2.0, turns=3.0, rpm=None))
    told = certify(turned, meshes)
    assert told.status == "certified" and 0.01 < told.contacts[0].deep < 0.1
    out = certify(goes(made, "shaft", (0, 0, 0), (0, 0, 80), speed_profile=Even()), meshes)
    assert out.status == "certified" and out.contacts[0].spans[0][1] < np.inf


def test_a_shaft_pulled_askew_is_a_breach():
    made, meshes = sleeved(10.0)
    told = certify(goes(made, "shaft", (0, 0, 0), (2, 0, 80), speed_profile=Even()), meshes)
    assert told.status == "breached"
    # at 50 mm of way their ends part; it is 2 · 50 / 80 mm off then
    assert told.stretches[0].least == pytest.approx(-1.25, abs=0.15)


def test_a_press_fit_comes_out_no_deeper_than_it_sits():
    made, meshes = sleeved(10.2)
    told = certify(goes(made, "shaft", (0, 0, 0), (0, 0, 80), speed_profile=Even()), meshes)
    assert told.status == "certified" and told.contacts[0].deep == pytest.approx(0.2, abs=0.01)


def test_a_snap_gets_deeper_on_its_way_and_that_is_a_breach_by_how_much():
    # a bead of 0.8 mm on the rail's way out
    rail = fused(box_mesh(200, 20, 10).moved(shift(0, 0, -5)), box_mesh(2, 20, 2).moved(shift(40, 0, -0.2)))
    made, meshes = scene(slide=(box_mesh(40, 20, 10), (0, 0, 5)), rail=(rail, (0, 0, 0)))
    told = certify(goes(made, "slide", (0, 0, 5), (60, 0, 5), speed_profile=Even()), meshes)
    assert [s.least for s in told.stretches] == pytest.approx([-0.8], abs=0.02)


def test_a_contact_that_is_not_intended_is_asked_for_its_clearance_at_once():
    made, meshes = drawer(100.0)
    strict = edits.set_contact(made, "drawer", "cabinet", intended=False)
    assert certify(strict, meshes).status == "breached" and not sweep(strict, meshes, frame_times(strict)).contacts


def test_the_tolerance_is_the_projects_where_it_has_one():
    made, meshes = drawer(100.0)
    made = edits.settings(made, interference_tolerance=0.4)
    (contact,) = sweep(made, meshes, np.array([0.0])).contacts
    assert contact.allowed == pytest.approx(0.4)


def test_two_parts_of_one_mesh_touching_are_each_looked_at():
    both = joined([box_mesh(10, 10, 10).moved(shift(0, 0, 5)), box_mesh(10, 10, 10).moved(shift(50, 0, 5))])
    made, meshes = scene(pair=(both, (0, 0, 0)), table=(box_mesh(400, 400, 10), (0, 0, -5)))
    told = certify(goes(made, "pair", (0, 0, 0), (0, 0, -3), speed_profile=Even()), meshes)
    assert told.stretches[0].least == pytest.approx(-3.0, abs=0.05)


def test_what_has_left_a_solid_that_it_lay_in_has_parted():
    made, meshes = scene(pea=(box_mesh(10, 10, 10), (20, 0, 0)), block=(box_mesh(100, 100, 100), (0, 0, 0)))
    told = certify(goes(made, "pea", (20, 0, 0), (90, 0, 0), speed_profile=Even()), meshes)
    (contact,) = told.contacts
    # its back face is 5.1 mm beyond the block's at 40.1 mm of way; it gets no deeper on it
    assert contact.spans[0][1] == pytest.approx(2.0 * 40.1 / 70.0, abs=0.01) and contact.least >= 5.0
    assert told.status == "certified"


@pytest.mark.parametrize("gap", [5.5, 9.0, 20.0])
def test_the_least_after_parting_is_that_of_a_thousandfold_sampling(gap):
    """It parts, comes near, is in contact again as at rest, parts, and comes near once more at another place."""
    made, meshes = scene(
        block=(box_mesh(20, 20, 20), (0, 0, 10)),
        table=(
            fused(box_mesh(400, 60, 10).moved(shift(0, 0, -5)), box_mesh(10, 60, 20).moved(shift(90, 0, 5))),
            (0, 0, 0),
        ),
    )
    # up, down to a gap, up, home, up and over to the post by a gap beside it
    high = 60.0
    ways = [(0, 0, 10), (0, 0, high), (-60, 0, high), (-60, 0, 10 + gap + 4), (-60, 0, high), (0, 0, high), (0, 0, 10)]
    ways += [(0, 0, high), (75 - gap, 0, high), (75 - gap, 0, 40)]
    made = goes(made, "block", *ways, speed_profile=Even(), duration=20.0)
    told = certify(made, meshes)
    (contact,) = told.contacts
    assert len(contact.spans) == 2
    times = np.linspace(0.0, 20.0, 40_001)
    apart = truth(made, meshes, ("block", "table"), times)[~contact.at(times)].min()
    assert contact.least == pytest.approx(apart, abs=0.02)


def test_a_wheel_that_turns_in_a_fork_without_touching_it_is_shown_to_be_hardly_deeper_than_allowed():
    wheel = trimesh.creation.cylinder(40.0, 20.0, sections=48)
    fork = fused(
        box_mesh(100, 100, 4).moved(shift(0, 0, 15)),
        box_mesh(100, 100, 4).moved(shift(0, 0, -15)),
        box_mesh(4, 100, 34).moved(shift(-48, 0, 0)),
    )
    made, meshes = scene(wheel=(mesh(wheel.vertices, wheel.faces), (0, 0, 0)), fork=(fork, (0, 0, 0)))
    made = edits.add(
        edits.set_contact(made, "wheel", "fork", intended=True),
        TimedRotation("rotation-1", "Wheel turns", "wheel", AXIS, end=2.0, turns=40.0, rpm=None),
    )
    told = certify(made, meshes)
    (contact,) = told.contacts
    assert told.status == "certified" and told.contacts_within <= 1.0
    assert contact.shown == pytest.approx(contact.allowed + told.contacts_within)


@pytest.mark.parametrize(("drop", "status"), [(0.0, "certified"), (0.2, "certified"), (0.6, "breached")])
def test_what_stands_nearer_than_required_is_held_to_that(drop, status):
    # a block 1 mm above a plate, of which 5 mm are required of all: it may come nearer by 0.3 mm
    made, meshes = scene(
        block=(box_mesh(50, 50, 20), (0, 0, 21)), plate=(box_mesh(400, 200, 20), (100, 0, 0)), required=5.0
    )
    made = goes(made, "block", (0, 0, 21), (150, 0, 21 - drop), speed_profile=Even())
    told = certify(made, meshes)
    assert told.status == status and told.nearer == 1
    assert nearer_in_words(told) == "1 pair stands nearer than 5 mm and is held to that"
    swept = sweep(made, meshes, frame_times(made))
    assert bool(swept.breaches) == (status == "breached")
    # what is asked of the two is asked in full, and so of what is said not to be meant
    strict = edits.add(made, Requirement("requirement-1", "Apart", ("block",), ("plate",)))
    assert certify(strict, meshes).status == "breached" and certify(strict, meshes).nearer == 0
    assert certify(edits.set_contact(made, "block", "plate", intended=False), meshes).status == "breached"


@pytest.mark.parametrize(("over", "status"), [(0.0, "certified"), (200.0, "breached")])
def test_what_has_parted_from_where_it_stood_near_keeps_its_clearance_from_then_on(over, status):
    # 1 mm above a plate, up by 20 mm, aside, and down to where it stood, or to 2 mm above the plate elsewhere
    made, meshes = scene(
        block=(box_mesh(50, 50, 20), (0, 0, 21)), plate=(box_mesh(600, 200, 20), (100, 0, 0)), required=5.0
    )
    there = [(over, 0, 41), (over, 0, 22)] if over else [(100, 0, 41), (0, 0, 41), (0, 0, 21)]
    made = goes(made, "block", (0, 0, 21), (0, 0, 41), *there, speed_profile=Even())
    told = certify(made, meshes)
    assert told.status == status
    assert bool(sweep(made, meshes, frame_times(made)).breaches) == (status == "breached")
    if status == "breached":
        (stretch,) = told.stretches
        assert stretch.required == 5.0 and stretch.least == pytest.approx(2.0, abs=0.02)


@pytest.mark.parametrize(("gap", "status"), [(0.0, "certified"), (1.0, "certified"), (20.0, "breached")])
def test_what_does_not_begin_as_it_was_drawn_is_still_in_contact_or_near(gap, status):
    # drawn on a plate or 1 mm above it at one place, it slides as near from another; drawn far above, it has no leave to be near
    made, meshes = scene(
        block=(box_mesh(50, 50, 20), (0, 0, 20 + gap)), plate=(box_mesh(400, 200, 20), (100, 0, 0)), required=5.0
    )
    low = min(gap, 1.0)
    made = goes(made, "block", (80, 0, 20 + low), (150, 0, 20 + low), speed_profile=Even())
    assert certify(made, meshes).status == status
    assert bool(sweep(made, meshes, frame_times(made)).breaches) == (status == "breached")
