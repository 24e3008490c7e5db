"""Shows a sheet as widgets, and keeps them where the next sheet has the same rows."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from itertools import pairwise
from typing import Any, ClassVar

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtGui import QColor, QGuiApplication, QMouseEvent, QWheelEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QColorDialog,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QPushButton,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.widgets import sheet as rows
from kestrav.app.widgets.keys import keyed
from kestrav.app.widgets.quantity_edit import DIFFERING, DragLabel, QuantityEdit
from kestrav.app.widgets.sheet import Sheet
from kestrav.app.widgets.window_colours import FIELD_LINE
from kestrav.core.errors import BadInput
from kestrav.core.units import parse

LABEL_WIDTH = 104
_STEP_TIP = (
    "Drag the label or use Up, Down and the wheel to step it (Shift coarse, Ctrl fine); units and sums may be typed"
)


class _Choice(QComboBox):
    """A choice that the wheel does not change by accident while the card is scrolled."""

    def wheelEvent(self, event: QWheelEvent) -> None:
        event.ignore()


class _Row(QWidget):
    """A row of the form; ``follow`` makes it show another description of the same kind and label."""

    refused = Signal(str)
    stepping = Signal(bool)
    folded = Signal(str, bool)

    def __init__(self, row: Any) -> None:
        super().__init__()
        self.row = row
        self.make(row)
        self.follow(row)

    def make(self, row: Any) -> None:
        """Make the widgets."""
        raise NotImplementedError

    def follow(self, row: Any) -> None:
        """Show a description."""
        self.row = row

    def commit(self) -> None:
        """Take what is typed and not yet taken."""

    def text_of(self) -> str:
        """The value as text that can be pasted into another field; empty where it has none."""
        return ""

    def paste(self, text: str) -> None:
        """Take a value from text. Raises BadInput."""
        raise BadInput(f"“{self.row.label}” takes no text")


class _Labelled(_Row):
    """A label at the left and a field at the right, with a menu to copy and paste the value."""

    def lay(self, label: QLabel, field: QWidget, name: str, tip: str) -> None:
        """Put a label beside a field."""
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(8)
        label.setFixedWidth(LABEL_WIDTH)
        label.setWordWrap(True)
        self.dress(label, field, name, tip)
        line.addWidget(label)
        line.addWidget(field, 1)

    def dress(self, label: QLabel, field: QWidget, name: str, tip: str) -> None:
        """Give a label and its field their names, tooltip and menu."""
        label.setObjectName("muted")
        label.setBuddy(field)
        label.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        label.customContextMenuRequested.connect(lambda at: self.show_menu(label.mapToGlobal(at)))
        for widget in (label, field):
            widget.setToolTip(tip)
        field.setAccessibleName(name)
        if not field.objectName():
            field.setObjectName(f"field-{name}")

    def show_menu(self, at: QPoint) -> None:
        """Offer to copy the value or to paste one."""
        menu = QMenu(self)
        copied = menu.addAction("Copy value")
        copied.setEnabled(bool(self.text_of()))
        copied.triggered.connect(lambda: QGuiApplication.clipboard().setText(self.text_of()))
        pasted = menu.addAction("Paste value")
        pasted.setEnabled(bool(QGuiApplication.clipboard().text().strip()))
        pasted.triggered.connect(lambda: self.paste_from_clipboard())
        menu.exec(at)

    def paste_from_clipboard(self) -> None:
        """Take the clipboard's text as the value."""
        try:
            self.paste(QGuiApplication.clipboard().text().strip())
        except BadInput as fault:
            self.refused.emit(f"not pasted: {fault}")


def _set_unless_typing(field: QLineEdit, text: str | None) -> None:
    """Show a text in a field, unless a person is typing there."""
    field.setPlaceholderText(DIFFERING if text is None else "")
    if (field.hasFocus() and field.isModified()) or field.text() == (text or ""):
        return
    field.setText(text or "")
    field.setCursorPosition(0)


class _TextRow(_Labelled):
    def make(self, row: rows.Text) -> None:
        self.field = QLineEdit(row.value or "")
        self.field.editingFinished.connect(self.commit)
        self.lay(QLabel(row.label), self.field, row.label, row.tip)

    def follow(self, row: rows.Text) -> None:
        self.row = row
        _set_unless_typing(self.field, row.value)

    def commit(self) -> None:
        text = self.field.text()
        if text != (self.row.value or "") and text.strip():
            self.field.setModified(False)
            self.row.change(text)

    def text_of(self) -> str:
        return self.row.value or ""

    def paste(self, text: str) -> None:
        self.row.change(text)


class _NumberRow(_Labelled):
    def make(self, row: rows.Number) -> None:
        self.field = QuantityEdit(row.value, row.unit, row.places, row.step, zero=row.zero)
        self.field.given.connect(lambda value: self.row.change(value))
        self.field.refused.connect(self.refused)
        self.field.stepping.connect(self.stepping)
        label: QLabel = DragLabel(row.label, self.field)
        tip = f"{row.tip}. {_STEP_TIP}"
        if row.acts:
            # it does what is typed when that is taken, and each step would do it once more
            self.field.is_stepped = False
            label, tip = QLabel(row.label), f"{row.tip}. Units and sums may be typed"
        self.lay(label, self.field, row.label, tip)

    def follow(self, row: rows.Number) -> None:
        self.row = row
        field = self.field
        field.unit, field.places, field.step, field.zero = row.unit, row.places, row.step, row.zero
        if not (field.hasFocus() and field.isModified()):
            field.set_value(row.value)

    def commit(self) -> None:
        self.field.commit()

    def text_of(self) -> str:
        return "" if self.row.value is None else f"{self.row.value:.12g} {self.row.unit}".strip()

    def paste(self, text: str) -> None:
        self.field.take(parse(text, self.row.unit))


class _VectorRow(_Labelled):
    def make(self, row: rows.Vector) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 1, 0, 1)
        column.setSpacing(2)
        line = QHBoxLayout()
        line.setSpacing(4)
        self.fields = []
        for axis, value in zip("xyz", row.values, strict=True):
            field = QuantityEdit(value, row.unit, row.places, bare=True)
            field.setObjectName(f"field-{row.label} {axis}")
            field.refused.connect(self.refused)
            field.stepping.connect(self.stepping)
            field.given.connect(lambda _: self._tell())
            field.is_stepped = not row.acts
            letter = QLabel(axis) if row.acts else DragLabel(axis, field)
            letter.setFixedWidth(8)
            tip = f"{row.tip}: {axis}{f' in {row.unit}' if row.unit else ''}. {_STEP_TIP}"
            self.dress(letter, field, f"{row.label} {axis}", tip)
            line.addWidget(letter)
            line.addWidget(field, 1)
            self.fields.append(field)
        label = QLabel(f"{row.label}, {row.unit}" if row.unit else row.label)
        self.dress(
            label, self.fields[0], f"{row.label} x", f"{row.tip}: x, y, z{f' in {row.unit}' if row.unit else ''}"
        )
        self.setObjectName(f"row-{row.label}")
        column.addWidget(label)
        column.addLayout(line)

    def _tell(self) -> None:
        self.row.change(tuple(None if field.differs else field.value for field in self.fields))

    def follow(self, row: rows.Vector) -> None:
        self.row = row
        for field, value in zip(self.fields, row.values, strict=True):
            field.places = row.places
            if not (field.hasFocus() and field.isModified()):
                field.set_value(value)

    def commit(self) -> None:
        for field in self.fields:
            field.commit()

    def text_of(self) -> str:
        values = [v for v in self.row.values if v is not None]
        return "; ".join(f"{v:.12g}" for v in values) if len(values) == 3 else ""

    def paste(self, text: str) -> None:
        parts = [part for part in text.replace("\t", ";").split(";") if part.strip()]
        if len(parts) != 3:
            raise BadInput(f"“{text}” is not three numbers with semicolons between them")
        values = [parse(part, self.row.unit) for part in parts]
        for field, value in zip(self.fields, values, strict=True):
            field.set_value(value)
        self.row.change(tuple(values))


class _ChoiceRow(_Labelled):
    def make(self, row: rows.Choice) -> None:
        self.field = _Choice()
        self.field.setMinimumContentsLength(8)
        self.field.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.field.setPlaceholderText(DIFFERING)
        self.field.activated.connect(self._tell)
        self._options: Sequence[tuple[str, str]] = ()
        self.lay(QLabel(row.label), self.field, row.label, row.tip)

    def _tell(self, index: int) -> None:
        key = self.field.itemData(index)
        if key != self.row.value:
            self.row.change(key)

    def follow(self, row: rows.Choice) -> None:
        self.row = row
        if row.options != self._options:
            self._options = row.options
            self.field.clear()
            for key, shown in row.options:
                self.field.addItem(shown, key)
        known = self.field.findData(row.value)
        self.field.setCurrentIndex(-1 if row.value is None else max(known, 0))

    def text_of(self) -> str:
        return self.field.currentText() if tuple(self.row.options[:1]) != (rows.PICK,) else ""

    def paste(self, text: str) -> None:
        for key, shown in self.row.options:
            if text == shown and key != rows.PICK[0]:
                self.row.change(key)
                return
        raise BadInput(f"“{text}” is not one of the options of “{self.row.label}”")


class _CheckRow(_Labelled):
    def make(self, row: rows.Check) -> None:
        self.field = QCheckBox(row.text)
        self.field.clicked.connect(self._settle)
        self.field.toggled.connect(self._toggled)
        self.lay(QLabel(row.label), self.field, row.label, row.tip)

    def _settle(self) -> None:
        # to Qt what is partly checked is checked, and to be checked wholly is no change
        if self.row.value is None:
            self.field.setTristate(False)
            self.row.change(self.field.isChecked())

    def _toggled(self, on: bool) -> None:
        if self.row.value is not None and on != self.row.value:
            self.row.change(on)

    def follow(self, row: rows.Check) -> None:
        self.row = row
        self.field.setText(row.text)
        self.field.blockSignals(True)
        self.field.setTristate(row.value is None)
        if row.value is None:
            self.field.setCheckState(Qt.CheckState.PartiallyChecked)
        else:
            self.field.setChecked(row.value)
        self.field.blockSignals(False)

    def text_of(self) -> str:
        return "" if self.row.value is None else "yes" if self.row.value else "no"

    def paste(self, text: str) -> None:
        if text not in ("yes", "no"):
            raise BadInput(f"“{self.row.label}” takes yes or no")
        self.row.change(text == "yes")


class _ColourRow(_Labelled):
    def make(self, row: rows.Colour) -> None:
        holder = QWidget()
        line = QHBoxLayout(holder)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(4)
        self.field = QLineEdit()
        self.field.setObjectName(f"field-{row.label}")
        self.field.setAccessibleName(row.label)
        self.field.editingFinished.connect(self.commit)
        self.swatch = QPushButton()
        self.swatch.setFixedWidth(34)
        self.swatch.setAccessibleName(f"Choose {row.label.lower()}")
        self.swatch.setToolTip(f"{row.tip}: choose")
        self.swatch.clicked.connect(lambda _=False: self._ask())
        line.addWidget(self.field, 1)
        line.addWidget(self.swatch)
        holder.setObjectName(f"row-{row.label}")
        self.lay(QLabel(row.label), holder, row.label, f"{row.tip}, as #rrggbb")

    def follow(self, row: rows.Colour) -> None:
        self.row = row
        _set_unless_typing(self.field, row.value)
        self.swatch.setStyleSheet(
            f"background: {row.value or 'transparent'}; border: 1px solid {FIELD_LINE}; border-radius: 3px;"
        )

    def commit(self) -> None:
        typed = self.field.text().strip().lower()
        if typed and typed != self.row.value:
            self.field.setModified(False)
            self.row.change(typed)

    def _ask(self) -> None:
        chosen = QColorDialog.getColor(QColor(self.row.value or "#808080"), self, self.row.label)
        if chosen.isValid():
            self.row.change(chosen.name())

    def text_of(self) -> str:
        return self.row.value or ""

    def paste(self, text: str) -> None:
        self.row.change(text.lower())


class _TextBlock(_Row):
    """A block of text over the whole width."""

    name: ClassVar[str]

    def make(self, row: Any) -> None:
        line = QVBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        self.block = QLabel()
        self.block.setObjectName(self.name)
        self.block.setWordWrap(True)
        line.addWidget(self.block)

    def follow(self, row: Any) -> None:
        self.row = row
        text = "<br>".join(row.lines) if isinstance(row, rows.Worked) else row.text
        if self.block.text() != text:
            self.block.setText(text)


class _WorkedRow(_TextBlock):
    name = "worked"

    def make(self, row: Any) -> None:
        super().make(row)
        self.block.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)


class _NoteRow(_TextBlock):
    name = "muted"


class _HeadingRow(_TextBlock):
    name = "title"


class _ButtonsRow(_Row):
    def make(self, row: rows.Buttons) -> None:
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(5)
        self.buttons: list[QPushButton] = []
        for i in range(len(row.actions)):
            button = QPushButton()
            button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            button.clicked.connect(partial(self._act, i))
            alone = i == len(row.actions) - 1 and i % 2 == 0
            grid.addWidget(button, i // 2, i % 2, 1, 2 if alone else 1)
            self.buttons.append(button)

    def _act(self, number: int, _checked: bool = False) -> None:
        self.row.actions[number][1]()

    def follow(self, row: rows.Buttons) -> None:
        self.row = row
        for button, (text, _, tip) in zip(self.buttons, row.actions, strict=True):
            button.setText(text)
            button.setToolTip(keyed(tip))


class _SectionRow(_Row):
    """The head of a section: a click folds it or unfolds it."""

    def make(self, row: rows.Section) -> None:
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(4)
        self.head = QToolButton()
        self.head.setObjectName("section")
        self.head.setText(row.label)
        self.head.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.head.clicked.connect(lambda _=False: self._toggle())
        self.summary = QLabel()
        self.summary.setObjectName("muted")
        self.summary.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.summary.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        line.addWidget(self.head)
        line.addWidget(self.summary, 1)
        self.setObjectName("sectionhead")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.head.setVisible(bool(row.label))
        self.setCursor(Qt.CursorShape.PointingHandCursor if row.label else Qt.CursorShape.ArrowCursor)

    def _toggle(self) -> None:
        self.folded.emit(self.row.label, self.row.is_open)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.row.label:
            self._toggle()

    def follow(self, row: rows.Section) -> None:
        self.row = row
        if not row.label:
            return
        self.head.setArrowType(Qt.ArrowType.DownArrow if row.is_open else Qt.ArrowType.RightArrow)
        self.head.setToolTip(f"{'Fold' if row.is_open else 'Unfold'} the section {row.label}")
        self.head.setAccessibleName(f"{row.label}, {'open' if row.is_open else 'folded'}")
        self.summary.setText("" if row.is_open else row.summary)


class _OwnRow(_Row):
    def make(self, row: rows.Own) -> None:
        line = QVBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(row.make())


_WIDGETS: dict[type, type[_Row]] = {
    rows.Text: _TextRow,
    rows.Number: _NumberRow,
    rows.Vector: _VectorRow,
    rows.Choice: _ChoiceRow,
    rows.Check: _CheckRow,
    rows.Colour: _ColourRow,
    rows.Worked: _WorkedRow,
    rows.Note: _NoteRow,
    rows.Heading: _HeadingRow,
    rows.Buttons: _ButtonsRow,
    rows.Section: _SectionRow,
    rows.Own: _OwnRow,
}


def _key(row: Any) -> tuple[Any, ...]:
    """What a widget must have in common with a row to show it."""
    if isinstance(row, rows.Own):
        return ("own", id(row))
    return type(row), row.label, len(row.actions) if isinstance(row, rows.Buttons) else 0


class Form(QWidget):
    """Rows of a label and a field, blocks of worked lines, and sections."""

    refused = Signal(str)
    stepping = Signal(bool)  # what is given until this ends is one edit
    folded = Signal(str, bool)  # a section, and whether it is folded from now on

    def __init__(self, sheet: Sheet | None = None) -> None:
        super().__init__()
        self.setObjectName("cardbody")
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(12, 6, 12, 10)
        self.column.setSpacing(5)
        self.column.addStretch(1)
        self.sheet = Sheet()
        self._shown: list[tuple[tuple[Any, ...], _Row]] = []
        if sheet is not None:
            self.show_sheet(sheet)

    def show_sheet(self, sheet: Sheet) -> None:
        """Show a sheet; widgets of rows that it shares with the one before stay, with the keys where they are."""
        self.sheet = sheet
        left: dict[tuple[Any, ...], list[_Row]] = {}
        for key, widget in self._shown:
            left.setdefault(key, []).append(widget)
        before = [widget for _, widget in self._shown]
        self._shown = []
        for row in sheet.rows:
            key = _key(row)
            again = left.get(key)
            if again:
                widget = again.pop(0)
                widget.follow(row)
            else:
                widget = self._row_for(row)
            self._shown.append((key, widget))
        kept = [widget for _, widget in self._shown]
        if kept == before:
            return
        # a field that goes cannot tell any more that its stepping has ended
        self.stepping.emit(False)
        for widget in before:
            self.column.removeWidget(widget)
            if widget not in kept:
                widget.hide()
                widget.deleteLater()
                widget.setParent(None)
        for i, widget in enumerate(kept):
            self.column.insertWidget(i, widget)
        # only now: to show one lays out what there is, and half of it would be taken for the whole until Qt comes round to it
        for widget in kept:
            widget.show()
        inside = [w for row in kept for w in row.findChildren(QWidget) if w.window() is self.window()]
        stops = [w for w in inside if w.focusPolicy() & Qt.FocusPolicy.TabFocus]
        for one, following in pairwise(stops):
            QWidget.setTabOrder(one, following)

    def _row_for(self, row: Any) -> _Row:
        widget = _WIDGETS[type(row)](row)
        widget.refused.connect(self.refused)
        widget.stepping.connect(self.stepping)
        widget.folded.connect(self.folded)
        return widget

    def commit(self) -> None:
        """Take what is typed in the field that has the keys, before the form shows something else."""
        here = self.focusWidget()
        for _, widget in self._shown:
            if here is not None and widget.isAncestorOf(here):
                widget.commit()
                return

    def commit_all(self) -> None:
        """Take what is typed in any field, before the form is closed."""
        for _, widget in self._shown:
            widget.commit()

    def field(self, label: str) -> QWidget | None:
        """The field of a label; of three numbers with the letter of one, as in “Position x”."""
        return self.findChild(QWidget, f"field-{label}")

    def section(self, title: str) -> QWidget | None:
        """The head of a section."""
        heads = (widget for _, widget in self._shown if isinstance(widget.row, rows.Section))
        return next((head for head in heads if head.row.label == title), None)

    def labels(self) -> list[str]:
        """The labels of the fields."""
        names = [field.objectName() for field in self.findChildren(QWidget)]
        return list(dict.fromkeys(name.removeprefix("field-") for name in names if name.startswith("field-")))
