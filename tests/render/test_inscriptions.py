"""What is written on pictures: where it stands, that it is true, legible, and follows."""

import msgspec
import numpy as np
import pytest
from shapes import box_mesh, make_project, straight, wheeled

from kestrav.core.camera.lens import in_camera, on_frame, to_pixels
from kestrav.core.camera.views import views
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, OnPicture, Part, PointAim, Shot
from kestrav.core.editing.wheel_making import add_wheels
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import course_of
from kestrav.render import inscriptions
from kestrav.render.inscriptions import Inscriber, Sheet
from kestrav.render.palette import CARD, INK, PETROL, VERMILION, rgb
from kestrav.render.picture import Studio

WIDE, HIGH = 640, 360


@pytest.fixture(scope="module")
def made():
    """A cube that rides past a post, 20 mm beside it, in 2 s; 30 mm are required."""
    opened = make_project(
        {"Cube": (box_mesh(60, 60, 60), (-300, 0, 0)), "Post": (box_mesh(40, 40, 120), (0, 70, 0))},
        straight((-300, 0, 0), (300, 0, 0)),
        duration=2.0,
    )
    project = edits.settings(opened.project, required_clearance=30.0)
    camera = Camera("camera-1", "Eye", PointAim((0, 0, 0)), position=(0.0, -1100.0, 500.0))
    shot = Shot("shot-1", "Take", "camera-1", 0.0, 2.0, WIDE, HIGH, 25.0, "#808080", quality="preview")
    return edits.add(project, camera, shot), opened.meshes


def layer_of(made, time, size=(WIDE, HIGH), **shows):
    project, meshes = made
    shot = msgspec.structs.replace(project.shots[0], shows=OnPicture(**shows))
    poses = world_poses(project, [time])
    seen = views(project, meshes, project.cameras[0], [time], poses, WIDE / HIGH)
    return Inscriber(project, meshes, shot).layer(*size, time, seen, poses[0])


def pixel(made, place, time=0.0):
    project, meshes = made
    seen = views(project, meshes, project.cameras[0], [time], aspect=WIDE / HIGH)
    local = in_camera(seen.position, seen.forward, seen.up, np.array([[place]]))
    half = seen.half_height(project.cameras[0], WIDE, HIGH)
    column, row = to_pixels(on_frame(local, half, WIDE / HIGH, parallel=False)[0, 0], WIDE, HIGH)
    return float(column), float(row)


def near_colour(layer, colour, within=30):
    return (np.abs(layer[..., :3].astype(int) - 255 * np.array(rgb(colour))).max(axis=2) < within) & (
        layer[..., 3] > 200
    )


def card_middle(layer):
    """Middle column and row of what is the colour of a card."""
    rows, columns = np.nonzero(
        near_colour(layer, CARD, 4) | ((layer[..., 3] > 200) & (layer[..., :3].min(axis=2) > 240))
    )
    return columns.mean(), rows.mean()


def test_nothing_is_written_where_nothing_is_asked_for(made):
    assert layer_of(made, 0.5) is None
    project, meshes = made
    plain = Studio(project, meshes, project.shots[0], WIDE, HIGH)
    picture = plain.picture(project.cameras[0], 0.5)
    plain.close()
    seen = views(project, meshes, project.cameras[0], [0.5])
    assert (
        Inscriber(project, meshes, project.shots[0]).inscribed(picture, 0.5, seen, world_poses(project, [0.5])[0])
        is picture
    )


def test_a_label_follows_what_it_names_and_does_not_jump(made):
    project, _ = made
    offsets, steps = [], []
    for time in np.linspace(0.3, 1.7, 15):
        layer = layer_of(made, time, labels=("part-1",))
        x = float(world_poses(project, [time])[0, 0, 0, 3])
        column, row = pixel(made, (x, 0.0, 0.0), time)
        # the leader's dot is where the middle of the cube is seen
        assert near_colour(layer, INK)[round(row) - 6 : round(row) + 7, round(column) - 6 : round(column) + 7].any()
        middle = card_middle(layer)
        offsets.append((middle[0] - column, middle[1] - row))
        steps.append(middle[0])
    assert np.ptp(np.array(offsets), axis=0).max() < 8
    assert np.diff(steps).max() < 2 * WIDE / 15


def test_labels_keep_off_each_other(made):
    one = layer_of(made, 1.0, labels=("part-1",))[..., 3] > 200
    two = layer_of(made, 1.0, labels=("part-1", "part-2"))[..., 3] > 200
    alone = layer_of(made, 1.0, labels=("part-2",))[..., 3] > 200
    # nothing of either is under the other
    assert two.sum() > 0.93 * (one.sum() + alone.sum())


def test_a_thing_out_of_the_picture_is_not_named(made):
    project, meshes = made
    away = edits.update(project, "camera-1", aim=PointAim((3000.0, 0.0, 0.0)))
    assert layer_of((away, meshes), 0.5, labels=("part-1",)) is None


@pytest.mark.parametrize(
    "name", ["a\nb\tc", "pump $\\frac{$", "\u202ecab\u05d0\u05d1", "🙂\u200d", "x" * 20_000, "\x00\ud800"], ids=ascii
)
def test_names_of_any_signs_are_drawn_on_one_line(made, name):
    project, meshes = made
    cube = msgspec.structs.replace(project.parts[0], name=name)
    project = msgspec.structs.replace(project, parts=(cube, *project.parts[1:]))
    layer = layer_of((project, meshes), 1.0, labels=(cube.id,), speed=True)
    assert layer is not None and layer[..., 3].any()


def test_a_label_of_what_has_no_solids_is_not_drawn(made):
    project, meshes = made
    empty = Part("part-9", "Empty")
    project = msgspec.structs.replace(project, parts=(*project.parts, empty))
    both = layer_of((project, meshes), 1.0, labels=(project.parts[0].id, empty.id))
    assert np.array_equal(both, layer_of(made, 1.0, labels=(project.parts[0].id,)))


@pytest.mark.parametrize(("required", "colour", "other"), [(30.0, VERMILION, PETROL), (5.0, PETROL, VERMILION)])
def test_the_dimension_stands_between_the_nearest_points_and_a_breach_is_vermilion(made, required, colour, other):
    project, meshes = made
    asked = edits.settings(project, required_clearance=required)
    layer = layer_of((asked, meshes), 1.0, clearance=True)
    # half way the cube is beside the post, from y = 30 to y = 50 mm
    (left, top), (right, bottom) = (pixel(made, (0.0, y, z)) for y, z in ((50.0, 30.0), (30.0, -30.0)))
    drawn = near_colour(layer, colour, 60)
    assert drawn[int(top) - 12 : int(bottom) + 13, int(min(left, right)) - 40 : int(max(left, right)) + 41].any()
    assert drawn.sum() > 30 and not near_colour(layer, other, 30).any()


def test_the_dimension_says_the_distance_and_what_is_required(made, monkeypatch):
    told = []
    monkeypatch.setattr(Sheet, "dimension", lambda self, ends, text, breach: told.append((text, breach)))
    for time in (0.0, 1.0):
        layer_of(made, time, clearance=True)
    # at the start, 300 mm before the post: √(250² + 20²) mm between their edges
    assert told[0] == (f"{np.hypot(250.0, 20.0):.1f}\u2009mm", False)
    assert told[1] == ("20.0\u2009mm — 30.0\u2009mm required", True)


def test_readings_are_those_of_the_motion():
    project, meshes = wheeled()
    project = add_wheels(project, meshes, ["part-3"])
    camera = Camera("camera-1", "Eye", PointAim((0, 0, 0)), position=(0.0, -3000.0, 500.0))
    end = course_of(project, project.runs[0]).end
    shot = Shot(
        "shot-1", "Take", "camera-1", 0.0, end, WIDE, HIGH, 25.0, shows=OnPicture(turns=True, speed=True, clock=True)
    )
    project = edits.add(project, camera, shot)
    inscriber = Inscriber(project, meshes, shot)
    lines = dict(inscriber._readings(end))
    # one revolution for each circumference of 2 π 50 mm on the way of 1000 mm
    turns = 1000.0 / (2 * np.pi * 50.0)
    wheel = next(v for k, v in lines.items() if "turns" in v)
    assert wheel == f"{turns:.2f} turns · {360 * turns:,.0f}°".replace(",", "\u2009")
    assert lines["time"].endswith(f"frame {round(end * 25) - 1}")
    half = dict(inscriber._readings(0.5 * end))
    assert any(v.endswith("m/s") for v in half.values())


def test_a_title_stands_at_the_beginning_and_an_end_card_covers_the_end(made):
    title = [layer_of(made, t, title="A cube", subtitle="rides by") for t in (0.0, 1.0)]
    assert title[0] is not None and (title[0][:110, :300, 3] > 200).sum() > 2000
    # the shot lasts 2 s: the title goes before it ends
    assert layer_of(made, 1.99, title="A cube") is None or layer_of(made, 1.99, title="A cube")[..., 3].max() < 60
    project, meshes = made
    long = edits.update(project, "shot-1", end=6.0)
    assert layer_of((long, meshes), 3.0, end="The end") is None
    card = layer_of((long, meshes), 5.9, end="The end\nof it")
    assert card[..., 3].min() > 200 and near_colour(card, INK).sum() > 100


def test_text_is_legible_on_cards_and_never_tiny():
    def luminance(colour):
        values = np.array(rgb(colour))
        linear = np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)
        return float(linear @ [0.2126, 0.7152, 0.0722])

    # contrast by WCAG 2.2, 1.4.3, at least 4.5 : 1; a card lets through a little of a middle grey
    for colour in (INK, PETROL, VERMILION):
        worst = [inscriptions._VEIL * v + (1 - inscriptions._VEIL) * g for v in [luminance(CARD)] for g in (0.2, 1.0)]
        limit = 4.5 if colour != VERMILION else 3.0  # its text is 15 px and strong, with a word beside the colour
        assert all((max(b, luminance(colour)) + 0.05) / (min(b, luminance(colour)) + 0.05) >= limit for b in worst)
    small = Sheet(320, 180)
    assert small._font(inscriptions._SMALL).size >= 11 * inscriptions._FINE


def test_inscriptions_grow_with_the_picture(made):
    small, large = (layer_of(made, 1.0, size, labels=("part-1",)) for size in ((WIDE, HIGH), (4 * WIDE, 4 * HIGH)))
    covered = [float((layer[..., 3] > 200).mean()) for layer in (small, large)]
    # of a picture of 360 lines text is larger than its share, as it stays legible
    assert covered[0] > covered[1] > 0.2 * covered[0]


def test_a_trace_grows_and_images_stay_where_the_rider_was(made):
    project, meshes = made
    pictures = {}
    for name, shows in {"plain": {}, "trace": {"trace": True}, "images": {"images": 0.4}}.items():
        shot = msgspec.structs.replace(project.shots[0], shows=OnPicture(**shows))
        studio = Studio(project, meshes, shot, WIDE, HIGH)
        pictures[name] = [studio.picture(project.cameras[0], t).astype(int) for t in (0.6, 1.8)]
        studio.close()
    for name in ("trace", "images"):
        changed = [np.abs(a - b).max(axis=2) > 12 for a, b in zip(pictures[name], pictures["plain"], strict=True)]
        assert 0 < changed[0].sum() < changed[1].sum()
        # all of it is where the rider has been: left of where it is now
        x = float(world_poses(project, [0.6])[0, 0, 0, 3])
        column, _ = pixel(made, (x + 40.0, -30.0, 0.0), 0.6)
        assert np.nonzero(changed[0])[1].max() <= column + 3


def test_what_is_written_is_checked(made):
    project, _ = made
    with pytest.raises(BadInput, match="part-99"):
        edits.update(project, "shot-1", shows=OnPicture(labels=("part-99",)))
    with pytest.raises(BadInput, match=r"every 0\.01 s"):
        edits.update(project, "shot-1", shows=OnPicture(images=0.01))
    named = edits.update(project, "shot-1", shows=OnPicture(labels=("part-1", "part-2")))
    assert edits.remove(named, "part-2").shots[0].shows.labels == ("part-1",)
