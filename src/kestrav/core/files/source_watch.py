"""Noticing that files which products came from are written anew."""

from __future__ import annotations

from pathlib import Path

from kestrav.core.document.records import Project
from kestrav.core.files.project_file import source_path

Stamp = tuple[int, int, int]


class SourceWatch:
    """Compares the files of a project's sources with what they were; a file that is still being written is waited for."""

    def __init__(self) -> None:
        self._known: dict[Path, Stamp | None] = {}
        self._last: dict[Path, Stamp | None] = {}

    def begin(self, project: Project, file: Path | None) -> None:
        """Take the files as they are now for those that the project holds; ``file`` is the project's own."""
        self._known = {source_path(s.file, file): stamp(source_path(s.file, file)) for s in project.sources}
        self._last = dict(self._known)

    def changed(self, project: Project, file: Path | None) -> tuple[str, ...]:
        """The ids of the sources whose files have changed, and are as they were the last time this was asked."""
        found = []
        for source in project.sources:
            path = source_path(source.file, file)
            now = stamp(path)
            # one that has come in meanwhile is known as it is
            before = self._known.setdefault(path, now)
            settled = self._last.get(path, now) == now
            self._last[path] = now
            if now is not None and now != before and settled:
                found.append(source.id)
        return tuple(found)

    def take(self, project: Project, source_id: str, file: Path | None) -> None:
        """Take a source's file as it is now for what the project holds."""
        for source in project.sources:
            if source.id == source_id:
                path = source_path(source.file, file)
                self._known[path] = self._last[path] = stamp(path)


def stamp(path: Path) -> Stamp | None:
    """What changes when a file is written; None where there is none."""
    try:
        about = path.stat()
    except OSError:
        return None
    return about.st_ino, about.st_size, about.st_mtime_ns
