"""When things touch, and what starts then."""

import zipfile

import numpy as np
import pytest
import trimesh
from shapes import box_mesh, straight

from kestrav.core.clearance.contacts import first_touch, touches
from kestrav.core.clearance.triggers import all_touches, derive_contact_triggers
from kestrav.core.derive import derived, is_derived
from kestrav.core.document import edits
from kestrav.core.document.records import (
    Attachment,
    Axle,
    ContactTrigger,
    Eased,
    KeyPose,
    Part,
    Path,
    Placement,
    PoseTrack,
    Project,
    Run,
    TimedRotation,
    Trigger,
)
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.findings.model import Evidence
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import begins, frame_times
from kestrav.core.parts.solids import geometry_record

UP = Axle((0, 0, 0), (0, 0, 1))


def scene(**shapes):
    """Solids at places by name; ids are the names."""
    parts = tuple(Part(name, name, placement=Placement(at), geometry=m.hash) for name, (m, at) in shapes.items())
    meshes = {m.hash: m for m, _ in shapes.values()}
    return Project(parts=parts, geometry=tuple(geometry_record(m) for m in meshes.values())), meshes


def goes(made, thing, *points, run="run-1", **fields):
    path = Path(f"path-of-{run}", f"Path of {run}", straight(*points))
    return edits.add(made, path, Run(run, run, thing, path.id, **({"duration": 2.0} | fields)))


def test_boxes_that_go_straight_touch_when_their_faces_meet():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), wall=(box_mesh(10, 400, 400), (300, 0, 0)))
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0))
    touch = first_touch(made, meshes, "ram", "wall")
    # closed form: 300 - 20 - 5 mm at 300 mm/s
    assert touch.time == pytest.approx(275 / 300, abs=1e-5)
    assert touch.place[0] == pytest.approx(295, abs=1e-2)
    assert touch.speed == pytest.approx(300, rel=1e-6) and touch.closing == pytest.approx(300, rel=1e-3)
    assert first_touch(made, meshes, "wall", "ram").time == pytest.approx(275 / 300, abs=1e-5)


def test_balls_that_cross_touch_by_the_closed_form():
    # two balls on crossing lines touch when the quadratic of their distance is the sum of their radii
    ball = trimesh.creation.icosphere(subdivisions=5, radius=25.0)
    made, meshes = scene(a=(mesh(ball.vertices, ball.faces), (0, 0, 0)), b=(mesh(ball.vertices, ball.faces), (0, 0, 0)))
    made = goes(made, "a", (-300, 0, 0), (300, 0, 0), duration=2.0)
    made = goes(made, "b", (0, -250, 0), (0, 350, 0), run="run-2", duration=2.0)
    start, speed = np.array([-300.0, 250.0]), np.array([300.0, -300.0])
    a, b, c = speed @ speed, 2 * start @ speed, start @ start - 50.0**2
    told = (-b - np.sqrt(b * b - 4 * a * c)) / (2 * a)
    found = first_touch(made, meshes, "a", "b")
    assert found.time == pytest.approx(told, abs=3e-4)  # facets lie a little within the ball
    assert found.speed == pytest.approx(np.linalg.norm(speed), rel=1e-4)


def test_a_bar_that_turns_touches_a_post_by_the_closed_form():
    bar, post = box_mesh(400, 20, 20), box_mesh(10, 10, 200)
    made, meshes = scene(bar=(bar, (0, 0, 0)), post=(post, (0, 150, 0)))
    made = edits.add(made, TimedRotation("rotation-1", "Turns", "bar", UP, end=4.0, turns=1.0, rpm=None))
    touch = first_touch(made, meshes, "bar", "post")
    # the bar's face 10 mm beside its middle comes to the post's corner (5, 145): its normal turned by θ
    corner = np.array([5.0, 145.0])
    theta = np.arctan2(corner[1], corner[0]) - np.arcsin(10 / np.linalg.norm(corner))
    assert touch.time == pytest.approx(theta / (2 * np.pi) * 4.0, abs=1e-5)
    assert touch.place[:2] == pytest.approx(corner, abs=1e-3)
    assert touch.speed == pytest.approx(np.linalg.norm(corner) * np.pi / 2, rel=1e-3)


def test_a_fan_of_three_thousand_turns_a_minute_is_met():
    bar, post = box_mesh(400, 4, 4), box_mesh(10, 10, 200)
    made, meshes = scene(bar=(bar, (0, 0, 0)), post=(post, (0, 150, 0)))
    made = edits.add(made, TimedRotation("rotation-1", "Turns", "bar", UP, rpm=3000.0, end=0.1))
    corner = np.array([5.0, 145.0])
    theta = np.arctan2(corner[1], corner[0]) - np.arcsin(2 / np.linalg.norm(corner))
    assert first_touch(made, meshes, "bar", "post").time == pytest.approx(theta / (2 * np.pi) / 50, abs=1e-6)


def test_a_thin_thing_is_met_between_two_frames():
    made, meshes = scene(shot=(box_mesh(2, 2, 2), (0, 0, 0)), foil=(box_mesh(0.2, 50, 50), (500, 0, 0)))
    made = goes(made, "shot", (0, 0, 0), (1000, 0, 0), duration=0.1)  # 333 mm in each frame of 30 a second
    assert first_touch(made, meshes, "shot", "foil").time == pytest.approx((500 - 0.1 - 1) / 10_000, abs=1e-6)


def test_what_passes_by_never_touches_and_what_touches_at_first_must_part_before():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), post=(box_mesh(10, 10, 400), (300, 25.2, 0)))
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0))
    assert first_touch(made, meshes, "ram", "post") is None
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), wall=(box_mesh(10, 400, 400), (25, 0, 0)))
    made = goes(made, "ram", (0, 0, 0), (-300, 0, 0), passes=2, returns=True, duration=1.0)
    touch = first_touch(made, meshes, "ram", "wall")
    assert touch is not None and touch.time == pytest.approx(2.0, abs=1e-3)
    with pytest.raises(BadInput, match="parts of each other"):
        first_touch(made, meshes, "ram", "ram")


def test_every_coming_together_is_listed_in_time():
    made, meshes = scene(
        ram=(box_mesh(40, 40, 40), (0, 0, 0)),
        far=(box_mesh(10, 400, 400), (300, 0, 0)),
        near=(box_mesh(10, 400, 400), (-200, 0, 0)),
        under=(box_mesh(400, 40, 10), (0, 0, -25)),
    )
    made = goes(made, "ram", (0, 0, 0), (280, 0, 0), passes=2, returns=True, duration=1.0)
    made = goes(made, "ram", (0, 0, 0), (-180, 0, 0), run="run-2", start=2.0, duration=1.0)
    found = touches(made, meshes)
    assert [(t.a, t.b) for t in found] == [("ram", "far"), ("ram", "near")]  # on what it stands is no coming together
    assert found[0].time == pytest.approx(275 / 280, abs=1e-4) and found[1].time == pytest.approx(
        2 + 175 / 180, abs=1e-4
    )


def test_a_touch_starts_a_run_a_spin_key_poses_and_a_ride():
    made, meshes = scene(
        ram=(box_mesh(40, 40, 40), (0, 0, 0)),
        crate=(box_mesh(50, 50, 50), (300, 0, 0)),
        fan=(box_mesh(20, 20, 20), (0, 500, 0)),
        lid=(box_mesh(20, 20, 20), (0, 700, 0)),
        cart=(box_mesh(20, 20, 20), (0, 900, 0)),
    )
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0))
    trigger = ContactTrigger("ram", "crate")
    line = Path("line", "Line", straight((300, 0, 0), (800, 0, 0)))
    made = edits.add(
        made,
        line,
        Run("run-2", "Slides", "crate", "line", duration=1.0, trigger=trigger),
        TimedRotation(
            "rotation-1",
            "Turns",
            "fan",
            UP,
            end=1.0,
            turns=1.0,
            rpm=None,
            trigger=edits.msgspec.structs.replace(trigger, delay=0.1),
        ),
        PoseTrack(
            "pose-track-1",
            "Opens",
            "lid",
            (KeyPose(0.0, Placement((0, 700, 0))), KeyPose(0.5, Placement((0, 700, 90)))),
            trigger=trigger,
        ),
        Attachment("attachment-1", "Rides", "cart", "ram", trigger=trigger),
    )
    assert begins(made, made.runs[1]) == np.inf  # until it is worked out
    made = derive_contact_triggers(made, meshes)
    told = (300 - 20 - 25) / 300
    for item, after in (
        (made.runs[1], 0.0),
        (made.rotations[0], 0.1),
        (made.pose_tracks[0], 0.0),
        (made.attachments[0], 0.0),
    ):
        assert begins(made, item) == pytest.approx(told + after, abs=1e-5)
    motion = Motion(made)
    assert motion.poses("crate", [told])[0, :3, 3] == pytest.approx((300, 0, 0), abs=0.01)
    assert motion.poses("crate", [told + 0.5])[0, 0, 3] == pytest.approx(550, abs=0.01)
    assert motion.poses("cart", [2.0])[0, 0, 3] == pytest.approx(600 - 300 * told, abs=0.01)
    assert derive_contact_triggers(made, meshes) is made
    # live: a later start is a later touch
    later = derive_contact_triggers(edits.update(made, "run-1", start=1.0), meshes)
    assert begins(later, later.runs[1]) == pytest.approx(1 + told, abs=1e-5)
    never = derive_contact_triggers(edits.update(made, "run-1", end=0.2), meshes)
    assert begins(never, never.runs[1]) == np.inf


def test_a_touch_that_starts_what_goes_away_at_once_is_listed():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), crate=(box_mesh(50, 50, 50), (300, 0, 0)))
    made = goes(made, "ram", (0, 0, 0), (400, 0, 0))
    made = goes(made, "crate", (300, 0, 0), (2300, 0, 0), run="run-2", trigger=ContactTrigger("ram", "crate"))
    made = derive_contact_triggers(made, meshes)
    (touch,) = all_touches(made, meshes)
    assert touch.time == pytest.approx(255 / 200, abs=1e-5)


def test_touches_follow_from_each_other_as_dominoes_do():
    shapes = {f"stone{k}": (box_mesh(20, 40, 40), (k * 100.0, 0, 0)) for k in range(4)}
    made, meshes = scene(**shapes)
    made = goes(made, "stone0", (0, 0, 0), (80, 0, 0), duration=1.0)
    for k in (1, 2, 3):
        made = goes(
            made, f"stone{k}", (k * 100.0, 0, 0), (k * 100.0 + 80, 0, 0), run=f"run-{k + 1}", duration=1.0,
            trigger=ContactTrigger(f"stone{k - 1}", f"stone{k}"),
        )  # fmt: skip
    made = derive_contact_triggers(made, meshes)
    assert [begins(made, r) for r in made.runs] == pytest.approx([0.0, 1.0, 2.0, 3.0], abs=1e-5)


def test_what_a_touch_starts_may_wait_for_another_run_and_be_waited_for():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), crate=(box_mesh(50, 50, 50), (300, 0, 0)))
    made = goes(made, "ram", (0, 0, 0), (255, 0, 0), speed_profile=Eased(50, 50))
    made = goes(
        made,
        "crate",
        (300, 0, 0),
        (400, 0, 0),
        run="run-2",
        trigger=ContactTrigger("ram", "crate", delay=0.5),
        duration=1.0,
    )
    made = goes(made, "ram", (255, 0, 0), (0, 0, 0), run="run-3", trigger=Trigger("run-2"), duration=1.0)
    made = derive_contact_triggers(made, meshes)
    # it comes to a stop at the crate, and so is within a ten-thousandth of a mm some ms before
    assert begins(made, made.runs[1]) == pytest.approx(2.5, abs=7e-3)
    assert begins(made, made.runs[2]) == pytest.approx(begins(made, made.runs[1]) + 1.0)


def test_cues_by_touch_that_cannot_be_are_refused_or_let_go():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), crate=(box_mesh(50, 50, 50), (300, 0, 0)))
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0))
    with pytest.raises(BadInput, match="touches itself"):
        edits.update(made, "run-1", trigger=ContactTrigger("ram", "ram"))
    with pytest.raises(BadInput, match="does not hold"):
        edits.update(made, "run-1", trigger=ContactTrigger("ram", "gone"))
    made = goes(made, "ram", (600, 0, 0), (0, 0, 0), run="run-2", trigger=ContactTrigger("ram", "crate"))
    assert derive_contact_triggers(edits.remove(made, "crate"), meshes).runs[1].trigger is None


def test_what_waits_for_a_contact_is_renewed_by_whoever_saves_loads_or_tries_an_edit(tmp_path):
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), crate=(box_mesh(50, 50, 50), (300, 0, 0)))
    made = goes(made, "ram", (0, 0, 0), (1000, 0, 0), duration=2.0)
    made = goes(
        made, "crate", (300, 0, 0), (1400, 0, 0), run="run-2", trigger=ContactTrigger("ram", "crate"), duration=1.0
    )
    made = derived(made, meshes)
    first = begins(made, made.runs[1])
    assert first == pytest.approx(0.51, abs=1e-3)
    # another run is slowed by an edit of the document alone
    slowed = edits.update(made, "run-1", duration=8.0)
    assert begins(slowed, slowed.runs[1]) == first
    file = tmp_path / "slowed.kestrav"
    project_file.save(slowed, meshes, file)
    opened = project_file.load(file)
    assert begins(opened.project, opened.project.runs[1]) == pytest.approx(4 * first, abs=1e-3)
    assert is_derived(opened.project)
    # a document that was changed outside is worked out again as it comes in
    changed = tmp_path / "changed.kestrav"
    with zipfile.ZipFile(file) as old, zipfile.ZipFile(changed, "w") as new:
        for name in old.namelist():
            text = old.read(name)
            new.writestr(name, text.replace(b'"duration": 8.0', b'"duration": 4.0') if name == "project.json" else text)
    opened = project_file.load(changed)
    assert begins(opened.project, opened.project.runs[1]) == pytest.approx(2 * first, abs=1e-3)
    # an edit that a rule tries is told by what it comes to
    evidence = Evidence(made, meshes, frame_times(made))
    tried = evidence.renewed(slowed)
    assert begins(tried, tried.runs[1]) == pytest.approx(4 * first, abs=1e-3)
