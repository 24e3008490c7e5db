"""The table of breaches: a window of its own beside the stage, sorted as one likes, each row to go to."""

from __future__ import annotations

import math

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

from kestrav.core.clearance.table import Row
from kestrav.core.document.lookup import told_apart
from kestrav.core.document.records import Project

HEADS = ("Pair", "From s", "To s", "Worst mm", "Required mm", "Where mm", "Speed mm/s", "Standing")
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


class BreachTable(QDialog):
    """Every pair nearer than required, from when to when, how near, where and how fast."""

    went = Signal(object)  # the row to go to
    report_asked = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Breaches")
        self.setModal(False)
        self.resize(840, 230)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        self.told = QLabel()
        self.told.setObjectName("muted")
        column.addWidget(self.told)
        self.table = QTableWidget(0, len(HEADS))
        self.table.setHorizontalHeaderLabels(HEADS)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setToolTip("Choose a row to go there; a heading sorts by it")
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(26)
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.currentCellChanged.connect(self._on_current)
        self.table.cellClicked.connect(lambda line, _: self._go(line))
        column.addWidget(self.table, 1)
        foot = QHBoxLayout()
        report, close = QPushButton("Report …"), QPushButton("Close")
        report.setToolTip("Write the check report: a page with pictures, tables or text")
        report.clicked.connect(lambda: self.report_asked.emit())
        close.clicked.connect(self.close)
        foot.addStretch(1)
        foot.addWidget(report)
        foot.addWidget(close)
        column.addLayout(foot)
        self.rows: tuple[Row, ...] = ()
        self._filling = False

    def show_rows(self, project: Project, rows: tuple[Row, ...], told: str) -> None:
        """Show these breaches; ``told`` is what they rest on."""
        self.rows, self._filling = rows, True
        self.told.setText(told)
        table = self.table
        table.setSortingEnabled(False)
        table.setRowCount(len(rows))
        for line, row in enumerate(rows):
            names = " to ".join(told_apart(project, i) for i in (row.pair.moving, row.pair.other))
            first = QTableWidgetItem(names)
            first.setData(_PLACE, line)
            first.setToolTip(names)
            place = QTableWidgetItem(", ".join(f"{v:,.0f}" for v in row.place).replace("-", "−"))
            cells = (
                first,
                Number(row.start, 3),
                Number(row.end, 3),
                Number(row.least, 2),
                Number(row.required, 2),
                place,
                Number(row.speed, 0),
                QTableWidgetItem(row.standing),
            )
            for k, cell in enumerate(cells):
                table.setItem(line, k, cell)
        for k in range(1, len(HEADS)):
            table.resizeColumnToContents(k)
            table.setColumnWidth(k, table.columnWidth(k) + _AIR)
        table.setSortingEnabled(True)
        # worst first, until a heading is chosen
        if table.horizontalHeader().sortIndicatorSection() >= len(HEADS) or not self.isVisible():
            table.sortItems(3, Qt.SortOrder.AscendingOrder)
        table.setCurrentCell(-1, -1)
        self._filling = False

    def _on_current(self, line: int, _column: int, before: int, _before: int) -> None:
        if line != before:
            self._go(line)

    def _go(self, line: int) -> None:
        cell = self.table.item(line, 0)
        if cell is not None and not self._filling:
            self.went.emit(self.rows[cell.data(_PLACE)])
