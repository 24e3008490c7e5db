"""The window's actions: how they are made, and their shortcuts, which can be changed and are kept."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QKeySequenceEdit,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.widgets.keys import retell, set_changed

_KEPT = "shortcuts/"


def _name(text: str) -> str:
    return text.rstrip(" …")


def _shown(keys: tuple[str, ...]) -> str:
    return ", ".join(keys)


class Command(msgspec.Struct):
    """An action, its tooltip without keys, the keys it comes with, and those it has."""

    action: QAction
    tip: str
    usual: tuple[str, ...]
    where: tuple[QWidget, ...]
    keys: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """What it is called."""
        return _name(self.action.text())

    def show(self) -> None:
        """Give the action its keys, and tell them in its tooltip."""
        self.action.setShortcuts([QKeySequence(key) for key in self.keys])
        self.action.setToolTip(f"{self.tip}{f' ({self.keys[0]})' if self.keys else ''}")


class Commands:
    """Makes actions; calling it makes one."""

    def __init__(self, window: QWidget) -> None:
        self.window = window
        self.all: list[Command] = []

    def retell(self) -> None:
        """Let tooltips everywhere tell the keys as they are now."""
        changed = (command for command in self.all if command.keys != command.usual)
        set_changed({key: command.keys[0] if command.keys else "" for command in changed for key in command.usual[:1]})
        retell(self.window)

    def __call__(
        self, text: str, slot: Callable[..., object], *keys: str, tip: str = "", where: tuple[QWidget, ...] = ()
    ) -> QAction:
        """An action of the window, with its keys; ``where`` are the widgets that alone take them."""
        action = QAction(text, self.window)
        kept = QSettings().value(_KEPT + _name(text))
        own = tuple(keys) if kept is None else tuple(key for key in str(kept).split("; ") if key)
        command = Command(action, tip or text, tuple(keys), where, own)
        command.show()
        action.triggered.connect(lambda _=False: slot())
        if where:
            action.setShortcutContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        for widget in where or (self.window,):
            widget.addAction(action)
        self.all.append(command)
        return action

    def also_in(self, widget: QWidget, other: QWidget) -> None:
        """Let a widget take the keys that another one takes."""
        for command in self.all:
            if other in command.where:
                command.where = (*command.where, widget)
                widget.addAction(command.action)

    def holders(self, key: str, command: Command) -> list[Command]:
        """The other commands that have a key."""
        return [other for other in self.all if other is not command and key in other.keys]

    def give(self, command: Command, keys: tuple[str, ...]) -> None:
        """Give a command other keys, and keep that; commands that had one of them lose it."""
        for key in keys:
            for other in self.holders(key, command):
                self._set(other, tuple(k for k in other.keys if k != key))
        self._set(command, keys)
        self.retell()

    def reset(self) -> None:
        """Give all commands the keys that they come with."""
        for command in self.all:
            self._set(command, command.usual)
        self.retell()

    def _set(self, command: Command, keys: tuple[str, ...]) -> None:
        command.keys = keys
        if keys == command.usual:
            QSettings().remove(_KEPT + command.name)
        else:
            QSettings().setValue(_KEPT + command.name, "; ".join(keys))
        command.show()


class ShortcutsDialog(QDialog):
    """Lists all commands with their keys; the keys of one can be changed."""

    def __init__(self, parent: QWidget, commands: Commands) -> None:
        super().__init__(parent)
        self.commands = commands
        self.setWindowTitle("Change shortcuts")
        self.resize(560, 520)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 12)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a command")
        self.search.setAccessibleName("Find a command")
        self.search.textChanged.connect(self._filter)
        self.table = QTableWidget(0, 2)
        self.table.setAccessibleName("Commands and their shortcuts")
        self.table.setHorizontalHeaderLabels(["Command", "Shortcut"])
        self.table.verticalHeader().hide()
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.setColumnWidth(1, 180)
        self.table.itemSelectionChanged.connect(self._follow)
        column.addWidget(self.search)
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        self.edit = QKeySequenceEdit()
        self.edit.setMaximumSequenceLength(1)
        self.edit.setAccessibleName("New shortcut")
        inner = self.edit.findChild(QLineEdit)
        assert inner is not None  # it is what the keys go to
        inner.setAccessibleName("New shortcut")
        self.edit.setToolTip("Press the new shortcut of the selected command")
        self.edit.keySequenceChanged.connect(lambda _: self._warn())
        self.give = self._button("Set", "Give the selected command this shortcut", self._give)
        clear = self._button("Remove", "Leave the selected command without a shortcut", lambda: self._set(()))
        usual = self._button("Default", "Give the selected command its default shortcut", self._usual)
        row.addWidget(self.edit, 1)
        for button in (self.give, clear, usual):
            row.addWidget(button)
        column.addLayout(row)
        self.note = QLabel()
        self.note.setObjectName("muted")
        self.note.setWordWrap(True)
        column.addWidget(self.note)
        foot = QHBoxLayout()
        foot.addWidget(self._button("Restore all defaults", "Give all commands their default shortcuts", self._reset))
        foot.addStretch(1)
        foot.addWidget(self._button("Close", "Close this list", self.accept))
        column.addLayout(foot)
        # a command that has no name cannot be told apart
        self._rows = sorted((c for c in commands.all if c.name), key=lambda c: c.name.casefold())
        self._fill()
        self.table.selectRow(0)

    def _button(self, text: str, tip: str, do: Callable[[], object]) -> QPushButton:
        button = QPushButton(text)
        button.setToolTip(tip)
        button.setAutoDefault(False)
        button.clicked.connect(lambda _=False: do())
        return button

    def _fill(self) -> None:
        self.table.setRowCount(len(self._rows))
        for number, command in enumerate(self._rows):
            for place, text in enumerate((command.name, _shown(command.keys))):
                item = QTableWidgetItem(text)
                item.setToolTip(command.tip)
                self.table.setItem(number, place, item)

    def _filter(self, text: str) -> None:
        for number, command in enumerate(self._rows):
            held = f"{command.name} {_shown(command.keys)} {command.tip}".casefold()
            self.table.setRowHidden(number, text.casefold() not in held)

    def _chosen(self) -> Command | None:
        number = self.table.currentRow()
        return self._rows[number] if 0 <= number < len(self._rows) else None

    def _follow(self) -> None:
        command = self._chosen()
        if command is not None:
            self.edit.setKeySequence(QKeySequence(command.keys[0] if command.keys else ""))
            self.note.setText(command.tip)

    def _key(self) -> str:
        return self.edit.keySequence().toString(QKeySequence.SequenceFormat.PortableText)

    def _warn(self) -> None:
        command = self._chosen()
        if command is not None and self._key():
            others = ", ".join(f"“{other.name}”" for other in self.commands.holders(self._key(), command))
            self.note.setText(f"{self._key()} is taken from {others} when it is set." if others else command.tip)

    def _give(self) -> None:
        command, key = self._chosen(), self._key()
        if command is not None and key:
            self._set((key, *(k for k in command.keys[1:] if k != key)))

    def _usual(self) -> None:
        command = self._chosen()
        if command is not None:
            self._set(command.usual)

    def _set(self, keys: tuple[str, ...]) -> None:
        command = self._chosen()
        if command is not None:
            self.commands.give(command, keys)
            self._fill()
            self._follow()

    def _reset(self) -> None:
        self.commands.reset()
        self._fill()
        self._follow()
