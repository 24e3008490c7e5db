"""The window's divisions: contents and findings, card, stage, timeline. They can be dragged and folded, and are remembered."""

from __future__ import annotations

from typing import Any, Final

from PySide6.QtCore import QByteArray, QSettings, Qt, Signal
from PySide6.QtWidgets import QMainWindow, QSplitter, QVBoxLayout, QWidget

from kestrav.app.shell.findings_panel import FOLDED, HEIGHT, FindingsPanel

CARD_WIDTH: Final = 292
_CONTENTS_WIDTH, _TIMELINE_HEIGHT = 244, 252
_WIDER = 1.25  # contents, card and timeline where the window is large
_LAYOUT = 2  # of the splitters; raise it when their order changes
_SPLITTERS = ("across", "left", "top", "right")


class Panels(QSplitter):
    """Lays the parts of the window out and keeps their sizes."""

    folding = Signal()  # something is shown or hidden

    def __init__(self, contents: QWidget, findings: FindingsPanel, card: QWidget, middle: QWidget) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        timeline = self._timeline = QWidget()  # its place, which it takes when it is there
        timeline.setObjectName("timelineplace")
        timeline.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        room = QVBoxLayout(timeline)
        room.setContentsMargins(0, 0, 0, 0)
        self.parts = {"contents": contents, "card": card, "timeline": timeline}
        self.findings = findings
        self._findings_height = HEIGHT
        self._sizes_before: list[int] = []
        self.left = QSplitter(Qt.Orientation.Vertical)
        self.left.addWidget(contents)
        self.left.addWidget(findings)
        self.top = QSplitter(Qt.Orientation.Horizontal)
        self.top.addWidget(card)
        self.top.addWidget(middle)
        self.right = QSplitter(Qt.Orientation.Vertical)
        self.right.addWidget(self.top)
        self.right.addWidget(timeline)
        self.addWidget(self.left)
        self.addWidget(self.right)
        for splitter, stretch in ((self.left, 0), (self.top, 1), (self.right, 0), (self, 1)):
            splitter.setHandleWidth(1)
            splitter.setChildrenCollapsible(False)
            splitter.setStretchFactor(stretch, 1)
        contents.setMinimumSize(200, 120)
        card.setMinimumWidth(240)
        timeline.setMinimumHeight(150)
        findings.folded.connect(self._on_findings_folded)
        self.lay_out(1280, 760)

    def take_timeline(self, timeline: QWidget) -> None:
        """Put the timeline in its place."""
        room = self._timeline.layout()
        assert room is not None
        room.addWidget(timeline)
        # at once, and not when the place is laid out anew
        timeline.show()
        room.activate()

    def put_in_place_of_timeline(self, widget: QWidget, height: int) -> None:
        """Show a widget where the timeline is, at least so many pixels high."""
        self._sizes_before = self.right.sizes()
        above, below = self._sizes_before
        high = max(below, height)
        self.right.addWidget(widget)
        self.right.setStretchFactor(2, 0)
        self.parts["timeline"].hide()
        widget.show()
        self.right.setSizes([above + below - high, 0, high])

    def show_timeline_again(self, widget: QWidget, parent: QWidget) -> None:
        """Give the timeline its place back from a widget, which becomes its parent's again."""
        # out of the splitter, so that its sizes are kept as those of stage and timeline
        widget.setParent(parent)
        self.parts["timeline"].show()
        self.right.setSizes(self._sizes_before)

    def lay_out(self, width: int, height: int) -> None:
        """Give everything its usual size in a window of a size in pixels; a large one has more for contents, card and timeline."""
        factor = _WIDER if width >= 1800 else 1.0
        contents, card = round(_CONTENTS_WIDTH * factor), round(CARD_WIDTH * factor)
        timeline = max(_TIMELINE_HEIGHT, round(0.3 * height))
        self.setSizes([contents, width - contents])
        self.left.setSizes([height - HEIGHT, HEIGHT])
        self.top.setSizes([card, width - contents - card])
        self.right.setSizes([height - timeline, timeline])

    def toggle(self, name: str) -> None:
        """Show or hide the contents with the findings, the card, or the timeline."""
        panel = self.left if name == "contents" else self.parts[name]
        panel.setVisible(panel.isHidden())
        self.folding.emit()

    def _on_findings_folded(self, folded: bool) -> None:
        """Give the contents the room of folded findings, and back."""
        total = sum(self.left.sizes())
        if folded:
            self._findings_height = self.left.sizes()[1]
        height = FOLDED if folded else self._findings_height
        self.left.setSizes([total - height, height])

    def _splitter(self, name: str) -> QSplitter:
        return self if name == "across" else getattr(self, name)  # type: ignore[no-any-return]

    def restore(self, window: QMainWindow) -> bool:
        """Lay out as the last time; False when there was none."""
        settings = QSettings()
        kept: Any = settings.value("layout/version", 0)
        geometry = settings.value("layout/window")
        if int(kept) != _LAYOUT or not isinstance(geometry, QByteArray):
            return False
        window.restoreGeometry(geometry)
        for name in _SPLITTERS:
            state = settings.value(f"layout/{name}")
            if isinstance(state, QByteArray):
                self._splitter(name).restoreState(state)
        for name in self.parts:
            if settings.value(f"layout/hidden/{name}") == "true":
                self.toggle(name)
        return True

    def remember(self, window: QMainWindow) -> None:
        """Keep the layout for the next time."""
        settings = QSettings()
        settings.setValue("layout/version", _LAYOUT)
        settings.setValue("layout/window", window.saveGeometry())
        for name in _SPLITTERS:
            settings.setValue(f"layout/{name}", self._splitter(name).saveState())
        for name, panel in self.parts.items():
            hidden = (self.left if name == "contents" else panel).isHidden()
            settings.setValue(f"layout/hidden/{name}", "true" if hidden else "false")
