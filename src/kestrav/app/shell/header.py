"""The window's header, and the bar that a fix's preview is accepted or dropped in."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QPushButton, QToolButton, QWidget

from kestrav.app.stage.overlays import make_native
from kestrav.core.findings.model import Fix

MenuButton = tuple[str, QMenu, str]  # text, menu, tooltip

_BELOW_TOOLS, _BESIDE, _LOWEST = 46, 148, 36  # px


class Header(QWidget):
    """The program's and the project's name, menus and actions; the main action stands out."""

    def __init__(
        self,
        before: list[MenuButton],
        actions: list[QAction],
        after: list[MenuButton],
        main: QAction,
        finder: QWidget,
    ) -> None:
        super().__init__()
        self.setObjectName("header")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(40)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 14, 0)
        row.setSpacing(9)
        brand, self.name, self.notice = QLabel("Kestrav"), QLabel(), QLabel()
        brand.setObjectName("brand")
        row.addWidget(brand)
        row.addSpacing(6)
        row.addWidget(self.name)
        self.notice.setObjectName("notice")
        self.notice.hide()
        row.addWidget(self.notice)
        row.addStretch(1)
        row.addWidget(finder, 1)
        for menu in before:
            row.addWidget(_menu_button(*menu))
        for action in actions:
            row.addWidget(_action_button(action))
        for menu in after:
            row.addWidget(_menu_button(*menu))
        self.main = _action_button(main)
        self.main.setObjectName("main")
        row.addWidget(self.main)

    def set_notice(self, text: str) -> None:
        """Say something about the project's file beside its name, or nothing."""
        self.notice.setText(text)
        self.notice.setToolTip("Saving asks before replacing a file that somebody else has saved" if text else "")
        self.notice.setVisible(bool(text))


class AskBar(QWidget):
    """A sentence over the stage with two buttons."""

    accepted = Signal()
    dropped = Signal()

    def __init__(self, stage: QWidget, yes: tuple[str, str], no: tuple[str, str]) -> None:
        """``yes`` and ``no`` are what the buttons say, and their tooltips."""
        super().__init__(stage)
        make_native(self)
        self.setObjectName("preview")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 5, 12, 5)
        self.text = QLabel()
        self.text.setWordWrap(True)
        accept, drop = QPushButton(yes[0]), QPushButton(no[0])
        accept.setToolTip(yes[1])
        drop.setToolTip(no[1])
        accept.clicked.connect(lambda: self.accepted.emit())
        drop.clicked.connect(lambda: self.dropped.emit())
        row.addWidget(self.text, 1)
        row.addWidget(accept)
        row.addWidget(drop)
        self.hide()

    def ask(self, text: str) -> None:
        """Show a sentence, or hide where there is none."""
        self.setVisible(bool(text))
        if text:
            self.text.setText(text)
            self.place()
            self.raise_()

    def place(self) -> None:
        """Lie over the stage below its tools, so that the picture stays where it is."""
        stage = self.parentWidget()
        if self.isVisible() and stage is not None:
            # beside the direction of view, where there is room for both
            width = max(stage.width() - _BESIDE, min(stage.width() - 20, 420))
            self.setGeometry(10, _BELOW_TOOLS, width, max(self.heightForWidth(width), _LOWEST))


class PreviewBar(AskBar):
    """Shown while a fix is previewed."""

    def __init__(self, stage: QWidget) -> None:
        super().__init__(stage, ("Accept", "Apply this edit"), ("Discard", "Leave the project unchanged"))

    def show_fix(self, fix: Fix | None) -> None:
        """Show what is previewed, or hide."""
        rest = "The stage, the timeline and the findings show the result."
        self.ask("" if fix is None else f"Preview: <b>{fix.label}</b>. {fix.detail or rest}")


class SourceBar(AskBar):
    """Shown when a CAD file was written anew."""

    def __init__(self, stage: QWidget) -> None:
        super().__init__(
            stage,
            ("Show changes …", "Read the file again and show what has changed, before anything is brought in"),
            ("Not now", "Leave the project as it is; the product's card reads the file again at any time"),
        )
        self.source = ""


def _action_button(action: QAction) -> QToolButton:
    button = QToolButton()
    button.setDefaultAction(action)
    button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    return button


def _menu_button(text: str, menu: QMenu, tip: str) -> QToolButton:
    button = QToolButton()
    button.setText(text)
    button.setMenu(menu)
    button.setToolTip(tip)
    button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
    button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    return button
