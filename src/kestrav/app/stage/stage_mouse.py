"""What the mouse and the keys do in the stage, before and beside the tool in hand: lens, panes, turning, shifting, zooming."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QWheelEvent

from kestrav.app.stage.stage_base import StageBase

CLICK_PIXELS = 4.0  # a press that moves less than this is a click


class StageMouse:
    """Gives what happens in the view to the lens, the tool or the viewpoint."""

    def __init__(self, stage: StageBase) -> None:
        self.stage = stage
        self._before_press: tuple[QPoint, Qt.MouseButton] | None = None
        self._dragged = False
        self._last = QPoint()

    @property
    def holds(self) -> bool:
        """Whether a button is down."""
        return self._before_press is not None

    def press(self, event: QMouseEvent) -> None:
        self.stage.view.setFocus()
        position = event.position().toPoint()
        self._before_press, self._dragged, self._last = (position, event.button()), False, position
        if self.stage.over_lens(position):
            self.stage.lens_hand.press()
            return
        self.stage.enter_pane(position)
        if event.button() == Qt.MouseButton.LeftButton and self.stage.tool is not None:
            self.stage.tool.press(position, event.modifiers())

    def move_mouse(self, event: QMouseEvent) -> None:
        position = event.position().toPoint()
        step = position - self._last
        self._last = position
        if self._before_press is None:
            if self.stage.over_lens(position):
                return
            self.stage.enter_pane(position)
            if self.stage.tool is not None:
                self.stage.tool.hover(position, event.modifiers())
            return
        start, button = self._before_press
        if (position - start).manhattanLength() > CLICK_PIXELS:
            self._dragged = True
        if not self._dragged:
            return
        if self.stage.lens_hand.holding:
            self.stage.lens_hand.drag(step, button, event.modifiers(), self.stage.lens_rect)
            return
        if (
            button == Qt.MouseButton.LeftButton
            and self.stage.tool is not None
            and self.stage.tool.drag(position, event.modifiers())
        ):
            return
        if button == Qt.MouseButton.LeftButton and self.stage.pane.turnable:
            self.stage.viewpoint.turn(step.x() * 0.0075, step.y() * 0.0075)
        else:
            pixel = self.stage.pixel() * self.stage.devicePixelRatioF()
            self.stage.viewpoint.shift(-step.x() * pixel, step.y() * pixel)
        self.stage.schedule()

    def release(self, event: QMouseEvent) -> None:
        if self._before_press is None:
            return
        _, button = self._before_press
        self._before_press = None
        if self.stage.lens_hand.holding:
            self.stage.lens_hand.release()
            return
        if button == Qt.MouseButton.RightButton and not self._dragged:
            self.stage.menu_asked.emit(event.position().toPoint())
            return
        if button != Qt.MouseButton.LeftButton or self.stage.tool is None:
            return
        if self._dragged:
            self.stage.tool.drop()
        else:
            self.stage.tool.click(event.position().toPoint(), event.modifiers())

    def double_click(self, event: QMouseEvent) -> None:
        if self.stage.over_lens(event.position().toPoint()):
            return
        if event.button() == Qt.MouseButton.LeftButton and self.stage.tool is not None:
            self.stage.tool.double_click(event.position().toPoint())

    def wheel(self, event: QWheelEvent) -> None:
        position = event.position().toPoint()
        if self.stage.over_lens(position):
            self.stage.lens_hand.wheel(event.angleDelta().y() / 120.0)
            return
        self.stage.enter_pane(position)
        origin, direction = self.stage.ray_at(position)
        depth = float(
            np.dot(self.stage.viewpoint.focus - origin, self.stage.viewpoint.forward)
            / np.dot(direction, self.stage.viewpoint.forward)
        )
        self.stage.viewpoint.zoom(0.9 ** (event.angleDelta().y() / 120.0), origin + direction * depth)
        self.stage.schedule()

    def key(self, event: QKeyEvent) -> bool:
        """Handle a key; False when it is not for the stage."""
        if self.stage.tool is not None and self.stage.tool.key(event):
            return True
        if self.stage.swapped and self.stage.lens_hand.key(event):
            return True
        turns = {
            Qt.Key.Key_Left: (0.12, 0.0),
            Qt.Key.Key_Right: (-0.12, 0.0),
            Qt.Key.Key_Up: (0.0, 0.12),
            Qt.Key.Key_Down: (0.0, -0.12),
        }
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier and event.key() in turns and self.stage.pane.turnable:
            self.stage.viewpoint.turn(*turns[Qt.Key(event.key())])
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.stage.viewpoint.zoom(0.85)
        elif event.key() == Qt.Key.Key_Minus:
            self.stage.viewpoint.zoom(1 / 0.85)
        else:
            return False
        self.stage.schedule()
        return True
