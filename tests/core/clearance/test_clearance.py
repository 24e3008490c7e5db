"""Clearance against closed forms, python-fcl, and the bare library on every pair at every frame."""

import coal
import fcl
import msgspec
import numpy as np
import pytest
import trimesh
from scipy.spatial.transform import Rotation
from shapes import box_mesh, make_project, straight

from kestrav.core.clearance.asked import asked_of
from kestrav.core.clearance.contact_pairs import touching_at_rest
from kestrav.core.clearance.sweep import intervals_of, prepared, sweep
from kestrav.core.document import edits
from kestrav.core.document.lookup import shown_parts
from kestrav.core.errors import Cancelled
from kestrav.core.geometry.meshes import mesh
from kestrav.core.geometry.models import model, nearest, placed
from kestrav.core.geometry.transforms import rigid
from kestrav.core.kinematics.poses import moving_groups, world_poses
from kestrav.core.kinematics.runs import frame_times


def at(*place):
    return placed(rigid(np.eye(3), place))


def ball(radius, subdivisions=4):
    made = trimesh.creation.icosphere(subdivisions=subdivisions, radius=radius)
    return mesh(made.vertices, made.faces)


def cylinder(radius, height, sections=256):
    made = trimesh.creation.cylinder(radius=radius, height=height, sections=sections)
    return mesh(made.vertices, made.faces)


def test_boxes_have_the_distance_of_their_faces_edges_and_corners():
    a, b = model(box_mesh(20, 20, 20)), model(box_mesh(10, 10, 10))
    for place, expected in (
        ((40, 0, 0), 25.0),  # face to face: 40 - 10 - 5
        ((40, 40, 0), 25 * np.sqrt(2)),
        ((40, 40, 40), 25 * np.sqrt(3)),
    ):
        found = nearest(a, at(0, 0, 0), b, at(*place))
        assert found.distance == pytest.approx(expected, abs=1e-9)
        assert np.linalg.norm(found.first - found.second) == pytest.approx(expected, abs=1e-9)


def test_ball_to_box_and_to_ball_within_the_facets_sag():
    # closed form |c| - r - half side and |c| - 2 r; a facet of an inscribed ball sags by less than 0.02 mm here
    a, b = model(ball(10.0)), model(box_mesh(20, 20, 20))
    assert nearest(a, at(0, 0, 35), b, at(0, 0, 0)).distance == pytest.approx(15.0, abs=0.02)
    assert nearest(a, at(3, 4, 40), a, at(0, 0, 0)).distance == pytest.approx(np.sqrt(25 + 1600) - 20, abs=0.03)


def test_parallel_cylinders():
    # closed form: distance of the axes less both radii; sagitta of 256 sides: r (1 - cos(pi/256))
    a, b = model(cylinder(10.0, 50.0)), model(cylinder(4.0, 50.0))
    assert nearest(a, at(0, 0, 0), b, at(17, 0, 0)).distance == pytest.approx(3.0, abs=0.002)


def test_crossing_surfaces_are_at_zero():
    a = model(box_mesh(20, 20, 20))
    assert nearest(a, at(0, 0, 0), a, at(15, 3, 2)).distance == 0.0


def test_a_bound_gives_up_far_pairs():
    a = model(box_mesh(20, 20, 20))
    assert nearest(a, at(0, 0, 0), a, at(120, 0, 0), below=99.0) is None
    assert nearest(a, at(0, 0, 0), a, at(120, 0, 0), below=101.0).distance == pytest.approx(100.0)


def test_distances_agree_with_fcl_on_meshes(random):
    shapes = [ball(12.0, 2), cylinder(6.0, 30.0, 24), box_mesh(8, 20, 14)]

    def fcl_model(shape):
        made = fcl.BVHModel()
        made.beginModel(len(shape.vertices), len(shape.triangles))
        made.addSubModel(shape.vertices, shape.triangles)
        made.endModel()
        return made

    for a in shapes:
        for b in shapes:
            turn = Rotation.random(rng=random).as_matrix()
            place = random.normal(size=3)
            place *= 45 / np.linalg.norm(place)
            ours = nearest(model(a), at(0, 0, 0), model(b), placed(rigid(turn, place))).distance
            theirs = fcl.distance(
                fcl.CollisionObject(fcl_model(a), fcl.Transform()),
                fcl.CollisionObject(fcl_model(b), fcl.Transform(turn, place)),
                fcl.DistanceRequest(),
                fcl.DistanceResult(),
            )
            assert ours == pytest.approx(theirs, abs=1e-6)


def every_pair(opened, times, contacts=()):
    """The least distance per frame, by the bare library on every pair that is asked for, is not in contact and does not stand nearer."""
    project = opened.project
    group = moving_groups(project)
    rows = [i for i, p in enumerate(project.parts) if p.geometry and p.id in shown_parts(project)]
    ids = [part.id for part in project.parts]
    models = {i: model(opened.meshes[project.parts[i].geometry]) for i in rows}
    pairs = [(a, b) for a in rows for b in rows if ids[a] in group and group.get(ids[b]) != group[ids[a]]]
    asked = asked_of(project, [(ids[a], ids[b]) for a, b in pairs]).checked
    pairs = [pair for pair, on in zip(pairs, asked, strict=True) if on]
    near = [(frozenset((n.pair.moving, n.pair.other)), n.spans) for n in prepared(project, opened.meshes).near.values()]
    least = []
    for time, poses in zip(times, world_poses(project, times), strict=True):
        skip = {frozenset((c.pair.moving, c.pair.other)) for c in contacts if c.at(time)}
        skip |= {pair for pair, spans in near if any(start <= time <= end for start, end in spans)}
        transforms = {i: placed(poses[i]) for i in rows}
        least.append(
            min(
                coal.distance(
                    models[a], transforms[a], models[b], transforms[b], coal.DistanceRequest(), coal.DistanceResult()
                )
                for a, b in pairs
                if frozenset((ids[a], ids[b])) not in skip
            )
        )
    return np.maximum(least, 0.0)


def test_sweep_finds_the_breach_and_its_frames(passing):
    times = frame_times(passing.project)
    found = sweep(passing.project, passing.meshes, times)
    assert found.distance[found.worst] == pytest.approx(4.0)
    assert found.pairs[found.worst].moving == "part-1"
    assert found.pairs[found.worst].other == "part-2"
    # within 5 mm while the corner of the cube is less than 3 mm past the post's face: sqrt(5^2 - 4^2)
    x = -100 + 100 * times
    close = np.abs(x) < 15 + 3
    assert found.intervals() == intervals_of(np.flatnonzero(close))
    gap = found.points[found.worst]
    assert np.linalg.norm(gap[0] - gap[1]) == pytest.approx(4.0)
    assert found.distance == pytest.approx(every_pair(passing, times, found.contacts), abs=1e-6)


def test_touching_at_rest_is_proposed_and_left_out_until_said_otherwise():
    opened = make_project(
        {"Sled": (box_mesh(20, 20, 20), (0, 0, 10)), "Table": (box_mesh(300, 300, 10), (0, 0, -5))},
        straight((0, 0, 10), (50, 0, 10)),
    )
    project, meshes = opened.project, opened.meshes
    proposed = touching_at_rest(project, meshes)
    assert [(p.moving, p.other) for p in proposed] == [("part-1", "part-2")]
    times = frame_times(project)
    assert sweep(project, meshes, times).worst is None
    strict = edits.set_contact(project, "part-2", "part-1", intended=False)
    found = sweep(strict, meshes, times)
    assert found.distance[0] == 0.0
    assert found.breaches[0].intervals == ((0, len(times) - 1),)


def test_a_part_wholly_inside_another_solid_is_at_zero():
    opened = make_project(
        {"Pea": (ball(2.0, 1), (0, 0, 0)), "Block": (box_mesh(200, 60, 60), (150, 0, 0))},
        straight((0, 0, 0), (150, 0, 0)),
        duration=0.5,
    )
    found = sweep(opened.project, opened.meshes, np.array([0.0, 0.25, 0.5]))
    assert found.distance[0] == pytest.approx(48.0, abs=0.5)
    assert found.distance[2] == pytest.approx(-30.0, abs=0.01)  # the middle of the block is that far from its surface


def test_how_deep_parts_pass_through_each_other_is_measured_at_some_places_where_these_are_many(monkeypatch):
    # a box of 20 passes a row of posts whose faces reach 2, 4, ... 12 mm into its way: closed form, the same all along each post
    shapes = {"Box": (box_mesh(20, 20, 20), (-40.0, 0.0, 0.0))}
    shapes |= {
        f"Post {n}": (box_mesh(60, 40, 300), (90.0 * n + 60.0, 30.0 - depth, 0.0))
        for n, depth in enumerate(range(2, 14, 2))
    }
    opened = make_project(shapes, straight((-40, 0, 0), (700, 0, 0)), duration=5.0)
    times = frame_times(opened.project)
    whole = sweep(opened.project, opened.meshes, times)
    monkeypatch.setattr("kestrav.core.clearance.sweep._MOST_DEPTHS", 18)
    some = sweep(opened.project, opened.meshes, times)
    for found in (whole, some):
        assert {b.pair.other: round(-b.distance, 2) for b in found.breaches if b.distance < 0} == {
            f"part-{n + 2}": float(depth) for n, depth in enumerate(range(2, 14, 2))
        }
    # which frames are breaches does not hang on how many were measured, and between measured ones the depth is told as well
    assert [b.intervals for b in some.breaches] == [b.intervals for b in whole.breaches]
    assert ((some.distance < 0) == (whole.distance < 0)).all()


def test_what_stands_near_does_not_keep_what_comes_near_from_being_looked_at():
    # boxes that ride along with the cube stand 0.4 to 0.49 mm from plates, nearer than the 5 mm required of all; the post is passed at 4 mm
    shapes = {"Cube": (box_mesh(20, 20, 20), (-100.0, 0.0, 0.0)), "Post": (box_mesh(10, 10, 100), (0.0, 19.0, 0.0))}
    shapes |= {f"Plate {n}": (box_mesh(600, 2, 2), (0.0, -11.4 - 0.01 * n, 4.0 * n - 8.0)) for n in range(5)}
    opened = make_project(shapes, straight((-100, 0, 0), (100, 0, 0)), duration=2.0)
    project = msgspec.structs.replace(
        opened.project, settings=msgspec.structs.replace(opened.project.settings, required_clearance=5.0)
    )
    found = sweep(project, opened.meshes, frame_times(project))
    assert [b.pair.other for b in found.breaches] == ["part-2"]
    assert found.distance.min() == pytest.approx(4.0)


def test_two_movers_are_checked_against_each_other():
    opened = make_project(
        {"A": (box_mesh(10, 10, 10), (0, 0, 0)), "B": (box_mesh(10, 10, 10), (100, 0, 0))},
        straight((0, 0, 0), (40, 0, 0)),
        duration=1.0,
    )
    project = edits.add(
        opened.project,
        type(opened.project.paths[0])("path-2", "Q", straight((100, 0, 0), (60, 0, 0))),
        type(opened.project.runs[0])("run-2", "Q", "part-2", "path-2", duration=1.0),
    )
    found = sweep(project, opened.meshes, np.array([0.0, 0.5, 1.0]))
    assert found.distance == pytest.approx([90, 50, 10])
    assert len({(p.moving, p.other) for p in found.pairs}) == 1


def test_hidden_parts_are_not_checked(passing):
    project = edits.update(passing.project, "part-2", shown=False)
    found = sweep(project, passing.meshes, frame_times(project))
    # only the floor is left, and that is touched at rest
    assert found.worst is None


def test_progress_is_told_and_can_stop_the_work(passing):
    told = []

    def stop(share):
        told.append(share)
        if len(told) > 1:
            raise Cancelled

    with pytest.raises(Cancelled):
        sweep(passing.project, passing.meshes, frame_times(passing.project), stop)
    assert told[0] == 0.0


def test_demo_agrees_with_every_pair_where_it_is_near(demo):
    times = np.array([0.0, 49 / 30, 5.0])  # every pair is measured beside it, which takes its time
    found = sweep(demo.project, demo.meshes, times)
    assert found.distance == pytest.approx(every_pair(demo, times, found.contacts), abs=1e-6)
    # far fewer measurements than pairs times frames
    assert found.measured < 600
