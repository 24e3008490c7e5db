"""Pictures on surfaces lie alike in the stage's shading, in quick pictures and in finished ones."""

import msgspec
import numpy as np
import pytest
from pictured import QUARTERS, parts, plate, wavy
from PIL import Image
from shapes import box_mesh, make_project

from kestrav.core.camera.making import add_standing
from kestrav.core.document import edits
from kestrav.core.document.records import Light, PointAim, Project, Section
from kestrav.core.document.surfaces import Finish, Pictures
from kestrav.core.editing.finishing import with_finish
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.finishes.pictures import encoded
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.picture import Studio
from kestrav.render.tracing.studio import FinishedStudio
from kestrav.render.tracing.traced_bodies import bodies_of


@pytest.fixture(scope="module")
def printed(tmp_path_factory):
    """The plate with its picture before a camera that looks straight at it, and its shot."""
    imported = read_product(plate(tmp_path_factory.mktemp("printed")))
    project = into_project(Project(name="Printed"), imported)
    project = add_standing(project, (0.0, -3000.0, 500.0), np.array([0.0, 0.0, 500.0]), focal_length=70.0)
    shot = msgspec.structs.replace(
        project.shots[0], width=160, height=90, floor="none", background="#808080", background_top=""
    )
    return project, dict(imported.meshes), shot


def amid_quarters(picture):
    """The colours amid the plate's quarters, from its upper left to its lower right."""
    red = np.abs(picture.astype(int) - 128).sum(axis=2) > 60
    rows, columns = np.flatnonzero(red.any(axis=1)), np.flatnonzero(red.any(axis=0))
    ys, xs = (np.linspace(ends[0], ends[-1], 5)[[1, 3]].astype(int) for ends in (rows, columns))
    return [picture[y, x].astype(int) for y in ys for x in xs]


def hue_of(colour):
    """Which of the four colours of the picture another is nearest to, by what it is made of."""
    share = np.asarray(colour, float) / max(np.sum(colour), 1)
    known = np.array([np.array(c) / np.sum(c) for c in QUARTERS])
    return int(np.linalg.norm(known - share, axis=1).argmin())


@pytest.mark.parametrize("kind", ["preview", "good", "finished", "technical"])
def test_each_quarter_is_where_it_was_laid(printed, kind):
    project, meshes, shot = printed
    look = {"look": "technical"} if kind == "technical" else {"quality": kind, "samples": 16}
    shot = msgspec.structs.replace(shot, **look)
    maker = FinishedStudio if kind == "finished" else Studio
    studio = maker(project, meshes, shot, shot.width, shot.height)
    try:
        picture = studio.picture(project.cameras[0], 0.0)
    finally:
        studio.close()
    assert [hue_of(colour) for colour in amid_quarters(picture)] == [0, 1, 2, 3]


def test_normals_roughness_and_metal_bend_light_alike_in_quick_and_finished_pictures(tmp_path):
    # the left half leans to the right and the right half to the left; a lamp stands to the right of the camera
    imported = read_product(
        plate(
            tmp_path,
            normalTexture=wavy(),
            metallicRoughnessTexture=parts(),
            baseColorTexture=None,
            baseColorFactor=[0.5, 0.5, 0.5, 1],
        )
    )
    project = into_project(Project(name="Wavy"), imported)
    project = add_standing(project, (0.0, -3000.0, 500.0), np.array([0.0, 0.0, 500.0]), focal_length=70.0)
    aim = PointAim((0.0, 0.0, 500.0))
    lamp = Light("light-1", "Lamp", "sun", (3000.0, -1500.0, 500.0), aim, 3000.0, "#ffffff")
    project = edits.add(project, lamp)
    shot = msgspec.structs.replace(
        project.shots[0], width=160, height=90, floor="none", background="#000000", background_top="", samples=32
    )
    lit = []
    for maker, quality in ((Studio, "good"), (FinishedStudio, "finished")):
        studio = maker(project, dict(imported.meshes), msgspec.structs.replace(shot, quality=quality), 160, 90)
        try:
            picture = studio.picture(project.cameras[0], 0.0).astype(float)
        finally:
            studio.close()
        there = picture.sum(axis=2) > 20
        columns = np.flatnonzero(there.any(axis=0))
        middle = (columns[0] + columns[-1]) // 2
        rows = np.flatnonzero(there.any(axis=1))
        below = slice((rows[0] + rows[-1]) // 2 + 4, rows[-1] - 2)
        lit.append(
            (picture[below, columns[0] + 3 : middle - 3].mean(), picture[below, middle + 3 : columns[-1] - 3].mean())
        )
    for left, right in lit:
        assert left > right + 15, lit


@pytest.mark.parametrize("quality", ["preview", "finished"])
def test_a_relief_leans_upwards_where_its_picture_is_seen_mirrored_too(tmp_path, quality):
    leaning = np.zeros((8, 8, 3))
    leaning[..., 1], leaning[..., 2] = 0.6, 0.8
    normals = Image.fromarray(np.rint(127.5 + 127.5 * leaning).astype(np.uint8))
    lit = []
    for mirrored in (False, True):
        imported = read_product(
            plate(
                tmp_path,
                mirrored,
                normalTexture=normals,
                baseColorTexture=None,
                baseColorFactor=[0.5, 0.5, 0.5, 1],
            )
        )
        project = into_project(Project(name="Leaning"), imported)
        project = add_standing(project, (0.0, -3000.0, 500.0), np.array([0.0, 0.0, 500.0]), focal_length=70.0)
        aim = PointAim((0.0, 0.0, 500.0))
        for height in (3500.0, -2500.0):
            sun = Light("light-1", "Sun", "sun", (0.0, -3000.0, height), aim, 300.0, "#ffffff")
            shot = msgspec.structs.replace(
                project.shots[0], width=64, height=36, floor="none", background="#000000", samples=16, quality=quality
            )
            maker = FinishedStudio if quality == "finished" else Studio
            studio = maker(edits.add(project, sun), dict(imported.meshes), shot, 64, 36)
            try:
                lit.append(studio.picture(project.cameras[0], 0.0)[14:22, 28:36].astype(float).mean())
            finally:
                studio.close()
    above, below, above_mirrored, below_mirrored = lit
    assert above > below + 15, lit
    assert abs(above_mirrored - above) < 6 and abs(below_mirrored - below) < 6, lit


def test_a_finished_picture_cut_open_keeps_the_pictures_on_what_is_left(printed):
    project, meshes, shot = printed
    # the right half is cut away
    cut = msgspec.structs.replace(
        shot, quality="finished", samples=16, section=Section((0.0, 0.0, 0.0), (1.0, 0.0, 0.0))
    )
    studio = FinishedStudio(project, meshes, cut, shot.width, shot.height)
    try:
        picture = studio.picture(project.cameras[0], 0.0).astype(int)
    finally:
        studio.close()
    there = np.abs(picture - 128).sum(axis=2) > 60
    rows, columns = np.flatnonzero(there.any(axis=1)), np.flatnonzero(there.any(axis=0))
    assert columns[-1] <= shot.width // 2 + 1
    x, ys = (columns[0] + columns[-1]) // 2, np.linspace(rows[0], rows[-1], 5)[[1, 3]].astype(int)
    assert [hue_of(picture[y, x]) for y in ys] == [0, 2]


def test_faces_keep_their_own_colours_under_a_relief(tmp_path):
    box = box_mesh(20, 20, 20)
    tint_of = (np.arange(len(box.triangles)) % 2).astype(np.int32)
    uv = np.tile(np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0]], np.float32), (len(box.triangles), 1, 1))
    shape = Mesh(box.vertices, box.triangles, (), None, ("#c02020", "#20c020"), tint_of, uv)
    opened = make_project({"Block": (shape, (0, 0, 0))})
    relief = Finish("finish-1", "Relief", pictures=Pictures(normal=encoded(np.asarray(wavy()))))
    project = with_finish(opened.project, ["part-1"], relief)
    project = add_standing(project, (0.0, -100.0, 0.0), np.zeros(3), focal_length=35.0)
    bodies = bodies_of(project, opened.meshes, project.cameras[0])
    colours = {tuple(np.round(body.surface.base, 3)) for body in bodies}
    assert len(colours) == 2 and sum(len(body.triangles) for body in bodies) == len(box.triangles)
    assert all(body.surface.normals is not None for body in bodies)
