"""What the window said lately, to be read again."""

from __future__ import annotations

from collections import deque
from datetime import datetime

from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QLabel, QPlainTextEdit, QVBoxLayout, QWidget

_KEPT = 200


class Messages:
    """The last messages, each with when it was said; one said again at once is kept once."""

    def __init__(self) -> None:
        self.said: deque[tuple[datetime, str]] = deque(maxlen=_KEPT)

    def keep(self, text: str) -> None:
        """Keep a message."""
        if text and not (self.said and self.said[-1][1] == text):
            self.said.append((datetime.now(), text))

    def as_text(self) -> str:
        """All of them, the latest first."""
        return "\n".join(f"{when:%H:%M:%S}  {text}" for when, text in reversed(self.said))


class MessagesDialog(QDialog):
    """Shows them, to be read and copied."""

    def __init__(self, parent: QWidget, messages: Messages) -> None:
        super().__init__(parent)
        self.setWindowTitle("Messages")
        self.resize(640, 360)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        title = QLabel("Messages")
        title.setObjectName("title")
        self.text = QPlainTextEdit(messages.as_text() or "Nothing has been said yet.")
        self.text.setReadOnly(True)
        self.text.setAccessibleName("Messages, the latest first")
        buttons = QDialogButtonBox()
        close = buttons.addButton("Close", QDialogButtonBox.ButtonRole.RejectRole)
        copy = buttons.addButton("Copy all", QDialogButtonBox.ButtonRole.ActionRole)
        copy.setToolTip("Copy all messages to the clipboard")
        close.clicked.connect(self.reject)
        copy.clicked.connect(lambda: QGuiApplication.clipboard().setText(self.text.toPlainText()))
        for widget in (title, self.text, buttons):
            column.addWidget(widget)
