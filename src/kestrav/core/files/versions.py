"""Earlier versions of projects: what each saving replaced is kept apart from the project, the last ten of each."""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import time
from pathlib import Path

import msgspec

from kestrav.core.files import project_file

MOST = 10  # of one project
MOST_BYTES = 2_000_000_000  # of all projects together


class Version(msgspec.Struct, frozen=True):
    """A project as it was saved at a time (s since the epoch)."""

    file: Path
    saved: float

    @property
    def megabytes(self) -> float:
        """Its size."""
        return self.file.stat().st_size / 1e6 if self.file.exists() else 0.0

    @property
    def when(self) -> str:
        """When it was saved, in words."""
        return time.strftime("%d %b %Y, %H:%M:%S", time.localtime(self.saved))


def keep_version(home: Path, file: Path) -> None:
    """Keep what a project's file holds before something else is saved there. Where it cannot be kept, it is not."""
    folder = _folder(home, file)
    with contextlib.suppress(OSError):
        about = file.stat()
        target = folder / f"{about.st_mtime_ns:020d}{project_file.SUFFIX}"
        if target.exists():
            return
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        try:
            # saving puts another file in its place, so that this one stays as it is
            os.link(file, target)
        except OSError:
            part = target.with_suffix(".part")
            shutil.copy2(file, part)
            part.replace(target)
    _make_room(home, folder)


def versions_of(home: Path, file: Path) -> list[Version]:
    """The earlier versions of a project, the latest first."""
    return [Version(one, int(one.stem) / 1e9) for one in _sorted(_folder(home, file))]


def _folder(home: Path, file: Path) -> Path:
    return home / hashlib.sha256(os.fsencode(os.path.realpath(file))).hexdigest()[:24]


def _sorted(folder: Path) -> list[Path]:
    files = [one for one in folder.glob(f"*{project_file.SUFFIX}") if one.stem.isdigit()] if folder.is_dir() else []
    return sorted(files, key=lambda one: -int(one.stem))


def _make_room(home: Path, folder: Path) -> None:
    """Remove the oldest ones, of a project beyond the tenth, and of all beyond their room."""
    with contextlib.suppress(OSError):
        for one in _sorted(folder)[MOST:]:
            one.unlink()
        every = sorted((one for each in home.iterdir() for one in _sorted(each)), key=lambda one: -int(one.stem))
        room = MOST_BYTES
        for one in every:
            room -= one.stat().st_size
            if room < 0:
                one.unlink()
