"""Commands that read and check: what files and projects hold, and what is wrong."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from kestrav.cli.base import Force, Json, print_as, refuse_kept, sensible
from kestrav.core.errors import BadInput

if TYPE_CHECKING:
    from kestrav import scripting
    from kestrav.watching import Checkup


def new(
    out: Annotated[Path, typer.Argument(help="The project to make (.kestrav).")],
    files: Annotated[list[Path], typer.Argument(help="Product files; “kestrav info” reads the same kinds.")],
    unit: Annotated[str | None, typer.Option(help="Unit of OBJ, STL, PLY and OFF files: mm, cm, m, in or ft.")] = None,
    tolerance: Annotated[
        float | None,
        typer.Option(callback=sensible, help="Greatest distance in mm between curved CAD faces and their facets."),
    ] = None,
    up: Annotated[str | None, typer.Option(help="Up axis of mesh files: x, y or z.")] = None,
    as_json: Json = False,
    force: Force = False,
) -> None:
    """Make a project from CAD or mesh files."""
    from kestrav import scripting
    from kestrav.core.files import project_file

    if out.suffix != project_file.SUFFIX:
        raise BadInput(f"“{out}” should end in {project_file.SUFFIX}")
    refuse_kept(out, force=force)
    project = scripting.new(*files, name=out.stem, unit=unit, tolerance=tolerance, up=up)
    project.save(out)
    rows: list[dict[str, Any]] = [
        {
            "file": str(one.file),
            "parts": one.parts,
            "geometries": one.geometries,
            "triangles": one.triangles,
            "unit": f"{one.unit}; --unit says otherwise" if "by its size" in one.unit else one.unit,
            "tolerance_mm": one.tolerance,
            "left_out": list(one.left_out),
        }
        for one in project.deliveries
    ]
    lines = [f"{r['file']}: {r['parts']} parts, {r['triangles']} triangles; unit: {r['unit']}" for r in rows]
    lines += [f"  left out: {note}" for r in rows for note in r["left_out"]]
    print_as({"project": str(out), "files": rows}, "\n".join([*lines, f"made {out}"]), as_json=as_json)


def info(
    file: Annotated[Path, typer.Argument(help="A project or a CAD file.")],
    contacts: Annotated[
        bool,
        typer.Option(
            "--contacts", help="List the parts of a project that touch, fit or interfere at rest, and by how much."
        ),
    ] = False,
    out: Annotated[Path | None, typer.Option("-o", "--out", help="CSV file for the contacts.")] = None,
    as_json: Json = False,
    force: Force = False,
) -> None:
    """Say what a project or CAD file holds."""
    from kestrav import scripting

    if not contacts:
        if out is not None:
            raise BadInput("only the contacts are written to a file; give --contacts as well")
        held = scripting.info(file)
        print_as(held.data, held.text, as_json=as_json)
        return
    refuse_kept(out, force=force)
    held = scripting.open(file).contacts(out, overwrite=force)
    print_as(held.data, held.text if out is None else f"{held.text}\nmade {out}", as_json=as_json)


def check(
    project: Annotated[Path, typer.Argument(help="The project.")],
    required: Annotated[
        float | None, typer.Option(callback=sensible, help="Required clearance in mm, instead of the project's.")
    ] = None,
    pair: Annotated[
        list[str] | None,
        typer.Option(
            help="“PART:PART=MM”, the clearance required between two parts by name or id, or “PART=MM” between one and the rest; "
            "“=off” excludes them. May be given more than once."
        ),
    ] = None,
    only_pairs: Annotated[bool, typer.Option("--only-pairs", help="Check the given pairs only.")] = False,
    span: Annotated[str | None, typer.Option(help="First and last time in s, as 1.5:4.")] = None,
    certify: Annotated[
        bool, typer.Option(help="Prove the clearance between the frames too, or tell where that fails.")
    ] = True,
    out: Annotated[
        Path | None,
        typer.Option(
            "-o", "--out", help="A report (.html), or the table of breaches (.csv, with the frames beside it)."
        ),
    ] = None,
    watch: Annotated[
        bool,
        typer.Option(
            "--watch", help="Go on, and check again with each change of the project or its CAD files; Ctrl+C ends it."
        ),
    ] = False,
    save: Annotated[
        bool, typer.Option("--save", help="While watching, save the project with what its CAD files bring.")
    ] = False,
    as_json: Json = False,
    force: Force = False,
) -> None:
    """Find every fault, and measure the clearance over the whole motion."""
    from kestrav import scripting
    from kestrav.core.document.shots import read_span
    from kestrav.render.clearance_report import check_report_target

    if out is not None:
        check_report_target(out, overwrite=force)
    if save and not watch:
        raise BadInput("--save belongs to --watch; a check by itself changes nothing")
    over = None if span is None else read_span(span)

    def checked(opened: scripting.Project) -> scripting.Check:
        return opened.check(over, certify=certify, required=required, pairs=pair or [], only_pairs=only_pairs)

    if watch:
        if out is not None:
            raise BadInput("a check that goes on writes no report; leave --out or --watch out")
        _watch(project, checked, save=save, as_json=as_json)
        return
    result = checked(scripting.open(project))
    data, text = result.as_data(), result.as_text()
    if out is not None:
        words = [f"--required {required:g}"] if required is not None else []
        words += [f"--pair “{p}”" for p in pair or []] + (["--only-pairs"] if only_pairs else [])
        words += [f"--span {span}"] if span is not None else []
        words += [] if certify else ["--no-certify"]
        files = result.report(out, " ".join(("kestrav check", project.name, *words)), overwrite=force)
        data["out"], text = [str(p) for p in files], text + "".join(f"made {p}\n" for p in files)
    print_as(data, text, as_json=as_json)
    if result.has_breach:
        raise typer.Exit(1)


def _watch(
    project: Path, checked: Callable[[scripting.Project], scripting.Check], *, save: bool, as_json: bool
) -> None:
    """Check again and again until Ctrl+C; exit 1 where the last check has breaches."""
    from kestrav.core.findings import comparing
    from kestrav.watching import Watcher, watch

    watcher = Watcher(project, checked)

    def told(checkup: Checkup) -> None:
        data = checkup.check.as_data()
        lines = [f"{name}: {change}" for name, change in checkup.changes]
        if checkup.comparison is None:
            lines.append(checkup.check.as_text().rstrip())
        else:
            data["changes"] = {name: change for name, change in checkup.changes}
            data["comparison"] = comparing.as_data(checkup.comparison)
            lines.append(comparing.as_text(checkup.comparison).rstrip())
            if save:
                watcher.save()
                lines.append(f"saved {project}")
        # one document a line, for who reads them as they come
        print(json.dumps(data, ensure_ascii=False) if as_json else "\n".join([*lines, ""]), flush=True)

    def wait() -> bool:
        time.sleep(1.0)
        return True

    try:
        watch(watcher, told, lambda fault: print(f"kestrav: {fault}", file=sys.stderr, flush=True), wait)
    except KeyboardInterrupt:
        raise typer.Exit(1 if watcher.last is not None and watcher.last.check.has_breach else 0) from None


def compare(
    before: Annotated[Path, typer.Argument(help="A project, or a check written with “kestrav check --json”.")],
    after: Annotated[Path, typer.Argument(help="The one to compare it with.")],
    certify: Annotated[
        bool, typer.Option(help="Prove the clearance between the frames too, or tell where that fails.")
    ] = True,
    as_json: Json = False,
) -> None:
    """Tell what is new, resolved, worse or better between two checks. Exit 1 when a breach is new or worse."""
    from kestrav import scripting
    from kestrav.core.findings import comparing

    checks = [
        comparing.read_check(file)
        if file.suffix.lower() == ".json"
        else scripting.open(file).check(certify=certify).as_data()
        for file in (before, after)
    ]
    comparison = comparing.compare(*checks)
    print_as(comparing.as_data(comparison), comparing.as_text(comparison), as_json=as_json)
    if comparison.is_worse:
        raise typer.Exit(1)


def schema() -> None:
    """Print the JSON Schema of a project's document."""
    from kestrav.core.files import project_file

    typer.echo(json.dumps(project_file.schema(), indent=1))


def rules(as_json: Json = False) -> None:
    """List the rules by which projects are checked: their ids, limits and where these come from."""
    from kestrav.core.findings import rule_table

    print_as(rule_table.as_data(), rule_table.as_text(), as_json=as_json)
