"""A project's file while it is open: whether other windows have it open too, and whether somebody else has saved it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from kestrav.app.session import Session
from kestrav.core.files.presence import Presence

EVERY = 2000  # ms between looks


class FileWatch(QObject):
    """Looks at the session's file again and again, and tells what a person should know before saving."""

    told = Signal(str)

    def __init__(self, session: Session, home: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.session, self.presence = session, Presence(home)
        self.notice = ""
        self._seen: tuple[int, int, int] | None = None
        self._changed = False
        self.timer = QTimer(self)
        self.timer.setInterval(EVERY)
        self.timer.timeout.connect(self.look)
        self.timer.start()
        session.opened.connect(self.look)
        session.undo.cleanChanged.connect(self.look)

    def look(self) -> None:
        """Look now."""
        self.presence.show(self.session.file)
        notes = []
        others = self.presence.others()
        if others:
            notes.append(f"open in {'another window' if others == 1 else f'{others} other windows'} too")
        if self._saved_elsewhere():
            notes.append("saved by another program meanwhile")
        notice = ", ".join(notes)
        if notice != self.notice:
            self.notice = notice
            self.told.emit(notice)

    def finish(self) -> None:
        """The window closes."""
        self.timer.stop()
        self.presence.leave()

    def _saved_elsewhere(self) -> bool:
        file = self.session.file
        try:
            about = None if file is None else file.stat()
        except OSError:
            about = None
        seen = None if about is None else (about.st_ino, about.st_size, about.st_mtime_ns)
        # the content is looked at only where something else has changed, or this window has saved
        if seen != self._seen or self._changed:
            self._seen = seen
            self._changed = seen is not None and self.session.changed_elsewhere()
        return self._changed
