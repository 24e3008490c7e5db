"""The contents: one list in the order of the work, each row with its most useful number."""

from __future__ import annotations

from PySide6.QtCore import (
    QItemSelection,
    QItemSelectionModel,
    QModelIndex,
    QPoint,
    QRect,
    Qt,
    Signal,
)
from PySide6.QtGui import QAction, QColor, QPainter, QPen
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QToolButton,
    QTreeView,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.contents.contents_model import (
    HEADINGS,
    HINT,
    HINTS,
    ID,
    NUMBER,
    ContentsModel,
    Index,
    thing_of,
)
from kestrav.app.contents.row_painter import RowPainter
from kestrav.app.session import Session
from kestrav.app.widgets.window_colours import CHOSEN, PETROL, ROW_LINE
from kestrav.core.document.lookup import find
from kestrav.core.findings.check import CheckResult


class _Tree(QTreeView):
    """The view of the rows."""

    menu_asked = Signal(QPoint)

    def drawBranches(self, painter: QPainter, rect: QRect, index: Index) -> None:
        heading = not index.parent().isValid()
        if self.selectionModel().isSelected(index):
            painter.fillRect(rect, QColor(CHOSEN))
            painter.fillRect(QRect(0, rect.y(), 3, rect.height()), QColor(PETROL))
        if not heading:
            super().drawBranches(painter, rect, index)
            painter.setPen(QPen(QColor(ROW_LINE)))
            painter.drawLine(rect.left(), rect.bottom(), rect.right(), rect.bottom())


class ContentsTree(QWidget):
    """Follows the session; choosing rows selects their items."""

    checks_chosen = Signal()
    step_asked = Signal(str)  # what an empty heading offers
    menu_asked = Signal(QPoint)  # on the screen, for the chosen parts

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.model = ContentsModel(session)
        self.model.setParent(self)
        self.tree = _Tree()
        self.search = QLineEdit()
        self.search.setObjectName("search")
        self.search.setPlaceholderText("Find by name")
        self.search.setToolTip("Show only entries whose names contain this text (Ctrl+F); Esc shows all")
        self.search.setAccessibleName("Find by name")
        self.search.setClearButtonEnabled(True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        head = QHBoxLayout()
        head.setSpacing(0)
        head.addWidget(self.search, 1)
        self.filter = QToolButton()
        self.filter.setObjectName("filter")
        self.filter.setText("Filter")
        self.filter.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.filter.setToolTip("Show only some kinds of entries, or only what findings are about")
        self.filter.setMenu(self._filter_menu())
        head.addWidget(self.filter)
        column.addLayout(head)
        column.addWidget(self.tree, 1)
        tree = self.tree
        tree.setModel(self.model)
        tree.setHeaderHidden(True)
        tree.setIndentation(14)
        tree.setItemDelegate(RowPainter(tree))
        tree.setUniformRowHeights(True)
        tree.setAccessibleName("Contents")
        tree.setToolTip(
            "Contents of the project: product, paths, runs by what they move, checks, cameras, shots and lights"
        )
        tree.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        tree.setEditTriggers(QAbstractItemView.EditTrigger.EditKeyPressed)
        tree.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        tree.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        tree.customContextMenuRequested.connect(lambda at: self.menu_asked.emit(tree.viewport().mapToGlobal(at)))
        self._filling = False
        self._open: set[str] = set(HEADINGS)
        tree.expanded.connect(lambda index: self._note_open(index, is_open=True))
        tree.collapsed.connect(lambda index: self._note_open(index, is_open=False))
        tree.selectionModel().selectionChanged.connect(self._choose)
        self.search.textChanged.connect(self._find)
        session.edited.connect(self.fill)
        session.selected.connect(self._follow)
        session.isolation.connect(lambda: tree.viewport().update())

    def _note_open(self, index: QModelIndex, *, is_open: bool) -> None:
        if not self._filling and not self.model.words:
            (self._open.add if is_open else self._open.discard)(index.data(ID))

    def show_result(self, result: CheckResult | None) -> None:
        """Take a check's result (None: not known now) into the health dots and numbers."""
        self.model.result = result
        if result is not None:
            self.model.about = frozenset(i for finding in result.findings for i in finding.subject)
            if self.model.only_found:
                self.fill()
        self.tree.viewport().update()

    def fill(self) -> None:
        """Follow the document."""
        self._filling = True
        if self.model.fill():
            self._restore_open()
        self._filling = False
        self._follow()
        self.tree.viewport().update()

    def _restore_open(self) -> None:
        for row in self.model.tops:
            hidden = bool(self.model.kinds) and row.id not in self.model.kinds
            self.tree.setRowHidden(row.number, QModelIndex(), hidden)
        if self.model.words or self.model.only_found:
            self.tree.expandAll()
            return
        for row in self.model.tops:
            self.tree.setExpanded(self.model.createIndex(row.number, 0, row), row.id in self._open)
        for item_id in self._open & self.model.rows.keys():
            self.tree.setExpanded(self.model.at(item_id), True)

    def _filter_menu(self) -> QMenu:
        menu = QMenu(self)
        self.found_action = menu.addAction("Only with findings")
        self.found_action.setCheckable(True)
        self.found_action.toggled.connect(lambda _: self._set_filter())
        menu.addSeparator()
        self.kind_actions: dict[str, QAction] = {}
        for name in HEADINGS:
            action = menu.addAction(name)
            action.setCheckable(True)
            action.toggled.connect(lambda _: self._set_filter())
            self.kind_actions[name] = action
        menu.addSeparator()
        menu.addAction("Show everything").triggered.connect(self.show_everything)
        return menu

    def _set_filter(self) -> None:
        kinds = frozenset(name for name, action in self.kind_actions.items() if action.isChecked())
        self.model.kinds, self.model.only_found = kinds, self.found_action.isChecked()
        on = bool(kinds) or self.model.only_found
        self.filter.setText("Filter on" if on else "Filter")
        self.filter.setProperty("on", "true" if on else "false")
        self.filter.style().unpolish(self.filter)
        self.filter.style().polish(self.filter)
        self.fill()

    def show_everything(self) -> None:
        """Filter nothing, and look for no words."""
        self.search.clear()
        for action in (self.found_action, *self.kind_actions.values()):
            action.setChecked(False)

    def _find(self, words: str) -> None:
        self.model.words = words.strip()
        self.fill()

    def take_keys(self) -> None:
        """Take the keyboard to the search."""
        self.search.setFocus()
        self.search.selectAll()

    def rename(self) -> None:
        """Edit the name of the selection in its row."""
        index = self.model.at(self.session.selection or "")
        if index.isValid():
            self.tree.scrollTo(index)
            self.tree.setFocus()
            self.tree.edit(index)

    def heading(self, name: str) -> QModelIndex:
        """The index of a heading."""
        row = self.model.tops[HEADINGS.index(name)]
        return self.model.createIndex(row.number, 0, row)

    def choose(self, item_id: str) -> None:
        """Choose the row of an item or heading, as a click does."""
        index = self.heading(item_id) if item_id in HEADINGS else self.model.at(item_id)
        self.tree.setCurrentIndex(index)

    @property
    def current(self) -> str:
        """The name in the current row."""
        return str(self.tree.currentIndex().data() or "")

    def number(self, item_id: str) -> str:
        """The number in a row."""
        index = self.heading(item_id) if item_id in HEADINGS else self.model.at(item_id)
        return str(index.data(NUMBER))

    def _choose(self, *_: object) -> None:
        if self._filling:
            return
        ids = [thing_of(str(index.data(ID))) for index in self.tree.selectionModel().selectedIndexes()]
        if len(ids) == 1 and ids[0].startswith(HINT):
            self.tree.selectionModel().clearSelection()
            self.step_asked.emit(HINTS[ids[0].removeprefix(HINT)][0])
            return
        current = thing_of(str(self.tree.currentIndex().data(ID)))
        ids.sort(key=lambda i: i == current)  # the one chosen last is the selection
        things = [i for i in dict.fromkeys(ids) if find(self.session.shown, i) is not None]
        if len(things) > 1:
            self.session.select_several(things)
        elif not ids or ids[-1] in HEADINGS:
            self.session.select(None)
            if ids and ids[-1] == "Checks":
                self.checks_chosen.emit()
        elif ids[-1] != self.session.selection or len(self.session.selected_ids) > 1:
            self.session.select(ids[-1])

    def _follow(self) -> None:
        wanted = [i for i in self.session.selected_ids if i in self.model.rows]
        selected = {thing_of(str(i.data(ID))) for i in self.tree.selectionModel().selectedIndexes()}
        if set(wanted) == selected or (not wanted and selected <= set(HEADINGS)):
            return
        self._filling = True
        selection = QItemSelection()
        for item_id in wanted:
            above = self.model.at(item_id).parent()
            while above.isValid():
                self.tree.setExpanded(above, True)
                above = above.parent()
            selection.select(self.model.at(item_id), self.model.at(item_id))
        model = self.tree.selectionModel()
        model.select(selection, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        if wanted:
            last = self.model.at(wanted[-1])
            model.setCurrentIndex(last, QItemSelectionModel.SelectionFlag.NoUpdate)
            self.tree.scrollTo(last)
        self._filling = False
