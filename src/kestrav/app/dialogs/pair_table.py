"""A table of pairs of parts in a window of its own beside the stage, sorted as one likes, each row to go to."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

_AIR = 16  # px beside the texts, for the mark of sorting
_PLACE = Qt.ItemDataRole.UserRole


class Number(QTableWidgetItem):
    """A number that is sorted by its value, or a dash."""

    def __init__(self, value: float | None, places: int) -> None:
        super().__init__("–" if value is None else f"{value:,.{places}f}".replace("-", "−"))
        self.value = -math.inf if value is None else value
        self.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)

    def __lt__(self, other: QTableWidgetItem) -> bool:
        return self.value < other.value if isinstance(other, Number) else super().__lt__(other)


class PairTable(QDialog):
    """What is told of pairs: a line above, the table, buttons below."""

    went = Signal(object)  # the row to go to

    def __init__(self, parent: QWidget, title: str, heads: Sequence[str], size: tuple[int, int]) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setModal(False)
        self.resize(*size)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        self.head, self.foot = QHBoxLayout(), QHBoxLayout()
        self.summary = QLabel()
        self.summary.setObjectName("muted")
        self.summary.setWordWrap(True)  # a long sentence would make the window wider than the screen
        self.head.addWidget(self.summary, 1)
        self.table = QTableWidget(0, len(heads))
        self.table.setHorizontalHeaderLabels(list(heads))
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setToolTip("Choose a row to go there; click a column title to sort")
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(26)
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        column.addLayout(self.head)
        column.addWidget(self.table, 1)
        column.addLayout(self.foot)
        self.rows: tuple[Any, ...] = ()
        self.filling = False

    def button(self, text: str, tip: str = "") -> QPushButton:
        """A button below the table."""
        button = QPushButton(text)
        button.setToolTip(tip)
        button.setAutoDefault(False)
        self.foot.addWidget(button)
        return button

    def fill(self, rows: Sequence[Any], cells: Sequence[Sequence[QTableWidgetItem]], text: str, by: int) -> None:
        """Show rows, each as its cells, the first one its pair's names; sorted by a column, the worst first, until a heading is chosen."""
        self.rows, self.filling = tuple(rows), True
        self.summary.setText(text)
        table = self.table
        table.setSortingEnabled(False)
        table.setRowCount(len(rows))
        for line, row in enumerate(cells):
            row[0].setData(_PLACE, line)
            row[0].setToolTip(row[0].text())
            for k, cell in enumerate(row):
                table.setItem(line, k, cell)
        for k in range(1, table.columnCount()):
            table.resizeColumnToContents(k)
            table.setColumnWidth(k, table.columnWidth(k) + _AIR)
        table.setSortingEnabled(True)
        if table.horizontalHeader().sortIndicatorSection() >= table.columnCount() or not self.isVisible():
            order = Qt.SortOrder.AscendingOrder if by > 0 else Qt.SortOrder.DescendingOrder
            table.sortItems(abs(by), order)
        table.setCurrentCell(-1, -1)
        self.filling = False

    def row_at(self, line: int) -> Any:
        """What a line of the table is of."""
        return self.rows[self._first(line).data(_PLACE)]

    def _first(self, line: int) -> QTableWidgetItem:
        item = self.table.item(line, 0)
        assert item is not None  # every line is filled
        return item
