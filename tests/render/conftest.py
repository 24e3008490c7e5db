"""A moving cube before a wall, for pictures."""

import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import Camera, OnPicture, PointAim, Shot
from kestrav.core.files import project_file


@pytest.fixture(scope="session")
def written():
    """A cube that runs past a post over a floor, in the studio's light, with all that can be written on a picture."""
    opened = make_project(
        {
            "Cube": (box_mesh(60, 60, 60), (-200, 0, 40)),
            "Post": (box_mesh(30, 30, 160), (0, 70, 80)),
            "Floor": (box_mesh(900, 600, 10), (0, 0, -5)),
        },
        straight((-200, 0, 40), (200, 0, 40)),
        duration=1.0,
    )
    camera = Camera("camera-1", "Eye", PointAim((0, 0, 30)), position=(100.0, -900.0, 320.0))
    shows = OnPicture(
        labels=("part-1", "part-2"), clearance=True, speed=True, trace=True, images=0.2, clock=True, title="A cube", end="End"
    )  # fmt: skip
    shot = Shot("shot-1", "Take", "camera-1", 0.2, 0.6, 160, 90, 25.0, "#808080", "#a0b0c0", shows=shows)
    return type(opened)(edits.add(opened.project, camera, shot), opened.meshes)


@pytest.fixture
def written_file(written, tmp_path):
    """The same in a file."""
    target = tmp_path / "written.kestrav"
    project_file.save(written.project, written.meshes, target)
    return target
