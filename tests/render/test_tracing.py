"""Finished pictures: energy, units and lenses of the path tracer against closed forms and published values, in its own process."""

import cv2
import msgspec
import numpy as np
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.camera.lens import in_camera, on_frame, to_pixels
from kestrav.core.camera.views import views
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, Focus, Light, PointAim, Section, Shot
from kestrav.core.document.surfaces import Finish
from kestrav.core.editing.finishing import with_finish
from kestrav.core.errors import BadInput, Cancelled
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.light.exposure import WHITE
from kestrav.render.film import render_shot, render_still
from kestrav.render.frames import Maker, keyed
from kestrav.render.picture import Studio
from kestrav.render.tracing.description import Body, Lamp, Moment, Surface, TracedScene, Wanted
from kestrav.render.tracing.studio import FinishedStudio, TracingProcess, give_back, take_process

SIDE = 48


def plate(half=1.0, z=0.0):
    points = np.array([[-half, -half, z], [half, -half, z], [half, half, z], [-half, half, z]], np.float32)
    return points, np.array([[0, 1, 2], [0, 2, 3]], np.uint32)


def ball(radius=0.5, rings=48):
    theta, phi = np.linspace(0, np.pi, rings + 1), np.linspace(0, 2 * np.pi, 2 * rings + 1)[:-1]
    normals = np.array(
        [[np.sin(t) * np.cos(p), np.sin(t) * np.sin(p), np.cos(t)] for t in theta for p in phi], np.float32
    )
    n, faces = len(phi), []
    for i in range(rings):
        for j in range(n):
            a, b, c, d = i * n + j, i * n + (j + 1) % n, (i + 1) * n + j, (i + 1) * n + (j + 1) % n
            faces += [[a, c, b], [b, c, d]]
    return radius * normals, normals, np.array(faces, np.uint32)


def grey(value):
    return np.full(3, value, np.float32)


def body(shape, surface, normals=None, group=-1):
    points, triangles = shape
    return Body(group, points, normals, None, triangles, surface)


def above(height=3.0, angle=8.0, lamps=(), groups=None, **fields):
    """A camera that looks straight down from a height in m."""
    place = np.array([0.0, 0.0, height])
    return Moment(groups or {}, {}, tuple(lamps), place, np.zeros(3), np.array([0.0, 1.0, 0.0]), angle, **fields)


@pytest.fixture(scope="module")
def tracer():
    process = TracingProcess()
    yield process
    process.close()


def test_one_process_serves_one_picture_after_another_and_what_is_at_work_or_gone_is_not_taken_again():
    first = take_process()
    assert first.ask("scene", TracedScene((body(plate(), Surface(grey(0.5))),), np.ones((16, 32, 3), np.float32), 8, 8))
    give_back(first)
    again = take_process()
    assert again is first and again.process.poll() is None
    # somebody stops it in the middle of a picture
    with pytest.raises(Cancelled):
        traced(again, [body(plate(), Surface(grey(0.5)))], above(), samples=256, side=256, progress=stopped)
    give_back(again)
    assert again.process.poll() is not None
    gone = take_process()
    assert gone is not again
    give_back(gone)
    gone.process.kill()
    gone.process.wait()
    last = take_process()
    assert last is not gone and last.process.poll() is None
    give_back(last)


def stopped(*_):
    raise Cancelled


def traced(tracer, bodies, moments, environment=0.0, samples=64, side=SIDE, progress=None, **fields):
    around = np.full((16, 32, 3), environment, np.float32)
    tracer.ask("scene", TracedScene(tuple(bodies), around, side, side))
    moments = moments if isinstance(moments, tuple) else (moments,)
    return tracer.ask("frame", Wanted(moments, samples, denoise=False, **fields), progress)


def middle(found, half=6):
    at = len(found.light) // 2
    return found.light[at - half : at + half, at - half : at + half].mean(axis=(0, 1))


@pytest.mark.parametrize(("albedo", "roughness"), [(0.999, 0.6), (0.999, 0.2), (0.999, 0.0), (0.5, None)])
def test_a_matt_ball_in_an_even_light_is_as_bright_as_that(tracer, albedo, roughness):
    # the white furnace: what reflects all of an even light cannot be told from it
    points, normals, triangles = ball()
    surface = Surface(grey(albedo), roughness=roughness or 0.0, index=1.0 if roughness is None else 1.5)
    found = traced(tracer, [body((points, triangles), surface, normals)], above(angle=20.0), 1.0, samples=256)
    assert middle(found) == pytest.approx(albedo, rel=0.01)


def test_a_metal_ball_reflects_as_much_as_its_colour_says(tracer):
    points, normals, triangles = ball()
    surface = Surface(np.array([0.9, 0.6, 0.4], np.float32), metallic=1.0, roughness=0.05)
    found = traced(tracer, [body((points, triangles), surface, normals)], above(angle=4.0), 1.0, samples=256)
    assert middle(found) == pytest.approx([0.9, 0.6, 0.4], rel=0.01)


@pytest.mark.parametrize(("index", "angle"), [(1.517, 0.0), (1.517, 60.0), (1.33, 45.0)])
def test_glass_reflects_as_fresnels_equations_say(tracer, index, angle):
    # a thick plate over black: what comes back is what its faces reflect. M. Born, E. Wolf, "Principles of Optics", 7th ed., 1.5.2;
    # for glass of 1.517 at normal incidence ((n − 1) / (n + 1))² = 4.22 %
    shape = box_mesh(4.0, 4.0, 0.2)
    points = (shape.vertices - [0, 0, shape.vertices[:, 2].max()]).astype(np.float32)
    glass = body(
        (points, shape.triangles.astype(np.uint32)), Surface(grey(1.0), roughness=0.0, transmission=1.0, index=index)
    )
    black = body(plate(40.0, -0.3), Surface(grey(0.0), roughness=1.0, index=1.0001))
    a = np.radians(angle)
    place = 3.0 * np.array([0.0, -np.sin(a), np.cos(a)])
    moment = Moment({}, {}, (), place, np.zeros(3), np.array([0.0, np.cos(a), np.sin(a)]), 2.0)
    found = traced(tracer, [glass, black], moment, 1.0, samples=1024, side=24)
    inside = np.arcsin(np.sin(a) / index)
    s = ((np.cos(a) - index * np.cos(inside)) / (np.cos(a) + index * np.cos(inside))) ** 2
    p = ((np.cos(inside) - index * np.cos(a)) / (np.cos(inside) + index * np.cos(a))) ** 2
    face = 0.5 * (s + p)
    # both faces of the plate, with all that goes to and fro between them
    assert middle(found, 10).mean() == pytest.approx(2 * face / (1 + face), rel=0.04)


def test_a_lamp_follows_the_inverse_square_law(tracer):
    # E = I cos θ / d² (CIE S 017, 17-21-063); a matt white surface sends E / π to all sides
    white = Surface(grey(0.8), roughness=1.0, index=1.0001)
    for height, strength in ((1.0, 100.0), (2.0, 100.0)):
        lamp = Lamp("point", np.array([0.0, 0.0, height]), np.zeros(3), np.full(3, strength / WHITE))
        found = traced(tracer, [body(plate(), white)], above(height=8.0, angle=1.0, lamps=[lamp]), samples=128)
        assert middle(found) * WHITE == pytest.approx(0.8 / np.pi * strength / height**2, rel=0.01)


def test_an_area_light_gives_what_its_intensity_over_the_distance_squared_says(tracer):
    white = Surface(grey(0.8), roughness=1.0, index=1.0001)
    size, height, strength = 0.05, 2.0, 100.0
    lamp = Lamp(
        "area", np.array([0.0, 0.0, height]), np.zeros(3), np.full(3, strength / WHITE / size**2), size=(size, size)
    )
    found = traced(tracer, [body(plate(), white)], above(height=8.0, angle=1.0, lamps=[lamp]), samples=512)
    assert middle(found).mean() * WHITE == pytest.approx(0.8 / np.pi * strength / height**2, rel=0.02)


def lux(tracer, lamp, samples=256):
    """What a lamp gives the middle of a floor, by the light that a matt surface of known albedo sends back."""
    white = Surface(grey(0.8), roughness=1.0, index=1.0001)
    found = traced(tracer, [body(plate(), white)], above(height=8.0, angle=1.0, lamps=[lamp]), samples=samples)
    return float(middle(found).mean()) * WHITE * np.pi / 0.8


def test_a_bulb_gives_what_a_handbooks_example_says(tracer):
    # A. Ryer, "The Light Measurement Handbook" (International Light, 1997), on the inverse square law, from memory: a bulb that gives
    # 10.0 lm/m² at 1.0 m gives 40.0 lm/m² at half of that
    for height, told in ((1.0, 10.0), (0.5, 40.0)):
        bulb = Lamp("point", np.array([0.0, 0.0, height]), np.zeros(3), grey(10.0 / WHITE))
        assert lux(tracer, bulb) == pytest.approx(told, rel=0.01)
    # the same handbook's rule, from memory: from five times its largest dimension on a luminaire may be taken for a point, within 1 %.
    # Nearer it gives less: parallel to the corner of a rectangle a · d by b · d at a distance d, F is
    # (a atan(b / √(1 + a²)) / √(1 + a²) + b atan(a / √(1 + b²)) / √(1 + b²)) / 2π: J. R. Howell, "A Catalog of Radiation Heat Transfer Configuration Factors", B-3
    size, strength = 0.5, 100.0

    def square(height):
        place = np.array([0.0, 0.0, height])
        return Lamp("area", place, np.zeros(3), grey(strength / WHITE / size**2), size=(size, size))

    far = 5.0 * size * np.sqrt(2.0)
    assert lux(tracer, square(far), 1024) == pytest.approx(strength / far**2, rel=0.01)
    a = 0.5 * size / 0.5
    factor = 4.0 * (a / np.sqrt(1 + a * a)) * np.arctan(a / np.sqrt(1 + a * a)) / np.pi
    near = np.pi * strength / size**2 * factor
    assert near < 0.9 * strength / 0.5**2
    assert lux(tracer, square(0.5), 1024) == pytest.approx(near, rel=0.01)


def test_two_parallel_squares_see_as_much_of_each_other_as_the_handbook_says(tracer):
    # the form factor of equal parallel squares a side apart is 0.1998: J. R. Howell, "A Catalog of Radiation Heat Transfer Configuration
    # Factors", C-11. A glowing one lights the other by F / A; what that sends back is summed over it
    points, triangles = plate(0.5)
    dark = body((points, triangles), Surface(grey(0.5), roughness=1.0, index=1.0001))
    glow = np.array([[0, 2, 1], [0, 3, 2]], np.uint32)
    lit = body(
        (points + np.array([0, 0, 1.0], np.float32), glow),
        Surface(grey(0.0), roughness=1.0, index=1.0001, emission=grey(1.0)),
    )
    # seen from below through nothing: the camera stands between the two
    place = np.array([0.0, 0.0, 0.99])
    moment = Moment(
        {}, {}, (), place, np.zeros(3), np.array([0.0, 1.0, 0.0]), float(2 * np.degrees(np.arctan(0.5 / 0.99)))
    )
    found = traced(tracer, [dark, lit], moment, samples=512, side=64)
    assert found.light.mean() == pytest.approx(0.5 * 0.1998, rel=0.03)


def test_a_matt_floor_under_an_even_sky_is_as_bright_as_its_albedo(tracer):
    found = traced(
        tracer, [body(plate(5.0), Surface(grey(0.35), roughness=1.0, index=1.0001))], above(), 1.0, samples=256
    )
    assert middle(found) == pytest.approx(0.35, rel=0.01)


def test_a_turning_bar_is_blurred_as_long_as_it_covers_a_place(tracer):
    # a bar of half width w about the middle covers a place at a radius r for as much of the turn as 2 asin(w / r)
    half_width, length, sweep, count = 0.05, 1.0, np.radians(80.0), 64
    points = np.array(
        [[0, -half_width, 0], [length, -half_width, 0], [length, half_width, 0], [0, half_width, 0]], np.float32
    )
    bar = body(
        (points, np.array([[0, 1, 2], [0, 2, 3]], np.uint32)), Surface(grey(0.5), roughness=1.0, index=1.0001), group=0
    )
    moments = []
    for k in range(count):
        a = (k + 0.5) / count * sweep - sweep / 2
        turn = np.eye(4)
        turn[:2, :2] = [[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]]
        moments.append(above(height=10.0, angle=float(2 * np.degrees(np.arctan(1.2 / 10.0))), groups={0: turn}))
    found = traced(tracer, [bar], tuple(moments), 1.0, samples=256, side=96)
    scale = 2.4 / 96
    for r in (0.35, 0.6, 0.85):
        column = 48 + r / scale
        cover = found.cover[46:50, round(column) - 1 : round(column) + 1].mean()
        assert cover == pytest.approx(2 * np.arcsin(half_width / r) / sweep, rel=0.08)


def test_a_point_out_of_focus_is_as_large_as_the_lens_formula_says(tracer):
    # a small bright square at d, the lens focused at s: a disc of the diameter A |d − s| / d seen in the plane of focus
    aperture, s, d = 0.04, 2.0, 3.0
    points, triangles = plate(0.001)
    place = np.array([0.0, 0.0, 3.0])
    spot = body((points, triangles), Surface(grey(0.0), roughness=1.0, emission=grey(800.0)))
    angle = 4.0
    moment = Moment({}, {}, (), place, np.zeros(3), np.array([0.0, 1.0, 0.0]), angle, aperture=aperture, focus=s)
    found = traced(tracer, [spot], moment, samples=512, side=128)
    cover = found.cover > 0.15 * found.cover.max()
    wide = cover.any(axis=0).sum() * 2 * np.tan(np.radians(angle / 2)) * s / 128
    # by a pixel more or less on either side
    assert wide == pytest.approx(2 * aperture * abs(d - s) / d, abs=2.5 * 2 * np.tan(np.radians(angle / 2)) * s / 128)


def test_more_samples_make_less_noise_and_a_still_scene_stays_as_it_is(tracer):
    points, normals, triangles = ball()
    lamp = Lamp("area", np.array([2.0, 0.0, 3.0]), np.zeros(3), np.full(3, 20.0), size=(1.0, 1.0))
    scene = [body((points, triangles), Surface(grey(0.6)), normals), body(plate(5.0, -0.5), Surface(grey(0.5)))]
    few, many = (traced(tracer, scene, above(angle=30.0, lamps=[lamp]), 0.2, samples=n) for n in (8, 128))
    assert many.noise < 0.5 * few.noise
    again = tracer.ask("frame", Wanted((above(angle=30.0, lamps=[lamp]),), 8, denoise=False))
    assert np.abs(again.light - few.light).max() < 1e-5
    early = tracer.ask("frame", Wanted((above(angle=30.0, lamps=[lamp]),), 4096, noise=3 * many.noise, denoise=False))
    assert early.samples < 4096 and early.noise < 3 * many.noise


@pytest.mark.parametrize("camera", [{}, {"aperture": 0.03, "focus": 3.0}, {"parallel": 2.0}])
def test_a_frame_is_the_same_whatever_was_made_before_it(tracer, camera):
    # all that may change from frame to frame does: what is prepared for the first must serve the second as well
    points, normals, triangles = ball(rings=16)
    scene = [
        body(((0.3 * points).astype(np.float32), triangles), Surface(grey(0.6), roughness=0.3), normals, group=0),
        msgspec.structs.replace(body(plate(0.4, 0.6), Surface(grey(0.3))), fades="lid"),
        body(plate(5.0, -0.5), Surface(grey(0.5))),
    ]

    def moment(k):
        matrix = np.eye(4)
        matrix[:3, 3] = 150.0 * k, -100.0, 80.0 * k
        lamps = (
            Lamp("point", np.array([1.0 + k, 1.0, 2.0]), np.zeros(3), grey(8.0 + 20.0 * k)),
            Lamp("spot", np.array([0.0, 1.0, 3.0]), np.array([0.2 * k, 0.0, 0.0]), grey(30.0), half=30.0),
            Lamp("area", np.array([1.0, 0.5, 3.0 - k]), np.zeros(3), grey(20.0 - 10.0 * k), size=(0.5, 0.4)),
            Lamp("sun", np.array([1.0, 0.5, 3.0]), np.array([0.5 * k, 0.0, 0.0]), grey(0.3 + k)),
        )
        place, up = np.array([2.0, 1.5 * k + 0.1, 3.0]), np.array([0.0, 0.0, 1.0])
        return Moment({0: matrix}, {"lid": 1.0 - 0.6 * k}, lamps, place, np.zeros(3), up, 30.0 + 15.0 * k, **camera)

    traced(tracer, scene, moment(0), 0.3, samples=8)
    after = tracer.ask("frame", Wanted((moment(1),), 8, denoise=False))
    alone = traced(tracer, scene, moment(1), 0.3, samples=8)
    # a path may take the other side of an edge by rounding
    assert (np.abs(after.light - alone.light).max(axis=2) > 1e-4).mean() < 1e-3
    assert np.abs(after.light - alone.light).mean() < 1e-4


def test_the_slow_variant_shows_the_same(tracer):
    points, normals, triangles = ball(rings=16)
    shift = np.eye(4)
    shift[0, 3] = 200.0
    scene = [
        body((points, triangles), Surface(grey(0.6)), normals, group=0),
        body(plate(5.0, -0.5), Surface(grey(0.5))),
        body(plate(0.2, 0.8), Surface(grey(0.1), emission=grey(2.0)), group=0),
    ]
    moment = above(angle=30.0, groups={0: shift}, aperture=0.02, focus=3.0)
    fast = traced(tracer, scene, moment, 0.5, samples=64)
    other = TracingProcess(slow=True)
    try:
        slow = traced(other, scene, moment, 0.5, samples=64)
    finally:
        other.close()
    assert slow.variant == "scalar_rgb"
    assert slow.light.mean() == pytest.approx(fast.light.mean(), rel=0.02)
    assert np.abs(slow.light - fast.light).mean() < 0.04


# the document


EYE = Camera("camera-1", "Eye", PointAim((0.0, 0.0, 20.0)), position=(250.0, -700.0, 320.0), focal_length=40.0)
SHOT = Shot("shot-1", "Take", "camera-1", 0.0, 1.0, 160, 90, 25.0, "#c8d0d0", quality="finished", samples=16)


@pytest.fixture(scope="module")
def opened():
    made = make_project(
        {"Cube": (box_mesh(80, 80, 80), (0.0, 0.0, 0.0)), "Post": (box_mesh(20, 20, 160), (120.0, 60.0, 0.0))},
        straight((0, 0, 0), (100, 0, 0)),
        duration=1.0,
    )
    project = with_finish(made.project, ["part-1"], Finish("", "Red", colour="#c02020", roughness=0.5))
    return type(made)(edits.add(project, EYE, SHOT), made.meshes)


def taken(opened, make, time=0.0, **fields):
    shot = msgspec.structs.replace(SHOT, **fields)
    studio = make(opened.project, opened.meshes, shot, shot.width, shot.height)
    try:
        return studio.picture(opened.project.cameras[0], time)
    finally:
        studio.close()


def test_corners_lie_at_the_same_pixels_in_quick_and_finished_pictures_and_by_opencv(opened):
    size = {"width": 640, "height": 360}
    quick, fine = taken(opened, Studio, quality="good", **size), taken(opened, FinishedStudio, samples=32, **size)
    camera, project = opened.project.cameras[0], opened.project
    seen = views(project, opened.meshes, camera, [0.0], world_poses(project, [0.0]), 640 / 360)
    corners = np.array([[x, y, z] for x in (-40, 40) for y in (-40, 40) for z in (-40, 40)], float)
    ahead, up = seen.forward[0], seen.up[0]
    right = np.cross(ahead, up)
    turn = np.stack([right, -np.cross(right, ahead), ahead])
    focal = 180.0 / np.tan(seen.vertical_angle(camera, 640, 360)[0] / 2)
    matrix = np.array([[focal, 0, 320.0], [0, focal, 180.0], [0, 0, 1]])
    by_opencv, _ = cv2.projectPoints(corners, cv2.Rodrigues(turn)[0], -turn @ seen.position[0], matrix, None)
    local = in_camera(seen.position, seen.forward, seen.up, corners[None])
    ours = to_pixels(on_frame(local, seen.half_height(camera, 640, 360), 640 / 360, parallel=False), 640, 360)[0]
    assert by_opencv[:, 0] == pytest.approx(ours[..., :2].reshape(-1, 2), abs=0.5)
    # the red cube's outermost pixels in both pictures
    for picture in (quick, fine):
        red = (picture[..., 0].astype(int) - picture[..., 1] > 40) & (
            picture[..., 0].astype(int) - picture[..., 2] > 40
        )
        rows, columns = np.nonzero(red)
        found = np.array([columns.min(), columns.max() + 1, rows.min(), rows.max() + 1], float)
        x, y = by_opencv[:, 0].T
        assert found[:3] == pytest.approx([x.min(), x.max(), y.min()], abs=1.5)


def test_a_finished_still_is_written_with_the_shots_background_and_a_shadow(opened, tmp_path):
    target = render_still(opened.project, opened.meshes, SHOT, 0.0, tmp_path / "still.png")
    picture = cv2.imread(str(target))[..., ::-1].astype(int)
    assert picture.shape == (90, 160, 3)
    # what is left of the noise is even
    assert np.abs(picture[2:12, 2:12].mean(axis=(0, 1)) - [0xC8, 0xD0, 0xD0]).max() <= 6
    # what stands casts a shadow on the floor that else shows as the background
    ground = picture[60:, :, :].sum(axis=2)
    assert ground.min() < 0.75 * (0xC8 + 0xD0 + 0xD0)


def test_what_is_clear_has_its_opacity_and_no_floor(opened):
    picture = taken(opened, FinishedStudio, clear=True)
    assert picture.shape[2] == 4 and picture[2, 2, 3] == 0 and picture[45, 80, 3] == 255
    assert picture[85, 10, 3] <= 4


def test_the_frame_of_a_film_moves_and_its_key_tells_what_it_is_made_of(opened):
    maker = Maker(opened.project, opened.meshes, 160, 90, alpha=False)
    first, last = keyed(opened.project, opened.meshes, [(SHOT, 0.0), (SHOT, 0.9)], 160, 90, alpha=False)
    try:
        assert np.abs(maker.picture(first).astype(int) - maker.picture(last)).max() > 60
    finally:
        maker.close()
    more = msgspec.structs.replace(SHOT, samples=64)
    assert keyed(opened.project, opened.meshes, [(more, 0.0)], 160, 90, alpha=False)[0].key != first.key
    lens = edits.update(opened.project, "camera-1", f_number=2.0, focus=Focus(part="part-2"))
    assert keyed(lens, opened.meshes, [(SHOT, 0.0)], 160, 90, alpha=False)[0].key != first.key


def test_a_projects_light_shines_in_it_by_its_candela(opened):
    dark = msgspec.structs.replace(opened.project.light_setup, level=-12.0)
    project = msgspec.structs.replace(opened.project, light_setup=dark)
    lit = edits.add(project, Light("light-1", "Lamp", "point", (0.0, -300.0, 400.0), strength=200.0))
    off = taken(type(opened)(project, opened.meshes), FinishedStudio)
    on = taken(type(opened)(lit, opened.meshes), FinishedStudio)
    assert off[40:50, 75:85].mean() < 12 < 60 < on[40:50, 75:85].mean()


def test_a_tracer_that_dies_says_so(opened):
    studio = FinishedStudio(opened.project, opened.meshes, SHOT, 160, 90)
    process = studio._ready(opened.project.cameras[0], 0.0)
    process.process.kill()
    process.process.wait()
    with pytest.raises(BadInput, match="ended unexpectedly"):
        studio.picture(opened.project.cameras[0], 0.0)
    studio.close()


def test_an_empty_project_has_a_picture_too():
    made = make_project(
        {"Flat": (mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]]), (0, 0, 0))}, straight((0, 0, 0), (1, 0, 0))
    )
    project = edits.add(edits.update(made.project, "part-1", shown=False), EYE, SHOT)
    assert taken(type(made)(project, made.meshes), FinishedStudio).shape == (90, 160, 3)


def test_what_gives_light_is_seen_itself_and_hidden_by_what_stands_before_it(tracer):
    glow = body(plate(0.4), Surface(grey(0.2), emission=np.array([2.0, 1.0, 0.5], np.float32)))
    before = body((plate(0.4)[0] + np.array([0.4, 0, 0.5], np.float32), plate(0.4)[1]), Surface(grey(0.5)))
    found = traced(tracer, [glow, before], above(angle=20.0), samples=32)
    at = SIDE // 2
    assert found.light[at, at - 10] == pytest.approx([2.0, 1.0, 0.5], rel=0.02) and found.cover[
        at, at - 10
    ] == pytest.approx(1.0)
    assert found.light[at, at + 10].max() < 0.5
    assert found.cover[1, 1] == 0


def test_a_film_of_finished_frames_is_stopped_within_a_frame(opened, tmp_path):
    shot = msgspec.structs.replace(SHOT, end=0.08, samples=2048, width=320, height=180)
    asked = []

    def stop(done, count):
        asked.append(done)
        if len(asked) > 6:
            raise Cancelled

    with pytest.raises(Cancelled):
        render_shot(opened.project, opened.meshes, shot, tmp_path / "film.mp4", stop)
    assert set(asked) == {0} and not (tmp_path / "film.mp4").exists()


def test_quick_pictures_are_blurred_as_finished_ones_are(opened):
    fields = {"width": 320, "height": 180, "shutter": 360.0, "fps": 5.0, "look": "studio"}
    blurred = taken(opened, Studio, quality="good", **fields).astype(float)
    fine = taken(opened, FinishedStudio, samples=64, **fields).astype(float)
    sharp = taken(opened, Studio, quality="good", **fields | {"shutter": 0.0}).astype(float)

    def redness(picture):
        return np.clip(picture[..., 0] - picture[..., 1] - 8, 0, None).mean(axis=0)

    # how red each column is: what moves is spread over as many of them, and as evenly
    apart = [
        np.abs(redness(other) / redness(other).sum() - redness(fine) / redness(fine).sum()).sum()
        for other in (blurred, sharp)
    ]
    assert apart[0] < 0.12 < 2.0 * apart[0] < apart[1]


def test_a_wide_lens_blurs_quick_pictures_but_for_what_it_is_focused_on(opened):
    size = {"width": 320, "height": 180, "quality": "best"}

    def steepest(**lens):
        project = edits.update(opened.project, "camera-1", focal_length=90.0, **lens)
        picture = taken(type(opened)(project, opened.meshes), Studio, **size)
        return np.abs(np.diff(picture[60:130, 60:200].astype(float).sum(axis=2), axis=1)).max()

    near, far = (40.0, -40.0, 0.0), (-80.0, 300.0, 0.0)  # the edge of the cube that is nearest, and what lies behind it
    focused, blurred = (steepest(f_number=1.4, focus=Focus(point=place)) for place in (near, far))
    assert 0.6 * steepest() < focused and blurred < 0.6 * focused


def test_what_is_clear_catches_the_shadow_in_its_opacity(opened):
    picture = taken(opened, FinishedStudio, clear=True, floor="shadow", samples=64, width=320, height=180).astype(float)
    plain = taken(opened, FinishedStudio, floor="shadow", samples=64, width=320, height=180).astype(float)
    # over the same background it is the plain picture: by what shows, as the response to light bends above
    share = picture[..., 3:] / 255
    over = share * picture[..., :3] + (1 - share) * [0xC8, 0xD0, 0xD0]
    assert np.abs(over - plain).mean() < 4
    shadow = (picture[..., 3] > 40) & (picture[..., 3] < 200)
    assert shadow.sum() > 100 and picture[..., :3][shadow].mean() < 40
    assert picture[:40, :, 3].max() < 12


def test_a_sweep_is_behind_the_subject_and_hides_the_background(opened):
    for make in (Studio, FinishedStudio):
        fields = {"quality": "good" if make is Studio else "finished", "floor": "sweep", "background": "#708090"}
        picture = taken(opened, make, clear=True, **fields)
        # nothing lets through any more, and it is lit: of the background's colour, but not even
        assert picture[..., 3].min() > 250
        grey = picture[..., :3].reshape(-1, 3).astype(float)
        assert np.median(np.abs(grey - [0x70, 0x80, 0x90]).max(axis=1)) < 45
        assert grey[:, 2].std() > 2


def test_without_a_floor_there_is_no_shadow(opened):
    for make, quality in ((Studio, "good"), (FinishedStudio, "finished")):
        picture = taken(opened, make, quality=quality, floor="none").astype(int)
        assert np.abs(picture[75:] - [0xC8, 0xD0, 0xD0]).max() <= 2


def test_a_picture_stops_at_its_noise_or_time_and_goes_on_to_finer(opened):
    camera = opened.project.cameras[0]

    def studio(**fields):
        shot = msgspec.structs.replace(SHOT, **fields)
        return FinishedStudio(opened.project, opened.meshes, shot, shot.width, shot.height)

    rough = studio(samples=4096, noise=3.0)
    try:
        found = rough.traced(camera, 0.0)
        assert found.samples < 1024 and found.noise < 0.03
        finer = msgspec.structs.replace(rough.wanted(camera, 0.0), samples=2 * found.samples, noise=0.0, onward=True)
        more = rough.ask(finer, camera, 0.0)
        assert more.samples == pytest.approx(2 * found.samples, rel=0.1) and more.noise < 0.9 * found.noise
    finally:
        rough.close()
    quick = studio(samples=65536, seconds=2.0)
    try:
        quick.traced(camera, 0.0)  # what is compiled the first time takes its own
        assert quick.traced(camera, 0.1).seconds < 20
    finally:
        quick.close()


def test_a_region_is_what_the_whole_picture_shows_there(opened):
    region = (60, 20, 110, 70)
    whole = FinishedStudio(opened.project, opened.meshes, SHOT, 160, 90)
    part = FinishedStudio(opened.project, opened.meshes, SHOT, 160, 90, region=region)
    try:
        camera = opened.project.cameras[0]
        all_of_it, some = whole.picture(camera, 0.0), part.picture(camera, 0.0)
    finally:
        whole.close()
        part.close()
    assert some.shape == (50, 50, 3)
    assert np.abs(some.astype(int) - all_of_it[20:70, 60:110]).mean() < 6


def test_a_section_cuts_finished_pictures_open_where_it_cuts_quick_ones(opened):
    # all that lies before the middle of the cube is left out, at every time where that is then
    section = Section((0.0, 0.0, 0.0), (0.0, -1.0, 0.0))
    size = {"width": 320, "height": 180, "floor": "none"}
    for time in (0.0, 0.5):
        quick = taken(opened, Studio, time, quality="good", section=section, **size).astype(int)
        fine = taken(opened, FinishedStudio, time, samples=32, section=section, **size).astype(int)
        whole = taken(opened, FinishedStudio, time, samples=32, **size).astype(int)
        red = [picture[..., 0] - picture[..., 1] > 30 for picture in (quick, fine, whole)]
        both, either = (red[0] & red[1]).sum(), (red[0] | red[1]).sum()
        assert both / either > 0.95
        # the near half is gone
        assert red[1].sum() < 0.85 * red[2].sum()


def test_frames_of_a_still_scene_do_not_flicker(opened):
    # nothing moves from 1 s on, and the camera stands
    studio = FinishedStudio(opened.project, opened.meshes, SHOT, 160, 90)
    try:
        one, two = (studio.picture(opened.project.cameras[0], time).astype(int) for time in (1.5, 1.6))
    finally:
        studio.close()
    apart = np.abs(one - two)
    assert apart.mean() < 1.0 and (apart > 3).mean() < 0.001
