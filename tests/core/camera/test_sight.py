"""What hides a subject, what is near a camera, and what it goes through."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh, make_project, straight

from kestrav.core.camera import obstacles
from kestrav.core.camera.camera_surroundings import passed_through, surroundings
from kestrav.core.camera.judged import Judged, of_shot
from kestrav.core.camera.sight import best_sight, free_lengths
from kestrav.core.document import edits
from kestrav.core.document.records import Attachment, Camera, Fade, PartAim, Placement, PointAim
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts.rest import rest_poses


def filmed(project, meshes, camera, times, aspect=1.0, rays=1024):
    return Judged(edits.add(project, camera), meshes, camera, np.asarray(times, float), aspect, rays)


@pytest.fixture
def screen():
    """A board before a wall-like box, seen from −y, and another that passes before it."""
    return make_project(
        {
            "Passer": (box_mesh(100, 10, 400), (-300, -300, 0)),
            "Subject": (box_mesh(200, 20, 200), (0, 0, 0)),
            "Board": (box_mesh(200, 4, 200), (0, 200, 0)),
        },
        straight((-300, -300, 0), (300, -300, 0)),
        duration=2.0,
    )


def camera(**fields):
    return Camera("camera-1", "Eye", **({"aim": PartAim("part-2"), "position": (0.0, -1000.0, 0.0)} | fields))


def test_a_passer_by_hides_just_what_it_covers(screen):
    judged = filmed(screen.project, screen.meshes, camera(), [0.0, 1.0])
    assert judged.sight.visible[0] == pytest.approx(1.0)
    assert judged.sight.hidden[0] == 0
    # from 1000 mm away its 100 mm at 695 mm cover 100 · 990 / 695 = 142.4 of the 200 mm at 990 mm
    assert judged.sight.hidden[1] == pytest.approx(142.4 / 200, abs=0.02)
    assert screen.project.parts[judged.sight.hiding[1]].name == "Passer"
    assert judged.sight.hiding[0] == -1


def test_see_through_and_faint_things_hide_nothing(screen):
    clear = edits.update(screen.project, "part-1", opacity=0.4)
    assert filmed(clear, screen.meshes, camera(), [1.0]).sight.hidden[0] == 0
    faint = camera(fades=(Fade("part-1", 0.9, 1.1),))
    judged = filmed(screen.project, screen.meshes, faint, [0.95, 1.15])
    assert judged.sight.hidden[0] == 0
    assert judged.sight.hidden[1] > 0.5


def test_what_is_beyond_the_edge_is_outside_and_not_hidden(screen):
    # looking 7° to the side by its aim, half of the subject leaves a narrow frame
    aside = camera(aim=PointAim((122.0, 0.0, 0.0)), subject="part-2", focal_length=140.0)
    judged = filmed(screen.project, screen.meshes, aside, [0.0])
    sight = judged.sight
    assert 0.2 < sight.outside[0] < 0.9
    assert sight.visible[0] + sight.hidden[0] + sight.outside[0] == pytest.approx(1.0)
    assert judged.framed.margin[0] < 0
    away = camera(aim=PointAim((0.0, -5000.0, 0.0)), subject="part-2")
    assert filmed(screen.project, screen.meshes, away, [0.0]).framed.outside[0]


def test_shares_in_parallel_views_are_those_of_the_outlines(screen):
    judged = filmed(screen.project, screen.meshes, camera(parallel=True, view_height=600.0), [1.0])
    assert judged.sight.hidden[0] == pytest.approx(0.5, abs=0.02)
    assert judged.framed.size[0] == pytest.approx(200 / 600)


def test_shares_agree_with_one_ray_after_another_through_all_triangles(demo, random):
    """Against trimesh's own rays through the whole scene put together anew in each frame."""
    project, shot = demo.project, demo.project.shots[0]
    eye = next(c for c in project.cameras if c.id == shot.camera)
    judged = of_shot(project, demo.meshes, shot, eye)
    from msgspec.structs import replace

    times = judged.times[:: max(len(judged.times) // 5, 1)][:5]
    judged = replace(judged, times=times, rays=1024)
    from kestrav.core.camera.lens import in_camera, on_frame
    from kestrav.core.parts.solids import solid_mesh

    subject = judged.subject
    own = set(subject.rows)
    for k, _ in enumerate(times):
        seen = judged.seen
        half = seen.half_height(eye, judged.aspect, 1.0)[k : k + 1]
        local = in_camera(
            seen.position[k : k + 1],
            seen.forward[k : k + 1],
            seen.up[k : k + 1],
            subject.places(judged.poses[k : k + 1]),
        )
        places = on_frame(local, half, judged.aspect, parallel=False)[0]
        at = random.uniform(places.min(axis=0), places.max(axis=0), (1500, 2))
        right = np.cross(seen.forward[k], seen.up[k])
        ways = seen.forward[k] + at[:, :1] * half * judged.aspect * right + at[:, 1:] * half * seen.up[k]
        ways /= np.linalg.norm(ways, axis=1)[:, None]
        shapes, owner = [], []
        for row, part in enumerate(project.parts):
            # what belongs to the subject hides nothing of it
            if part.geometry is None or (row not in own and (part.opacity < 1 or row in subject.belongs)):
                continue
            body = solid_mesh(demo.meshes, part).body.copy()
            body.apply_transform(judged.poses[k, row])
            shapes.append(body)
            owner.append(np.full(len(body.faces), row in own))
        scene, owner = trimesh.util.concatenate(shapes), np.concatenate(owner)
        alone = trimesh.util.concatenate(
            [s for s, r in zip(shapes, owner_rows(project, own, subject.belongs), strict=True) if r]
        )
        origins = np.broadcast_to(seen.position[k], ways.shape)
        hits = alone.ray.intersects_first(origins, ways) >= 0
        first = scene.ray.intersects_first(origins, ways)
        inside = hits & (np.abs(at) <= 1).all(axis=1)
        visible = (inside & owner[first]).sum() / max(hits.sum(), 1)
        # three standard deviations of 1500 · share random rays, and as much for ours
        allowed = 3 * np.sqrt(0.25 / max(hits.sum(), 1)) + 0.02
        assert judged.sight.visible[k] == pytest.approx(visible, abs=allowed)


def owner_rows(project, own, belongs):
    return [
        row in own
        for row, p in enumerate(project.parts)
        if p.geometry is not None and (row in own or not (p.opacity < 1 or row in belongs))
    ]


def test_the_nearest_thing_is_that_of_every_triangle(demo, random):
    project = demo.project
    times = np.array([0.5, 4.0, 9.0])
    poses = world_poses(project, times)
    places = random.uniform((-3000, -3000, 300), (4500, 2500, 2200), (3, 3))
    near = surroundings(project, demo.meshes, places, poses)
    from kestrav.core.parts.solids import solid_mesh

    for k, place in enumerate(places):
        best = np.inf
        for row, part in enumerate(project.parts):
            if part.geometry is None:
                continue
            body = solid_mesh(demo.meshes, part).body.copy()
            body.apply_transform(poses[k, row])
            spots = trimesh.triangles.closest_point(body.triangles, np.tile(place, (len(body.faces), 1)))
            best = min(best, float(np.linalg.norm(spots - place, axis=1).min()))
        if not near.inside[k]:
            assert near.distance[k] == pytest.approx(best, abs=1e-4)
            assert np.linalg.norm(near.point[k] - place) == pytest.approx(best, abs=1e-4)


def test_inside_a_closed_part_the_distance_is_none(screen):
    poses = world_poses(screen.project, np.zeros(2))
    near = surroundings(screen.project, screen.meshes, [(0, 0, 0), (0, -100, 0)], poses)
    assert near.inside.tolist() == [True, False]
    assert near.distance == pytest.approx([0.0, 90.0], abs=1e-4)


def test_an_upright_line_is_as_near_as_its_lowest_part(screen):
    poses = world_poses(screen.project, np.zeros(1))
    place = [(0, -300, 1000.0)]
    high = surroundings(screen.project, screen.meshes, place, poses, exclude=frozenset({0}))
    whole = surroundings(screen.project, screen.meshes, place, poses, exclude=frozenset({0}), below=950.0)
    assert high.distance[0] == pytest.approx(np.hypot(290, 900), abs=1e-3)
    assert whole.distance[0] == pytest.approx(290.0, abs=1e-3)


def test_going_through_something_between_two_frames_is_seen(screen):
    places = np.array([(0, 600, 0), (0, 100, 0), (0, -100, 0), (0, -400, 0)], float)
    poses = world_poses(screen.project, np.array([0.0, 0.1, 0.2, 0.3]))
    found = passed_through(screen.project, screen.meshes, places, poses)
    assert [screen.project.parts[r].name if r >= 0 else "" for r in found] == ["Board", "Subject", ""]


def test_what_sweeps_over_a_standing_camera_goes_through_it(screen):
    times = np.linspace(0.0, 2.0, 21)
    places = np.tile([0.0, -300.0, 0.0], (21, 1))
    found = passed_through(screen.project, screen.meshes, places, world_poses(screen.project, times))
    assert (found >= 0).any()
    assert {screen.project.parts[r].name for r in found if r >= 0} == {"Passer"}


def test_what_a_camera_rides_with_is_not_too_near_to_it(screen):
    eye = Camera("camera-1", "Eye", PartAim("part-2"), position=(-300, -340, 0))
    project = edits.add(screen.project, eye, Attachment("attachment-1", "Rides", "camera-1", "part-1"))
    judged = Judged(project, screen.meshes, eye, np.array([0.0, 1.0]))
    assert judged.near.distance.min() > 200


def test_bodies_are_kept_while_only_times_change(screen):
    first = obstacles.bodies(screen.project, screen.meshes)
    later = edits.update(screen.project, "run-1", duration=3.0)
    assert obstacles.bodies(later, screen.meshes) is first
    moved = edits.update(screen.project, "part-3", placement=Placement((0.0, 300.0, 0.0)))
    assert obstacles.bodies(moved, screen.meshes) is not first


def test_sight_is_hidden_by_what_stands_in_it(passing):
    poses = rest_poses(passing.project)
    lengths = free_lengths(passing.project, passing.meshes, poses, (0, 0, 0), np.array([[0, 1.0, 0], [0, -1.0, 0]]))
    assert lengths[0] == pytest.approx(14.0)
    assert np.isinf(lengths[1])


def test_the_best_sight_sees_the_gap_from_the_side(passing):
    poses = rest_poses(passing.project)
    gap = [(0, 10, 0), (0, 14, 0)]
    way = best_sight(passing.project, passing.meshes, poses, (0, 12, 0), gap, (1, 0, 0.2), 1000.0)
    assert abs(way[1]) < 0.5
    assert np.isinf(free_lengths(passing.project, passing.meshes, poses, (0, 12, 0), way[None]))
