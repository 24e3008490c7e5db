"""What was read of product files, kept by their content, so that the same file again is there at once.

One archive for each, in the user's folder for such things. It may be missing, damaged, or of another version, and is then as if it had not
been there; the least lately used ones go when all take too much room.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import zipfile
from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec
import numpy as np

from kestrav.core.document.records import Finish, Part
from kestrav.core.errors import BadInput
from kestrav.core.files.mesh_entries import to_faces, with_faces
from kestrav.core.files.product_tree import Imported, Upward
from kestrav.core.files.writing import beside as written_beside
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.later import later

metadata = later("importlib.metadata")

SECONDS = 0.3  # what is read faster is not kept
MOST_BYTES = 2_000_000_000
_READERS = ("kestrav", "cascadio", "trimesh", "pycollada", "DracoPy")
_WAY = 2  # counts on when files are read otherwise than before
_DESCRIPTION = "product.json"

Fetch = Callable[[str], bytes]


class _Kept(msgspec.Struct):
    """An import without its meshes, and the hashes of the files beside it that it was read with; "" for one that was not there."""

    parts: list[Part]
    meshes: list[str]
    left_out: list[str]
    unit: float | None
    declared: str
    chord: float
    up: Upward
    beside: dict[str, str]
    finishes: list[Finish]


def home() -> Path:
    """Where it is kept: in the user's cache, as the XDG Base Directory Specification has it."""
    return Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "kestrav" / "products"


def key_of(data: bytes, suffix: str, *settings: object) -> str:
    """The name of what is read of a file's content with some settings, by the readers of today."""
    about = "|".join([str(_WAY), suffix, *map(repr, settings), *(metadata.version(name) for name in _READERS)])
    return hashlib.sha256(hashlib.sha256(data).digest() + about.encode()).hexdigest()[:40]


class Beside:
    """Gives the files beside one that is read, and notes what they held."""

    def __init__(self, fetch: Fetch) -> None:
        self._fetch = fetch
        self.noted: dict[str, str] = {}

    def __call__(self, name: str) -> bytes:
        """The content of a file. Raises ValueError when it is not there."""
        self.noted[name] = ""
        data = self._fetch(name)
        self.noted[name] = _hash(data)
        return data


def recalled(key: str, source: str, fetch: Fetch) -> Imported | None:
    """What was read before under a key, if it is kept and the files beside it hold the same as then."""
    file = home() / f"{key}.zip"
    try:
        with zipfile.ZipFile(file) as archive:
            kept = msgspec.json.decode(archive.read(_DESCRIPTION), type=_Kept)
            if any(_now(fetch, name) != known for name, known in kept.beside.items()):
                return None
            meshes = {name: _mesh(archive, name) for name in kept.meshes}
        os.utime(file)
    except (OSError, zipfile.BadZipFile, KeyError, ValueError, msgspec.MsgspecError):
        return None
    return Imported(
        source, kept.parts, meshes, kept.left_out, kept.unit, kept.declared, kept.chord, kept.up, finishes=kept.finishes
    )


def keep(key: str, imported: Imported, beside: Mapping[str, str]) -> None:
    """Keep what was read; where there is no room for it or no leave to write, it is not kept."""
    about = _Kept(
        imported.parts,
        list(imported.meshes),
        imported.left_out,
        imported.unit,
        imported.declared,
        imported.chord,
        imported.up,
        dict(beside),
        imported.finishes,
    )
    folder = home()
    with contextlib.suppress(OSError, BadInput):
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        with written_beside(folder / f"{key}.zip") as part:
            _write(part, about, imported.meshes)
        _make_room(folder)


def _write(part: Path, about: _Kept, meshes: Mapping[str, Mesh]) -> None:
    with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr(_DESCRIPTION, msgspec.json.encode(about))
        for name, shape in meshes.items():
            archive.writestr(f"{name}.vertices", shape.vertices.astype("<f8").tobytes())
            archive.writestr(f"{name}.triangles", shape.triangles.astype("<i4").tobytes())
            faces = to_faces(shape)
            if faces is not None:
                archive.writestr(f"{name}.faces", faces)


def _mesh(archive: zipfile.ZipFile, name: str) -> Mesh:
    vertices = np.frombuffer(archive.read(f"{name}.vertices"), "<f8").reshape(-1, 3)
    triangles = np.frombuffer(archive.read(f"{name}.triangles"), "<i4").reshape(-1, 3)
    shape = Mesh(vertices, triangles)
    if f"{name}.faces" in archive.NameToInfo:
        shape = with_faces(shape, archive.read(f"{name}.faces"))
    return shape


def _make_room(folder: Path) -> None:
    """Remove the least lately used ones until the rest is small enough."""
    kept = sorted(((file.stat(), file) for file in folder.glob("*.zip")), key=lambda each: -each[0].st_mtime)
    room = MOST_BYTES
    for about, file in kept:
        room -= about.st_size
        if room < 0:
            file.unlink(missing_ok=True)


def _now(fetch: Fetch, name: str) -> str:
    try:
        return _hash(fetch(name))
    except ValueError:
        return ""


def _hash(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()
