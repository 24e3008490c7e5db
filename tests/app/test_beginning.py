"""The empty window, and starting points made from it, by clicks in the real window."""

import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QPushButton, QToolButton
from shapes import DEMO, make_project

from kestrav.app.dialogs.asking import PlanDialog, PreviewedDialog
from kestrav.app.dialogs.questions import recent_files
from kestrav.app.shell import welcome
from kestrav.core.files import project_file

TROLLEY = DEMO.parent / "trolley.step"


@pytest.fixture
def empty(make_hand, tmp_path, monkeypatch):
    monkeypatch.setattr(welcome, "_picture_file", lambda file: tmp_path / "pictures" / f"{file.stem}.png")
    return make_hand(make_project({}))


@pytest.fixture
def answered(monkeypatch):
    """Dialogs of starting points are accepted as they come; which ones there were, by their title."""
    shown = []

    def accept(dialog):
        shown.append((dialog.windowTitle(), dialog.request, dialog.summary()))
        return 1

    monkeypatch.setattr(PreviewedDialog, "exec", accept)
    return shown


def button(hand, name):
    return next(b for b in hand.window.welcome.findChildren(QPushButton) if name in (b.text(), b.accessibleName()))


def click(widget):
    QTest.mouseClick(widget, Qt.MouseButton.LeftButton)


def test_an_empty_project_says_how_to_begin_and_any_other_does_not(empty, passing):
    card = empty.window.welcome
    assert card.isVisible() and empty.stage.rect().contains(card.geometry())
    # nothing of it is cut
    assert all(card.rect().contains(b.geometry()) for b in card.findChildren(QPushButton) if b.isVisible())
    empty.session.open(passing.project, passing.meshes, None)
    assert not card.isVisible()
    empty.window.documents.new()
    assert card.isVisible()


def test_the_demo_opens_as_a_copy(empty):
    click(button(empty, "Open the demo"))
    assert empty.session.project.parts and empty.session.file is None
    assert not empty.window.welcome.isVisible()


def test_projects_saved_before_are_shown_with_their_picture(empty, passing, tmp_path):
    file = tmp_path / "Gate.kestrav"
    empty.session.open(passing.project, passing.meshes, None)
    empty.stage.draw()
    assert empty.window.documents._save_to(file)
    assert recent_files()[0] == file and welcome.small_picture(file) is not None
    empty.window.documents.new()
    (shown,) = [b for b in empty.window.welcome.findChildren(QToolButton) if b.accessibleName() == "Open Gate"]
    assert not shown.icon().isNull()
    click(shown)
    assert empty.session.file == file


@pytest.mark.parametrize("plan", ["Turntable", "Drive past", "Wheel demonstrator", "Look around a product"])
def test_a_plan_begins_with_a_product_and_ends_with_a_shot(empty, answered, monkeypatch, plan):
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([str(TROLLEY)], ""))
    click(button(empty, plan))
    empty.qtbot.waitUntil(lambda: bool(answered) and empty.window.job is None, timeout=120_000)
    ((title, _, told),) = answered
    assert told and title
    project = empty.session.project
    assert len(project.shots) == 1 and len(project.cameras) == 1
    empty.checked()
    assert not [
        f.title for f in empty.window.checking.result.findings if f.rule.startswith(("subject", "pan", "camera"))
    ]
    # one step back is the product alone
    empty.session.undo.undo()
    assert empty.session.project.parts and not empty.session.project.shots


def test_a_plan_asked_for_again_begins_where_it_was(make_hand, passing, monkeypatch):
    hand = make_hand(passing)
    asked = []

    def answer(dialog):
        asked.append(dialog.request.duration)
        dialog.set(duration=7.5)
        # accepted the first time, left the second
        dialog.accept() if len(asked) == 1 else dialog.reject()
        return dialog.result()

    monkeypatch.setattr(PlanDialog, "exec", answer)
    for _ in range(3):
        hand.window.planning.turntable()
        hand.session.undo.setIndex(0)
    assert asked == [12.0, 7.5, 7.5]


def test_a_plan_is_left_where_no_file_is_chosen(empty, answered, monkeypatch):
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([], ""))
    click(button(empty, "Turntable"))
    assert not answered and not empty.session.project.parts


def test_a_wheel_is_not_made_of_what_is_not_round(make_hand, passing, monkeypatch):
    from kestrav.app.actions import plan_actions

    said = []
    monkeypatch.setattr(plan_actions, "tell", lambda _, title, text: said.append((title, text)))
    hand = make_hand(passing)
    hand.window.planning.wheel()
    assert said and said[0][0] == "No wheel found"


def drop(window, *files):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(f)) for f in files])
    middle = QPointF(window.rect().center())
    event = QDropEvent(
        middle, Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)


def test_a_folder_is_dropped_as_what_can_be_read_of_it(empty, tmp_path, monkeypatch):
    from kestrav.app.shell import window

    said = []
    monkeypatch.setattr(window, "tell", lambda _, title, text: said.append(text))
    (tmp_path / "notes").mkdir()
    (tmp_path / "notes" / "read me.txt").write_text("nothing of the kind")
    drop(empty.window, tmp_path / "notes")
    assert "notes" in said[0] and not empty.session.project.parts
    box = make_project({}).project
    project_file.save(box, {}, tmp_path / "notes" / "box.kestrav")
    drop(empty.window, tmp_path / "notes")
    assert empty.session.file == tmp_path / "notes" / "box.kestrav"


def test_of_a_folder_without_end_only_the_first_files_are_looked_at(tmp_path, monkeypatch):
    from kestrav.app.actions import import_actions

    monkeypatch.setattr(import_actions, "MOST_LOOKED_AT", 40)
    monkeypatch.setattr(import_actions, "MOST_DROPPED", 10)
    for k in range(60):
        (tmp_path / f"{k:02d}").mkdir()
        (tmp_path / f"{k:02d}" / f"part {k:02d}.STL").write_text("")
    found = import_actions.files_in([tmp_path, tmp_path / "07" / "part 07.STL"])
    assert len(found) == 11 and found[:10] == sorted(found[:10]) and found[-1].name == "part 07.STL"
