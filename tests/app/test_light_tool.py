"""The light set-up taken in hand in the real window: dragged, stepped by keys, undone; and daylight and surroundings on the card."""

import numpy as np
import OpenImageIO as oiio
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QFileDialog

from kestrav.app.stage.light_tool import outline
from kestrav.core.light.daylight import sun_of
from kestrav.core.light.setups import SoftBox


@pytest.fixture
def hand(make_hand, passing):
    return make_hand(passing)


def light_of(hand):
    return hand.session.project.light_setup


def dragged(hand, by, keys=Qt.KeyboardModifier.NoModifier):
    start = QPoint(400, 200)
    hand.drag(start, start + QPoint(*by), keys=keys)


def test_the_light_turns_softens_and_dims_by_drags_and_each_is_one_edit(hand):
    hand.key(Qt.Key.Key_L, Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier)
    assert hand.stage.tool is hand.window.lighting.tool and "turn the light" in hand.window.tools.hint.text()
    dragged(hand, (100, 0))
    assert light_of(hand).turn == pytest.approx(40.0, abs=1.0)
    dragged(hand, (0, -200), Qt.KeyboardModifier.ShiftModifier)
    assert light_of(hand).softness == pytest.approx(2.0, rel=0.03)
    dragged(hand, (0, 120), Qt.KeyboardModifier.ControlModifier)
    assert light_of(hand).level == pytest.approx(-2.0, abs=0.1)
    for _ in range(3):
        hand.session.undo.undo()
    assert (light_of(hand).turn, light_of(hand).softness, light_of(hand).level) == (0.0, 1.0, 0.0)


def test_keys_step_the_light_and_escape_leaves(hand):
    hand.key(Qt.Key.Key_L, Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier)
    hand.key(Qt.Key.Key_BracketRight)
    hand.key(Qt.Key.Key_Up)
    hand.key(Qt.Key.Key_Minus)
    assert (light_of(hand).turn, light_of(hand).level) == (5.0, -0.5)
    assert light_of(hand).softness == pytest.approx(1.1)
    # the card shows the same numbers
    assert hand.field("Light turned").text().startswith("5")
    hand.key(Qt.Key.Key_Escape)
    assert hand.stage.tool is hand.window.tools.select_tool


def test_a_boxs_rim_is_where_its_angles_say():
    lines = outline(SoftBox(0.0, 0.0, 45.0, 10.0, 1.0), np.array([0.0, 0.0, 100.0]), 1000.0)
    rim = lines[:4].reshape(-1, 3)
    assert rim[:, 0] == pytest.approx(1000.0)
    assert np.abs(rim[:, 1]).max() == pytest.approx(1000.0)
    assert np.abs(rim[:, 2] - 100.0).max() == pytest.approx(1000.0 * np.tan(np.radians(10.0)))


def test_daylight_has_its_place_and_time_on_the_card(hand):
    hand.session.select(None)
    hand.choose("Light set-up", "daylight")
    before = sun_of(light_of(hand).daylight)
    hand.type_in("Time of day", "18:30")
    after = sun_of(light_of(hand).daylight)
    assert after.azimuth > before.azimuth + 90
    hand.type_in("Date", "21 June")
    assert light_of(hand).daylight.date == "2026-06-21" and "no date" in hand.window.card.fault.text()


def test_surroundings_are_read_from_a_file_and_a_wrong_one_is_told(hand, tmp_path, monkeypatch):
    hand.session.select(None)
    hand.choose("Light set-up", "environment")
    picture = np.full((64, 128, 3), 0.3, np.float32)
    picture[10:14, 30:34] = 90.0
    file = tmp_path / "room.exr"
    writer = oiio.ImageOutput.create(str(file))
    writer.open(str(file), oiio.ImageSpec(128, 64, 3, "float"))
    writer.write_image(picture)
    writer.close()
    told = []
    monkeypatch.setattr("kestrav.app.actions.prompts.tell", lambda _, title, text: told.append((title, text)))
    for name in (tmp_path / "missing.hdr", file):
        monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_, n=name: (str(n), ""))
        hand.press("Choose surroundings …")
        hand.qtbot.waitUntil(lambda: hand.window.job is None, timeout=120_000)
    assert told == [("Reading surroundings", told[0][1])] and "not there" in told[0][1]
    assert light_of(hand).surroundings.name == "room.exr"
    hand.session.undo.undo()
    assert not light_of(hand).surroundings.picture


def test_a_light_that_cannot_be_is_refused_and_told(hand):
    hand.session.select(None)
    hand.type_in("Light level", "40")
    assert light_of(hand).level == 0.0 and "-12 EV to 12 EV" in hand.window.card.fault.text()
