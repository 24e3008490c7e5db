"""A path's coordinates as a table that is typed and pasted into."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView

from kestrav.app.cards.rows import Rows
from kestrav.core.document import edits
from kestrav.core.document.records import Path, PointShape
from kestrav.core.errors import BadInput
from kestrav.core.files.path_files import table_rows
from kestrav.core.paths import shaping
from kestrav.core.units import parse

_HEADS = ("x", "y", "z", "radius")
_MOST_ROWS = 14  # shown without scrolling


class PointTable(QAbstractTableModel):
    """The points of one path, in mm."""

    changed = Signal(int, int, float)  # row, column, value
    refused = Signal(str)

    def __init__(self, shape: PointShape) -> None:
        super().__init__()
        self.shape = shape

    def rowCount(self, parent: QModelIndex | QPersistentModelIndex | None = None) -> int:
        return len(self.shape.points)

    def columnCount(self, parent: QModelIndex | QPersistentModelIndex | None = None) -> int:
        return len(_HEADS)

    def value(self, row: int, column: int) -> float:
        """The number in a cell."""
        point = self.shape.points[row]
        return point.radius if column == 3 else point.position[column]

    def data(self, index: QModelIndex | QPersistentModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return f"{self.value(index.row(), index.column()):.3f}".rstrip("0").rstrip(".").replace("-", "−")
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        return _HEADS[section] if orientation == Qt.Orientation.Horizontal else str(section + 1)

    def flags(self, index: QModelIndex | QPersistentModelIndex) -> Qt.ItemFlag:
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsEditable

    def setData(
        self, index: QModelIndex | QPersistentModelIndex, value: Any, role: int = Qt.ItemDataRole.EditRole
    ) -> bool:
        try:
            number = parse(str(value), "mm")
        except BadInput as fault:
            self.refused.emit(str(fault))
            return False
        if number != self.value(index.row(), index.column()):
            self.changed.emit(index.row(), index.column(), number)
        return True


class _View(QTableView):
    """A table that is copied from and pasted into."""

    pasted = Signal(int, str)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Paste):
            self.pasted.emit(max(self.currentIndex().row(), 0), QGuiApplication.clipboard().text())
        elif event.matches(QKeySequence.StandardKey.Copy):
            rows = sorted({i.row() for i in self.selectedIndexes()}) or range(self.model().rowCount())
            model = self.model()
            assert isinstance(model, PointTable)
            lines = ["\t".join(f"{model.value(r, c):.6g}" for c in range(3)) for r in rows]
            QGuiApplication.clipboard().setText("\n".join(lines))
        else:
            super().keyPressEvent(event)


class TableRows(Rows):
    """All points of a path at once."""

    def build(self, path: Path) -> None:
        shape, form = path.shape, self.form
        if not isinstance(shape, PointShape):
            return
        form.own(lambda: self._view(path, shape))
        form.note("In mm; other units may be typed. Paste rows of x, y and z: they go in from the chosen row on.")

    def _view(self, path: Path, shape: PointShape) -> QTableView:
        """The table of a path's points."""
        model = PointTable(shape)
        view = _View()
        view.setObjectName("points")
        view.setAccessibleName("Coordinates of the points in mm")
        model.setParent(view)
        view.setModel(model)
        view.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        view.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        view.verticalHeader().setDefaultSectionSize(21)
        view.verticalHeader().setMinimumWidth(30)
        view.setFixedHeight(25 + 21 * min(len(shape.points), _MOST_ROWS))
        view.setToolTip("Type or paste (Ctrl+V) coordinates in mm; Ctrl+C copies the chosen rows, or all")
        if self.session.point is not None and self.session.point < len(shape.points):
            view.selectRow(self.session.point)
        model.changed.connect(lambda r, c, v: self._change(path, r, c, v))
        model.refused.connect(self.card.complain)
        view.pasted.connect(lambda row, text: self._paste(path, row, text))
        view.clicked.connect(
            lambda index: self.session.select_points(sorted({i.row() for i in view.selectedIndexes()}))
        )
        return view

    def _change(self, path: Path, row: int, column: int, value: float) -> None:
        point = edits.point_shape(self.session.project, path.id).points[row]
        if column == 3:
            fields: dict[str, Any] = {"radius": value}
        else:
            place = list(point.position)
            place[column] = value
            fields = {"position": tuple(place)}
        self.session.edit("Type coordinate", lambda p: edits.set_point(p, path.id, row, **fields))

    def _paste(self, path: Path, row: int, text: str) -> None:
        try:
            rows = table_rows(text)
        except BadInput as fault:
            self.card.complain(f"not pasted: {fault}")
            return
        if not rows:
            self.card.complain("the clipboard holds no rows of numbers")
            return
        known = [p.position for p in edits.point_shape(self.session.project, path.id).points]
        # from the first row on a table replaces them all; from another it goes in over those that follow
        places = rows if row == 0 and len(rows) > 1 else [*known[:row], *rows, *known[row + len(rows) :]]
        self.session.edit("Paste coordinates", lambda p: shaping.with_coordinates(p, path.id, places))
