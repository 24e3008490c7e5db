"""The widget that VTK draws the stage in."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPaintEvent, QResizeEvent, QWheelEvent
from vtkmodules.qt.QVTKRenderWindowInteractor import QVTKRenderWindowInteractor

if TYPE_CHECKING:
    from kestrav.app.stage.stage import Stage


class StageView(QVTKRenderWindowInteractor):
    """VTK's widget with its own mouse and key handling taken out."""

    def __init__(self, stage: Stage) -> None:
        self.stage = stage
        super().__init__(stage)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)

    def paintEvent(self, event: QPaintEvent) -> None:
        self.stage.draw()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.stage.arrange()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.stage.mouse.press(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.stage.mouse.move_mouse(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.stage.mouse.release(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.stage.mouse.double_click(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.stage.mouse.wheel(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self.stage.mouse.key(event):
            event.ignore()  # the window's shortcuts and the parents get it

    def focusNextPrevChild(self, forward: bool) -> bool:
        # a tool that offers things in turn has Tab for that
        if self.stage.tool is not None and self.stage.tool.takes_tab:
            return False
        return super().focusNextPrevChild(forward)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        event.ignore()

    def enterEvent(self, event: QEvent) -> None:
        pass

    def leaveEvent(self, event: QEvent) -> None:
        pass
