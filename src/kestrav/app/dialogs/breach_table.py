"""The table of breaches: sorted as one likes, each row to go to."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QAbstractItemView, QTableWidgetItem, QWidget

from kestrav.app.dialogs.pair_table import Number, PairTable
from kestrav.core.clearance.breaches import Row
from kestrav.core.document.lookup import qualified_name
from kestrav.core.document.records import Project

HEADS = ("Pair", "From, s", "To, s", "Least, mm", "Required, mm", "Location, mm", "Speed, mm/s", "Status")


class BreachTable(PairTable):
    """Every pair nearer than required, from when to when, how near, where and how fast."""

    report_asked = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, "Breaches", HEADS, (840, 230))
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.currentCellChanged.connect(self._on_current)
        self.table.cellClicked.connect(lambda line, _: self._go(line))
        self.foot.addStretch(1)
        report = self.button("Report …", "Write the check report as a page with pictures, as tables or as text")
        report.clicked.connect(lambda: self.report_asked.emit())
        self.button("Close").clicked.connect(self.close)

    def show_rows(self, project: Project, rows: tuple[Row, ...], text: str) -> None:
        """Show these breaches; ``text`` is what they rest on."""
        cells = [
            (
                QTableWidgetItem(" to ".join(qualified_name(project, i) for i in (row.pair.moving, row.pair.other))),
                Number(row.start, 3),
                Number(row.end, 3),
                Number(row.least, 2),
                Number(row.required, 2),
                QTableWidgetItem(", ".join(f"{v:,.0f}" for v in row.place).replace("-", "−")),
                Number(row.speed, 0),
                QTableWidgetItem(row.status),
            )
            for row in rows
        ]
        self.fill(rows, cells, text, by=3)

    def _on_current(self, line: int, _column: int, before: int, _before: int) -> None:
        if line != before:
            self._go(line)

    def _go(self, line: int) -> None:
        if self.table.item(line, 0) is not None and not self.filling:
            self.went.emit(self.row_at(line))
