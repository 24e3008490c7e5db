"""Clearance of meshes as they come: open, inverted, crossing themselves, not manifold, without thickness, tiny beside huge, very fine."""

import fcl
import numpy as np
import pytest
import trimesh
from hypothesis import HealthCheck, given, settings, strategies as st
from scipy.spatial.transform import Rotation
from shapes import box_mesh
from test_certificate import goes, scene

from kestrav.core.clearance.certificate import certify
from kestrav.core.clearance.sweep import sweep
from kestrav.core.clearance.swept import swept_space
from kestrav.core.document import edits
from kestrav.core.document.records import Requirement
from kestrav.core.errors import Cancelled
from kestrav.core.extraction.search import ExtractionPath, ExtractionRequest, NoExtractionPath, find_extraction_path
from kestrav.core.findings.check import check
from kestrav.core.geometry.meshes import mesh
from kestrav.core.geometry.models import model, nearest, placed
from kestrav.core.geometry.transforms import rigid
from kestrav.core.kinematics.runs import frame_times


def bad_boxes():
    """A post of 10 mm in five bad states, and sound."""
    sound = box_mesh(10, 10, 400)
    crossing = trimesh.util.concatenate([trimesh.creation.box((10, 10, 400)), trimesh.creation.box((10, 4, 410))])
    sheet = mesh([(-5, -5, -200), (-5, -5, 200), (-5, 5, -200), (-5, 5, 200)], [(0, 1, 2), (1, 3, 2)])
    fin = np.array([[20.0, 0, -200], [20.0, 0, 200]])
    return {
        "sound": sound,
        "open": mesh(sound.vertices, sound.triangles[4:]),
        "inverted": mesh(sound.vertices, sound.triangles[:, ::-1]),
        "crossing itself": mesh(crossing.vertices, crossing.faces),
        "not manifold": mesh(
            np.vstack([sound.vertices, fin]), np.vstack([sound.triangles, [[0, 1, 8], [1, 9, 8], [0, 1, 9]]])
        ),
        "without thickness": sheet,
    }


@pytest.mark.parametrize("kind", list(bad_boxes()))
def test_a_bad_mesh_is_measured_by_its_surface(kind):
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), post=(bad_boxes()[kind], (300, 28.0, 0)))
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0))
    found = sweep(made, meshes, frame_times(made))
    (breach,) = found.breaches
    assert 0 < breach.distance <= 3.1  # 28 - 5 - 20, or nearer where it sticks out
    assert certify(made, meshes).status == "breached"
    assert check(made, meshes).has_breach


@pytest.mark.parametrize("kind", list(bad_boxes()))
def test_running_into_a_bad_mesh_has_a_depth_and_ways_out_go_around_it(kind):
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), post=(bad_boxes()[kind], (300, 0.0, 0)))
    hit = goes(made, "ram", (0, 0, 0), (320, 0, 0))
    found = sweep(hit, meshes, frame_times(hit))
    assert found.distance.min() < -1.0
    told = find_extraction_path(made, meshes, ["ram"], ExtractionRequest(checks=15_000))
    assert isinstance(told, ExtractionPath)
    assert swept_space(hit, meshes, "post", 0.0, 0.1, 4.0).volume > 0


def test_a_hundredth_of_a_millimetre_and_a_hundred_metres_together():
    made, meshes = scene(
        grain=(box_mesh(0.01, 0.01, 0.01), (0, 0, 0)),
        slab=(box_mesh(100_000, 100_000, 10.0), (0, 0, -5.105)),
        required=0.05,
    )
    made = goes(made, "grain", (0, 0, 0), (1000.0, 0, 0))
    found = sweep(made, meshes, frame_times(made))
    # its foot is 0.005 below its middle, the slab's top 0.105 below: on a grid of 1e-4 mm
    assert found.distance.max() == pytest.approx(0.1, abs=2e-4)
    assert certify(made, meshes).status == "certified"


def test_a_requirement_that_nothing_meets_is_told_and_ends():
    made, meshes = scene(
        ram=(box_mesh(40, 40, 40), (0, 0, 0)), post=(box_mesh(10, 10, 400), (300, 60, 0)), required=1e6
    )
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0))
    # as they stand they are nearer than that, and so it must be asked of them
    made = edits.add(made, Requirement("requirement-1", "Apart", ("ram",), ("post",)))
    told = certify(made, meshes)
    assert told.status == "breached" and told.stretches[0].end == pytest.approx(told.until)


def test_a_very_fine_mesh_is_measured_like_a_coarse_one():
    fine = trimesh.creation.box((40, 40, 40))
    for _ in range(7):  # 12 triangles, four times as many each time; two million are in the measurements
        fine = fine.subdivide()
    shape = mesh(fine.vertices, fine.faces)
    assert len(shape.triangles) > 190_000
    made, meshes = scene(ram=(shape, (0, 0, 0)), post=(box_mesh(10, 10, 400), (300, 27.0, 0)))
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0))
    found = sweep(made, meshes, np.linspace(0, 2, 11))
    assert found.distance.min() == pytest.approx(2.0, abs=1e-3)


def test_long_work_is_cancelled_at_once():
    walls = {f"wall {k}": (box_mesh(10, 200, 200), (60.0 + 40 * k, 0, 0)) for k in range(12)}
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), **walls)
    made = goes(made, "ram", (0, 0, 0), (1500, 0, 0), duration=20.0)

    def told_until_stopped(work, at):
        told = []

        def tell(*_):
            told.append(_)
            if len(told) >= at:
                raise Cancelled

        with pytest.raises(Cancelled):
            work(tell)
        return len(told)

    for work in (
        lambda tell: certify(made, meshes, tell),
        lambda tell: swept_space(made, meshes, "ram", tolerance=2.0, progress=tell),
        lambda tell: find_extraction_path(made, meshes, ["wall 5"], ExtractionRequest(required=30.0), tell),
    ):
        # whenever it is asked to stop, it stops there and then
        for at in (1, 3, 6):
            assert told_until_stopped(work, at) == at


SHAPES = [
    trimesh.creation.icosphere(2, 12.0),
    trimesh.creation.cylinder(6.0, 30.0, sections=24),
    trimesh.creation.box((8, 20, 14)),
]
number = st.floats(-60, 60)


@given(
    one=st.sampled_from(range(3)),
    two=st.sampled_from(range(3)),
    place=st.tuples(number, number, number),
    turn=st.tuples(*[st.floats(-3.1, 3.1)] * 3),
)
@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_distances_at_many_random_placements_agree_with_fcl(one, two, place, turn):
    rotation = Rotation.from_rotvec(turn).as_matrix()
    a, b = (mesh(SHAPES[k].vertices, SHAPES[k].faces) for k in (one, two))
    ours = nearest(model(a), placed(np.eye(4)), model(b), placed(rigid(rotation, place))).distance
    made = []
    for shape, where in ((a, fcl.Transform()), (b, fcl.Transform(rotation, np.array(place)))):
        body = fcl.BVHModel()
        body.beginModel(len(shape.vertices), len(shape.triangles))
        body.addSubModel(shape.vertices, shape.triangles)
        body.endModel()
        made.append(fcl.CollisionObject(body, where))
    theirs = fcl.distance(*made, fcl.DistanceRequest(), fcl.DistanceResult())
    assert ours == pytest.approx(max(theirs, 0.0), abs=1e-6)


def test_what_is_enclosed_by_an_open_mesh_is_told_of_as_well():
    crate = box_mesh(100, 100, 100)
    made, meshes = scene(
        ram=(box_mesh(20, 20, 20), (0, 0, 0)), crate=(mesh(crate.vertices, crate.triangles[2:]), (0, 0, 0))
    )
    told = find_extraction_path(made, meshes, ["ram"], ExtractionRequest(checks=8000))
    # half of one face is open, 100 by 100 mm across its diagonal: that is wide enough, or it is told what blocks
    assert isinstance(told, ExtractionPath) or (isinstance(told, NoExtractionPath) and told.blockers == ("crate",))
