"""The ``.kestrav`` file: a ZIP with ``project.json`` and the geometry it uses, by content hash.

See docs/file-format.md. Saving is atomic; everything is checked on load.
"""

from __future__ import annotations

import hashlib
import re
import zipfile
from collections.abc import Callable, Mapping
from pathlib import Path, PurePosixPath
from typing import Any

import msgspec

from kestrav.core.derive import RULES, derived, taken_as_derived
from kestrav.core.document.records import FORMAT_VERSION, Project
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput, brief, in_words
from kestrav.core.files.mesh_entries import kept_mesh, to_faces, to_glb
from kestrav.core.files.reading import unpacked
from kestrav.core.files.writing import beside, clear_parts
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.paths.path_curves import check_curves

SUFFIX = ".kestrav"
DOCUMENT = "project.json"
DERIVED = "derived.json"  # says of which document what is kept in it was worked out


def _records(document: dict[str, Any], name: str) -> list[dict[str, Any]]:
    """What of a list is a record; anything else is left for the check after the upgrades to refuse."""
    records = document.get(name)
    return [item for item in records if isinstance(item, dict)] if isinstance(records, list) else []


# from a format version to the next: each takes and returns the document as plain data
# 2: parts gained scale, finish, role, lock, source and form, and projects sources and notes; all have defaults
# 3: parts and cameras gained a least radius, paths the shape on a surface; all have defaults
# 4: a heading's being upright became its stance; runs, poses, carries and lights gained fields with defaults
def _with_stances(document: dict[str, Any]) -> dict[str, Any]:
    for run in _records(document, "runs"):
        heading = run.get("heading")
        if isinstance(heading, dict) and "upright" in heading:
            heading["stance"] = "slope" if heading.pop("upright") else "free"
    return document


# 5: cues say of what they are, as a touch can be one too; carries, wheels and spins gained fields with defaults
def _with_kinds_of_cues(document: dict[str, Any]) -> dict[str, Any]:
    for name in ("runs", "poses", "carries", "spins"):
        for item in _records(document, name):
            if isinstance(item.get("cue"), dict):
                item["cue"]["type"] = "run"
    return document


# 6: requirements of clearance, and parts that are swept volumes; all have defaults
# 7: orbits, and cameras with aims, lags, limits and walks; all have defaults
# 8: looks, quality, section, backgrounds and inscriptions of shots; all have defaults
# 9: portions of runs, which have a default
# 10: the tolerance of interference, which has a default
# 11: the bores of meshes, which have a default
# 12: motion laws and gears bear the names that handbooks in English have for them
_LAWS = {"quadratic parabola": "parabolic", "simple sine": "simple harmonic", "inclined sine": "cycloidal"}
_GEARS = {"outside": "external", "inside": "internal"}


def _with_names_of_the_trade(document: dict[str, Any]) -> dict[str, Any]:
    laws = [run["pacing"] for run in _records(document, "runs") if isinstance(run.get("pacing"), dict)]
    for records, field, names in ((laws, "name", _LAWS), (_records(document, "drives"), "kind", _GEARS)):
        for item in records:
            if isinstance(item.get(field), str):
                item[field] = names.get(item[field], item[field])
    return document


# 13: kinds and fields bear the terms of the trade
_COLLECTIONS = {
    "carries": "attachments",
    "poses": "pose_tracks",
    "rolls": "wheels",
    "swivels": "castors",
    "spins": "rotations",
    "drives": "gears",
}
_OF_RUNS = {
    "pacing": "speed_profile",
    "heading": "orientation",
    "lean": "bank",
    "cue": "trigger",
    "due": "arrive_by",
    "company": "companions",
    "seat": "reference",
    "seat_point": "reference_point",
}
_LANES = {"heading": "orientation", "lean": "bank"}


def _with_terms_of_the_trade(document: dict[str, Any]) -> dict[str, Any]:
    for name in ("runs", "poses", "carries", "spins"):
        for item in _records(document, name):
            for old, new in _OF_RUNS.items():
                if old in item:
                    item[new] = item.pop(old)
    for part in _records(document, "parts"):
        if "came" in part:
            part["baseline"] = part.pop("came")
    settings = document.get("settings")
    if isinstance(settings, dict) and isinstance(settings.get("lanes"), list):
        settings["lanes"] = [_LANES.get(lane, lane) if isinstance(lane, str) else lane for lane in settings["lanes"]]
    return {_COLLECTIONS.get(name, name): value for name, value in document.items()}


# 14: finishes are records of the project with parameters of their own, and no names of a list
_FINISHES: dict[str, dict[str, Any]] = {
    "bare metal": {"metallic": 1.0, "roughness": 0.28},
    "brushed": {"metallic": 1.0, "roughness": 0.52},
    "plastic": {"metallic": 0.0, "roughness": 0.34, "coat": 0.15},
    "rubber": {"metallic": 0.0, "roughness": 0.92},
    "glass": {"metallic": 0.0, "roughness": 0.05, "transmission": 0.7},
    "wood": {"metallic": 0.0, "roughness": 0.7, "coat": 0.08},
}


def _with_finishes(document: dict[str, Any]) -> dict[str, Any]:
    ids: dict[str, str] = {}
    for part in _records(document, "parts"):
        name = part.pop("finish", "painted")
        if isinstance(name, str) and name in _FINISHES:
            part["finish"] = ids.setdefault(name, f"finish-{len(ids) + 1}")
        elif name != "painted":
            part["finish"] = name  # the format's own check names it
    document["finishes"] = [{"id": ids[name], "name": name.capitalize(), **_FINISHES[name]} for name in ids]
    return document


# 18: keys of speed profiles have a distance, and what waits for a station says so
def _with_distances(document: dict[str, Any]) -> dict[str, Any]:
    for run in _records(document, "runs"):
        profile = run.get("speed_profile")
        for key in _records(profile, "keys") if isinstance(profile, dict) else ():
            if "way" in key:
                key["distance"] = key.pop("way")
    for name in ("runs", "pose_tracks", "attachments", "rotations"):
        for item in _records(document, name):
            trigger = item.get("trigger")
            if isinstance(trigger, dict) and trigger.get("at") == "way":
                trigger["at"] = "station"
    return document


UPGRADES: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {
    3: _with_stances,
    4: _with_kinds_of_cues,
    11: _with_names_of_the_trade,
    12: _with_terms_of_the_trade,
    13: _with_finishes,
    17: _with_distances,
}


class Opened(msgspec.Struct, frozen=True):
    """A project with its meshes by content hash."""

    project: Project
    meshes: Mapping[str, Mesh]


def save(project: Project, meshes: Mapping[str, Mesh], path: Path) -> None:
    """Write a project whole or not at all, with what hangs on it worked out. Raises BadInput naming the file when it cannot be written."""
    plain, reads = _text(project, path)
    if reads != _beside(project, path):
        project = reads  # values of another kind are written like the right ones: what is kept is what will be read
    names = sorted({g.hash for g in project.geometry})
    missing = [name for name in names if name not in meshes]
    if missing:
        raise BadInput(f"“{path}” was not saved: the geometry “{missing[0]}” is not loaded")
    worked_out, sure = _worked_out(project, meshes)
    try:
        text = plain if worked_out is project else _text(worked_out, path)[0]
    except BadInput:  # what hangs on it does not fit the format: it is left to those who open it
        text, sure = plain, False
    clear_parts(path.parent, path.name)
    with beside(path) as part, zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as archive:
        _write(archive, DOCUMENT, text)
        if sure:
            _write(archive, DERIVED, msgspec.json.encode(_mark(text)))
        for name in names:
            _write(archive, f"geometry/{name}.glb", to_glb(meshes[name]))
            extra = to_faces(meshes[name])
            if extra is not None:
                _write(archive, f"geometry/{name}.faces.json", extra)


def _text(project: Project, path: Path) -> tuple[bytes, Project]:
    """A project as the text that is saved, and as it will be read. Raises BadInput, naming the file, where reading it would refuse that text."""
    try:
        text = msgspec.json.encode(_beside(project, path))
        reads = check_curves(validate(msgspec.json.decode(text, type=Project, strict=True)))
    except msgspec.ValidationError as fault:
        raise BadInput(f"“{path}” was not saved: the project does not fit the format: {_misfit(str(fault))}") from fault
    except BadInput as fault:
        raise BadInput(f"“{path}” was not saved: {fault}") from fault
    except (AttributeError, TypeError, ValueError) as fault:
        raise BadInput(
            f"“{path}” was not saved: the project holds a value that no file can hold; undo the last edit"
        ) from fault
    return msgspec.json.format(text, indent=1), reads


def _worked_out(project: Project, meshes: Mapping[str, Mesh]) -> tuple[Project, bool]:
    """A project with what hangs on it, and whether it is; as it is where that cannot be, as nothing that was made is refused."""
    try:
        return derived(project, meshes), True
    except BadInput:
        return project, False


def _mark(text: bytes) -> dict[str, Any]:
    """What tells that what hangs on a document was worked out of this very text, and by which rules."""
    return {"sha256": hashlib.sha256(text).hexdigest(), "rules": RULES}


def _is_marked(archive: zipfile.ZipFile, text: bytes) -> bool:
    try:
        return bool(msgspec.json.decode(archive.read(DERIVED)) == _mark(text))
    except Exception:  # no mark, or a damaged one: it is worked out again
        return False


def _beside(project: Project, path: Path) -> Project:
    """The project with sources in or below its own folder named from there, so that both can be moved together."""
    folder = path.resolve().parent
    sources = tuple(
        msgspec.structs.replace(s, file=Path(s.file).relative_to(folder).as_posix())
        if Path(s.file).is_absolute() and Path(s.file).is_relative_to(folder)
        else s
        for s in project.sources
    )
    return project if sources == project.sources else msgspec.structs.replace(project, sources=sources)


def source_path(file: str, project: Path | None) -> Path:
    """Where a source's file is, given the project's own file."""
    source = Path(file)
    return source if source.is_absolute() or project is None else project.resolve().parent / source


def load(path: Path) -> Opened:
    """Read and check a project. Raises BadInput naming the file and what is wrong with it."""
    with _archive(path) as archive:
        text = _entry(path, archive, DOCUMENT)
        project = _document(path, text)
        meshes = {g.hash: _mesh(path, archive, g.hash) for g in project.geometry}
        marked = _is_marked(archive, text)
    return Opened(taken_as_derived(project) if marked else _worked_out(project, meshes)[0], meshes)


def load_document(path: Path) -> Project:
    """A project's document alone, without its geometry, which takes far longer. Raises BadInput as :func:`load` does."""
    with _archive(path) as archive:
        return _document(path, _entry(path, archive, DOCUMENT))


def _archive(path: Path) -> zipfile.ZipFile:
    """A project's archive, opened, of which no entry points elsewhere. Raises BadInput naming the file."""
    try:
        size = path.stat().st_size
        archive = zipfile.ZipFile(path)
    except FileNotFoundError:
        raise BadInput(f"“{path}” does not exist; check its name and folder") from None
    except zipfile.BadZipFile:
        if size == 0:
            raise BadInput(f"“{path}” is empty; take it from a backup") from None
        raise BadInput(f"“{path}” is not a Kestrav project, or is cut short: it is not a whole ZIP archive") from None
    except OSError as fault:
        raise BadInput(f"“{path}” cannot be read: {fault.strerror}") from fault
    except (NotImplementedError, ValueError) as fault:
        raise BadInput(f"“{path}” is damaged: the list of its entries cannot be read; take it from a backup") from fault
    for name in archive.namelist():
        inner = PurePosixPath(name)
        if inner.is_absolute() or ".." in inner.parts or "\\" in name or ":" in name:
            archive.close()
            raise BadInput(f"“{path}” was not opened: its entry “{name}” points outside the archive")
    return archive


def fingerprint(path: Path) -> str | None:
    """What tells whether a project file holds the same as before: a hash over the names, sizes and checksums of its entries, which are
    read at once however large it is; none where it cannot be read."""
    try:
        with zipfile.ZipFile(path) as archive:
            entries = sorted((item.filename, item.file_size, item.CRC) for item in archive.infolist())
    except (OSError, zipfile.BadZipFile, NotImplementedError, ValueError):
        return None
    return hashlib.sha256(repr(entries).encode()).hexdigest()


def changes_between(before: Project, after: Project) -> list[str]:
    """What one document has that another has not, in words by kind: “2 runs changed”, “1 path new”, “1 part gone”."""
    changes = []
    for name in before.__struct_fields__:
        one, two = getattr(before, name), getattr(after, name)
        if not isinstance(one, tuple) or one == two or not all(hasattr(item, "id") for item in (*one, *two)):
            continue
        old, new = ({item.id: item for item in items} for items in (one, two))
        counts = (
            (sum(old[i] != new[i] for i in old.keys() & new.keys()), "changed"),
            (len(new.keys() - old.keys()), "new"),
            (len(old.keys() - new.keys()), "gone"),
        )
        changes += [f"{count} {name[:-1] if count == 1 else name} {what}" for count, what in counts if count]
    if before.settings != after.settings:
        changes.append("other limits")
    return changes


def changes_in_words(before: Project, after: Project) -> str:
    """The same as one phrase."""
    return ", ".join(changes_between(before, after)) or "no part, path, run, camera or shot is another one"


def _document(path: Path, text: bytes) -> Project:
    try:
        raw = msgspec.json.decode(text.decode("utf-8"))
    except msgspec.DecodeError as fault:
        raise BadInput(f"“{path}” has a broken {DOCUMENT}: {_misfit(str(fault))}; take it from a backup") from fault
    except UnicodeDecodeError as fault:
        raise BadInput(
            f"“{path}” has a broken {DOCUMENT}: byte {fault.start} is not UTF-8; take it from a backup"
        ) from fault
    except RecursionError:
        raise BadInput(f"“{path}” has a broken {DOCUMENT}: it is nested too deep; take it from a backup") from None
    version = raw.get("version") if isinstance(raw, dict) else None
    if not isinstance(version, int) or isinstance(version, bool):
        raise BadInput(f"“{path}” has a {DOCUMENT} without a format version")
    if version > FORMAT_VERSION:
        raise BadInput(
            f"“{path}” has format version {version}; this Kestrav reads up to {FORMAT_VERSION}: use a newer one"
        )
    if version < 1:
        raise BadInput(f"“{path}” has the unknown format version {version}")
    for old in range(version, FORMAT_VERSION):
        if old in UPGRADES:  # otherwise there are only fields more, which have defaults
            raw = UPGRADES[old](raw)
        raw["version"] = old + 1
    try:
        return check_curves(validate(msgspec.convert(raw, Project, strict=True)))
    except msgspec.ValidationError as fault:
        raise BadInput(f"“{path}” has a {DOCUMENT} that does not fit the format: {_misfit(str(fault))}") from fault
    except BadInput as fault:
        raise BadInput(f"“{path}” was not opened: {brief(str(fault))}") from fault


_KINDS = {
    "str": "text",
    "int": "a whole number",
    "float": "a number",
    "bool": "true or false",
    "array": "a list",
    "object": "a record",
    "null": "nothing",
}
_LONGEST = 160  # letters of what is said of one place


def _misfit(text: str) -> str:
    """What does not fit a document, in words for people, from msgspec's."""
    text, _, place = text.partition(" - at `$")
    place = f"“{place.rstrip('`').lstrip('.')}”: " if place.rstrip("`") else ""

    def kind(match: re.Match[str]) -> str:
        return " or ".join(_KINDS.get(one, f"“{one}”") for one in match[1].split(" | "))

    text = re.sub(r"field `([^`]*)`", r"field “\1”", text)
    text = re.sub(r"`([^`]*)`", kind, text)
    text = re.sub(
        r"^Object (missing|contains)",
        lambda m: {"missing": "the record lacks the", "contains": "the record has the"}[m[1]],
        text,
    )
    return (place + text[:1].lower() + text[1:])[:_LONGEST]


def _entry(path: Path, archive: zipfile.ZipFile, name: str) -> bytes:
    try:
        return unpacked(archive, name)
    except KeyError:
        what = "it is not a Kestrav project" if name == DOCUMENT else "its geometry is not whole"
        raise BadInput(f"“{path}” has no entry “{name}”: {what}") from None
    except Exception as fault:  # zlib.error and whatever else a damaged stream raises
        raise BadInput(f"“{path}”: the entry “{name}” is damaged ({in_words(fault, 'it does not unpack')})") from fault


def _mesh(path: Path, archive: zipfile.ZipFile, name: str) -> Mesh:
    entry, beside = f"geometry/{name}.glb", f"geometry/{name}.faces.json"
    data = _entry(path, archive, entry)
    faces = _entry(path, archive, beside) if beside in archive.NameToInfo else None
    try:
        return kept_mesh(data, faces, name)
    except Exception as fault:
        raise BadInput(f"“{path}”: the geometry “{entry}” is damaged ({in_words(fault, 'it is no mesh')})") from fault


def schema() -> dict[str, Any]:
    """The JSON Schema of ``project.json``."""
    schema = msgspec.json.schema(Project)
    schema["title"] = "Kestrav project"
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    return schema


def _write(archive: zipfile.ZipFile, name: str, data: bytes) -> None:
    # a fixed date: the same project gives the same bytes
    entry = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    entry.compress_type = zipfile.ZIP_DEFLATED
    entry.external_attr = 0o644 << 16
    archive.writestr(entry, data)
