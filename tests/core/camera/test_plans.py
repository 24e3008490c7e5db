"""Starting points made of products that are only known by their shape: each has nothing to be mended."""

import numpy as np
import pytest
from shapes import box_mesh, make_project

from kestrav.core.camera import plans
from kestrav.core.document import edits
from kestrav.core.editing.wheel_making import turns_of
from kestrav.core.errors import BadInput
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.findings.check import check
from kestrav.core.kinematics.poses import world_poses


def product(size, apart=True):
    wide, deep, high = size
    solids = {"Case": (box_mesh(wide, deep, high), (300, -200, 0.5 * high))}
    if apart:
        solids["Lid"] = (box_mesh(wide, deep, 0.1 * high), (300, -200, 1.2 * high))
    made = make_project(solids)
    return edits.settings(made.project, fps=30.0), made.meshes


def told(project, meshes):
    return [(f.title, f.detail) for f in check(project, meshes).findings]


@pytest.mark.parametrize("size", [(400, 300, 200), (1200, 200, 150), (60, 60, 400), (8, 5, 3)])
@pytest.mark.parametrize("apart", [False, True])
def test_a_turntable_loops_and_has_nothing_to_be_mended(size, apart):
    project, meshes = product(size, apart)
    made = plans.turntable(project, meshes, [p.id for p in project.parts], seconds=8.0)
    assert not told(made, meshes)
    assert made.shots[-1].end == pytest.approx(8.0)
    # a whole turn ends where it began
    poses = world_poses(made, [0.0, 8.0])
    assert poses[0] == pytest.approx(poses[1], abs=1e-6)
    if apart:
        # several are one from then on
        assert len([p for p in made.parts if p.parent is None]) == 1


@pytest.mark.parametrize("size", [(400, 300, 200), (300, 1500, 500), (2000, 60, 60), (300, 200, 1500)])
def test_what_drives_past_has_nothing_to_be_mended(size):
    project, meshes = product(size)
    made = plans.drive_past(project, meshes, [p.id for p in project.parts], seconds=6.0)
    assert not told(made, meshes)
    first, middle, last = world_poses(made, [0.0, 3.0, 6.0])[:, 0, :3, 3]
    way = last - first
    # along its longer side, by its own middle half way, five times its length in all
    assert np.linalg.norm(way) == pytest.approx(5.0 * max(size[:2]), rel=0.01)
    assert abs(way[int(np.argmax(size[:2]))]) == pytest.approx(np.linalg.norm(way))
    assert middle == pytest.approx(0.5 * (first + last), abs=0.1 * np.linalg.norm(way))


@pytest.mark.parametrize("turns", [1.0, 2.5])
def test_a_wheel_rolls_by_its_circumference(turns):
    from shapes import DEMO

    imported = read_product(DEMO.parent / "trolley.step")
    project = into_project(edits.settings(make_project({}).project, fps=30.0), imported)
    wheels = plans.wheels_of(project, imported.meshes, [])
    assert wheels and "wheel" in next(p.name for p in project.parts if p.id == wheels[0]).lower()
    made = plans.wheel_demonstrator(project, imported.meshes, wheels[0], turns, 5.0)
    roll = made.wheels[-1]
    assert abs(turns_of(made, roll)) == pytest.approx(turns, abs=1e-6)
    row = next(k for k, p in enumerate(made.parts) if p.id == wheels[0])
    first, last = world_poses(made, [0.0, 5.0])[:, row]
    assert np.linalg.norm(last[:3, 3] - first[:3, 3]) == pytest.approx(2 * np.pi * roll.radius * turns, rel=0.2)


def test_nothing_round_and_an_upright_axle_are_told():
    project, meshes = product((400, 300, 200))
    assert plans.wheels_of(project, meshes, []) == []
    with pytest.raises(BadInput, match="no cylinder"):
        plans.wheel_demonstrator(project, meshes, "part-1")
    with pytest.raises(BadInput, match="no product yet"):
        plans.as_one(make_project({}).project, [])
