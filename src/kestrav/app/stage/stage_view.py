"""The widget that VTK draws the stage in."""

from __future__ import annotations

from weakref import ref

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPaintEvent, QResizeEvent, QWheelEvent
from vtkmodules.qt.QVTKRenderWindowInteractor import QVTKRenderWindowInteractor

from kestrav.app.stage.stage_base import StageBase
from kestrav.app.stage.stage_mouse import StageMouse


class StageView(QVTKRenderWindowInteractor):
    """VTK's widget with its own mouse and key handling taken out."""

    def __init__(self, stage: StageBase, mouse: StageMouse) -> None:
        self.stage, self.mouse = stage, mouse
        super().__init__(stage)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        # the size of the picture on the screen, as long as the window still holds it
        self._shown: tuple[int, int] | None = None
        window, view = self.GetRenderWindow(), ref(self)
        window.AddObserver("EndEvent", lambda *_: _drawn(view()))

    def paintEvent(self, event: QPaintEvent) -> None:
        # what lay over it has gone, or a label moved: most often it only has to be shown again
        stage = self.stage
        if stage.alive and not stage.waiting and self._shown == (self.width(), self.height()):
            self.GetRenderWindow().Frame()
        else:
            stage.draw()

    def note_drawn(self) -> None:
        """Something has been drawn, to be seen or not."""
        window = self.GetRenderWindow()
        self._shown = (self.width(), self.height()) if window.GetSwapBuffers() else None

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.stage.arrange()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.mouse.press(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.mouse.move_mouse(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.mouse.release(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.mouse.double_click(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.mouse.wheel(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self.mouse.key(event):
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


def _drawn(view: StageView | None) -> None:
    if view is not None and view.stage.alive:
        view.note_drawn()
