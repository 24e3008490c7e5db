"""What a project is handed on as: all kinds with what goes along and what is lost, and the few choices of each."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.app.widgets.quantity_edit import QuantityEdit
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.exports import BY_TITLE, EXPORTS, Export

_KEY = "export/kind"
LEVELS = (0.0, 0.1, 0.5, 2.0)  # mm that surfaces of a review page may be off


class ExportDialog(QDialog):
    """Chooses one of :data:`kestrav.render.exports.EXPORTS`."""

    def __init__(self, parent: QWidget | None, project: Project, meshes: Mapping[str, Mesh], kind: str = "") -> None:
        super().__init__(parent)
        self.setWindowTitle("Export")
        self.resize(720, 400)
        self._sizes: dict[float, int] = {}
        self._of = project, meshes
        self._job: Job | None = None  # works out the sizes, once they are wanted: a large product takes a while
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(10)
        row = QHBoxLayout()
        row.setSpacing(14)
        self.kinds = QListWidget()
        self.kinds.setAccessibleName("Kinds of export")
        self.kinds.setToolTip("Kinds of files that the project can be handed on as")
        self.kinds.setFixedWidth(220)
        self.kinds.setSpacing(2)
        for one in EXPORTS:
            item = QListWidgetItem(f"{one.title} ({', '.join(one.endings)})")
            item.setData(Qt.ItemDataRole.UserRole, one.title)
            self.kinds.addItem(item)
        row.addWidget(self.kinds)
        side = QVBoxLayout()
        side.setSpacing(8)
        self.title, self.holds, self.loses = QLabel(), QLabel(), QLabel()
        self.title.setObjectName("title")
        for label in (self.title, self.holds, self.loses):
            label.setWordWrap(True)
            label.setAlignment(Qt.AlignmentFlag.AlignTop)
            side.addWidget(label)
        self.rows = QFormLayout()
        self.rows.setFormAlignment(Qt.AlignmentFlag.AlignLeft)
        self.rows.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        side.addLayout(self.rows)
        self.note = QLabel()
        self.note.setObjectName("muted")
        self.note.setWordWrap(True)
        side.addWidget(self.note)
        side.addStretch(1)
        row.addLayout(side, 1)
        column.addLayout(row, 1)
        self.tolerance = QuantityEdit(0.05, "mm", 3, 0.01)
        self.tolerance.setToolTip("Greatest error of any point of a part between two keys of its motion")
        self.tolerance.setAccessibleName("Tolerance of the motion")
        self.simplify = QComboBox()
        self.simplify.setToolTip(
            "Greatest distance of simplified surfaces from those of the project: fewer triangles make a smaller page"
        )
        self.simplify.setAccessibleName("Surfaces")
        for level in LEVELS:
            self.simplify.addItem("as in the project" if level == 0 else f"within {level:g} mm", level)
        self.sheet = QComboBox()
        self.sheet.setToolTip("Step sheet to write; its steps are edited in its card")
        self.sheet.setAccessibleName("Step sheet")
        for sheet in project.sheets:
            self.sheet.addItem(sheet.name, sheet.id)
        if not project.sheets:
            self.sheet.addItem("a new one of all that moves", "")
        self._fields = {
            "tolerance": ("Tolerance", self.tolerance),
            "simplify": ("Surfaces", self.simplify),
            "sheet": ("Step sheet", self.sheet),
        }
        for words, field in self._fields.values():
            self.rows.addRow(words, field)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.write = self.buttons.addButton("Write …", QDialogButtonBox.ButtonRole.AcceptRole)
        self.write.setToolTip("Choose a file and write")
        self.write.setObjectName("main")
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column.addWidget(self.buttons)
        self.kinds.currentRowChanged.connect(lambda _: self._show())
        self.kinds.itemActivated.connect(lambda _: self.accept())
        self.simplify.currentIndexChanged.connect(lambda _: self._tell_size())
        wanted = kind or str(QSettings().value(_KEY, EXPORTS[0].title))
        titles = [one.title for one in EXPORTS]
        self.kinds.setCurrentRow(titles.index(wanted) if wanted in titles else 0)
        self.kinds.setFocus()

    @property
    def chosen(self) -> Export:
        """The kind that is chosen."""
        return BY_TITLE[self.kinds.currentItem().data(Qt.ItemDataRole.UserRole)]

    def accept(self) -> None:
        """Remember the kind for the next time."""
        QSettings().setValue(_KEY, self.chosen.title)
        super().accept()

    def start_name(self, folder: Path | None) -> str:
        """A file's name to begin with."""
        name = self.chosen.name
        return str(folder / name) if folder is not None else name

    def _show(self) -> None:
        one = self.chosen
        self.title.setText(one.title)
        self.holds.setText(f"<b>Contains</b> {one.holds}.")
        self.loses.setText(f"<b>Leaves out</b> {one.loses}.")
        for name, (_, field) in self._fields.items():
            self.rows.setRowVisible(field, name in one.options)
        self._tell_size()

    def _tell_size(self) -> None:
        self.note.clear()
        if "simplify" not in self.chosen.options:
            return
        if self._job is None:
            self._job = Job("Sizes of review pages", work.review_sizes, *self._of, LEVELS)
            self._job.done.connect(self._take_sizes)
            self.finished.connect(self._job.stop)
        size = self._sizes.get(float(self.simplify.currentData()))
        self.note.setText("Its size is being worked out …" if size is None else f"About {size / 1e6:.1f} MB.")

    def _take_sizes(self, sizes: dict[float, int]) -> None:
        self._sizes = sizes
        self._tell_size()
