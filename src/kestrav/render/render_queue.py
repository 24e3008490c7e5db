"""What is to be rendered, kept on disk until it is done, so that it goes on after a restart: one folder for each film or still.

A folder holds the project as it was when it was asked for, and what is to be made of it. Its lock is held by the process that takes care
of it, and let go of by the system when that ends, however it ends.
"""

from __future__ import annotations

import os
import shutil
import uuid
from collections.abc import Mapping
from pathlib import Path

import msgspec

from kestrav.core.document.records import Project, Shot
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.locking import locked
from kestrav.core.files.writing import write_whole
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.film import Progress, Show, render_film, render_still
from kestrav.render.formats import Bits, Codec

_PROJECT, _REQUEST = f"project{project_file.SUFFIX}", "request.json"


class Request(msgspec.Struct, frozen=True):
    """Shots to a target, or a still at a ``time`` in s of the first one."""

    label: str
    shots: tuple[Shot, ...]
    target: str
    time: float | None = None
    codec: Codec = "h264"
    alpha: bool = False
    bits: Bits = 8


class Entry:
    """A request that is kept in a folder and held by this process."""

    def __init__(self, folder: Path, request: Request, lock: int) -> None:
        self.folder, self.request = folder, request
        self._lock: int | None = lock

    def forget(self) -> None:
        """It is done, or not wanted any more."""
        shutil.rmtree(self.folder, ignore_errors=True)
        self.let_go()

    def let_go(self) -> None:
        """Leave it to whoever comes next."""
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None


def keep(home: Path, request: Request, project: Project, meshes: Mapping[str, Mesh]) -> Entry:
    """Keep a request. Raises BadInput where nothing can be written."""
    folder = home / uuid.uuid4().hex
    try:
        folder.mkdir(parents=True, mode=0o700)
    except OSError as fault:
        raise BadInput(f"“{home}” cannot be written to: {fault.strerror or fault}") from fault
    lock = locked(folder)
    if lock is None:
        raise BadInput(f"“{folder}” cannot be locked; “{request.label}” would not go on after a restart")
    entry = Entry(folder, request, lock)
    try:
        project_file.save(project, meshes, folder / _PROJECT)
        # the last one: without it there is nothing to go on with
        write_whole(folder / _REQUEST, msgspec.json.encode(request))
    except (OSError, BadInput) as fault:
        entry.forget()
        raise BadInput(f"“{request.label}” would not go on after a restart: {fault}") from fault
    return entry


def left_over(home: Path) -> list[Entry]:
    """What no process takes care of any more, the oldest first; it is held from now on. What is damaged is removed."""
    entries: list[tuple[float, Entry]] = []
    for folder in home.iterdir() if home.is_dir() else ():
        lock = locked(folder)
        if lock is None:
            continue
        try:
            data, when = (folder / _REQUEST).read_bytes(), (folder / _REQUEST).stat().st_mtime
            entries.append((when, Entry(folder, msgspec.json.decode(data, type=Request), lock)))
        except (OSError, msgspec.MsgspecError, UnicodeDecodeError):
            shutil.rmtree(folder, ignore_errors=True)
            os.close(lock)
    return [entry for _, entry in sorted(entries, key=lambda pair: pair[0])]


def render(
    project: Project, meshes: Mapping[str, Mesh], request: Request, progress: Progress, show: Show | None = None
) -> Path:
    """Do what is asked for; a film goes on from the frames of an earlier attempt. Whether something may be replaced was asked before.

    ``show`` is given how far a still is, and the picture so far.
    """
    target = Path(request.target)
    if request.time is not None:
        return render_still(
            project,
            meshes,
            request.shots[0],
            request.time,
            target,
            overwrite=True,
            alpha=request.alpha,
            progress=progress,
            bits=request.bits,
            show=show,
        )
    return render_film(
        project,
        meshes,
        request.shots,
        target,
        progress,
        overwrite=True,
        resume=True,
        codec=request.codec,
        alpha=request.alpha,
        bits=request.bits,
    )


def render_kept(folder: Path, request: Request, progress: Progress, show: Show | None = None) -> Path:
    """Do what is asked for with the project as it was kept. Raises BadInput, also where that is damaged."""
    opened = project_file.load(folder / _PROJECT)
    return render(opened.project, opened.meshes, request, progress, show)
