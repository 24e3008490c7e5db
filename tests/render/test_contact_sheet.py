"""Contact sheets, read back."""

import msgspec
import numpy as np
import pytest
from PIL import Image
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import Camera, PointAim, Shot
from kestrav.core.errors import BadInput
from kestrav.render.contact_sheet import contact_sheet, even_times


@pytest.fixture(scope="module")
def filmed():
    opened = make_project(
        {"Cube": (box_mesh(60, 60, 60), (-200, 0, 0))}, straight((-200, 0, 0), (200, 0, 0)), duration=1.0
    )
    project = edits.update(opened.project, "part-1", colour="#cc2200")
    camera = Camera("camera-1", "Eye", PointAim((0, 0, 0)), position=(0.0, -900.0, 0.0))
    shot = Shot("shot-1", "Take", "camera-1", 0.0, 1.0, 320, 180, 25.0, "#808080", look="technical")
    return edits.add(project, camera, shot), opened.meshes


def test_pictures_are_of_even_steps_from_the_first_frame_to_the_last(filmed):
    project, _ = filmed
    assert even_times(project.shots[0], 4) == pytest.approx([0.0, 0.32, 0.64, 0.96])
    short = msgspec.structs.replace(project.shots[0], end=0.08)
    assert even_times(short, 8) == pytest.approx([0.0, 0.04])


def test_a_sheet_shows_the_cube_further_on_in_each_picture(filmed, tmp_path):
    project, meshes = filmed
    told = []
    target = contact_sheet(project, meshes, project.shots, tmp_path / "sheet.png", lambda k, n: told.append((k, n)))
    with Image.open(target) as image:
        assert image.info["Title"] == project.name
        page = np.asarray(image.convert("RGB")).astype(int)
    assert told[0] == (0, 8) and told[-1] == (8, 8)
    red = (page[..., 0] - page[..., 2] > 80) & (page[..., 1] < 90)
    places = []
    for row in range(2):
        for column in range(4):
            left, top = 40 + column * 394, 40 + 60 + 34 + row * (214 + 36)
            places.append(np.argwhere(red[top : top + 214, left : left + 380])[:, 1].mean())
    assert np.diff(places).min() > 10


def test_a_sheet_that_cannot_be_is_told(filmed, tmp_path):
    project, meshes = filmed
    with pytest.raises(BadInput, match=r"end it in \.png"):
        contact_sheet(project, meshes, project.shots, tmp_path / "sheet.mp4")
    with pytest.raises(BadInput, match="no shot"):
        contact_sheet(project, meshes, (), tmp_path / "sheet.png")
    (tmp_path / "there.png").write_bytes(b"mine")
    with pytest.raises(BadInput, match="is there already"):
        contact_sheet(project, meshes, project.shots, tmp_path / "there.png")
