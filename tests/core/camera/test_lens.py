"""Angles of view and projection, against handbooks, VTK, OpenCV and glTF."""

import json

import cv2
import numpy as np
import pytest
from shapes import box_mesh, make_project
from vtkmodules.vtkFiltersSources import vtkCubeSource
from vtkmodules.vtkIOExport import vtkGLTFExporter
from vtkmodules.vtkRenderingCore import vtkActor, vtkCamera, vtkPolyDataMapper, vtkRenderer, vtkRenderWindow

from kestrav.core.camera import lens
from kestrav.core.camera.views import views
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, PointAim
from kestrav.core.errors import BadInput

FULL = Camera("camera-1", "Full frame", PointAim((0, 0, 0)))


@pytest.mark.parametrize(
    ("focal", "horizontal", "vertical", "diagonal"),
    # tables of lenses for the 36 x 24 mm frame, as photographic handbooks print them; values from the issue and from memory
    [
        (24, 73.7, 53.1, 84.1),
        (35, 54.4, 37.8, 63.4),
        (50, 39.6, 27.0, 46.8),
        (85, 23.9, 16.1, 28.6),
        (135, 15.2, 10.2, 18.2),
    ],
)
def test_angles_of_view_are_those_of_published_tables(focal, horizontal, vertical, diagonal):
    camera = edits.change(FULL, focal_length=float(focal))
    found = np.degrees(lens.angles(camera, 36, 24))
    assert found == pytest.approx([horizontal, vertical, diagonal], abs=0.06)


@pytest.mark.parametrize("across", ["width", "height", "diagonal"])
def test_the_focal_length_for_an_angle_gives_that_angle(across):
    focal = lens.focal_length_for(FULL, 1920, 1080, np.radians(40.0), across)
    found = lens.angles(edits.change(FULL, focal_length=focal), 1920, 1080)
    assert np.degrees(dict(zip(("width", "height", "diagonal"), found, strict=True))[across]) == pytest.approx(40.0)


@pytest.mark.parametrize("angle", [0.0, np.pi, -1.0])
def test_an_angle_that_no_lens_has_is_refused(angle):
    with pytest.raises(BadInput, match="not possible"):
        lens.focal_length_for(FULL, 16, 9, angle, "width")


def test_safe_areas_are_those_of_smpte_st_2046_1():
    # SMPTE ST 2046-1:2009: 93 % and 90 % of width and height
    assert (lens.ACTION_SAFE, lens.TITLE_SAFE) == (0.93, 0.90)


def test_the_vertical_angle_is_the_yfov_that_vtk_writes_into_gltf(tmp_path):
    # glTF 2.0, 3.10.3: yfov is the vertical field of view in radians
    renderer, window = vtkRenderer(), vtkRenderWindow()
    window.SetOffScreenRendering(True)
    window.SetSize(640, 360)
    window.AddRenderer(renderer)
    yfov = lens.vertical_angle(FULL, 640, 360)
    box, mapper, actor = vtkCubeSource(), vtkPolyDataMapper(), vtkActor()
    mapper.SetInputConnection(box.GetOutputPort())
    actor.SetMapper(mapper)
    renderer.AddActor(actor)
    renderer.GetActiveCamera().SetViewAngle(float(np.degrees(yfov)))
    window.Render()
    exporter = vtkGLTFExporter()
    exporter.SetFileName(str(tmp_path / "camera.gltf"))
    exporter.SetRenderWindow(window)
    exporter.Write()
    written = json.loads((tmp_path / "camera.gltf").read_text())["cameras"][0]["perspective"]
    assert written["yfov"] == pytest.approx(yfov, abs=1e-6)
    # and by the projection matrix of the standard: [1][1] is 1 / tan(0.5 yfov)
    seen = lens.on_frame(np.array([[[0.0, 1.0, 2.0]]]), [np.tan(yfov / 2)], 16 / 9, parallel=False)
    assert seen[0, 0, 1] == pytest.approx(0.5 / np.tan(0.5 * written["yfov"]))


@pytest.fixture
def looking(random):
    """A camera somewhere, points before it, and where it sees them in pixels."""
    opened = make_project({"Cube": (box_mesh(10, 10, 10), (0, 0, 0))})
    place, target = (1300.0, -2100.0, 1500.0), (100.0, 50.0, 700.0)
    camera = Camera("camera-1", "Eye", PointAim(target), position=place, focal_length=31.7)
    project = edits.add(opened.project, camera)
    points = np.array(target) + random.uniform(-600, 600, (200, 3))
    width, height = 1280, 720
    seen = views(project, opened.meshes, camera, [0.0], aspect=width / height)
    local = lens.in_camera(seen.position, seen.forward, seen.up, points[None])
    half = seen.half_height(camera, width, height)
    pixels = lens.to_pixels(lens.on_frame(local, half, width / height, parallel=False)[0], width, height)
    return camera, seen, points, pixels, (width, height)


def test_projection_agrees_with_opencvs_pinhole_model(looking):
    camera, seen, points, pixels, (width, height) = looking
    # columns of OpenCV's camera: right, down, ahead
    right, down, ahead = np.cross(seen.forward[0], seen.up[0]), -seen.up[0], seen.forward[0]
    rotation = np.stack([right, down, ahead])
    wide, _ = lens.frame_on_sensor(camera, width, height)
    focal = camera.focal_length / wide * width
    matrix = np.array([[focal, 0, width / 2], [0, focal, height / 2], [0, 0, 1]])
    found, _ = cv2.projectPoints(points, cv2.Rodrigues(rotation)[0], -rotation @ seen.position[0], matrix, None)
    assert np.abs(found.reshape(-1, 2) - pixels).max() < 0.01


def test_projection_agrees_with_vtks_own(looking):
    camera, seen, points, pixels, (width, height) = looking
    eye = vtkCamera()
    eye.SetPosition(*seen.position[0])
    eye.SetFocalPoint(*seen.target[0])
    eye.SetViewUp(*seen.up[0])
    eye.SetViewAngle(float(np.degrees(seen.vertical_angle(camera, width, height)[0])))
    eye.SetClippingRange(10.0, 10_000.0)
    made = eye.GetCompositeProjectionTransformMatrix(width / height, -1, 1)
    matrix = np.array([[made.GetElement(i, j) for j in range(4)] for i in range(4)])
    clip = np.column_stack([points, np.ones(len(points))]) @ matrix.T
    found = lens.to_pixels(clip[:, :2] / clip[:, 3:], width, height)
    assert np.abs(found - pixels).max() < 0.01


def test_a_parallel_camera_shows_its_height_at_any_distance():
    camera = edits.change(FULL, parallel=True, view_height=800.0)
    opened = make_project({"Cube": (box_mesh(10, 10, 10), (0, 0, 0))})
    project = edits.add(opened.project, camera)
    seen = views(project, opened.meshes, camera, [0.0])
    half = seen.half_height(camera, 16, 9)
    near, far = (
        lens.on_frame(np.array([[[0.0, 400.0, depth]]]), half, 16 / 9, parallel=True)[0, 0, 1] for depth in (10.0, 1e5)
    )
    assert near == far == pytest.approx(1.0)


def test_what_is_behind_the_lens_is_far_out_of_the_frame():
    seen = lens.on_frame(np.array([[[10.0, 10.0, -500.0]]]), [0.3], 1.0, parallel=False)
    assert np.abs(seen).min() > 1000
