"""The corners of the demo's cabinet at the same pixels in quick and finished pictures and by OpenCV's camera."""

from pathlib import Path as FilePath

import cv2
import msgspec
import numpy as np
import pytest
from shapes import box_mesh, geometry_record

from kestrav.core.camera.adjusting import camera_of
from kestrav.core.camera.views import views
from kestrav.core.document.records import Finish, OnPicture, Part, Placement
from kestrav.core.files import project_file
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts.rest import world_bounds
from kestrav.render.picture import Studio
from kestrav.render.tracing.studio import FinishedStudio

DEMO = FilePath(__file__).parents[2] / "demo" / "fan-cassette.kestrav"
WIDTH, HEIGHT, TIME = 1280, 720, 5.0
LAMPS = ("#ff0000", "#00ff00", "#0000ff", "#ffff00", "#ff00ff", "#00ffff", "#ffffff", "#ff8000")


@pytest.fixture(scope="module")
def marked():
    """The demo's orbit, with nothing to be seen but a small shining cube at each corner of the cabinet."""
    opened = project_file.load(DEMO)
    project = opened.project
    cabinet = next(p for p in project.parts if p.name == "Heat-pump cabinet")
    low, high = world_bounds(project, cabinet.id, world_poses(project, [TIME]))[0]
    corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    shape = box_mesh(24, 24, 24)
    hidden = tuple(msgspec.structs.replace(p, shown=False) for p in project.parts)
    marks = tuple(
        Part(f"mark-{k}", f"Mark {k}", placement=Placement(tuple(place)), geometry=shape.hash, finish=f"glow-{k}")
        for k, place in enumerate(corners.tolist())
    )
    finishes = tuple(
        Finish(f"glow-{k}", f"Glow {k}", colour="#000000", emission=LAMPS[k], luminance=500.0) for k in range(8)
    )
    project = msgspec.structs.replace(
        project,
        parts=(*hidden, *marks),
        geometry=(*project.geometry, geometry_record(shape)),
        finishes=(*project.finishes, *finishes),
        finish_rules=(),
    )
    shot = msgspec.structs.replace(
        project.shots[0],
        width=WIDTH,
        height=HEIGHT,
        background="#000000",
        background_top="",
        floor="none",
        shows=OnPicture(),
    )
    return project, {**opened.meshes, shape.hash: shape}, shot, corners


def by_opencv(project, meshes, shot, corners):
    """Where the corners are seen (8, 2), by OpenCV's pinhole."""
    camera = camera_of(project, shot.camera)
    seen = views(project, meshes, camera, [TIME], world_poses(project, [TIME]), WIDTH / HEIGHT)
    ahead, up = seen.forward[0], seen.up[0]
    right = np.cross(ahead, up)
    turn = np.stack([right, -np.cross(right, ahead), ahead])
    focal = HEIGHT / 2 / np.tan(seen.vertical_angle(camera, WIDTH, HEIGHT)[0] / 2)
    matrix = np.array([[focal, 0, WIDTH / 2], [0, focal, HEIGHT / 2], [0, 0, 1]])
    return cv2.projectPoints(corners, cv2.Rodrigues(turn)[0], -turn @ seen.position[0], matrix, None)[0][:, 0]


def middle_near(picture, place, reach=14):
    """The middle of the light near a place, in pixels from the picture's upper left corner."""
    x, y = np.rint(place).astype(int)
    # how bright a face is says nothing of where it is
    window = np.minimum(picture[y - reach : y + reach, x - reach : x + reach].astype(float).sum(axis=2), 60.0)
    rows, columns = np.mgrid[y - reach : y + reach, x - reach : x + reach] + 0.5
    return np.array([(window * columns).sum(), (window * rows).sum()]) / window.sum()


@pytest.mark.parametrize("make", [Studio, FinishedStudio])
def test_the_cabinets_corners_are_at_the_pixels_that_opencv_says(marked, make):
    project, meshes, shot, corners = marked
    quality = "best" if make is Studio else "finished"
    studio = make(project, meshes, msgspec.structs.replace(shot, quality=quality, samples=16), WIDTH, HEIGHT)
    try:
        picture = studio.picture(camera_of(project, shot.camera), TIME)
    finally:
        studio.close()
    places = by_opencv(project, meshes, shot, corners)
    assert ((places > 20) & (places < [WIDTH - 20, HEIGHT - 20])).all(axis=1).sum() >= 6
    for place in places:
        if (place > 20).all() and (place < [WIDTH - 20, HEIGHT - 20]).all():
            assert np.abs(middle_near(picture, place) - place).max() < 0.5
