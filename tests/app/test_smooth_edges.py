"""Edges that are smooth while the view rests."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QWidget
from scipy.stats import qmc

from kestrav.app.stage.smooth_edges import OFFSETS
from kestrav.render.picture import grab


def picture(hand):
    return grab(hand.stage.view.GetRenderWindow()).astype(float)


def rested(hand):
    hand.stage.draw()
    hand.qtbot.waitUntil(lambda: hand.stage.smooth.shown, timeout=60_000)
    return picture(hand)


def wanted(hand, side=8):
    """The mean of pictures moved to the middles of a grid of parts of a pixel."""
    stage = hand.stage
    stage.draw()
    stage.smooth.stop()
    window, found = stage.view.GetRenderWindow(), []
    renderers = [r for r in window.GetRenderers() if r.GetDraw()]
    for k in range(side * side):
        step = np.array([(k % side + 0.5) / side - 0.5, (k // side + 0.5) / side - 0.5])
        for renderer in renderers:
            renderer.GetActiveCamera().SetWindowCenter(*(2.0 * step / renderer.GetSize()))
        window.Render()
        found.append(picture(hand))
    for renderer in renderers:
        renderer.GetActiveCamera().SetWindowCenter(0.0, 0.0)
    return np.mean(found, axis=0)


@pytest.fixture
def still(hand):
    if not hand.stage.software:
        pytest.skip("the graphics smooth edges themselves")
    hand.checked()
    return hand


@pytest.mark.parametrize("arrangement", ["stage", "lens", "together", "tiles", "parallel"])
def test_what_rests_is_several_times_nearer_to_what_a_pixel_covers(still, arrangement):
    hand, stage = still, still.stage
    {
        "lens": stage.arrangement.swap,
        "together": lambda: stage.arrangement.set_together(True),
        "tiles": lambda: stage.arrangement.set_tiles(True),
        "parallel": lambda: stage.views.set_parallel(True),
    }.get(arrangement, stage.schedule)()
    hand.qtbot.wait(50)
    exact = wanted(hand)
    stage.draw()
    once = picture(hand)
    smooth = rested(hand)
    uneven = np.abs(once - exact).max(axis=2) > 4
    assert uneven.sum() > 200
    assert np.abs(smooth - exact)[uneven].mean() < 0.45 * np.abs(once - exact)[uneven].mean()
    # where nothing is uneven, nothing is another colour
    assert np.abs(smooth - exact)[~uneven].mean() < 1.0


def on_screen(hand):
    """What the screen shows where the stage is (h, w, 4)."""
    view = hand.stage.view
    at = view.mapToGlobal(view.rect().topLeft())
    seen = hand.window.screen().grabWindow(0, at.x(), at.y(), view.width(), view.height()).toImage()
    seen = seen.convertToFormat(QImage.Format.Format_RGB32)
    return np.frombuffer(seen.constBits(), np.uint8).reshape(seen.height(), seen.width(), 4).copy()


def test_what_lay_over_the_stage_goes_and_nothing_is_drawn_anew(still):
    hand, stage = still, still.stage
    stage.play.busy = lambda: True  # no pictures are made ahead
    # nothing is drawn any more once it is known what lies between the frames
    hand.qtbot.waitUntil(lambda: hand.window.checking.result.certificate is not None, timeout=60_000)
    rested(hand)
    hand.qtbot.wait(50)
    hand.qtbot.waitUntil(lambda: stage.smooth.shown and not stage.waiting, timeout=60_000)
    before, drawings = on_screen(hand), stage.drawings
    over = QWidget()
    over.setWindowFlags(Qt.WindowType.FramelessWindowHint | Qt.WindowType.WindowStaysOnTopHint)
    corner = stage.view.mapToGlobal(stage.view.rect().center())
    over.setGeometry(corner.x() - 100, corner.y() - 100, 200, 200)
    over.show()
    hand.qtbot.waitExposed(over)
    hand.qtbot.waitUntil(lambda: (on_screen(hand) != before).any(axis=2).sum() > 10_000, timeout=20_000)
    over.close()
    hand.qtbot.waitUntil(lambda: np.array_equal(on_screen(hand), before), timeout=20_000)
    assert stage.drawings == drawings and stage.smooth.shown


def test_what_changes_is_seen_at_once_and_smoothed_anew(still):
    hand, stage = still, still.stage
    rested(hand)
    hand.session.set_time(1.0)
    stage.draw()
    assert not stage.smooth.shown
    sharp = picture(hand)
    assert np.abs(rested(hand) - sharp).max() > 20
    # the cameras see what they saw
    assert all(r.GetActiveCamera().GetWindowCenter() == (0.0, 0.0) for r in stage.view.GetRenderWindow().GetRenderers())
    # what is clicked is where it is seen
    part = hand.session.project.parts[1]
    hand.stage.views.look_at_selection()
    hand.click(hand.at(*np.array(part.placement.position)))
    assert hand.session.selection is not None


def test_while_it_plays_nothing_is_smoothed(still):
    hand = still
    rested(hand)
    hand.window.player.toggle()
    hand.qtbot.wait(600)
    assert not hand.stage.smooth.shown
    hand.window.player.toggle()


def test_a_pixel_is_covered_evenly():
    # SciPy leaves its first point, the origin, to those who skip it
    halton = qmc.Halton(2, scramble=False)
    halton.fast_forward(1)
    places = halton.random(len(OFFSETS))
    assert pytest.approx(places) == (OFFSETS + 0.5 - [0.0, 1 / 6]) % 1.0
    assert np.abs(OFFSETS).max() <= 0.5 and OFFSETS[0] == pytest.approx([0, 0])
