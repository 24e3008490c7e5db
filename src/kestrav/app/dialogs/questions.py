"""Dialogs: rendering, and asking about unsaved changes."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import (
    QAbstractButton,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QMessageBox,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kestrav.render.formats import EXR, PNG, Bits, with_ending


def answered(dialog: QDialog) -> bool:
    """Show a dialog until it is answered: whether it was accepted. The window keeps it no longer than what is done with the answer."""
    try:
        return dialog.exec() == QDialog.DialogCode.Accepted
    finally:
        dialog.deleteLater()


def ask_overwrite(parent: QWidget | None, target: Path, replaced: str = "") -> bool:
    """Whether to overwrite what is there; ``replaced`` tells what of a folder that would be."""
    box = QMessageBox(parent)
    box.setWindowTitle("Overwrite?")
    box.setText(f"“{target.name}” is there already.")
    what = f"It holds {replaced}, which will be replaced" if replaced else "It will be replaced"
    box.setInformativeText(f"{what} when the new one is finished.")
    yes = box.addButton("Overwrite", QMessageBox.ButtonRole.AcceptRole)
    box.addButton("Cancel", QMessageBox.ButtonRole.RejectRole)
    answered(box)
    return box.clickedButton() is yes


_STILLS: tuple[tuple[Bits, str], ...] = (
    (8, "PNG picture, 8 bits (*.png)"),
    (16, "PNG picture, 16 bits (*.png)"),
    (32, "OpenEXR with passes (*.exr)"),
)


def ask_picture(parent: QWidget | None, title: str, target: Path, *, deep: bool = True) -> tuple[Path, Bits] | None:
    """Where a picture goes and how many bits its colours have: 8 or, if it can be ``deep``, 16 or 32; None where it is not wanted."""
    kinds = {text: bits for bits, text in (_STILLS if deep else _STILLS[:1])}
    name, kind = QFileDialog.getSaveFileName(parent, title, str(target), ";;".join(kinds))
    if not name:
        return None
    chosen = Path(name)
    # an ending that is typed counts before the kind that is shown
    bits = 32 if deep and chosen.suffix.lower() == EXR else kinds.get(kind, 8)
    whole = with_ending(chosen, EXR if bits == 32 else PNG)
    if whole != chosen and whole.exists() and not ask_overwrite(parent, whole):
        return None
    return whole, bits


def ask_unsaved(parent: QWidget, name: str) -> str:
    """Ask what to do with unsaved changes: ``save``, ``leave`` or ``stay``."""
    box = QMessageBox(parent)
    box.setObjectName("unsaved")
    box.setWindowTitle("Unsaved changes")
    box.setText(f"“{name}” has changes that are not saved.")
    save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
    leave = box.addButton("Don't save", QMessageBox.ButtonRole.DestructiveRole)
    stay = box.addButton("Cancel", QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(save)
    box.setEscapeButton(stay)
    answered(box)
    answers: dict[QAbstractButton, str] = {save: "save", leave: "leave"}
    return answers.get(box.clickedButton(), "stay")


def tell(parent: QWidget | None, title: str, text: str) -> None:
    """Say what went wrong."""
    box = QMessageBox(parent)
    box.setObjectName("fault")
    box.setWindowTitle(title)
    box.setText(text[:1].upper() + text[1:])
    box.addButton("Close", QMessageBox.ButtonRole.AcceptRole)
    answered(box)


def recent_files() -> list[Path]:
    """Files opened lately, newest first, that are still there."""
    names: Any = QSettings().value("recent", [])
    names = [names] if isinstance(names, str) else list(names or [])
    return [Path(n) for n in names if Path(n).exists()]


def remember_file(file: Path) -> None:
    """Put a file first among the recent ones."""
    names = [str(file.resolve()), *(str(f) for f in recent_files())]
    QSettings().setValue("recent", list(dict.fromkeys(names))[:8])


def _asking(parent: QWidget | None, title: str, text: str) -> tuple[QDialog, QVBoxLayout, QDialogButtonBox]:
    dialog = QDialog(parent)
    dialog.setWindowTitle(title)
    column = QVBoxLayout(dialog)
    column.setContentsMargins(16, 14, 16, 14)
    column.setSpacing(10)
    column.addWidget(QLabel(text))
    buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
    buttons.accepted.connect(dialog.accept)
    buttons.rejected.connect(dialog.reject)
    return dialog, column, buttons


def ask_changed(parent: QWidget, file: Path, theirs: str) -> str:
    """Ask what to do with a file that somebody else has saved meanwhile: ``as``, ``load``, ``replace`` or nothing."""
    box = QMessageBox(parent)
    box.setObjectName("changed elsewhere")
    box.setWindowTitle("Changed by another program")
    box.setText(f"“{file.name}” was saved by another program or window since it was opened here.")
    box.setInformativeText(f"What it holds now: {theirs}.")
    keep = box.addButton("Save as …", QMessageBox.ButtonRole.AcceptRole)
    load = box.addButton("Load theirs", QMessageBox.ButtonRole.DestructiveRole)
    replace = box.addButton("Replace", QMessageBox.ButtonRole.DestructiveRole)
    box.addButton("Cancel", QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(keep)
    answered(box)
    return {keep: "as", load: "load", replace: "replace"}.get(box.clickedButton(), "")  # type: ignore[call-overload]


class ListDialog(QDialog):
    """A list of things with data, of which one is chosen; a note below it, and buttons: what is left alone at the left, the main one last."""

    def __init__(self, parent: QWidget, title: str, head: str, entries: Iterable[tuple[str, str, object]]) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.resize(640, 320)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 12)
        label = QLabel(head)
        label.setObjectName("title")
        column.addWidget(label)
        self.list = QListWidget()
        self.list.setAccessibleName(title.lower())
        self.list.setWordWrap(True)
        for text, tip, data in entries:
            item = QListWidgetItem(text)
            item.setToolTip(tip)
            item.setData(Qt.ItemDataRole.UserRole, data)
            self.list.addItem(item)
        column.addWidget(self.list, 1)
        self.note = QLabel()
        self.note.setObjectName("muted")
        self.note.setWordWrap(True)
        column.addWidget(self.note)
        self._foot = QHBoxLayout()
        column.addLayout(self._foot)
        self.list.setCurrentRow(0)

    def chosen(self) -> object:
        """The data of what is chosen, or None."""
        item = self.list.currentItem()
        return None if item is None else item.data(Qt.ItemDataRole.UserRole)

    def add_buttons(self, *buttons: tuple[str, str, Callable[[], object]]) -> list[QPushButton]:
        """Buttons by text, tooltip and what they do; tells them."""
        added = []
        for number, (text, tip, do) in enumerate(buttons):
            button = QPushButton(text)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, do=do: do())
            self._foot.addWidget(button)
            if number == 0:
                self._foot.addStretch(1)
            added.append(button)
        added[-1].setObjectName("main")
        added[-1].setDefault(True)
        return added


def ask_yes(parent: QWidget | None, title: str, text: str, yes: str) -> bool:
    """Whether to do something, which the button ``yes`` says."""
    box = QMessageBox(parent)
    box.setObjectName("question")
    box.setWindowTitle(title)
    box.setText(text[:1].upper() + text[1:])
    chosen = box.addButton(yes, QMessageBox.ButtonRole.AcceptRole)
    box.addButton("Cancel", QMessageBox.ButtonRole.RejectRole)
    answered(box)
    return box.clickedButton() is chosen


def ask_remedy(parent: QWidget | None, title: str, text: str, remedies: Sequence[tuple[str, str]]) -> int | None:
    """Say what did not work, and offer what would help as buttons with tooltips; tells which was taken, or none."""
    box = QMessageBox(parent)
    box.setObjectName("question")
    box.setWindowTitle(title)
    box.setText(text[:1].upper() + text[1:])
    buttons = []
    for label, tip in remedies:
        button = box.addButton(label, QMessageBox.ButtonRole.AcceptRole)
        button.setToolTip(tip)
        buttons.append(button)
    close = box.addButton("Close", QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(close)
    answered(box)
    clicked = box.clickedButton()
    return next((number for number, button in enumerate(buttons) if button is clicked), None)


def ask_choice(parent: QWidget | None, title: str, text: str, options: list[tuple[str, str]]) -> str | None:
    """One of named options, or none when it is given up."""
    dialog, column, buttons = _asking(parent, title, text)
    field = QComboBox()
    for key, shown in options:
        field.addItem(shown, key)
    column.addWidget(field)
    column.addWidget(buttons)
    return field.currentData() if answered(dialog) else None
