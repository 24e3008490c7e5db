"""Orbits and turntables, against shapely's buffers and closed forms."""

import msgspec
import numpy as np
import pytest
import shapely
from shapes import box_mesh, make_project

from kestrav.core.camera import orbits
from kestrav.core.camera.judged import of_shot
from kestrav.core.camera.subject import subject_of
from kestrav.core.camera.views import views
from kestrav.core.document import edits
from kestrav.core.document.records import OrbitShape, Part, Path, Placement, Project
from kestrav.core.document.shots import frame_count, frame_time
from kestrav.core.errors import BadInput
from kestrav.core.findings.check import check
from kestrav.core.kinematics.runs import course_of
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import reverse

KINDS = ("circle", "ellipse", "rectangle", "hull")
TURNED = Placement((100.0, 50.0, 0.0), (float(np.cos(0.2)), 0.0, 0.0, float(np.sin(0.2))))


@pytest.fixture
def two():
    """Two boxes, one of them turned."""
    opened = make_project(
        {"Tall": (box_mesh(300, 200, 600), (0, 0, 300)), "Low": (box_mesh(200, 500, 100), (500, 0, 50))}
    )
    project = edits.update(opened.project, "part-1", placement=TURNED)
    return opened.__class__(project, opened.meshes)


def curve_of(shape):
    return path_curve(Path("path-1", "Orbit", shape)).curve


@pytest.mark.parametrize("kind", KINDS)
def test_an_orbit_keeps_its_offset_from_the_plan_outline(two, kind):
    shape = orbits.orbit_around(two.project, two.meshes, ["part-1", "part-2"], kind=kind, offset=800.0)
    curve = curve_of(shape)
    places = curve.position(np.linspace(0, curve.length, 2000))
    outline = shapely.polygons(np.array(shape.outline))
    away = shapely.distance(outline, shapely.points(places[:, :2]))
    assert away.min() >= 800.0 - 1e-3
    if kind == "hull":
        # shapely's own round buffer is the same line
        exact = outline.buffer(800.0, quad_segs=256).exterior
        assert curve.length == pytest.approx(outline.length + 2 * np.pi * 800.0, rel=1e-9)
        assert shapely.distance(exact, shapely.points(places[:, :2])).max() < 0.02
    assert curve.closed
    assert not len(curve.kink_stations)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("clockwise", [False, True])
def test_it_begins_at_its_azimuth_and_goes_its_way(two, kind, clockwise):
    shape = orbits.orbit_around(
        two.project, two.meshes, ["part-1"], kind=kind, offset=500.0, start=37.0, clockwise=clockwise
    )
    curve = curve_of(shape)
    from kestrav.core.paths.path_curves import orbit_plan

    middle = orbit_plan(shape)[1]
    first, soon = curve.position([0.0, 20.0])[:, :2] - middle
    assert np.degrees(np.arctan2(first[1], first[0])) == pytest.approx(37.0, abs=1e-6)
    assert (np.cross(np.append(first, 0), np.append(soon, 0))[2] < 0) == clockwise


def test_laps_rise_and_tilt(two):
    shape = orbits.orbit_around(two.project, two.meshes, ["part-1"], kind="circle", offset=1000.0, height=900.0)
    flat = curve_of(shape)
    wound = curve_of(msgspec.structs.replace(shape, laps=2.5, rise=400.0))
    # a helix: the hypotenuse of its way in plan and its rise
    assert wound.length == pytest.approx(np.hypot(2.5 * flat.length, 400.0), rel=1e-9)
    assert wound.position([0.0, wound.length])[:, 2] == pytest.approx([900.0, 1300.0])
    assert not wound.closed
    tilted = curve_of(msgspec.structs.replace(shape, tilt=20.0, toward=90.0))
    heights = tilted.position(np.linspace(0, tilted.length, 721))
    highest = heights[np.argmax(heights[:, 2])]
    radius = flat.length / (2 * np.pi)
    assert highest[2] == pytest.approx(900.0 + radius * np.tan(np.radians(20.0)), abs=0.1)
    assert highest[1] > highest[0]


def test_a_portion_ends_where_reversed_it_begins(two):
    shape = orbits.orbit_around(two.project, two.meshes, ["part-1"], kind="hull", offset=700.0, laps=0.4, rise=100.0)
    project = edits.add(two.project, Path("path-1", "Orbit", shape))
    ends = curve_of(shape).position([0.0, curve_of(shape).length])
    turned = reverse(project, "path-1").paths[0].shape
    assert isinstance(turned, OrbitShape)
    again = curve_of(turned)
    assert again.position([again.length, 0.0]) == pytest.approx(ends, abs=1e-6)


@pytest.mark.parametrize("kind", KINDS)
def test_it_begins_at_the_viewpoint(two, kind):
    shape = orbits.orbit_around(two.project, two.meshes, ["part-1", "part-2"], kind=kind, tilt=8.0, toward=10.0)
    place = (1800.0, -1400.0, 1100.0)
    found = curve_of(orbits.beginning_at(shape, place)).position([0.0])[0]
    assert found == pytest.approx(place, abs=0.02)
    with pytest.raises(BadInput, match="within what the orbit goes around"):
        orbits.beginning_at(shape, (200.0, 0.0, 500.0))


def test_an_orbit_around_nothing_is_refused():
    project = Project(parts=(Part("part-1", "Empty"),))
    for things in ([], ["part-1"]):
        with pytest.raises(BadInput):
            orbits.add_orbit(project, {}, things)
    with pytest.raises(BadInput, match="goes around nothing"):
        edits.add(project, Path("path-1", "Orbit", OrbitShape((), ())))


@pytest.mark.parametrize(
    "pace", [{"duration": 4.0}, {"duration": None, "speed": 1700.0}, {"slows": 900.0, "duration": 5.0}]
)
def test_a_loop_closes_with_no_frame_twice(two, pace):
    project = orbits.add_orbit(two.project, two.meshes, ["part-1"], kind="hull", offset=600.0, **pace)
    shot, camera = project.shots[0], project.cameras[0]
    assert shot.loops
    times = [frame_time(shot, k) for k in range(frame_count(shot) + 1)]
    seen = views(project, two.meshes, camera, times)
    assert seen.position[-1] == pytest.approx(seen.position[0], abs=0.01)
    steps = np.linalg.norm(np.diff(seen.position, axis=0), axis=1)
    assert steps.min() > 1.0
    if not pace.get("slows"):
        # the step over the seam is as long as any
        assert np.ptp(steps) < 0.02 * steps.mean()


def test_slowing_in_bends_it_keeps_its_sideways_limit(two):
    project = orbits.add_orbit(
        two.project, two.meshes, ["part-1"], kind="rectangle", offset=300.0, duration=None, speed=2000.0, slows=500.0
    )
    course = course_of(project, project.runs[-1])
    times = np.linspace(course.start, course.end, 500)
    assert course.sideways(times).max() <= 500.0 * 1.02
    assert np.ptp(course.speeds(times)) > 100.0


def test_the_orbit_follows_what_it_goes_around(two):
    project = orbits.add_orbit(two.project, two.meshes, ["part-2"], offset=400.0)
    moved = edits.update(project, "part-2", placement=Placement((900.0, 300.0, 50.0)))
    renewed = orbits.derive_orbits(moved, two.meshes, project)
    before, after = (np.array(p.paths[0].shape.outline).mean(axis=0) for p in (project, renewed))
    assert after - before == pytest.approx([400.0, 300.0])
    assert orbits.derive_orbits(renewed, two.meshes, renewed) is renewed
    # without what it went around it stays where it is
    left = edits.remove(renewed, "part-2")
    assert left.paths[0].shape.around == ()
    assert left.paths[0].shape.outline == renewed.paths[0].shape.outline


def test_a_turntable_turns_the_product_under_a_camera_that_stands(two):
    project = orbits.add_turntable(two.project, "part-1", (1500.0, -1200.0, 800.0), duration=6.0)
    judged = of_shot(project, two.meshes, project.shots[0], project.cameras[0])
    assert np.ptp(judged.seen.position, axis=0).max() == 0
    row = [p.id for p in project.parts].index("part-1")
    middle = judged.poses[:, row, :3, 3]
    assert np.ptp(middle, axis=0).max() < 1e-6  # it turns about its own middle
    half = len(judged.times) // 2
    turn = judged.poses[half, row, :3, :3] @ judged.poses[0, row, :3, :3].T
    assert turn == pytest.approx(np.diag([-1.0, -1.0, 1.0]), abs=1e-9)
    assert project.shots[0].loops


def test_an_orbit_around_several_things_is_a_picture_of_all_of_them(two):
    project = orbits.add_orbit(two.project, two.meshes, ["part-1", "part-2"])
    subject = subject_of(project, two.meshes, project.cameras[-1])
    assert subject.thing == "part-1" and set(subject.rows) == {0, 1}
    alone = orbits.add_orbit(two.project, two.meshes, ["part-1"])
    assert set(subject_of(alone, two.meshes, alone.cameras[-1]).rows) == {0}


def test_small_things_are_gone_around_near_by():
    small = make_project({"Pin": (box_mesh(7.5, 22.0, 22.0), (0, 0, 0))})
    offset = orbits.orbit_around(small.project, small.meshes, ["part-1"]).offset
    diagonal = float(np.linalg.norm((7.5, 22.0, 22.0)))
    assert 1.19 * diagonal < offset < 3.0 * diagonal
    assert float(f"{offset:.2g}") == pytest.approx(offset)


@pytest.mark.parametrize("size", [(600, 60, 60), (40, 40, 1500), (300, 800, 20), (100, 100, 100), (9, 2, 3)])
@pytest.mark.parametrize("kind", ["circle", "hull", "rectangle"])
@pytest.mark.parametrize("apart", [False, True])
def test_a_new_orbit_has_nothing_to_be_mended(size, kind, apart):
    wide, deep, high = size
    solids = {"One": (box_mesh(*size), (0, 0, 500))}
    if apart:
        # the first of several lies at one end of what is orbited
        solids["Two"] = (box_mesh(wide / 2, deep / 2, high / 2), (1.5 * wide, 0.4 * deep, 500))
    made = make_project(solids)
    project = edits.settings(made.project, fps=30.0)
    project = orbits.add_orbit(project, made.meshes, [p.id for p in project.parts], kind=kind)
    told = check(project, made.meshes).findings
    assert not told, [(f.title, f.detail) for f in told]
