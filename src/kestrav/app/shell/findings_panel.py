"""The findings: faults by severity, each with a way to go there and, where there is one, a fix."""

from __future__ import annotations

import textwrap

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QGuiApplication, QMouseEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QMenu, QPushButton, QScrollArea, QVBoxLayout, QWidget

from kestrav.app.widgets.style import SEVERITY_WORD
from kestrav.app.widgets.window_colours import SEVERITY_COLOUR, SEVERITY_TEXT
from kestrav.core.findings.model import Finding

HEIGHT, FOLDED = 310, 29
LETTERS = 30  # of a link in a line


class _Card(QFrame):
    went = Signal(object)
    fix_asked = Signal(object)

    def __init__(self, finding: Finding) -> None:
        super().__init__()
        self.finding = finding
        self.setObjectName("finding")
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        bar = QFrame()
        bar.setFixedWidth(4)
        bar.setStyleSheet(f"background: {SEVERITY_COLOUR[finding.severity]};")
        row.addWidget(bar)
        column = QVBoxLayout()
        column.setContentsMargins(11, 7, 10, 7)
        column.setSpacing(2)
        row.addLayout(column, 1)
        severity = QLabel(SEVERITY_WORD[finding.severity])
        severity.setStyleSheet(f"color: {SEVERITY_TEXT[finding.severity]}; font-size: 11px; font-weight: 600;")
        title, detail = QLabel(finding.title), QLabel(finding.detail)
        title.setObjectName("title")
        detail.setObjectName("muted")
        for label in (title, detail):
            label.setWordWrap(True)
        actions = QHBoxLayout()
        actions.setSpacing(12)
        go = _link("Go there", "Move the playhead to the worst moment and show the place (N: next finding)")
        go.clicked.connect(lambda: self.went.emit(finding))
        actions.addWidget(go)
        actions.addStretch(1)
        for item in (severity, title, detail):
            column.addWidget(item)
        column.addLayout(actions)
        fixes = [m for m in (finding.fix, *finding.also) if m is not None]
        for number, fix in enumerate(fixes):
            link = _link(_in_lines(fix.label), "Preview this fix, then accept or discard it")
            link.clicked.connect(lambda _=False, m=fix: self.fix_asked.emit(m))
            if number == 0 and len(fixes) == 1 and len(fix.label) <= LETTERS // 2:
                actions.insertWidget(1, link)
            else:
                # more than one way, or a long one: each on a line of its own
                column.addWidget(link)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.went.emit(self.finding)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu, finding = QMenu(self), self.finding
        menu.addAction("Go there").triggered.connect(lambda: self.went.emit(finding))
        for fix in (m for m in (finding.fix, *finding.also) if m is not None):
            menu.addAction(fix.label).triggered.connect(lambda _=False, m=fix: self.fix_asked.emit(m))
        menu.addSeparator()
        text = f"{finding.title}: {finding.detail}"
        menu.addAction("Copy text").triggered.connect(lambda: QGuiApplication.clipboard().setText(text))
        menu.exec(event.globalPos())

    def choose(self, chosen: bool) -> None:
        """Mark as the one gone to."""
        self.setProperty("chosen", "true" if chosen else "false")
        self.style().unpolish(self)
        self.style().polish(self)


def _in_lines(label: str) -> str:
    """A label in as many lines as the panel's width needs."""
    return "\n".join(textwrap.wrap(label, LETTERS))


def _link(text: str, tip: str) -> QPushButton:
    button = QPushButton(text)
    button.setObjectName("link")
    button.setToolTip(tip)
    button.setCursor(Qt.CursorShape.PointingHandCursor)
    # a click leaves the keyboard with the stage, where Space plays
    button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    return button


class FindingsPanel(QWidget):
    """Shows the findings of the last check, and says when they lag behind."""

    went = Signal(object)
    fix_asked = Signal(object)
    folded = Signal(bool)
    stopped = Signal()  # the check under way is not to go on

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("findings")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 1, 0, 0)
        column.setSpacing(0)
        head = QWidget()
        head.setObjectName("panelhead")
        head.setFixedHeight(29)
        row = QHBoxLayout(head)
        row.setContentsMargins(12, 0, 8, 0)
        self.title, self.count = QLabel("Findings"), QLabel()
        self.title.setObjectName("title")
        self.count.setObjectName("muted")
        self.fold = QPushButton("▾")
        self.fold.setObjectName("plain")
        self.fold.setToolTip("Collapse or expand the findings (F8)")
        self.fold.setAccessibleName("Collapse findings")
        self.fold.clicked.connect(self.toggle)
        row.addWidget(self.title)
        row.addStretch(1)
        row.addWidget(self.count)
        self.stop = _link("Stop", "Stop the running check; the next edit starts it again")
        self.stop.clicked.connect(lambda: self.stopped.emit())
        self.stop.hide()
        row.addWidget(self.stop)
        row.addWidget(self.fold)
        column.addWidget(head)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column.addWidget(self.area, 1)
        self.cards: list[_Card] = []
        self.findings: tuple[Finding, ...] = ()
        self.is_folded = False
        self.setMinimumHeight(100)
        self.show_findings((), "nothing checked yet")

    def show_findings(self, findings: tuple[Finding, ...], nothing: str = "") -> None:
        """Show these findings; ``nothing`` is what to say when there are none."""
        self.findings = findings
        body = QWidget()
        body.setStyleSheet("background: transparent;")
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.cards = []
        for finding in findings:
            card = _Card(finding)
            card.went.connect(self.went)
            card.fix_asked.connect(self.fix_asked)
            column.addWidget(card)
            self.cards.append(card)
        if not findings:
            label = QLabel(nothing)
            label.setObjectName("muted")
            label.setWordWrap(True)
            label.setContentsMargins(13, 10, 10, 10)
            column.addWidget(label)
        column.addStretch(1)
        self.area.setWidget(body)
        self.say_current(True)

    def say_current(self, current: bool) -> None:
        """Say whether the findings belong to the document as it is."""
        self.count.setText(str(len(self.findings)) if current else f"{len(self.findings)} · checking …")
        self.stop.setVisible(not current)

    def say_progress(self, share: float) -> None:
        """Say how far the check under way is."""
        self.count.setText(f"{len(self.findings)} · checking {share:.0%}")

    def say_stopped(self) -> None:
        """Say that the check was stopped."""
        self.count.setText(f"{len(self.findings)} · stopped")
        self.stop.hide()

    def choose(self, finding: Finding | None) -> None:
        """Mark one finding."""
        for card in self.cards:
            card.choose(card.finding is finding)

    def toggle(self) -> None:
        """Fold or unfold."""
        self.is_folded = not self.is_folded
        self.area.setVisible(not self.is_folded)
        self.fold.setText("▴" if self.is_folded else "▾")
        self.setMinimumHeight(FOLDED if self.is_folded else 100)
        self.setMaximumHeight(FOLDED if self.is_folded else 16_000)
        self.folded.emit(self.is_folded)

    def neighbour(self, current: Finding | None, step: int) -> Finding | None:
        """The next or previous finding."""
        if not self.findings:
            return None
        if current not in self.findings:
            return self.findings[0 if step > 0 else -1]
        assert current is not None
        return self.findings[(self.findings.index(current) + step) % len(self.findings)]
