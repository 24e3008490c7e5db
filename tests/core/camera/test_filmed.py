"""What a shot is of, and the dead time at its ends."""

import msgspec
import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.camera import filmed
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, Fade, PartAim, PointAim, Shot
from kestrav.core.document.shots import frame_count
from kestrav.core.editing.run_making import add_run
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Evidence
from kestrav.core.findings.rules import dead_ends, frame_rate
from kestrav.core.kinematics.runs import frame_times


@pytest.fixture(scope="module")
def made():
    """A cube that rides from 1 to 2 s, a post that stands, and a camera that sees both for 4 s at 25 a second."""
    opened = make_project(
        {"Cube": (box_mesh(60, 60, 60), (-200, 0, 0)), "Post": (box_mesh(30, 30, 200), (0, 200, 0))},
        straight((-200, 0, 0), (200, 0, 0)),
        duration=1.0,
    )
    project = edits.update(opened.project, "run-1", start=1.0)
    camera = Camera("camera-1", "Eye", PointAim((0, 0, 0)), position=(0.0, -900.0, 0.0))
    shot = Shot("shot-1", "Take", "camera-1", 0.0, 4.0, 320, 180, 25.0)
    return edits.add(project, camera, shot), opened.meshes


def with_shot(project, **fields):
    return edits.update(project, "shot-1", **fields)


def evidence(project, meshes):
    return Evidence(edits.settings(project, dead_time=0.5), meshes, frame_times(project))


def test_what_moves_in_a_span_is_told(made):
    project, _ = made
    assert filmed.moved_parts(project, 0.0, 4.0) == {"part-1"}
    assert filmed.moved_parts(project, 2.5, 4.0) == frozenset()


def test_a_shot_is_of_what_rides_farthest_or_carries_its_subject(made):
    project, _ = made
    assert filmed.rider_of(project, project.shots[0]) == "part-1"
    assert filmed.rider_of(with_shot(project, start=2.5), with_shot(project, start=2.5).shots[0]) == ""
    both = add_run(project, "part-2", "path-1")
    both = edits.update(both, both.runs[-1].id, start=1.2)
    aimed = edits.update(both, "camera-1", aim=PartAim("part-2"))
    assert filmed.rider_of(aimed, aimed.shots[0]) == "part-2"


def test_the_subject_stays_solid_where_it_moves_and_else_what_does(made):
    project, _ = made
    shot = project.shots[0]
    assert filmed.kept_solid(project, shot) == {"part-1"}
    still = edits.update(project, "camera-1", aim=PartAim("part-2"))
    assert filmed.kept_solid(still, shot) == {"part-1"}
    late = msgspec.structs.replace(shot, start=2.5)
    assert filmed.kept_solid(still, late) == {"part-2"}
    # of a subject that holds what moves, only that
    within = edits.update(edits.update(still, "run-1", rider="part-2"), "part-2", parent="part-1")
    within = edits.update(within, "camera-1", aim=PartAim("part-1"))
    assert filmed.kept_solid(within, shot) == {"part-2"}
    assert filmed.kept_solid(within, late) == {"part-1", "part-2"}


def test_dead_time_is_what_the_frames_show_of_it(made):
    project, meshes = made
    shot = project.shots[0]
    # frames are 0.04 s apart: the one at 1.00 s is the last still one, and the cube has arrived in that at 2.00 s
    assert filmed.live_span(project, meshes, shot) == pytest.approx((1.0, 2.04))
    shorter = filmed.trimmed(project, meshes, "shot-1")
    assert (shorter.shots[0].start, shorter.shots[0].end) == pytest.approx((1.0, 2.04))
    assert frame_count(shorter.shots[0]) == 26
    with pytest.raises(BadInput, match="no dead time"):
        filmed.trimmed(shorter, meshes, "shot-1")
    assert filmed.film_trimmed(project, meshes) == shorter
    for whole in (shorter, with_shot(project, in_film=False), with_shot(project, loops=True)):
        with pytest.raises(BadInput, match="no shot has dead time"):
            filmed.film_trimmed(whole, meshes)


def test_what_changes_the_picture_is_no_dead_time(made):
    project, meshes = made
    fading = edits.update(project, "camera-1", fades=(Fade("part-2", 0.5, 3.5),))
    assert filmed.live_span(fading, meshes, fading.shots[0])[0] == pytest.approx(0.48, abs=0.021)
    riding = add_run(project, "camera-1", "path-1")
    riding = edits.update(riding, riding.runs[-1].id, start=0.0, duration=4.0)
    assert filmed.live_span(riding, meshes, riding.shots[0]) == (0.0, 4.0)


def test_what_moves_outside_of_the_picture_is_dead_time(made):
    project, meshes = made
    away = edits.update(project, "camera-1", aim=PointAim((0.0, -2000.0, 0.0)))
    shot = away.shots[0]
    steps = filmed.still_steps(away, meshes, shot, np.linspace(0, 4, 101))
    assert steps.all()
    # nothing in it changes at all: there is no end to trim
    assert filmed.live_span(away, meshes, shot) == (0.0, 4.0)


def test_dead_ends_are_found_and_mended(made):
    project, meshes = made
    (found,) = dead_ends.find(evidence(project, meshes))
    assert found.value == pytest.approx(1.96) and found.limit == 0.5 and "end" in found.title
    mended = found.fix.edit(project)
    assert not dead_ends.find(evidence(mended, meshes))
    assert not dead_ends.find(evidence(with_shot(project, in_film=False), meshes))
    assert not dead_ends.find(evidence(with_shot(project, loops=True), meshes))


@pytest.mark.parametrize(("fps", "found"), [(23.976, 1), (24.0, 0), (25.0, 0), (12.0, 1)])
def test_fewer_frames_than_cinema_has_are_found_and_mended(made, fps, found):
    project, meshes = made
    slow = with_shot(project, fps=fps)
    findings = frame_rate.find(evidence(slow, meshes))
    assert len(findings) == found
    for finding in findings:
        assert finding.limit == 24.0
        assert not frame_rate.find(evidence(finding.fix.edit(slow), meshes))
