"""Lights in pictures, and their marks in the stage."""

import numpy as np
import pytest
from shapes import box_mesh, make_project
from vtkmodules.vtkRenderingCore import vtkRenderer

from kestrav.core.document import edits
from kestrav.core.document.records import Camera, KeyPose, Light, LightKey, Placement, PointAim, PoseTrack
from kestrav.core.kinematics.lighting import state
from kestrav.render.picture import plain_studio
from kestrav.render.pose_marks import PoseMarks, key_handles, key_places
from kestrav.render.scene_lights import FULL, LightMarks, ProjectLights

GREY = 64


def seen(cosine):
    """What painted grey shows of a light of FULL lx from a direction, seen from above: 0.72 of it diffusely, and a faint
    highlight (B. T. Phong, "Illumination for computer generated pictures", CACM 18(6), 1975)."""
    return 0.72 * GREY * cosine + 0.12 * 255 * cosine**22


def room(*lights):
    """A dark floor seen from straight above, 4 m wide in 200 pixels."""
    opened = make_project({"Floor": (box_mesh(6000, 6000, 20), (0, 0, -10))})
    project = edits.update(opened.project, "part-1", colour=f"#{GREY:02x}{GREY:02x}{GREY:02x}")
    camera = Camera("camera-1", "Above", PointAim((0, 0, 0)), (0, -1, 20_000), focal_length=180.0)
    return edits.add(project, camera, *lights), opened.meshes


def picture(*lights, time=0.0):
    project, meshes = room(*lights)
    studio = plain_studio(project, meshes, 200, 200, "#000000")
    found = studio.picture(project.cameras[0], time).astype(float)
    studio.close()
    return found


def added(*lights, time=0.0):
    return (picture(*lights, time=time) - picture())[:, :, 0]


@pytest.fixture(scope="module")
def scale():
    """Pixels per mm on the floor: 24 mm of sensor by 180 mm of lens, 20 m away."""
    return 200 / (24 / 180 * 20_000)


def test_a_point_light_obeys_the_inverse_square_and_cosine_laws(scale):
    # E = I cos(angle) / d² (photometry, ISO 80000-7); a surface at FULL lx is as bright as its colour
    light = added(Light("light-1", "Lamp", "point", (0, 0, 1000), strength=FULL, colour="#ffffff"))
    for away in (0, 500, 1000):
        d2 = 1.0 + (away / 1000) ** 2
        expected = seen(1 / np.sqrt(d2)) / (0.05 + d2)
        assert light[100, 100 + round(away * scale)] == pytest.approx(expected, abs=3)


def test_twice_the_strength_is_twice_the_light_and_colours_are_kept():
    lamp = Light("light-1", "Lamp", "point", (0, 0, 1500), strength=0.4 * FULL, colour="#ffffff")
    one, two = added(lamp), added(edits.change(lamp, strength=0.8 * FULL))
    assert two[100, 100] == pytest.approx(2 * one[100, 100], abs=2)
    red = picture(edits.change(lamp, colour="#ff0000")) - picture()
    assert red[100, 100, 0] > 5 and abs(red[100, 100, 2]) < 1


def test_a_spot_shines_in_its_cone_only(scale):
    spot = Light("light-1", "Spot", "spot", (0, 0, 1500), strength=2 * FULL, cone=40.0)
    light = added(spot)
    rim = 1500 * np.tan(np.radians(20)) * scale
    assert light[100, 100] > 20 and light[100, 100 + round(0.9 * rim)] > 0
    assert light[100, 100 + round(1.15 * rim)] == 0


def test_a_sun_lights_evenly_and_what_is_off_or_keyed_to_nothing_does_not():
    sun = Light("light-1", "Sun", "sun", (0, 0, 9000), strength=0.5 * FULL, colour="#ffffff")
    light = added(sun)
    assert light[100, 100] == pytest.approx(seen(1) / 2, abs=2) and np.ptp(light[60:140, 60:140]) <= 2
    assert np.abs(added(edits.change(sun, on=False))).max() == 0
    keyed = edits.change(sun, keys=(LightKey(1.0, 0.0, "#ffffff"), LightKey(2.0, FULL, "#ffffff")))
    assert np.abs(added(keyed, time=0.5)).max() == 0
    assert added(keyed, time=1.5)[100, 100] == pytest.approx(seen(1) / 2, abs=2)


def test_an_area_is_softer_than_a_point(scale):
    point = added(Light("light-1", "Lamp", "point", (0, 0, 700), strength=FULL))
    area = added(Light("light-1", "Field", "area", (0, 0, 700), strength=FULL, size=(1600.0, 1600.0)))
    assert 0 < area[100, 100] < point[100, 100]
    edge = 100 + round(600 * scale)
    assert area[100, edge] / area[100, 100] > point[100, edge] / point[100, 100]


def test_colours_are_mixed_as_light():
    light = Light("light-1", "Lamp", keys=(LightKey(0, 100.0, "#000000"), LightKey(1, 300.0, "#ffffff")))
    # half the light is sRGB 188 (IEC 61966-2-1)
    assert state(light, 0.5) == (200.0, "#bcbcbc")
    assert state(light, -1) == (100.0, "#000000") and state(light, 9) == (300.0, "#ffffff")


def test_lamps_come_and_go_with_the_project():
    renderer = vtkRenderer()
    shown = ProjectLights([renderer])
    project, _ = room(Light("light-1", "Lamp"), Light("light-2", "Field", "area"))
    shown.show(project, 0.0)
    assert renderer.GetLights().GetNumberOfItems() == 5
    shown.show(edits.remove(project, "light-2"), 0.0)
    assert renderer.GetLights().GetNumberOfItems() == 1


def test_marks_show_where_lights_and_poses_are():
    renderer, over = vtkRenderer(), vtkRenderer()
    marks = LightMarks(over)
    project, _ = room(Light("light-1", "Spot", "spot", (100, 200, 1500), PointAim((100, 200, 0))))
    marks.show(project, 0.0, 1.0, None)
    low = marks.lines.GetBounds()
    marks.show(project, 0.0, 1.0, "light-1")
    # chosen, its cone is drawn down to what it shines at
    assert marks.lines.GetBounds()[4] == pytest.approx(0, abs=1e-6) and low[4] > 1000
    keys = (
        KeyPose(0, Placement((0, 0, 0)), None, (0, 90, 0)),
        KeyPose(2, Placement((500, 0, 0)), (0, 90, 0), None),
    )
    project = edits.add(project, PoseTrack("pose-track-1", "Goes", "part-1", keys, between="by hand"))
    poses = project.pose_tracks[0]
    fields, ends = key_handles(poses)
    assert fields == [(0, "handle_out"), (1, "handle_in")] and ends.tolist() == [[0, 90, 0], [500, 90, 0]]
    assert key_places(poses).tolist() == [[0, 0, 0], [500, 0, 0]]
    drawn = PoseMarks(renderer, over)
    drawn.show(project, poses, 1, 1.0, renderer)
    assert drawn.paths.GetVisibility() and drawn.paths.GetBounds()[3] == pytest.approx(67.5, abs=0.5)
    assert [t[0].replace("\u2009", " ") for t in drawn.texts.texts] == ["0.00 s", "2.00 s"]
    drawn.show(edits.remove(project, "pose-track-1"), None, None, 1.0, renderer)
    assert not drawn.paths.GetVisibility()
