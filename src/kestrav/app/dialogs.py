"""Dialogs: rendering, and asking about unsaved changes."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMessageBox,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.fields import LABEL_WIDTH, Form, QuantityEdit
from kestrav.core.document.records import Project, Shot
from kestrav.core.document.shots import frame_count
from kestrav.core.document.validation import check_shot
from kestrav.core.errors import BadInput

FORMATS = (("mp4", "film, H.264 in MP4"), ("png", "PNG pictures in a folder"))
SIZES = ((640, 360), (1280, 720), (1920, 1080), (2560, 1440), (3840, 2160))


class RenderDialog(QDialog):
    """What to render, how, and to where."""

    def __init__(self, parent: QWidget | None, project: Project, shot: Shot, folder: Path) -> None:
        super().__init__(parent)
        self.setWindowTitle("Render a shot")
        self.setMinimumWidth(430)
        self.project, self.shot, self.kind = project, shot, "mp4"
        self.folder = folder
        column = QVBoxLayout(self)
        column.setContentsMargins(4, 4, 4, 10)
        title = QLabel("Render a shot")
        title.setObjectName("title")
        title.setContentsMargins(12, 8, 12, 0)
        column.addWidget(title)
        self.holder = QVBoxLayout()
        column.addLayout(self.holder)
        row = QHBoxLayout()
        row.setContentsMargins(12, 0, 12, 0)
        self.target = QLineEdit()
        self.target.setObjectName("render-target")
        self.target.setAccessibleName("Where to")
        self.target.setToolTip("The file or folder to write")
        browse = QPushButton("Choose …")
        browse.setToolTip("Choose where to write")
        browse.clicked.connect(self._browse)
        where = QLabel("Where to")
        where.setObjectName("muted")
        where.setMinimumWidth(LABEL_WIDTH + 2)
        row.addWidget(where)
        row.addWidget(self.target, 1)
        row.addWidget(browse)
        column.addLayout(row)
        self.fault = QLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.fault.hide()
        column.addWidget(self.fault)
        buttons = QDialogButtonBox()
        start = buttons.addButton("Render", QDialogButtonBox.ButtonRole.AcceptRole)
        start.setObjectName("main")
        start.setToolTip("Start; the window stays usable")
        buttons.addButton("Close", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self._start)
        buttons.rejected.connect(self.reject)
        buttons.setContentsMargins(12, 4, 12, 0)
        column.addWidget(buttons)
        self._build()
        self._name_target()

    def _build(self) -> None:
        while self.holder.count():
            self.holder.takeAt(0).widget().deleteLater()
        form, shot = Form(), self.shot
        form.refused.connect(self._complain)
        form.choice("Shot", [(s.id, s.name) for s in self.project.shots], shot.id, self._pick, "Which shot to render")
        form.choice("As", FORMATS, self.kind, self._set_kind, "A film, or numbered pictures")
        size = f"{shot.width}x{shot.height}"
        sizes = [(f"{w}x{h}", f"{w} × {h}") for w, h in SIZES]
        if size not in [s[0] for s in sizes]:
            sizes.insert(0, (size, f"{shot.width} × {shot.height}"))
        form.choice("Size", sizes, size, self._set_size, "Picture size in pixels")
        form.number("Width", shot.width, "px", lambda v: self._change(width=round(v)), "Any other width", 0, 2)
        form.number("Height", shot.height, "px", lambda v: self._change(height=round(v)), "Any other height", 0, 2)
        form.number("Frame rate", shot.fps, "fps", lambda v: self._change(fps=v), "Frames a second", 0)
        form.number("From", shot.start, "s", lambda v: self._change(start=v), "First moment", 3, 0.1)
        form.number("To", shot.end, "s", lambda v: self._change(end=v), "End; its frame is not filmed", 3, 0.1)
        form.text("Background", shot.background, lambda v: self._change(background=v.strip()), "Colour as #rrggbb")
        form.worked(
            f"({shot.end:.2f} − {shot.start:.2f})\u2009s × {shot.fps:g} fps = <b>{frame_count(shot)} frames</b>"
        )
        self.holder.addWidget(form)

    def _name_target(self) -> None:
        safe = (
            "".join(c if c.isalnum() or c in "-_ " else "-" for c in self.shot.name).strip().replace(" ", "-").lower()
        )
        self.target.setText(str(self.folder / (f"{safe}.mp4" if self.kind == "mp4" else safe)))

    def _pick(self, shot_id: str) -> None:
        self.shot = next(s for s in self.project.shots if s.id == shot_id)
        self._build()
        self._name_target()

    def _set_kind(self, kind: str) -> None:
        self.kind = kind
        self._build()
        self._name_target()

    def _set_size(self, size: str) -> None:
        width, height = (int(v) for v in size.split("x"))
        self._change(width=width, height=height)

    def _change(self, **fields: Any) -> None:
        changed = msgspec.structs.replace(self.shot, **fields)
        try:
            check_shot(changed)
        except BadInput as fault:
            self._complain(str(fault))
        else:
            self.fault.hide()
            self.shot = changed
        self._build()

    def _complain(self, text: str) -> None:
        self.fault.setText(text[:1].upper() + text[1:])
        self.fault.show()

    def _browse(self) -> None:
        if self.kind == "mp4":
            name, _ = QFileDialog.getSaveFileName(self, "Render to", self.target.text(), "Film (*.mp4)")
        else:
            name = QFileDialog.getExistingDirectory(self, "Render into a new folder in", str(self.folder))
            name = str(Path(name) / Path(self.target.text()).name) if name else ""
        if name:
            self.target.setText(name)

    def _start(self) -> None:
        from kestrav.render.film import check_target

        target = Path(self.target.text()).expanduser()
        if self.kind == "mp4" and target.suffix.lower() != ".mp4":
            target = target.with_name(target.name + ".mp4")
        try:
            check_target(target, overwrite=True)
        except BadInput as fault:
            self._complain(str(fault))
            return
        if target.exists() and not ask_overwrite(self, target):
            return
        self.chosen = target
        self.accept()


def ask_overwrite(parent: QWidget | None, target: Path) -> bool:
    """Whether to overwrite what is there."""
    box = QMessageBox(parent)
    box.setWindowTitle("Overwrite?")
    box.setText(f"“{target.name}” is there already.")
    box.setInformativeText("It will be replaced when the new one is finished.")
    yes = box.addButton("Overwrite", QMessageBox.ButtonRole.AcceptRole)
    box.addButton("Keep it", QMessageBox.ButtonRole.RejectRole)
    box.exec()
    return box.clickedButton() is yes


def ask_unsaved(parent: QWidget, name: str) -> str:
    """Ask what to do with unsaved changes: ``save``, ``leave`` or ``stay``."""
    box = QMessageBox(parent)
    box.setObjectName("unsaved")
    box.setWindowTitle("Unsaved changes")
    box.setText(f"“{name}” has changes that are not saved.")
    save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
    leave = box.addButton("Leave without saving", QMessageBox.ButtonRole.DestructiveRole)
    stay = box.addButton("Go back", QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(save)
    box.setEscapeButton(stay)
    box.exec()
    return {save: "save", leave: "leave"}.get(box.clickedButton(), "stay")  # type: ignore[arg-type]


def tell(parent: QWidget | None, title: str, text: str) -> None:
    """Say what went wrong."""
    box = QMessageBox(parent)
    box.setObjectName("fault")
    box.setWindowTitle(title)
    box.setText(text[:1].upper() + text[1:])
    box.addButton("Close", QMessageBox.ButtonRole.AcceptRole)
    box.exec()


def recent_files() -> list[Path]:
    """Files opened lately, newest first, that are still there."""
    names = QSettings().value("recent", [])
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


def ask_quantity(
    parent: QWidget | None, title: str, text: str, value: float, unit: str, places: int = 1
) -> float | None:
    """A quantity to be typed, or none when it is given up."""
    dialog, column, buttons = _asking(parent, title, text)
    field = QuantityEdit(value, unit, places)
    fault = QLabel()
    fault.setObjectName("fault")
    fault.setWordWrap(True)
    fault.hide()

    def refuse(why: str) -> None:
        fault.setText(why[:1].upper() + why[1:])
        fault.show()

    field.refused.connect(refuse)
    column.addWidget(field)
    column.addWidget(fault)
    column.addWidget(buttons)
    field.setFocus()
    field.selectAll()
    if dialog.exec() != QDialog.DialogCode.Accepted:
        return None
    field.commit()
    return field.value


def ask_quantities(
    parent: QWidget | None, title: str, text: str, asked: Sequence[tuple[str, float, str, int]]
) -> list[float] | None:
    """Several quantities to be typed, each with what it is, its value, unit and places; none when it is given up."""
    dialog, column, buttons = _asking(parent, title, text)
    fault = QLabel()
    fault.setObjectName("fault")
    fault.setWordWrap(True)
    fault.hide()

    def refuse(why: str) -> None:
        fault.setText(why[:1].upper() + why[1:])
        fault.show()

    rows = QFormLayout()
    fields = []
    for label, value, unit, places in asked:
        field = QuantityEdit(value, unit, places)
        field.setAccessibleName(label)
        field.refused.connect(refuse)
        rows.addRow(label, field)
        fields.append(field)
    column.addLayout(rows)
    column.addWidget(fault)
    column.addWidget(buttons)
    fields[0].setFocus()
    fields[0].selectAll()
    if dialog.exec() != QDialog.DialogCode.Accepted:
        return None
    for field in fields:
        field.commit()
    return [field.value for field in fields]


def ask_choice(parent: QWidget | None, title: str, text: str, options: list[tuple[str, str]]) -> str | None:
    """One of named options, or none when it is given up."""
    dialog, column, buttons = _asking(parent, title, text)
    field = QComboBox()
    for key, shown in options:
        field.addItem(shown, key)
    column.addWidget(field)
    column.addWidget(buttons)
    return field.currentData() if dialog.exec() == QDialog.DialogCode.Accepted else None
