"""The bars of the timeline: what moves and what is filmed, over its span; they are moved, stretched and split there."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, QSizeF, Qt
from PySide6.QtGui import QColor, QFont, QPainter, QPen, QPixmap
from PySide6.QtWidgets import (
    QGraphicsSceneHoverEvent,
    QGraphicsSceneMouseEvent,
    QStyleOptionGraphicsItem,
    QWidget,
)

from kestrav.app.timeline.chart import Chart
from kestrav.app.widgets.style import FAMILY
from kestrav.app.widgets.window_colours import CARD, INK, STRAW

EDGE_PIXELS = 6  # at an end of a bar within which it is stretched
_AROUND = 6  # px about a bar into which its outline and its marks reach
_SMALLEST_MIDDLE = 14  # px that are left to move a bar by, however short it is

Grip = Literal["start", "end", "all"]


class Bar(pg.GraphicsObject):  # type: ignore[misc]
    """A run, key poses, an attachment or a shot over its span; its middle moves it in time, its ends stretch it."""

    def __init__(self, timeline: Chart, item_id: str, *shown: object) -> None:
        super().__init__()
        self.timeline, self.item_id = timeline, item_id
        self.name, self.start, self.end, self.row, self.colour = "", 0.0, 0.0, 0, INK
        self.marks: tuple[float, ...] = ()  # times of key poses
        self.open_end = False  # it goes on beyond its end
        self._drawn: tuple[tuple[object, ...], QPixmap] | None = None
        self.tell(*shown)  # type: ignore[arg-type]
        self.setAcceptHoverEvents(True)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.grabbed: tuple[Grip, float, float] | None = None  # which end, where, and what it was

    def tell(
        self,
        name: str,
        start: float,
        end: float,
        row: int,
        colour: str,
        marks: tuple[float, ...] = (),
        open_end: bool = False,
    ) -> None:
        """Say what it is now."""
        shown = (name, start, end, row, colour, marks, open_end)
        if shown == (self.name, self.start, self.end, self.row, self.colour, self.marks, self.open_end):
            self.update()
            return
        self.prepareGeometryChange()
        self.name, self.start, self.end, self.row, self.colour, self.marks, self.open_end = shown
        unit = "mm" if self.timeline.by_distance else "s"
        tip = f"{name}: {start:.2f} to {'…' if open_end else f'{end:.2f}'} {unit}"
        if not self.timeline.by_distance:
            frames = (end - start) * self.timeline.session.shown.settings.fps
            tip += (
                f", {frames:.1f} frames. Click selects, Ctrl takes several; drag moves it, its ends stretch it; "
                "Alt leaves snapping out; right click for more"
            )
        self.setToolTip(tip)
        self.update()

    def boundingRect(self) -> QRectF:
        return QRectF(self.start, self.row + 0.08, max(self.end - self.start, 1e-6), 0.84)

    def on_screen(self) -> QRectF:
        """The bar in the scene's pixels."""
        return self.sceneTransform().mapRect(self.boundingRect())

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        if not self.timeline.shows_row(self.row):
            return
        transform = painter.transform()
        rect = transform.mapRect(self.boundingRect())
        left, right = self.timeline.chart_left(), self.timeline.chart_right()
        shown = rect.intersected(QRectF(left - 8, rect.top(), right - left + 16, rect.height()))
        if shown.width() < 1:
            return
        chosen = self.item_id in (self.timeline.session.selection, *self.timeline.marked)
        ratio = widget.devicePixelRatioF() if widget is not None else 1.0
        marks = tuple(transform.map(QPointF(mark, 0.0)).x() - shown.left() for mark in self.marks)
        key = (self.name, self.colour, self.open_end, chosen, ratio, shown.size(), rect.left() - left, marks)
        if self._drawn is None or self._drawn[0] != key:
            self._drawn = (key, self._picture(rect, shown, left, ratio, marks, chosen=chosen))
        painter.save()
        painter.resetTransform()
        painter.drawPixmap(shown.topLeft() - QPointF(_AROUND, _AROUND), self._drawn[1])
        painter.restore()

    def _picture(
        self, rect: QRectF, shown: QRectF, left: float, ratio: float, marks: tuple[float, ...], *, chosen: bool
    ) -> QPixmap:
        """What of the bar is shown, kept as long as it looks the same: drawing text is slow."""
        size = (shown.size() + QSizeF(2 * _AROUND, 2 * _AROUND)) * ratio
        picture = QPixmap(math.ceil(size.width()), math.ceil(size.height()))
        picture.setDevicePixelRatio(ratio)
        picture.fill(Qt.GlobalColor.transparent)
        painter = QPainter(picture)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.translate(QPointF(_AROUND, _AROUND) - shown.topLeft())
        painter.setPen(QPen(QColor(INK), 2) if chosen else Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self.colour))
        body = rect.intersected(shown.adjusted(-4, 0, 4, 0)).adjusted(0.5, 0, -0.5, 0)
        painter.drawRoundedRect(body, 3, 3)
        if self.open_end:
            painter.setPen(QPen(QColor(CARD), 1.5, Qt.PenStyle.DotLine))
            painter.drawLine(body.topRight() - QPointF(3, -3), body.bottomRight() - QPointF(3, 3))
        font = QFont(FAMILY)
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor(CARD))
        # a name whose bar begins left of what is shown is read all the same
        begin = max(rect.left(), left)
        room = QRectF(begin + 7, rect.top(), max(shown.right() - begin - 12, 0.0), rect.height())
        text = painter.fontMetrics().elidedText(self.name, Qt.TextElideMode.ElideRight, max(int(room.width()), 0))
        painter.drawText(room, int(Qt.AlignmentFlag.AlignVCenter), text)
        painter.setPen(QPen(QColor(INK), 1))
        painter.setBrush(QColor(STRAW))
        for mark in marks:
            painter.drawPolygon(diamond(QPointF(shown.left() + mark, rect.center().y()), 4.5))
        painter.end()
        return picture

    def grip_at(self, scene: QPointF) -> Grip:
        """What a place of the scene takes hold of."""
        if self.timeline.by_distance:
            return "all"
        rect = self.on_screen()
        edge = min(EDGE_PIXELS, max(0.5 * (rect.width() - _SMALLEST_MIDDLE), 0.0))
        if scene.x() < rect.left() + edge:
            return "start"
        if scene.x() > rect.right() - edge and not self.open_end:
            return "end"
        return "all"

    def hoverMoveEvent(self, event: QGraphicsSceneHoverEvent) -> None:
        ends = self.grip_at(event.scenePos()) != "all"
        self.setCursor(Qt.CursorShape.SizeHorCursor if ends else Qt.CursorShape.PointingHandCursor)

    def mousePressEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            event.ignore()
            return
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.timeline.mark(self.item_id)
            event.accept()
            return
        grip = self.grip_at(event.scenePos())
        self.grabbed = (grip, event.pos().x(), self.end if grip == "end" else self.start)
        self.timeline.bar_drags += 1
        self.timeline.take_bar(self.item_id)
        event.accept()

    def mouseMoveEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        if self.grabbed is None:
            return
        grip, held, was = self.grabbed
        free = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        self.timeline.drag_bar(self.item_id, grip, was + event.pos().x() - held, free=free)

    def mouseReleaseEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        self.grabbed = None
        self.timeline.let_go()


def diamond(at: QPointF, half: float) -> list[QPointF]:
    """A diamond about a place."""
    return [at + QPointF(x, y) for x, y in ((0, -half), (half, 0), (0, half), (-half, 0))]


def in_rows(things: list[str], spans: list[tuple[float, float]]) -> list[int]:
    """A row for each span, those of a thing in one row where they do not overlap, and things that come after one another
    in one row too."""
    order = sorted(range(len(spans)), key=lambda k: spans[k][0])
    own: dict[tuple[str, int], list[int]] = {}
    for k in order:
        level = 0
        while any(spans[j][1] > spans[k][0] + 1e-9 for j in own.get((things[k], level), [])):
            level += 1
        own.setdefault((things[k], level), []).append(k)
    groups = list(own.values())
    row_of = [0] * len(spans)
    whole = [(min(spans[k][0] for k in group), max(spans[k][1] for k in group)) for group in groups]
    for group, row in zip(groups, stacked(whole), strict=True):
        for k in group:
            row_of[k] = row
    return row_of


def stacked(spans: list[tuple[float, float]]) -> list[int]:
    """A row for each span, so that no two in a row overlap."""
    ends: list[float] = []
    rows = [0] * len(spans)
    for i in sorted(range(len(spans)), key=lambda k: spans[k][0]):
        start, end = spans[i]
        row = next((r for r, last in enumerate(ends) if last <= start + 1e-9), len(ends))
        ends[row : row + 1] = [end if np.isfinite(end) else start]
        rows[i] = row
    return rows
