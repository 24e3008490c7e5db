"""Work that is not saved yet, kept so that it outlives a crash: one folder for each window that has some.

A folder holds the document, what it is of, and the geometry that the saved project does not have. Its lock is held by the process that
writes it, and let go of by the system when that ends, however it ends: what nobody holds is left over from a crash.
"""

from __future__ import annotations

import os
import shutil
import time
import uuid
import zipfile
from collections.abc import Mapping
from pathlib import Path

import msgspec

from kestrav.core.document.records import Project
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput
from kestrav.core.files.locking import locked
from kestrav.core.files.mesh_entries import from_glb, to_faces, to_glb, with_faces
from kestrav.core.files.writing import write_whole
from kestrav.core.geometry.meshes import Mesh

_DOCUMENT, _ABOUT, _GEOMETRY = "document.json", "about.json", "geometry"


class About(msgspec.Struct, frozen=True):
    """What kept work is of: the project's name, its file if it has one, when it was kept (s since the epoch), and how much it holds."""

    name: str
    file: str | None
    kept: float
    parts: int
    paths: int
    runs: int
    shots: int


class Leftover(msgspec.Struct, frozen=True):
    """Work that a process left behind when it ended without saving it."""

    folder: Path
    about: About

    @property
    def text(self) -> str:
        """What it holds and when it was kept, in words."""
        one = self.about
        when = time.strftime("%d %b %Y, %H:%M:%S", time.localtime(one.kept))
        where = Path(one.file).name if one.file else "never saved"
        counts = ((one.parts, "part"), (one.paths, "path"), (one.runs, "run"), (one.shots, "shot"))
        holds = ", ".join(f"{count} {what}{'' if count == 1 else 's'}" for count, what in counts)
        return f"{one.name} ({where}), kept {when}: {holds}"


class Keeper:
    """Keeps the work of one window in a folder of its own below ``home``."""

    def __init__(self, home: Path) -> None:
        self._home = home
        self.folder: Path | None = None
        self._lock: int | None = None

    def keep(self, project: Project, meshes: Mapping[str, Mesh], file: Path | None) -> None:
        """Write a project as it is. Raises BadInput when it cannot be written."""
        folder = self._own()
        names = {g.hash for g in project.geometry} - _in_project(file)
        for name in sorted(names & meshes.keys()):
            target = folder / _GEOMETRY / f"{name}.glb"
            if not target.exists():
                extra = to_faces(meshes[name])
                if extra is not None:
                    write_whole(target.with_suffix(".faces.json"), extra)
                write_whole(target, to_glb(meshes[name]))
        about = About(
            project.name,
            None if file is None else str(file),
            time.time(),
            sum(part.geometry is not None for part in project.parts),
            len(project.paths),
            len(project.runs),
            len(project.shots),
        )
        write_whole(folder / _DOCUMENT, msgspec.json.encode(project))
        write_whole(folder / _ABOUT, msgspec.json.encode(about))

    def forget(self) -> None:
        """Let go of what was kept: it is saved, or not wanted."""
        if self.folder is not None:
            shutil.rmtree(self.folder, ignore_errors=True)
        if self._lock is not None:
            os.close(self._lock)
        self.folder = self._lock = None

    def take_over(self, left: Leftover) -> bool:
        """Go on with what another process left behind; false if somebody else does already."""
        lock = locked(left.folder)
        if lock is None:
            return False
        self.forget()
        self.folder, self._lock = left.folder, lock
        return True

    def _own(self) -> Path:
        if self.folder is None:
            folder = self._home / uuid.uuid4().hex
            try:
                (folder / _GEOMETRY).mkdir(parents=True, mode=0o700)
            except OSError as fault:
                raise BadInput(
                    f"unsaved work cannot be kept in “{folder}”: {fault.strerror}; save more often"
                ) from fault
            self._lock = locked(folder)
            self.folder = folder
        return self.folder


def leftovers(home: Path) -> list[Leftover]:
    """What processes that have ended left behind, the latest first."""
    crashed = []
    for folder in home.iterdir() if home.is_dir() else ():
        lock = locked(folder)
        if lock is None:
            continue
        os.close(lock)
        try:
            about = msgspec.json.decode((folder / _ABOUT).read_bytes(), type=About)
        except (OSError, msgspec.MsgspecError):
            continue
        crashed.append(Leftover(folder, about))
    return sorted(crashed, key=lambda left: -left.about.kept)


def recovered(left: Leftover) -> tuple[Project, dict[str, Mesh]]:
    """A left project and its meshes. Raises BadInput naming what is missing."""
    try:
        project = validate(msgspec.json.decode((left.folder / _DOCUMENT).read_bytes(), type=Project))
    except (OSError, msgspec.MsgspecError) as fault:
        raise BadInput(f"what was kept of “{left.about.name}” cannot be read: {fault}") from fault
    file = None if left.about.file is None else Path(left.about.file)
    meshes = {}
    for geometry in project.geometry:
        mesh = _kept_mesh(left.folder, geometry.hash) or _saved_mesh(file, geometry.hash)
        if mesh is None:
            raise BadInput(
                f"the geometry of what was kept of “{left.about.name}” was in “{file}”, which does not hold it any more;"
                " put that file back and try again"
            )
        meshes[geometry.hash] = mesh
    return project, meshes


def discard(left: Leftover) -> None:
    """Remove what was left behind."""
    shutil.rmtree(left.folder, ignore_errors=True)


def _in_project(file: Path | None) -> set[str]:
    """The geometry that a saved project holds."""
    if file is None:
        return set()
    try:
        with zipfile.ZipFile(file) as archive:
            names = archive.namelist()
    except (OSError, zipfile.BadZipFile, NotImplementedError, ValueError):
        return set()
    return {Path(name).stem for name in names if name.startswith("geometry/") and name.endswith(".glb")}


def _kept_mesh(folder: Path, name: str) -> Mesh | None:
    target = folder / _GEOMETRY / f"{name}.glb"
    beside = target.with_suffix(".faces.json")
    if not target.exists():
        return None
    return _read(target.read_bytes(), beside.read_bytes() if beside.exists() else None)


def _saved_mesh(file: Path | None, name: str) -> Mesh | None:
    if file is None:
        return None
    try:
        with zipfile.ZipFile(file) as archive:
            extra = f"geometry/{name}.faces.json"
            faces = archive.read(extra) if extra in archive.namelist() else None
            return _read(archive.read(f"geometry/{name}.glb"), faces)
    except (OSError, KeyError, zipfile.BadZipFile, NotImplementedError, ValueError):
        return None


def _read(data: bytes, faces: bytes | None) -> Mesh:
    shape = from_glb(data)
    return shape if faces is None else with_faces(shape, faces)
