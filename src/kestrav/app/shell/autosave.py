"""Keeping what is not saved yet, a few seconds behind, and offering it after a crash."""

from __future__ import annotations

from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from PySide6.QtCore import QObject, QStandardPaths, QTimer, Signal
from PySide6.QtWidgets import QWidget

from kestrav.app.dialogs.questions import ListDialog
from kestrav.app.session import Session
from kestrav.core.errors import BadInput
from kestrav.core.files.recovery import Keeper, Leftover, discard

BEHIND = 2000  # ms after an edit at which it is kept; those that come meanwhile are kept with it


def recovery_home() -> Path:
    """Where unsaved work is kept: apart from projects, as these may lie where nothing can be written."""
    place = QStandardPaths.writableLocation(QStandardPaths.StandardLocation.AppLocalDataLocation)
    return Path(place) / "unsaved"


class Autosave(QObject):
    """Follows a session: what is not saved is kept by a thread of its own, so that the window waits for nothing."""

    failed = Signal(str)

    def __init__(self, session: Session, home: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.session, self.keeper = session, Keeper(home)
        self._worker = ThreadPoolExecutor(1, "kestrav-autosave")
        self._told = False
        self.timer = QTimer(self)
        self.timer.setSingleShot(True)
        self.timer.setInterval(BEHIND)
        self.timer.timeout.connect(self._keep)
        session.edited.connect(self._on_edited)
        session.undo.cleanChanged.connect(self._on_clean)
        session.opened.connect(self._forget)

    def _on_edited(self) -> None:
        if not self.session.undo.isClean() and not self.timer.isActive():
            self.timer.start()

    def _on_clean(self, clean: bool) -> None:
        if clean:
            self._forget()
        else:
            self._on_edited()

    def _keep(self) -> None:
        session = self.session
        if not session.undo.isClean():
            # the project and its meshes never change; the table of meshes does
            work = self._worker.submit(self.keeper.keep, session.project, dict(session.meshes), session.file)
            work.add_done_callback(self._done)

    def _forget(self) -> None:
        self.timer.stop()
        self._worker.submit(self.keeper.forget)

    def _done(self, work: Future[None]) -> None:
        fault = work.exception()
        if isinstance(fault, BadInput) and not self._told:
            self._told = True  # once: it will not go better the next time
            self.failed.emit(str(fault))

    def take_over(self, left: Leftover) -> bool:
        """Go on with what was left behind: it is kept until it is saved or discarded. False if another window does already."""
        return self._worker.submit(self.keeper.take_over, left).result()

    def finish(self) -> None:
        """The window closes: what is not saved is not wanted."""
        self._forget()
        self._worker.shutdown(wait=True)


class RecoveryDialog(ListDialog):
    """What was not saved when the program ended the last time: opened, discarded, or kept for later."""

    def __init__(self, parent: QWidget, left: list[Leftover]) -> None:
        entries = [(one.text, one.about.file or "never saved", one) for one in left]
        super().__init__(parent, "Unsaved work", "Kestrav ended without saving this work", entries)
        self.setObjectName("recovery")
        self.opened: Leftover | None = None
        self.list.itemDoubleClicked.connect(lambda _: self._open())
        self.note.setText("Unsaved work is kept until you save or discard it.")
        self.discard_button, _, self.open_button = self.add_buttons(
            ("Discard", "Remove the selected unsaved work", self._discard),
            ("Keep for later", "Offer this unsaved work again at the next start", self.reject),
            ("Open", "Open the selected unsaved work", self._open),
        )

    def _chosen(self) -> Leftover | None:
        leftover = self.chosen()
        return leftover if isinstance(leftover, Leftover) else None

    def _open(self) -> None:
        self.opened = self._chosen()
        if self.opened is not None:
            self.accept()

    def _discard(self) -> None:
        left = self._chosen()
        if left is None:
            return
        discard(left)
        self.list.takeItem(self.list.currentRow())
        if not self.list.count():
            self.reject()
