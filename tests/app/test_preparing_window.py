"""Getting a product ready in the window: by mouse, keys and numbers."""

import numpy as np
import pytest
import trimesh
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QTimer, QUrl
from PySide6.QtGui import QDropEvent, QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit, QMessageBox, QPushButton
from shapes import DEMO, box_mesh, make_project

from kestrav.app.actions.import_actions import ChangesDialog, ReportDialog, UnitDialog, report_text
from kestrav.app.contents.contents_model import MIME
from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import BoxForm, CylinderForm, Part, Placement
from kestrav.core.files.product_import import read_product
from kestrav.core.parts import arranging, placeholders, placing
from kestrav.core.parts.rest import rest_poses
from kestrav.render.viewpoint import to_display

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def bench(make_hand):
    """A block and a cube on a plate, and an upright cylinder, seen from the front right above."""
    opened = make_project(
        {
            "Block": (box_mesh(100, 60, 40), (0, 0, 20)),
            "Cube": (box_mesh(30, 30, 30), (150, 0, 300)),
            "Plate": (box_mesh(600, 400, 10), (0, 0, -5)),
        }
    )
    project, shape = placeholders.add_form(opened.project, CylinderForm(80, 50), (0, 130, 0))
    hand = make_hand(type(opened)(project, {**opened.meshes, shape.hash: shape}))
    look(hand)
    return hand


def look(hand, direction=(0.35, -0.75, 0.56), focus=(40, 40, 60), distance=1500.0):
    view = hand.stage.viewpoint
    view.look_from(np.array(direction) / np.linalg.norm(direction))
    view.focus[:] = focus
    view.distance = distance
    hand.stage.draw()


def part(hand, name):
    return next(p for p in hand.session.project.parts if p.name == name)


def place_of(hand, name):
    project = hand.session.project
    return rest_poses(project)[project.parts.index(part(hand, name))][:3, 3]


def press(hand, text):
    hand.window.card.rebuild()
    next(b for b in hand.window.card.form.findChildren(QPushButton) if b.text() == text).click()


def choose(hand, name, key):
    field = hand.field(name)
    field.setCurrentIndex(field.findData(key))
    field.activated.emit(field.currentIndex())


def strip(hand, name, kind=QLineEdit):
    found = hand.window.preparing.strip.findChild(kind, name)
    assert found is not None, name
    return found


def hover_click(hand, *place, keys=Qt.KeyboardModifier.NoModifier):
    at = hand.at(*place)
    hand.stage.tool.hover(at, keys)
    hand.click(at, keys)


# moving and turning


def test_an_arm_is_dragged_along_its_axis_by_whole_steps_and_undone(bench):
    bench.session.select(part(bench, "Block").id)
    bench.key(Qt.Key.Key_M)
    assert bench.stage.tool is bench.window.preparing.move_tool
    bench.stage.draw()
    line = bench.window.preparing.move_tool.handles.line(0)
    start, end = bench.at(*line[6]), bench.at(*(line[6] + [100, 0, 0]))
    bench.drag(start, end)
    moved = place_of(bench, "Block")
    assert moved[0] == pytest.approx(100, abs=4)
    assert moved[0] == pytest.approx(round(moved[0]))
    assert moved[1:] == pytest.approx([0, 20])
    assert bench.session.undo.count() == 1  # one drag, one undo
    bench.key(Qt.Key.Key_Z, CTRL)
    assert place_of(bench, "Block") == pytest.approx([0, 0, 20])


def test_the_knob_moves_level_and_shift_lifts(bench):
    bench.session.select(part(bench, "Block").id)
    bench.window.tools.use("move")
    bench.stage.draw()
    start = bench.at(0, 0, 20)
    bench.drag(start, bench.at(60, -40, 20))
    assert place_of(bench, "Block") == pytest.approx([60, -40, 20], abs=3)
    look(bench)
    here = place_of(bench, "Block")
    bench.drag(bench.at(*here), bench.at(*here) + QPoint(0, -60), keys=SHIFT)
    assert place_of(bench, "Block")[2] > 40


def test_lengths_and_angles_are_typed_in_the_strip(bench):
    bench.session.select(part(bench, "Block").id)
    bench.window.tools.use("move")
    for name, text in (("x", "2 cm"), ("z", "-5")):
        field = strip(bench, f"strip-by {name}")
        field.setText(text)
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert place_of(bench, "Block") == pytest.approx([20, 0, 15])
    bench.key(Qt.Key.Key_T)
    strip(bench, "strip-angle").setText("30")
    QTest.keyClick(strip(bench, "strip-angle"), Qt.Key.Key_Return)
    _, front, up = placing.front_of(bench.session.project, part(bench, "Block").id)
    assert front == pytest.approx([np.cos(np.pi / 6), 0.5, 0])
    assert up == pytest.approx([0, 0, 1])


def test_own_axes_are_the_pivots(bench):
    block = part(bench, "Block").id
    bench.session.edit(
        "t", lambda p: placing.transform(p, [block], placing.turn_about((0, 0, 0), (0, 0, 1), np.pi / 2))
    )
    bench.session.select(block)
    bench.window.tools.use("move")
    axes = strip(bench, "strip-axes", QComboBox)
    axes.setCurrentIndex(axes.findData("own"))
    axes.activated.emit(axes.currentIndex())
    bench.window.preparing.move_tool.move_by(10, 0, 0)
    assert place_of(bench, "Block") == pytest.approx([0, 10, 20], abs=1e-9)


def test_a_ring_is_dragged_by_steps_of_five_degrees(bench):
    bench.session.select(part(bench, "Block").id)
    bench.window.tools.use("turn")
    look(bench, (0.0, -0.02, 1.0), (0, 0, 20), 900)
    ring = bench.window.preparing.turn_tool.handles.line(2)
    bench.drag(bench.at(*ring[4]), bench.at(*ring[8]), bench.at(*ring[12]))
    _, front, _ = placing.front_of(bench.session.project, part(bench, "Block").id)
    angle = np.degrees(np.arctan2(front[1], front[0]))
    assert angle == pytest.approx(45, abs=5.1)
    assert angle / 5 == pytest.approx(round(angle / 5), abs=1e-6)


def test_what_rides_on_a_path_is_moved_beside_it_by_handles(hand):
    hand.session.select("part-1")
    hand.window.tools.use("move")
    hand.stage.draw()
    before = hand.session.project
    hand.window.preparing.move_tool.move_by(0, 12, 5)
    after = hand.session.project
    assert after.runs[0].offset == pytest.approx((0, 12, 5))
    assert (after.parts, after.paths) == (before.parts, before.paths)
    hand.window.tools.use("turn")
    hand.window.preparing.turn_tool.turn_by(2, 30.0)
    assert hand.session.project.runs[0].turn == pytest.approx((30, 0, 0))
    pose = hand.session.part_now("part-1")
    assert np.degrees(np.arctan2(pose[1, 0], pose[0, 0])) == pytest.approx(30)
    # what goes along with something else is moved by that
    hand.session.edit("Company", lambda p: edits.update(p, "run-1", companions=("part-2",)))
    hand.session.select("part-2")
    assert not hand.window.preparing.move_tool.move_by(5, 0, 0)
    assert "goes along with something else" in hand.window.card.fault.text()


def test_what_is_marked_as_fixed_is_not_moved(bench):
    bench.session.select(part(bench, "Block").id)
    bench.window.card.open_section("Motion")
    choose(bench, "Role", "fixed")
    bench.window.tools.use("move")
    assert not bench.window.preparing.move_tool.move_by(5, 0, 0)
    assert "marked as fixed" in bench.window.card.fault.text()


# selecting


def test_several_are_chosen_with_shift_grouped_and_dissolved(bench):
    bench.session.select(part(bench, "Block").id)
    bench.click(bench.at(0, 130, 50), SHIFT)
    assert {get(bench.session.project, i).name for i in bench.session.chosen} == {"Block", "Cylinder"}
    assert bench.window.card.title.text() == "2 parts"
    bench.stage.draw()
    assert len(bench.stage.marks.outline.parts) == 2
    bench.key(Qt.Key.Key_G, CTRL)
    made = bench.session.item
    assert made.name == "Group"
    assert made.geometry is None
    bench.key(Qt.Key.Key_G, CTRL | SHIFT)
    assert {get(bench.session.project, i).name for i in bench.session.chosen} == {"Block", "Cylinder"}
    assert "Group" not in {p.name for p in bench.session.project.parts}


def test_a_click_stays_in_the_assembly_one_works_in(bench):
    project = arranging.group(bench.session.project, [part(bench, "Block").id, part(bench, "Cylinder").id], "Set")
    bench.session.edit("g", lambda p: project)
    group, block, cylinder = part(bench, "Set"), part(bench, "Block"), part(bench, "Cylinder")
    bench.click(bench.at(0, 0, 40))
    assert bench.session.selection == group.id
    bench.click(bench.at(0, 0, 40))
    assert bench.session.selection == block.id
    bench.click(bench.at(0, 130, 50))
    assert bench.session.selection == cylinder.id


def test_locked_things_are_not_picked_and_hidden_ones_neither(bench):
    block = part(bench, "Block").id
    bench.session.select(block)
    bench.key(Qt.Key.Key_J)
    assert part(bench, "Block").locked
    bench.session.select(None)
    bench.click(bench.at(0, 0, 40))
    assert bench.session.selection == part(bench, "Plate").id
    bench.session.select(part(bench, "Plate").id)
    bench.key(Qt.Key.Key_H)
    assert not part(bench, "Plate").shown
    bench.click(bench.at(0, -20, 40))
    assert bench.session.selection is None


def test_isolating_shows_one_thing_until_all_are_wanted_again(bench):
    bench.session.select(part(bench, "Block").id)
    bench.key(Qt.Key.Key_I)
    bench.stage.draw()
    assert bench.stage.scene.shown_parts() == [part(bench, "Block").id]
    assert bench.window.preparing.banner.isVisible()
    bench.click(bench.at(150, 150, 0))  # the plate is not there to be picked
    assert bench.session.selection is None
    bench.window.preparing.banner.button.click()
    bench.stage.draw()
    assert len(bench.stage.scene.shown_parts()) == 4


def test_see_through_and_back(bench):
    bench.session.select(part(bench, "Block").id)
    bench.key(Qt.Key.Key_G)
    assert part(bench, "Block").opacity == 0.35
    bench.key(Qt.Key.Key_G)
    assert part(bench, "Block").opacity == 1.0


# the list


def test_the_list_finds_by_words_and_shows_the_way_there(bench):
    contents = bench.window.contents
    project = arranging.group(bench.session.project, [part(bench, "Block").id], "Deep inside")
    bench.session.edit("g", lambda p: project)
    bench.key(Qt.Key.Key_F, CTRL)
    QTest.keyClicks(contents.search, "blo")
    assert set(contents.model.rows) == {part(bench, "Deep inside").id, part(bench, "Block").id}
    contents.search.clear()
    assert sum(not row.startswith("hint:") for row in contents.model.rows) == 5


def test_a_name_is_edited_in_its_row(bench):
    bench.session.select(part(bench, "Block").id)
    bench.key(Qt.Key.Key_F2)
    editor = bench.window.contents.tree.findChild(QLineEdit, "rename")
    editor.setText("Anvil")
    QTest.keyClick(editor, Qt.Key.Key_Return)
    bench.qtbot.waitUntil(lambda: any(p.name == "Anvil" for p in bench.session.project.parts), timeout=10_000)


def test_rows_dragged_to_another_parent_keep_their_place(bench):
    bench.session.select_parts([part(bench, "Cube").id])
    project = arranging.group(bench.session.project, [part(bench, "Block").id], "Set")
    bench.session.edit("g", lambda p: placing.transform(project, [project.parts[0].id], placing.shift((7, 8, 9))))
    before = place_of(bench, "Cube")
    model = bench.window.contents.model
    data = model.mimeData([model.at(part(bench, "Cube").id)])
    assert data.hasFormat(MIME)
    target = model.at(part(bench, "Set").id)
    assert model.canDropMimeData(data, Qt.DropAction.MoveAction, -1, -1, target)
    model.dropMimeData(data, Qt.DropAction.MoveAction, -1, -1, target)
    assert part(bench, "Cube").parent == part(bench, "Set").id
    assert place_of(bench, "Cube") == pytest.approx(before)
    assert not model.canDropMimeData(data, Qt.DropAction.MoveAction, -1, -1, model.at(part(bench, "Plate").id))


def test_ten_thousand_rows_are_filled_and_searched_without_delay(make_hand, qtbot):
    opened = make_project({"Pin": (box_mesh(1, 1, 1), (0, 0, 0))})
    pin = opened.project.parts[0]
    groups = [Part(f"part-{i}", f"Rack {i}") for i in range(2, 102)]
    pins = [
        edits.change(
            pin,
            id=f"part-{1000 + i}",
            name=f"Pin {i}",
            parent=f"part-{2 + i % 100}",
            placement=Placement((i % 100 * 2.0, i // 100 * 2.0, 0.0)),
        )
        for i in range(9900)
    ]
    project = edits.change(opened.project, parts=(*groups, *pins))
    hand = make_hand(type(opened)(project, opened.meshes))
    contents = hand.window.contents
    assert sum(not row.startswith("hint:") for row in contents.model.rows) == 10_000
    # only the rows in sight exist for the view
    contents.search.setText("Pin 98")
    assert 100 < len(contents.model.rows) < 500
    contents.search.clear()
    hand.session.select("part-1050")
    hand.session.edit("m", lambda p: placing.transform(p, ["part-1050"], placing.shift((0, 0, 5))))
    assert hand.session.project.parts[150].placement.position[2] == 5.0


# placing by picks


def test_a_face_is_laid_on_a_picked_face(bench):
    bench.session.select(part(bench, "Cube").id)
    bench.window.card.open_section("Place")
    press(bench, "Face on face …")
    hover_click(bench, 165, -5, 305)  # the cube's right side
    hover_click(bench, 0, 0, 40)  # the block's top
    low, _ = placing.bounds_of(bench.session.project, [part(bench, "Cube").id])
    assert low[2] == pytest.approx(40, abs=1e-6)
    _, front, _ = placing.front_of(bench.session.project, part(bench, "Cube").id)
    assert front == pytest.approx([0, 0, -1], abs=1e-9)
    assert bench.stage.tool is bench.window.tools.select_tool


def test_picks_on_the_wrong_thing_are_refused_and_esc_gives_up(bench):
    bench.session.select(part(bench, "Cube").id)
    bench.window.preparing.place_by_picks("face")
    hover_click(bench, 0, 0, 40)
    assert "on the selected part" in bench.window.card.fault.text()
    before = bench.session.project
    bench.key(Qt.Key.Key_Escape)
    assert bench.stage.tool is bench.window.tools.select_tool
    assert bench.session.project is before


def test_a_part_is_centred_on_a_picked_axis(bench):
    bench.session.select(part(bench, "Block").id)
    project, shape = placeholders.add_form(bench.session.project, CylinderForm(40, 60), (-200, -100, 0))
    bench.session.edit("a", lambda p: project, meshes={shape.hash: shape})
    name = project.parts[-1].name
    bench.session.select(part(bench, name).id)
    bench.window.preparing.place_by_picks("axis")
    hover_click(bench, -200, -100 - 20 + 1e-3, 30)
    rim = np.array([0, 130 - 40, 50.0])
    hover_click(bench, *rim)
    assert place_of(bench, name)[:2] == pytest.approx([0, 130], abs=1e-6)


def test_two_pairs_of_points_end_with_enter(bench):
    bench.session.select(part(bench, "Cube").id)
    bench.window.preparing.place_by_picks("points")
    tool = bench.window.preparing.pick_tool
    hover_click(bench, 165, -15, 315)
    hover_click(bench, 50, -30, 40)
    bench.key(Qt.Key.Key_Return)
    assert bench.stage.tool is bench.window.tools.select_tool
    corner = np.add(place_of(bench, "Cube"), [15, -15, 15])
    assert corner == pytest.approx([50, -30, 40], abs=1e-6)
    assert tool.snaps == []


def test_pivot_front_and_upside_are_picked(bench):
    bench.session.select(part(bench, "Block").id)
    bench.window.preparing.place_by_picks("pivot")
    hover_click(bench, 50, -30, 40)
    pivot, _, _ = placing.front_of(bench.session.project, part(bench, "Block").id)
    assert pivot == pytest.approx([50, -30, 40], abs=1e-5)
    bench.window.preparing.place_by_picks("front")
    hover_click(bench, 10, -30, 18)
    _, front, up = placing.front_of(bench.session.project, part(bench, "Block").id)
    assert (front, up) == (pytest.approx([0, -1, 0]), pytest.approx([0, 0, 1]))
    bench.stage.draw()
    assert bench.stage.marks.front.bar.GetVisibility()


def test_tab_offers_what_else_is_under_the_pointer(bench):
    bench.session.select(part(bench, "Block").id)
    bench.window.preparing.place_by_picks("pivot")
    tool = bench.window.preparing.pick_tool
    at = bench.at(50, -30, 40)
    tool.hover(at, Qt.KeyboardModifier.NoModifier)
    first = tool._catch(at).kind
    bench.key(Qt.Key.Key_Tab)
    assert (first, tool._catch(at).kind) == ("vertex", "edge")


def test_a_thing_is_let_down_by_key_and_scaled_to_a_known_size(bench):
    bench.session.select(part(bench, "Cube").id)
    bench.key(Qt.Key.Key_B)
    low, _ = placing.bounds_of(bench.session.project, [part(bench, "Cube").id])
    assert low[2] == pytest.approx(0, abs=1e-3)
    bench.window.card.open_section("Place")
    bench.type_in("Size x", "45")
    low, high = placing.bounds_of(bench.session.project, [part(bench, "Cube").id])
    assert high - low == pytest.approx([45, 45, 45], abs=1e-3)
    press(bench, "Bake")
    assert part(bench, "Cube").scale == (1, 1, 1)
    bench.session.undo.undo()
    assert part(bench, "Cube").scale == pytest.approx((1.5, 1.5, 1.5))


# copies, looks, placeholders


def test_arrays_and_linked_looks(bench):
    bench.session.select(part(bench, "Cube").id)
    bench.window.card.open_section("Copies")
    bench.type_in("Step y", "60")
    bench.type_in("Count", "4")
    press(bench, "Array")
    cubes = [p for p in bench.session.project.parts if p.name.startswith("Cube")]
    assert len(cubes) == 4
    assert len({p.geometry for p in cubes}) == 1
    bench.session.select(cubes[2].id)
    bench.window.card.open_section("Appearance")
    choose(bench, "Finish", "shelf/Brushed steel")
    bench.type_in("Colour", "#336699")
    cubes = [p for p in bench.session.project.parts if p.name.startswith("Cube")]
    assert {(p.finish, p.colour) for p in cubes} == {("finish-1", "#336699")}
    bench.type_in("Colour", "reddish")
    assert "#rrggbb" in bench.window.card.fault.text()


def test_a_placeholder_is_added_and_its_measures_typed(bench):
    bench.window.preparing.add_placeholder(BoxForm)
    made = bench.session.item
    bench.window.card.open_section("Motion")
    bench.type_in("Width", "1 m")
    assert get(bench.session.project, made.id).form.width == 1000.0
    low, high = placing.bounds_of(bench.session.project, [made.id])
    assert high[0] - low[0] == pytest.approx(1000)
    bench.type_in("Height", "0")
    assert "must be above 0" in bench.window.card.fault.text()


# measuring


def test_a_diameter_is_measured_kept_copied_and_used_in_a_field(bench):
    bench.key(Qt.Key.Key_E)
    hover_click(bench, 0, 90, 50)  # the cylinder's rim
    tool = bench.window.preparing.measure_tool
    assert tool.reading.value == pytest.approx(40, abs=1e-9)
    assert tool.reading.exact
    text = " ".join(label.text() for label in bench.window.card.form.findChildren(type(bench.window.card.title)))
    assert "diameter" in text
    bench.window.preparing.copy_value()
    assert QGuiApplication.clipboard().text() == "40.000 mm"
    bench.key(Qt.Key.Key_K, CTRL)
    note = bench.session.item
    assert note.name == "Radius"
    assert bench.window.contents.number(note.id) == "40.000\u2009mm"
    bench.type_in("Name", "Drum radius")
    bench.session.select(part(bench, "Block").id)
    bench.window.card.open_section("Place")
    bench.type_in("Position x", "drum radius")
    assert part(bench, "Block").placement.position[0] == pytest.approx(40)
    bench.stage.draw()
    assert len(bench.stage.marks.notes.texts) == 1


def test_face_to_face_and_nearest_are_measured(bench):
    bench.window.tools.use("measure")
    tool = bench.window.preparing.measure_tool
    hover_click(bench, 5, 0, 40)
    assert tool.reading is None
    hover_click(bench, 150, 0, 315)
    assert tool.reading.value == pytest.approx(275)
    tool.set_measure("nearest")
    hover_click(bench, 5, 0, 40)
    hover_click(bench, 150, 0, 315)
    assert tool.reading.value == pytest.approx(np.hypot(85, 245), abs=1e-3)
    bench.key(Qt.Key.Key_Escape)
    assert tool.reading is None
    bench.key(Qt.Key.Key_Escape)
    assert bench.stage.tool is bench.window.tools.select_tool


def test_a_note_scales_its_thing_to_a_known_length(bench):
    bench.window.tools.use("measure")
    hover_click(bench, 50, 0, 40)  # the block's long upper edge at the right
    assert bench.window.preparing.measure_tool.reading.value == pytest.approx(60)
    bench.window.preparing.keep_measurement()
    bench.type_in("Set length", "120")
    low, high = placing.bounds_of(bench.session.project, [part(bench, "Block").id])
    assert high - low == pytest.approx([200, 120, 80], abs=1e-3)


# views


def test_set_views_parallel_and_fit(bench):
    bench.key(Qt.Key.Key_5, CTRL)
    assert bench.stage.viewpoint.forward == pytest.approx([0, 0, -1])
    assert bench.stage.viewpoint.up == pytest.approx([0, 1, 0])
    bench.key(Qt.Key.Key_O)
    bench.key(Qt.Key.Key_A)
    bench.stage.draw()
    # in a parallel plan, what lies above each other is seen in one place
    a, b = (to_display(bench.stage.main, p)[0][:2] for p in ((50, 30, 0), (50, 30, 400)))
    assert a == pytest.approx(b, abs=0.01)
    assert bench.stage.pick(bench.at(0, 130, 50)).part == part(bench, "Cylinder").id


def test_four_views_together_pick_and_move_in_each(bench):
    bench.key(Qt.Key.Key_7, CTRL)
    bench.stage.draw()
    panes = bench.stage.shown_panes()
    assert [p.name for p in panes] == ["plan", "front", "side", "main"]
    for pane in panes[:3]:
        bench.stage.pane = pane
        x, y, _ = to_display(pane.renderer, (0, 0, 30))[0]
        at = QPoint(round(x), bench.stage.height() - 1 - round(y))
        assert pane.rect.contains(at)
        bench.session.select(None)
        bench.click(at)
        assert bench.session.selection is not None
        assert bench.stage.pane is pane
    bench.key(Qt.Key.Key_7, CTRL)
    assert not bench.stage.together


def test_a_section_shows_and_picks_the_inside(bench):
    bench.session.select(part(bench, "Block").id)
    bench.window.preparing.set_section("y", 0.0, other=True)
    bench.stage.draw()
    hit = bench.stage.pick(bench.at(0, 0, 20))
    assert hit.part == part(bench, "Block").id
    assert hit.place[1] > -1
    strip_at = bench.window.preparing
    strip_at._show_section()
    field = strip(bench, "section-at")
    field.setText("200")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert bench.stage.cut[0] == pytest.approx([0, 200, 0])
    strip_at.close_section()
    assert bench.stage.cut is None


def test_styles_and_edges_change_the_stage_and_not_the_lens(bench):
    bench.window.preparing.style_actions["wire"].trigger()
    bench.stage.draw()
    batch = bench.stage.scene.batches[0]
    assert not batch.stage.GetVisibility()
    assert batch.final.GetVisibility()
    bench.key(Qt.Key.Key_Y)
    assert bench.stage.parts_style == "finished"
    bench.window.preparing.style_actions["see-through"].trigger()
    assert batch.stage.GetProperty().GetOpacity() < 0.5
    assert batch.final.GetProperty().GetOpacity() == 1.0
    bench.window.preparing.edges_action.trigger()
    assert not bench.stage.edges_shown


# bringing in


def answer(kind, press_, seen):
    """Answer a dialog of a kind when it comes."""

    def look_for():
        # the question alone: among all windows there may be one that is just being deleted
        widget = QApplication.activeModalWidget()
        if isinstance(widget, kind):
            seen.append(widget)
            press_(widget)
            return
        QTimer.singleShot(50, look_for)

    QTimer.singleShot(50, look_for)


def stl(folder, size=(40, 30, 20), name="crate.stl"):
    target = folder / name
    target.write_bytes(trimesh.creation.box(size).export(file_type="stl"))
    return target


def test_the_unit_is_asked_and_what_was_left_out_reported(bench, tmp_path):
    (tmp_path / "sheet.obj").write_text("mtllib gone.mtl\no Sheet\nv 0 0 0\nv 4 0 0\nv 0 3 0\nusemtl Blue\nf 1 2 3\n")
    seen = []

    def take(dialog):
        dialog.fields[0].setCurrentIndex(dialog.fields[0].findData("cm"))
        assert "40.0 × 30.0" in dialog.sizes[0].text()
        dialog.accept()

    answer(UnitDialog, take, seen)
    bench.window.bringing.add([tmp_path / "sheet.obj"])
    bench.qtbot.waitUntil(lambda: any(p.name == "Sheet" for p in bench.session.project.parts), timeout=60_000)
    assert seen
    low, high = placing.bounds_of(bench.session.project, [part(bench, "Sheet").id])
    assert high - low == pytest.approx([40, 30, 0], abs=1e-3)
    bench.qtbot.waitUntil(
        lambda: isinstance(getattr(bench.window.bringing, "report", None), ReportDialog), timeout=10_000
    )
    text = bench.window.bringing.report.text.toPlainText()
    assert "gone.mtl" in text
    assert "10 mm, as chosen" in text
    bench.window.bringing.report.close()


def test_leaving_the_question_of_the_unit_brings_nothing_in(bench, tmp_path):
    before, seen = bench.session.project, []
    answer(UnitDialog, lambda dialog: dialog.reject(), seen)
    bench.window.bringing.add([stl(tmp_path)])
    bench.qtbot.waitUntil(lambda: bool(seen), timeout=60_000)
    bench.qtbot.wait(100)
    assert bench.session.project is before


def test_a_placeholder_is_replaced_by_a_product_and_read_again(make_hand, tmp_path, qtbot):
    opened = make_project({"Base": (box_mesh(10, 10, 10), (500, 0, 5))})
    project, shape = placeholders.add_form(opened.project, BoxForm(100, 100, 100), (0, 0, 0))
    hand = make_hand(type(opened)(project, {**opened.meshes, shape.hash: shape}))
    placeholder = project.parts[-1].id
    file = tmp_path / "real.glb"
    body = trimesh.creation.box((0.2, 0.1, 0.1))
    file.write_bytes(trimesh.Scene({"Real": body}).export(file_type="glb"))
    hand.window.bringing.replace(placeholder, file)
    qtbot.waitUntil(lambda: get(hand.session.project, placeholder).form is None, timeout=60_000)
    low, high = placing.bounds_of(hand.session.project, [placeholder])
    assert high - low == pytest.approx([200, 100, 100], abs=1e-2)
    assert low[2] == pytest.approx(0, abs=1e-2)
    # the file changes
    file.write_bytes(trimesh.Scene({"Real": trimesh.creation.box((0.3, 0.1, 0.1))}).export(file_type="glb"))
    seen = []
    answer(ChangesDialog, lambda dialog: dialog.accept(), seen)
    hand.window.bringing.reload(get(hand.session.project, placeholder).source)
    qtbot.waitUntil(
        lambda: np.ptp(placing.bounds_of(hand.session.project, [placeholder]), axis=0)[0] > 250, timeout=60_000
    )
    assert seen
    hand.session.undo.undo()
    assert np.ptp(placing.bounds_of(hand.session.project, [placeholder]), axis=0)[0] == pytest.approx(200, abs=0.01)


def test_the_report_tells_parts_triangles_unit_and_tolerance():
    text = report_text([read_product(DEMO.parent / "swing-gate.step")])
    assert "14 parts of 4 geometries" in text
    assert "STEP, its unit converted to mm" in text
    assert "facets within 0.1 mm" in text


def test_the_menu_of_a_thing_offers_what_its_keys_do(bench):
    bench.session.select(part(bench, "Block").id)
    bench.window.selection_menu.pop_up(QPoint(100, 100))
    texts = [a.text() for a in bench.window.selection_menu.menu.actions() if a.text()]
    assert {"Group", "Isolate", "Drop to surface", "Copy"} <= set(texts)
    bench.window.selection_menu.menu.close()


def test_an_import_is_cancelled_at_once_and_changes_nothing(bench):
    before = bench.session.project
    bench.window.bringing.add([DEMO.parent / "cabinet.step"])
    assert bench.window.job is not None
    bench.window.job.cancel()
    bench.qtbot.waitUntil(lambda: bench.window.job is None, timeout=10_000)
    bench.qtbot.wait(200)
    assert bench.session.project is before


def test_a_damaged_file_is_named_and_the_project_stays(bench, tmp_path):
    (tmp_path / "torn.step").write_bytes((DEMO.parent / "trolley.step").read_bytes()[:9000])
    before, seen = bench.session.project, []
    answer(QMessageBox, lambda box: (seen.append(box.text()), box.reject()), [])
    bench.window.bringing.add([tmp_path / "torn.step"])
    bench.qtbot.waitUntil(lambda: bool(seen), timeout=60_000)
    assert "torn.step" in seen[0]
    assert "cut short" in seen[0]
    assert bench.session.project is before


def test_files_dropped_on_the_window_are_brought_in(bench):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(DEMO.parent / "swing-gate.step"))])
    event = QDropEvent(
        QPointF(50, 50), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    bench.window.dropEvent(event)
    bench.qtbot.waitUntil(lambda: any(p.name == "Swing gate" for p in bench.session.project.parts), timeout=60_000)
