"""The signs on buttons, drawn at whatever size and scale they are shown."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Final

from PySide6.QtCore import QPointF, QRect, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QIcon, QIconEngine, QPainter, QPen, QPixmap

from kestrav.app.widgets.window_colours import MUTED, PETROL

Line = tuple[tuple[float, float], ...]

_SIDE: Final = 24.0  # of the square that the signs are drawn in
_WIDTH: Final = 2.0  # of their lines
_RING: Final = QRectF(3.5, 3.5, 13.0, 13.0)  # a magnifier's
_HANDLE: Final[Line] = ((15.0, 15.0), (20.5, 20.5))


def _mirrored(line: Line) -> Line:
    return tuple((_SIDE - x, y) for x, y in line)


_PLAY: Final[Line] = ((7.5, 4.5), (7.5, 19.5), (19.5, 12.0))
_SKIP: Final[Line] = ((6.0, 6.0), (6.0, 18.0), (14.5, 12.0))
_BAR: Final[Line] = ((16.0, 6.0), (18.5, 6.0), (18.5, 18.0), (16.0, 18.0))
_POST: Final[Line] = ((6.0, 5.0), (10.0, 5.0), (10.0, 19.0), (6.0, 19.0))
_AHEAD: Final[Line] = ((9.0, 6.0), (15.0, 12.0), (9.0, 18.0))
_OUT: Final[Line] = ((17.0, 8.0), (21.0, 12.0), (17.0, 16.0))

# what is filled, and what is drawn as lines
_SIGNS: Final[Mapping[str, tuple[Sequence[Line], Sequence[Line]]]] = MappingProxyType(
    {
        "play": ((_PLAY,), ()),
        "pause": ((_POST, _mirrored(_POST)), ()),
        "start": ((_mirrored(_SKIP), _mirrored(_BAR)), ()),
        "end": ((_SKIP, _BAR), ()),
        "back": ((), (_mirrored(_AHEAD),)),
        "ahead": ((), (_AHEAD,)),
        "more": ((), (_HANDLE, ((7.0, 10.0), (13.0, 10.0)))),
        "less": ((), (_HANDLE, ((7.0, 10.0), (13.0, 10.0)), ((10.0, 7.0), (10.0, 13.0)))),
        "all": ((), (((3.5, 12.0), (20.5, 12.0)), _OUT, _mirrored(_OUT))),
    }
)
_RINGED: Final = ("more", "less")


class _Engine(QIconEngine):
    def __init__(self, name: str) -> None:
        super().__init__()
        self.name = name

    def paint(self, painter: QPainter, rect: QRect, mode: QIcon.Mode, state: QIcon.State) -> None:
        colour = QColor(MUTED if mode == QIcon.Mode.Disabled else PETROL)
        filled, lines = _SIGNS[self.name]
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        side = min(rect.width(), rect.height())
        painter.translate(rect.x() + 0.5 * (rect.width() - side), rect.y() + 0.5 * (rect.height() - side))
        painter.scale(side / _SIDE, side / _SIDE)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        for line in filled:
            painter.drawPolygon([QPointF(*place) for place in line])
        painter.setPen(QPen(colour, _WIDTH, c=Qt.PenCapStyle.RoundCap, j=Qt.PenJoinStyle.RoundJoin))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for line in lines:
            painter.drawPolyline([QPointF(*place) for place in line])
        if self.name in _RINGED:
            painter.drawEllipse(_RING)
        painter.restore()

    def pixmap(self, size: QSize, mode: QIcon.Mode, state: QIcon.State) -> QPixmap:
        picture = QPixmap(size)
        picture.fill(Qt.GlobalColor.transparent)
        painter = QPainter(picture)
        self.paint(painter, QRect(0, 0, size.width(), size.height()), mode, state)
        painter.end()
        return picture

    def clone(self) -> QIconEngine:
        return _Engine(self.name)


def icon_of(name: str) -> QIcon:
    """A sign by its name: play, pause, start, end, back, ahead, more, less, all. Raises KeyError for another."""
    _SIGNS[name]
    return QIcon(_Engine(name))
