"""Writing files whole or not at all, without touching what is not ours."""

from __future__ import annotations

import contextlib
import csv
import grp
import hashlib
import io
import os
import platform
import pwd
import re
import stat
import tempfile
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path

from kestrav.core.errors import BadInput

_NAMED = 80  # letters of a file's name that are in that of its part
_PART = re.compile(r"\.(?P<name>.+)\.(?P<machine>[0-9a-f]{6})-(?P<process>\d+)-[a-z0-9_]{8}\.part", re.DOTALL)
_STALE = 86400.0  # s after which nobody writes a part any more
_FORMULA = ("=", "+", "-", "@", "\t", "\r")  # a cell that begins so is a formula to spreadsheets


def write_whole(target: Path, data: bytes) -> None:
    """Write a file beside its place and then put it there, so that it is never half written. Raises BadInput naming it."""
    with beside(target) as part:
        part.write_bytes(data)


@contextmanager
def beside(target: Path) -> Iterator[Path]:
    """A new file beside a target, which takes its place when the block ends well and is removed when it does not.

    Where the target is a link, what it leads to is replaced, and the link stays. Raises BadInput naming the target.
    """
    part: Path | None = None
    try:
        place = _place(target)
        part = part_of(place)
        yield part
        put(part, place)
    except OSError as fault:
        raise BadInput(
            f"“{target}” cannot be written: {fault.strerror or fault}; what was there is as it was"
        ) from fault
    finally:
        if part is not None:
            with contextlib.suppress(OSError):
                part.unlink(missing_ok=True)


def part_of(target: Path) -> Path:
    """A new empty file beside a target, under a name that nobody can guess. Raises OSError."""
    prefix = f".{target.name[:_NAMED]}.{_machine()}-{os.getpid()}-"
    handle, name = tempfile.mkstemp(prefix=prefix, suffix=".part", dir=target.parent or Path())
    os.close(handle)
    return Path(name)


def clear_parts(folder: Path, of: str | None = None) -> list[Path]:
    """Remove what writings that were killed left in a folder, of all files or of one name: those of processes of this machine that have ended,
    and of other machines once they are a day old. Tells what was removed; what cannot be is left."""
    removed = []
    with contextlib.suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            match = _PART.fullmatch(entry.name)
            if (
                match is None
                or (of is not None and match["name"] != of[:_NAMED])
                or not entry.is_file(follow_symlinks=False)
            ):
                continue
            mine = match["machine"] == _machine()
            ended = not _alive(int(match["process"])) if mine else time.time() - entry.stat().st_mtime > _STALE
            if ended:
                with contextlib.suppress(OSError):
                    Path(entry.path).unlink()
                    removed.append(Path(entry.path))
    return removed


@cache
def _machine() -> str:
    return hashlib.sha256(platform.node().encode()).hexdigest()[:6]


def _alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def put(part: Path, target: Path) -> None:
    """Let a finished file take a target's place, with the mode and as far as may be the owner that the target had. Raises OSError."""
    try:
        known = target.stat()
    except FileNotFoundError:
        # what mkstemp makes is private; a new file is as any other
        part.chmod(0o666 & ~umask())
    else:
        part.chmod(stat.S_IMODE(known.st_mode))
        # one may be allowed where the other is not
        for owner, group in ((-1, known.st_gid), (known.st_uid, -1)):
            with contextlib.suppress(OSError):
                os.chown(part, owner, group)
    with part.open("rb") as stream:
        os.fsync(stream.fileno())
    part.replace(target)
    _keep_folder(target.parent)


def owner_lost(target: Path) -> str:
    """What replacing a file would change of its owner or group, in words; nothing where both are kept, or there is no file."""
    try:
        known = Path(os.path.realpath(target)).stat()
    except OSError:
        return ""
    if os.geteuid() == 0:
        return ""
    lost = []
    if known.st_uid != os.geteuid():
        lost.append(f"belongs to {_user(known.st_uid)} and would belong to {_user(os.geteuid())}")
    if known.st_gid not in (os.getegid(), *os.getgroups()):
        lost.append(f"is of {_group(known.st_gid)} and would be of {_group(os.getegid())}")
    return f"“{target.name}” {', and '.join(lost)}" if lost else ""


def _user(number: int) -> str:
    try:
        return pwd.getpwuid(number).pw_name
    except KeyError:
        return f"user {number}"


def _group(number: int) -> str:
    try:
        return f"group {grp.getgrgid(number).gr_name}"
    except KeyError:
        return f"group {number}"


def refuse_existing(target: Path, *, force: bool, otherwise: str = "allow it to be overwritten") -> None:
    """Raise BadInput where a file is there already and may not be overwritten (``force``), which tells also what else would change."""
    if force or not target.exists():
        return
    lost = owner_lost(target)
    raise BadInput(f"“{target}” is there already{f'; {lost}' if lost else ''}; give another name, or {otherwise}")


def _place(target: Path) -> Path:
    """The file that a target is, behind links. Raises BadInput where it must not be replaced."""
    place = Path(os.path.realpath(target))
    if place.is_dir():
        raise BadInput(f"“{target}” is a folder; give the name of a file")
    if place.exists() and not place.is_file():
        raise BadInput(f"“{target}” is a device or a pipe and no plain file; give another name")
    if place.exists() and not os.access(place, os.W_OK):
        raise BadInput(f"“{target}” is write-protected; allow it to be written, or give another name")
    return place


def _keep_folder(folder: Path) -> None:
    """See to it that a power cut does not take a file's new name away; not every system can."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def umask() -> int:
    """What a new file may not be."""
    # it can only be read by setting it
    mask = os.umask(0o077)
    os.umask(mask)
    return mask


def as_csv(heading: Iterable[str], rows: Iterable[Iterable[object]]) -> str:
    """Comma-separated values in which no cell is taken for a formula (OWASP, CSV Injection)."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerows([_harmless(cell) for cell in row] for row in (heading, *rows))
    return out.getvalue()


def _harmless(cell: object) -> object:
    """A cell with an apostrophe before what a spreadsheet would work out."""
    if not isinstance(cell, str) or not cell.startswith(_FORMULA):
        return cell
    try:
        float(cell)
    except ValueError:
        return f"'{cell}"
    return cell
