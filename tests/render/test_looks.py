"""Pictures in each look: against computed values, projected outlines and each other."""

import msgspec
import numpy as np
import pytest
import shapely
from scipy import ndimage
from shapes import box_mesh, make_project, straight

from kestrav.core.camera.lens import in_camera, on_frame, to_pixels
from kestrav.core.camera.views import views
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, Light, PartAim, PointAim, Section, Shot
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts.rest import own_bounds
from kestrav.render.picture import SIDES, Studio, averaged
from kestrav.render.soft_light import ground_of

GREY = "#808080"


def picture(opened, time=0.0, alpha=False, **fields):
    shot = msgspec.structs.replace(opened.project.shots[0], **fields)
    studio = Studio(opened.project, opened.meshes, shot, shot.width, shot.height, alpha=alpha)
    try:
        return studio.picture(opened.project.cameras[0], time)
    finally:
        studio.close()


def scene(shapes, colours, camera=None, path=((0, 0, 0), (100, 0, 0)), **shot):
    opened = make_project(shapes, straight(*path), duration=1.0)
    project = opened.project
    for part, colour in colours.items():
        project = edits.update(project, part, colour=colour)
    camera = camera or Camera("camera-1", "Eye", PointAim((0.0, 0.0, 0.0)), position=(0.0, -1000.0, 0.0))
    fields = {
        "width": 160,
        "height": 90,
        "fps": 25.0,
        "background": GREY,
        "look": "technical",
        "quality": "preview",
    } | shot
    made = Shot("shot-1", "Take", "camera-1", 0.0, 1.0, **fields)
    return msgspec.structs.replace(edits.add(project, camera, made)), opened.meshes


class Opened:
    def __init__(self, pair):
        self.project, self.meshes = pair


def ball_mesh(radius, rings=96):
    """A sphere of latitudes and longitudes."""
    theta, phi = np.linspace(0, np.pi, rings + 1), np.linspace(0, 2 * np.pi, 2 * rings + 1)[:-1]
    points = np.array([[np.sin(t) * np.cos(p), np.sin(t) * np.sin(p), np.cos(t)] for t in theta for p in phi])
    n = len(phi)
    faces = []
    for i in range(rings):
        for j in range(n):
            a, b, c, d = i * n + j, i * n + (j + 1) % n, (i + 1) * n + j, (i + 1) * n + (j + 1) % n
            faces += [[a, c, b], [b, c, d]]
    kept = [f for f in faces if len({tuple(np.round(points[k], 9)) for k in f}) == 3]
    return mesh(radius * points, np.array(kept))


# Phong's terms of a matt surface (B. T. Phong, CACM 18, 1975) with the lamps and shares that the look has: ambient 0.66, diffuse 0.4,
# and lamps 0.85 from (0.55, −0.75, 1.1), 0.35 from (−1, −0.2, 0.5) and 0.3 from the eye
LAMPS = (((0.55, -0.75, 1.1), 0.85), ((-1.0, -0.2, 0.5), 0.35))


def lambert(normals, towards_eye):
    light = np.zeros(normals.shape[:-1])
    for way, strength in LAMPS:
        unit = np.array(way) / np.linalg.norm(way)
        light += strength * np.clip(normals @ unit, 0, None)
    light += 0.3 * np.clip(np.sum(normals * towards_eye, axis=-1), 0, None)
    return np.clip(0.66 + 0.4 * light, 0, None)


def test_a_grey_card_has_the_computed_value():
    card = Opened(scene({"Card": (box_mesh(400, 10, 300), (0, 0, 0))}, {"part-1": "#808080"}, background="#000000"))
    found = picture(card)[40:50, 75:85].reshape(-1, 3)
    expected = 0x80 * lambert(np.array([[0.0, -1.0, 0.0]]), np.array([[0.0, -1.0, 0.0]]))[0]
    assert found == pytest.approx(np.full(found.shape, expected), abs=2)


def test_a_white_sphere_in_even_light_has_the_computed_shades():
    camera = Camera(
        "camera-1", "Eye", PointAim((0.0, 0.0, 0.0)), position=(0.0, -1000.0, 0.0), parallel=True, view_height=300.0
    )
    # a colour at which nothing is brighter than white
    ball = Opened(
        scene(
            {"Ball": (ball_mesh(100), (0, 0, 0))}, {"part-1": "#a0a0a0"}, camera, width=150, height=150, quality="good"
        )
    )
    found = picture(ball)[..., 0].astype(float)
    x, z = (np.arange(150) + 0.5) * 2 - 150, 150 - (np.arange(150) + 0.5) * 2
    x, z = np.meshgrid(x / 100, z / 100)
    inside = x**2 + z**2 < 0.9**2
    normals = np.stack([x, -np.sqrt(np.clip(1 - x**2 - z**2, 0, None)), z], axis=-1)
    # the light at the eye shines along its look
    expected = np.minimum(0xA0 * lambert(normals, np.broadcast_to([0.0, -1.0, 0.0], normals.shape)), 255)
    assert np.abs(found - expected)[inside].max() < 4
    assert np.abs(found - expected)[inside].mean() < 1


def without_edges(studio):
    """A studio whose lines along the edges, which are wider than those, are left out."""
    for batch in studio.scene.batches:
        batch.final_edges.SetVisibility(False)
        batch._shown = True, False
    return studio


def outline_coverage(project, meshes, time, width, height):
    """Share of each pixel (height, width) that a box's projected outline covers, exactly."""
    poses = world_poses(project, [time])
    camera = project.cameras[0]
    seen = views(project, meshes, camera, [time], poses, width / height)
    corners = np.array(np.meshgrid(*own_bounds(project, "part-1").T, indexing="ij")).reshape(3, -1).T
    placed = corners @ poses[0, 0, :3, :3].T + poses[0, 0, :3, 3]
    right = np.cross(seen.forward[0], seen.up[0])
    local = (placed - seen.position[0]) @ np.stack([right, seen.up[0], seen.forward[0]], axis=1)
    # pinhole: by similar triangles, in the frame's half height
    half = 0.5 * min(24.0, 36.0 * height / width) / camera.focal_length
    x = (local[:, 0] / local[:, 2] / half * height / width + 1) / 2 * width
    y = (1 - local[:, 1] / local[:, 2] / half) / 2 * height
    hull = shapely.MultiPoint(np.stack([x, y], axis=1)).convex_hull
    j, i = np.meshgrid(np.arange(width), np.arange(height))
    return shapely.area(shapely.intersection(shapely.box(j, i, j + 1, i + 1), hull))


@pytest.mark.parametrize(("quality", "most", "mean"), [("good", 0.5, 0.2), ("best", 0.26, 0.1)])
def test_a_moving_part_covers_what_its_outline_does_without_crawling(quality, most, mean):
    box = scene({"Box": (box_mesh(90, 70, 50), (-30, 0, 0))}, {"part-1": "#cc2200"}, path=((-30, 0, 0), (30, 4, 7)))
    opened = Opened(box)
    shot = msgspec.structs.replace(opened.project.shots[0], quality=quality, width=96, height=54)
    studio = without_edges(Studio(opened.project, opened.meshes, shot, 96, 54, alpha=True))
    worst, errors = 0.0, []
    for time in (0.1, 0.35, 0.352, 0.5, 0.81):
        found = studio.picture(opened.project.cameras[0], time)[..., 3] / 255.0
        apart = np.abs(found - outline_coverage(*box, time, 96, 54))
        edge = apart[(found > 0) & (found < 1)]
        worst, errors = max(worst, float(apart.max())), [*errors, float(edge.mean())]
    studio.close()
    assert worst <= most and max(errors) < mean


def test_more_samples_make_an_edge_that_moves_evener():
    box = Opened(
        scene({"Box": (box_mesh(90, 70, 50), (-30, 0, 0))}, {"part-1": "#cc2200"}, path=((-30, 0, 0), (-28, 0, 0)))
    )
    steps = {}
    for quality in SIDES:
        shot = msgspec.structs.replace(box.project.shots[0], quality=quality, width=96, height=54)
        studio = without_edges(Studio(box.project, box.meshes, shot, 96, 54, alpha=True))
        covered = [studio.picture(box.project.cameras[0], t)[..., 3].sum() / 255.0 for t in np.linspace(0, 1, 21)]
        studio.close()
        steps[quality] = float(np.abs(np.diff(covered, 2)).max())
    assert steps["best"] < 0.6 * steps["good"] < 0.6 * steps["preview"]


def test_samples_are_averaged_and_see_through_ones_by_their_opacity():
    fine = np.zeros((4, 4, 3), np.uint8)
    fine[:2, :2] = [[[10], [20]], [[30], [41]]]
    assert averaged(fine, 2)[0, 0].tolist() == [25, 25, 25]
    clear = np.zeros((2, 2, 4), np.uint8)
    clear[0, 0] = 200, 100, 0, 255
    # a quarter of the pixel is covered, and that quarter has the colour
    assert averaged(clear, 2)[0, 0].tolist() == [200, 100, 0, 64]


@pytest.fixture(scope="module")
def room():
    """A floor, a red box on it that moves along, and a post that stands."""
    camera = Camera("camera-1", "Eye", PartAim("part-2"), position=(-700.0, -500.0, 500.0))
    return Opened(
        scene(
            {
                "Floor": (box_mesh(1600, 1600, 20), (0, 0, -10)),
                "Box": (box_mesh(120, 120, 120), (0, 0, 60)),
                "Post": (box_mesh(40, 40, 300), (220, 120, 150)),
            },
            {"part-1": "#c8c8c8", "part-2": "#d02010", "part-3": "#2050c0"},
            camera,
            ((0, 0, 60), (200, 0, 60)),
        )
    )


@pytest.fixture(scope="module")
def riding(room):
    project = edits.update(room.project, "run-1", rider="part-2")
    return Opened((project, room.meshes))


def share_of(found, colour):
    """Share of the pixels of which one channel stands out."""
    found = found.astype(int)
    others = [c for c in range(3) if c != colour]
    return float(((found[..., colour] - found[..., others].max(axis=-1)) > 40).mean())


def test_the_ground_is_found_and_a_product_without_a_floor_stands_on_its_lowest_point(riding):
    room = riding
    found = ground_of(room.project, room.meshes)
    assert found.own and found.level == 0.0
    alone = edits.remove(room.project, "part-1")
    found = ground_of(alone, room.meshes)
    assert not found.own and found.level == pytest.approx(0.0)


def pixel(opened, place, width, height):
    """Row and column at which a place is seen."""
    camera = opened.project.cameras[0]
    seen = views(opened.project, opened.meshes, camera, [0.0], aspect=width / height)
    local = in_camera(seen.position, seen.forward, seen.up, np.array([[place]]))
    half = seen.half_height(camera, width, height)
    column, row = to_pixels(on_frame(local, half, width / height, parallel=False)[0, 0], width, height)
    return int(row), int(column)


def test_the_studio_darkens_the_floor_in_the_shadow_and_in_corners_and_mirrors_faintly(riding):
    plain = picture(riding, look="studio", quality="preview", width=320, height=180).astype(int)
    soft = picture(riding, look="studio", quality="good", width=320, height=180).astype(int)
    darker = (plain - soft)[..., 0] / np.maximum(plain[..., 0], 1)
    # towards the light by (0.5, −0.68, 1): from the first place the box is in the way at half its height, from the others nothing is
    assert darker[pixel(riding, (-80.0, 50.0, 0.0), 320, 180)] > 0.2
    for free in ((-220.0, -160.0, 0.0), (60.0, -250.0, 0.0), (-250.0, 150.0, 0.0)):
        assert abs(darker[pixel(riding, free, 320, 180)]) < 0.08
    # before the box its red is mirrored, farther off it is not
    reddish = soft[..., 0] / np.maximum(soft[..., 1], 1) - plain[..., 0] / np.maximum(plain[..., 1], 1)
    assert reddish[pixel(riding, (-72.0, -20.0, 0.0), 320, 180)] > 0.02
    assert abs(reddish[pixel(riding, (-100.0, -300.0, 0.0), 320, 180)]) < 0.01


def test_without_a_floor_the_ground_takes_the_shadow_and_lets_through(riding):
    alone = Opened((edits.remove(riding.project, "part-1"), riding.meshes))
    plain = picture(alone, look="studio", quality="preview", width=320, height=180).astype(int)
    soft = picture(alone, look="studio", quality="good", width=320, height=180).astype(int)
    background = np.abs(plain - 128).max(axis=2) <= 1
    assert ((plain - soft)[..., 0] * background > 15).sum() > 150
    # far from it the background is itself
    assert np.abs(soft[2, 2] - 128).max() <= 1
    clear = picture(alone, alpha=True, look="studio", quality="good", width=320, height=180)
    shadow = ndimage.binary_erosion(background, iterations=3) & (clear[..., 3] > 15) & (clear[..., 3] < 200)
    assert shadow.sum() > 150 and clear[shadow][:, :3].max() == 0
    assert clear[2, 2, 3] == 0


def test_a_section_cuts_the_picture_open_and_shows_the_faces_of_the_cut(riding):
    whole = picture(riding)
    cut = picture(riding, section=Section((0.0, 0.0, 60.0), (0.0, 0.0, 1.0)))
    assert not np.array_equal(whole, cut)
    # the box's colour in one even tone: the face that the plane makes
    tones, counts = np.unique(cut.reshape(-1, 3), axis=0, return_counts=True)
    face = np.abs(tones - 0.8 * np.array([0xD0, 0x20, 0x10])).max(axis=1) < 2
    assert counts[face].sum() > 60
    assert not (np.abs(whole.astype(int) - 0.8 * np.array([0xD0, 0x20, 0x10])).max(axis=2) < 2).any()


def test_a_ghostly_picture_keeps_the_mover_and_lets_see_through_the_rest(riding):
    solid, ghost = picture(riding), picture(riding, look="ghost", background="#ffffff")
    assert share_of(ghost, 0) > 0.6 * share_of(solid, 0) > 0.02
    assert share_of(solid, 2) > 0.01 > share_of(ghost, 2)
    # the floor is all but gone
    assert ghost[80, 20].min() > 225


def test_a_still_subject_is_kept_apart_from_what_stands_with_it(room):
    still = Opened((edits.update(room.project, "run-1", start=9.0), room.meshes))
    solid, ghost = picture(still), picture(still, look="ghost", background="#ffffff")
    assert share_of(ghost, 0) > 0.6 * share_of(solid, 0) > 0.01
    assert ghost[80, 20].min() > 225


@pytest.mark.parametrize(("background", "lighter"), [("#ffffff", False), ("#102030", True)])
def test_wires_show_on_light_and_on_dark(riding, background, lighter):
    found = picture(riding, look="wire", background=background, quality="good").astype(int).sum(axis=2)
    ground = found[2, 2]
    drawn = np.abs(found - ground) > 120
    assert 0.004 < drawn.mean() < 0.35
    assert (found[drawn].mean() > ground) == lighter


def test_backgrounds_are_a_colour_two_or_none(riding):
    plain = picture(riding, background="#336699")
    assert plain[0, 0] == pytest.approx([0x33, 0x66, 0x99], abs=1)
    sky = picture(
        Opened((edits.remove(riding.project, "part-1"), riding.meshes)), background="#ffffff", background_top="#000000"
    )
    assert sky[0, 0].max() < 10 and sky[-1, 0].min() > 245
    assert np.diff(sky[:, 0, 0].astype(int)).min() >= 0
    clear = picture(riding, clear=True)
    assert clear.shape[2] == 4 and clear[0, 0, 3] == 0


def test_a_light_shows_in_all_looks_that_have_light(riding):
    lamp = Light("light-1", "Lamp", "point", (0.0, -300.0, 300.0))
    lit = Opened((edits.add(riding.project, lamp), riding.meshes))
    for look, shines in (("studio", True), ("technical", True), ("ghost", True), ("wire", False)):
        brighter = picture(lit, look=look).astype(int).mean() - picture(riding, look=look).astype(int).mean()
        assert (brighter > 0.3) == shines, look
