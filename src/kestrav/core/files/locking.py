"""Folders that one process holds: what is in a folder whose lock nobody holds was left behind."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path

LOCK = "lock"


def locked(folder: Path) -> int | None:
    """A folder's lock, held until it is closed or the process ends; none if another one holds it or it is no such folder."""
    try:
        lock = os.open(folder / LOCK, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    except OSError:
        return None
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(lock)
        return None
    return lock
