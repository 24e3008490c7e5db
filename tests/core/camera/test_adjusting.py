"""Edits of a camera as seen through it."""

import msgspec
import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.camera import adjusting, making, orbits
from kestrav.core.camera.framing import framed
from kestrav.core.camera.subject import subject_of
from kestrav.core.camera.views import views
from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongAim,
    Attachment,
    Camera,
    FreeAim,
    LookKey,
    PartAim,
    Path as PathRecord,
    PointAim,
    Run,
)
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.poses import world_poses


@pytest.fixture
def still():
    """A box and a camera that stands."""
    opened = make_project({"Box": (box_mesh(400, 300, 500), (0, 0, 250))})
    project = making.add_standing(opened.project, (1500.0, -1800.0, 900.0), "part-1")
    return opened.__class__(project, opened.meshes)


def seen(opened, project, time=0.0):
    return views(project, opened.meshes, project.cameras[0], [time])


def test_a_standing_camera_is_moved_dollied_and_orbited(still):
    camera = still.project.cameras[0].id
    before = seen(still, still.project)
    away = np.linalg.norm(before.target[0] - before.position[0])
    near = adjusting.dollied(still.project, still.meshes, camera, 0.0, 0.5)
    found = seen(still, near)
    assert np.linalg.norm(found.target[0] - found.position[0]) == pytest.approx(away / 2, abs=0.01)
    assert found.forward[0] == pytest.approx(before.forward[0], abs=1e-5)
    turned = seen(still, adjusting.orbited(still.project, still.meshes, camera, 0.0, 30.0, 10.0))
    assert np.linalg.norm(turned.target[0] - turned.position[0]) == pytest.approx(away, abs=0.01)
    angle = np.degrees(np.arctan2(*(before.position[0] - before.target[0])[1::-1]))
    now = np.degrees(np.arctan2(*(turned.position[0] - turned.target[0])[1::-1]))
    assert angle - now == pytest.approx(30.0, abs=1e-3)
    aside = edits.update(still.project, camera, aim=PointAim((0.0, 0.0, 250.0)))
    shifted = seen(still, adjusting.shifted(aside, still.meshes, camera, 0.0, 100.0, -50.0))
    step = shifted.position[0] - before.position[0]
    assert np.linalg.norm(step) == pytest.approx(np.hypot(100, 50), abs=0.01)
    assert shifted.forward[0] == pytest.approx(before.forward[0], abs=1e-5)


def test_on_an_orbit_it_is_the_orbit_that_changes(still):
    project = orbits.add_orbit(still.project, still.meshes, ["part-1"], offset=1000.0, duration=4.0)
    project = msgspec.structs.replace(project, cameras=project.cameras[1:], shots=project.shots[1:])
    camera = project.cameras[0].id
    before = seen(still, project, 1.0)
    wide = adjusting.dollied(project, still.meshes, camera, 1.0, 1.5)
    assert wide.paths[0].shape.offset > 1000.0
    now = seen(still, wide, 1.0)
    assert np.linalg.norm(now.target[0] - now.position[0]) == pytest.approx(
        1.5 * np.linalg.norm(before.target[0] - before.position[0]), rel=0.02
    )
    high = adjusting.moved(project, camera, 1.0, (0.0, 0.0, 250.0))
    assert high.paths[0].shape.height == pytest.approx(project.paths[0].shape.height + 250)
    turned = adjusting.orbited(project, still.meshes, camera, 1.0, 20.0, 0.0)
    assert turned.paths[0].shape.start == pytest.approx(project.paths[0].shape.start - 20.0, abs=0.01)


def test_on_another_path_it_is_carried_beside_it(still):
    project = edits.add(still.project, PathRecord("path-1", "Way", straight((0, -2000, 500), (1000, -2000, 500))))
    project = edits.add(project, Run("run-1", "Goes", "camera-1", "path-1"))
    before = seen(still, project, 2.0).position[0]
    moved = adjusting.moved(project, "camera-1", 2.0, (0.0, -300.0, 120.0))
    assert seen(still, moved, 2.0).position[0] - before == pytest.approx([0, -300, 120], abs=1e-3)
    assert moved.paths == project.paths


def test_riding_it_sits_elsewhere_on_what_it_rides_with(passing):
    project = edits.add(
        passing.project,
        Camera("camera-1", "Eye", PartAim("part-2"), position=(-100, -200, 50)),
        Attachment("attachment-1", "Rides", "camera-1", "part-1"),
    )
    moved = adjusting.moved(project, "camera-1", 1.5, (10.0, 0.0, 30.0))
    before, after = (views(p, passing.meshes, p.cameras[0], [0.5, 1.5]).position for p in (project, moved))
    assert after - before == pytest.approx(np.tile([10, 0, 30], (2, 1)), abs=1e-3)


def test_looking_elsewhere_turns_what_the_aim_lets_be_turned(still):
    camera = still.project.cameras[0].id
    with pytest.raises(BadInput, match="keeps looking at “Box”"):
        adjusting.looked(still.project, still.meshes, camera, 0.0, 10.0, 0.0)
    free = adjusting.aimed_freely(still.project, still.meshes, camera, 0.5)
    assert seen(still, free).forward[0] == pytest.approx(seen(still, still.project).forward[0], abs=1e-5)
    turned = adjusting.looked(free, still.meshes, camera, 2.0, 25.0, -5.0)
    aim = turned.cameras[0].aim
    assert isinstance(aim, FreeAim)
    assert [k.time for k in aim.keys] == [0.5, 2.0]
    assert aim.keys[1].yaw - aim.keys[0].yaw == pytest.approx(25.0, abs=1e-3)
    along = edits.update(still.project, camera, aim=AlongAim())
    assert adjusting.looked(along, still.meshes, camera, 0.0, 25.0, 5.0).cameras[0].aim == AlongAim(0.0, 25.0, 5.0)
    point = edits.update(still.project, camera, aim=PointAim((0.0, 0.0, 250.0)))
    away = seen(still, adjusting.looked(point, still.meshes, camera, 0.0, 90.0, 0.0))
    assert away.forward[0, :2] @ seen(still, point).forward[0, :2] == pytest.approx(0.0, abs=1e-4)


def test_a_free_look_goes_the_shorter_way_round():
    from kestrav.core.camera.views import look_keys_to

    keys = look_keys_to(FreeAim((LookKey(0.0, 350.0),)), 1.0, 10.0, 0.0)
    assert keys[1].yaw == pytest.approx(370.0)


@pytest.mark.parametrize("by", ["lens", "distance"])
@pytest.mark.parametrize("aspect", [16 / 9, 9 / 16])
def test_fitting_leaves_just_the_margin(still, by, aspect):
    camera = still.project.cameras[0].id
    project = adjusting.fitted(still.project, still.meshes, camera, 0.0, aspect, by, 0.1)
    eye = project.cameras[0]
    poses = world_poses(project, [0.0])
    view = views(project, still.meshes, eye, [0.0], poses, aspect)
    found = framed(eye, subject_of(project, still.meshes, eye), view, poses, aspect)
    assert found.margin[0] == pytest.approx(0.1, abs=2e-3)


def test_fitting_without_a_subject_is_refused(still):
    camera = still.project.cameras[0].id
    project = edits.update(still.project, camera, aim=PointAim((0.0, 0.0, 0.0)))
    for edit in (
        lambda: adjusting.fitted(project, still.meshes, camera, 0.0, 1.5),
        lambda: adjusting.holding_size(project, still.meshes, camera, 0.0, 1.5, "lens"),
    ):
        with pytest.raises(BadInput, match="no subject"):
            edit()


def test_a_parallel_camera_is_fitted_and_dollied_by_what_it_shows(still):
    camera = still.project.cameras[0].id
    project = edits.update(still.project, camera, parallel=True, view_height=5000.0)
    fitted = adjusting.fitted(project, still.meshes, camera, 0.0, 16 / 9)
    assert 500 < fitted.cameras[0].view_height < 1000
    assert adjusting.dollied(project, still.meshes, camera, 0.0, 0.5).cameras[0].view_height == 2500.0


def test_rolling_and_levelling(still):
    camera = still.project.cameras[0].id
    rolled = adjusting.rolled(still.project, camera, 1.0, 15.0)
    assert len(rolled.cameras[0].roll) == 1
    assert adjusting.levelled(rolled, camera).cameras[0].roll == ()
