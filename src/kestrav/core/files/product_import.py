"""Reading products of every kind into parts and meshes: STEP and IGES through cascadio, meshes through libraries."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Literal
from urllib.parse import unquote

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import fresh_part_ids, new_id, new_name, new_source_id
from kestrav.core.document.records import Finish, ImportBaseline, KeyPose, Part, PoseTrack, Project, Source
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput, Cancelled, Damaged, in_words
from kestrav.core.files import product_cache
from kestrav.core.files.cad_kernel import tessellated
from kestrav.core.files.product_tree import (
    X_UP_TO_Z_UP,
    Y_UP_TO_Z_UP,
    Imported,
    Node,
    PartMotion,
    Upward,
    clean_name,
    gather,
    with_unit,
)
from kestrav.core.files.reading import as_unicode
from kestrav.core.files.step_faces import not_read
from kestrav.core.files.step_names import product_names
from kestrav.core.parts.solids import with_meshes
from kestrav.core.progress import Progress

__all__ = ["Imported", "into_project", "proposed_unit", "read_product", "with_unit"]

Array = NDArray[np.float64]

STEP_SUFFIXES = (".step", ".stp")
IGES_SUFFIXES = (".iges", ".igs")
GLTF_SUFFIXES = (".glb", ".gltf")
TRIMESH_SUFFIXES = (".obj", ".stl", ".ply", ".off")
USD_SUFFIXES = (".usd", ".usdc", ".usda", ".usdz")
SUFFIXES = (*STEP_SUFFIXES, *IGES_SUFFIXES, *GLTF_SUFFIXES, *TRIMESH_SUFFIXES, ".3mf", ".dae", *USD_SUFFIXES)
UNITLESS = TRIMESH_SUFFIXES

# mm between a curved face and its facets: a share of the largest solid, and within these
CHORD_SHARE, FINEST_CHORD, COARSEST_CHORD = 5e-4, 1e-5, 0.1
UNITS = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4, "ft": 304.8}

_UPWARD = {"x": X_UP_TO_Z_UP, "y": Y_UP_TO_Z_UP, "z": np.eye(4)}
_METRES = np.diag([1000.0, 1000.0, 1000.0, 1.0])
_LONGEST_NAME = 80  # letters of a name that are said
_NAMES = {
    ".step": "STEP",
    ".stp": "STEP",
    ".iges": "IGES",
    ".igs": "IGES",
    ".glb": "GLB",
    ".gltf": "glTF",
    ".3mf": "3MF",
    ".dae": "COLLADA",
    **dict.fromkeys(USD_SUFFIXES, "OpenUSD"),
}


def read_product(
    path: Path,
    chord: float | None = None,
    unit: float | None = None,
    up: Upward | None = None,
    progress: Progress | None = None,
) -> Imported:
    """Read a product file.

    ``chord`` in mm is how far facets may be from curved faces (None: by the size of the largest solid); ``unit``
    is one of a unitless file's units in mm (None: not known yet); ``up`` its upward axis where it is not the
    format's own. ``progress`` is told shares from 0 to 1, and may raise Cancelled. Raises BadInput naming the
    file and what is wrong with it.
    """
    tell = progress or (lambda share: None)
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise BadInput(f"“{path}” is not a kind of file that can be brought in; give one of {', '.join(SUFFIXES)}")
    if chord is not None and not chord > 0:
        raise BadInput(f"the tessellation tolerance is {chord:g} mm; it must be above 0")
    if unit is not None and not unit > 0:
        raise BadInput(f"the unit of “{path}” is {unit:g} mm; it must be above 0")
    data = read_bytes(path)
    _check_content(path, data)
    tell(0.05)
    fetch = product_cache.Beside(_beside(path))
    key, began = product_cache.key_of(data, suffix, chord, unit, up), time.monotonic()
    known = product_cache.recalled(key, path.name, fetch)
    try:
        if known is not None:
            imported = known
        elif suffix in STEP_SUFFIXES + IGES_SUFFIXES:
            imported = _read_cad(path, data, chord, tell)
        elif suffix in USD_SUFFIXES:
            imported = _read_usd(path, data, up, lambda: tell(0.05))
        else:
            imported = _read_meshes(path, data, unit, up, fetch)
    except (BadInput, Cancelled):
        raise
    except MemoryError:
        raise BadInput(f"“{path}” needs more memory than there is") from None
    except Exception as fault:  # whatever a damaged file makes the readers raise
        raise BadInput(f"“{path}” cannot be read: {in_words(fault)}") from fault
    if not imported.meshes:
        why = f": {imported.left_out[0]}" if imported.left_out else "; export it with its geometry"
        raise BadInput(f"“{path}” holds no solid or surface that can be shown{why}")
    # what a scene of OpenUSD is composed of lies in files that are not noted
    if known is None and suffix not in USD_SUFFIXES and time.monotonic() - began > product_cache.SECONDS:
        product_cache.keep(key, imported, fetch.noted)
    # a name that is not Unicode could not be saved
    imported.path, imported.source = as_unicode(str(path.resolve())), as_unicode(path.name)
    # what has no name in its file has the file's
    stem = clean_name(as_unicode(path.stem)) or "Part 1"
    imported.parts = [msgspec.structs.replace(p, name=stem) if p.name == "Part 1" else p for p in imported.parts]
    tell(1.0)
    return imported


def _read_cad(path: Path, data: bytes, chord: float | None, tell: Progress) -> Imported:
    kind: Literal["step", "iges"] = "iges" if path.suffix.lower() in IGES_SUFFIXES else "step"
    name = kind.upper()
    used = COARSEST_CHORD if chord is None else chord
    imported = _tessellated(path, data, kind, used, lambda: tell(0.05))
    tell(0.6)
    largest = max((float(np.linalg.norm(np.ptp(m.bounds, axis=0))) for m in imported.meshes.values()), default=0.0)
    if chord is None and largest > 0:
        wanted = min(max(CHORD_SHARE * largest, FINEST_CHORD), COARSEST_CHORD)
        if wanted < 0.5 * used:
            # something small: its curves need finer facets than a cabinet's
            used = float(f"{wanted:.2g}")
            imported = _tessellated(path, data, kind, used, lambda: tell(0.6))
    tell(0.95)
    imported.chord = used
    imported.declared = f"{name}, its unit converted to mm"
    return imported


def _tessellated(
    path: Path, data: bytes, kind: Literal["step", "iges"], chord: float, waiting: Callable[[], None]
) -> Imported:
    from kestrav.core.files.gltf import read_gltf

    binary = tessellated(path, data, kind, chord, waiting)
    roots, left_out = read_gltf(binary, _nothing_beside)
    if kind == "step":
        _name_by_products(roots, product_names(data))
        left_out = [*left_out, *not_read(data, *_read_of(roots))]
    # cascadio 0.1 writes STEP in metres and IGES in mm
    return gather(path.name, roots, _METRES if kind == "step" else np.eye(4), left_out)


def _read_of(roots: list[Node]) -> tuple[list[int | None], set[str]]:
    """The numbers of faces of the different shapes that nodes have, where they are known, and the names of those that have some."""
    counts, names, waiting = dict[tuple[object, ...], int | None](), set[str](), list(roots)
    while waiting:
        node = waiting.pop()
        waiting.extend(node.children)
        if node.shapes:
            names.add(node.name)
            # where faces are coloured apart the kernel does not tell them all
            each = [0 if shape.tints else len(shape.faces()) for shape in node.shapes]
            counts[tuple(shape.key for shape in node.shapes)] = sum(each) if all(each) else None
    return list(counts.values()), names


def _name_by_products(roots: list[Node], names: dict[str, str]) -> None:
    """Give occurrences without a name their product's."""
    waiting = list(roots) if names else []
    while waiting:
        node = waiting.pop()
        node.name = names.get(node.name, node.name)
        waiting.extend(node.children)


def _read_meshes(
    path: Path, data: bytes, unit: float | None, up: Upward | None, fetch: product_cache.Fetch
) -> Imported:
    # the readers take a second to load
    from kestrav.core.files.gltf import read_gltf
    from kestrav.core.files.mesh_formats import read_3mf, read_by_trimesh, read_collada

    suffix = path.suffix.lower()
    upward: Upward
    scale, upward, declared = 1.0, "z", ""
    left_out: list[str]
    roots: list[Node]
    if suffix in GLTF_SUFFIXES:
        roots, left_out = read_gltf(data, fetch)
        scale, upward, declared = 1000.0, "y", "glTF, in metres"
    elif suffix == ".3mf":
        roots, left_out, scale = read_3mf(data)
        declared = f"3MF, its unit {scale:g} mm"
    elif suffix == ".dae":
        roots, left_out, scale, upward = read_collada(data)
        declared = f"COLLADA, its unit {scale:g} mm"
    else:
        roots, left_out = read_by_trimesh(data, suffix, fetch)
        declared = "not in the file"
    upward = up or upward
    imported = gather(path.name, roots, _UPWARD[upward] @ np.diag([scale, scale, scale, 1.0]), left_out)
    imported.up, imported.declared, imported.unit = upward, declared, 1.0
    if suffix in UNITLESS:
        imported.unit = None
        if unit is not None:
            imported = with_unit(imported, unit)
    return imported


def _read_usd(path: Path, data: bytes, up: Upward | None, waiting: Callable[[], None]) -> Imported:
    from kestrav.core.files.usd_import import read_usd

    scene = read_usd(path, len(data), waiting)
    upward = up or scene.up
    imported = gather(
        path.name, scene.roots, _UPWARD[upward] @ np.diag([scene.unit, scene.unit, scene.unit, 1.0]), scene.left_out
    )
    imported.up, imported.unit, imported.declared = upward, 1.0, f"OpenUSD, its unit {scene.unit:g} mm"
    return imported


def _nothing_beside(name: str) -> bytes:
    raise Damaged(f"it points at “{name}”, which is not there")


def _beside(path: Path) -> Callable[[str], bytes]:
    """Reads files that a product points at, from its own folder and below it only."""
    folder = path.resolve().parent

    def fetch(name: str) -> bytes:
        name = as_unicode(name)
        called = name if len(name) <= _LONGEST_NAME else f"{name[:_LONGEST_NAME]}…"
        wanted = unquote(name).replace("\\", "/").removeprefix("./")
        if "://" in wanted or wanted.startswith(("/", "~")) or (len(wanted) > 1 and wanted[1] == ":"):
            raise Damaged(f"it points at “{called}”, outside its own folder")
        target = (folder / wanted).resolve()
        if not target.is_relative_to(folder):
            raise Damaged(f"it points at “{called}”, outside its own folder")
        try:
            return target.read_bytes()
        except (OSError, ValueError):
            raise Damaged(f"it points at “{called}”, which is missing beside it") from None

    return fetch


def read_bytes(path: Path) -> bytes:
    """A file's content. Raises BadInput when it is missing, empty or cannot be read."""
    try:
        data = path.read_bytes()
    except FileNotFoundError:
        raise BadInput(f"“{path}” does not exist; check its name and folder") from None
    except OSError as fault:
        raise BadInput(f"“{path}” cannot be read: {fault.strerror}") from fault
    if not data.strip(b"\0 \r\n\t"):
        raise BadInput(f"“{path}” is empty; export or copy it again")
    return data


# adding to a project


def read_in_units(
    path: Path, chord: float | None = None, unit: str | None = None, up: str | None = None
) -> tuple[Imported, str]:
    """A product as :func:`read_product`, in a ``unit`` by its name where the file has none, or in the one that it was taken for by its size,
    which is told then (else empty). Raises BadInput also for a unit or an upward axis that is not known."""
    if unit is not None and unit not in UNITS:
        raise BadInput(f"the unit “{unit}” is not known; units are {', '.join(UNITS)}")
    if up not in (None, "x", "y", "z"):
        raise BadInput(f"the upward axis is “{up}”; it can be x, y or z")
    imported = read_product(path, chord, None if unit is None else UNITS[unit], up)  # type: ignore[arg-type]
    if imported.unit is not None:
        return imported, ""
    taken = proposed_unit(imported)
    return with_unit(imported, UNITS[taken]), taken


def proposed_unit(imported: Imported) -> str:
    """The unit that makes a unitless product the size of a thing people handle: mm, else in, m or cm.

    Common practice, no source: products and rooms measure 10 mm to 50 m.
    """
    size = float(np.linalg.norm(np.ptp(_rough_bounds(imported), axis=0)))
    if size <= 0:
        return "mm"
    if size < 10.0:
        return "m"
    return "mm"


def _rough_bounds(imported: Imported) -> Array:
    """Bounds (2, 3) of an import in its own unit, by its parts' boxes."""
    from kestrav.core.parts.rest import top_bounds

    boxes = top_bounds(into_project(Project(), imported))
    return np.array([np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)])


def size_of(imported: Imported) -> Array:
    """Size (3,) over all of an import, in mm, or in the file's unit while that is not known."""
    size: Array = np.ptp(_rough_bounds(imported), axis=0)
    return size


def into_project(project: Project, imported: Imported) -> Project:
    """The project with an imported product added under new ids, and the file noted as its source."""
    source = Source(
        new_source_id(project), imported.path or imported.source, imported.chord, imported.unit or 1.0, imported.up
    )
    project, finishes = with_finishes(project, imported.finishes)
    parts = _renumbered(
        project,
        [
            msgspec.structs.replace(
                p,
                source=source.id,
                baseline=ImportBaseline(p.name, p.placement, p.colour),
                finish=finishes.get(p.finish, ""),
            )
            for p in imported.parts
        ],
    )
    project = with_meshes(project, imported.meshes.values())
    whole = msgspec.structs.replace(project, parts=(*project.parts, *parts), sources=(*project.sources, source))
    ids = {old.id: new for old, new in zip(imported.parts, parts, strict=True)}
    for motion in imported.motions:
        whole = _with_motion(whole, ids[motion.part], motion)
    return validate(whole)


def _with_motion(project: Project, part: Part, motion: PartMotion) -> Project:
    """The project with a part's motion as key poses, straight from one to the next."""
    first = motion.times[0]
    keys = tuple(KeyPose(t - first, p) for t, p in zip(motion.times, motion.placements, strict=True))
    track = PoseTrack(
        new_id(project, PoseTrack),
        new_name(project, PoseTrack, part.name),
        part.id,
        keys,
        start=first,
        between="straight",
    )
    return msgspec.structs.replace(project, pose_tracks=(*project.pose_tracks, track))


def with_finishes(project: Project, finishes: list[Finish]) -> tuple[Project, dict[str, str]]:
    """The project with finishes that a product came with, one that it has already taken for the same; and the id there of each by its own."""
    known = {msgspec.structs.replace(finish, id=""): finish.id for finish in project.finishes}
    ids = {}
    for finish in finishes:
        bare = msgspec.structs.replace(finish, id="")
        if bare not in known:
            known[bare] = new_id(project, Finish)
            renamed = msgspec.structs.replace(finish, id=known[bare])
            project = msgspec.structs.replace(project, finishes=(*project.finishes, renamed))
        ids[finish.id] = known[bare]
    return project, ids


def _renumbered(project: Project, parts: list[Part]) -> list[Part]:
    """Parts (parents first) under ids that a project does not have yet; parents outside them stay."""
    names = dict(zip((p.id for p in parts), fresh_part_ids(project, len(parts)), strict=True))
    return [
        msgspec.structs.replace(p, id=names[p.id], parent=names.get(p.parent, p.parent) if p.parent else None)
        for p in parts
    ]


# content


def _check_content(path: Path, data: bytes) -> None:
    """Raise BadInput for a renamed or truncated file."""
    suffix = path.suffix.lower()
    kind = content_kind(data)
    if suffix == ".usdz":
        kind = "OpenUSD" if kind == "a ZIP archive" else kind
    wanted = _NAMES.get(suffix, suffix.removeprefix(".").upper())
    # text formats without a mark of their own are tried by their readers
    sure = {
        "STEP": "it does not begin with ISO-10303-21",
        "GLB": "it does not begin as one",
        "IGES": "it has no start and global sections",
        "3MF": "it is not a ZIP archive",
        "COLLADA": "it holds no COLLADA element",
        "OpenUSD": "it does not begin as one",
    }
    if kind is not None and kind != wanted:
        raise BadInput(f"“{path}” is not {_an(wanted)} {wanted} file: its content is {kind}; rename it")
    if kind is None and wanted in sure:
        raise BadInput(f"“{path}” is not {_an(wanted)} {wanted} file: {sure[wanted]}")
    if wanted == "STEP" and b"END-ISO-10303-21" not in data[-4096:]:
        raise BadInput(f"“{path}” is cut short: its closing line END-ISO-10303-21 is missing; export or copy it again")
    if wanted == "IGES" and not _has_end(data):
        raise BadInput(f"“{path}” is cut short: its closing T line is missing; export or copy it again")
    if wanted == "COLLADA" and b"</COLLADA>" not in data[-4096:].replace(b"\0", b""):
        raise BadInput(f"“{path}” is cut short: its closing element is missing; export or copy it again")


def content_kind(data: bytes) -> str | None:
    """What kind of product file some content is, where it says so."""
    head = data[:4096].lstrip(b"\xef\xbb\xbf\xff\xfe \r\n\t")
    plain = head.replace(b"\0", b"")
    if head.startswith(b"ISO-10303-21"):
        return "STEP"
    if data.startswith((b"PXR-USDC", b"#usda ")):
        return "OpenUSD"
    if head.startswith(b"glTF"):
        return "GLB"
    if head.startswith(b"PK\x03\x04"):
        return "3MF" if b".model" in data[-65536:] or b".model" in data[:65536] else "a ZIP archive"
    if b"<COLLADA" in plain:
        return "COLLADA"
    if head.startswith(b"{") and b'"asset"' in data:
        return "glTF"
    if head[:4] in (b"ply\n", b"ply\r"):
        return "PLY"
    if plain[:4] in (b"OFF\n", b"OFF\r", b"OFF ") or plain[:5] == b"COFF\n":
        return "OFF"
    if len(data) > 80 and data[72:73] == b"S" and data[73:80].strip().isdigit():
        return "IGES"
    return None


def _has_end(data: bytes) -> bool:
    return any(line[72:73] == b"T" for line in data[-400:].splitlines())


def _an(kind: str) -> str:
    return "an" if kind[0] in "AEIO" else "a"
