"""Large products in the window: coarse while something moves, whole in steps as soon as nothing does."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh, make_project, straight

from kestrav.app.stage import gradual_drawing
from kestrav.core.camera.orbits import add_orbit
from kestrav.core.document import edits
from kestrav.core.geometry.meshes import mesh
from kestrav.render.picture import grab


def ball(radius):
    shape = trimesh.creation.icosphere(4, radius)
    return mesh(shape.vertices, shape.faces)


@pytest.fixture
def large(make_hand, monkeypatch):
    """Balls that one rider passes, with a camera, a clear part and a path; drawn as if they were very many triangles."""
    made = make_project(
        {
            "Rider": (ball(90), (-600, -300, 100)),
            "Ball": (ball(150), (0, 0, 160)),
            "Other": (ball(120), (300, 200, 400)),
            "Glass": (box_mesh(300, 40, 500), (0, -180, 260)),
            "Floor": (box_mesh(2000, 2000, 20), (0, 0, 0)),
        },
        straight((-600, -300, 100), (600, -300, 100)),
        duration=3.0,
    )
    project = add_orbit(made.project, made.meshes, ["part-2"], offset=900.0, duration=2.0)
    project = edits.update(project, "part-4", opacity=0.4)
    hand = make_hand(type(made)(project, made.meshes))
    monkeypatch.setattr(gradual_drawing, "_STEP", 3000)
    monkeypatch.setattr(gradual_drawing, "_LARGE_IN_SOFTWARE", 1000)
    monkeypatch.setattr(gradual_drawing, "_LARGE", 1000)
    return hand


def picture(hand):
    return grab(hand.stage.view.GetRenderWindow()).astype(int)


def at_once(hand):
    """The same picture drawn as that of a small product."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(gradual_drawing, "_LARGE_IN_SOFTWARE", 10**9)
        patch.setattr(gradual_drawing, "_LARGE", 10**9)
        hand.stage.draw()
    return picture(hand)


def drawn(hand):
    """Triangles of what the stage draws of the parts."""
    return sum(b.stage.GetMapper().GetInput().GetNumberOfPolys() for b in hand.stage.scene.batches)


@pytest.mark.parametrize("arrangement", ["stage", "lens", "together", "cut", "seen through"])
def test_a_large_product_is_coarse_at_once_and_whole_when_nothing_moves(large, arrangement):
    hand, stage = large, large.stage
    hand.session.select("path-1")
    if arrangement == "lens":
        stage.arrangement.swap()
    if arrangement == "together":
        # texts beside a path are drawn in one of the views only
        hand.session.select("part-1")
        stage.arrangement.set_together(True)
    if arrangement == "cut":
        stage.set_cut((np.array([0.0, 20.0, 0.0]), np.array([0.0, -1.0, 0.0])))
    if arrangement == "seen through":
        stage.set_style("see-through")
    hand.session.set_time(1.2)
    hand.checked()
    whole = at_once(hand)
    everything = drawn(hand)
    hand.session.set_time(0.4)
    hand.session.set_time(1.2)
    stage.draw()
    coarse = picture(hand)
    assert drawn(hand) < 0.4 * everything
    hand.qtbot.waitUntil(lambda: not stage.gradual.pending, timeout=60_000)
    assert drawn(hand) == everything
    # pixel for pixel what one drawing shows, with the lens, the marks and what lets through in their places
    assert np.abs(picture(hand) - whole).max() <= 2
    if arrangement != "seen through":
        # a coarse ball stands where the ball does
        assert (np.abs(coarse - whole).max(axis=2) > 60).mean() < 0.05


def test_what_happens_meanwhile_begins_anew(large):
    hand, stage = large, large.stage
    hand.checked()
    stage.draw()
    stage.gradual.fill()
    stage.gradual._step()
    stage.viewpoint.turn(0.4, 0.1)
    stage.draw()
    assert stage.gradual.pending
    hand.qtbot.waitUntil(lambda: not stage.gradual.pending, timeout=60_000)
    turned = picture(hand)
    assert np.abs(turned - at_once(hand)).max() <= 2


def test_a_closed_window_draws_no_more(large):
    large.stage.draw()
    large.stage.close_down()
    assert not large.stage.gradual.pending


@pytest.mark.parametrize("arrangement", ["stage", "lens", "lens alone", "together", "tiles", "no lens"])
def test_a_stage_at_rest_is_not_drawn_again(hand, arrangement):
    stage = hand.stage
    hand.checked()
    arrangements = {
        "lens": stage.arrangement.swap,
        "lens alone": lambda: stage.arrangement.show_lens_alone(True),
        "together": lambda: stage.arrangement.set_together(True),
        "tiles": lambda: stage.arrangement.set_tiles(True),
        "no lens": lambda: stage.arrangement.set_lens_shown(False),
    }
    arrangements.get(arrangement, stage.schedule)()
    hand.qtbot.wait(300)
    drawn = []
    stage.drawn.connect(lambda: drawn.append(1))
    hand.qtbot.wait(300)
    assert len(drawn) <= 1
