"""A project's file while it is open: whether other windows have it open too, whether somebody else has saved it, and whether the CAD files
that it came from are written anew."""

from __future__ import annotations

from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from kestrav.app.session import Session
from kestrav.core.files.presence import Presence
from kestrav.core.files.project_file import source_path
from kestrav.core.files.source_watch import SourceWatch, Stamps, stamp, stamps_of

EVERY = 2000  # ms between looks


class FileWatch(QObject):
    """Looks at the session's file again and again, and tells what a person should know before saving."""

    noticed = Signal(str)
    source_changed = Signal(str)  # the id of a source whose CAD file was written anew

    def __init__(self, session: Session, home: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.session, self.presence = session, Presence(home)
        self.notice = ""
        self._seen: tuple[int, int, int] | None = None
        self._changed = False
        self._sources = SourceWatch()
        self._looking = ThreadPoolExecutor(1)
        self._stamps: Future[Stamps] | None = None  # a look at the CAD files that is under way
        self._is_new = True  # the project was opened since the last one
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
        self._look_at_sources()
        notes = []
        others = self.presence.others()
        if others:
            notes.append(f"open in {'another window' if others == 1 else f'{others} other windows'} too")
        if self._saved_elsewhere():
            notes.append("saved by another program meanwhile")
        notice = ", ".join(notes)
        if notice != self.notice:
            self.notice = notice
            self.noticed.emit(notice)

    def _begin(self) -> None:
        self._stamps, self._is_new = None, True

    def _look_at_sources(self) -> None:
        """See what a look at the CAD files found that was begun the last time, and begin another: they may lie far away."""
        project, file = self.session.project, self.session.file
        if self._stamps is not None and self._stamps.done():
            stamps = self._stamps.result()
            if self._is_new:
                self._sources.begin(stamps)
                self._is_new = False
            for source_id in self._sources.changed(project, file, stamps):
                source = next(s for s in project.sources if s.id == source_id)
                self._sources.take(source_path(source.file, file))
                self.source_changed.emit(source_id)
            self._stamps = None
        if self._stamps is None and project.sources:
            self._stamps = self._looking.submit(stamps_of, project, file)

    def finish(self) -> None:
        """The window closes."""
        self.timer.stop()
        self._looking.shutdown(wait=False, cancel_futures=True)
        self.presence.leave()

    def _saved_elsewhere(self) -> bool:
        seen = None if self.session.file is None else stamp(self.session.file)
        # the content is looked at only where something else has changed, or this window has saved
        if seen != self._seen or self._changed:
            self._seen = seen
            self._changed = seen is not None and self.session.changed_elsewhere()
        return self._changed
