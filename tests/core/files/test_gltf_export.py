"""Animated glTF: valid by Khronos' validator, poses within the tolerance, few keys; and the tables of motion."""

import csv
import json
import struct
from pathlib import Path

import numpy as np
import pytest
import trimesh
from gltf_validator import issues
from players import Player
from scipy.spatial.transform import Rotation, Slerp

from bench.adversarial import made_case
from kestrav.core.camera.views import views
from kestrav.core.colours import linear
from kestrav.core.document import edits
from kestrav.core.document.records import (
    Axle,
    KeyPose,
    Part,
    Placement,
    PoseTrack,
    Project,
    TimedRotation,
)
from kestrav.core.document.surfaces import Finish
from kestrav.core.editing.finishing import with_finish
from kestrav.core.errors import BadInput
from kestrav.core.files.gltf_export import animated, write_animated
from kestrav.core.files.key_reduction import places_off, slerp, told_by, turns_off
from kestrav.core.files.product_import import read_product
from kestrav.core.files.tables import write_tables
from kestrav.core.kinematics.law_changes import changes
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import frame_times, span

ROOT = Path(__file__).parents[3]


def off(project, player, moments):
    """How far in mm and degrees parts are off at most at moments."""
    poses = world_poses(project, moments)
    far, turned = 0.0, 0.0
    for k in range(len(project.parts)):
        found = player.poses(k + 1, moments)  # below the node that turns Z up into Y up, in their order
        far = max(far, float(np.linalg.norm(found[:, :3, 3] - poses[:, k, :3, 3], axis=1).max()))
        turn = Rotation.from_matrix(np.swapaxes(found[:, :3, :3], 1, 2) @ poses[:, k, :3, :3]).magnitude()
        turned = max(turned, float(np.degrees(turn.max())))
    return far, turned


def holds(project, meshes, random):
    """Check motion at random times between keys, and on frames; the player."""
    player = Player(animated(project, meshes)[0])
    sudden = changes(Motion(project), span(project))[1]
    moments = np.sort(random.uniform(0, span(project), 300))
    # but for the microsecond in which single precision cannot tell when something jumps
    moments = moments[np.abs(moments[:, None] - sudden).min(axis=1, initial=np.inf) > 4e-6]
    far, turned = off(project, player, moments)
    assert far <= 0.05 and turned <= 0.05
    far, turned = off(project, player, frame_times(project))
    assert far <= 0.001 and turned <= 0.001
    for (_, path), (times, values, how) in player.channels.items():
        if path == "rotation" and how == "LINEAR":
            cosines = np.einsum("ij,ij->i", values[:-1], values[1:])
            cosines = cosines[np.diff(times) > 4e-6]  # a jump takes no time
            assert np.degrees(2 * np.arccos(np.clip(cosines, -1, 1))).max(initial=0) <= 120
    return player


def test_motion_of_the_demo_is_exact_between_keys_and_on_frames(demo, random):
    holds(demo.project, demo.meshes, random)


def test_motion_of_random_projects_is_exact_between_keys_and_on_frames(random):
    tried = 0
    for seed in range(5000, 5045):
        made = made_case(seed)
        if made is not None:
            project, meshes = made
            del meshes["face"]
            holds(project, meshes, random)
            tried += 1
    assert tried >= 25


@pytest.mark.parametrize("rpm", [60.0, -60.0, 100.0, 200.0, 1800.0, 6000.0])
@pytest.mark.parametrize("axis", [(0, 0, 1), (1, 2, 3)])
def test_what_turns_evenly_turns_the_way_it_does(passing, random, rpm, axis):
    project = edits.update(passing.project, "run-1", duration=2.9871)
    rotation = TimedRotation("rotation-1", "Post spins", "part-2", Axle((30, 0, 0), axis), end=3.0, turns=None, rpm=rpm)
    project = edits.add(project, rotation)
    player = holds(project, passing.meshes, random)
    # from a moment to a little later it goes forward, not back
    moments = np.linspace(0.1, 2.8, 200)
    poses = player.poses(2, moments)[:, :3, :3], player.poses(2, moments + 1e-4)[:, :3, :3]
    turn = Rotation.from_matrix(poses[1] @ np.swapaxes(poses[0], 1, 2)).as_rotvec()
    assert (turn @ (np.array(axis) * np.sign(rpm)) > 0).all()


def test_a_jump_stays_a_jump(passing):
    start = 1.0 + 1 / 240
    stands = [
        PoseTrack(f"pose-track-{k}", "Stands", "part-2", (KeyPose(0, Placement((x, 0, 0))),), at)
        for k, x, at in ((0, 90, 0.0), (1, 500, start))
    ]
    project = edits.add(passing.project, *stands)
    keys = (KeyPose(0, Placement((0, 0, 0))), KeyPose(0.5, Placement((100, 0, 0))))
    project = edits.add(project, PoseTrack("pose-track-2", "Goes on", "part-1", keys, 1.5))
    player = Player(animated(project, passing.meshes)[0])
    # what only jumps steps; what moves too has two keys with no time between them
    assert player.channels[2, "translation"][2] == "STEP"
    times = player.channels[1, "translation"][0].astype(np.float32)
    assert np.isin(np.nextafter(times, np.float32(np.inf)), times).any()
    for number, part in ((2, "part-2"), (1, "part-1")):
        moments = np.array([start - 1e-5, start, start + 1e-5, 1.5 - 1e-5, 1.5, 1.5 + 1e-5])
        there = Motion(project).poses(part, moments)[:, :3, 3]
        assert player.poses(number, moments)[:, :3, 3] == pytest.approx(there, abs=0.01)


@pytest.mark.parametrize("tolerance", [0.5, 0.05])
def test_poses_between_the_keys_are_within_the_tolerance(turning, tolerance):
    project, meshes = turning
    data, told = animated(project, meshes, tolerance)
    player = Player(data)
    times = np.linspace(0.0, span(project), 157)
    poses = world_poses(project, times)
    for row, part in enumerate(project.parts):
        number = player.named(part.name)
        corners = meshes[part.geometry].bounds
        for k, time in enumerate(times):
            found = player.pose(number, time)
            for corner in corners:
                mine = poses[k, row, :3, :3] @ corner + poses[k, row, :3, 3]
                theirs = found[:3, :3] @ corner + found[:3, 3]
                # beside the tolerance, what 120 samples a second and single precision leave
                assert np.linalg.norm(mine - theirs) < tolerance + 0.02
    assert told.keys < 0.25 * told.moving * 2 * told.samples


def test_a_larger_tolerance_needs_fewer_keys(turning):
    project, meshes = turning
    counts = [animated(project, meshes, tolerance)[1].keys for tolerance in (0.01, 0.1, 1.0)]
    assert counts[0] > counts[1] > counts[2]


def test_the_validator_finds_nothing(turning, tmp_path):
    report = issues(animated(*turning)[0], tmp_path)
    assert report["issues"]["numErrors"] == report["issues"]["numWarnings"] == 0, report["issues"]["messages"]


def test_the_validator_finds_nothing_in_the_demo(demo, tmp_path):
    times = np.linspace(0.0, span(demo.project), 120)
    report = issues(animated(demo.project, demo.meshes, 1.0, times)[0], tmp_path)
    assert report["issues"]["numErrors"] == report["issues"]["numWarnings"] == 0, report["issues"]["messages"]
    assert report["info"]["animationCount"] == 1


def test_trimesh_reads_parts_hierarchy_and_colours(turning, tmp_path):
    project, meshes = turning
    file = tmp_path / "made.glb"
    write_animated(edits.update(project, "part-2", colour="#ff8000"), meshes, file)
    scene = trimesh.load(file)
    sizes = {name: np.sort(mesh.extents) * 1000 for name, mesh in scene.geometry.items()}
    assert any(np.allclose(size, [20, 20, 20], atol=1e-3) for size in sizes.values())
    post = next(m for m in scene.geometry.values() if np.allclose(np.sort(m.extents) * 1000, [10, 10, 100], atol=1e-3))
    assert post.visual.material.baseColorFactor[:3].tolist() == [round(255 * v) for v in linear("#ff8000")] or (
        np.abs(np.array(post.visual.material.baseColorFactor[:3]) / 255 - linear("#ff8000")).max() < 0.01
    )
    # as first posed: the cube at the beginning of its path, in metres with Y up
    cube = next(n for n in scene.graph.nodes if n == "Cube")
    matrix, _ = scene.graph.get(cube)
    assert matrix[:3, 3] == pytest.approx([-0.1, 0.0, 0.0], abs=1e-6)


def test_nesting_stays_and_hidden_parts_have_no_mesh(passing):
    project = passing.project
    parts = (
        Part("group", "Group"),
        *(edits.change(p, parent="group") if p.id == "part-1" else p for p in project.parts),
    )
    project = edits.update(
        Project(**{f: getattr(project, f) for f in project.__struct_fields__} | {"parts": parts}), "part-2", shown=False
    )
    player = Player(animated(project, passing.meshes)[0])
    nodes = player.json["nodes"]
    group = player.named("Group")
    assert player.named("Cube") in nodes[group]["children"]
    assert "mesh" not in nodes[player.named("Post")]


def test_cameras_have_their_lens_and_look_where_they_do(turning):
    project, meshes = turning
    player = Player(animated(project, meshes, 0.05)[0])
    for camera in project.cameras:
        number = player.named(camera.name)
        lens = player.json["cameras"][player.json["nodes"][number]["camera"]]["perspective"]
        seen = views(project, meshes, camera, [0.0, 1.3])
        shot = next(s for s in project.shots if s.camera == camera.id)
        # glTF 2.0, 3.10.3: yfov is the vertical angle of view in radians
        assert lens["yfov"] == pytest.approx(seen.vertical_angle(camera, shot.width, shot.height)[0])
        assert lens["aspectRatio"] == pytest.approx(shot.width / shot.height)
        for k, time in enumerate((0.0, 1.3)):
            pose = player.pose(number, time)
            assert pose[:3, 3] == pytest.approx(seen.position[k], abs=0.1)
            assert -pose[:3, 2] == pytest.approx(seen.forward[k], abs=1e-3)
            assert pose[:3, 1] == pytest.approx(seen.up[k], abs=1e-3)


def test_a_project_without_motion_or_parts_is_still_a_file(tmp_path):
    data, told = animated(Project("Nothing"), {})
    assert told.keys == 0
    report = issues(data, tmp_path)
    assert report["issues"]["numErrors"] == 0


def test_files_are_not_overwritten_silently(turning, tmp_path):
    project, meshes = turning
    file = tmp_path / "made.glb"
    file.write_bytes(b"mine")
    with pytest.raises(BadInput, match="there already"):
        write_animated(project, meshes, file)
    assert file.read_bytes() == b"mine"
    with pytest.raises(BadInput, match=r"give \.glb"):
        write_animated(project, meshes, tmp_path / "made.obj")
    with pytest.raises(BadInput, match="cannot be written"):
        write_animated(project, meshes, tmp_path / "none" / "made.glb")


# keys


def test_a_straight_even_way_needs_two_keys_and_a_corner_one_more():
    times = np.linspace(0, 4, 200)
    line = np.stack([times, 2 * times, 0 * times], axis=1)
    assert told_by(200, places_off(times, line), 1e-9).tolist() == [0, 199]
    bent = np.where(times[:, None] < 2, line, line[100] + (line - line[100]) * [1, -1, 0])
    kept = told_by(200, places_off(times, bent), 0.05)
    assert 3 <= len(kept) <= 4


def test_keys_of_an_arc_are_as_many_as_its_sagitta_asks():
    times = np.linspace(0, 1, 2001)
    arc = 500.0 * np.stack([np.cos(2 * times), np.sin(2 * times), 0 * times], axis=1)
    kept = told_by(len(times), places_off(times, arc), 0.1)
    # chords of a sagitta s on a radius r span 2 acos(1 - s / r)
    exact = 2.0 / (2 * np.arccos(1 - 0.1 / 500.0))
    assert len(kept) - 1 == pytest.approx(exact, abs=1.5)


def test_turns_agree_with_scipys_slerp(random):
    ends = Rotation.random(2, random_state=3)
    share = np.linspace(0, 1, 9)
    mine = slerp(*ends.as_quat(), share)
    theirs = Slerp([0, 1], ends)(share).as_quat()
    assert np.abs(np.einsum("ij,ij->i", mine, theirs)) == pytest.approx(np.ones(9), abs=1e-12)
    times = np.linspace(0, 1, 50)
    even = Rotation.from_rotvec(np.outer(times, [0.4, -0.8, 1.1])).as_quat()
    assert told_by(50, turns_off(times, even), 1e-6).tolist() == [0, 49]


# tables


def test_tables_tell_poses_turns_and_cameras(turning, tmp_path):
    project, meshes = turning
    made = write_tables(project, meshes, tmp_path / "motion.csv")
    assert [f.name for f in made] == ["motion.csv", "motion-turns.csv", "motion-cameras.csv"]
    times = frame_times(project)
    poses = list(csv.DictReader(made[0].read_text().splitlines()))
    assert len(poses) == 2 * len(times)
    row = next(r for r in poses if r["frame"] == "7" and r["part"] == "Cube")
    pose = world_poses(project, times[7:8])[0, 0]
    assert [float(row[k]) for k in ("x_mm", "y_mm", "z_mm")] == pytest.approx(pose[:3, 3], abs=1e-5)
    quaternion = [float(row[k]) for k in ("qx", "qy", "qz", "qw")]
    assert Rotation.from_quat(quaternion).as_matrix() == pytest.approx(pose[:3, :3], abs=1e-7)
    turns = list(csv.DictReader(made[1].read_text().splitlines()))
    assert float(turns[-1]["Post spins deg"]) == pytest.approx(
        np.degrees(Motion(project).angles(project.rotations[0], times[-1:])[0])
    )
    cameras = list(csv.DictReader(made[2].read_text().splitlines()))
    assert {r["camera"] for r in cameras} == {c.name for c in project.cameras}
    assert float(cameras[0]["lens_mm"]) == 35.0
    with pytest.raises(BadInput, match="there already"):
        write_tables(project, meshes, tmp_path / "motion.csv")


def test_finishes_are_written_with_their_parameters_and_read_again(passing, tmp_path):
    # glTF 2.0, 3.9 and the ratified extensions of the Khronos registry
    made = {
        "part-1": Finish("", "Glass", colour="#f0fff8", roughness=0.0, transmission=1.0, index=1.33),
        "part-2": Finish(
            "", "Lacquer", colour="#203040", metallic=0.25, roughness=0.4, coat=0.8, coat_roughness=0.1, anisotropy=0.5
        ),
        "part-3": Finish(
            "",
            "Cloth lamp",
            colour="#808080",
            roughness=1.0,
            sheen="#ffffff",
            sheen_roughness=0.4,
            emission="#ffffff",
            luminance=1000.0,
        ),
    }
    project = passing.project
    for part, finish in made.items():
        project = with_finish(project, [part], finish)
    target = tmp_path / "finished.glb"
    write_animated(project, passing.meshes, target)
    data = target.read_bytes()
    document = json.loads(data[20 : 20 + struct.unpack_from("<I", data, 12)[0]])
    assert set(document["extensionsUsed"]) == {
        f"KHR_materials_{name}"
        for name in ("anisotropy", "clearcoat", "emissive_strength", "ior", "sheen", "transmission")
    }
    again = read_product(target)
    known = {finish.id: finish for finish in again.finishes}
    by_name = {part.name: (part.colour, known[part.finish]) for part in again.parts if part.geometry}
    for part, finish in made.items():
        colour, found = by_name[next(p.name for p in project.parts if p.id == part)]
        assert colour == finish.colour
        for field in (
            "metallic",
            "roughness",
            "coat",
            "coat_roughness",
            "transmission",
            "index",
            "anisotropy",
            "sheen",
            "sheen_roughness",
            "emission",
            "luminance",
        ):
            wanted, value = getattr(finish, field), getattr(found, field)
            if (field == "coat_roughness" and not finish.coat) or (field == "sheen_roughness" and not finish.sheen):
                continue
            assert value == (pytest.approx(wanted, rel=1e-4) if isinstance(wanted, float) else wanted), (part, field)
