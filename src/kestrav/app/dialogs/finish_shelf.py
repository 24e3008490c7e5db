"""The shelf of finishes: swatches to drag onto parts, to give to the selection, or by a rule to parts of a name."""

from __future__ import annotations

from PySide6.QtCore import QMimeData, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QIcon, QImage, QPixmap
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.session import Session
from kestrav.core.document.lookup import find
from kestrav.core.document.records import Finish, Part
from kestrav.core.finishes.shelf import BY_NAME, SHELF
from kestrav.core.finishes.swatches import swatch

MIME = "application/x-kestrav-finish"
_SIDE = 64  # px of a swatch
_KEY = Qt.ItemDataRole.UserRole


def finish_dragged(data: QMimeData, session: Session) -> Finish | str | None:
    """The finish that is dragged: one of the shelf, the id of one of the project's, or none."""
    if not data.hasFormat(MIME):
        return None
    key = bytes(data.data(MIME).data()).decode()
    return BY_NAME.get(key.removeprefix("shelf/"), key if find(session.project, key) is not None or not key else None)


def picture_of(finish: Finish, side: int, ratio: float = 1.0) -> QPixmap:
    """A finish's swatch."""
    pixels = swatch(finish, round(side * ratio))
    image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], 4 * pixels.shape[1], QImage.Format.Format_RGBA8888)
    picture = QPixmap.fromImage(image.copy())
    picture.setDevicePixelRatio(ratio)
    return picture


class _Swatches(QListWidget):
    """Finishes as pictures with their names, which can be dragged away."""

    def __init__(self) -> None:
        super().__init__()
        self.setViewMode(QListWidget.ViewMode.IconMode)
        self.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.setMovement(QListWidget.Movement.Static)
        self.setIconSize(QSize(_SIDE, _SIDE))
        self.setGridSize(QSize(104, _SIDE + 46))
        self.setWordWrap(True)
        self.setDragEnabled(True)
        self.setSpacing(2)
        self.setAccessibleName("Finishes")

    def mimeData(self, items: list[QListWidgetItem]) -> QMimeData:  # type: ignore[override]
        data = QMimeData()
        if items:
            data.setData(MIME, str(items[0].data(_KEY)).encode())
        return data


class FinishShelf(QDialog):
    """The project's finishes and those of the shelf; it stays open beside the work."""

    given = Signal(object)  # a finish of the shelf, or the id of one of the project's, to the selection
    ruled = Signal(object, str)  # the same, to parts whose names hold some words

    def __init__(self, parent: QWidget, session: Session) -> None:
        super().__init__(parent, Qt.WindowType.Tool)
        self.session = session
        self.setWindowTitle("Finishes")
        self.resize(470, 560)
        column = QVBoxLayout(self)
        self.words = QLineEdit()
        self.words.setPlaceholderText("Find a finish …")
        self.words.setAccessibleName("Find a finish")
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(self.fill)
        column.addWidget(self.words)
        self.list = _Swatches()
        self.list.itemActivated.connect(lambda _: self.give())
        self.list.currentItemChanged.connect(lambda *_: self._tell())
        column.addWidget(self.list, 1)
        self.hint = QLabel()
        self.hint.setObjectName("note")
        self.hint.setWordWrap(True)
        column.addWidget(self.hint)
        row = QHBoxLayout()
        self.give_button = QPushButton("Give to selection")
        self.give_button.setToolTip("Give this finish to the selected parts (Enter, or drag it onto a part)")
        self.give_button.clicked.connect(self.give)
        row.addWidget(self.give_button)
        row.addStretch(1)
        self.rule_words = QLineEdit()
        self.rule_words.setPlaceholderText("words in names")
        self.rule_words.setToolTip("Words in the names of parts, such as “bolt”; a star stands for anything")
        self.rule_words.setAccessibleName("Words in names")
        row.addWidget(self.rule_words)
        self.rule_button = QPushButton("Give by name")
        self.rule_button.setToolTip(
            "Add a rule that gives this finish to all parts of such names, also of later deliveries"
        )
        self.rule_button.clicked.connect(self._rule)
        self.rule_words.returnPressed.connect(self._rule)
        row.addWidget(self.rule_button)
        column.addLayout(row)
        self._drawing = QTimer(self)
        self._drawing.setInterval(0)
        self._drawing.timeout.connect(self._draw_next)
        self._pictures: dict[Finish, QIcon] = {}
        session.edited.connect(self._follow)
        session.selected.connect(self._tell)
        self._shown: tuple[Finish, ...] = ()
        self.fill()

    def _follow(self) -> None:
        if self.isVisible() and self._shown is not self.session.shown.finishes:
            self.fill()

    def fill(self) -> None:
        """List what the words are found in."""
        words = self.words.text().casefold().split()
        chosen = self.chosen_key()
        self._shown = self.session.shown.finishes
        self.list.clear()
        mine = {finish.name for finish in self._shown}
        entries = [(finish.id, finish, "in this project") for finish in self._shown]
        entries += [(f"shelf/{f.name}", f, group) for group, finishes in SHELF for f in finishes if f.name not in mine]
        for key, finish, group in entries:
            if all(word in f"{finish.name} {group}".casefold() for word in words):
                item = QListWidgetItem(finish.name)
                item.setData(_KEY, key)
                item.setToolTip(f"{finish.name}, {group}")
                item.setSizeHint(QSize(100, _SIDE + 42))
                item.setTextAlignment(Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop)
                self.list.addItem(item)
                if key == chosen:
                    self.list.setCurrentItem(item)
        if self.list.currentItem() is None and self.list.count():
            self.list.setCurrentRow(0)
        self._drawing.start()
        self._tell()

    def _draw_next(self) -> None:
        """Draw one swatch at a time, so that the window stays at hand."""
        for k in range(self.list.count()):
            item = self.list.item(k)
            if item.icon().isNull():
                finish = self.finish_of(str(item.data(_KEY)))
                if finish not in self._pictures:
                    self._pictures[finish] = QIcon(picture_of(finish, _SIDE, self.devicePixelRatioF()))
                    item.setIcon(self._pictures[finish])
                    return
                item.setIcon(self._pictures[finish])
        self._drawing.stop()

    def finish_of(self, key: str) -> Finish:
        """The finish of an entry."""
        if key.startswith("shelf/"):
            return BY_NAME[key.removeprefix("shelf/")]
        return next(finish for finish in self._shown if finish.id == key)

    def chosen_key(self) -> str:
        """The entry that is chosen, or nothing."""
        item = self.list.currentItem()
        return "" if item is None else str(item.data(_KEY))

    def chosen(self) -> Finish | str | None:
        """The finish that is chosen: of the shelf, or the id of one of the project's."""
        key = self.chosen_key()
        if not key:
            return None
        return BY_NAME[key.removeprefix("shelf/")] if key.startswith("shelf/") else key

    def give(self) -> None:
        """Give what is chosen to the selection."""
        finish = self.chosen()
        if finish is not None:
            self.given.emit(finish)

    def _rule(self) -> None:
        finish = self.chosen()
        if finish is not None:
            self.ruled.emit(finish, self.rule_words.text())

    def _tell(self) -> None:
        parts = [item for i in self.session.selected_ids if isinstance(item := find(self.session.shown, i), Part)]
        self.give_button.setEnabled(bool(parts) and bool(self.chosen_key()))
        self.rule_button.setEnabled(bool(self.chosen_key()))
        names = ", ".join(part.name for part in parts[:3]) + (" …" if len(parts) > 3 else "")
        self.hint.setText(f"For {names}." if parts else "Select parts, or drag a finish onto a part in the stage.")
