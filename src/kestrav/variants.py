"""Variants of a project, one for each row of a table: changed, checked, extracted or rendered, and told in one table.

The first column ``name`` names the variant; the others say what is changed: ``part NAME`` a file that replaces the part, ``colourway`` the
colourway shown, ``settings.FIELD`` and ``light.FIELD`` those of the project, and ``THING.FIELD`` a field of a run, path, camera …; empty
cells change nothing. Each variant is worked out in a process of its own, and what is done is not done again.
"""

from __future__ import annotations

import contextlib
import csv
import hashlib
import io
import json
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, wait
from concurrent.futures.process import BrokenProcessPool
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

import msgspec

from kestrav.core.errors import BadInput
from kestrav.core.files.writing import as_csv, write_whole
from kestrav.core.findings.page import page, table
from kestrav.core.processes import Pool
from kestrav.core.units import show
from kestrav.render.formats import file_name

if TYPE_CHECKING:
    from kestrav.render.cluster import Cluster

_MOST = 10_000
_PART = "part "
_RESULT = "result.json"


class Wanted(msgspec.Struct, frozen=True):
    """What is done with each variant: it is checked, a shot's picture is made at a time in s, parts are extracted."""

    certify: bool = False
    shot: str | None = None
    at: float | None = None
    size: str | None = None
    quality: str | None = None
    extract: tuple[str, ...] = ()


class Variant(msgspec.Struct, frozen=True):
    """A row of the table."""

    name: str
    values: dict[str, str]


class Result(msgspec.Struct, frozen=True):
    """What came of a variant; ``fault`` says why there is nothing else."""

    name: str
    values: dict[str, str]
    key: str = ""
    fault: str = ""
    least_clearance_mm: float | None = None
    breaches: int = 0
    warnings: int = 0
    worst: str = ""
    certainty: str = ""
    extraction: str = ""
    duration_s: float = 0.0
    picture: str = ""
    seconds: float = 0.0

    @property
    def in_words(self) -> str:
        """What came of it, or why nothing did."""
        if self.fault:
            return self.fault
        least = "not to be measured" if self.least_clearance_mm is None else show(self.least_clearance_mm, "mm", 2)
        return f"least clearance {least}, {self.breaches} breaches, {self.warnings} warnings"


def read_variants(file: Path) -> list[Variant]:
    """The rows of a table. Raises BadInput naming the file and row."""
    try:
        text = file.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as fault:
        raise BadInput(f"“{file}” cannot be read: {getattr(fault, 'strerror', None) or 'it is not UTF-8'}") from fault
    rows = list(csv.DictReader(io.StringIO(text)))
    heads = list(rows[0]) if rows else []
    if "name" not in heads:
        raise BadInput(f"“{file}” has no column “name” or no rows; its first line names the columns")
    if len(rows) > _MOST:
        raise BadInput(f"“{file}” has {len(rows)} rows; {_MOST} are the most")
    variants: dict[str, Variant] = {}
    for number, row in enumerate(rows, 2):
        if None in row or None in row.values():
            raise BadInput(f"row {number} of “{file}” has another number of cells than the first")
        name = (row["name"] or "").strip()
        if not name or file_name(name).casefold() in (file_name(known).casefold() for known in variants):
            raise BadInput(f"row {number} of “{file}” has {f'the name “{name}” again' if name else 'no name'}")
        variants[name] = Variant(name, {k: v.strip() for k, v in row.items() if k != "name" and v and v.strip()})
    return list(variants.values())


def run_variants(
    project: Path,
    variants: Sequence[Variant],
    out: Path,
    wanted: Wanted,
    processes: int,
    progress: Callable[[int, int], None] | None = None,
    cluster: Cluster | None = None,
) -> list[Result]:
    """Work all variants out, each into a folder of its own below ``out``, with the table of them as results.csv and results.html; on the
    cores here, or by the workers of a ``cluster``.

    One that fails, or whose process dies, does not end the others. ``progress`` is told how many are done, and may raise to stop; what is
    done then is kept, and not done again the next time.
    """
    out.mkdir(parents=True, exist_ok=True)
    results: dict[str, Result] = {}
    keys = {variant.name: _key(project, variant, wanted) for variant in variants}
    for variant in variants:
        known = _kept_result(out / file_name(variant.name), keys[variant.name])
        if known is not None:
            results[variant.name] = known
    left = [variant for variant in variants if variant.name not in results]

    def tell() -> None:
        write_tables(out, [results[v.name] for v in variants if v.name in results])
        if progress is not None:
            progress(len(results), len(variants))

    tell()
    variant_of: dict[Future[Result], Variant] = {}
    if left and cluster is not None:
        for result in _on_cluster(cluster, project, left, out, wanted, keys):
            results[result.name] = result
            tell()
    elif left:
        with Pool(min(processes, len(left))) as pool:
            for v in left:
                variant_of[pool.submit(work_out, project, v, out / file_name(v.name), wanted, keys[v.name])] = v
            while variant_of:
                for future in wait(variant_of, timeout=0.5, return_when="FIRST_COMPLETED").done:
                    variant = variant_of.pop(future)
                    # with a process that dies all others of its pool are lost
                    with contextlib.suppress(BrokenProcessPool):
                        results[variant.name] = future.result()
                        tell()
    for variant in left:
        if variant.name not in results:
            results[variant.name] = _alone(project, variant, out, wanted, keys[variant.name])
            tell()
    tell()
    return [results[variant.name] for variant in variants]


def _on_cluster(
    cluster: Cluster, project: Path, left: Sequence[Variant], out: Path, wanted: Wanted, keys: Mapping[str, str]
) -> Iterator[Result]:
    """Variants worked out by a cluster's workers, as they come. The project and the files that a variant names are sent to them; what they
    make comes back."""
    from distributed import as_completed

    from kestrav.render.cluster import connected

    with connected(cluster) as client:
        data = client.scatter(project.read_bytes(), broadcast=True, hash=False)
        variant_of = {}
        for variant in left:
            future = client.submit(
                _on_worker,
                data,
                _files_of(project, variant),
                variant,
                wanted,
                keys[variant.name],
                pure=False,
                retries=1,
            )
            variant_of[future] = variant
        for future in as_completed(list(variant_of)):
            variant = variant_of[future]
            try:
                result, files = future.result()
            except Exception as fault:
                yield Result(variant.name, variant.values, fault=f"its worker failed: {fault}")
                continue
            folder = out / file_name(variant.name)
            folder.mkdir(parents=True, exist_ok=True)
            for name, content in files.items():
                write_whole(folder / name, content)
            yield result


def _files_of(project: Path, variant: Variant) -> dict[str, bytes]:
    """What the files hold that a variant names; one that is not there is told by the worker."""
    held = {}
    for what, value in variant.values.items():
        file = Path(value) if Path(value).is_absolute() else project.parent / value
        if what.startswith(_PART) and file.is_file():
            held[value] = file.read_bytes()
    return held


def _on_worker(
    data: bytes, files: Mapping[str, bytes], variant: Variant, wanted: Wanted, key: str
) -> tuple[Result, dict[str, bytes]]:
    """On a worker: a variant, and the files made for it."""
    with tempfile.TemporaryDirectory(prefix="kestrav-variant-") as room:
        folder, out = Path(room, "project"), Path(room, "made")
        folder.mkdir()
        (folder / "project.kestrav").write_bytes(data)
        # files may have any names, and be anywhere
        values = dict(variant.values)
        for number, (value, content) in enumerate(files.items()):
            name = f"{number}-{Path(value).name}"
            (folder / name).write_bytes(content)
            values |= {
                what: name for what, named in variant.values.items() if what.startswith(_PART) and named == value
            }
        result = work_out(folder / "project.kestrav", Variant(variant.name, values), out, wanted, key)
        result = msgspec.structs.replace(result, values=variant.values)
        (out / _RESULT).write_bytes(msgspec.json.format(msgspec.json.encode(result), indent=1))
        return result, {file.name: file.read_bytes() for file in out.iterdir() if file.is_file()}


def _alone(project: Path, variant: Variant, out: Path, wanted: Wanted, key: str) -> Result:
    """A variant in a pool of its own: if that dies, it is known whose it was."""
    with Pool(1) as pool:
        try:
            return pool.submit(work_out, project, variant, out / file_name(variant.name), wanted, key).result()
        except BrokenProcessPool:
            fault = "its process ended unexpectedly; memory may have run out"
            return Result(variant.name, variant.values, fault=fault)


def work_out(project: Path, variant: Variant, folder: Path, wanted: Wanted, key: str) -> Result:
    """One variant: what is wrong with it is told in its result."""
    began = time.monotonic()
    folder.mkdir(parents=True, exist_ok=True)
    try:
        result = _worked_out(project, variant, folder, wanted)
    except BadInput as fault:
        result = Result(variant.name, variant.values, fault=str(fault))
    except Exception as fault:
        result = Result(variant.name, variant.values, fault=f"it could not be worked out: {fault}")
    result = msgspec.structs.replace(result, key=key, seconds=round(time.monotonic() - began, 3))
    write_whole(folder / _RESULT, msgspec.json.format(msgspec.json.encode(result), indent=1))
    return result


def _worked_out(file: Path, variant: Variant, folder: Path, wanted: Wanted) -> Result:
    from kestrav import scripting

    project = scripting.open(file)
    for what, value in variant.values.items():
        _apply(project, what, value, file.parent)
    text = project.extract(*wanted.extract).text if wanted.extract else ""
    check = project.check(certify=wanted.certify)
    project.save(folder / "variant.kestrav")
    picture = ""
    if wanted.shot is not None or wanted.at is not None:
        target = folder / "picture.png"
        project.render(target, wanted.shot, wanted.at, size=wanted.size, quality=wanted.quality, overwrite=True)
        picture = target.name
    least = check.least_clearance
    return Result(
        variant.name,
        variant.values,
        least_clearance_mm=round(least, 6) if least < 1e30 else None,
        breaches=sum(f.severity == "breach" for f in check.findings),
        warnings=sum(f.severity == "warning" for f in check.findings),
        worst=check.findings[0].title if check.findings else "",
        certainty=check.certainty,
        extraction=text.strip().splitlines()[0] if text.strip() else "",
        duration_s=round(project.duration, 6),
        picture=picture,
    )


def _apply(project: Any, what: str, value: str, beside: Path) -> None:
    """Change one thing of a project. Raises BadInput naming it."""
    if what == "colourway":
        project.show_colourway(value)
        return
    if what.startswith(_PART):
        file = Path(value)
        project.replace_part(what.removeprefix(_PART).strip(), file if file.is_absolute() else beside / file)
        return
    thing, dot, field = what.rpartition(".")
    if not dot or not field.isidentifier():
        raise BadInput(
            f"the column “{what}” says nothing that can be changed; give “part NAME”, “colourway”, “settings.FIELD”, "
            "“light.FIELD” or “THING.FIELD”"
        )
    changed = {field: _value(value)}
    try:
        if thing == "settings":
            project.set_settings(**changed)
        elif thing == "light":
            project.set_light(**changed)
        else:
            project.set(thing, **changed)
    except (TypeError, AttributeError, msgspec.ValidationError) as fault:
        raise BadInput(f"“{what}” cannot be “{value}”: {fault}") from fault


def _value(text: str) -> Any:
    """A number in the document's own unit, what else JSON can say, or text."""
    try:
        value = json.loads(text)
    except ValueError:
        return text
    return float(value) if isinstance(value, int) and not isinstance(value, bool) else value


def _key(project: Path, variant: Variant, wanted: Wanted) -> str:
    """A hash of all that a variant is made from: if nothing of it changed, it need not be worked out again."""
    digest = hashlib.sha256(project.read_bytes() if project.is_file() else b"")
    digest.update(json.dumps([variant.values, str(wanted)], sort_keys=True).encode())
    for what, value in variant.values.items():
        file = Path(value) if Path(value).is_absolute() else project.parent / value
        if what.startswith(_PART) and file.is_file():
            digest.update(hashlib.sha256(file.read_bytes()).digest())
    return digest.hexdigest()[:32]


def _kept_result(folder: Path, key: str) -> Result | None:
    """What came of a variant before, if it was just this one and nothing failed."""
    try:
        result = msgspec.json.decode((folder / _RESULT).read_bytes(), type=Result)
    except (OSError, msgspec.DecodeError, UnicodeDecodeError):
        return None
    return result if result.key == key and not result.fault else None


_HEADS = (
    "name", "least clearance [mm]", "breaches", "warnings", "worst finding", "certainty", "extraction", "duration [s]", "fault", "seconds",
)  # fmt: skip


def _cells(result: Result) -> list[str]:
    least = "" if result.least_clearance_mm is None else f"{result.least_clearance_mm:.4f}"
    return [
        result.name, least, str(result.breaches), str(result.warnings), result.worst, result.certainty, result.extraction,
        f"{result.duration_s:.3f}", result.fault, f"{result.seconds:.1f}",
    ]  # fmt: skip


def write_tables(out: Path, results: Sequence[Result]) -> None:
    """The results as results.csv and results.html. Raises BadInput where they cannot be written."""
    columns = list(dict.fromkeys(what for result in results for what in result.values))
    heads, rows = [_HEADS[0], *columns, *_HEADS[1:]], []
    for result in results:
        cells = _cells(result)
        rows.append([cells[0], *(result.values.get(what, "") for what in columns), *cells[1:]])
    write_whole(out / "results.csv", as_csv(heads, rows).encode())
    pictures = [
        f'<figure><img alt="" src="{escape(quote(f"{file_name(r.name)}/{r.picture}"))}">'
        f"<figcaption>{escape(r.name)}</figcaption></figure>"
        for r in results
        if r.picture
    ]
    write_whole(out / "results.html", page("Variants", ["<h1>Variants</h1>", table(heads, rows), *pictures]).encode())
