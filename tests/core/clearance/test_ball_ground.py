"""Balls that roll over a part's surface."""

import numpy as np
import pytest
import trimesh
from scipy.spatial.transform import Rotation
from shapes import straight

from kestrav.core.clearance.ball_ground import derive_ball_ground
from kestrav.core.document import edits
from kestrav.core.document.records import ArcShape, Ball, Part, Path, Placement, Project, Run
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.motion import Motion
from kestrav.core.parts.solids import geometry_record

DRUM, RADIUS = 200.0, 30.0


@pytest.fixture
def on_a_drum():
    """A ball that rolls a quarter around a lying drum, at its radius above it."""
    body = trimesh.creation.cylinder(DRUM, 400.0, sections=256)
    shape = mesh(body.vertices @ np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]).T, body.faces)
    made = Project(
        parts=(Part("drum", "Drum", placement=Placement((0, 0, 50)), geometry=shape.hash), Part("ball", "Ball")),
        geometry=(geometry_record(shape),),
        paths=(
            Path("path-1", "Over", ArcShape((0.0, 0.0, 50.0), (0.0, 0.0, 50 + DRUM + RADIUS), 90.0, (0.0, 1.0, 0.0))),
        ),
    )
    made = edits.add(made, Ball("ball-1", "Ball rolls", "ball", radius=RADIUS, on="drum"))
    return edits.add(made, Run("run-1", "R", "ball", "path-1", duration=2.0)), {shape.hash: shape}


def test_around_a_drum_it_turns_by_both_radii(on_a_drum):
    made, meshes = on_a_drum
    made = derive_ball_ground(made, meshes)
    turn = Rotation.from_matrix(Motion(made).poses("ball", [2.0])[0, :3, :3])
    # one wheel around another: (R + r) / r times the angle gone round
    told = Rotation.from_rotvec([0, (DRUM + RADIUS) / RADIUS * np.pi / 2, 0])
    assert (turn * told.inv()).magnitude() == pytest.approx(0.0, abs=2e-3)
    assert derive_ball_ground(made, meshes) is made


def test_it_rolls_anew_where_its_way_changes(on_a_drum):
    made, meshes = on_a_drum
    made = derive_ball_ground(made, meshes)
    other = edits.update(made, "path-1", shape=straight((0, -100, 280), (0, 100, 280)))
    other = derive_ball_ground(other, meshes)
    assert other.balls[0].normals != made.balls[0].normals
    turn = Rotation.from_matrix(Motion(other).poses("ball", [0.5])[0, :3, :3])
    assert turn.as_rotvec()[0] == pytest.approx(-50 / RADIUS, abs=1e-2)
    plain = derive_ball_ground(edits.update(made, "ball-1", on=None), meshes)
    assert plain.balls[0].normals == ()


def test_a_removed_surface_leaves_a_plane(on_a_drum):
    made, meshes = on_a_drum
    made = edits.remove(derive_ball_ground(made, meshes), "drum")
    assert made.balls[0].on is None and made.balls[0].normals == ()
