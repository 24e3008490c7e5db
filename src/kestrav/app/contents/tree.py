"""The contents: one list in the order of the work, each row with its most useful number.

Rows are made for what is in the document by a model that is asked only for the rows in sight, so that
thousands of parts scroll as well as ten.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

import numpy as np
from PySide6.QtCore import (
    QAbstractItemModel,
    QItemSelection,
    QItemSelectionModel,
    QMimeData,
    QModelIndex,
    QPersistentModelIndex,
    QPoint,
    QRect,
    QSize,
    Qt,
    Signal,
)
from PySide6.QtGui import QColor, QFont, QPainter, QPen, QPolygon
from PySide6.QtWidgets import (
    QAbstractItemView,
    QLineEdit,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeView,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.session import Session
from kestrav.app.widgets.style import CHOSEN, HEADING, HEALTH_COLOUR, MUTED
from kestrav.core.clearance.asked import required_by
from kestrav.core.document import edits
from kestrav.core.document.lookup import ancestors, children, find, named_parts
from kestrav.core.document.records import (
    COLLECTIONS,
    Ball,
    Camera,
    Carry,
    Drive,
    Item,
    Light,
    Note,
    Part,
    Path,
    Poses,
    Project,
    Requirement,
    Rod,
    Roll,
    Run,
    Shot,
    Spin,
    Swivel,
)
from kestrav.core.editing.wheel_making import turns_of
from kestrav.core.findings.check import CheckResult
from kestrav.core.kinematics.lane_values import ways_rolled
from kestrav.core.kinematics.legs import leg_of
from kestrav.core.kinematics.poses import moving_groups
from kestrav.core.kinematics.runs import span
from kestrav.core.mechanisms.gears import told_ratio
from kestrav.core.parts.arranging import reparent
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show
from kestrav.render.palette import INK, PETROL, RULE

NUMBER, HEALTH, ID = (Qt.ItemDataRole.UserRole + i for i in (1, 2, 0))
HEADINGS = ("Product", "Paths", "Runs", "Checks", "Cameras", "Shots", "Lights")
_CHECKS = HEADINGS.index("Checks")
_GROUP = "moved:"  # begins the id of a row that holds all motions of one thing
_HEIGHT = 26
_MIME = "application/x-kestrav-parts"

Index = QModelIndex | QPersistentModelIndex


class _Delegate(QStyledItemDelegate):
    """Paints a name at the left and a number at the right; headings with a health dot."""

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(100, _HEIGHT)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        rect: QRect = option.rect  # type: ignore[attr-defined]
        heading = not index.parent().isValid()
        view = self.parent()
        assert isinstance(view, QTreeView)
        chosen = view.selectionModel().isSelected(index)
        whole = QRect(0 if heading else rect.x(), rect.y(), view.viewport().width(), rect.height())
        whole.setRight(view.viewport().width() - 1)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if heading or chosen:
            painter.fillRect(whole, QColor(CHOSEN if chosen else HEADING))
        painter.setPen(QPen(QColor(RULE if heading else "#e9e3d5")))
        painter.drawLine(whole.left(), rect.bottom(), whole.right(), rect.bottom())
        number = str(index.data(NUMBER) or "")
        font = QFont(option.font)  # type: ignore[attr-defined]
        metrics = option.fontMetrics  # type: ignore[attr-defined]
        right = metrics.horizontalAdvance(number) + 12
        left = rect.x() + (4 if not heading else 0)
        if heading:
            health = index.data(HEALTH) or "unknown"
            _dot(painter, 17, rect.center().y() + 1, health)
            font.setWeight(QFont.Weight.DemiBold)
            left = 30
        painter.setFont(font)
        muted = index.data(Qt.ItemDataRole.ForegroundRole) is not None
        painter.setPen(QColor(MUTED if muted else INK))
        room = QRect(left, rect.y(), whole.right() - left - right - 6, rect.height())
        name = painter.fontMetrics().elidedText(str(index.data()), Qt.TextElideMode.ElideRight, room.width())
        painter.drawText(room, int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft), name)
        painter.setFont(option.font)  # type: ignore[attr-defined]
        painter.setPen(QColor(MUTED))
        painter.drawText(
            QRect(whole.right() - right, rect.y(), right, rect.height()).adjusted(0, 0, -10, 0),
            int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight),
            number,
        )
        painter.restore()

    def createEditor(self, parent: QWidget, option: QStyleOptionViewItem, index: Index) -> QWidget:
        editor = QLineEdit(parent)
        editor.setObjectName("rename")
        editor.setFrame(False)
        return editor


def _dot(painter: QPainter, x: int, y: int, health: str) -> None:
    """A health mark told apart by shape as well as colour: disc good, triangle warning, square breach, ring unknown."""
    colour = QColor(HEALTH_COLOUR[health])
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour)
    if health == "good":
        painter.drawEllipse(QRect(x - 4, y - 4, 8, 8))
    elif health == "breach":
        painter.drawRect(QRect(x - 4, y - 4, 8, 8))
    elif health == "warning":
        painter.drawPolygon(QPolygon.fromList(_triangle(x, y)))
    else:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(colour, 1.5))
        painter.drawEllipse(QRect(x - 4, y - 4, 8, 8))


def _triangle(x: int, y: int) -> list[QPoint]:
    return [QPoint(x, y - 5), QPoint(x + 5, y + 4), QPoint(x - 5, y + 4)]


class _Row:
    """A row: what it stands for, where it hangs."""

    __slots__ = ("below", "id", "number", "parent")

    def __init__(self, item_id: str, parent: _Row | None, number: int) -> None:
        self.id, self.parent, self.number = item_id, parent, number
        self.below: list[_Row] = []


class _Model(QAbstractItemModel):
    """The document as rows under the headings."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.words = ""
        self.result: CheckResult | None = None
        self.tops: list[_Row] = []
        self.rows: dict[str, _Row] = {}
        self._of: tuple[object, ...] = ()
        self._structure: list[object] = []
        self._moving: dict[str, int] = {}
        self._holders: set[str] = set()

    # making rows

    def fill(self) -> bool:
        """Follow the document; tells whether the rows were made anew."""
        project = self.session.shown
        state = (*(getattr(project, name) for name in COLLECTIONS.values()), self.words)
        if len(self._of) == len(state) and all(a is b for a, b in zip(self._of, state, strict=True)):
            return False
        self._of = state
        self._find_movers(project)
        structure: list[object] = [self.words, [(p.id, p.parent) for p in project.parts]]
        structure += [[item.id for item in getattr(project, COLLECTIONS[kind])] for kind in _LISTED]
        moved = {item.id: self._mover_of(project, item) for item in _motions(project)}
        structure.append(moved)
        if self.words:
            structure.append([item.name for item in _named(project)])
        if structure == self._structure:
            return False
        self.beginResetModel()
        self._structure = structure
        self._make_rows(project, moved)
        self.endResetModel()
        return True

    def _find_movers(self, project: Project) -> None:
        self._moving = moving_groups(project)
        self._holders = set()
        for part in reversed(project.parts):
            if part.parent and (part.id in self._moving or part.id in self._holders):
                self._holders.add(part.parent)

    def _mover_of(self, project: Project, item: Item) -> str:
        """The outermost thing that a motion belongs to: a wheel to the trolley that it carries."""
        thing = item.rider if isinstance(item, (Run, Poses, Carry)) else named_parts(item)[0]  # type: ignore[arg-type]
        return next((above for above in ancestors(project, thing) if above in self._moving), thing)

    def _make_rows(self, project: Project, moved: Mapping[str, str]) -> None:
        self.rows = {}
        self.tops = [_Row(name, None, i) for i, name in enumerate(HEADINGS)]
        wanted = self._found(project)

        def add(item_id: str, parent: _Row) -> None:
            if wanted is None or item_id in wanted:
                row = _Row(item_id, parent, len(parent.below))
                parent.below.append(row)
                self.rows[item_id] = row

        for part in project.parts:
            above = self.tops[0] if part.parent is None else self.rows.get(part.parent)
            if above is not None:
                add(part.id, above)
        # parts put under an earlier parent come late in the document; their rows follow the tree
        for note in project.notes:
            add(note.id, self.tops[0])
        for path in project.paths:
            add(path.id, self.tops[1])
        several = Counter(moved.values())
        for item in _motions(project):
            thing = moved[item.id]
            above = self.tops[2]
            if several[thing] > 1 and (wanted is None or item.id in wanted):
                above = self.rows.get(f"{_GROUP}{thing}") or self._grouped(thing)
            add(item.id, above)
        for asked in project.requirements:
            add(asked.id, self.tops[_CHECKS])
        seen: tuple[tuple[Camera | Shot | Light, ...], ...] = (project.cameras, project.shots, project.lights)
        for top, some in enumerate(seen, _CHECKS + 1):
            for item in some:
                add(item.id, self.tops[top])

    def _grouped(self, thing: str) -> _Row:
        """The row under which all motions of a thing hang."""
        above = self.tops[2]
        row = _Row(f"{_GROUP}{thing}", above, len(above.below))
        above.below.append(row)
        self.rows[row.id] = row
        return row

    def _found(self, project: Project) -> set[str] | None:
        """Ids of what the words are found in and of all above it; None when there are no words."""
        words = self.words.casefold().split()
        if not words:
            return None
        found: set[str] = {item.id for item in _named(project) if all(w in item.name.casefold() for w in words)}
        for part in reversed(project.parts):
            if part.id in found and part.parent is not None:
                found.add(part.parent)
        return found

    # what Qt asks

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        above = self.tops if not parent.isValid() else self._row(parent).below
        return self.createIndex(row, column, above[row]) if 0 <= row < len(above) else QModelIndex()

    def parent(self, index: Index) -> QModelIndex:  # type: ignore[override]
        above = self._row(index).parent if index.isValid() else None
        return QModelIndex() if above is None else self.createIndex(above.number, 0, above)

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(self._row(parent).below) if parent.isValid() else len(self.tops)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 1

    def _row(self, index: Index) -> _Row:
        found = index.internalPointer()
        assert isinstance(found, _Row)
        return found

    def at(self, item_id: str) -> QModelIndex:
        """The index of an item, or an invalid one."""
        row = self.rows.get(item_id)
        return QModelIndex() if row is None else self.createIndex(row.number, 0, row)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if not index.isValid():
            return None
        row = self._row(index)
        if role == ID:
            return row.id
        if row.parent is None:
            return self._heading(row.number, role)
        if row.id.startswith(_GROUP):
            return self._group_data(row, role)
        item = find(self.session.shown, row.id)
        if item is None:
            return None
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return item.name
        if role == NUMBER:
            return self._number(item)
        if role == Qt.ItemDataRole.ForegroundRole and isinstance(item, Part):
            isolated = self.session.isolated
            return MUTED if not item.shown or (isolated is not None and item.id not in isolated) else None
        if role == Qt.ItemDataRole.ToolTipRole and isinstance(item, Part) and item.geometry is None:
            return f"{item.name}: {len(children(self.session.shown, item.id))} entries"
        return None

    def _group_data(self, row: _Row, role: int) -> object:
        thing = find(self.session.shown, thing_of(row.id))
        if role == Qt.ItemDataRole.DisplayRole:
            return thing.name if thing is not None else ""
        if role == NUMBER:
            return str(len(row.below))
        if role == Qt.ItemDataRole.ToolTipRole and thing is not None:
            return f"All motions of {thing.name}"
        return None

    def _heading(self, number: int, role: int) -> object:
        project, result = self.session.shown, self.result
        if role == Qt.ItemDataRole.DisplayRole:
            return HEADINGS[number]
        if role == HEALTH:
            return _health(number, project, result)
        if role == NUMBER:
            return (
                f"{sum(p.geometry is not None for p in project.parts)} parts",
                str(len(project.paths)),
                str(len(_motions(project))),
                "checking …" if result is None else str(len(result.findings)),
                str(len(project.cameras)),
                str(len(project.shots)),
                str(len(project.lights)),
            )[number]
        return None

    def _number(self, item: object) -> str:
        project = self.session.shown
        if isinstance(item, Part):
            if not item.shown:
                return "hidden"
            marks = [
                "locked" if item.locked else "",
                "moves"
                if item.id in self._moving
                else "contains moving parts"
                if item.id in self._holders
                else "to move"
                if item.role == "moving"
                else "fixed",
            ]
            return " · ".join(m for m in marks if m)
        if isinstance(item, Path):
            return show(path_curve(item).length, "mm", 0)
        if isinstance(item, (Run, Poses, Carry)):
            leg = leg_of(project, item)
            end = f"{leg.end:.1f}" if np.isfinite(leg.end) else "…"
            return f"{leg.start:.1f}–{end}\u2009s" if np.isfinite(leg.start) else "never"
        if isinstance(item, Roll):
            return f"{abs(turns_of(project, item)):.2f} turns"
        if isinstance(item, Swivel):
            return "castor"
        if isinstance(item, Spin):
            amount = item.turns if item.turns is not None else item.rpm or 0.0
            told = f"{-amount if item.mirrored else amount:.3g}".replace("-", "−")
            return f"{told} turns" if item.turns is not None else f"{told}\u2009rpm"
        if isinstance(item, Drive):
            return told_ratio(item)
        if isinstance(item, Rod):
            return {"points": "points", "slider": "slider", "rocker": "rocker"}.get(item.keeps, "parallel")
        if isinstance(item, Ball):
            around = 2 * np.pi * item.radius
            return f"{float(ways_rolled(project, item, [span(project)])[0]) / around:.2f} turns"
        if isinstance(item, Light):
            return f"{item.kind} light" if item.on else "off"
        if isinstance(item, Camera):
            return show(item.focal_length, "mm lens", 0)
        if isinstance(item, Requirement):
            return show(required_by(project, item), "mm", 1) if item.checked else "not checked"
        if isinstance(item, Note):
            known = self.session.readings(at_rest=True).get(item.id)
            return known.text if known is not None else "—"
        return f"{item.start:.1f}–{item.end:.1f}\u2009s"  # type: ignore[attr-defined]

    def flags(self, index: Index) -> Qt.ItemFlag:
        plain = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        if not index.isValid():
            return Qt.ItemFlag.NoItemFlags
        row = self._row(index)
        if row.parent is None:
            return plain | (Qt.ItemFlag.ItemIsDropEnabled if row.number == 0 else Qt.ItemFlag.NoItemFlags)
        if row.id.startswith(_GROUP):
            return plain
        flags = plain | Qt.ItemFlag.ItemIsEditable
        item = find(self.session.shown, row.id)
        if isinstance(item, Part):
            flags |= Qt.ItemFlag.ItemIsDragEnabled
            if item.geometry is None:
                flags |= Qt.ItemFlag.ItemIsDropEnabled
        return flags

    def setData(self, index: Index, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        name = " ".join(str(value).split())
        if role != Qt.ItemDataRole.EditRole or not name:
            return False
        item_id = self._row(index).id
        return self.session.edit("Rename", lambda project: edits.update(project, item_id, name=name))

    # dragging

    def supportedDropActions(self) -> Qt.DropAction:
        return Qt.DropAction.MoveAction

    def mimeTypes(self) -> list[str]:
        return [_MIME]

    def mimeData(self, indexes: Sequence[QModelIndex]) -> QMimeData:
        data = QMimeData()
        data.setData(_MIME, "\n".join(self._row(i).id for i in indexes).encode())
        return data

    def canDropMimeData(self, data: QMimeData, action: Qt.DropAction, row: int, column: int, parent: Index) -> bool:
        return data.hasFormat(_MIME) and parent.isValid() and self._target(parent) is not False

    def dropMimeData(self, data: QMimeData, action: Qt.DropAction, row: int, column: int, parent: Index) -> bool:
        """Put parts under another parent, before a row of it; they stay where they are in space."""
        target = self._target(parent)
        if not data.hasFormat(_MIME) or isinstance(target, bool):
            return False
        ids = bytes(data.data(_MIME).data()).decode().split("\n")
        below = self._row(parent).below
        before = (
            below[row].id
            if 0 <= row < len(below) and isinstance(find(self.session.shown, below[row].id), Part)
            else None
        )
        self.session.edit("Change parent", lambda project: reparent(project, ids, target, before))
        # the view must not remove the rows itself: the document has already been read anew
        return False

    def _target(self, parent: Index) -> str | bool | None:
        row = self._row(parent)
        if row.parent is None:
            return None if row.number == 0 else False
        item = find(self.session.shown, row.id)
        return item.id if isinstance(item, Part) and item.geometry is None else False


_LISTED = (Path, Run, Poses, Carry, Roll, Swivel, Spin, Drive, Rod, Ball, Note, Requirement, Camera, Light, Shot)


_MOVING = (Run, Poses, Carry, Roll, Swivel, Spin, Drive, Rod, Ball)


def thing_of(row_id: str) -> str:
    """The thing that a row means: of one that holds all motions of a thing, that thing."""
    return row_id.removeprefix(_GROUP)


def _motions(project: Project) -> list[Item]:
    return [item for kind in _MOVING for item in getattr(project, COLLECTIONS[kind])]


def _named(project: Project) -> Iterable[Item]:
    for kind in (Part, *_LISTED):
        yield from getattr(project, COLLECTIONS[kind])


def _health(row: int, project: Project, result: CheckResult | None) -> str:
    """Health of a heading: the worst finding about the things under it; checks have them all."""
    if result is None:
        return "unknown"
    groups: list[set[str]] = [
        {p.id for p in project.parts},
        {p.id for p in project.paths},
        {i.id for i in _motions(project)},
        set(),
        {i.id for i in project.cameras},
        {i.id for i in project.shots},
        {i.id for i in project.lights},
    ]
    severities = set()
    for finding in result.findings:
        about = set(finding.subject)
        # a clearance breach is the run's doing, not the product's
        if finding.rule in ("clearance-breach", "collision", "orientation-flip"):
            moving: tuple[Run | Poses | Carry, ...] = (*project.runs, *project.poses, *project.carries)
            about = {m.id for m in moving if m.rider in _with_parents(project, finding.subject)}
        if row == _CHECKS or about & groups[row]:
            severities.add(finding.severity)
    if "breach" in severities:
        return "breach"
    return "warning" if "warning" in severities else "good"


def _with_parents(project: Project, ids: tuple[str, ...]) -> set[str]:
    parent = {p.id: p.parent for p in project.parts}
    found: set[str] = set()
    for one in ids:
        here: str | None = one
        while here is not None and here in parent:
            found.add(here)
            here = parent[here]
    return found


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
            painter.setPen(QPen(QColor("#e9e3d5")))
            painter.drawLine(rect.left(), rect.bottom(), rect.right(), rect.bottom())


class ContentsTree(QWidget):
    """Follows the session; choosing rows selects their items."""

    checks_chosen = Signal()
    menu_asked = Signal(QPoint)  # on the screen, for the chosen parts

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.model = _Model(session)
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
        column.addWidget(self.search)
        column.addWidget(self.tree, 1)
        tree = self.tree
        tree.setModel(self.model)
        tree.setHeaderHidden(True)
        tree.setIndentation(14)
        tree.setItemDelegate(_Delegate(tree))
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
        tree.expanded.connect(lambda index: self._note_open(index, True))
        tree.collapsed.connect(lambda index: self._note_open(index, False))
        tree.selectionModel().selectionChanged.connect(self._choose)
        self.search.textChanged.connect(self._find)
        session.edited.connect(self.fill)
        session.selected.connect(self._follow)
        session.isolation.connect(lambda: tree.viewport().update())

    def _note_open(self, index: QModelIndex, is_open: bool) -> None:
        if not self._filling and not self.model.words:
            (self._open.add if is_open else self._open.discard)(index.data(ID))

    def show_result(self, result: CheckResult | None) -> None:
        """Take a check's result (None: not known now) into the health dots and numbers."""
        self.model.result = result
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
        if self.model.words:
            self.tree.expandAll()
            return
        for row in self.model.tops:
            self.tree.setExpanded(self.model.createIndex(row.number, 0, row), row.id in self._open)
        for item_id in self._open & self.model.rows.keys():
            self.tree.setExpanded(self.model.at(item_id), True)

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
        current = thing_of(str(self.tree.currentIndex().data(ID)))
        ids.sort(key=lambda i: i == current)  # the one chosen last is the selection
        parts = [i for i in ids if isinstance(find(self.session.shown, i), Part)]
        if len(parts) > 1:
            self.session.select_parts(parts)
        elif not ids or ids[-1] in HEADINGS:
            self.session.select(None)
            if ids and ids[-1] == "Checks":
                self.checks_chosen.emit()
        elif ids[-1] != self.session.selection or len(self.session.chosen) > 1:
            self.session.select(ids[-1])

    def _follow(self) -> None:
        wanted = [i for i in self.session.chosen or (self.session.selection,) if i in self.model.rows]
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
