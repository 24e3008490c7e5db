"""Faults of cameras put in by hand, found, and mended by what is offered."""

import msgspec
import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.camera import making, orbits, walking
from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongAim,
    Attachment,
    Camera,
    Eased,
    FreeAim,
    LookKey,
    PartAim,
    Path,
    Placement,
    PointAim,
    RollKey,
    Run,
)
from kestrav.core.editing.grounding import derive_ground
from kestrav.core.findings.check import check
from kestrav.core.findings.model import Evidence
from kestrav.core.findings.rules import (
    camera_pan,
    camera_room,
    horizon,
    loop,
    subject_dips,
    subject_framing,
    subject_hidden,
    subject_missing,
    view_jump,
    walking_fast,
)
from kestrav.core.kinematics.runs import frame_times

CAMERA_RULES = (
    camera_pan, camera_room, horizon, loop, subject_dips, subject_framing, subject_hidden, subject_missing, view_jump,
    walking_fast,
)  # fmt: skip


def found(project, meshes, name=None):
    """What the rules of cameras find, of one name."""
    evidence = Evidence(project, meshes, frame_times(project))
    every = [f for rule in CAMERA_RULES for f in rule.find(evidence)]
    return every if name is None else [f for f in every if f.rule == name]


@pytest.fixture
def stand():
    """A product on a floor, and a screen that is high enough to hide it from a low camera."""
    return make_project(
        {
            "Product": (box_mesh(600, 500, 800), (0, 0, 400)),
            "Screen": (box_mesh(900, 40, 1000), (0, -1200, 500)),
            "Floor": (box_mesh(9000, 9000, 100), (0, 0, -50)),
        }
    )


def around(stand, **fields):
    return orbits.add_orbit(
        stand.project, stand.meshes, ["part-1"], **({"duration": 3.0, "offset": 2200.0, "height": 600.0} | fields)
    )


def mended(project, finding, fix):
    return fix.edit(project)


def test_a_subject_behind_a_screen_is_found_and_each_mend_shows_it_again(stand):
    project = around(stand)
    (finding,) = found(project, stand.meshes, "subject-hidden")
    assert finding.value < 30
    assert "behind Screen" in finding.title
    fixes = (finding.fix, *finding.also)
    labels = [m.label for m in fixes]
    assert any("higher" in label for label in labels)
    assert any(label.startswith("Fade Screen") for label in labels)
    for fix in fixes:
        assert not found(fix.edit(project), stand.meshes, "subject-hidden"), fix.label
    faint = next(m for m in fixes if m.label.startswith("Fade")).edit(project)
    assert {f.thing for f in faint.cameras[0].fades} == {"part-2"}
    # faint only while it is in the way
    assert max(f.end - f.start for f in faint.cameras[0].fades) < 2.5


def test_an_orbit_that_sees_its_subject_well_has_no_finding(stand):
    assert not found(around(stand, height=1900.0, offset=2300.0), stand.meshes)


def test_out_of_the_frame_and_cut(stand):
    project = around(stand, height=1900.0)
    camera = project.cameras[0]
    away = edits.update(project, camera.id, aim=PointAim((0.0, 0.0, 6000.0)), subject="part-1")
    (finding,) = found(away, stand.meshes, "out-of-frame")
    assert finding.severity == "breach"
    tele = edits.update(project, camera.id, focal_length=150.0)
    (finding,) = found(tele, stand.meshes, "subject-cut")
    assert finding.fix is not None
    for fix in (finding.fix, *finding.also):
        assert not found(fix.edit(tele), stand.meshes, "subject-cut"), fix.label


def test_too_small_and_too_large(stand):
    project = around(stand, height=1900.0)
    camera = project.cameras[0]
    limits = camera.framing
    small = edits.update(project, camera.id, framing=msgspec.structs.replace(limits, least=0.6))
    (finding,) = found(small, stand.meshes, "subject-small")
    assert finding.unit == "%" and finding.limit == pytest.approx(60.0)
    assert not found(finding.fix.edit(small), stand.meshes, "subject-small")
    large = edits.update(project, camera.id, framing=msgspec.structs.replace(limits, most=0.3))
    (finding,) = found(large, stand.meshes, "subject-large")
    assert not found(finding.fix.edit(large), stand.meshes, "subject-large")


def test_a_size_that_changes_is_held(stand):
    project = making.add_camera(stand.project, "Comes near", PartAim("part-1"), (0, 0, 0))
    camera = project.cameras[0]
    way = Path("path-1", "Way", straight((3000, 1500, 1500), (1200, 900, 1200)))
    run = Run("run-1", "Comes", camera.id, way.id, duration=3.0)
    project = making.with_shot(edits.add(project, way, run), camera.id)
    project = edits.update(project, camera.id, framing=msgspec.structs.replace(camera.framing, change=0.2))
    (finding,) = found(project, stand.meshes, "subject-changing")
    assert {m.label for m in (finding.fix, *finding.also)} == {
        "Keep its size by distance",
        "Keep its size by the lens",
    }
    for fix in (finding.fix, *finding.also):
        assert not found(fix.edit(project), stand.meshes, "subject-changing")


def test_too_near_inside_and_through(stand):
    near = around(stand, height=700.0, offset=100.0)
    near = edits.update(near, near.cameras[0].id, framing=msgspec.structs.replace(near.cameras[0].framing, near=250.0))
    (finding,) = found(near, stand.meshes, "camera-near")
    # nearest at the box's corners, which the frames pass within a few millimetres
    assert finding.value == pytest.approx(100.0, abs=4.0)
    assert finding.gap is not None
    assert not found(finding.fix.edit(near), stand.meshes, "camera-near")
    project = making.add_camera(stand.project, "Through", AlongAim(), (0, 0, 0))
    way = Path("path-1", "Way", straight((0, -3000, 500), (0, -500, 500)))
    project = edits.add(project, way, Run("run-1", "Goes", project.cameras[0].id, way.id, duration=3.0))
    project = making.with_shot(project, project.cameras[0].id)
    (finding,) = found(project, stand.meshes, "camera-inside")
    assert finding.severity == "breach"
    assert "Screen" in finding.title
    assert finding.fix is not None
    assert not found(finding.fix.edit(project), stand.meshes, "camera-inside")


def test_a_fast_pan_is_slowed_to_seven_seconds_across_the_frame(stand):
    keys = (LookKey(0.0, 90.0), LookKey(2.0, 0.0))
    project = making.add_camera(stand.project, "Pans", FreeAim(keys), (0, 2000, 1500))
    project = making.with_shot(project, project.cameras[0].id, 0.0, 2.0)
    (finding,) = found(project, stand.meshes, "pan-fast")
    # the frame of a 35 mm lens is 54.4° wide at 3:2; 45 °/s cross its middle in about 2 tan(27.2°) / 0.785 s
    assert finding.value == pytest.approx(2 * np.tan(np.radians(27.2)) / np.radians(45), rel=0.02)
    slow = finding.fix.edit(project)
    assert not found(slow, stand.meshes, "pan-fast")
    assert slow.shots[0].end > 8
    # a rule of the trade that a project may leave out
    assert not found(edits.settings(project, crossing_time=0.0), stand.meshes, "pan-fast")


def test_following_its_subject_a_camera_does_not_pan_too_fast(passing):
    project = making.add_passing(passing.project, "run-1", 0.5, 300.0, 50.0)
    assert not found(project, passing.meshes, "pan-fast")


def test_a_walk_at_5_m_s_is_far_too_fast(stand):
    project = walking.add_walk(stand.project, stand.meshes, [(-3500, -2500, 0), (3500, -2500, 0)], speed=5000.0)
    project = derive_ground(project, stand.meshes)
    (finding,) = found(project, stand.meshes, "walking-fast")
    assert finding.value > 1.8
    walked = finding.fix.edit(project)
    assert not found(walked, stand.meshes, "walking-fast")
    assert walked.shots[-1].end > project.shots[-1].end


def test_a_walk_too_near_to_something_is_planned_around_it(stand):
    project = walking.add_walk(stand.project, stand.meshes, [(-2500, -1500, 0), (2500, -1500, 0)], around=False)
    project = derive_ground(project, stand.meshes)
    (finding,) = found(project, stand.meshes, "camera-near")
    assert finding.title.endswith("walks too near to Screen")
    assert finding.fix.label == "Walk around it"
    assert not found(derive_ground(finding.fix.edit(project), stand.meshes), stand.meshes, "camera-near")


def test_a_rolled_horizon_is_levelled(stand):
    project = around(stand, height=1900.0)
    rolled = edits.update(project, project.cameras[0].id, roll=(RollKey(0.0, 0.0), RollKey(1.5, 12.0)))
    (finding,) = found(rolled, stand.meshes, "horizon-rolled")
    assert not found(finding.fix.edit(rolled), stand.meshes, "horizon-rolled")


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (lambda p: edits.update(p, p.runs[-1].id, end=0.98), "does not close"),
        (lambda p: edits.update(p, p.shots[0].id, end=p.shots[0].end + 1 / p.shots[0].fps), "first frame twice"),
        (lambda p: edits.update(p, p.runs[-1].id, speed_profile=Eased(2000.0, 2000.0)), "stutters"),
    ],
)
def test_a_loop_with_a_seam_is_closed(stand, change, told):
    project = around(stand, height=1900.0, duration=2.0)
    assert not found(project, stand.meshes, "loop-seam")
    faulty = change(project)
    (finding,) = found(faulty, stand.meshes, "loop-seam")
    assert told in finding.title
    assert not found(finding.fix.edit(faulty), stand.meshes, "loop-seam")


def test_a_jump_of_the_camera_is_found_and_softened(passing):
    project = making.add_camera(passing.project, "Jumps", PartAim("part-1"), (-300, -700, 200))
    camera = project.cameras[0].id
    project = edits.add(project, Attachment("attachment-1", "Rides", camera, "part-1", 0.0))
    way = Path("path-2", "Elsewhere", straight((600, -700, 200), (650, -700, 200)))
    project = edits.add(project, way, Run("run-2", "There", camera, way.id, start=1.0, duration=1.0))
    project = making.with_shot(project, camera, 0.0, 2.0)
    (finding,) = found(project, passing.meshes, "view-jump")
    assert finding.time == pytest.approx(1.0, abs=0.06)
    assert finding.fix is not None
    assert not found(finding.fix.edit(project), passing.meshes, "view-jump")


def test_a_hidden_subject_and_a_target_at_the_cameras_own_place(stand):
    project = around(stand, height=1900.0)
    hidden = edits.update(project, "part-1", shown=False)
    (finding,) = found(hidden, stand.meshes, "subject-missing")
    assert finding.fix.edit(hidden).parts[0].shown
    at = making.add_standing(stand.project, (0, -3000, 500), (0, -3000, 500))
    (finding,) = found(at, stand.meshes, "aim-at-itself")
    assert not found(finding.fix.edit(at), stand.meshes, "aim-at-itself")


def test_the_check_tells_of_cameras_and_counts_frames_of_the_project(stand):
    project = edits.update(around(stand), "part-2", placement=Placement((0, -1500, 500)))
    result = check(project, stand.meshes)
    (finding,) = [f for f in result.findings if f.rule == "subject-hidden"]
    first, last = finding.intervals[0]
    assert result.times[first] <= finding.time <= result.times[finding.intervals[-1][1]]
    assert 0 <= first <= last < len(result.times)
    assert isinstance(project.cameras[0], Camera)


def test_what_is_offered_is_light_enough_to_be_sent(stand):
    import pickle

    project = edits.update(around(stand, height=1900.0), "camera-1", focal_length=150.0)
    findings = found(project, stand.meshes)
    assert any(f.fix is not None and "lens" in f.fix.label for f in findings)
    assert len(pickle.dumps(findings)) < 20_000


def with_column():
    """A thin column in place of the screen, that hides a strip of the product from some places."""
    shape = box_mesh(180, 180, 2600)
    return make_project({"Product": (box_mesh(600, 500, 800), (0, 0, 400)), "Column": (shape, (0, -1300, 1300))})


def test_what_passes_before_a_subjects_middle_is_found_and_faded():
    made = with_column()
    project = orbits.add_orbit(made.project, made.meshes, ["part-1"], duration=6.0, offset=2200.0, height=900.0)
    assert not found(project, made.meshes, "subject-hidden")
    (finding,) = found(project, made.meshes, "subject-crossed")
    assert "Column passes before Product" in finding.title and finding.value > 30
    (fade,) = [m for m in (finding.fix, *finding.also) if m.label.startswith("Fade")]
    mended = fade.edit(project)
    assert not found(mended, made.meshes, "subject-crossed")
    assert sum(f.end - f.start for f in mended.cameras[0].fades) < 2.5


def test_what_stands_before_a_subject_all_the_time_is_how_the_product_is():
    made = with_column()
    camera = Camera("camera-1", "Eye", PartAim("part-1"), position=(0.0, -4000.0, 900.0))
    project = making.with_shot(edits.add(made.project, camera), camera.id)
    assert not found(project, made.meshes, "subject-crossed")


def dipping(low, after=0.0):
    """A film of a cart, and a camera that looks straight on while the cart goes down before it, and up again."""
    way = straight((-1500, 0, 0), (-700, 0, low), (700, 0, low), (1500, 0, after))
    made = make_project({"Cart": (box_mesh(300, 300, 300), (-1500, 0, 0))}, way, duration=6.0)
    of_it = Camera("camera-1", "Of it", PartAim("part-1"), position=(0.0, 9000.0, 0.0))
    before = Camera("camera-2", "Before it", AlongAim(0.0), focal_length=30.0)
    path = Path("path-2", "Towards it", straight((0, -6000, 0), (0, -5900, 0)))
    run = Run("run-2", "Comes near", before.id, path.id, duration=6.0)
    project = edits.add(made.project, of_it, before, path, run)
    for camera in (of_it.id, before.id):
        project = making.with_shot(project, camera)
    return type(made)(project, made.meshes)


def test_the_films_subject_that_dips_out_of_another_shot_is_found_and_looked_at():
    made = dipping(-2300.0)
    (finding,) = found(made.project, made.meshes, "subject-dips")
    assert "Cart dips out of the frame at its lower edge" in finding.title and finding.value > 0.5
    assert "lower" in finding.fix.label
    assert not found(finding.fix.edit(made.project), made.meshes, "subject-dips")


def test_what_stays_in_the_frame_or_leaves_it_does_not_dip():
    for made in (dipping(-500.0), dipping(-2300.0, -2300.0)):
        assert not found(made.project, made.meshes, "subject-dips")
