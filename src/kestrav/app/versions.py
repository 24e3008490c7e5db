"""The earlier versions of a project: what is other in them, opened as a copy, or taken back."""

from __future__ import annotations

from typing import Literal

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.versions import Version, told_of

_VERSION = Qt.ItemDataRole.UserRole
Answer = Literal["", "copy", "back"]


class VersionsDialog(QDialog):
    """The list of earlier versions, the latest first, with what is other in the chosen one."""

    def __init__(self, parent: QWidget, versions: list[Version], now: project_file.Opened) -> None:
        super().__init__(parent)
        self.setObjectName("versions")
        self.setWindowTitle("Earlier versions")
        self.resize(640, 340)
        self.answer: Answer = ""
        self._now = now
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 12)
        head = QLabel("What each saving replaced")
        head.setObjectName("title")
        column.addWidget(head)
        self.list = QListWidget()
        self.list.setAccessibleName("earlier versions")
        for one in versions:
            item = QListWidgetItem(f"{one.when}   {one.file.stat().st_size / 1e6:.1f}\u2009MB")
            item.setData(_VERSION, one)
            self.list.addItem(item)
        column.addWidget(self.list, 1)
        self.other = QLabel()
        self.other.setObjectName("muted")
        self.other.setWordWrap(True)
        self.other.setMinimumHeight(40)
        column.addWidget(self.other)
        foot = QHBoxLayout()
        close, self.copy_button, self.back_button = (
            QPushButton("Close"),
            QPushButton("Open as a copy"),
            QPushButton("Restore"),
        )
        self.copy_button.setToolTip("Open this version without a name of its own; the project's file stays as it is")
        self.back_button.setToolTip("Open this version in place of what is open; the file changes only when you save")
        self.back_button.setObjectName("main")
        close.clicked.connect(self.reject)
        self.copy_button.clicked.connect(lambda: self._end("copy"))
        self.back_button.clicked.connect(lambda: self._end("back"))
        foot.addWidget(close)
        foot.addStretch(1)
        foot.addWidget(self.copy_button)
        foot.addWidget(self.back_button)
        column.addLayout(foot)
        self.list.currentItemChanged.connect(lambda *_: self._tell())
        self.list.setCurrentRow(0)

    @property
    def chosen(self) -> Version | None:
        """The version that is chosen."""
        item = self.list.currentItem()
        return None if item is None else item.data(_VERSION)

    def _tell(self) -> None:
        version, fault = self.chosen, ""
        if version is not None:
            try:
                self.other.setText(f"Against what is open: {told_of(version, self._now)}.")
            except BadInput as refusal:
                fault = str(refusal)
                self.other.setText(fault)
        for button in (self.copy_button, self.back_button):
            button.setEnabled(version is not None and not fault)

    def _end(self, answer: Answer) -> None:
        self.answer = answer
        self.accept()
