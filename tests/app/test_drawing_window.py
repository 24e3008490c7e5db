"""Drawing paths in the real window: planes, catches, typed numbers, surfaces, edges, contours, traces."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QPushButton, QTableView

from kestrav.app.cards.path_table import PointTable
from kestrav.core.document import edits
from kestrav.core.document.records import (
    ArcShape,
    EllipseShape,
    Limited,
    Path,
    PathPoint,
    PointShape,
    RectangleShape,
    Run,
    SurfaceShape,
)
from kestrav.core.editing.run_making import add_run
from kestrav.core.geometry.topology import topology
from kestrav.core.geometry.transforms import apply
from kestrav.core.parts.rest import world_bounds
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.paths.path_curves import path_curve

CTRL = Qt.KeyboardModifier.ControlModifier
SHIFT = Qt.KeyboardModifier.ShiftModifier


def look(hand, way=(0.0, -0.5, 0.85), reach=250.0):
    view = hand.stage.viewpoint
    view.look_from(way)
    view.frame(np.array([[-reach, -reach, -20.0], [reach, reach, 120.0]]))
    hand.stage.draw()


def strip(hand, name):
    found = hand.window.preparing.strip.findChild(QComboBox, name) or next(
        w for w in hand.window.preparing.strip.findChildren(object) if w.objectName() == name
    )
    return found


def choose(hand, name, key):
    field = strip(hand, name)
    field.setCurrentIndex(field.findData(key))
    field.activated.emit(field.currentIndex())


def type_in_strip(hand, name, text, enter=True):
    field = strip(hand, name)
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    if enter:
        QTest.keyClick(field, Qt.Key.Key_Return)


def press_in_strip(hand, text):
    next(b for b in hand.window.preparing.strip.findChildren(QPushButton) if b.text() == text).click()


def start(hand, draws="smooth", on="floor", select=None):
    look(hand)
    hand.session.select(select)
    hand.window.tools.use("draw")
    choose(hand, "strip-on", on)
    choose(hand, "strip-draws", draws)
    hand.window.tools.draw_tool.set(catches={"grid"})


def made(hand):
    return hand.session.project.paths[-1]


@pytest.mark.parametrize(
    ("draws", "places", "kind"),
    [
        ("corners", [(-150, -80, 0), (0, -120, 0), (150, -60, 0)], PointShape),
        ("three", [(-150, -80, 0), (0, -150, 0), (150, -60, 0)], ArcShape),
        ("centre", [(0, -150, 0), (120, -150, 0), (0, -60, 0)], ArcShape),
        ("circle", [(0, -100, 0), (90, -100, 0)], EllipseShape),
        ("ellipse", [(0, -100, 0), (120, -100, 0), (0, -150, 0)], EllipseShape),
        ("rectangle", [(-120, -150, 0), (130, -60, 0)], RectangleShape),
    ],
)
def test_each_shape_is_drawn_by_its_clicks_and_undone(hand, draws, places, kind):
    start(hand, draws)
    before = hand.session.project
    for place in places:
        QTest.mouseMove(hand.stage.view, hand.at(*place))
        hand.click(hand.at(*place))
    if draws == "corners":
        hand.key(Qt.Key.Key_Return)
    shape = made(hand).shape
    assert isinstance(shape, kind)
    assert hand.window.stage.tool is hand.window.tools.select_tool
    assert hand.session.selection == made(hand).id
    if draws == "corners":
        assert [p.kind for p in shape.points] == ["corner"] * 3
    line = path_curve(made(hand)).curve
    assert line.position(np.linspace(0, line.length, 20))[:, 2] == pytest.approx(np.zeros(20), abs=1e-9)
    hand.session.undo.undo()
    assert hand.session.project is before


@pytest.mark.parametrize("beside", ["strip", "contents", "findings", "header", "tool button"])
@pytest.mark.parametrize("key", [Qt.Key.Key_Return, Qt.Key.Key_Escape])
def test_enter_finishes_and_escape_leaves_after_a_click_beside_the_stage(hand, beside, key):
    start(hand)
    paths = len(hand.session.project.paths)
    for place in ((-150.0, -100.0, 0.0), (100.0, -100.0, 0.0)):
        hand.click(hand.at(*place))
    window = hand.window
    places = {
        "strip": window.preparing.strip,
        "contents": window.contents,
        "findings": window.findings,
        "header": window.header,
        "tool button": window.tools.buttons["draw"],
    }
    widget = places[beside]
    widget.setFocus()
    QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=widget.rect().bottomRight() - QPoint(2, 2))
    QTest.keyClick(QApplication.focusWidget() or window, key)
    assert len(hand.session.project.paths) == paths + (key == Qt.Key.Key_Return)
    assert hand.window.tools.buttons["select"].isChecked()


def test_the_plane_is_at_the_typed_height(hand):
    start(hand, "smooth", "height")
    type_in_strip(hand, "strip-height", "6 cm")
    for place in ((-100, -80, 60), (100, -90, 60)):
        hand.click(hand.at(*place))
    hand.key(Qt.Key.Key_Return)
    assert {p.position[2] for p in made(hand).shape.points} == {60.0}
    assert made(hand).shape.points[0].position[:2] == pytest.approx((-100, -80), abs=3)


def test_facing_the_view_and_on_a_picked_face(hand):
    start(hand, "smooth", "view")
    forward = hand.stage.viewpoint.forward
    for place in ((-80, -40, 30), (90, -40, 40), (60, 60, 60)):
        hand.click(hand.at(*place))
    hand.key(Qt.Key.Key_Return)
    places = np.array([p.position for p in made(hand).shape.points])
    assert np.ptp(places @ forward) < 1e-6
    # the post's upper side
    low, high = np.array(hand.session.project.geometry[1].low), np.array(hand.session.project.geometry[1].high)
    start(hand, "smooth", "face")
    assert "flat face" in hand.window.tools.draw_tool.hint
    hand.click(hand.at(*_top_of(hand, "part-2")))
    assert hand.window.tools.draw_tool.plane is not None
    height = hand.window.tools.draw_tool.plane.point[2]
    for place in ((-120, -80, height), (110, -80, height)):
        hand.click(hand.at(*place))
    hand.key(Qt.Key.Key_Return)
    assert {round(p.position[2], 6) for p in made(hand).shape.points} == {round(float(height), 6)}
    assert height > low[2] and high is not None


def _top_of(hand, part_id):

    box = world_bounds(hand.session.project, part_id, hand.session.poses()[None])[0]
    return (*box.mean(axis=0)[:2], box[1, 2])


def test_typed_lengths_angles_and_coordinates_put_points(hand):
    start(hand, "corners")
    for axis, value in zip("xyz", ("-100", "-0.1 m", "0"), strict=True):
        type_in_strip(hand, f"strip-at {axis}", value, enter=False)
    press_in_strip(hand, "Add here")
    type_in_strip(hand, "strip-length", "25 cm", enter=False)
    type_in_strip(hand, "strip-draw-angle", "30", enter=False)
    press_in_strip(hand, "Add")
    # the length holds for the next click, the pointer gives the direction
    type_in_strip(hand, "strip-length", "100")
    hand.click(hand.at(116, 180, 0))
    press_in_strip(hand, "Finish")
    places = np.array([p.position for p in made(hand).shape.points])
    assert places[0] == pytest.approx([-100, -100, 0])
    assert places[1] == pytest.approx([-100 + 250 * np.cos(np.pi / 6), 25, 0])
    assert np.linalg.norm(places[2] - places[1]) == pytest.approx(100)


def test_shift_locks_angles_and_a_paths_end_is_caught_exactly(hand):
    start(hand, "corners")
    hand.window.tools.draw_tool.set(catches={"grid", "end"})
    end = path_curve(hand.session.project.paths[0]).curve.position([np.inf])[0]
    QTest.mouseMove(hand.stage.view, hand.at(*end))
    hand.click(hand.at(*end))
    assert hand.window.tools.draw_tool.points[0] == pytest.approx(end, abs=1e-9)
    hand.click(hand.at(*np.add(end, (40, -120, 0))), SHIFT)
    hand.key(Qt.Key.Key_Return)
    step = np.subtract(made(hand).shape.points[1].position, made(hand).shape.points[0].position)
    assert np.degrees(np.arctan2(step[1], step[0])) % 15 == pytest.approx(0, abs=1e-6)


def test_a_line_drawn_by_hand_becomes_few_points_near_it(hand):
    start(hand, "hand")
    way = [(-150 + 10 * k, -100 + 40 * np.sin(k / 5), 0) for k in range(31)]
    hand.drag(hand.at(*way[0]), *(hand.at(*p) for p in way[1:]))
    hand.key(Qt.Key.Key_Return)
    shape, line = made(hand).shape, path_curve(made(hand)).curve
    assert 3 <= len(shape.points) < 25
    away = [np.linalg.norm(line.position([line.nearest(p)])[0] - p) for p in way]
    assert max(away) < 6 * hand.stage.pixel()


def test_a_path_on_a_parts_surface_sticks_to_it_when_a_point_is_dragged(hand):
    start(hand, "smooth", "surface")
    x, y, z = _top_of(hand, "part-1")
    places = [(x - 8, y - 6, z), (x, y + 4, z), (x + 8, y - 2, z)]
    hand.stage.viewpoint.frame(np.array([[x - 25, y - 25, z - 10], [x + 25, y + 25, z + 10]]))
    hand.stage.draw()
    for place in places:
        hand.click(hand.at(*place))
    hand.key(Qt.Key.Key_Return)
    shape = made(hand).shape
    assert isinstance(shape, SurfaceShape) and len(shape.points) == 3
    line = path_curve(made(hand)).curve
    assert line.position(np.linspace(0, line.length, 30))[:, 2] == pytest.approx(np.full(30, z), abs=1e-3)
    held = line.position([path_curve(made(hand)).point_stations()[1]])[0]
    hand.drag(hand.at(*held), hand.at(x + 2, y + 8, z), hand.at(x + 4, y + 9, z))
    assert made(hand).shape.points[1] != shape.points[1]
    line = path_curve(made(hand)).curve
    assert line.position(np.linspace(0, line.length, 30))[:, 2] == pytest.approx(np.full(30, z), abs=1e-3)
    hand.type_in("Lift", "5")
    line = path_curve(made(hand)).curve
    assert line.position([0.0])[0][2] == pytest.approx(z + 5, abs=1e-3)
    hand.session.undo.undo()
    hand.session.undo.undo()
    assert made(hand).shape == shape


def test_a_line_by_hand_lies_on_the_surface_that_it_began_on(hand):
    start(hand, "hand", "surface")
    x, y, z = _top_of(hand, "part-1")
    hand.stage.viewpoint.frame(np.array([[x - 25, y - 25, z - 10], [x + 25, y + 25, z + 10]]))
    way = [(x - 9 + k, y + 4 * np.sin(k / 3), z) for k in range(19)]
    hand.drag(hand.at(*way[0]), *(hand.at(*p) for p in way[1:]))
    hand.key(Qt.Key.Key_Return)
    assert isinstance(made(hand).shape, SurfaceShape) and made(hand).shape.part == "part-1"
    line = path_curve(made(hand)).curve
    assert line.position(np.linspace(0, line.length, 30))[:, 2] == pytest.approx(np.full(30, z), abs=1e-3)


@pytest.mark.parametrize("kind", ["vertex", "edge", "centre"])
def test_corners_edges_and_centres_are_caught_and_brought_onto_the_plane(hand, kind):
    start(hand, "smooth")
    x, y, z = _top_of(hand, "part-1")
    hand.stage.viewpoint.frame(np.array([[x - 25, y - 25, z - 10], [x + 25, y + 25, z + 10]]))
    hand.window.tools.draw_tool.set(catches={kind})
    found = topology(solid_mesh(hand.session.meshes, hand.session.project.parts[0]))
    pose = hand.session.part_now("part-1")
    upper = [e for e in found.edges if np.all(apply(pose, e.points)[:, 2] > z - 1e-6)]
    rim = apply(pose, upper[0].points)
    target = rim[0] if kind == "vertex" else rim.mean(axis=0)
    near = target + 0.02 * (np.array([x, y, z]) - target)
    tool = hand.window.tools.draw_tool
    tool.hover(hand.at(*near), Qt.KeyboardModifier.NoModifier)
    # a box has no round edge, so there is no centre to catch
    assert tool._caught == {"vertex": "corner", "edge": "edge", "centre": ""}[kind]
    if kind == "vertex":
        assert tool._cursor == pytest.approx([*target[:2], 0.0], abs=1e-6)
    if kind == "edge":
        assert tool._cursor[2] == 0
        along = (rim[1] - rim[0]) / np.linalg.norm(rim[1] - rim[0])
        assert np.linalg.norm(np.cross(along, np.add(tool._cursor, (0, 0, z)) - rim[0])) < 1e-6


def test_a_drawing_begun_at_a_typed_height_stays_level_there(hand):
    start(hand, "corners")
    for axis, value in zip("xyz", ("-100", "-100", "75"), strict=True):
        type_in_strip(hand, f"strip-at {axis}", value, enter=False)
    press_in_strip(hand, "Add here")
    hand.click(hand.at(100, -60, 75))
    hand.key(Qt.Key.Key_Return)
    assert [p.position[2] for p in made(hand).shape.points] == [75, 75]


def test_a_path_is_drawn_on_from_either_end(hand):
    look(hand)
    shape = PointShape((PathPoint((-60, -100, 0), "corner"), PathPoint((60, -100, 0), "corner")))
    hand.session.edit("p", lambda p: edits.add(p, Path("path-9", "Aisle", shape)))
    hand.session.select("path-9")
    for text, place, index in (("Extend from end", (150, -60, 0), -1), ("Extend from start", (-150, -60, 0), 0)):
        hand.window.card.rebuild()
        next(b for b in hand.window.card.form.findChildren(QPushButton) if b.text() == text).click()
        hand.window.tools.draw_tool.set(draws="corners", catches={"grid"})
        hand.click(hand.at(*place))
        hand.key(Qt.Key.Key_Return)
        points = hand.session.path.shape.points
        assert points[index].position == pytest.approx(place, abs=3)
    assert [p.position for p in points[1:3]] == [(-60, -100, 0), (60, -100, 0)]


def test_an_arc_goes_on_tangent_from_an_end(hand):
    look(hand)
    shape = PointShape((PathPoint((-150, -100, 0), "corner"), PathPoint((0, -100, 0), "corner")))
    hand.session.edit("p", lambda p: edits.add(p, Path("path-9", "Aisle", shape)))
    start(hand, "tangent")
    hand.click(hand.at(100, -150, 0))
    assert "end of a path first" in hand.window.card.fault.text()
    hand.window.tools.draw_tool.set(catches={"grid", "end"})
    hand.click(hand.at(0, -100, 0))
    hand.click(hand.at(120, 20, 0))
    arc = path_curve(made(hand)).curve
    assert isinstance(made(hand).shape, ArcShape)
    assert arc.position([0.0])[0] == pytest.approx([0, -100, 0], abs=1e-9)
    assert arc.tangent([0.0])[0] == pytest.approx([1, 0, 0], abs=1e-9)


# from the model


def test_picked_edges_become_a_path(hand):
    x, y, z = _top_of(hand, "part-1")
    look(hand)
    hand.stage.viewpoint.frame(np.array([[x - 40, y - 40, z - 20], [x + 40, y + 40, z + 20]]))

    part = hand.session.project.parts[0]
    found = topology(solid_mesh(hand.session.meshes, part))
    pose = hand.session.part_now("part-1")
    upper = [e for e in found.edges if np.all(apply(pose, e.points)[:, 2] > z - 1e-6)][:2]
    hand.window.tools.use("edges")
    for edge in upper:
        middle = apply(pose, edge.points.mean(axis=0)[None])[0]
        centre = np.array([x, y, z])
        hand.click(hand.at(*(middle + 0.02 * (centre - middle))))
    assert len(hand.window.tools.edge_tool.edges) == 2
    hand.key(Qt.Key.Key_Return)
    assert path_curve(made(hand)).length == pytest.approx(sum(e.length for e in upper), rel=1e-6)


def test_a_contour_is_previewed_while_it_is_chosen_and_then_accepted(hand):
    hand.window.paths.contour()
    assert "elect the parts" in hand.window.card.fault.text()
    hand.session.select("part-2")
    count = len(hand.session.project.paths)
    hand.window.paths.contour()
    assert len(hand.session.shown.paths) == count + 1 and len(hand.session.project.paths) == count
    choose(hand, "strip-contour", "rectangle")
    type_in_strip(hand, "strip-offset", "5 cm")
    type_in_strip(hand, "strip-contour-height", "80")
    assert "at least 50" in hand.window.preview_bar.text.text()
    hand.session.accept()
    assert isinstance(made(hand).shape, RectangleShape)
    assert made(hand).shape.radius == 50 and made(hand).shape.centre[2] == 80
    assert hand.session.selection == made(hand).id
    hand.session.undo.undo()
    assert len(hand.session.project.paths) == count


def test_a_section_and_a_pipe_say_what_they_need(hand):
    preparing = hand.window.preparing
    hand.window.paths.section_paths()
    assert "ut the view open first" in hand.window.card.fault.text()
    hand.session.select("part-2")
    box = _top_of(hand, "part-2")
    preparing.set_section("z", box[2] - 5, other=False)
    before = len(hand.session.project.paths)
    hand.window.paths.section_paths()
    assert len(hand.session.project.paths) > before
    assert {round(p.position[2], 3) for p in made(hand).shape.points} == {round(box[2] - 5, 3)}
    hand.window.paths.pipe_path()
    assert hand.window.card.fault.text()


def test_the_trace_of_a_moving_part_is_shown_and_becomes_a_path(hand):
    look(hand)
    hand.window.paths.ask_trace()
    hand.click(hand.at(*_top_of(hand, "part-1")))
    assert hand.session.traced is not None
    hand.stage.draw()
    assert hand.stage.marks.judged.trace.GetVisibility()
    assert hand.window.preparing.banner.isVisible()
    hand.window.preparing.banner.button.click()
    assert made(hand).name.startswith("Trace of")
    assert hand.session.traced is None


# many points


def test_several_points_are_chosen_moved_and_merged(hand):
    look(hand)
    shape = PointShape(
        tuple(PathPoint(p, "corner") for p in [(-150, -100, 0), (-50, -100, 0), (50, -100, 0), (150, -100, 0)])
    )
    hand.session.edit("p", lambda p: edits.add(p, Path("path-9", "Aisle", shape)))
    hand.session.select("path-9")
    hand.click(hand.at(-50, -100, 0))
    hand.click(hand.at(50, -100, 0), CTRL)
    assert hand.session.points == (1, 2)
    hand.drag(hand.at(50, -100, 0), hand.at(50, -130, 0), hand.at(50, -160, 0))
    places = np.array([p.position for p in hand.session.path.shape.points])
    assert places[1:3, 1] == pytest.approx([-160, -160], abs=4) and places[0, 1] == -100
    hand.type_in("Move by z", "20")
    assert [p.position[2] for p in hand.session.path.shape.points] == [0, 20, 20, 0]
    next(b for b in hand.window.card.form.findChildren(QPushButton) if b.text() == "Merge points").click()
    assert len(hand.session.path.shape.points) == 3
    hand.session.select("path-9")
    hand.stage.view.setFocus()
    hand.key(Qt.Key.Key_A, CTRL)
    assert hand.session.points == (0, 1, 2)


def test_coordinates_are_typed_and_pasted_into_the_table(hand):
    hand.session.select("path-1")
    hand.window.card.open_section("Table of points")

    view = hand.window.card.form.findChild(QTableView, "points")
    model = view.model()
    assert isinstance(model, PointTable)
    assert model.setData(model.index(0, 2), "3 cm", Qt.ItemDataRole.EditRole)
    assert hand.session.path.shape.points[0].position[2] == 30
    assert not model.setData(model.index(0, 2), "wide", Qt.ItemDataRole.EditRole)
    assert "not a number" in hand.window.card.fault.text()
    hand.window.card.rebuild()
    view = hand.window.card.form.findChild(QTableView, "points")
    QApplication.clipboard().setText("x;y;z\n0;0;0\n100;50;0\n200;0;0\n300;1,5;0\n")
    QTest.keyClick(view, Qt.Key.Key_V, CTRL)
    assert [p.position for p in hand.session.path.shape.points] == [(0, 0, 0), (100, 50, 0), (200, 0, 0), (300, 1.5, 0)]
    hand.window.card.rebuild()
    view = hand.window.card.form.findChild(QTableView, "points")
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_C, CTRL)
    assert QApplication.clipboard().text().splitlines()[1] == "100\t50\t0"
    QApplication.clipboard().setText("a few words\nand more")
    QTest.keyClick(view, Qt.Key.Key_V, CTRL)
    assert "ot pasted" in hand.window.card.fault.text()


def test_smoothing_says_how_far_it_departs_before_it_is_accepted(hand):
    rough = PointShape(tuple(PathPoint((float(40 * k), 12.0 * (-1) ** k - 100, 0.0)) for k in range(-4, 5)))
    hand.session.edit("p", lambda p: edits.add(p, Path("path-9", "Aisle", rough)))
    hand.session.select("path-9")
    before = hand.session.project
    hand.type_in("Smoothing", "10")
    assert hand.session.project is before and hand.session.shown is not before
    text = hand.window.preview_bar.text.text()
    assert "Departure" in text and "at most" in text and "→" in text
    hand.session.accept()
    assert hand.session.project.paths[-1].shape != rough
    hand.session.undo.undo()
    assert hand.session.project is before


def test_the_whole_is_raised_to_a_thing_let_down_widened_and_reversed(hand):
    line = PointShape(tuple(PathPoint(p, "corner") for p in [(-150, -100, 0), (100, -100, 0), (100, 150, 0)]))
    hand.session.edit("p", lambda p: edits.add(p, Path("path-9", "Aisle", line)))
    hand.session.select("path-9")

    def height():
        return path_curve(hand.session.path).curve.position([0.0])[0, 2]

    def pick(name, key):
        field = hand.field(name)
        field.setCurrentIndex(field.findData(key))
        field.activated.emit(field.currentIndex())

    def press(text):
        hand.window.card.rebuild()
        next(b for b in hand.window.card.form.findChildren(QPushButton) if b.text() == text).click()

    pick("Match height of", hand.session.project.cameras[0].id)
    assert height() == pytest.approx(hand.session.project.cameras[0].position[2])
    pick("Match height of", "part-2")
    box = world_bounds(hand.session.project, "part-2", hand.session.poses()[None])[0]
    assert height() == pytest.approx(box.mean(axis=0)[2])
    hand.type_in("Lift", "4")
    hand.type_in("Start height", "900")
    press("Drop to surface")
    assert height() == pytest.approx(4, abs=0.2)
    hand.session.undo.undo()
    hand.type_in("Minimum bend radius", "80")
    assert "minimum bend radius straight → 80" in hand.window.preview_bar.text.text()
    hand.session.accept()
    assert hand.session.path.shape.points[1].radius == 80
    end = path_curve(hand.session.path).curve.position([np.inf])[0]
    press("Reverse")
    assert path_curve(hand.session.path).curve.position([0.0])[0] == pytest.approx(end, abs=1e-9)


def test_the_whole_is_moved_turned_scaled_offset_repeated_split_and_joined(hand):
    line = PointShape(tuple(PathPoint(p, "corner") for p in [(0, -100, 0), (100, -100, 0), (100, 0, 0)]))
    hand.session.edit("p", lambda p: edits.add(p, Path("path-9", "Aisle", line)))
    hand.session.select("path-9")

    def places():
        return np.array([p.position for p in hand.session.path.shape.points])

    hand.type_in("Move by x", "50")
    assert places()[0] == pytest.approx([50, -100, 0])
    hand.type_in("Turn by", "90")
    assert places()[1] == pytest.approx([50, 0, 0])
    hand.type_in("Scale by", "2")
    assert path_curve(hand.session.path).length == pytest.approx(400)
    hand.type_in("Parallel offset", "10")
    assert places()[0] == pytest.approx([40, -100, 0])
    hand.type_in("Repeat", "2")
    assert len(hand.session.path.shape.points) == 5
    length = path_curve(hand.session.path).length
    hand.type_in("From", "20")
    assert path_curve(hand.session.path).length == pytest.approx(length - 20)
    hand.session.undo.undo()
    hand.type_in("Split at", "150")
    assert made(hand).name == "Aisle, second part"
    field = hand.field("Join with")
    field.setCurrentIndex(field.findData(made(hand).id))
    field.activated.emit(field.currentIndex())
    assert path_curve(hand.session.path).length == pytest.approx(length)
    count = len(hand.session.project.paths)
    next(b for b in hand.window.card.form.findChildren(QPushButton) if b.text() == "Copy").click()
    assert len(hand.session.project.paths) == count + 1


def test_lanes_of_height_and_bend_radius_over_the_distance(hand):
    timeline = hand.window.timeline
    ring = EllipseShape((0, 0, 30), 200, 100)
    hand.session.edit("p", lambda p: edits.add(p, Path("path-9", "Aisle", ring)))
    hand.session.select("path-9")
    timeline.show_lanes(["height", "bend"])
    timeline.set_axis(True)
    assert timeline.by_distance
    assert len(timeline.plots) == 3
    assert timeline.height_lane.y == pytest.approx(np.full(len(timeline.height_lane.y), 30))
    assert timeline.bend.y.min() == pytest.approx(100**2 / 200, rel=1e-3)
    assert timeline.height_lane.x[-1] == pytest.approx(path_curve(made(hand)).length)
    hand.session.edit("r", lambda p: edits.update(p, "part-1", least_radius=70.0))

    hand.session.edit("r", lambda p: add_run(p, "part-1", "path-9"))
    assert timeline.bend.limit.isVisible() and timeline.bend.breaches
    timeline.show_lanes(["clearance", "speed"])
    assert len(timeline.plots) == 3 and timeline.clearance in timeline.lanes


def test_lanes_of_distance_and_accelerations(hand):
    timeline = hand.window.timeline
    ring = EllipseShape((0, 0, 30), 200, 200)
    hand.session.edit("p", lambda p: edits.add(p, Path("path-9", "Aisle", ring)))
    limits = Limited(300.0, 100.0, 150.0, 150.0)
    run = Run("run-9", "Rolls", "part-1", "path-9", duration=None, speed=300.0, speed_profile=limits)
    hand.session.edit("r", lambda p: edits.add(edits.remove(p, "run-1"), run))
    hand.session.select("run-9")
    timeline.show_lanes(["distance", "speed", "acceleration", "sideways"])
    assert timeline.sideways.y.max() == pytest.approx(0.1, rel=1e-3)
    assert timeline.gain.y.max() == pytest.approx(0.15) and timeline.gain.y.min() == pytest.approx(-0.15)
    assert timeline.sideways.limit.isVisible() and timeline.sideways.limit.value() == pytest.approx(0.1)
    assert timeline.distance.y[-1] == pytest.approx(400 * np.pi)
    assert timeline.speed.value_at(timeline.speed.x[len(timeline.speed.x) // 4]) is not None
    timeline.show_lanes(["clearance", "speed"])


def _shown(judged):
    return [a.GetInput() for a in judged.texts.actors if a.GetVisibility()]


def test_marks_of_the_selected_path_are_switched(hand):
    hand.session.select("path-2")
    hand.window.card.open_section("Analysis")
    hand.stage.draw()
    judged = hand.stage.marks.judged
    assert any("mm" in text for text in _shown(judged))
    assert any("s" in text for text in _shown(judged))
    assert not judged.teeth.GetVisibility()
    hand.window.card.path_marks.set("comb", True)
    hand.window.card.path_marks.set("numbers", False)
    hand.stage.draw()
    assert judged.teeth.GetVisibility() and _shown(judged) and not any("mm" in text for text in _shown(judged))
    hand.window.card.path_marks.set("comb", False)
    hand.window.card.path_marks.set("numbers", True)
    hand.session.select(None)
    hand.stage.draw()
    assert not _shown(judged)
