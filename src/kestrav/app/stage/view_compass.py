"""The direction of view, always told: the axes of the room as they are seen, and in words."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QFont, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from kestrav.app.stage.overlays import make_native
from kestrav.app.widgets.window_colours import INK, RULE, SKY
from kestrav.render.viewpoint import Viewpoint

_WIDE, _HIGH, _LENGTH = 118, 84, 24.0
_LEVEL = 3.0  # degrees within which a view counts as level, or straight from one side
_STEEP = 87.0
_SIDES = (
    "right",
    "back right",
    "back",
    "back left",
    "left",
    "front left",
    "front",
    "front right",
)  # by azimuth, from +x on


def direction_in_words(azimuth: float, elevation: float) -> str:
    """From where a view looks, by its angles in rad: “front left, 24° above”. The front is −y, the right +x."""
    up = float(np.degrees(elevation))
    if abs(up) > _STEEP:
        return "from above" if up > 0 else "from below"
    side = _SIDES[round(float(np.degrees(azimuth)) / 45.0) % 8]
    return side if abs(up) < _LEVEL else f"{side}, {abs(up):.0f}° {'above' if up > 0 else 'below'}"


class ViewCompass(QWidget):
    """A small picture of the axes at the corner of the stage."""

    def __init__(self, stage: QWidget) -> None:
        super().__init__(stage)
        make_native(self)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setFixedSize(_WIDE, _HIGH)
        self.setAccessibleName("Direction of view")
        self._axes = np.zeros((3, 2))
        self._toward = np.zeros(3)
        self.text = ""

    def follow(self, view: Viewpoint) -> None:
        """Show a viewpoint's direction."""
        axes = np.stack([view.right, -view.up], axis=1)
        text = direction_in_words(view.azimuth, view.elevation)
        if text != self.text or not np.allclose(axes, self._axes, atol=1e-3):
            self._axes, self._toward, self.text = axes, -view.forward, text
            self.setAccessibleDescription(text)
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(SKY))
        painter.setPen(QPen(QColor(RULE)))
        painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle = QPointF(_WIDE / 2, (_HIGH - 20) / 2 + 3)
        font = QFont(self.font())
        font.setWeight(QFont.Weight.DemiBold)
        painter.setFont(font)
        # what points away from the person lies behind what points towards them
        for axis in np.argsort(self._toward):
            tip = middle + QPointF(*(_LENGTH * self._axes[axis]))
            colour = QColor(INK)
            colour.setAlphaF(1.0 if self._toward[axis] > -0.2 else 0.5)
            painter.setPen(QPen(colour, 2.0))
            painter.drawLine(middle, tip)
            place = middle + QPointF(*((_LENGTH + 8) * self._axes[axis]))
            painter.drawText(QPointF(place.x() - 3.5, place.y() + 4), "xyz"[axis])
        font.setWeight(QFont.Weight.Normal)
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor(INK))
        painter.drawText(
            self.rect().adjusted(2, 0, -2, -4), Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignBottom, self.text
        )
