"""The guide, in a window of its own: its pages, and all shortcuts."""

from __future__ import annotations

from collections.abc import Sequence
from importlib import resources
from pathlib import Path

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QImage, QKeyEvent, QTextBlockFormat, QTextCursor, QTextDocument, QTextOption
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QListWidget, QListWidgetItem, QTextBrowser, QVBoxLayout, QWidget

from kestrav.app.shell.finder import Entry
from kestrav.core.document.records import (
    Attachment,
    Camera,
    Colourway,
    Comment,
    Finish,
    FinishRule,
    Item,
    Light,
    Part,
    Path as PathRecord,
    PoseTrack,
    Run,
    Shot,
    StepSheet,
)

SHORTCUTS = "shortcuts"
_PICTURE = 620  # pixels
_PAGES = ("window", "preparing", "paths", "runs", "wheels", "cameras", "films", "finishes", "clearance", "handing-on")
_OF = {
    Part: "preparing",
    PathRecord: "paths",
    Run: "runs",
    PoseTrack: "runs",
    Attachment: "runs",
    Light: "runs",
    Camera: "cameras",
    Shot: "films",
    Finish: "finishes",
    FinishRule: "finishes",
    Colourway: "finishes",
    Comment: "handing-on",
    StepSheet: "handing-on",
}


def pages() -> dict[str, Path]:
    """The files of the guide's pages by name, in their order."""
    folder = Path(str(resources.files("kestrav") / "assets" / "guide"))
    return {name: folder / f"{name}.md" for name in _PAGES}


def page_for(item: Item | None, *, checks: bool) -> str:
    """The page about what is selected, or about the settings of the checks."""
    if checks:
        return "clearance"
    # what turns is on one page, whatever it is
    return "window" if item is None else _OF.get(type(item), "wheels")


def sheet(entries: Sequence[Entry]) -> str:
    """All shortcuts as Markdown, by where their actions are."""
    rows: dict[str, list[Entry]] = {}
    for entry in entries:
        if entry.keys:
            rows.setdefault(entry.where or "Keys alone", []).append(entry)
    lines = ["# Shortcuts", ""]
    for where, some in rows.items():
        lines += [f"## {where}", "", "| key | action |", "|---|---|"]
        lines += [f"| {e.keys.replace('|', '∣')} | {e.text.rstrip(' …')} |" for e in some]
        lines.append("")
    return "\n".join(lines)


class GuideWindow(QWidget):
    """Shows a page; a text that is typed above is looked for in it."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setWindowTitle("Kestrav guide")
        self.setObjectName("body")
        self.resize(960, 680)
        self._sheet = ""
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        self.list = QListWidget()
        self.list.setObjectName("pages")
        self.list.setAccessibleName("Pages of the guide")
        self.list.setFixedWidth(256)
        column = QVBoxLayout()
        column.setSpacing(0)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find in this page (Enter for the next place)")
        self.search.setAccessibleName("Find in this page")
        self.search.setClearButtonEnabled(True)
        self.page = _Page()
        self.page.setOpenExternalLinks(False)
        self.page.setWordWrapMode(QTextOption.WrapMode.WrapAtWordBoundaryOrAnywhere)
        self.page.setAccessibleName("Page")
        self.page.document().setDocumentMargin(18)
        column.addWidget(self.search)
        column.addWidget(self.page, 1)
        row.addWidget(self.list)
        row.addLayout(column, 1)
        for name, file in pages().items():
            self._add(name, file.read_text(encoding="utf-8").partition("\n")[0].lstrip("# "))
        self._add(SHORTCUTS, "Shortcuts")
        self.list.currentItemChanged.connect(lambda item, _: item is not None and self._load(item))
        self.search.textEdited.connect(lambda _: self._find(anew=True))
        self.search.returnPressed.connect(lambda: self._find(anew=False))

    def _add(self, name: str, title: str) -> None:
        item = QListWidgetItem(title)
        item.setData(Qt.ItemDataRole.UserRole, name)
        self.list.addItem(item)

    def show_page(self, name: str, shortcuts: str) -> None:
        """Show a page by its name, in front."""
        self._sheet = shortcuts
        for k in range(self.list.count()):
            item = self.list.item(k)
            if item.data(Qt.ItemDataRole.UserRole) == name:
                self.list.setCurrentItem(item)
                self._load(item)
        self.show()
        self.raise_()
        self.activateWindow()

    def _load(self, item: QListWidgetItem) -> None:
        name = item.data(Qt.ItemDataRole.UserRole)
        text = self._sheet
        if name != SHORTCUTS:
            file = pages()[name]
            self.page.document().setBaseUrl(QUrl.fromLocalFile(f"{file.parent}/"))
            text = _with_pictures(file.read_text(encoding="utf-8"), file.parent)
        self.page.document().setMarkdown(text, QTextDocument.MarkdownFeature.MarkdownDialectGitHub)
        _space(self.page.document())
        self.page.moveCursor(QTextCursor.MoveOperation.Start)

    def _find(self, anew: bool) -> None:
        text = self.search.text()
        if anew:
            cursor = self.page.textCursor()
            cursor.setPosition(cursor.selectionStart())
            self.page.setTextCursor(cursor)
        if text and not self.page.find(text):
            # from the beginning again
            self.page.moveCursor(self.page.textCursor().MoveOperation.Start)
            self.page.find(text)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.close()
            return
        super().keyPressEvent(event)


class _Page(QTextBrowser):
    """A page whose pictures are as wide as its text at most."""

    def loadResource(self, kind: int, name: QUrl | str) -> object:
        resource = super().loadResource(kind, name)
        if kind != QTextDocument.ResourceType.ImageResource.value:
            return resource
        image = QImage(self.document().baseUrl().resolved(QUrl(name)).toLocalFile())
        if image.width() > _PICTURE:
            image = image.scaledToWidth(_PICTURE, Qt.TransformationMode.SmoothTransformation)
        return image if not image.isNull() else resource


def _space(document: QTextDocument) -> None:
    """Give a page's headings and paragraphs room."""
    cursor, block = QTextCursor(document), document.begin()
    while block.isValid():
        look = block.blockFormat()
        heading = look.headingLevel() > 0
        look.setNonBreakableLines(False)  # commands too are as wide as the page at most
        if "\ufffc" not in block.text():  # a picture is as high as it is
            look.setLineHeight(122, QTextBlockFormat.LineHeightTypes.ProportionalHeight.value)
        if QTextCursor(block).currentTable() is None:
            look.setTopMargin(16 if heading else 4)
            look.setBottomMargin(4 if heading else 5)
        cursor.setPosition(block.position())
        cursor.setBlockFormat(look)
        block = block.next()


def _with_pictures(text: str, folder: Path) -> str:
    """A page without lines of pictures that are not there, as in a program installed without the sources."""
    kept = []
    for line in text.splitlines():
        target = line.rpartition("](")[2].rstrip(")") if line.startswith("![") else ""
        if not target or (folder / target).exists():
            kept.append(line)
    return "\n".join(kept)
