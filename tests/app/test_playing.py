"""Playing without the graphics' help: what stands is drawn once, and frames are kept and made ahead as pictures."""

import time

import numpy as np
import pytest
from PySide6.QtCore import QCoreApplication
from PySide6.QtGui import QImage
from shapes import box_mesh, make_project, straight

from kestrav.app.stage import preview
from kestrav.core.camera.orbits import add_orbit
from kestrav.core.document import edits
from kestrav.core.editing.finishing import with_finish
from kestrav.core.finishes.shelf import BY_NAME
from kestrav.core.memo import Memo
from kestrav.render.picture import grab


@pytest.fixture
def hall(make_hand):
    """A cube that passes posts, one of them clear, seen by a camera that orbits."""
    made = make_project(
        {
            "Rider": (box_mesh(120, 120, 120), (-600, -300, 100)),
            "Post": (box_mesh(80, 80, 400), (0, 0, 200)),
            "Glass": (box_mesh(300, 40, 300), (200, -420, 160)),
            "Floor": (box_mesh(2000, 2000, 20), (0, 0, 0)),
        },
        straight((-600, -300, 100), (600, -300, 100)),
        duration=1.0,
    )
    project = add_orbit(made.project, made.meshes, ["part-2"], offset=900.0, duration=1.0)
    project = edits.update(project, "part-3", opacity=0.4)
    hand = make_hand(type(made)(project, made.meshes))
    hand.stage.software = True
    hand.checked()
    return hand


def picture(hand):
    return grab(hand.stage.view.GetRenderWindow()).astype(int)


def frames_of(hand):
    return round(hand.session.project.settings.fps * 1.0)


def differing(one, other, by=8):
    """The share of pixels that differ."""
    return float(np.mean(np.abs(one - other).max(axis=2) > by))


def stage_only(hand, seen):
    """A picture without the lens, which follows later while it plays."""
    inset = hand.stage.arrangement.inset().adjusted(-2, -28, 2, 2)
    kept = seen.copy()
    kept[inset.top() : inset.bottom() + 1, inset.left() : inset.right() + 1] = 0
    return kept


def test_what_stands_is_drawn_once_and_the_picture_is_the_same(hall, monkeypatch):
    stage, drawn = hall.stage, []
    monkeypatch.setattr(stage.play.preview, "show", lambda frame: False)
    before = stage.play.still._draw_still

    def draw_still(view, actors):
        drawn.append(sum(batch.stage in actors for batch in stage.scene.batches))
        before(view, actors)

    monkeypatch.setattr(stage.play.still, "_draw_still", draw_still)
    stage.play.set_playing(True)
    for frame in range(8):
        hall.session.time = frame / hall.session.project.settings.fps
        stage.draw()
    played = picture(hall)
    # once, when they had rested for some frames: post and floor, which are one body; the clear post and the rider are not in it
    assert drawn == [1]
    stage.play.set_playing(False)
    stage.draw()
    assert differing(stage_only(hall, played), stage_only(hall, picture(hall))) < 2e-3
    assert all(batch.stage.GetVisibility() for batch in stage.scene.batches)


def test_the_lens_is_aimed_at_every_frame_where_it_is_all_that_is_seen(hall, monkeypatch):
    stage, aimed = hall.stage, []
    monkeypatch.setattr(stage.play.preview, "show", lambda frame: False)
    before = stage.lens_view.show
    monkeypatch.setattr(stage.lens_view, "show", lambda *a, **k: (aimed.append(1), before(*a, **k))[1])
    counts = []
    for swapped in (False, True):
        if swapped:
            stage.arrangement.swap()
        stage.draw()
        stage.play.set_playing(True)
        aimed.clear()
        for frame in range(6):
            hall.session.time = frame / hall.session.project.settings.fps
            stage.draw()
        stage.play.set_playing(False)
        counts.append(len(aimed))
    # in its corner it follows at half the rate
    assert counts[0] <= 4 and counts[1] == 6


def test_finishes_get_their_structure_while_it_plays_too(hall, monkeypatch):
    monkeypatch.setattr("kestrav.core.finishes.textures._pixels", Memo(8))
    monkeypatch.setattr(hall.stage.play.preview, "show", lambda frame: False)
    wood = next(f for f in BY_NAME.values() if f.texture == "wood")
    hall.session.edit("Give finish", lambda p: with_finish(p, ["part-2"], wood))
    hall.stage.draw()
    assert hall.stage.scene.refining
    until, drawn = time.monotonic() + 30, hall.stage.drawings
    hall.stage.play.set_playing(True)
    while hall.stage.scene.refining and time.monotonic() < until:
        hall.stage.draw()
        QCoreApplication.processEvents()
    hall.stage.play.set_playing(False)
    assert not hall.stage.scene.refining and hall.stage.drawings > drawn


def test_frames_that_were_played_are_shown_again_as_they_were(hall):
    stage = hall.stage
    hall.session.set_time(0.2)
    stage.draw()
    whole = picture(hall)
    stage.play.set_playing(True)
    for _ in range(3):
        # the first time the lens is late; the second time it is drawn and the picture kept
        stage.draw()
    assert stage.play.preview.renderer.GetDraw()
    assert differing(stage_only(hall, picture(hall)), stage_only(hall, whole), by=24) < 0.01
    # an edit makes it another picture
    hall.session.edit("Move", lambda p: edits.update(p, "part-2", name="Pillar"))
    stage.draw()
    assert not stage.play.preview.renderer.GetDraw()
    stage.play.set_playing(False)


def test_frames_are_made_ahead_while_nothing_else_is_done(hall, monkeypatch):
    monkeypatch.setattr(preview, "_REST", 10)
    stage, told = hall.stage, hall.window.timeline.transport.preview_told
    stage.play.preview._rest.setInterval(10)
    time, gap = hall.session.time, stage.gap
    stage.smooth.stop()
    stage.draw()
    hall.qtbot.waitUntil(lambda: told.text() == "preview ready", timeout=120_000)
    assert len(stage.play.preview._kept) == frames_of(hall)
    # it was not seen: the playhead, the number in the stage and the lens are as they were
    assert hall.session.time == time and stage.gap is gap
    later = 0.6
    hall.session.set_time(later)
    stage.smooth.stop()
    stage.draw()
    stage.smooth.stop()
    live = picture(hall)
    stage.play.set_playing(True)
    stage.draw()
    assert stage.play.preview.renderer.GetDraw()
    assert differing(picture(hall), live, by=40) < 0.01
    stage.play.set_playing(False)


def test_making_pictures_ahead_is_not_seen(hall):
    stage = hall.stage

    def screen():
        return stage.screen().grabWindow(stage.view.winId()).toImage().convertToFormat(QImage.Format.Format_RGB888)

    stage.play.preview.hold()
    stage.draw()
    hall.qtbot.waitUntil(lambda: stage.smooth.shown, timeout=60_000)
    before = screen()
    stage.play.preview.rest(0)
    hall.qtbot.waitUntil(lambda: len(stage.play.preview._kept) == frames_of(hall), timeout=120_000)
    assert screen() == before and stage.smooth.shown


def test_what_a_tool_draws_is_not_kept_as_a_picture(hall):
    stage = hall.stage
    assert stage.play.of() is not None
    hall.window.tools.use("measure")
    assert stage.play.of() is None
    hall.window.tools.use("select")
    assert stage.play.of() is not None


def test_the_playhead_shows_the_true_time_while_pictures_are_played(hall):
    stage, seen = hall.stage, []
    stage.play.preview._rest.setInterval(10)
    stage.draw()
    hall.qtbot.waitUntil(lambda: len(stage.play.preview._kept) == frames_of(hall), timeout=120_000)
    hall.session.moved.connect(lambda: seen.append((hall.session.time, hall.window.timeline.playheads[0].value())))
    hall.window.player.toggle()
    hall.qtbot.wait(700)
    hall.window.player.toggle()
    assert len(seen) > 4 and all(head == pytest.approx(time, abs=0.04) for time, head in seen)


def test_a_picture_is_packed_and_unpacked():
    shades = np.linspace(0, 255, 64).astype(np.uint8)
    made = np.stack(np.broadcast_arrays(shades[:, None], shades[None, :], np.uint8(90)), axis=2)
    made = np.ascontiguousarray(np.repeat(np.repeat(made, 3, 0), 2, 1)[:, :125])
    assert np.abs(preview.unpacked(preview.packed(made)).astype(int) - made).mean() < 3


def test_a_small_lens_is_drawn_coarsely_while_it_plays_and_whole_when_it_stops(hall, monkeypatch):
    stage = hall.stage
    monkeypatch.setattr(stage.play.preview, "show", lambda frame: False)
    batches = stage.scene.batches

    def coarse():
        return [batch.final.GetMapper() is batch._coarse[batch.final] for batch in batches]

    assert stage.lens_rect.width() <= 420 and not any(coarse())
    whole = [batch.stage.GetMapper() for batch in batches]
    stage.play.set_playing(True)
    for frame in (5, 6):
        hall.session.set_time(frame / hall.session.project.settings.fps)
        stage.draw()
    assert all(coarse())
    # the stage itself stays as it is
    assert [batch.stage.GetMapper() for batch in batches] == whole
    stage.play.set_playing(False)
    stage.draw()
    assert not any(coarse())
    # edges need all of it
    shot = hall.session.project.shots[0]
    hall.session.edit("Style", lambda p: edits.update(p, shot.id, look="technical"))
    stage.play.set_playing(True)
    hall.session.set_time(0.4)
    stage.draw()
    assert not any(batch.final.GetMapper() is batch._coarse[batch.final] for batch in stage.scene.batches)


def test_what_is_clear_is_drawn_quickly_only_while_it_plays(hall):
    stage = hall.stage
    assert all(renderer.GetUseOIT() for renderer in stage.scene.renderers)
    stage.play.set_playing(True)
    stage.draw()
    assert not any(renderer.GetUseOIT() for renderer in stage.scene.renderers)
    stage.play.set_playing(False)
    stage.draw()
    assert all(renderer.GetUseOIT() for renderer in stage.scene.renderers)
