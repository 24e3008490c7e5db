"""The earlier versions of a project: what is other in them, opened as a copy, or restored."""

from __future__ import annotations

from typing import Literal

from PySide6.QtWidgets import QWidget

from kestrav.app.dialogs.questions import ListDialog
from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.files.project_file import changes_in_words, load_document
from kestrav.core.files.versions import Version

Answer = Literal["", "copy", "back"]


class VersionsDialog(ListDialog):
    """The list of earlier versions, the latest first, with what is other in the chosen one."""

    def __init__(self, parent: QWidget, versions: list[Version], now: Project) -> None:
        entries = [(f"{one.when}   {one.megabytes:.1f}\u2009MB", "", one) for one in versions]
        super().__init__(parent, "Earlier versions", "What each saving replaced", entries)
        self.setObjectName("versions")
        self.answer: Answer = ""
        self._now = now
        self.note.setMinimumHeight(40)
        _, self.copy_button, self.back_button = self.add_buttons(
            ("Close", "", self.reject),
            (
                "Open as a copy",
                "Open this version without a name of its own; the project's file stays as it is",
                lambda: self._end("copy"),
            ),
            (
                "Restore",
                "Open this version in place of what is open; the file changes only when you save",
                lambda: self._end("back"),
            ),
        )
        self.list.currentItemChanged.connect(lambda *_: self._tell())
        self._tell()

    @property
    def version(self) -> Version | None:
        """The version that is chosen."""
        version = self.chosen()
        return version if isinstance(version, Version) else None

    def _tell(self) -> None:
        version, sound = self.version, False
        if version is not None:
            try:
                self.note.setText(f"Against what is open: {changes_in_words(self._now, load_document(version.file))}.")
                sound = True
            except BadInput as refusal:
                self.note.setText(str(refusal))
        for button in (self.copy_button, self.back_button):
            button.setEnabled(sound)

    def _end(self, answer: Answer) -> None:
        self.answer = answer
        self.accept()
