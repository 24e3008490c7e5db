"""Writing files whole or not at all, without touching what is not ours."""

from __future__ import annotations

import contextlib
import csv
import io
import os
import stat
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from kestrav.core.errors import BadInput

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
    handle, name = tempfile.mkstemp(prefix=f".{target.name[:80]}.", suffix=".part", dir=target.parent or Path())
    os.close(handle)
    return Path(name)


def put(part: Path, target: Path) -> None:
    """Let a finished file take a target's place, with the mode and as far as may be the owner that the target had. Raises OSError."""
    try:
        known = target.stat()
    except FileNotFoundError:
        # what mkstemp makes is private; a new file is as any other
        part.chmod(0o666 & ~umask())
    else:
        part.chmod(stat.S_IMODE(known.st_mode))
        with contextlib.suppress(OSError):
            os.chown(part, known.st_uid, known.st_gid)
    with part.open("rb") as stream:
        os.fsync(stream.fileno())
    part.replace(target)
    _keep_folder(target.parent)


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
