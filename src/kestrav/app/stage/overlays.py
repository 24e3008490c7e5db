"""Small widgets over the stage. They are native windows, so that X keeps the 3D picture out of them."""

from __future__ import annotations

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QWidget

from kestrav.core.units import show


def make_native(widget: QWidget) -> None:
    """Give a widget over the 3D picture a window of its own."""
    widget.setAttribute(Qt.WidgetAttribute.WA_NativeWindow)
    widget.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)


class StageLabel(QLabel):
    """A number at a place in the stage."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        make_native(self)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setContentsMargins(8, 3, 8, 3)
        self.hide()

    def show_at(self, position: QPoint, text: str, *, breach: bool, visible: bool) -> None:
        """Show a text near a position, kept inside the stage."""
        name = "gap" if breach else "gapgood"
        if self.objectName() != name:
            self.setObjectName(name)
            self.style().unpolish(self)
            self.style().polish(self)
        self.setText(text)
        self.adjustSize()
        parent = self.parentWidget()
        assert parent is not None  # it lies over the stage
        x = min(max(position.x(), 6), parent.width() - self.width() - 6)
        y = min(max(position.y(), 48), parent.height() - self.height() - 6)
        self.move(x, y)
        self.setVisible(bool(visible))
        self.raise_()


class Banner(QWidget):
    """A line over the stage that says what is not as usual, with a way back."""

    closed = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("banner")
        make_native(self)
        row = QHBoxLayout(self)
        row.setContentsMargins(9, 2, 3, 2)
        self.text, self.button = QLabel(), QPushButton()
        self.button.clicked.connect(self.closed)
        row.addWidget(self.text)
        row.addWidget(self.button)
        self.hide()

    def say(self, text: str, back: str) -> None:
        """Show a text and what the button does."""
        self.text.setText(text)
        self.button.setText(back)
        self.button.setToolTip(back)
        self.adjustSize()


class PaneName(QLabel):
    """The name of a view, when several are shown together."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("panename")
        make_native(self)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hide()


class LensHead(QWidget):
    """The inset's heading: the camera's name and lens; drag its left end to size the inset."""

    swap = Signal()
    guides_asked = Signal()
    resized = Signal(int)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("lenshead")
        make_native(self)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 0, 4, 0)
        row.setSpacing(6)
        self.name, self.lens = QLabel(), QLabel()
        self.button = QPushButton("Swap")
        self.button.setToolTip("Swap the lens and the stage (W)")
        self.button.setAccessibleName("Swap lens and stage")
        self.button.clicked.connect(self.swap)
        self.guides = QPushButton("Frame")
        self.guides.setToolTip("Guides over the lens: mask, thirds, grid, cross, centre, safe areas, horizon (Shift+F)")
        self.guides.setAccessibleName("Frame guides")
        self.guides.clicked.connect(self.guides_asked)
        row.addWidget(self.name, 1)
        row.addWidget(self.lens)
        row.addWidget(self.guides)
        row.addWidget(self.button)
        self.setToolTip(
            "The camera's picture in the exact output frame. Drag the title bar's left end to resize the lens."
        )
        self.setCursor(Qt.CursorShape.SizeFDiagCursor)
        self.button.setCursor(Qt.CursorShape.ArrowCursor)
        self.guides.setCursor(Qt.CursorShape.ArrowCursor)
        self._from: int | None = None

    def tell(self, camera: str, focal_length: float, *, parallel: bool, swapped: bool) -> None:
        """Say what the inset shows."""
        title = "Stage" if swapped else f"Lens · {camera}"
        width = max(self.width() - 176, 60)
        self.name.setText(self.name.fontMetrics().elidedText(title, Qt.TextElideMode.ElideRight, width))
        lens = (
            "parallel"
            if parallel
            else show(focal_length, "mm", 0 if abs(focal_length - round(focal_length)) < 0.05 else 1)
        )
        self.lens.setText("" if swapped else lens)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._from = event.globalPosition().toPoint().x()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._from is not None:
            here = event.globalPosition().toPoint().x()
            self.resized.emit(self._from - here)
            self._from = here

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._from = None
