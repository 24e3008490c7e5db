"""The search box of the header: every action, thing and setting by its name or by another word for it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import partial

import msgspec
from PySide6.QtCore import QEvent, QObject, QPoint, QSize, Qt
from PySide6.QtGui import QAction, QColor, QFocusEvent, QKeyEvent, QKeySequence, QPainter
from PySide6.QtWidgets import (
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)

from kestrav.app.widgets.window_colours import CHOSEN, INK, MUTED
from kestrav.core.document.records import COLLECTIONS, KIND_WORDS, Project

MOST = 12  # entries shown at once
_HEIGHT, _WIDTH, _SIDE = 26, 520, 10

# what people look for, by the words of the menus that are meant
OTHER_WORDS = {
    "animate": "run path key",
    "animation": "run key gltf film",
    "assembly": "group disassembly",
    "bokeh": "f-number depth of field",
    "bounce": "back and forth",
    "collision": "clearance report pairs",
    "disassemble": "disassembly take apart",
    "dismantle": "disassembly take apart",
    "dolly": "camera path",
    "explode": "exploded view",
    "exploded": "exploded view",
    "export": "report gltf tables still selected",
    "focal": "lens",
    "hdri": "light set-up environment surroundings",
    "hide": "isolate show",
    "image": "still picture",
    "import": "add products",
    "interference": "clearance contacts",
    "lighting": "light adjust",
    "material": "finish",
    "keyframe": "key pose",
    "movie": "film render",
    "picture": "still",
    "preferences": "project",
    "removal": "extraction",
    "remove": "extraction delete",
    "rotate": "turn turntable rotation",
    "screenshot": "still",
    "shader": "finish",
    "snapshot": "picture of the lens",
    "spline": "path",
    "spin": "rotation",
    "sun": "light set-up daylight",
    "texture": "finish",
    "trajectory": "path",
    "translate": "move",
    "undo history": "undo",
    "video": "film render",
    "wireframe": "wire style",
    "zoom": "fit all",
}


class Entry(msgspec.Struct, frozen=True):
    """What can be found: its name, where it is, its shortcut, other words by which it is found, whether it can be done now, and what it does."""

    text: str
    where: str
    keys: str
    words: str
    possible: bool
    act: Callable[[], object]


def of_actions(menus: Iterable[tuple[str, QMenu]], others: Iterable[QAction]) -> list[Entry]:
    """The actions of menus, with where they are, and those that have a key only."""
    entries: list[Entry] = []
    seen: set[str] = set()

    def take(action: QAction, where: str) -> None:
        text = action.text().replace("&", "").strip()
        if action.isSeparator() or not text or text in seen:
            return
        seen.add(text)
        keys = QKeySequence(action.shortcut()).toString(QKeySequence.SequenceFormat.NativeText)
        entries.append(Entry(text, where, keys, action.toolTip(), action.isEnabled(), action.trigger))

    def go(menu: QMenu, where: str) -> None:
        menu.aboutToShow.emit()  # some are filled as they open
        for action in menu.actions():
            inner: object = action.menu()
            if isinstance(inner, QMenu):
                go(inner, f"{where} → {inner.title().replace('&', '')}")
            else:
                take(action, where)

    for name, menu in menus:
        go(menu, name)
    for action in others:
        take(action, "")
    return entries


def of_things(project: Project, go: Callable[[str], object]) -> list[Entry]:
    """Everything of a project that has a name, with its kind; ``go`` shows one by its id."""
    return [
        Entry(item.name, word.capitalize(), "", "", True, partial(go, item.id))
        for kind, word in KIND_WORDS.items()
        for item in getattr(project, COLLECTIONS[kind])
    ]


def of_fields(names: Iterable[str], where: str, go: Callable[[str], object]) -> list[Entry]:
    """Fields of a card by their labels; ``go`` puts the keys into one."""
    return [Entry(name, where, "", "setting", True, partial(go, name)) for name in names]


def matching(entries: Sequence[Entry], asked: str) -> list[Entry]:
    """The entries that an asked text means, best first: those whose name begins with it, has words that do, or has it at all, and then those
    that other words for it lead to."""
    words = asked.casefold().split()
    if not words:
        return []
    ranked = []
    for number, entry in enumerate(entries):
        name = entry.text.casefold()
        parts = name.replace("(", " ").replace("-", " ").split()
        if name.startswith(" ".join(words)):
            rank = 0
        elif all(any(part.startswith(word) for part in parts) for word in words):
            rank = 1
        elif all(word in name for word in words):
            rank = 2
        elif all(word in f"{name} {entry.where} {entry.words}".casefold() for word in words):
            rank = 3
        elif all(_meant(word, name) for word in words):
            rank = 4
        else:
            continue
        # of things there may be very many that begin alike
        ranked.append((rank + (entry.where.lower() in KIND_WORDS.values()), number, entry))
    return [entry for _, _, entry in sorted(ranked, key=lambda each: each[:2])][:MOST]


def _meant(word: str, name: str) -> bool:
    """Whether a word, or one that it begins, is another one for something in a name."""
    return word in name or any(
        other.startswith(word) and any(meant in name for meant in OTHER_WORDS[other].split()) for other in OTHER_WORDS
    )


class Finder(QLineEdit):
    """Where one types what is looked for; Enter does the chosen one."""

    def __init__(self, entries: Callable[[], list[Entry]], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("finder")
        self.setPlaceholderText("Find an action or thing")
        self.setToolTip("Find an action, thing or setting by its name or another word for it (Ctrl+Shift+F)")
        self.setAccessibleName("Find an action, thing or setting")
        self.setClearButtonEnabled(True)
        self.setMinimumWidth(120)
        self.setMaximumWidth(230)
        self._entries, self._known = entries, list[Entry]()
        self.list = QListWidget(self)
        self.list.setWindowFlags(Qt.WindowType.ToolTip)
        self.list.setObjectName("found")
        self.list.setAccessibleName("What was found")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setItemDelegate(_Line(self.list))
        self.list.setMouseTracking(True)
        self.list.itemEntered.connect(self.list.setCurrentItem)
        self.list.itemClicked.connect(lambda _: self._do())
        self.textEdited.connect(lambda _: self._show())
        self.returnPressed.connect(self._do)

    def begin(self) -> None:
        """Take the keys."""
        self.setFocus(Qt.FocusReason.ShortcutFocusReason)
        self.selectAll()

    @property
    def shown_entries(self) -> list[Entry]:
        """The entries shown."""
        return [self.list.item(k).data(Qt.ItemDataRole.UserRole) for k in range(self.list.count())]

    def _show(self) -> None:
        if not self.list.isVisible():
            self._known = self._entries()
        self.list.clear()
        for entry in matching(self._known, self.text()):
            item = QListWidgetItem(entry.text)
            item.setData(Qt.ItemDataRole.UserRole, entry)
            item.setToolTip(entry.words)
            self.list.addItem(item)
        if not self.list.count():
            self.list.hide()
            return
        self.list.setCurrentRow(0)
        self.list.setFixedSize(_WIDTH, self.list.count() * _HEIGHT + 6)
        corner = self.mapToGlobal(QPoint(0, self.height() + 2))
        room = self.screen().availableGeometry()
        self.list.move(min(corner.x(), room.right() - _WIDTH), corner.y())
        self.list.show()
        self.list.raise_()

    def _do(self) -> None:
        item = self.list.currentItem()
        if item is None or not self.list.isVisible():
            return
        entry: Entry = item.data(Qt.ItemDataRole.UserRole)
        if not entry.possible:
            return
        self._end()
        entry.act()

    def _end(self) -> None:
        self.list.hide()
        self.clear()
        self.clearFocus()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is not None and self.list.count():
            self.list.setCurrentRow((self.list.currentRow() + step) % self.list.count())
        elif event.key() == Qt.Key.Key_Escape:
            self._end()
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.list.hide()

    def event(self, event: QEvent) -> bool:
        # while one types here the window's one-letter shortcuts mean letters
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and not event.modifiers():
            event.accept()
            return True
        return super().event(event)


class _Line(QStyledItemDelegate):
    """A line of what was found: its name, where it is, and its key at the right."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)

    def sizeHint(self, option: QStyleOptionViewItem, index: object) -> QSize:
        return QSize(_WIDTH - 8, _HEIGHT)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: object) -> None:
        entry: Entry = index.data(Qt.ItemDataRole.UserRole)  # type: ignore[attr-defined]
        look = QStyleOptionViewItem(option)
        self.initStyleOption(look, index)  # type: ignore[arg-type]
        chosen = bool(look.state & QStyle.StateFlag.State_Selected)  # type: ignore[attr-defined]
        painter.save()
        rect = look.rect  # type: ignore[attr-defined]
        if chosen:
            painter.fillRect(rect, QColor(CHOSEN))
        room = rect.adjusted(_SIDE, 0, -_SIDE, 0)
        centre = Qt.AlignmentFlag.AlignVCenter
        painter.setPen(INK if entry.possible else MUTED)
        keys = painter.fontMetrics().horizontalAdvance(entry.keys)
        painter.drawText(room, centre | Qt.AlignmentFlag.AlignRight, entry.keys)
        room.setRight(room.right() - keys - 14)
        text = painter.fontMetrics().elidedText(entry.text, Qt.TextElideMode.ElideRight, room.width())
        painter.drawText(room, centre | Qt.AlignmentFlag.AlignLeft, text)
        room.setLeft(room.left() + painter.fontMetrics().horizontalAdvance(text) + 12)
        painter.setPen(MUTED)
        painter.drawText(
            room,
            centre | Qt.AlignmentFlag.AlignLeft,
            painter.fontMetrics().elidedText(entry.where, Qt.TextElideMode.ElideRight, max(room.width(), 0)),
        )
        painter.restore()
