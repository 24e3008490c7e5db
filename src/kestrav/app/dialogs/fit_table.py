"""The table of contacts at rest: which parts touch, fit or interfere; filtered, sorted, accepted and exported."""

from __future__ import annotations

from typing import get_args

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QLineEdit, QTableWidgetItem, QWidget

from kestrav.app.dialogs.pair_table import Number, PairTable
from kestrav.core.clearance.fits import Fit, Kind, alike
from kestrav.core.document.lookup import qualified_name
from kestrav.core.document.records import Project

HEADS = ("Parts", "Kind", "Depth, mm", "Gap, mm", "Shared volume, mm³", "Shaft in bore", "Intended")


class FitTable(PairTable):
    """Every pair of parts that meet as all stands at rest."""

    accepted_all = Signal(object)  # rows that are intended
    export_asked = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, "Contacts at rest", HEADS, (880, 340))
        self.kind, self.name = QComboBox(), QLineEdit()
        self.kind.addItem("all kinds", "")
        for kind in get_args(Kind):
            self.kind.addItem(kind, kind)
        self.kind.addItem("not yet accepted", "open")
        self.kind.setAccessibleName("kind of contact")
        self.kind.setToolTip("Show only contacts of this kind")
        self.name.setPlaceholderText("part name")
        self.name.setAccessibleName("part name")
        self.name.setToolTip("Show only contacts of parts whose name holds this text")
        self.name.setMaximumWidth(200)
        self.kind.currentIndexChanged.connect(lambda _: self._filter())
        self.name.textChanged.connect(lambda _: self._filter())
        self.head.addWidget(self.kind)
        self.head.addWidget(self.name)
        self.table.itemSelectionChanged.connect(self._chosen)
        self.accept_rows = self.button("Accept", "Accept the selected contacts as intended")
        self.accept_alike = self.button(
            "Accept all alike",
            "Accept the selected contacts, and all of the same kind between the same shapes, as intended",
        )
        self.foot.addStretch(1)
        self.accept_rows.clicked.connect(lambda: self.accepted_all.emit(self.selected()))
        self.accept_alike.clicked.connect(self._accept_alike)
        self.button("Export …", "Write the whole table as CSV").clicked.connect(lambda: self.export_asked.emit())
        self.button("Close").clicked.connect(self.close)
        self._chosen()

    def show_rows(self, project: Project, rows: tuple[Fit, ...], text: str) -> None:
        """Show these contacts; ``text`` is what they rest on."""
        cells = [
            (
                QTableWidgetItem(" and ".join(qualified_name(project, i) for i in (row.pair.moving, row.pair.other))),
                QTableWidgetItem(row.kind),
                Number(row.depth if row.depth > 0 else None, 3),
                Number(row.gap if row.depth <= 0 else None, 3),
                Number(row.shared or None, 2),
                QTableWidgetItem(row.sizes),
                QTableWidgetItem("yes" if row.accepted else ""),
            )
            for row in rows
        ]
        self.fill(rows, cells, text, by=-2)
        self._filter()
        self._chosen()

    def selected(self) -> tuple[Fit, ...]:
        """The selected contacts."""
        lines = sorted({index.row() for index in self.table.selectionModel().selectedRows()})
        return tuple(self.row_at(line) for line in lines)

    def _accept_alike(self) -> None:
        every = {other.pair: other for row in self.selected() for other in alike(self.rows, row)}
        self.accepted_all.emit(tuple(every.values()))

    def _filter(self) -> None:
        kind, name = self.kind.currentData(), self.name.text().strip().casefold()
        for line in range(self.table.rowCount()):
            row = self.row_at(line)
            fits = not kind or (not row.accepted if kind == "open" else row.kind == kind)
            self.table.setRowHidden(line, not fits or name not in self._first(line).text().casefold())

    def _chosen(self) -> None:
        rows = () if self.filling else self.selected()
        self.accept_rows.setEnabled(bool(rows))
        self.accept_alike.setEnabled(bool(rows))
        if len(rows) == 1:
            self.went.emit(rows[0])
