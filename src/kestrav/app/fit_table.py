"""The table of contacts at rest: which parts touch, fit or interfere; filtered, sorted, accepted and exported."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.breach_table import Number
from kestrav.core.clearance.fits import Fit, alike
from kestrav.core.document.lookup import told_apart
from kestrav.core.document.records import Project

HEADS = ("Parts", "Kind", "Depth mm", "Gap mm", "Shared mm³", "Shaft in bore", "Intended")
_KINDS = ("interferes", "interference fit", "line to line", "touches", "clearance fit")
_AIR = 16  # px beside the texts, for the mark of sorting
_PLACE = Qt.ItemDataRole.UserRole


class FitTable(QDialog):
    """Every pair of parts that meet as all stands at rest."""

    went = Signal(object)  # the row to go to
    accepted_all = Signal(object)  # rows that are intended
    export_asked = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Contacts at rest")
        self.setModal(False)
        self.resize(880, 340)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        head = QHBoxLayout()
        self.told = QLabel()
        self.told.setObjectName("muted")
        self.kind = QComboBox()
        self.kind.addItem("all kinds", "")
        for kind in _KINDS:
            self.kind.addItem(kind, kind)
        self.kind.addItem("not yet accepted", "open")
        self.kind.setAccessibleName("kind of contact")
        self.kind.setToolTip("Show only contacts of this kind")
        self.name = QLineEdit()
        self.name.setPlaceholderText("part name")
        self.name.setAccessibleName("part name")
        self.name.setToolTip("Show only contacts of parts whose name holds this text")
        self.name.setMaximumWidth(200)
        self.kind.currentIndexChanged.connect(lambda _: self._filter())
        self.name.textChanged.connect(lambda _: self._filter())
        head.addWidget(self.told, 1)
        head.addWidget(self.kind)
        head.addWidget(self.name)
        column.addLayout(head)
        self.table = QTableWidget(0, len(HEADS))
        self.table.setHorizontalHeaderLabels(HEADS)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setToolTip("Choose a row to see the parts; a heading sorts by it")
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(26)
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.itemSelectionChanged.connect(self._chosen)
        column.addWidget(self.table, 1)
        foot = QHBoxLayout()
        self.accept_rows = QPushButton("Accept")
        self.accept_rows.setToolTip("The selected contacts are intended")
        self.accept_alike = QPushButton("Accept all alike")
        self.accept_alike.setToolTip(
            "The selected contacts are intended, and all of the same kind between the same shapes"
        )
        export, close = QPushButton("Export …"), QPushButton("Close")
        export.setToolTip("Write the whole table as CSV")
        self.accept_rows.clicked.connect(lambda: self.accepted_all.emit(self.selected()))
        self.accept_alike.clicked.connect(self._accept_alike)
        export.clicked.connect(lambda: self.export_asked.emit())
        close.clicked.connect(self.close)
        foot.addWidget(self.accept_rows)
        foot.addWidget(self.accept_alike)
        foot.addStretch(1)
        foot.addWidget(export)
        foot.addWidget(close)
        column.addLayout(foot)
        for button in (self.accept_rows, self.accept_alike, export, close):
            button.setAutoDefault(False)
        self.rows: tuple[Fit, ...] = ()
        self._filling = False
        self._chosen()

    def show_rows(self, project: Project, rows: tuple[Fit, ...], told: str) -> None:
        """Show these contacts; ``told`` is what they rest on."""
        self.rows, self._filling = rows, True
        self.told.setText(told)
        table = self.table
        table.setSortingEnabled(False)
        table.setRowCount(len(rows))
        for line, row in enumerate(rows):
            names = " and ".join(told_apart(project, i) for i in (row.pair.moving, row.pair.other))
            first = QTableWidgetItem(names)
            first.setData(_PLACE, line)
            first.setToolTip(names)
            sizes = "" if row.radii is None else f"Ø{2 * row.radii[0]:.6g} in Ø{2 * row.radii[1]:.6g}"
            cells = (
                first,
                QTableWidgetItem(row.kind),
                Number(row.depth if row.depth > 0 else None, 3),
                Number(row.gap if row.depth <= 0 else None, 3),
                Number(row.shared or None, 2),
                QTableWidgetItem(sizes),
                QTableWidgetItem("yes" if row.accepted else ""),
            )
            for k, cell in enumerate(cells):
                table.setItem(line, k, cell)
        for k in range(1, len(HEADS)):
            table.resizeColumnToContents(k)
            table.setColumnWidth(k, table.columnWidth(k) + _AIR)
        table.setSortingEnabled(True)
        if not self.isVisible():
            table.sortItems(2, Qt.SortOrder.DescendingOrder)
        self._filling = False
        self._filter()
        self._chosen()

    def selected(self) -> tuple[Fit, ...]:
        """The selected contacts."""
        lines = sorted({index.row() for index in self.table.selectionModel().selectedRows()})
        return tuple(self.rows[self.table.item(line, 0).data(_PLACE)] for line in lines)

    def _accept_alike(self) -> None:
        every = {id(other): other for row in self.selected() for other in alike(self.rows, row)}
        self.accepted_all.emit(tuple(every.values()))

    def _filter(self) -> None:
        kind, name = self.kind.currentData(), self.name.text().strip().casefold()
        for line in range(self.table.rowCount()):
            cell = self.table.item(line, 0)
            row = self.rows[cell.data(_PLACE)]
            fits = not kind or (not row.accepted if kind == "open" else row.kind == kind)
            self.table.setRowHidden(line, not fits or name not in cell.text().casefold())

    def _chosen(self) -> None:
        rows = () if self._filling else self.selected()
        self.accept_rows.setEnabled(bool(rows))
        self.accept_alike.setEnabled(bool(rows))
        if len(rows) == 1:
            self.went.emit(rows[0])
