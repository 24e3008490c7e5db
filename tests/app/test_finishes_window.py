"""Finishes in the window: the shelf, dragged onto parts, given by name, and colourways."""

import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest

from kestrav.app.dialogs.finish_shelf import MIME
from kestrav.core.finishes.applied import finish_of


@pytest.fixture
def shelf(hand):
    """A hand at a window whose shelf is open."""
    hand.window.finishing.open_shelf()
    hand.qtbot.waitUntil(hand.window.finishing.shelf.isVisible)
    return hand.window.finishing.shelf


def choose(shelf, name):
    shelf.words.setText(name)
    assert shelf.list.count() >= 1
    shelf.list.setCurrentRow(0)


def shown(hand, part):
    project = hand.session.project
    found = finish_of(project, part, project.colourway)
    return None if found is None else found.name


def test_a_finish_is_given_to_the_selection_and_taken_back_by_undo(hand, shelf):
    choose(shelf, "copper")
    assert not shelf.give_button.isEnabled()
    hand.session.select_several(["part-1", "part-2"])
    shelf.give_button.click()
    assert shown(hand, "part-1") == shown(hand, "part-2") == "Copper" and shown(hand, "part-3") is None
    hand.session.undo.undo()
    assert shown(hand, "part-1") is None and not hand.session.project.finishes


def test_swatches_are_drawn_one_after_another(hand, shelf):
    choose(shelf, "steel")
    hand.qtbot.waitUntil(
        lambda: all(not shelf.list.item(k).icon().isNull() for k in range(shelf.list.count())), timeout=20_000
    )


def dropped(hand, key, place):
    data = QMimeData()
    data.setData(MIME, key.encode())
    at = QPointF(hand.window.mapFromGlobal(hand.stage.mapToGlobal(place)))
    event = QDropEvent(at, Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    hand.window.dropEvent(event)


def test_a_finish_is_dragged_onto_a_part_in_the_stage(hand):
    dropped(hand, "shelf/Rubber", hand.at(-100.0, 0.0, 0.0))
    assert shown(hand, "part-1") == "Rubber"
    dropped(hand, hand.session.project.finishes[0].id, hand.at(0.0, 19.0, 40.0))
    assert shown(hand, "part-2") == "Rubber" and len(hand.session.project.finishes) == 1


def test_parts_are_finished_by_their_names(hand, shelf):
    choose(shelf, "zinc")
    shelf.rule_words.setText("post")
    QTest.keyClick(shelf.rule_words, Qt.Key.Key_Return)
    rule = hand.session.project.finish_rules[0]
    assert shown(hand, "part-2") == "Zinc-plated" and hand.session.selection == rule.id
    hand.type_in("Words", "cube")
    assert shown(hand, "part-1") == "Zinc-plated" and shown(hand, "part-2") is None


def test_the_card_of_a_part_chooses_from_the_shelf_and_that_of_a_finish_changes_it(hand):
    hand.session.select("part-1")
    hand.choose("Finish", "shelf/Brass")
    finish = hand.session.project.finishes[0]
    assert shown(hand, "part-1") == "Brass"
    hand.session.select(finish.id)
    hand.type_in("Roughness", "45 %")
    assert hand.session.project.finishes[0].roughness == pytest.approx(0.45)
    hand.choose("Texture", "brushed")
    hand.type_in("Grain", "25 mm")
    assert hand.session.project.finishes[0].grain == 25.0
    hand.press("Select parts")
    assert hand.session.selected_ids == ("part-1",)


def test_a_colourway_is_added_shown_and_left_again(hand, shelf):
    hand.session.select("part-1")
    choose(shelf, "matt")
    shelf.give()
    own = shown(hand, "part-1")
    hand.window.finishing.new_colourway()
    way = hand.session.selection
    hand.session.select("part-1")
    choose(shelf, "copper")
    shelf.give()
    assert shown(hand, "part-1") == "Copper" and hand.session.project.colourway == way
    hand.window.finishing.next_colourway()
    assert shown(hand, "part-1") == own
    hand.window.finishing.next_colourway()
    assert shown(hand, "part-1") == "Copper"
    hand.window.finishing.tidy()
    assert len(hand.session.project.finishes) == 2


def test_the_light_set_up_turns_the_stages_light(hand):
    hand.session.select(None)
    before = hand.stage.scene.renderers[0].GetLights().GetNumberOfItems()
    hand.choose("Light set-up", "three-point")
    hand.type_in("Light turned", "30°")
    light = hand.session.project.light_setup
    assert (light.setup, light.turn) == ("three-point", 30.0)
    hand.stage.draw()
    assert hand.stage.scene.renderers[0].GetLights().GetNumberOfItems() == before + 1
    hand.session.undo.undo()
    hand.session.undo.undo()
    hand.stage.draw()
    assert hand.stage.scene.renderers[0].GetLights().GetNumberOfItems() == before
