"""Fields of a card: numbers with units, choices, worked lines."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, Qt, Signal
from PySide6.QtGui import QColor, QContextMenuEvent, QKeyEvent, QWheelEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QColorDialog,
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kestrav.core.errors import BadInput
from kestrav.core.units import parse, show

LABEL_WIDTH = 80


class QuantityEdit(QLineEdit):
    """A number with a unit (not shown when ``bare``); other units may be typed. Up and Down step it."""

    given = Signal(float)
    refused = Signal(str)
    notes: Callable[[], Sequence[tuple[str, float, str]]] = staticmethod(lambda: ())
    """Names, values and units of the kept notes; the window says which."""

    def __init__(
        self, value: float, unit: str, places: int = 1, step: float = 1.0, bare: bool = False, zero: str = ""
    ) -> None:
        super().__init__()
        self.unit, self.places, self.step = unit, places, step
        self.zero = zero  # what 0 is called
        self.shown_unit = "" if bare else unit
        self.setProperty("bare", "true" if bare else "false")
        self.value = value
        self.set_value(value)
        self.editingFinished.connect(self.commit)

    def set_value(self, value: float) -> None:
        """Show a value without telling."""
        self.value = value
        text = self._shown(value)
        if self.text() != text:
            self.setText(text)
            self.setCursorPosition(0)

    def _shown(self, value: float) -> str:
        return self.zero if self.zero and value == 0 else show(value, self.shown_unit, self.places)

    def commit(self) -> None:
        """Take what is typed, a quantity or the name of a kept note."""
        if self.text() == self._shown(self.value):
            return
        try:
            value = 0.0 if self.zero and self.text().strip() in (self.zero, "") else self._of_note(self.text())
            if value is None:
                value = parse(self.text(), self.unit)
        except BadInput as fault:
            self.set_value(self.value)
            self.refused.emit(str(fault))
            return
        self._take(value)

    def _take(self, value: float) -> None:
        self.set_value(value)
        self.given.emit(value)

    def _of_note(self, text: str) -> float | None:
        """The value of the note of a name, when there is one. Raises BadInput when its unit does not fit."""
        if text.strip()[:1] in "0123456789+-−.,":
            return None
        found = {name.casefold(): (value, unit) for name, value, unit in QuantityEdit.notes()}
        known = found.get(text.strip().casefold())
        if known is None:
            return None
        value, unit = known
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
                    lambda _=False, v=value: self._take(v)
                )
        menu.exec(event.globalPos())

    def focusInEvent(self, event: QEvent) -> None:
        super().focusInEvent(event)  # type: ignore[arg-type]
        self.selectAll()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1, Qt.Key.Key_PageUp: 10, Qt.Key.Key_PageDown: -10}
        if event.key() == Qt.Key.Key_Escape:
            self.set_value(self.value)
            self.clearFocus()
        elif event.key() in steps:
            self.set_value(self.value + steps[Qt.Key(event.key())] * self.step)
            self.given.emit(self.value)
        else:
            # Enter takes the number; in a dialog it is its button's too. Afterwards the field may be gone, with the card it was in
            mine = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not isinstance(self.window(), QDialog)
            super().keyPressEvent(event)
            if mine:
                event.accept()


class _Choice(QComboBox):
    """A choice that the wheel does not change by accident while the card is scrolled."""

    def wheelEvent(self, event: QWheelEvent) -> None:
        event.ignore()


class Form(QWidget):
    """Rows of a label and a field, and blocks of worked lines."""

    refused = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("cardbody")
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(12, 8, 12, 10)
        self.column.setSpacing(6)
        self.grid: QGridLayout | None = None

    def _row(self, label: str, field: QWidget, tip: str) -> None:
        if self.grid is None:
            self.grid = QGridLayout()
            self.grid.setHorizontalSpacing(8)
            self.grid.setVerticalSpacing(5)
            self.grid.setColumnMinimumWidth(0, LABEL_WIDTH)
            self.grid.setColumnStretch(1, 1)
            self.column.addLayout(self.grid)
        text = QLabel(label)
        text.setObjectName("muted")
        text.setBuddy(field)
        row = self.grid.rowCount()
        self.grid.addWidget(text, row, 0)
        self.grid.addWidget(field, row, 1)
        for widget in (text, field):
            widget.setToolTip(tip)
        field.setAccessibleName(label)
        if not field.objectName():
            field.setObjectName(f"field-{label}")

    def text(self, label: str, value: str, change: Callable[[str], object], tip: str) -> QLineEdit:
        """A line of text."""
        field = QLineEdit(value)
        field.editingFinished.connect(lambda: field.text() != value and field.text().strip() and change(field.text()))
        self._row(label, field, tip)
        return field

    def number(
        self,
        label: str,
        value: float,
        unit: str,
        change: Callable[[float], object],
        tip: str,
        places: int = 1,
        step: float = 1.0,
        zero: str = "",
    ) -> QuantityEdit:
        """A number with its unit; ``zero`` is what 0 is called."""
        field = QuantityEdit(value, unit, places, step, zero=zero)
        field.given.connect(change)
        field.refused.connect(self.refused)
        self._row(label, field, f"{tip}. Up and Down step it; other units may be typed")
        return field

    def vector(
        self,
        label: str,
        values: Sequence[float],
        unit: str,
        change: Callable[[tuple[float, float, float]], object],
        tip: str,
        places: int = 1,
    ) -> list[QuantityEdit]:
        """Three numbers in a row; the unit stands in the label."""
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        fields = []
        for axis, value in zip("xyz", values, strict=True):
            field = QuantityEdit(value, unit, places, bare=True)
            field.setAccessibleName(f"{label} {axis}")
            field.setObjectName(f"field-{label} {axis}")
            field.setToolTip(f"{tip}: {axis} in {unit}")
            field.refused.connect(self.refused)
            fields.append(field)
            row.addWidget(field)
        for field in fields:
            field.given.connect(lambda _: change((fields[0].value, fields[1].value, fields[2].value)))
        holder.setObjectName(f"row-{label}")
        self._row(f"{label}, {unit}" if unit else label, holder, f"{tip}: x, y, z{f' in {unit}' if unit else ''}")
        return fields

    def choice(
        self, label: str, options: Sequence[tuple[str, str]], value: str, change: Callable[[str], object], tip: str
    ) -> QComboBox:
        """One of named options, each a key and what is shown."""
        field = _Choice()
        for key, shown in options:
            field.addItem(shown, key)
        field.setCurrentIndex(max(field.findData(value), 0))
        field.setMinimumContentsLength(8)
        field.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        field.activated.connect(lambda index: field.itemData(index) != value and change(field.itemData(index)))
        self._row(label, field, tip)
        return field

    def check(self, label: str, text: str, value: bool, change: Callable[[bool], object], tip: str) -> QCheckBox:
        """Yes or no."""
        field = QCheckBox(text)
        field.setChecked(value)
        field.toggled.connect(change)
        self._row(label, field, tip)
        return field

    def worked(self, *lines: str) -> QLabel:
        """Computed numbers, written so that a person can check them."""
        self.grid = None
        label = QLabel("<br>".join(lines))
        label.setObjectName("worked")
        label.setWordWrap(True)
        label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.column.addWidget(label)
        return label

    def note(self, text: str) -> QLabel:
        """A muted remark."""
        self.grid = None
        label = QLabel(text)
        label.setObjectName("muted")
        label.setWordWrap(True)
        self.column.addWidget(label)
        return label

    def buttons(self, *actions: tuple[str, Callable[[], object], str]) -> list[QPushButton]:
        """Buttons in a row, wrapping to a second row after two."""
        self.grid = None
        made = []
        grid = QGridLayout()
        grid.setSpacing(5)
        for i, (text, action, tip) in enumerate(actions):
            button = QPushButton(text)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, act=action: act())
            grid.addWidget(button, i // 2, i % 2)
            made.append(button)
        self.column.addLayout(grid)
        return made

    def tabs(self, names: Sequence[str], chosen: str, change: Callable[[str], object], tip: str) -> None:
        """Parts of a long card, one shown at a time."""
        self.grid = None
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 2)
        row.setSpacing(0)
        for name in names:
            button = QPushButton(name)
            button.setObjectName("tab")
            button.setCheckable(True)
            button.setChecked(name == chosen)
            button.setToolTip(f"{tip}: {name.lower()}")
            button.clicked.connect(lambda _=False, n=name: change(n))
            row.addWidget(button, 1)
        self.column.addWidget(holder)

    def colour(self, label: str, value: str, change: Callable[[str], object], tip: str) -> QLineEdit:
        """A colour as #rrggbb, with a swatch that opens a chooser."""
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        field = QLineEdit(value)
        field.setObjectName(f"field-{label}")
        field.setAccessibleName(label)
        field.editingFinished.connect(lambda: field.text().strip() != value and change(field.text().strip().lower()))
        swatch = QPushButton()
        swatch.setFixedWidth(34)
        swatch.setAccessibleName(f"Choose {label.lower()}")
        swatch.setToolTip(f"{tip}: choose")
        swatch.setStyleSheet(f"background: {value}; border: 1px solid #8b8778; border-radius: 3px;")

        def choose() -> None:
            found = QColorDialog.getColor(QColor(value), self, label)
            if found.isValid():
                change(found.name())

        swatch.clicked.connect(lambda _=False: choose())
        row.addWidget(field, 1)
        row.addWidget(swatch)
        holder.setObjectName(f"row-{label}")
        self._row(label, holder, f"{tip}, as #rrggbb")
        return field

    def add(self, widget: QWidget) -> None:
        """A widget of its own, over the whole width."""
        self.grid = None
        self.column.addWidget(widget)

    def heading(self, text: str) -> None:
        """A small heading."""
        self.grid = None
        label = QLabel(text)
        label.setObjectName("title")
        self.column.addWidget(label)

    def finish(self) -> None:
        """Push everything up."""
        self.column.addStretch(1)
