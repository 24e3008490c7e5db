"""Exact paths and whole paths in the window."""

import ezdxf
import numpy as np
import pytest
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QPushButton

from kestrav.app.actions.import_actions import UnitDialog
from kestrav.core.document.records import ArcShape, EllipseShape, PathPoint, PointShape
from kestrav.core.paths.path_curves import path_curve


def press(hand, text):
    hand.window.card.reveal(text)
    next(b for b in hand.window.card.form.findChildren(QPushButton) if b.text() == text).click()


def choose(hand, name, key):
    field = hand.field(name)
    field.setCurrentIndex(field.findData(key))
    field.activated.emit(field.currentIndex())


@pytest.mark.parametrize("name", ["Line", "Arc", "Circle", "Rectangle", "Helix"])
def test_exact_paths_are_added_drawn_and_undone(hand, name):
    before = hand.session.project
    hand.window.paths.add_path(name)
    path = hand.session.path
    assert path.name.startswith(name)
    hand.stage.draw()
    assert path.id in hand.stage.marks.paths.drawn
    hand.window.card.open_section("Shape")
    hand.session.undo.undo()
    assert hand.session.project is before


def test_an_arcs_numbers_are_typed_and_impossible_ones_refused(hand):
    hand.window.paths.add_path("Arc")
    hand.type_in("Sweep", "180")
    hand.type_in("Start x", str(hand.session.path.shape.centre[0] + 250))
    assert path_curve(hand.session.path).length == pytest.approx(250 * np.pi)
    hand.type_in("Sweep", "0")
    assert "arc of 0" in hand.window.card.fault.text()
    assert hand.session.path.shape.sweep == 180.0


def test_a_rectangle_with_corners_rounder_than_its_sides_is_refused(hand):
    hand.window.paths.add_path("Rectangle")
    hand.type_in("Width", "600")
    hand.type_in("Depth", "400")
    hand.type_in("Corner radius", "250")
    assert "at most 200 mm fit" in hand.window.card.fault.text()


def test_a_corner_is_rounded_by_its_own_editable_radius(hand):
    shape = PointShape(tuple(PathPoint(p, "corner") for p in [(0, 0, 0), (600, 0, 0), (600, 900, 0)]))
    hand.session.edit("p", lambda p: _with(p, shape))
    hand.session.select("path-1", 1)
    hand.type_in("Radius", "200")
    assert hand.session.path.shape.points[1].radius == 200.0
    assert path_curve(hand.session.path).length == pytest.approx(1500 - 400 + 100 * np.pi)
    hand.type_in("Radius", "700")
    assert "no room on its sides" in hand.window.card.fault.text()


def _with(project, shape):
    from kestrav.core.document import edits

    return edits.update(project, "path-1", shape=shape)


def test_length_height_trim_and_direction_of_the_whole(hand):
    hand.session.select("path-1")
    hand.type_in("Length", "0.5 m")
    assert path_curve(hand.session.path).length == pytest.approx(500, rel=1e-9)
    start = path_curve(hand.session.path).curve.position([0.0])[0]
    choose(hand, "Method", "last")
    hand.type_in("Length", "620")
    assert path_curve(hand.session.path).curve.position([0.0])[0] == pytest.approx(start)
    hand.type_in("Start height", "80")
    assert path_curve(hand.session.path).curve.position([0.0])[0, 2] == pytest.approx(80)
    hand.type_in("To %", "50")
    assert path_curve(hand.session.path).length == pytest.approx(310)
    end = path_curve(hand.session.path).curve.position([310.0])[0]
    press(hand, "Reverse")
    assert path_curve(hand.session.path).curve.position([0.0])[0] == pytest.approx(end, abs=1e-6)
    press(hand, "Convert to points")
    assert hand.session.path.trim == (0.0, 1.0)
    assert path_curve(hand.session.path).length == pytest.approx(310, rel=1e-4)


def test_a_run_follows_its_path_when_the_whole_is_changed(hand):
    hand.session.edit("p", lambda p: _with(p, ArcShape((0, 0, 0), (100, 0, 0), 90.0)))
    row = [p.id for p in hand.session.project.parts].index("part-1")
    hand.session.set_time(2.0)
    assert hand.session.poses()[row][:3, 3] == pytest.approx([0, 100, 0], abs=1e-6)


def test_a_point_is_inserted_at_a_typed_distance(hand):
    hand.session.select("path-1")
    length = path_curve(hand.session.path).length
    count = len(hand.session.path.shape.points)
    hand.type_in("Insert at station", f"{0.4 * length:.3f}")
    assert len(hand.session.path.shape.points) == count + 1
    assert path_curve(hand.session.path).point_stations()[hand.session.point] == pytest.approx(0.4 * length, abs=0.01)
    hand.type_in("Insert at station", "99 m")
    assert "within it" in hand.window.card.fault.text()


def test_ends_are_cut_by_angle_and_by_length(hand):
    hand.session.edit("p", lambda p: _with(p, EllipseShape((0, 0, 0), 300, 300)))
    hand.session.select("path-1")
    hand.type_in("To °", "90")
    assert path_curve(hand.session.path).length == pytest.approx(150 * np.pi)
    hand.type_in("From", "100")
    assert path_curve(hand.session.path).length == pytest.approx(150 * np.pi - 100)


def test_a_shot_shows_paths_in_the_lens_only_when_asked(hand):
    hand.session.select(hand.session.project.shots[0].id)
    hand.stage.draw()
    assert not hand.stage.lens_view.paths.actors
    hand.window.card.open_section("Picture")
    hand.field("Paths").click()
    hand.stage.draw()
    assert len(hand.stage.lens_view.paths.actors) == len(hand.session.project.paths)


# files


def test_a_drawing_is_brought_in_with_its_unit_and_written_again(hand, tmp_path):
    document = ezdxf.new()
    document.header["$INSUNITS"] = 5
    document.modelspace().add_arc((0, 0, 0), 10, 0, 90, dxfattribs={"layer": "Aisle"})
    document.modelspace().add_text("a word")
    document.saveas(tmp_path / "plan.dxf")
    hand.window.bringing.add_paths([tmp_path / "plan.dxf"])
    hand.qtbot.waitUntil(lambda: any(p.name == "Aisle" for p in hand.session.project.paths), timeout=60_000)
    assert path_curve(hand.session.path).length == pytest.approx(100 * np.pi / 2)
    assert "TEXT" in hand.window.bringing.report.text.toPlainText()
    hand.window.bringing.report.close()
    hand.window.bringing.write_path(tmp_path / "back.dxf")
    assert len(ezdxf.readfile(tmp_path / "back.dxf").modelspace()) == 1


def test_the_unit_of_a_table_is_asked(hand, tmp_path):
    (tmp_path / "aisle.csv").write_text("x,y,z\n0,0,0\n1,0,0\n1,2,0\n")
    seen = []

    def answer():
        widget = QApplication.activeModalWidget()
        if isinstance(widget, UnitDialog):
            seen.append(widget)
            widget.fields[0].setCurrentIndex(widget.fields[0].findData("m"))
            widget.accept()
            return
        QTimer.singleShot(50, answer)

    QTimer.singleShot(50, answer)
    hand.window.bringing.add_paths([tmp_path / "aisle.csv"])
    hand.qtbot.waitUntil(lambda: any(p.name == "aisle" for p in hand.session.project.paths), timeout=60_000)
    assert seen
    assert hand.session.path.shape.points[2].position == (1000, 2000, 0)
