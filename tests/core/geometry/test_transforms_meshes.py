"""Transforms against SciPy, meshes against trimesh."""

import pickle

import numpy as np
import pytest
import trimesh
from scipy.spatial.transform import Rotation
from shapes import box_mesh

from kestrav.core.geometry.meshes import box_corners, encloses, mesh, turned_bounds
from kestrav.core.geometry.transforms import (
    angles_from_quaternion,
    apply,
    inverse_rigid,
    quaternion_from_rotation,
    rigid,
    rotation_angle,
    rotation_from_quaternion,
    split_stretch,
)


def test_rotations_agree_with_scipy(random):
    rotations = Rotation.random(50, rng=random)
    quaternions = rotations.as_quat(scalar_first=True)
    assert rotation_from_quaternion(quaternions) == pytest.approx(rotations.as_matrix())
    back = quaternion_from_rotation(rotations.as_matrix())
    assert (back[:, 0] >= 0).all()
    assert np.abs(np.einsum("ij,ij->i", back, quaternions)) == pytest.approx(np.ones(50))
    angle = rotation_angle(rotations[:-1].as_matrix(), rotations[1:].as_matrix())
    assert angle == pytest.approx((rotations[:-1].inv() * rotations[1:]).magnitude())


def test_inverse_undoes(random):
    matrices = rigid(Rotation.random(9, rng=random).as_matrix(), random.uniform(-100, 100, (9, 3)))
    assert inverse_rigid(matrices) @ matrices == pytest.approx(np.tile(np.eye(4), (9, 1, 1)), abs=1e-10)
    points = random.uniform(-10, 10, (5, 3))
    assert apply(inverse_rigid(matrices), apply(matrices, points)[0])[0] == pytest.approx(points)


@pytest.mark.parametrize("scale", [(2, 3, 0.5), (-1, 1, 1), (1000, 1000, 1000)])
def test_stretch_is_split_off_and_the_rest_is_a_proper_motion(scale, random):
    matrix = np.eye(4)
    matrix[:3, :3] = Rotation.random(rng=random).as_matrix() @ np.diag(scale)
    matrix[:3, 3] = [1, 2, 3]
    placed, stretch = split_stretch(matrix)
    assert placed[:3, :3] @ stretch == pytest.approx(matrix[:3, :3])
    assert np.linalg.det(placed[:3, :3]) == pytest.approx(1)
    assert placed[:3, 3] == pytest.approx([1, 2, 3])


def test_equal_shapes_have_equal_hashes_and_others_have_not():
    box = trimesh.creation.box((10, 20, 30))
    first = mesh(box.vertices, box.faces)
    noisy = mesh(np.asarray(box.vertices) + 1e-6, box.faces)
    assert first.hash == noisy.hash
    assert first.hash != mesh(np.asarray(box.vertices) * 1.001, box.faces).hash
    assert first.watertight


def test_triangles_without_area_and_unused_vertices_go():
    found = mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0], [9, 9, 9]], [[0, 1, 2], [0, 1, 1]])
    assert len(found.triangles) == 1
    assert len(found.vertices) == 3


@pytest.mark.parametrize(("vertices", "triangles"), [([[0, 0, 0]], []), ([[0, 0, np.nan]] * 3, [[0, 1, 2]])])
def test_a_mesh_of_nothing_is_refused(vertices, triangles):
    with pytest.raises(ValueError, match="mesh"):
        mesh(vertices, triangles)


def test_turned_bounds_hold_the_turned_corners(random):
    bounds = np.array([[-1.0, 2, 3], [4, 5, 6]])
    poses = rigid(Rotation.random(20, rng=random).as_matrix(), random.uniform(-9, 9, (20, 3)))
    corners = apply(poses, box_corners(bounds))
    expected = np.stack([corners.min(axis=1), corners.max(axis=1)], axis=1)
    assert turned_bounds(bounds, poses) == pytest.approx(expected)


def test_inside_agrees_with_trimesh(random):
    ball = trimesh.creation.icosphere(subdivisions=2, radius=10)
    shape = mesh(ball.vertices, ball.faces)
    points = random.uniform(-12, 12, (60, 3))
    expected = trimesh.Trimesh(shape.vertices, shape.triangles).contains(points)
    assert [encloses(shape, p) for p in points] == expected.tolist()


@pytest.mark.parametrize("y", [-90.0, -30.0, 0.0, 45.0, 90.0])
@pytest.mark.parametrize(("x", "z"), [(0.0, 0.0), (35.0, -120.0), (-170.0, 80.0)])
def test_angles_give_their_rotation_back(x, y, z):
    turned = Rotation.from_euler("xyz", [x, y, z], degrees=True)
    angles = angles_from_quaternion(turned.as_quat(scalar_first=True))
    again = Rotation.from_euler("xyz", angles, degrees=True)
    assert again.as_matrix() == pytest.approx(turned.as_matrix(), abs=1e-7)


def test_what_is_known_of_a_mesh_goes_to_another_process_but_its_body():
    box = box_mesh(2, 3, 4)
    known = box.hash, box.watertight, box.volume
    there = pickle.loads(pickle.dumps(box))
    assert {"hash", "watertight", "volume"} <= set(vars(there))
    assert "body" not in vars(there)
    assert (there.hash, there.watertight, there.volume) == known
    np.testing.assert_array_equal(there.triangles, box.triangles)
    assert there.body.is_watertight
