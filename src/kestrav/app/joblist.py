"""The job list: one list in the order of the work, each row with its most useful number."""

from __future__ import annotations

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPoint, QRect, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QPainter, QPen, QPolygon
from PySide6.QtWidgets import QStyledItemDelegate, QStyleOptionViewItem, QTreeWidget, QTreeWidgetItem

from kestrav.app.session import Session
from kestrav.app.style import CHOSEN, HEADING, HEALTH_COLOUR, MUTED
from kestrav.core.document.records import Camera, Project
from kestrav.core.findings.check import CheckResult
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.motion.poses import moving_groups
from kestrav.core.motion.runs import journey
from kestrav.core.units import show
from kestrav.render.palette import INK, PETROL, RULE

_ID, _NUMBER, _HEALTH = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1, Qt.ItemDataRole.UserRole + 2
HEADINGS = ("Product", "Paths", "Runs", "Checks", "Cameras & shots")
_HEIGHT = 26


class _Rows(QStyledItemDelegate):
    """Paints a name at the left and a number at the right; headings with a health dot."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        return QSize(100, _HEIGHT if index.parent().isValid() else _HEIGHT + 2)

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        rect: QRect = option.rect  # type: ignore[attr-defined]
        heading = not index.parent().isValid()
        view = self.parent()
        assert isinstance(view, QTreeWidget)
        chosen = index.siblingAtColumn(0) in view.selectionModel().selectedIndexes()
        whole = QRect(0 if heading else rect.x(), rect.y(), view.viewport().width(), rect.height())
        whole.setRight(view.viewport().width() - 1)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if heading or chosen:
            painter.fillRect(whole, QColor(CHOSEN if chosen else HEADING))
        painter.setPen(QPen(QColor(RULE if heading else "#e9e3d5")))
        painter.drawLine(whole.left(), rect.bottom(), whole.right(), rect.bottom())
        number = str(index.data(_NUMBER) or "")
        font = QFont(option.font)  # type: ignore[attr-defined]
        metrics = option.fontMetrics  # type: ignore[attr-defined]
        right = metrics.horizontalAdvance(number) + 12
        left = rect.x() + (4 if not heading else 0)
        if heading:
            health = index.data(_HEALTH) or "unknown"
            _dot(painter, 17, rect.center().y() + 1, health)
            font.setWeight(QFont.Weight.DemiBold)
            left = 30
        painter.setFont(font)
        hidden = index.data(Qt.ItemDataRole.ForegroundRole) is not None
        painter.setPen(QColor(MUTED if hidden else INK))
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


class JobList(QTreeWidget):
    """Follows the session; choosing a row selects its item."""

    checks_chosen = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setHeaderHidden(True)
        self.setColumnCount(1)
        self.setIndentation(14)
        self.setItemDelegate(_Rows(self))
        self.setRootIsDecorated(True)
        self.setUniformRowHeights(False)
        self.setAccessibleName("Job list")
        self.setToolTip("The work in order: product, paths, runs, checks, cameras and shots")
        self._filling = False
        self._drawn: tuple[object, ...] = ()
        self._result: CheckResult | None = None
        self._rows: dict[str, QTreeWidgetItem] = {}
        self._open: set[str] = set()
        self.currentItemChanged.connect(self._choose)
        self.itemExpanded.connect(lambda row: self._open.add(row.data(0, _ID)))
        self.itemCollapsed.connect(lambda row: self._open.discard(row.data(0, _ID)))
        session.edited.connect(self.fill)
        session.selected.connect(self._follow)

    def drawBranches(self, painter: QPainter, rect: QRect, index: QModelIndex) -> None:
        heading = not index.parent().isValid()
        chosen = self.selectionModel().isSelected(index)
        if chosen:
            painter.fillRect(rect, QColor(CHOSEN))
            painter.fillRect(QRect(0, rect.y(), 3, rect.height()), QColor(PETROL))
        if not heading:
            super().drawBranches(painter, rect, index)
            painter.setPen(QPen(QColor("#e9e3d5")))
            painter.drawLine(rect.left(), rect.bottom(), rect.right(), rect.bottom())

    def show_result(self, result: CheckResult | None) -> None:
        """Take a check's result (None: not known now) into the health dots and numbers."""
        self._result = result
        self._tell_health()

    def fill(self) -> None:
        """Make the rows anew when what they show has changed."""
        project = self.session.shown
        state = (project.parts, project.paths, project.runs, project.cameras, project.shots)
        if len(self._drawn) == len(state) and all(a is b for a, b in zip(self._drawn, state, strict=True)):
            return
        same_tree = self._drawn and self._drawn[0] is project.parts and _ids(self._drawn) == _ids(state)
        self._drawn = state
        if same_tree and self.topLevelItemCount():
            self._renumber(project)
            return
        self._filling = True
        self.clear()
        self._rows = {}
        groups = [QTreeWidgetItem(self, [name]) for name in HEADINGS]
        for group, name in zip(groups, HEADINGS, strict=True):
            group.setData(0, _ID, name)
            group.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
        for part in project.parts:
            parent = groups[0] if part.parent is None else self._rows[part.parent]
            self._add(parent, part.id, part.name)
        for path in project.paths:
            self._add(groups[1], path.id, path.name)
        for run in project.runs:
            self._add(groups[2], run.id, run.name)
        for item in (*project.cameras, *project.shots):
            self._add(groups[4], item.id, item.name)
        for group in groups:
            group.setExpanded(True)
        for key in self._open & self._rows.keys():
            self._rows[key].setExpanded(True)
        self._filling = False
        self._renumber(project)
        self._follow()

    def _add(self, parent: QTreeWidgetItem, item_id: str, name: str) -> None:
        row = QTreeWidgetItem(parent, [name])
        row.setData(0, _ID, item_id)
        self._rows[item_id] = row

    def _renumber(self, project: Project) -> None:
        moving = moving_groups(project)
        above_moving = {p.id for p in project.parts if p.id in moving}
        for part in reversed(project.parts):
            if part.id in above_moving and part.parent:
                above_moving.add(part.parent)
        for part in project.parts:
            row = self._rows[part.id]
            state = "moves" if part.id in moving else "holds a mover" if part.id in above_moving else "fixed"
            row.setData(0, _NUMBER, "hidden" if not part.shown else state)
            row.setText(0, part.name)
        for path in project.paths:
            self._rows[path.id].setData(0, _NUMBER, show(path_curve(path).length, "mm", 0))
            self._rows[path.id].setText(0, path.name)
        for run in project.runs:
            trip = journey(project, run)
            self._rows[run.id].setData(0, _NUMBER, f"{trip.start:.1f}–{trip.end:.1f}\u2009s")
            self._rows[run.id].setText(0, run.name)
        for item in (*project.cameras, *project.shots):
            number = (
                show(item.focal_length, "mm lens", 0)
                if isinstance(item, Camera)
                else f"{item.start:.1f}–{item.end:.1f}\u2009s"
            )
            self._rows[item.id].setData(0, _NUMBER, number)
            self._rows[item.id].setText(0, item.name)
        self._tell_health()

    def _tell_health(self) -> None:
        if not self.topLevelItemCount():
            return
        project, result = self.session.shown, self._result
        solids = sum(p.geometry is not None for p in project.parts)
        counts = [
            f"{solids} parts",
            str(len(project.paths)),
            str(len(project.runs)),
            "checking …" if result is None else str(len(result.findings)),
            str(len(project.cameras) + len(project.shots)),
        ]
        for row, count in enumerate(counts):
            group = self.topLevelItem(row)
            group.setData(0, _NUMBER, count)
            group.setData(0, _HEALTH, self._health(row, project))
        self.viewport().update()

    def _health(self, row: int, project: Project) -> str:
        """Health of a heading: the worst finding about the things under it; checks have them all."""
        result = self._result
        if result is None:
            return "unknown"
        groups: list[set[str]] = [
            {p.id for p in project.parts},
            {p.id for p in project.paths},
            {r.id for r in project.runs},
            set(),
            {i.id for i in (*project.cameras, *project.shots)},
        ]
        severities = set()
        for finding in result.findings:
            about = set(finding.subject)
            # a clearance breach is the run's doing, not the product's
            if finding.rule in ("clearance-breach", "collision", "orientation-flip"):
                about = {r.id for r in project.runs if r.rider in _with_parents(project, finding.subject)}
            if row == 3 or about & groups[row]:
                severities.add(finding.severity)
        if "breach" in severities:
            return "breach"
        return "warning" if "warning" in severities else "good"

    def _choose(self, row: QTreeWidgetItem | None) -> None:
        if self._filling or row is None:
            return
        chosen = row.data(0, _ID)
        if chosen == "Checks":
            self.session.select(None)
            self.checks_chosen.emit()
        elif chosen in HEADINGS:
            self.session.select(None)
        elif chosen != self.session.selection:
            self.session.select(chosen)

    def _follow(self) -> None:
        row = self._rows.get(self.session.selection or "")
        if row is None:
            if self.currentItem() is not None and self.currentItem().parent() is not None:
                self._filling = True
                self.setCurrentItem(None)
                self._filling = False
            return
        if row is not self.currentItem():
            self._filling = True
            self.setCurrentItem(row)
            self.scrollToItem(row)
            self._filling = False


def _ids(state: tuple) -> list[list[str]]:  # type: ignore[type-arg]
    return [[item.id for item in group] for group in state]


def _with_parents(project: Project, ids: tuple[str, ...]) -> set[str]:
    parent = {p.id: p.parent for p in project.parts}
    found: set[str] = set()
    for one in ids:
        here: str | None = one
        while here is not None and here in parent:
            found.add(here)
            here = parent[here]
    return found
