"""What is on the screen while the program loads."""

from __future__ import annotations

from PySide6.QtCore import QRect, Qt
from PySide6.QtGui import QColor, QFont, QGuiApplication, QPainter, QPixmap
from PySide6.QtWidgets import QApplication, QLabel

from kestrav.app.widgets.style import FAMILY
from kestrav.app.widgets.window_colours import CARD, INK, PETROL_DARK, RULE, STRAW

_WIDTH, _HEIGHT, _HEAD, _MARGIN = 420, 148, 64, 24


def start_picture(file: str) -> QLabel:
    """Show that the program starts, and the name of the file that it opens."""
    ratio = QGuiApplication.primaryScreen().devicePixelRatio()
    picture = QPixmap(round(_WIDTH * ratio), round(_HEIGHT * ratio))
    picture.setDevicePixelRatio(ratio)
    picture.fill(QColor(CARD))
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.TextAntialiasing)
    painter.fillRect(0, 0, _WIDTH, _HEAD, QColor(PETROL_DARK))
    painter.fillRect(0, _HEAD, _WIDTH, 2, QColor(STRAW))
    painter.setPen(QColor(RULE))
    painter.drawRect(0, 0, _WIDTH - 1, _HEIGHT - 1)
    name = QFont(FAMILY)
    name.setPixelSize(24)
    name.setWeight(QFont.Weight.DemiBold)
    painter.setFont(name)
    painter.setPen(QColor(CARD))
    left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
    painter.drawText(QRect(_MARGIN, 0, _WIDTH - 2 * _MARGIN, _HEAD), left, "Kestrav")
    words = QFont(FAMILY)
    words.setPixelSize(14)
    painter.setFont(words)
    painter.setPen(QColor(INK))
    room = QRect(_MARGIN, _HEAD, _WIDTH - 2 * _MARGIN, _HEIGHT - _HEAD)
    text = painter.fontMetrics().elidedText(
        f"Opening {file} …" if file else "Starting …", Qt.TextElideMode.ElideMiddle, room.width()
    )
    painter.drawText(room, left, text)
    painter.end()
    # Qt's own splash screen waits up to a second for the window manager, twice
    shown = QLabel()
    shown.setWindowFlags(Qt.WindowType.SplashScreen | Qt.WindowType.FramelessWindowHint)
    shown.setPixmap(picture)
    shown.resize(_WIDTH, _HEIGHT)
    shown.move(QGuiApplication.primaryScreen().availableGeometry().center() - shown.rect().center())
    shown.show()
    for _ in range(3):  # shown, exposed, painted
        QApplication.processEvents()
    return shown
