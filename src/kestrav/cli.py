"""The command line: the same work without a window. Exit 0 fine, 1 breaches found, 2 bad input."""

from __future__ import annotations

import gc
import json
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from kestrav import __version__
from kestrav.core.errors import BadInput

if TYPE_CHECKING:
    from kestrav import scripting
    from kestrav.render.cluster import Cluster
    from kestrav.watching import Checkup

app = typer.Typer(
    add_completion=False,
    help="Move parts, products and cameras along paths; know what is wrong before you render.",
    pretty_exceptions_enable=False,
    no_args_is_help=True,
)
Json = Annotated[bool, typer.Option("--json", help="Print one JSON object, for machines.")]
FARTHEST = 1e9  # of a number given: a thousand kilometres in mm, thirty years in s


def _sensible(value: float | None) -> float | None:
    """A number as it was given. Raises BadParameter when it is not finite or far beyond anything built."""
    if value is None or abs(value) <= FARTHEST:
        return value
    raise typer.BadParameter(f"{value:g} is not a number that can be worked with; give one within ±{FARTHEST:,.0f}")


Force = Annotated[bool, typer.Option("--force", help="Overwrite existing files.")]


def _print(data: object, text: str, *, as_json: bool) -> None:
    typer.echo(json.dumps(data, ensure_ascii=False, indent=1) if as_json else text.rstrip("\n"))


def _free(out: Path | None, *, force: bool) -> None:
    """Refuse to overwrite a file unless that is allowed."""
    from kestrav.core.files.writing import refuse_existing

    if out is not None:
        refuse_existing(out, force=force, otherwise="--force to overwrite it")


def _farm(address: str | None, certificates: Path | None) -> Cluster | None:
    """The cluster of an address, if one is given. Raises BadInput where it may not be connected to."""
    if address is None:
        if certificates is not None:
            raise BadInput("--certificates are those of a cluster; give its address with --cluster too")
        return None
    from kestrav.render.cluster import Cluster

    farm = Cluster(address, certificates)
    farm.security()
    return farm


@app.command()
def new(
    out: Annotated[Path, typer.Argument(help="The project to make (.kestrav).")],
    files: Annotated[list[Path], typer.Argument(help="Product files; “kestrav info” reads the same kinds.")],
    unit: Annotated[str | None, typer.Option(help="Unit of OBJ, STL, PLY and OFF files: mm, cm, m, in or ft.")] = None,
    tolerance: Annotated[
        float | None,
        typer.Option(callback=_sensible, help="Greatest distance in mm between curved CAD faces and their facets."),
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
    _free(out, force=force)
    made = scripting.new(*files, name=out.stem, unit=unit, tolerance=tolerance, up=up)
    made.save(out)
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
        for one in made.deliveries
    ]
    lines = [f"{r['file']}: {r['parts']} parts, {r['triangles']} triangles; unit: {r['unit']}" for r in rows]
    lines += [f"  left out: {note}" for r in rows for note in r["left_out"]]
    _print({"project": str(out), "files": rows}, "\n".join([*lines, f"made {out}"]), as_json=as_json)


@app.command()
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
        _print(held.data, held.text, as_json=as_json)
        return
    _free(out, force=force)
    held = scripting.open(file).contacts(out, overwrite=force)
    _print(held.data, held.text if out is None else f"{held.text}\nmade {out}", as_json=as_json)


@app.command()
def check(
    project: Annotated[Path, typer.Argument(help="The project.")],
    required: Annotated[
        float | None, typer.Option(callback=_sensible, help="Required clearance in mm, instead of the project's.")
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
        return opened.check(certify, over, required=required, pairs=pair or [], only_pairs=only_pairs)

    if watch:
        if out is not None:
            raise BadInput("a check that goes on writes no report; leave --out or --watch out")
        _watch(project, checked, save=save, as_json=as_json)
        return
    result = checked(scripting.open(project))
    data, text = result.as_data(), result.as_text()
    if out is not None:
        told = [f"--required {required:g}"] if required is not None else []
        told += [f"--pair “{p}”" for p in pair or []] + (["--only-pairs"] if only_pairs else [])
        told += [f"--span {span}"] if span is not None else []
        told += [] if certify else ["--no-certify"]
        made = result.report(out, " ".join(("kestrav check", project.name, *told)), overwrite=force)
        data["out"], text = [str(p) for p in made], text + "".join(f"made {p}\n" for p in made)
    _print(data, text, as_json=as_json)
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
        lines = [f"{name}: {told}" for name, told in checkup.changes]
        if checkup.comparison is None:
            lines.append(checkup.check.as_text().rstrip())
        else:
            data["changes"] = {name: told for name, told in checkup.changes}
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


@app.command()
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
    told = comparing.compare(*checks)
    _print(comparing.as_data(told), comparing.as_text(told), as_json=as_json)
    if told.is_worse:
        raise typer.Exit(1)


@app.command()
def extract(
    project: Annotated[Path, typer.Argument(help="The project.")],
    parts: Annotated[list[str], typer.Argument(help="Names or ids of the parts to extract, together.")],
    required: Annotated[
        float | None, typer.Option(callback=_sensible, help="Required clearance in mm, instead of the project's.")
    ] = None,
    upright: Annotated[bool, typer.Option(help="Keep the parts' orientation.")] = False,
    tilt: Annotated[
        float | None, typer.Option(callback=_sensible, help="Greatest tilt from upright, in degrees.")
    ] = None,
    direction: Annotated[
        list[str] | None,
        typer.Option(help="An allowed direction, as +x, -y or 1,0,2; may be given more than once."),
    ] = None,
    room: Annotated[
        str | None, typer.Option(help="Bounds to stay within, in mm: x,y,z:x,y,z, lowest and highest corner.")
    ] = None,
    to: Annotated[
        str | None, typer.Option(help="Destination of the pivot, in mm: x,y,z (orientation as at rest).")
    ] = None,
    onto: Annotated[str | None, typer.Option(help="Part to set down onto, by name or id.")] = None,
    aside: Annotated[
        list[str] | None,
        typer.Option(help="A part that may be removed first if it blocks; may be given more than once."),
    ] = None,
    margin: Annotated[
        float | None,
        typer.Option(
            callback=_sensible,
            help="Distance in mm beyond the surroundings at which a part counts as out; a quarter of its size if not given.",
        ),
    ] = None,
    deeper: Annotated[
        float,
        typer.Option(
            callback=_sensible,
            help="Allowed increase of interference in mm along the extraction path, as in snap fits.",
        ),
    ] = 0.0,
    checks: Annotated[
        int,
        typer.Option(
            help="Number of distances that each search stage measures; with the seed, this alone determines the result."
        ),
    ] = 200_000,
    seconds: Annotated[
        float,
        typer.Option(
            callback=_sensible,
            help="Greatest duration of each search stage in s; a stage that is cut short is reported.",
        ),
    ] = 600.0,
    seed: Annotated[int, typer.Option(help="Seed of the planner, for repeatable results.")] = 1,
    order: Annotated[
        bool,
        typer.Option(help="Find the disassembly sequence of the parts, or of all in one assembly."),
    ] = False,
    together: Annotated[
        bool, typer.Option(help="With --order: make runs that assemble instead of disassemble.")
    ] = False,
    speed: Annotated[
        float | None, typer.Option(callback=_sensible, help="With --order: speed of the runs in mm/s.")
    ] = None,
    out: Annotated[
        Path | None, typer.Option("-o", "--out", help="Project to write, with the extraction path and its run.")
    ] = None,
    as_json: Json = False,
    force: Force = False,
) -> None:
    """Find a way for parts to leave what they are in. Exit 1 when there is none."""
    from kestrav import scripting

    _free(out, force=force)
    opened = scripting.open(project)
    if order:
        result = opened.disassemble(*parts, required=required, speed=speed, together=together, keep=out is not None)
        _print_extraction(result, opened, out if result.data["removals"] else None, as_json=as_json)
        return
    result = opened.extract(
        *parts,
        deeper=deeper,
        required=required,
        upright=upright,
        tilt=tilt,
        allowed=direction or [],
        room=room,
        target=to,
        onto=onto,
        aside=aside or [],
        margin=margin,
        checks=checks,
        seconds=seconds,
        seed=seed,
    )
    _print_extraction(result, opened, out if result.found else None, as_json=as_json)


def _print_extraction(
    result: scripting.Extraction, opened: scripting.Project, out: Path | None, *, as_json: bool
) -> None:
    """Say what came of looking, with the project saved if it is to be; exit 1 where something has no extraction path."""
    data, text = result.data, result.text
    if out is not None:
        opened.save(out)
        data, text = {**data, "out": str(out)}, f"{text.rstrip()}\nmade {out}"
    _print(data, text, as_json=as_json)
    if not result.found:
        raise typer.Exit(1)


@app.command()
def render(
    project: Annotated[Path, typer.Argument(help="The project.")],
    out: Annotated[
        Path,
        typer.Option(
            "-o",
            "--out",
            help="A film (.mp4, .webm, .gif, .webp), a still (.png, .exr) or a folder for numbered pictures.",
        ),
    ],
    shot: Annotated[
        list[str] | None, typer.Option(help="Name of a shot; several follow each other. The first one if not given.")
    ] = None,
    film: Annotated[
        bool, typer.Option("--film", help="The whole film: all shots that are in it, in their order.")
    ] = False,
    at: Annotated[float | None, typer.Option(callback=_sensible, help="Time in s of a still.")] = None,
    sheet: Annotated[
        bool, typer.Option("--sheet", help="A contact sheet: small pictures of the shots on a .png.")
    ] = False,
    size: Annotated[
        str | None, typer.Option(help="Picture size, as 1280x720, or sd, hd, full hd, wqhd, uhd, square or upright.")
    ] = None,
    fps: Annotated[float | None, typer.Option(callback=_sensible, help="Frames per second.")] = None,
    look: Annotated[str | None, typer.Option(help="studio, technical, ghost or wire.")] = None,
    quality: Annotated[str | None, typer.Option(help="preview, good, best or finished (path-traced).")] = None,
    samples: Annotated[int | None, typer.Option(help="Samples for a pixel of finished pictures.")] = None,
    colourway: Annotated[str | None, typer.Option(help="Name of a colourway.")] = None,
    all_colourways: Annotated[
        bool, typer.Option("--all-colourways", help="Once in each colourway, whose name is added to the output's.")
    ] = False,
    background: Annotated[
        str | None, typer.Option(help="#rrggbb, #rrggbb:#rrggbb from below to above, or clear.")
    ] = None,
    span: Annotated[str | None, typer.Option(help="First and last time in s of one shot, as 1.5:4.")] = None,
    alpha: Annotated[bool, typer.Option("--alpha", help="Transparent background.")] = False,
    codec: Annotated[
        str, typer.Option(help="Codec of an .mp4: h264 or av1; a .webm has VP9 unless av1 is given.")
    ] = "h264",
    bits: Annotated[
        int,
        typer.Option(help="Bits of each colour: 8, 10 (films), 16 (PNG) or 32 (a folder of OpenEXR, with passes)."),
    ] = 8,
    resume: Annotated[bool, typer.Option("--resume", help="Continue from the frames of an earlier attempt.")] = False,
    processes: Annotated[int | None, typer.Option(help="Number of processes; one per core if not given.")] = None,
    cluster: Annotated[
        str | None, typer.Option(help="Address of a dask.distributed scheduler, whose workers make the frames.")
    ] = None,
    certificates: Annotated[
        Path | None,
        typer.Option(help="Folder of the cluster's ca.pem, cert.pem and key.pem, for one on other machines."),
    ] = None,
    as_json: Json = False,
    force: Force = False,
) -> None:
    """Render shots to a film, a still or a folder of pictures."""
    from kestrav import scripting

    farm = _farm(cluster, certificates)
    if film and shot:
        raise BadInput("--film is all shots that are in the film; leave --shot out")
    opened = scripting.open(project)
    report = None if as_json or not sys.stderr.isatty() else _Line()
    settings: dict[str, Any] = {
        "film": film, "size": size, "fps": fps, "look": look, "quality": quality, "samples": samples, "background": background,
        "span": span, "colourway": colourway, "progress": report, "overwrite": force,
    }  # fmt: skip
    if sheet:
        if at is not None:
            raise BadInput("--at belongs to a still, and --sheet to many pictures; leave one of them out")
        opened.contact_sheet(out, shot or None, **settings)
        _print({"out": str(out), "shots": list(opened.rendered[-1].shots)}, f"made {out}", as_json=as_json)
        return
    opened.render(
        out,
        shot or None,
        at,
        **settings,
        all_colourways=all_colourways,
        bits=bits,
        codec=codec,
        transparent=alpha,
        resume=resume,
        processes=processes,
        cluster=farm,
    )
    for one in opened.rendered:
        if one.time is not None:
            data: dict[str, Any] = {"out": str(one.file), "shot": one.shots[0], "time_s": one.time}
            _print(data, f"{one.file}: still at {one.time:g} s", as_json=as_json)
            continue
        data = {
            "out": str(one.file),
            "shot": one.shots[0],
            "shots": list(one.shots),
            "frames": one.frames,
            "fps": one.fps,
            "duration_s": one.frames / one.fps,
            "size": list(one.size),
            "seconds": one.seconds,
        }
        _print(
            data, f"{one.file}: {one.frames} frames at {one.fps:g} per second in {one.seconds:.1f} s", as_json=as_json
        )


@app.command()
def export(
    project: Annotated[Path, typer.Argument(help="The project.")],
    out: Annotated[
        Path,
        typer.Argument(
            help="Animated glTF (.glb), OpenUSD (.usdc, .usda, .usdz), a step sheet (.pdf), tables of the motion (.csv), charts (.svg, .png) or a "
            "report of the project (.html)."
        ),
    ],
    review: Annotated[
        bool, typer.Option("--review", help="A review page (.html), which plays in any browser.")
    ] = False,
    sheet: Annotated[
        str | None,
        typer.Option(help="Name of the step sheet; .html becomes a step sheet. “all” makes one of all that moves."),
    ] = None,
    lanes: Annotated[bool, typer.Option("--lanes", help="The timeline's curves (.csv) in place of poses.")] = False,
    tolerance: Annotated[
        float,
        typer.Option(callback=_sensible, help="Greatest error in mm between the keys of a .glb or OpenUSD scene."),
    ] = 0.05,
    simplify: Annotated[
        float,
        typer.Option(
            callback=_sensible, help="By how much in mm the surfaces of a review page may be off, to make it smaller."
        ),
    ] = 0.0,
    as_json: Json = False,
    force: Force = False,
) -> None:
    """Hand the motion on: a review page, animated glTF, OpenUSD, step sheets, tables, charts, or a report."""
    from kestrav import scripting
    from kestrav.render.exports import export_for

    wanted = [
        title
        for title, asked in (("Review page", review), ("Step sheet", sheet is not None), ("Table of the lanes", lanes))
        if asked
    ]
    if len(wanted) > 1:
        raise BadInput(f"one file is one thing; ask for a {' or a '.join(title.lower() for title in wanted)}")
    kind = wanted[0] if wanted else None
    export_for(out, kind)  # what cannot be written is told before a large project is read
    opened = scripting.open(project)
    if sheet == "all":
        sheet = opened.add_step_sheet(opened.name)
    tell = None if as_json or not sys.stderr.isatty() else _share_line
    handed = opened.export(
        out, kind, tolerance=tolerance, simplify=simplify, sheet=sheet, progress=tell, overwrite=force
    )
    _print({"out": [str(file) for file in handed.files], **handed.data}, f"made {handed.text}", as_json=as_json)


@app.command()
def poses(
    project: Annotated[Path, typer.Argument(help="The project.")],
    table: Annotated[
        Path,
        typer.Argument(
            help="CSV with time, part (or camera, light, id), x, y, z and qw, qx, qy, qz, units in the headings."
        ),
    ],
    out: Annotated[Path, typer.Option("-o", "--out", help="The project to write.")],
    as_json: Json = False,
    force: Force = False,
) -> None:
    """Give parts, cameras and lights the poses of a table as key poses."""
    from kestrav import scripting

    _free(out, force=force)
    opened = scripting.open(project)
    names = opened.add_poses(table)
    opened.save(out)
    _print({"out": str(out), "key_poses": list(names)}, f"made {out}: {', '.join(names)}", as_json=as_json)


@app.command()
def batch(
    project: Annotated[Path, typer.Argument(help="The project.")],
    table: Annotated[
        Path,
        typer.Argument(
            help="CSV with a column “name”, and columns “part NAME” (a file), “colourway”, “settings.FIELD”, “light.FIELD”, “THING.FIELD”."
        ),
    ],
    out: Annotated[Path, typer.Option("-o", "--out", help="Folder for the variants and the table of results.")],
    certify: Annotated[bool, typer.Option("--certify", help="Prove the clearance between the frames too.")] = False,
    extract: Annotated[list[str] | None, typer.Option(help="A part to extract; may be given more than once.")] = None,
    shot: Annotated[str | None, typer.Option(help="Shot of which a picture is made.")] = None,
    at: Annotated[float | None, typer.Option(callback=_sensible, help="Time in s of the picture.")] = None,
    size: Annotated[str | None, typer.Option(help="Size of the picture, as 1280x720.")] = None,
    quality: Annotated[str | None, typer.Option(help="preview, good, best or finished.")] = None,
    processes: Annotated[int | None, typer.Option(help="Number of processes; one per core if not given.")] = None,
    cluster: Annotated[
        str | None, typer.Option(help="Address of a dask.distributed scheduler, whose workers work the variants out.")
    ] = None,
    certificates: Annotated[
        Path | None,
        typer.Option(help="Folder of the cluster's ca.pem, cert.pem and key.pem, for one on other machines."),
    ] = None,
    as_json: Json = False,
) -> None:
    """Check, extract or render variants of a project, one for each row of a table. Exit 1 when one failed."""
    import os

    import msgspec

    from kestrav.variants import Wanted, read_variants, run_variants

    if processes is not None and processes < 1:
        raise BadInput(f"{processes} processes cannot work at it; give 1 or more")
    if not project.is_file():
        raise BadInput(f"“{project}” is not there")
    farm = _farm(cluster, certificates)
    variants = read_variants(table)
    wanted = Wanted(certify, shot, at, size, quality, tuple(extract or ()))
    report = None if as_json or not sys.stderr.isatty() else _Line("variant")
    results = run_variants(project, variants, out, wanted, processes or os.cpu_count() or 1, report, farm)
    lines = [f"{r.name}: {r.in_words}" for r in results]
    text = "\n".join([*lines, f"made {out / 'results.csv'} and {out / 'results.html'}"])
    _print({"out": str(out), "variants": [msgspec.to_builtins(r) for r in results]}, text, as_json=as_json)
    if any(r.fault for r in results):
        raise typer.Exit(1)


def _share_line(share: float, text: str = "") -> None:
    end = "\n" if share >= 1 else ""
    sys.stderr.write(f"\r{share:4.0%} {text:<40}{end}")
    sys.stderr.flush()


@app.command()
def schema() -> None:
    """Print the JSON Schema of a project's document."""
    from kestrav.core.files import project_file

    typer.echo(json.dumps(project_file.schema(), indent=1))


@app.command()
def rules(as_json: Json = False) -> None:
    """List the rules by which projects are checked: their ids, limits and where these come from."""
    from kestrav.core.findings import rule_table

    _print(rule_table.as_data(), rule_table.as_text(), as_json=as_json)


class _Line:
    """Frames done, or what else, and how long it will take, on one line of a terminal."""

    def __init__(self, what: str = "frame") -> None:
        self.what = what
        self.began: tuple[float, int] | None = None

    def __call__(self, done: int, total: int) -> None:
        now = time.monotonic()
        if self.began is None:
            self.began = (now, done)
        since, first = self.began
        left = (total - done) * (now - since) / (done - first) if done > first else None
        wait = "" if left is None or done == total else f", about {left:.0f} s left"
        end = "\n" if done == total else ""
        sys.stderr.write(f"\r{self.what} {done} of {total}{wait:<24}{end}")
        sys.stderr.flush()


COMMANDS = tuple(command.callback.__name__ for command in app.registered_commands if command.callback is not None)


def main(arguments: list[str] | None = None) -> int:
    """Run a command, or open the window when none is named."""
    arguments = sys.argv[1:] if arguments is None else arguments
    # what a command loads stays to its end; to look through it often for what could be thrown away takes a tenth of the short ones
    gc.set_threshold(50_000, 20, 20)
    if arguments[:1] == ["--version"]:
        print(f"Kestrav {__version__}")
        return 0
    try:
        if not arguments or (arguments[0] not in COMMANDS and not arguments[0].startswith("-")):
            from kestrav.app.shell.start import run_window

            if len(arguments) > 1:
                raise BadInput(f"“{arguments[0]}” is not a command; commands are {', '.join(COMMANDS)}")
            return run_window(Path(arguments[0]) if arguments else None)
        code = app(arguments, standalone_mode=False)
        return int(code or 0)
    except BadInput as fault:
        return _complain(str(fault), "--json" in arguments)
    except typer.TyperException as fault:
        return _complain(fault.format_message(), "--json" in arguments)
    except typer.Exit as stop:
        return stop.exit_code
    except (KeyboardInterrupt, typer.Abort):
        print("stopped", file=sys.stderr)
        return 130


def _complain(message: str, as_json: bool) -> int:
    if as_json:
        print(json.dumps({"error": message}, ensure_ascii=False))
    print(f"kestrav: {message}", file=sys.stderr)
    return 2


if __name__ == "__main__":
    sys.exit(main())
