"""How a row of the contents is painted: a name at the left, a number at the right, and the health of a heading."""

from __future__ import annotations

from PySide6.QtCore import (
    QPoint,
    QRect,
    QSize,
    Qt,
)
from PySide6.QtGui import QColor, QFont, QPainter, QPen, QPolygon
from PySide6.QtWidgets import (
    QLineEdit,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeView,
    QWidget,
)

from kestrav.app.contents.contents_model import HEALTH, NUMBER, Index
from kestrav.app.widgets.window_colours import CHOSEN, HEADING, HEALTH_COLOUR, INK, MUTED, ROW_LINE, RULE

_HEIGHT = 26  # px


class RowPainter(QStyledItemDelegate):
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
        painter.setPen(QPen(QColor(RULE if heading else ROW_LINE)))
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
