"""Pictures of more than 8 bits and the layers of finished ones: read back by OpenCV, PyAV and OpenImageIO, against closed forms."""

import json

import av
import cv2
import msgspec
import numpy as np
import OpenImageIO as oiio
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import Camera, PointAim, Shot
from kestrav.core.errors import BadInput
from kestrav.render.deep_images import save_deep
from kestrav.render.film import render_shot, render_still
from kestrav.render.frames import packed, unpacked
from kestrav.render.picture import averaged, spread
from kestrav.render.tracing.description import Body, Lamp, Moment, Surface
from kestrav.render.tracing.render_passes import LAYERS, edges, passes

GREY = Surface(np.full(3, 0.5, np.float32))
NIGHT = np.zeros((8, 16, 3), np.float32)


def plate(z, half, row, group=-1):
    points = np.array([[-half, -half, z], [half, -half, z], [half, half, z], [-half, half, z]], np.float32)
    triangles = np.array([[0, 1, 2], [0, 2, 3]], np.uint32)
    return Body(group, points, None, None, triangles, GREY, rows=np.full(2, row, np.int32))


def above(lamps=(), height=3.0, **fields):
    place = np.array([0.0, 0.0, height])
    return Moment({}, {}, tuple(lamps), place, np.zeros(3), np.array([0.0, 1.0, 0.0]), 60.0, **fields)


def test_the_layers_tell_how_far_which_way_and_which_part():
    floor, box = plate(0.0, 10.0, 4), plate(1.0, 0.25, 7)
    found = passes([floor, box], NIGHT, above(), 40, 40)
    # along the axis, not along the ray: the floor is equally far everywhere
    assert found[0, 0, 0] == pytest.approx(3.0, abs=1e-4) and found[20, 20, 0] == pytest.approx(2.0, abs=1e-4)
    assert np.allclose(found[..., 1:4], [0.0, 0.0, 1.0], atol=1e-5)
    assert found[0, 0, 3 + 1] == 5 and found[20, 20, 4] == 8
    # 0.5 m at a distance of 2 m, of 2 · 2 · tan 30° that the picture shows
    share = (0.5 / (4.0 * np.tan(np.radians(30.0)))) ** 2
    assert (found[..., 4] == 8).mean() == pytest.approx(share, rel=0.15)


def test_what_a_parallel_camera_sees_and_what_is_faint_count_as_well():
    found = passes([plate(0.0, 1.0, 0)], NIGHT, above(parallel=4.0), 40, 40)
    # half of the width and of the height that it shows
    assert np.isfinite(found[..., 0]).mean() == pytest.approx(0.25, abs=0.03)
    faint = Body(
        -1, *[getattr(plate(1.0, 1.0, 3), n) for n in ("points", "normals", "uv", "triangles", "surface")], "x"
    )
    seen = Moment({}, {"x": 0.1}, (), np.array([0.0, 0, 3]), np.zeros(3), np.array([0.0, 1, 0]), 60.0)
    assert not np.isfinite(passes([faint], NIGHT, seen, 8, 8)[..., 0]).any()


def test_a_shadow_falls_where_a_lamp_is_hidden():
    floor, lid = plate(0.0, 10.0, 0), plate(1.0, 0.25, 1)
    lamp = Lamp("point", np.array([0.0, 0.0, 2.0]), np.zeros(3), np.ones(3))
    found = passes([floor, lid], NIGHT, above([lamp], height=8.0), 80, 80)
    floor_seen = found[..., 4] == 1
    x = (np.arange(80) + 0.5) / 80 * 2 - 1
    across = np.abs(x) * 8.0 * np.tan(np.radians(30.0))
    reach = np.maximum(across[:, None], across[None, :])
    # by similar triangles the lid's shadow on the floor is twice as wide as the lid
    assert (found[..., 5][floor_seen & (reach < 0.45)] > 0.99).all()
    assert (found[..., 5][reach > 0.55] < 0.01).all()


def test_the_shadow_under_an_even_sky_is_the_share_that_a_lid_hides():
    # under the middle of a disc of the half angle a a level floor keeps cos² a of an even sky (configuration factor of a disc)
    turns = np.linspace(0, 2 * np.pi, 65)[:-1]
    rim = np.stack([np.cos(turns), np.sin(turns), np.ones(64)], axis=1).astype(np.float32)
    points = np.concatenate([rim, [[0.0, 0.0, 1.0]]]).astype(np.float32)
    faces = np.array([[k, (k + 1) % 64, 64] for k in range(64)], np.uint32)
    lid = Body(-1, points, None, None, faces, GREY, rows=np.zeros(64, np.int32))
    sky = np.ones((64, 128, 3), np.float32)
    sideways = Moment({}, {}, (), np.array([0.0, -0.4, 0.4]), np.zeros(3), np.array([0.0, 0.0, 1.0]), 4.0)
    found = passes([plate(0.0, 10.0, 1), lid], sky, sideways, 40, 40)
    assert (found[..., 4] == 2).all()
    assert found[..., 5].mean() == pytest.approx(0.5, abs=0.03)


@pytest.fixture(scope="module")
def opened():
    made = make_project(
        {"Box": (box_mesh(400, 400, 400), (0.0, 0.0, 0.0))}, straight((0, 0, 0), (900, 0, 0)), duration=1.0
    )
    camera = Camera("c", "Lens", PointAim((0.0, 0.0, 0.0)), position=(0.0, -3000.0, 900.0))
    shot = Shot("s", "Look", "c", 0.0, 0.2, 64, 48, 10.0, quality="good")
    return edits.add(made.project, camera, shot), made.meshes


def test_an_openexr_still_holds_linear_light_depth_and_the_names_of_parts(opened, tmp_path):
    project, meshes = opened
    shot = msgspec.structs.replace(project.shots[0], quality="finished", samples=4)
    render_still(project, meshes, shot, 0.0, tmp_path / "look.exr")
    reader = oiio.ImageInput.open(str(tmp_path / "look.exr"))
    spec, found = reader.spec(), reader.read_image("float")
    assert spec.channelnames == LAYERS and found.shape == (48, 64, len(LAYERS))
    names = json.loads(spec.get_string_attribute("parts"))
    box = found[..., LAYERS.index("id.Y")] > 0
    assert names[str(int(found[..., LAYERS.index("id.Y")].max()))] == "Box"
    depth = found[..., LAYERS.index("Z")]
    # in mm, from the lens at 3 m to the near face of a box of 400 mm
    assert 2000 < depth[box].min() < 3300 and found[..., 3][box].mean() > 0.9
    # light, not colours for a screen: a grey of half the light is shown at nearly three quarters
    assert 0.02 < found[..., :3][box].mean() < 0.9


def test_only_finished_pictures_have_linear_light(opened, tmp_path):
    project, meshes = opened
    with pytest.raises(BadInput, match="quality good"):
        render_still(project, meshes, project.shots[0], 0.0, tmp_path / "look.exr")
    with pytest.raises(BadInput, match="quality good"):
        render_shot(project, meshes, project.shots[0], tmp_path / "frames", bits=32)
    assert not list(tmp_path.iterdir())


def test_a_png_of_16_bits_has_more_steps_than_one_of_8(opened, tmp_path):
    project, meshes = opened
    for bits in (8, 16):
        render_still(project, meshes, project.shots[0], 0.0, tmp_path / f"{bits}.png", bits=bits)
    coarse, fine = (cv2.imread(str(tmp_path / f"{bits}.png"), cv2.IMREAD_UNCHANGED) for bits in (8, 16))
    assert fine.dtype == np.uint16 and coarse.dtype == np.uint8
    assert np.abs(fine / 257.0 - coarse).max() <= 1.0
    assert len(np.unique(fine)) > 1.5 * len(np.unique(coarse))
    with pytest.raises(BadInput, match="8 or 16 bits for each colour, not 10"):
        render_still(project, meshes, project.shots[0], 0.0, tmp_path / "ten.png", bits=10)


@pytest.mark.parametrize(
    ("name", "codec"), [("a.mp4", "h264"), ("a.mp4", "av1"), ("a.webm", "h264"), ("a.webm", "av1")]
)
def test_a_film_of_10_bits_says_so(opened, tmp_path, name, codec):
    project, meshes = opened
    render_shot(project, meshes, project.shots[0], tmp_path / name, bits=10, codec=codec)
    with av.open(str(tmp_path / name)) as film:
        assert film.streams.video[0].pix_fmt == "yuv420p10le"
        assert sum(1 for _ in film.decode(video=0)) == 2


@pytest.mark.parametrize(("name", "bits"), [("film.webm", 16), ("film.gif", 16), ("frames", 10), ("film.mp4", 32)])
def test_bits_that_a_format_cannot_have_are_refused(opened, tmp_path, name, bits):
    project, meshes = opened
    with pytest.raises(BadInput, match=f"not {bits}"):
        render_shot(project, meshes, project.shots[0], tmp_path / name, bits=bits)


def test_a_folder_of_16_bits_is_replaced_only_where_it_is_ours(opened, tmp_path):
    project, meshes = opened
    folder = tmp_path / "frames"
    render_shot(project, meshes, project.shots[0], folder, bits=16)
    assert [file.name for file in sorted(folder.iterdir())] == ["frame_00000.png", "frame_00001.png"]
    shorter = msgspec.structs.replace(project.shots[0], end=0.1)
    render_shot(project, meshes, shorter, folder, overwrite=True, bits=16)
    assert [file.name for file in folder.iterdir()] == ["frame_00000.png"]


@pytest.mark.parametrize("kind", [np.uint8, np.uint16, np.float32])
def test_kept_frames_come_back_as_they_were(kind):
    picture = (np.random.default_rng(1).random((9, 7, 4)) * (1 if kind == np.float32 else np.iinfo(kind).max)).astype(
        kind
    )
    back = unpacked(packed(picture))
    assert back.dtype == kind and np.array_equal(back, picture)


def test_a_deep_picture_lets_through_as_it_was(tmp_path):
    picture = np.random.default_rng(2).integers(0, 65536, (5, 6, 4)).astype(np.uint16)
    save_deep(picture, tmp_path / "a.png")
    assert np.array_equal(cv2.imread(str(tmp_path / "a.png"), cv2.IMREAD_UNCHANGED)[..., [2, 1, 0, 3]], picture)


def test_means_keep_what_is_beyond_8_bits():
    square = np.array([[[10, 0, 255]], [[11, 0, 255]]], np.uint8).repeat(2, axis=1)
    assert averaged(square, 2, 65535)[0, 0].tolist() == [round(10.5 * 257), 0, 65535]
    clear = np.array([[[200, 100, 0, 255]], [[0, 0, 0, 0]]], np.uint8).repeat(2, axis=1)
    assert averaged(clear, 2, 65535)[0, 0].tolist() == [200 * 257, 100 * 257, 0, round(65535 / 2)]


def test_places_on_a_lens_are_spread_evenly():
    square, disc = spread(32)
    assert np.abs(square.mean(axis=0) - 0.5).max() < 0.05 and np.abs(disc.mean(axis=0)).max() < 0.05
    # the mean of the squared radius of an even disc is a half
    assert (disc**2).sum(axis=1).mean() == pytest.approx(0.5, abs=0.01)


def test_lines_lie_along_outlines_and_nowhere_on_a_face():
    found = edges([plate(0.0, 10.0, 4), plate(1.0, 0.25, 7)], above(), 80, 80)
    # half of 0.5 m at a distance of 2 m, of 2 · tan 30° m that half of the picture shows
    side = 40 * 0.25 / (2.0 * np.tan(np.radians(30.0)))
    rows, columns = np.nonzero(found > 0.4)
    reach = np.maximum(np.abs(rows - 39.5), np.abs(columns - 39.5))
    assert reach.min() > side - 1.6 and reach.max() < side + 1.6
    assert found[40, 40] == 0 and found[5, 5] == 0


def test_a_finished_picture_has_its_lines_where_it_is_asked_to(opened, tmp_path):
    project, meshes = opened
    pictures = []
    for drawn in (False, True):
        shot = msgspec.structs.replace(project.shots[0], quality="finished", samples=8, edges=drawn)
        render_still(project, meshes, shot, 0.0, tmp_path / "a.png", overwrite=True)
        pictures.append(cv2.imread(str(tmp_path / "a.png")).astype(int).sum(axis=2))
    darker = pictures[0] - pictures[1] > 100
    assert 20 < darker.sum() < 0.2 * darker.size
