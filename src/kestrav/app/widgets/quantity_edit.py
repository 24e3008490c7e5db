"""A field for a number with a unit, and a label that the number can be dragged on."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, Qt, QTimer, Signal
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QWheelEvent
from PySide6.QtWidgets import QDialog, QLabel, QLineEdit

from kestrav.core.errors import BadInput
from kestrav.core.units import parse, show

PIXELS = 4  # of a drag on a label for one step
_COARSE, _FINE = 10.0, 0.1
_REST_MS = 700  # steps that follow sooner than this are one edit
_KEYS = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1, Qt.Key.Key_PageUp: 10, Qt.Key.Key_PageDown: -10}
DIFFERING = "different"


def _factor(keys: Qt.KeyboardModifier) -> float:
    """How many steps one step is, by the keys held."""
    if keys & Qt.KeyboardModifier.ShiftModifier:
        return _COARSE
    return _FINE if keys & Qt.KeyboardModifier.ControlModifier else 1.0


class QuantityEdit(QLineEdit):
    """A number with a unit (not shown when ``bare``); other units and sums may be typed.

    Up, Down and the wheel step it, with Shift ten times and with Ctrl a tenth as far. A value of None stands for
    values that differ.
    """

    given = Signal(float)
    refused = Signal(str)
    stepping = Signal(bool)  # the value is stepped or dragged; what is given until this ends is one edit
    notes: Callable[[], Sequence[tuple[str, float, str]]] = staticmethod(lambda: ())
    """Names, values and units of the kept notes; the window says which."""

    def __init__(
        self,
        value: float | None,
        unit: str,
        places: int = 1,
        step: float = 1.0,
        *,
        bare: bool = False,
        zero: str = "",
    ) -> None:
        super().__init__()
        self.unit, self.places, self.step = unit, places, step
        self.zero = zero  # what 0 is called
        self.bare = bare
        self._held = False
        self.is_stepped = True  # keys and wheel step the value
        self.setProperty("bare", "true" if bare else "false")
        self._given: float | None = value
        self.set_value(value)
        self.editingFinished.connect(self.commit)
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.timeout.connect(lambda: self.stepping.emit(False))

    @property
    def value(self) -> float:
        """The number; 0 where values differ."""
        return self._given or 0.0

    @property
    def differs(self) -> bool:
        """Whether it stands for values that differ."""
        return self._given is None

    def set_value(self, value: float | None) -> None:
        """Show a value without telling."""
        self._given = value
        text = self._shown(value)
        self.setPlaceholderText(DIFFERING if value is None else "")
        if self.text() != text:
            self.setText(text)
            self.setCursorPosition(0)
        self.setModified(False)

    def _shown(self, value: float | None) -> str:
        if value is None:
            return ""
        return self.zero if self.zero and value == 0 else show(value, "" if self.bare else self.unit, self.places)

    def commit(self) -> None:
        """Take what is typed, a quantity, a sum or the name of a kept note."""
        if self.text() == self._shown(self._given):
            return
        try:
            value = 0.0 if self.zero and self.text().strip() in (self.zero, "") else self._of_note(self.text())
            if value is None:
                value = parse(self.text(), self.unit)
        except BadInput as fault:
            self.set_value(self._given)
            self.refused.emit(str(fault))
            return
        self.take(value)

    def take(self, value: float) -> None:
        """Show a value and tell."""
        self.set_value(value)
        self.given.emit(value)

    def move_by(self, steps: float, keys: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        """Step the value; Shift and Ctrl make the steps coarse and fine."""
        if not self.is_stepped:
            return
        if not self._held and not self._rest.isActive():
            self.stepping.emit(True)
        # rounded, so that ten steps of 0.1 are one of 1
        self.take(round(self.value + steps * self.step * _factor(keys), 9))
        if not self._held:
            self._rest.start(_REST_MS)

    def hold(self, held: bool) -> None:
        """Make all steps one edit, however long they take, until it is let go."""
        self._rest.stop()
        self._held = held
        self.stepping.emit(held)

    def _of_note(self, text: str) -> float | None:
        """The value of the note of a name, when there is one. Raises BadInput when its unit does not fit."""
        if text.strip()[:1] in "0123456789+-−.,":
            return None
        notes = {name.casefold(): (value, unit) for name, value, unit in QuantityEdit.notes()}
        note = notes.get(text.strip().casefold())
        if note is None:
            return None
        value, unit = note
        if unit != self.unit:
            raise BadInput(
                f"“{text.strip()}” is {show(value, unit, 3)}, and this field takes {self.unit or 'a plain number'}"
            )
        return value

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = self.createStandardContextMenu()
        fitting = [(name, value) for name, value, unit in QuantityEdit.notes() if unit == self.unit]
        if fitting:
            menu.addSeparator()
            inner = menu.addMenu("Take from a note")
            for name, value in fitting:
                inner.addAction(f"{name}: {show(value, self.unit, 3)}").triggered.connect(
                    lambda _=False, v=value: self.take(v)
                )
        menu.exec(event.globalPos())

    def focusInEvent(self, event: QEvent) -> None:
        super().focusInEvent(event)  # type: ignore[arg-type]
        self.selectAll()

    def wheelEvent(self, event: QWheelEvent) -> None:
        # only where the keys go, so that scrolling a card changes nothing under the pointer
        # some systems turn the wheel sideways while a key is held
        turned = event.angleDelta().y() or event.angleDelta().x()
        if self.hasFocus() and turned:
            self.move_by(1 if turned > 0 else -1, event.modifiers())
            event.accept()
        else:
            event.ignore()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.set_value(self._given)
            self.clearFocus()
        elif event.key() in _KEYS:
            self.move_by(_KEYS[Qt.Key(event.key())], event.modifiers())
        else:
            # Enter takes the number; in a dialog it is its button's too. Afterwards the field may be gone, with the card it was in
            mine = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not isinstance(self.window(), QDialog)
            super().keyPressEvent(event)
            if mine:
                event.accept()


class DragLabel(QLabel):
    """The label of a number: a drag on it to the right raises the number, to the left lowers it."""

    def __init__(self, text: str, field: QuantityEdit) -> None:
        super().__init__(text)
        self._field = field
        self._last: float | None = None
        self.setObjectName("muted")
        self.setCursor(Qt.CursorShape.SizeHorCursor)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._field.commit()
            self._field.hold(True)
            self._last = event.position().x()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._last is None:
            return
        steps = int((event.position().x() - self._last) / PIXELS)
        if steps:
            self._last += steps * PIXELS
            self._field.move_by(steps, event.modifiers())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._last is not None:
            self._field.hold(False)
        self._last = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._field.setFocus()
