"""STEP and IGES through cascadio, in a process of its own: a file on which the CAD kernel dies ends only that. Other readers that may die use
the same way."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Literal

from kestrav.core.errors import BadInput

ANGLE_TOLERANCE = 0.5  # rad between neighbouring facets
# seconds one reading may take: so many, and so many more for each MB of the file
SECONDS, SECONDS_PER_MB = 22.0, 30.0
_POLL = 0.05  # s between looks at the process

# its messages would spoil --json; it ends with the process that waits for it; what cascadio brings for trimesh is not wanted, and takes
# most of the time that it is loaded in
_READER = """
import ctypes, signal, sys
ctypes.CDLL(None).prctl(1, signal.SIGKILL)
sys.modules["trimesh"] = None
import cascadio
target, source, kind, chord, angle = sys.argv[1:]
with open(source, "rb") as file:
    data = file.read()
made = cascadio.load(data, kind, tol_linear=float(chord), tol_angular=float(angle), include_brep=True)
with open(target, "wb") as file:
    file.write(made or b"")
"""


def tessellated(
    path: Path,
    data: bytes,
    kind: Literal["step", "iges"],
    chord: float,
    waiting: Callable[[], None],
    seconds: float | None = None,
) -> bytes:
    """A CAD file's content as GLB with its faces, its facets within ``chord`` mm of the curved ones.

    ``waiting`` is called again and again meanwhile, and may raise Cancelled. Raises BadInput naming the file when
    the kernel finds nothing in it, dies on it, or takes longer than ``seconds`` (None: by the file's size).
    """
    with tempfile.TemporaryDirectory(prefix="kestrav-cad-") as folder:
        source = Path(folder, "source")
        source.write_bytes(data)
        words = (str(source), kind, f"{chord!r}", f"{ANGLE_TOLERANCE!r}")
        answer = read_apart(path, _READER, words, len(data), waiting, "the CAD kernel", seconds)
    if not answer:
        raise BadInput(f"“{path}” is not readable as {kind.upper()}: its entities are damaged, or it holds no shape")
    return answer


def read_apart(
    path: Path,
    code: str,
    words: Sequence[str],
    size: int,
    waiting: Callable[[], None],
    reader: str,
    seconds: float | None = None,
) -> bytes:
    """What some code writes to the file that it is told before other words, run in a process of its own; nothing where it fails.

    ``size`` in bytes is that of the file read, by which it may take its time. ``waiting`` is called again and again meanwhile, and may raise
    Cancelled. Raises BadInput naming the file when the process dies, or takes longer than ``seconds``.
    """
    limit = SECONDS + SECONDS_PER_MB * size / 1e6 if seconds is None else seconds
    with tempfile.TemporaryDirectory(prefix="kestrav-cad-") as folder:
        target = Path(folder, "target")
        quiet = subprocess.DEVNULL
        child = subprocess.Popen(
            [sys.executable, "-P", "-c", code, str(target), *words], stdin=quiet, stdout=quiet, stderr=quiet
        )
        try:
            _wait(child, time.monotonic() + limit, waiting)
        except TimeoutError:
            raise BadInput(
                f"“{path}” was not brought in: its shapes were not worked out within {limit:.0f} s;"
                " export it again with fewer or simpler solids"
            ) from None
        finally:
            child.kill()
            child.wait()
        apart = target.read_bytes() if child.returncode == 0 and target.exists() else b""
    if child.returncode < 0:
        raise BadInput(f"“{path}” cannot be read: {reader} failed on one of its shapes; export it again")
    return apart


def _wait(child: subprocess.Popen[bytes], until: float, waiting: Callable[[], None]) -> None:
    """Wait for a process. Raises TimeoutError when it goes on after a time of the monotonic clock."""
    while True:
        try:
            child.wait(_POLL)
            return
        except subprocess.TimeoutExpired:
            if time.monotonic() > until:
                raise TimeoutError from None
            waiting()
