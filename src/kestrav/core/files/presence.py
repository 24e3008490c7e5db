"""Which windows have a project open: each holds a lock for it, which the system lets go of when its process ends, however it ends."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import os
import uuid
from pathlib import Path


class Presence:
    """The presence of one window, in folders below ``home``, one for each project."""

    def __init__(self, home: Path) -> None:
        self._home = home
        self._name = uuid.uuid4().hex
        self._lock: int | None = None
        self._mark: Path | None = None

    def show(self, file: Path | None) -> None:
        """Say that this window has a project open, or none. Where nothing can be written, nobody is told."""
        mark = None if file is None else self._folder(file) / self._name
        if mark == self._mark:
            return
        self.leave()
        if mark is None:
            return
        with contextlib.suppress(OSError):
            mark.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            # until it is locked another window may take it for one that nobody holds, and remove it
            while not mark.exists():
                self._close()
                self._lock = os.open(mark, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
                fcntl.flock(self._lock, fcntl.LOCK_EX)
            self._mark = mark

    def leave(self) -> None:
        """Say that this window has no project open any more."""
        if self._mark is not None:
            self._mark.unlink(missing_ok=True)
        self._mark = None
        self._close()

    def _close(self) -> None:
        if self._lock is not None:
            os.close(self._lock)
        self._lock = None

    def others(self) -> int:
        """How many other windows have the same project open."""
        if self._mark is None:
            return 0
        others = 0
        with contextlib.suppress(OSError):
            for mark in self._mark.parent.iterdir():
                if mark != self._mark:
                    others += _held(mark)
        return others

    def _folder(self, file: Path) -> Path:
        return self._home / hashlib.sha256(os.fsencode(os.path.realpath(file))).hexdigest()[:24]


def _held(mark: Path) -> bool:
    """Whether a window that is there holds a mark; one that nobody holds is removed."""
    try:
        lock = os.open(mark, os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW)
    except OSError:
        return False
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        mark.unlink(missing_ok=True)
    except OSError:
        return True
    finally:
        os.close(lock)
    return False
