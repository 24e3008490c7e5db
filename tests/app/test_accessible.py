"""Names and roles for assistive technology: every control of the window and of its dialogs has them."""

import pytest
from PySide6.QtGui import QAccessible
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QComboBox,
    QLineEdit,
    QPlainTextEdit,
    QTextBrowser,
    QWidget,
)

from kestrav.app.dialogs.camera_dialogs import OrbitDialog
from kestrav.app.dialogs.extraction_dialog import ExtractionDialog
from kestrav.app.film.render_dialog import RenderDialog
from kestrav.app.shell.commands import ShortcutsDialog
from kestrav.app.shell.edit_list import EditListDialog
from kestrav.app.shell.messages import MessagesDialog
from kestrav.core.extraction.search import ExtractionRequest

CONTROLS = (QAbstractButton, QLineEdit, QComboBox, QAbstractItemView, QPlainTextEdit, QTextBrowser)
# parts of Qt's own controls, which these speak for
INNER = ("qt_spinbox_lineedit", "qt_toolbar_ext_button")


def nameless(root):
    """Controls below a widget that assistive technology cannot name or tell the kind of."""
    found = []
    for kind in CONTROLS:
        for control in root.findChildren(kind):
            if control.objectName() in INNER or not control.isVisibleTo(root):
                continue
            if (
                isinstance(control.parentWidget(), (QComboBox, QAbstractItemView))
                or control.window() is not root.window()
            ):
                continue
            told = QAccessible.queryAccessibleInterface(control)
            if told is None or not told.text(QAccessible.Text.Name).strip() or told.role() == QAccessible.Role.NoRole:
                found.append(
                    f"{type(control).__name__} “{control.objectName()}” in {type(control.parentWidget()).__name__}"
                )
    return sorted(set(found))


@pytest.fixture
def full(make_hand, demo):
    return make_hand(demo)


KINDS = ("parts", "paths", "runs", "cameras", "shots", "lights", "wheels", "rotations", "attachments")


def test_every_control_of_the_window_has_a_name_and_a_role(full):
    assert nameless(full.window) == []
    for kind in KINDS:
        full.session.select(getattr(full.session.project, kind)[0].id)
        full.window.card.fold_all(False)
        assert nameless(full.window) == [], kind


def test_every_control_of_a_dialog_has_a_name_and_a_role(full):
    window, project, meshes = full.window, full.session.project, full.session.meshes
    part = next(p.id for p in project.parts if p.name == "Fan cassette")
    dialogs = [
        ExtractionDialog(window, project, [part], ExtractionRequest()),
        OrbitDialog(window, project, meshes, [part], full.stage.viewpoint.position, 0.0, lambda _: None),
        RenderDialog(window, project, meshes, project.shots[0], full.session.file or __import__("pathlib").Path()),
        ShortcutsDialog(window, window.commands),
        EditListDialog(window, full.session),
        MessagesDialog(window, window.messages),
    ]
    for dialog in dialogs:
        dialog.show()
        assert nameless(dialog) == [], type(dialog).__name__
        dialog.close()


def test_the_tab_key_reaches_every_room(full):
    window = full.window
    full.session.select(full.session.project.runs[0].id)
    start = window.contents.search
    start.setFocus()
    reached, here = set(), start
    for _ in range(600):
        here = here.nextInFocusChain()
        if here is start:
            break
        reached.add(here)
    rooms = (window.header, window.contents, window.findings, window.card, window.timeline, window.stage)
    for room in rooms:
        assert any(isinstance(w, QWidget) and room.isAncestorOf(w) for w in reached), type(room).__name__
