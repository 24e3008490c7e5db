"""The demo's cameras: they keep their subjects, and faults put in by hand are found and mended."""

import msgspec
import numpy as np
import pytest

from kestrav.core.camera.judged import of_shot
from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Even
from kestrav.core.editing.grounding import derive_ground
from kestrav.core.findings.model import Evidence
from kestrav.core.findings.rules import (
    camera_pan,
    camera_room,
    horizon,
    loop,
    subject_framing,
    subject_hidden,
    view_jump,
    walking_fast,
)
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import frame_times

RULES = (camera_pan, camera_room, horizon, loop, subject_framing, subject_hidden, view_jump, walking_fast)


def judged(demo, name, project=None):
    project = project or demo.project
    shot = next(s for s in project.shots if s.name == name)
    return of_shot(project, demo.meshes, shot, get(project, shot.camera))


def found(project, meshes, *rules):
    evidence = Evidence(project, meshes, frame_times(project))
    return [f for rule in rules for f in rule.find(evidence)]


def test_nothing_is_found_of_the_demos_cameras(demo):
    assert found(demo.project, demo.meshes, *RULES) == []


def test_the_orbit_loops_and_its_subject_is_visible_and_of_constant_size(demo):
    at = judged(demo, "Cabinet orbit")
    assert np.ptp(at.framed.size) < 1e-6
    assert at.sight.visible.min() > 0.5
    assert at.framed.margin.min() > 0
    steps = np.linalg.norm(np.diff(np.concatenate([at.seen.position, at.seen.position[:1]]), axis=0), axis=1)
    # the step over the seam is like those beside it
    assert steps[-1] == pytest.approx(0.5 * (steps[0] + steps[-2]), rel=0.02)
    assert steps.min() > 30


def test_the_chase_follows_the_trolley_through_its_bend(demo):
    at = judged(demo, "Trolley chase")
    row = [p.name for p in demo.project.parts].index("Service trolley")
    travel = at.poses[:, row, :3, 0]
    turned = np.degrees(np.arccos(np.clip(travel[0] @ travel[-1], -1, 1)))
    assert turned > 80
    assert at.sight.visible.min() > 0.6
    # it is behind it before and after the bend
    behind = at.poses[:, row, :3, 3] - at.seen.position
    for k in (5, len(at.times) - 1):
        assert behind[k, :2] @ travel[k, :2] > 1500


def test_the_walk_passes_the_open_door_and_keeps_400_mm_from_everything(demo):
    at = judged(demo, "Walkthrough")
    assert at.near.distance.min() >= 400.0
    x = at.seen.position[:, 0]
    assert x[0] < -5000 and x[-1] > -2200
    passing = int(np.argmin(np.abs(x + 3660.0)))
    door = [p.name for p in demo.project.parts].index("Door leaf")
    poses = world_poses(demo.project, [0.0, float(at.times[passing])])[:, door, :3, :3]
    assert np.degrees(np.arccos(np.clip((np.trace(poses[1] @ poses[0].T) - 1) / 2, -1, 1))) > 80
    assert at.speed.max() <= 1210


def test_a_walk_at_5_m_s_in_the_demo_is_found_and_mended(demo):
    run = next(r for r in demo.project.runs if r.name == "Walkthrough")
    project = derive_ground(edits.update(demo.project, run.id, speed=5000.0, speed_profile=Even()), demo.meshes)
    (finding,) = found(project, demo.meshes, walking_fast)
    assert not found(derive_ground(finding.fix.edit(project), demo.meshes), demo.meshes, walking_fast)


def test_an_orbit_of_the_demo_that_passes_too_near_is_found_and_mended(demo):
    path = next(p for p in demo.project.paths if p.name == "Cabinet orbit")
    camera = next(c for c in demo.project.cameras if c.name == "Orbit camera")
    project = edits.update(demo.project, path.id, shape=msgspec.structs.replace(path.shape, offset=700.0))
    project = edits.update(project, camera.id, keeps="")
    findings = found(project, demo.meshes, camera_room, subject_framing)
    assert {f.rule for f in findings} >= {"subject-cut"}
    assert any(f.rule in ("camera-near", "camera-inside") for f in findings)
    near = next(f for f in findings if f.rule in ("camera-near", "camera-inside"))
    assert near.fix is not None
    assert not found(near.fix.edit(project), demo.meshes, camera_room)


def test_an_orbit_of_the_demo_behind_the_hoist_is_found_and_what_hides_is_faded(demo):
    camera = next(c for c in demo.project.cameras if c.name == "Orbit camera")
    strict = msgspec.structs.replace(camera.framing, visible=0.85)
    # the demo has faded it already
    assert camera.fades
    project = edits.update(demo.project, camera.id, framing=strict, fades=())
    (finding,) = found(project, demo.meshes, subject_hidden)
    fade = next(m for m in (finding.fix, *finding.also) if m.label.startswith("Fade"))
    assert not found(fade.edit(project), demo.meshes, subject_hidden)


def test_a_frame_too_many_in_the_demos_loop_is_found_and_mended(demo):
    shot = demo.project.shots[0]
    project = edits.update(demo.project, shot.id, end=shot.end + 1 / shot.fps)
    (finding,) = found(project, demo.meshes, loop)
    assert "twice" in finding.title
    assert not found(finding.fix.edit(project), demo.meshes, loop)
