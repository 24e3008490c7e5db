"""Checking a project again and again as its CAD files change, and telling what became better or worse."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from kestrav import scripting
from kestrav.core.document.records import Project, Source
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.product_import import UNITLESS, read_product
from kestrav.core.files.refresh import reload
from kestrav.core.files.source_watch import SourceWatch, stamp, stamps_of
from kestrav.core.findings.comparing import Comparison, compare
from kestrav.core.geometry.meshes import Mesh

Checked = Callable[[scripting.Project], scripting.Check]


class Checkup(msgspec.Struct, frozen=True):
    """A check, which files had changed before it with what that brought, and how it compares with the check before (none: it is the first)."""

    check: scripting.Check
    changes: tuple[tuple[str, str], ...] = ()
    comparison: Comparison | None = None


class Watcher:
    """Keeps a project with its files as they are now."""

    def __init__(self, file: Path, checked: Checked) -> None:
        self.file, self._checked = file, checked
        self.project: Project
        self.meshes: dict[str, Mesh]
        self._sources = SourceWatch()
        self._data: dict[str, Any] | None = None
        self.last: Checkup | None = None  # the check made last
        self._open()

    def _open(self) -> None:
        opened = project_file.load(self.file)
        self.project, self.meshes = opened.project, dict(opened.meshes)
        self._stamp = stamp(self.file)
        self._sources.begin(stamps_of(self.project, self.file))

    def check(self, changes: tuple[tuple[str, str], ...] = ()) -> Checkup:
        """Check now."""
        checkup = self._checked(scripting.Project(self.project, self.meshes, self.file))
        data = checkup.as_data()
        compared = None if self._data is None else compare(self._data, data)
        self._data = data
        self.last = Checkup(checkup, changes, compared)
        return self.last

    def look(self) -> Checkup | None:
        """Check again where the project's file or one of its CAD files has changed since the last time; None where none has.

        Raises BadInput for a file that cannot be read; it is looked at again when it changes the next time.
        """
        now = stamp(self.file)
        if now is not None and now != self._stamp:
            self._stamp = now
            self._open()
            return self.check(((self.file.name, "the project was saved anew"),))
        changes = []
        for source_id in self._sources.changed(self.project, self.file, stamps_of(self.project, self.file)):
            source = next(s for s in self.project.sources if s.id == source_id)
            path = project_file.source_path(source.file, self.file)
            self._sources.take(path)
            changes.append((path.name, self._bring_in(source, path)))
        return self.check(tuple(changes)) if changes else None

    def save(self) -> None:
        """Write the project with what its files have brought."""
        project_file.save(self.project, self.meshes, self.file)
        self._stamp = stamp(self.file)

    def _bring_in(self, source: Source, path: Path) -> str:
        unit = source.unit if path.suffix.lower() in UNITLESS else None
        imported = read_product(path, source.chord or None, unit, source.up)
        project, changes = reload(self.project, source.id, imported)
        self.project, self.meshes = project, {**self.meshes, **imported.meshes}
        return changes.text()


def watch(
    watcher: Watcher, tell: Callable[[Checkup], None], failed: Callable[[str], None], wait: Callable[[], bool]
) -> Checkup:
    """Check now, and again whenever a file has changed, until ``wait`` says that it is enough; returns the last check."""
    last = watcher.check()
    tell(last)
    while wait():
        try:
            checkup = watcher.look()
        except BadInput as fault:
            failed(str(fault))
            continue
        if checkup is not None:
            last = checkup
            tell(last)
    return last
