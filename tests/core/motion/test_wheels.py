"""Wheels from CAD cylinders, and ends that meet."""

import numpy as np
import pytest
import trimesh
from shapes import wheeled as trolley

from kestrav.core.document import edits
from kestrav.core.document.records import Part, PathPoint, PointShape, Project
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import mesh
from kestrav.core.motion.arranging import ungroup
from kestrav.core.motion.kinematics import Motion
from kestrav.core.motion.making import convoy
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.motion.rolling import sideways
from kestrav.core.motion.solids import geometry_record
from kestrav.core.motion.wheels import (
    add_rolls,
    add_spin,
    add_swivel,
    axle_of,
    ending_as_it_began,
    turns_of,
    way_rolled,
    with_turns,
    with_whole_turns,
)


def test_axle_and_radius_come_from_the_widest_cylinder():
    project, meshes = trolley()
    axle, radius = axle_of(project, meshes, "part-3")
    assert radius == 50 and axle.origin == (5, 0, 0) and np.abs(axle.direction) == pytest.approx([0, 1, 0])
    made = add_rolls(project, meshes, ["part-3"])
    assert made.rolls[0].name == "Wheel of Castor" and made.rolls[0].radius == 50
    assert turns_of(made, made.rolls[0]) == pytest.approx(1000 / (2 * np.pi * 50))
    with pytest.raises(BadInput, match="rolls already"):
        add_rolls(made, meshes, ["part-3"])
    with pytest.raises(BadInput, match="choose the wheel itself"):
        add_rolls(project, meshes, ["part-2"])


def test_without_a_cylinder_numbers_must_be_typed():
    box = trimesh.creation.box((10, 10, 10))
    shape = mesh(box.vertices, box.faces)
    project = Project(parts=(Part("part-1", "Block", geometry=shape.hash),), geometry=(geometry_record(shape),))
    with pytest.raises(BadInput, match="no cylinder"):
        axle_of(project, {shape.hash: shape}, "part-1")
    # a spin has its pivot's upright then
    made = add_spin(project, {shape.hash: shape}, "part-1")
    assert made.spins[0].axle.direction == (0, 0, 1)


def test_ends_are_made_to_meet_by_radius_by_path_and_by_start():
    project, meshes = trolley()
    made = add_rolls(project, meshes, ["part-3"])
    whole = with_whole_turns(made, "roll-1")
    assert turns_of(whole, whole.rolls[0]) == pytest.approx(3, abs=1e-9)
    assert whole.rolls[0].radius == pytest.approx(1000 / (6 * np.pi))
    longer = with_turns(made, "roll-1", 4.0)
    assert path_curve(longer.paths[0]).length == pytest.approx(4 * 2 * np.pi * 50)
    assert longer.paths[0].shape.points[0].position == (0, 0, 0)
    marked = ending_as_it_began(made, "roll-1")
    end = Motion(marked).angles(marked.rolls[0], [4.0])[0]
    assert np.cos(end) == pytest.approx(1) and way_rolled(marked, marked.rolls[0]) == pytest.approx(1000)


def test_ends_meet_on_one_path_only():
    project, meshes = trolley()
    made = add_rolls(project, meshes, ["part-3"])
    two = edits.add(made, edits.change(made.runs[0], id="run-2", start=5.0, backwards=True))
    with pytest.raises(BadInput, match="carried by 2 runs"):
        with_turns(two, "roll-1", 4.0)
    with pytest.raises(BadInput, match="more than 0"):
        with_turns(made, "roll-1", 0.0)
    still = edits.remove(made, "run-1")
    with pytest.raises(BadInput, match="rolls nowhere"):
        with_whole_turns(still, "roll-1")


def test_a_castor_stands_ahead_and_takes_its_wheel_round():
    project, meshes = trolley()
    bent = PointShape((PathPoint((0, 0, 0)), PathPoint((900, 300, 0)), PathPoint((1500, 1200, 0))))
    project = edits.update(project, "path-1", shape=bent)
    made = add_swivel(add_rolls(project, meshes, ["part-3"]), "part-2")
    assert made.swivels[0].forward == (1, 0, 0) and made.swivels[0].kingpin.direction == (0, 0, 1)
    fixed = edits.remove(made, "swivel-1")
    assert sideways(Motion(made).rolling(made.rolls[0]).path)[-1] < 1.0
    assert sideways(Motion(fixed).rolling(fixed.rolls[0]).path)[-1] > 50
    with pytest.raises(BadInput, match="swivels already"):
        add_swivel(made, "part-2")


def test_the_wheels_of_a_convoy_roll_as_well():
    project, meshes = trolley(4000.0)
    made = add_swivel(add_rolls(project, meshes, ["part-3"]), "part-2")
    made = convoy(made, "run-1", 3, 700.0)
    assert len(made.rolls) == len(made.swivels) == 3 and len({r.part for r in made.rolls}) == 3
    assert [way_rolled(made, r) for r in made.rolls] == pytest.approx([4000, 3300, 2600])


def test_wheels_go_with_their_parts():
    project, meshes = trolley()
    made = add_swivel(add_rolls(project, meshes, ["part-3"]), "part-2")
    assert not edits.remove(made, "part-3").rolls and not edits.remove(made, "part-1").swivels
    with pytest.raises(BadInput, match="is used by"):
        ungroup(made, "part-2")
