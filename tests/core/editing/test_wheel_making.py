"""Wheels from CAD cylinders, and ends that meet."""

import numpy as np
import pytest
import trimesh
from shapes import wheeled

from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import (
    AlongOrientation,
    ArcShape,
    Axle,
    Feature,
    Part,
    Path,
    PathPoint,
    Placement,
    PointShape,
    Project,
    Run,
    Wheel,
)
from kestrav.core.editing.run_making import convoy
from kestrav.core.editing.wheel_making import (
    add_castor,
    add_rotations,
    add_wheels,
    axle_of,
    ends,
    rolled_distance,
    take_axle,
    turns_of,
    with_length,
    with_radius,
    with_slip,
    with_start,
    with_turns,
)
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.rolling import sideways
from kestrav.core.parts.arranging import ungroup
from kestrav.core.parts.solids import geometry_record
from kestrav.core.paths.path_curves import path_curve


def test_axle_and_radius_come_from_the_widest_cylinder():
    project, meshes = wheeled()
    axle, radius = axle_of(project, meshes, "part-3")
    assert radius == 50 and axle.origin == (5, 0, 0) and np.abs(axle.direction) == pytest.approx([0, 1, 0])
    made = add_wheels(project, meshes, ["part-3"])
    assert made.wheels[0].name == "Wheel of Castor" and made.wheels[0].radius == 50
    assert turns_of(made, made.wheels[0]) == pytest.approx(1000 / (2 * np.pi * 50))
    with pytest.raises(BadInput, match="rolls already"):
        add_wheels(made, meshes, ["part-3"])
    with pytest.raises(BadInput, match="choose the wheel itself"):
        add_wheels(project, meshes, ["part-2"])


def test_without_a_cylinder_numbers_must_be_typed():
    box = trimesh.creation.box((10, 10, 10))
    shape = mesh(box.vertices, box.faces)
    project = Project(parts=(Part("part-1", "Block", geometry=shape.hash),), geometry=(geometry_record(shape),))
    with pytest.raises(BadInput, match="no cylinder"):
        axle_of(project, {shape.hash: shape}, "part-1")
    # a spin has its pivot's upright then
    made = add_rotations(project, {shape.hash: shape}, ["part-1"])
    assert made.rotations[0].axle.direction == (0, 0, 1)


def test_ends_are_made_to_meet_by_radius_by_path_and_by_start():
    project, meshes = wheeled()
    made = add_wheels(project, meshes, ["part-3"])
    whole = with_radius(made, "wheel-1")
    assert turns_of(whole, whole.wheels[0]) == pytest.approx(3, abs=1e-9)
    assert whole.wheels[0].radius == pytest.approx(1000 / (6 * np.pi))
    longer = with_turns(made, "wheel-1", 4.0)
    assert path_curve(longer.paths[0]).length == pytest.approx(4 * 2 * np.pi * 50)
    assert longer.paths[0].shape.points[0].position == (0, 0, 0)
    marked = with_start(made, "wheel-1")
    end = Motion(marked).angles(marked.wheels[0], [4.0])[0]
    assert np.cos(end) == pytest.approx(1) and rolled_distance(marked, marked.wheels[0]) == pytest.approx(1000)


def test_ends_meet_on_one_path_only():
    project, meshes = wheeled()
    made = add_wheels(project, meshes, ["part-3"])
    two = edits.add(made, edits.change(made.runs[0], id="run-2", start=5.0, backwards=True))
    with pytest.raises(BadInput, match="carried by 2 runs"):
        with_turns(two, "wheel-1", 4.0)
    with pytest.raises(BadInput, match="more than 0"):
        with_turns(made, "wheel-1", 0.0)
    still = edits.remove(made, "run-1")
    with pytest.raises(BadInput, match="rolls nowhere"):
        with_radius(still, "wheel-1")


def test_a_castor_stands_ahead_and_takes_its_wheel_round():
    project, meshes = wheeled()
    bent = PointShape((PathPoint((0, 0, 0)), PathPoint((900, 300, 0)), PathPoint((1500, 1200, 0))))
    project = edits.update(project, "path-1", shape=bent)
    made = add_castor(add_wheels(project, meshes, ["part-3"]), "part-2")
    assert made.castors[0].forward == (1, 0, 0) and made.castors[0].kingpin.direction == (0, 0, 1)
    fixed = edits.remove(made, "castor-1")
    assert sideways(Motion(made).rolling(made.wheels[0]).path)[-1] < 1.0
    assert sideways(Motion(fixed).rolling(fixed.wheels[0]).path)[-1] > 50
    with pytest.raises(BadInput, match="swivels already"):
        add_castor(made, "part-2")


def test_the_wheels_of_a_convoy_roll_as_well():
    project, meshes = wheeled(4000.0)
    made = add_castor(add_wheels(project, meshes, ["part-3"]), "part-2")
    made = convoy(made, "run-1", 3, 700.0)
    assert len(made.wheels) == len(made.castors) == 3 and len({r.part for r in made.wheels}) == 3
    assert [rolled_distance(made, r) for r in made.wheels] == pytest.approx([4000, 3300, 2600])


def test_wheels_go_with_their_parts():
    project, meshes = wheeled()
    made = add_castor(add_wheels(project, meshes, ["part-3"]), "part-2")
    assert not edits.remove(made, "part-3").wheels and not edits.remove(made, "part-1").castors
    with pytest.raises(BadInput, match="is used by"):
        ungroup(made, "part-2")


def test_ends_meet_on_a_mark_by_radius_length_slip_or_start():
    made, meshes = wheeled(1000.0)
    made = add_wheels(made, meshes, ["part-3"])
    turns = turns_of(made, made.wheels[0])  # 1000 / (2π · 50) = 3.1831
    told = ends(made, "wheel-1", 8)  # eight grooves around it
    assert told.turns == pytest.approx(turns) and told.wanted == pytest.approx(25 / 8)
    assert told.radius == pytest.approx(1000 / (2 * np.pi * 25 / 8))
    assert told.length == pytest.approx(2 * np.pi * 50 * 25 / 8)
    for change in (with_radius, with_length, with_slip):
        mended = change(made, "wheel-1", 8)
        assert turns_of(mended, mended.wheels[0]) == pytest.approx(25 / 8)
    assert with_slip(made, "wheel-1", 8).wheels[0].slip == pytest.approx(told.slip)
    started = with_start(made, "wheel-1", 8).wheels[0].start
    assert (started + 360 * turns) % 45 == pytest.approx(0.0, abs=1e-6)
    with pytest.raises(BadInput, match="marks"):
        ends(made, "wheel-1", 0)


def test_wheels_of_one_radius_are_linked():
    made, meshes = wheeled()
    copied = edits.add(made, edits.change(get(made, "part-3"), id="part-4", placement=Placement((-5, 100, 0))))
    made = add_wheels(copied, meshes, ["part-3", "part-4"])
    assert made.wheels[0].link and made.wheels[0].link == made.wheels[1].link
    made = edits.update(made, "wheel-1", radius=48.0)
    assert made.wheels[1].radius == 48.0
    assert edits.update(made, "wheel-1", start=30.0).wheels[1].start == 0.0  # its own


def test_several_spin_alike_or_mirrored():
    made, meshes = wheeled()
    copied = edits.add(made, edits.change(get(made, "part-3"), id="part-4", placement=Placement((-5, 100, 0))))
    made = add_rotations(copied, meshes, ["part-3", "part-4"], mirrored=True)
    made = edits.update(made, "rotation-1", rpm=90.0)
    assert [s.rpm for s in made.rotations] == [90.0, 90.0]
    one, two = (Motion(made).angles(s, [0.5])[0] for s in made.rotations)
    assert one == pytest.approx(-two) and abs(one) == pytest.approx(90 / 60 * 0.5 * 2 * np.pi)


def test_an_axle_is_taken_from_what_was_picked():
    made, meshes = wheeled()
    made = add_wheels(made, meshes, ["part-3"])
    fitted = Feature("cylinder", "part-3", (5.0, 1.0, 0.2), (0.0, -1.0, 0.0), radius=49.2, exact=False, residual=0.03)
    roll = take_axle(made, "wheel-1", fitted).wheels[0]
    assert roll.axle == Axle((5.0, 1.0, 0.2), (0.0, 1.0, 0.0))  # the sense stays
    assert (roll.radius, roll.residual) == (49.2, 0.03)
    # of another part it is the same line in space
    elsewhere = Feature("circle", "part-2", (0.0, 0.0, 0.0), (0.0, 1.0, 0.0), radius=0.0)
    assert take_axle(made, "wheel-1", elsewhere).wheels[0].axle.origin == pytest.approx((5.0, 0.0, 0.0))
    with pytest.raises(BadInput, match="no axis"):
        take_axle(made, "wheel-1", Feature("point", "part-3"))


# against standards and tables


@pytest.mark.parametrize(
    ("width", "ratio", "rim", "told"), [(205, 55, 16, 503), (195, 65, 15, 501), (225, 45, 17, 503)]
)
def test_turns_in_a_kilometre_of_standard_tyres(width, ratio, rim, told):
    # sizes as ETRTO designates them: diameter = 25.4 · rim + 2 · width · ratio; the turns in a kilometre are those of the unloaded
    # diameter, 1e6 / (π · d), checked to the per cent (from memory; loaded tyres turn some 3 % more)
    diameter = 25.4 * rim + 2 * width * ratio / 100
    made, meshes = wheeled(1_000_000.0)
    made = edits.update(add_wheels(made, meshes, ["part-3"]), "wheel-1", radius=diameter / 2)
    assert turns_of(made, made.wheels[0]) == pytest.approx(told, rel=0.01)
    assert turns_of(made, made.wheels[0]) == pytest.approx(1e6 / (np.pi * diameter))


def test_wheels_of_a_vehicle_on_a_circle_turn_by_ackermanns_radii():
    # on a turn about one centre every wheel's way is as its distance from it (R. Ackermann, 1818): rear wheels R ∓ t/2, front ones
    # sqrt((R ∓ t/2)² + L²)
    circle, track, base = 3000.0, 1200.0, 2000.0
    places = [(x, y) for x in (0.0, base) for y in (track / 2, -track / 2)]
    parts = [Part("part-1", "Vehicle")]
    parts += [Part(f"wheel-{k}", f"Wheel {k}", "part-1", Placement((x, y, 100.0))) for k, (x, y) in enumerate(places)]
    made = Project(parts=tuple(parts), paths=(Path("path-1", "P", ArcShape((0, circle, 0), (0, 0, 0), 90.0)),))
    made = edits.add(made, Run("run-1", "R", "part-1", "path-1", orientation=AlongOrientation()))
    for k, (x, y) in enumerate(places):
        # front wheels stand as they are steered: square to the line to the centre
        steer = np.arctan2(x, circle - y)
        axle = Axle((0, 0, 0), (-np.sin(steer), np.cos(steer), 0.0))
        made = edits.add(made, Wheel(f"rolling-{k}", f"Wheel {k}", f"wheel-{k}", axle, 100.0, 100.0))
    found = [turns_of(made, roll) for roll in made.wheels]
    told = [np.hypot(circle - y, x) * np.pi / 2 / (2 * np.pi * 100.0) for x, y in places]
    assert found == pytest.approx(told, rel=1e-6)
