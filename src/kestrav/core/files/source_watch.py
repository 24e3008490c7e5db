"""Noticing that files which products came from are written anew."""

from __future__ import annotations

from pathlib import Path

from kestrav.core.document.records import Project
from kestrav.core.files.project_file import source_path

Stamp = tuple[int, int, int]
Stamps = dict[Path, Stamp | None]


class SourceWatch:
    """Compares the files of a project's sources with what they were; a file that is still being written is waited for."""

    def __init__(self) -> None:
        self._known: Stamps = {}
        self._last: Stamps = {}

    def begin(self, stamps: Stamps) -> None:
        """Take the files as they are now for those that the project holds."""
        self._known, self._last = dict(stamps), dict(stamps)

    def changed(self, project: Project, file: Path | None, stamps: Stamps) -> tuple[str, ...]:
        """The ids of the sources whose files have changed, and are as they were the last time this was asked; ``file`` is the project's own."""
        names = []
        for source in project.sources:
            path = source_path(source.file, file)
            if path not in stamps:
                continue  # it has come in since they were looked at
            now = stamps[path]
            # one that has come in meanwhile is known as it is
            before = self._known.setdefault(path, now)
            settled = self._last.get(path, now) == now
            self._last[path] = now
            if now is not None and now != before and settled:
                names.append(source.id)
        return tuple(names)

    def take(self, path: Path) -> None:
        """Take a file as it was last seen for what the project holds."""
        self._known[path] = self._last[path]


def stamps_of(project: Project, file: Path | None) -> Stamps:
    """How the files of a project's sources are now, which takes a while where they are far away; ``file`` is the project's own."""
    return {path: stamp(path) for path in {source_path(s.file, file) for s in project.sources}}


def stamp(path: Path) -> Stamp | None:
    """What changes when a file is written; None where there is none."""
    try:
        about = path.stat()
    except OSError:
        return None
    return about.st_ino, about.st_size, about.st_mtime_ns
