"""What was found of an order of taking apart: which steps it is made in, how fast, and which way in time."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from kestrav.app.dialogs.asking import RequestDialog
from kestrav.core.document.lookup import get, qualified_name
from kestrav.core.document.records import Project
from kestrav.core.document.requests import SequenceRequest
from kestrav.core.extraction.disassembly import Order, in_one_step, in_own_steps
from kestrav.core.extraction.extraction_runs import SPEED
from kestrav.core.extraction.typed import given_direction

_HEADS = ("Step", "Part", "Direction", "Distance")


class SequenceDialog(RequestDialog):
    """The steps of an order, in a table: several selected ones can be made one step, or each its own."""

    def __init__(self, parent: QWidget, project: Project, order: Order) -> None:
        self.project, self.order = project, order
        super().__init__(parent, "Disassembly sequence", SequenceRequest(SPEED), text=self._count(), button="Make runs")
        self.table = QTableWidget(0, len(_HEADS))
        self.table.setHorizontalHeaderLabels(_HEADS)
        self.table.setAccessibleName("Steps")
        self.table.verticalHeader().hide()
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.table.itemSelectionChanged.connect(self._offer)
        row = QHBoxLayout()
        self.join = QPushButton("Merge into one step")
        self.join.setToolTip("Move the selected parts, and those between them, at the same time")
        self.join.clicked.connect(lambda: self._regroup(in_one_step))
        self.part = QPushButton("Split into single steps")
        self.part.setToolTip("Move the selected parts one after another")
        self.part.clicked.connect(lambda: self._regroup(in_own_steps))
        row.addWidget(self.join)
        row.addWidget(self.part)
        row.addStretch(1)
        at = self.column.indexOf(self.form)
        self.column.insertWidget(at, self.table, 1)
        self.column.insertLayout(at + 1, row)
        self.resize(620, 520)
        self._show_steps()

    def _count(self) -> str:
        order = self.order
        count = sum(len(r.things) for r in order.removals)
        parts = [f"{count} can be removed"]
        if order.stays is not None:
            parts.append(f"“{get(self.project, order.stays).name}” stays")
        if order.stopped:
            parts.append(f"the search was stopped, {len(order.left)} were not searched to the end")
        elif order.left:
            parts.append(f"{len(order.left)} do not")
        return "; ".join(parts) + "."

    def _show_steps(self) -> None:
        self.table.setRowCount(len(self.order.removals))
        for row, removal in enumerate(self.order.removals):
            names = " and ".join(qualified_name(self.project, thing) for thing in removal.things)
            kind = " (fastener)" if removal.fastener else ""
            texts = (str(removal.step), names + kind, given_direction(removal.direction), f"{removal.travel:.1f} mm")
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                if column in (0, 3):
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(row, column, item)
        self.table.resizeColumnToContents(0)
        self._offer()

    def _selected(self) -> list[int]:
        return sorted({index.row() for index in self.table.selectedIndexes()})

    def _offer(self) -> None:
        rows = self._selected()
        self.join.setEnabled(len(rows) > 1)
        self.part.setEnabled(bool(rows))

    def _regroup(self, change: Callable[[Order, Iterable[int]], Order]) -> None:
        rows = self._selected()
        self.order = change(self.order, rows)
        self._show_steps()
        for row in rows:
            self.table.selectionModel().select(
                self.table.model().index(row, 0),
                self.table.selectionModel().SelectionFlag.Select | self.table.selectionModel().SelectionFlag.Rows,
            )
