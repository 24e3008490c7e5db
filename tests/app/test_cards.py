"""The card: sections, values stepped and dragged, several things at once, settings carried from one to another."""

import pytest
from PySide6.QtCore import QPoint, QPointF, QSettings, Qt
from PySide6.QtGui import QGuiApplication, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel

from kestrav.app.widgets.form import Form
from kestrav.app.widgets.quantity_edit import PIXELS, DragLabel
from kestrav.app.widgets.sheet import Sheet, merged, shared_settings
from kestrav.core.camera.orbits import add_orbit
from kestrav.core.document.edits import update
from kestrav.core.document.lookup import get
from kestrav.core.editing.run_making import add_run


def sheet_of(length, kind="a", shown=True, taken=None):
    """A sheet with a field of several sorts; what is changed goes into ``taken``."""
    taken = {} if taken is None else taken

    def take(name):
        return lambda value: taken.__setitem__(name, value)

    sheet = Sheet(lambda _title, _first: False)
    sheet.section("First")
    sheet.text("Name", "it", take("Name"), "tip")
    sheet.number("Length", length, "mm", take("Length"), "tip")
    sheet.vector("Place", (1.0, length, 3.0), "mm", take("Place"), "tip")
    sheet.section("Second")
    sheet.choice("Kind", [("a", "first"), ("b", "second")], kind, take("Kind"), "tip")
    sheet.check("Shown", "visible", shown, take("Shown"), "tip")
    sheet.choice("Move along", [("", "choose …"), ("p", "path")], "", take("Move along"), "tip")
    sheet.section("Third")
    sheet.buttons(("Do", lambda: None, "tip"))
    return sheet


def at_once(_label, edits):
    edits()


def test_a_sheet_of_several_shows_what_they_share_and_changes_all():
    one, two = {}, {}
    whole = merged([sheet_of(5.0, "a", True, one), sheet_of(7.0, "a", False, two)], at_once)
    assert whole.labels() == ["Length", "Place", "Kind", "Shown"]
    assert [row.label for row in whole.rows if type(row).__name__ == "Section"] == ["First", "Second"]
    assert whole.field("Length").value is None and whole.field("Kind").value == "a"
    assert whole.field("Place").values == (1.0, None, 3.0) and whole.field("Shown").value is None
    whole.field("Length").change(9.0)
    whole.field("Place").change((4.0, None, 3.0))
    assert one == {"Length": 9.0, "Place": (4.0, 5.0, 3.0)}
    assert two == {"Length": 9.0, "Place": (4.0, 7.0, 3.0)}


def test_options_that_one_of_several_lacks_are_left_out():
    other = Sheet()
    other.choice("Kind", [("b", "second"), ("c", "third")], "b", lambda _: None, "tip")
    whole = merged([sheet_of(1.0), other], at_once)
    assert [row.options for row in whole.rows if row.label == "Kind"] == [(("b", "second"),)]


def test_settings_to_paste_are_those_that_differ():
    pairs = shared_settings(sheet_of(5.0, "b"), sheet_of(7.0, "a"))
    assert [(mine.label, theirs.label) for mine, theirs in pairs] == [("Length",) * 2, ("Place",) * 2, ("Kind",) * 2]


def test_a_check_that_differs_is_set_for_all_by_a_click(dressed, qtbot):
    one, two = {}, {}
    form = Form(merged([sheet_of(5.0, shown=True, taken=one), sheet_of(5.0, shown=False, taken=two)], at_once))
    qtbot.addWidget(form)
    form.show()
    field = form.field("Shown")
    assert field.checkState() == Qt.CheckState.PartiallyChecked
    QTest.mouseClick(field, Qt.MouseButton.LeftButton, pos=QPoint(8, field.height() // 2))
    assert one == two == {"Shown": True}
    form.show_sheet(sheet_of(5.0, shown=True, taken=one))
    QTest.mouseClick(field, Qt.MouseButton.LeftButton, pos=QPoint(8, field.height() // 2))
    assert one == {"Shown": False}


def test_a_form_keeps_its_fields_and_what_is_typed(dressed, qtbot):
    form = Form(sheet_of(5.0))
    qtbot.addWidget(form)
    form.show()
    form.activateWindow()
    qtbot.waitUntil(form.isActiveWindow, timeout=60_000)
    field = form.field("Length")
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "12")
    taken = {}
    form.show_sheet(sheet_of(6.0, taken=taken))
    assert form.field("Length") is field and field.text() == "12" and field.hasFocus()
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert taken == {"Length": 12.0}
    form.show_sheet(sheet_of(7.0))
    assert field.value == 7.0


def test_the_tab_key_goes_through_the_fields_in_their_order(dressed, qtbot):
    form = Form(sheet_of(5.0))
    qtbot.addWidget(form)
    # a row that comes in between later
    sheet = sheet_of(5.0)
    sheet.rows.insert(3, Sheet().rows or sheet.rows.pop(2))
    form.show_sheet(sheet)
    form.show()
    form.activateWindow()
    qtbot.waitUntil(form.isActiveWindow, timeout=60_000)
    form.field("Name").setFocus()
    order = []
    for _ in range(5):
        QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
        order.append(QApplication.focusWidget().objectName())
    places = ["field-Place x", "field-Place y", "field-Place z"]
    assert order == [*places, "field-Length", "section"]


def test_values_are_stepped_coarse_and_fine_and_that_is_one_edit(hand):
    hand.session.select("run-1")
    field = hand.field("Start")
    field.setFocus()
    before, count = field.value, hand.session.undo.count()
    for keys in (
        Qt.KeyboardModifier.NoModifier,
        Qt.KeyboardModifier.ShiftModifier,
        Qt.KeyboardModifier.ControlModifier,
    ):
        QTest.keyClick(field, Qt.Key.Key_Up, keys)
    assert get(hand.session.project, "run-1").start == pytest.approx(before + 0.1 + 1.0 + 0.01)
    assert hand.session.undo.count() == count + 1
    # after a rest another step is another edit
    hand.qtbot.waitUntil(lambda: not hand.session.stepping, timeout=10_000)
    QTest.keyClick(field, Qt.Key.Key_Down)
    assert hand.session.undo.count() == count + 2
    hand.session.undo.undo()
    hand.session.undo.undo()
    assert get(hand.session.project, "run-1").start == pytest.approx(before)


def test_stepping_ends_with_the_field_that_was_stepped(hand):
    hand.session.select("run-1")
    field = hand.field("Start")
    field.setFocus()
    QTest.keyClick(field, Qt.Key.Key_Up)
    assert hand.session.stepping
    hand.session.select("part-1")
    assert not hand.session.stepping


def wheel(field, up, keys=Qt.KeyboardModifier.NoModifier):
    place = QPointF(5, 5)
    event = QWheelEvent(
        place,
        QPointF(field.mapToGlobal(QPoint(5, 5))),
        QPoint(),
        QPoint(0, 120 if up else -120),
        Qt.MouseButton.NoButton,
        keys,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(field, event)


def test_the_wheel_steps_a_field_with_the_keys_and_no_other(hand):
    hand.session.select("run-1")
    field, other = hand.field("Start"), hand.field("Arrival")
    field.setFocus()
    start, arrival = field.value, other.value
    wheel(field, True)
    # what ends with it follows; the wheel over that itself, without the keys, does nothing
    assert (field.value, other.value) == (pytest.approx(start + 0.1), pytest.approx(arrival + 0.1))
    wheel(other, True)
    assert other.value == pytest.approx(arrival + 0.1)


def test_a_value_is_dragged_on_its_label(hand):
    hand.session.select("run-1")
    field = hand.field("Start")
    label = next(one for one in hand.window.card.form.findChildren(DragLabel) if one.text() == "Start")
    before, count = field.value, hand.session.undo.count()
    middle = label.rect().center()
    QTest.mousePress(label, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, middle)
    for steps in range(1, 8):
        QTest.mouseMove(label, middle + QPoint(steps * PIXELS, 0))
        hand.qtbot.wait(30)
    QTest.mouseRelease(label, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, middle)
    assert get(hand.session.project, "run-1").start == pytest.approx(before + 0.7)
    assert hand.session.undo.count() == count + 1


def test_a_value_is_copied_from_one_thing_and_pasted_to_another(hand):
    row = lambda name: hand.field(name).parentWidget()  # noqa: E731
    hand.session.select("part-1")
    hand.type_in("Position x", "3*45 mm")
    assert hand.session.item.placement.position[0] == pytest.approx(135)
    QGuiApplication.clipboard().setText(row("Position x").text_of())
    hand.session.select("part-2")
    row("Position x").paste_from_clipboard()
    assert hand.session.item.placement.position[0] == pytest.approx(135)
    QGuiApplication.clipboard().setText("nothing of the kind")
    row("Position x").paste_from_clipboard()
    assert "not pasted" in hand.window.card.fault.text().lower()


def two_runs(passing):
    project = add_run(passing.project, "part-2", passing.project.paths[0].id)
    return type(passing)(update(project, project.runs[-1].id, start=3.0), passing.meshes)


def test_several_runs_are_edited_at_once(make_hand, passing):
    hand = make_hand(two_runs(passing))
    first, second = (run.id for run in hand.session.project.runs)
    hand.session.select_several([first, second])
    assert hand.window.card.title.text() == "2 runs"
    field = hand.field("Start")
    assert field.differs and field.placeholderText() == "different"
    count = hand.session.undo.count()
    hand.type_in("Start", "1.5")
    assert [run.start for run in hand.session.project.runs] == [1.5, 1.5]
    assert hand.session.undo.count() == count + 1
    hand.session.undo.undo()
    assert [run.start for run in hand.session.project.runs] == [0.0, 3.0]
    # what one of them refuses none takes
    hand.type_in("Duration", "-1")
    assert hand.window.card.fault.isVisible()
    assert all(run.duration is None or run.duration > 0 for run in hand.session.project.runs)
    hand.press("Delete all")
    assert not hand.session.project.runs


def test_several_things_are_chosen_in_the_contents(make_hand, passing):
    hand = make_hand(two_runs(passing))
    first, second = (run.id for run in hand.session.project.runs)
    contents = hand.window.contents
    contents.choose(first)
    flags = contents.tree.selectionModel().SelectionFlag.Select
    contents.tree.selectionModel().select(contents.model.at(second), flags)
    assert set(hand.session.selected_ids) == {first, second}
    hand.key(Qt.Key.Key_Delete)
    assert not hand.session.project.runs


def test_parts_selected_together_show_what_they_share(hand):
    hand.session.select_parts(["part-1", "part-2"])
    assert hand.window.card.title.text() == "2 parts"
    hand.choose("Finish", "shelf/Glass, clear")
    parts = [get(hand.session.project, i) for i in ("part-1", "part-2")]
    assert {part.finish for part in parts} == {"finish-1"}
    hand.type_in("Position z", "40")
    parts = [get(hand.session.project, i) for i in ("part-1", "part-2")]
    assert [part.placement.position[2] for part in parts] == [40.0, 40.0]


def test_all_settings_go_from_one_camera_to_another(make_hand, passing):
    project = passing.project
    for offset in (300.0, 500.0):
        project = add_orbit(project, passing.meshes, ["part-2"], offset=offset, duration=2.0)
    one, two = (camera.id for camera in project.cameras)
    project = update(project, one, focal_length=85.0, sensor_width=24.0)
    hand = make_hand(type(passing)(project, passing.meshes))
    card = hand.window.card
    hand.session.select(one)
    card.copy_settings()
    hand.session.select(two)
    count, name = hand.session.undo.count(), hand.session.item.name
    card.paste_settings()
    assert (hand.session.item.focal_length, hand.session.item.sensor_width) == (85.0, 24.0)
    assert hand.session.item.name == name and hand.session.undo.count() == count + 1
    hand.session.select("part-1")
    card.paste_settings()
    assert "same kind" in card.fault.text()


def test_sections_fold_and_stay_so(hand):
    card = hand.window.card
    hand.session.select("run-1")
    assert card.form.field("Passes") is None
    card.open_section("Portion and passes")
    assert card.form.field("Passes") is not None
    hand.session.select("part-1")
    hand.session.select("run-1")
    assert card.form.field("Passes") is not None
    card.fold_all(True)
    assert card.form.field("Name") is None
    heads = [label.text() for label in card.form.findChildren(QLabel) if label.objectName() == "muted"]
    assert heads
    card.fold_all(False)
    assert card.form.field("Name") is not None and card.form.field("Speed profile") is not None
    assert QSettings().value("card/Run/Speed") == "open"


def test_what_is_typed_goes_to_the_thing_it_was_typed_for(hand):
    hand.session.select("part-1")
    field = hand.field("Name")
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "Pillar")
    hand.session.select("part-2")
    assert get(hand.session.project, "part-1").name == "Pillar"
    assert get(hand.session.project, "part-2").name != "Pillar"


def test_what_acts_is_neither_stepped_nor_given_to_others(hand):
    taken = []
    sheet = Sheet(lambda _title, _first: False)
    sheet.number("Repeat", 1.0, "times", taken.append, "tip", acts=True)
    sheet.number("Length", 5.0, "mm", taken.append, "tip")
    sheet.number("Start", 2.0, "s", taken.append, "tip", own=True)
    assert merged([sheet, sheet], at_once).labels() == ["Length", "Start"]
    other = Sheet()
    for label, unit in (("Repeat", "times"), ("Length", "mm"), ("Start", "s")):
        other.number(label, 9.0, unit, taken.append, "tip")
    assert [mine.label for mine, _ in shared_settings(sheet, other)] == ["Length"]
    # in the window: a path is repeated by what is typed, and not once more by each turn of the wheel
    hand.session.select(hand.session.project.paths[0].id)
    field = hand.field("Repeat")
    field.setFocus()
    QTest.keyClick(field, Qt.Key.Key_Up)
    wheel(field, True)
    assert hand.session.undo.count() == 0
    assert not any(label.text() == "Repeat" for label in hand.window.card.form.findChildren(DragLabel))


def test_each_step_counts_from_what_the_one_before_has_made(hand):
    # one size of a part scales all of it, by what it was
    hand.session.select("part-1")
    field = hand.field("Size x")
    before = field.value
    field.setFocus()
    for _ in range(5):
        QTest.keyClick(field, Qt.Key.Key_Up)
    sizes = [hand.field(f"Size {axis}").value for axis in "xyz"]
    assert sizes == pytest.approx([before + 5.0] * 3, rel=1e-9)


def test_pasted_settings_leave_a_part_where_it_is(hand):
    card, session = hand.window.card, hand.session
    session.select("part-1")
    hand.choose("Finish", "shelf/Glass, clear")
    card.copy_settings()
    place = get(session.project, "part-2").placement
    session.select_parts(["part-2", "part-1"])
    card.paste_settings()
    assert get(session.project, "part-2").finish == "finish-1" and get(session.project, "part-2").placement == place
    hand.qtbot.wait(60)
    assert card.title.text() == "2 parts"
