"""The camera's numbers against the pixels that VTK renders; guides, and what is faint to a camera."""

import msgspec
import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.camera.filmed import faint_things
from kestrav.core.camera.judged import Judged, of_shot
from kestrav.core.camera.making import add_standing
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, Fade, PartAim, RollKey
from kestrav.core.finishes.applied import finish_of, lets_through
from kestrav.core.kinematics.poses import world_poses
from kestrav.render.frame_marks import FrameGuides, guide_lines, horizon_line, mask_areas
from kestrav.render.picture import plain_studio

WIDE, HIGH = 1280, 720
BLACK = "#000000"


def coloured(project, rows):
    """The project with some parts in pure red and all others in pure blue, none see-through."""
    for row, part in enumerate(project.parts):
        colour = "#ff0000" if row in rows else "#0000ff"
        project = edits.update(project, part.id, colour=colour)
    return project


def red(picture):
    """Pixels that show something red, however it is lit."""
    return (picture[..., 0].astype(int) > 25) & (picture[..., 0] > 2 * picture[..., 2].astype(int))


def pixels(project, meshes, camera, times, rows, alone):
    """How many pixels (n,) show some parts, with all others there or not."""
    made = coloured(project, rows)
    if alone:
        for row, part in enumerate(made.parts):
            if part.geometry is not None and row not in rows:
                made = edits.update(made, part.id, shown=False)
    studio = plain_studio(made, meshes, WIDE, HIGH, BLACK)
    studio.renderer.UseFXAAOff()
    found = [int(red(studio.picture(camera, float(t))).sum()) for t in times]
    studio.close()
    return np.array(found)


@pytest.fixture(scope="module")
def crowd():
    """A product behind posts, and a board that passes before it."""
    shapes = {"Board": (box_mesh(500, 20, 500), (-1200, -600, 500)), "Product": (box_mesh(900, 500, 800), (0, 0, 400))}
    for k, x in enumerate((-500, -150, 260, 470)):
        shapes[f"Post {k}"] = (box_mesh(70, 70, 900), (x, -900, 450))
    return make_project(shapes, straight((-1200, -600, 500), (1200, -600, 500)), duration=3.0)


def test_the_visible_share_is_that_of_rendered_pixels(crowd):
    camera = Camera("camera-1", "Eye", PartAim("part-2"), position=(700.0, -3500.0, 1100.0))
    project = edits.add(crowd.project, camera)
    times = np.linspace(0.0, 3.0, 7)
    judged = Judged(project, crowd.meshes, camera, times, WIDE / HIGH, 4096)
    shown = pixels(project, crowd.meshes, camera, times, {1}, alone=False)
    alone = pixels(project, crowd.meshes, camera, times, {1}, alone=True)
    assert judged.sight.visible == pytest.approx(shown / alone, abs=0.012)
    assert np.ptp(shown / alone) > 0.2


def test_in_the_demo_the_share_is_that_of_rendered_pixels(demo):
    project, shot = demo.project, next(s for s in demo.project.shots if s.name == "Trolley chase")
    camera = next(c for c in project.cameras if c.id == shot.camera)
    judged = of_shot(project, demo.meshes, shot, camera)
    judged = msgspec.structs.replace(judged, times=judged.times[::40], aspect=WIDE / HIGH, rays=4096)
    # see-through parts hide nothing by our count, so they are left out of the pictures
    for part in project.parts:
        if part.opacity < 1 or lets_through(finish_of(project, part.id)):
            project = edits.update(project, part.id, shown=False)
    project = msgspec.structs.replace(project, finish_rules=())  # the colours that are counted are to show
    rows = set(judged.subject.rows)
    shown = pixels(project, demo.meshes, camera, judged.times, rows, alone=False)
    alone = pixels(project, demo.meshes, camera, judged.times, rows, alone=True)
    assert judged.sight.visible == pytest.approx(shown / alone, abs=0.03)


def test_the_extent_is_that_of_rendered_pixels(crowd):
    camera = Camera("camera-1", "Eye", PartAim("part-2"), position=(900.0, -2500.0, 1500.0), focal_length=40.0)
    project = edits.add(coloured(crowd.project, {1}), camera)
    for part in project.parts:
        if part.id != "part-2":
            project = edits.update(project, part.id, shown=False)
    studio = plain_studio(project, crowd.meshes, 960, 540, BLACK)
    studio.renderer.UseFXAAOff()
    covered = np.argwhere(red(studio.picture(camera, 0.0)))
    studio.close()
    framed = Judged(project, crowd.meshes, camera, np.zeros(1), 960 / 540).framed
    rows, columns = (np.ptp(covered[:, k]) + 1 for k in (0, 1))
    assert framed.size[0] * 540 == pytest.approx(rows, abs=1.5)
    assert 0.5 * (framed.high - framed.low)[0, 0] * 960 == pytest.approx(columns, abs=1.5)


def test_a_parallel_camera_renders_its_height(crowd):
    camera = Camera("camera-1", "Eye", PartAim("part-2"), (0.0, -3000.0, 400.0), parallel=True, view_height=1600.0)
    project = edits.add(coloured(crowd.project, {1}), camera)
    for part in project.parts:
        if part.id != "part-2":
            project = edits.update(project, part.id, shown=False)
    studio = plain_studio(project, crowd.meshes, 960, 540, BLACK)
    studio.renderer.UseFXAAOff()
    covered = np.argwhere(red(studio.picture(camera, 0.0)))
    studio.close()
    assert np.ptp(covered[:, 0]) + 1 == pytest.approx(800 / 1600 * 540, abs=1.5)
    assert np.ptp(covered[:, 1]) + 1 == pytest.approx(900 / 1600 * 540, abs=1.5)


def test_what_is_faint_lets_the_subject_be_seen_in_the_film_only_meanwhile(crowd):
    camera = Camera("camera-1", "Eye", PartAim("part-2"), (0.0, -3500.0, 500.0), fades=(Fade("part-1", 1.2, 1.8, 0.0),))
    project = edits.add(crowd.project, camera)
    times = [1.0, 1.5]
    shown = pixels(project, crowd.meshes, camera, times, {1}, alone=False)
    plain = pixels(project, crowd.meshes, edits.change(camera, fades=()), times, {1}, alone=False)
    assert shown[0] == plain[0]
    assert shown[1] > 1.2 * plain[1]
    assert faint_things(camera, 1.5) == {"part-1": 0.0}
    assert faint_things(camera, 1.1) == {}
    # it goes there softly
    assert 0.0 < faint_things(camera, 1.25)["part-1"] < 1.0


def test_a_rolled_camera_renders_rolled(crowd):
    project = add_standing(crowd.project, (0.0, -3000.0, 400.0), "part-2")
    camera = edits.change(project.cameras[0], roll=(RollKey(0.0, 90.0),))
    project = edits.add(coloured(crowd.project, {1}), camera)
    for part in project.parts:
        if part.id != "part-2":
            project = edits.update(project, part.id, shown=False)
    studio = plain_studio(project, crowd.meshes, 540, 540, BLACK)
    covered = np.argwhere(red(studio.picture(camera, 0.0)))
    studio.close()
    # wider than high as it stands, higher than wide on its side
    assert np.ptp(covered[:, 0]) > np.ptp(covered[:, 1])


# guides


def test_thirds_grid_and_safe_areas_lie_where_they_should():
    thirds = guide_lines(FrameGuides(thirds=True))
    assert sorted({round(v, 6) for v in thirds[:2, :, 0].ravel()}) == [-0.333333, 0.333333]
    assert len(guide_lines(FrameGuides(grid=(5, 4)))) == 4 + 3
    # SMPTE ST 2046-1: 93 % and 90 % of the width and of the height
    assert np.abs(guide_lines(FrameGuides(action=True))).max() == 0.93
    assert np.abs(guide_lines(FrameGuides(title=True))).max() == 0.90
    assert len(guide_lines(FrameGuides())) == 0


@pytest.mark.parametrize(("pitch", "height"), [(0.0, 0.0), (-10.0, np.tan(np.radians(10)) / 0.3), (60.0, None)])
def test_the_horizon_is_where_level_things_far_away_are_seen(pitch, height):
    p = np.radians(pitch)
    forward, up = np.array([0, np.cos(p), np.sin(p)]), np.array([0, -np.sin(p), np.cos(p)])
    line = horizon_line(forward, up, 0.3, 16 / 9)
    if height is None:
        assert len(line) == 0
    else:
        assert line[0, :, 1] == pytest.approx([height, height], abs=1e-9)
        assert sorted(line[0, :, 0]) == [-1, 1]


def test_a_rolled_horizon_is_inclined_by_the_roll():
    angle = np.radians(10)
    forward, up = np.array([0, 1.0, 0]), np.array([np.sin(angle), 0, np.cos(angle)])
    (a, b) = horizon_line(forward, up, 0.3, 1.0)[0]
    # rolled to the right, the horizon rises to the right in the picture
    slope = (b[1] - a[1]) / (b[0] - a[0])
    assert slope == pytest.approx(np.tan(angle), rel=1e-9)


def test_the_mask_leaves_the_frame_and_covers_the_rest():
    areas = mask_areas((0.1, 0.2, 0.9, 0.8))
    sizes = np.ptp(areas, axis=1).prod(axis=1)
    assert sizes.sum() == pytest.approx(1 - 0.8 * 0.6)


def test_world_poses_and_views_agree_over_many_times(crowd):
    camera = Camera("camera-1", "Eye", PartAim("part-1"), (0.0, -3500.0, 500.0))
    project = edits.add(crowd.project, camera)
    times = np.linspace(0, 3, 5)
    judged = Judged(project, crowd.meshes, camera, times)
    assert judged.seen.target == pytest.approx(world_poses(project, times)[:, 0, :3, 3])
