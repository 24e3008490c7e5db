"""Poses as CSV, written and read back as key poses."""

import msgspec
import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from kestrav.core.camera.making import add_standing
from kestrav.core.camera.views import angles_of, views
from kestrav.core.document import edits
from kestrav.core.document.records import Light, Placement
from kestrav.core.errors import BadInput
from kestrav.core.files.pose_tables import is_pose_table, keyed_poses, read_poses, with_poses
from kestrav.core.files.tables import camera_table, light_table, pose_table
from kestrav.core.kinematics.poses import light_places, world_poses
from kestrav.core.kinematics.runs import frame_times


def test_what_is_written_reads_back_as_the_same_motion(turning, tmp_path):
    project, _ = turning
    project = edits.update(project, "part-1", pivot=Placement((3.0, 4.0, 5.0)))
    times = frame_times(project)
    (tmp_path / "poses.csv").write_text(pose_table(project, times), encoding="utf-8")
    assert is_pose_table(tmp_path / "poses.csv")
    posed = keyed_poses(project, tmp_path / "poses.csv")
    still = project
    for item in ("run-1", "rotation-1"):
        still = edits.remove(still, item)
    again = with_poses(still, posed)
    mine, theirs = world_poses(project, times), world_poses(again, times)
    assert np.abs(mine[:, :2, :3, 3] - theirs[:, :2, :3, 3]).max() < 0.02
    turned = Rotation.from_matrix(
        (np.swapaxes(mine[:, :2, :3, :3], -1, -2) @ theirs[:, :2, :3, :3]).reshape(-1, 3, 3)
    ).magnitude()
    assert np.degrees(turned).max() < 0.02
    # a straight stretch needs no key at each frame
    assert all(len(track.keys) <= len(times) for track in again.pose_tracks)


def test_a_cameras_table_makes_it_stand_and_look_so(passing, tmp_path):
    moving = add_standing(passing.project, (400.0, -500.0, 300.0), "part-1", roll=())
    times = frame_times(moving)
    (tmp_path / "cameras.csv").write_text(camera_table(moving, passing.meshes, times), encoding="utf-8")
    fixed = edits.update(moving, moving.cameras[0].id, position=(0.0, -2000.0, 0.0))
    again = with_poses(fixed, keyed_poses(fixed, tmp_path / "cameras.csv"))
    seen, told = (views(p, passing.meshes, p.cameras[0], times) for p in (moving, again))
    assert np.abs(seen.position - told.position).max() < 0.02
    assert np.abs(np.array(angles_of(seen.forward)) - np.array(angles_of(told.forward))).max() < 0.05


def test_a_lights_table_reads_back(passing, tmp_path):
    light = Light("light-1", "Lamp", position=(100.0, 200.0, 300.0))
    (tmp_path / "lights.csv").write_text(light_table(edits.add(passing.project, light), np.linspace(0, 2, 5)))
    project = edits.add(passing.project, msgspec.structs.replace(light, position=(0.0, 0.0, 0.0)))
    again = with_poses(project, keyed_poses(project, tmp_path / "lights.csv"))
    assert light_places(again, again.lights[0], [1.0])[0][0] == pytest.approx([100, 200, 300])


def test_other_units_separators_and_names(passing, tmp_path):
    file = tmp_path / "table.csv"
    file.write_text("time [ms];part;x [m];y_m;z (m)\n0;Post;0;0,1;0\n".replace(",", "."), encoding="utf-8")
    (posed,) = read_poses(passing.project, file)
    assert posed.thing == "part-2" and posed.places[0] == pytest.approx([0, 100, 0])
    project = with_poses(passing.project, keyed_poses(passing.project, file))
    assert project.pose_tracks[0].keys[0].placement.position == pytest.approx((0, 100, 0))


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("a,b\n1,2\n", "no table of poses"),
        ("time_s,part,x_mm,y_mm,z_mm\n", "no rows"),
        ("time_s,part,x_mm,y_mm,z_mm\n0,Nobody,1,2,3\n", "row 2.*Nobody"),
        ("time_s,part,x_mm,y_mm,z_mm\n0,Cube,1,2,\n", "row 2"),
        ("time_s,part,x_mm,y_mm,z_mm\n0,Cube,1,2,inf\n", "not finite"),
        ("time_s,part,x_mm,y_mm,z_mm\n1,Cube,1,2,3\n0,Cube,1,2,3\n", "do not go forward"),
        ("time_s,part,x_miles,y_mm,z_mm\n1,Cube,1,2,3\n", "miles"),
        ("time_s,part,x_mm,y_mm,z_mm,qw,qx,qy,qz\n1,Cube,1,2,3,0,0,0,0\n", "no rotation"),
        ("time_s,part,x_mm,y_mm,z_mm\n1,Path,1,2,3\n", "no part, camera or light"),
        ("", "is empty"),
    ],
)
def test_a_table_that_cannot_be_read_is_told(passing, tmp_path, text, told):
    file = tmp_path / "table.csv"
    file.write_text(text, encoding="utf-8")
    with pytest.raises(BadInput, match=told):
        read_poses(passing.project, file)
