"""What the mouse and keys do in the stage while a tool is chosen."""

from __future__ import annotations

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeyEvent


class Tool:
    """What the left button and keys do in the stage; this does nothing."""

    hint = ""
    takes_tab = False
    draws = True  # something of its own into the stage
    quiet = False  # whether the number of the clearance would be in the way

    def begin(self) -> None:
        """Taken up."""

    def end(self) -> None:
        """Laid down."""

    def press(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """The button went down."""

    def drag(self, position: QPoint, keys: Qt.KeyboardModifier) -> bool:
        """Dragged; False lets the view turn."""
        return False

    def drop(self) -> None:
        """The drag ended."""

    def click(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Pressed and released in one place."""

    def double_click(self, position: QPoint) -> None:
        """Pressed twice."""

    def hover(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Moved with no button down."""

    def key(self, event: QKeyEvent) -> bool:
        """A key; False when it is not for this tool."""
        return False

    def drawn(self, pixel: float) -> None:
        """The stage is about to be drawn; ``pixel`` is the size of one in mm."""
