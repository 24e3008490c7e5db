"""Things that are knocked over, and the floor under them."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh, straight

from kestrav.core.clearance.knocking import add_knock
from kestrav.core.clearance.triggers import derive_contact_triggers
from kestrav.core.document import edits
from kestrav.core.document.records import KeyPose, Part, Path, Placement, PoseTrack, Project, Run
from kestrav.core.editing.floor import depths, kept_on_surface
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.motion import Motion
from kestrav.core.parts.solids import geometry_record


def scene(struck, height, table=0.0):
    """A ram that runs into something standing on the floor, or on a table."""
    shapes = {
        "ram": (box_mesh(40, 200, 20), (0, 0, table + 0.6 * height)),
        "struck": (struck, (300, 0, table + height / 2)),
    }
    if table:
        shapes["table"] = (box_mesh(900, 600, table), (350, 0, table / 2))
    parts = tuple(Part(n, n, placement=Placement(at), geometry=m.hash) for n, (m, at) in shapes.items())
    meshes = {m.hash: m for m, _ in shapes.values()}
    made = Project(parts=parts, geometry=tuple(geometry_record(m) for m in meshes.values()))
    line = straight((0, 0, table + 0.6 * height), (290, 0, table + 0.6 * height))
    return edits.add(made, Path("path-1", "P", line), Run("run-1", "Rams", "ram", "path-1", duration=1.0)), meshes


def times_of(made):
    start = made.pose_tracks[0].trigger.time
    return np.linspace(start, start + made.pose_tracks[0].keys[-1].time, 200)


@pytest.mark.parametrize("table", [0.0, 300.0])
def test_a_box_slides_and_tips_over_on_what_it_stands_on(table):
    made, meshes = scene(box_mesh(60, 60, 200), 200.0, table)
    made = add_knock(made, meshes, "ram", "struck", 15, 80.0)
    made = derive_contact_triggers(made, meshes)
    poses = made.pose_tracks[0]
    assert poses.trigger.time == pytest.approx(250 / 290, abs=1e-4) and poses.keys[-1].time == pytest.approx(0.5)
    end = Motion(made).poses("struck", [5.0])[0]
    assert end[:3, 2] == pytest.approx((1, 0, 0), abs=1e-6)  # its upside looks the way that it was pushed
    # it lies on its side: beyond its lower edge by half its height, and slid 80 mm
    assert end[:3, 3] == pytest.approx((330 + 100 + 80, 0, table + 30), abs=1e-3)
    deep, _ = depths(made, meshes, "struck", times_of(made))
    assert deep.max() <= 0.1 and deep[0] == pytest.approx(0.0, abs=1e-3)
    assert deep.min() > -3.0  # nor does it hover


def test_a_drum_tips_over_onto_its_round_side():
    drum = trimesh.creation.cylinder(40.0, 150.0, sections=48)
    made, meshes = scene(mesh(drum.vertices, drum.faces), 150.0)
    made = derive_contact_triggers(add_knock(made, meshes, "ram", "struck", 20, 30.0), meshes)
    assert Motion(made).poses("struck", [5.0])[0, 2, 3] == pytest.approx(40.0, abs=0.2)
    assert depths(made, meshes, "struck", times_of(made))[0].max() <= 0.1


def test_keys_are_added_where_it_would_dig_in_between_them():
    made, meshes = scene(box_mesh(60, 60, 200), 200.0)
    half = np.sqrt(0.5)
    keys = (KeyPose(0.0, Placement((300, 0, 100))), KeyPose(1.0, Placement((400, 0, 30), (half, 0, half, 0))))
    made = edits.add(made, PoseTrack("pose-track-1", "Falls", "struck", keys, start=1.0))
    times = np.linspace(1, 2, 100)
    assert depths(made, meshes, "struck", times)[0].max() > 5.0
    mended = kept_on_surface(made, meshes, "pose-track-1", 1.0)
    assert len(mended.pose_tracks[0].keys) > 2 and depths(mended, meshes, "struck", times)[0].max() <= 1.1
    assert kept_on_surface(mended, meshes, "pose-track-1", 1.0) is mended


def test_what_cannot_be_knocked_is_refused():
    made, meshes = scene(box_mesh(60, 60, 200), 200.0)
    short = edits.update(made, "run-1", end=0.5)
    with pytest.raises(BadInput, match="never comes to touch"):
        add_knock(short, meshes, "ram", "struck", 15, 80.0)
    with pytest.raises(BadInput, match="0 frames"):
        add_knock(made, meshes, "ram", "struck", 0, 80.0)
    with pytest.raises(BadInput, match="up to 180"):
        add_knock(made, meshes, "ram", "struck", 10, 80.0, 270.0)
