"""A project's file while it is open: whether other windows have it open too, whether somebody else has saved it, and whether the CAD files
that it came from are written anew."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from kestrav.app.session import Session
from kestrav.core.files.presence import Presence
from kestrav.core.files.source_watch import SourceWatch

EVERY = 2000  # ms between looks


class FileWatch(QObject):
    """Looks at the session's file again and again, and tells what a person should know before saving."""

    told = Signal(str)
    source_changed = Signal(str)  # the id of a source whose CAD file was written anew

    def __init__(self, session: Session, home: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.session, self.presence = session, Presence(home)
        self.notice = ""
        self._seen: tuple[int, int, int] | None = None
        self._changed = False
        self._sources = SourceWatch()
        self.timer = QTimer(self)
        self.timer.setInterval(EVERY)
        self.timer.timeout.connect(self.look)
        self.timer.start()
        session.opened.connect(self._begin)
        session.opened.connect(self.look)
        session.undo.cleanChanged.connect(self.look)

    def look(self) -> None:
        """Look now."""
        self.presence.show(self.session.file)
        for source_id in self._sources.changed(self.session.project, self.session.file):
            self._sources.take(self.session.project, source_id, self.session.file)
            self.source_changed.emit(source_id)
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

    def _begin(self) -> None:
        self._sources.begin(self.session.project, self.session.file)

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
