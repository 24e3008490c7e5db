"""Commands that work something out and write it: ways out, films, exports, poses, variants."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from kestrav.cli.base import (
    Certificates,
    ClusterAddress,
    Force,
    Json,
    Line,
    Processes,
    cluster_of,
    print_as,
    refuse_kept,
    sensible,
    share_line,
)
from kestrav.core.errors import BadInput

if TYPE_CHECKING:
    from kestrav import scripting


def extract(
    project: Annotated[Path, typer.Argument(help="The project.")],
    parts: Annotated[list[str], typer.Argument(help="Names or ids of the parts to extract, together.")],
    required: Annotated[
        float | None, typer.Option(callback=sensible, help="Required clearance in mm, instead of the project's.")
    ] = None,
    upright: Annotated[bool, typer.Option(help="Keep the parts' orientation.")] = False,
    tilt: Annotated[
        float | None, typer.Option(callback=sensible, help="Greatest tilt from upright, in degrees.")
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
            callback=sensible,
            help="Distance in mm beyond the surroundings at which a part counts as out; a quarter of its size if not given.",
        ),
    ] = None,
    deeper: Annotated[
        float,
        typer.Option(
            callback=sensible,
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
            callback=sensible,
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
        float | None, typer.Option(callback=sensible, help="With --order: speed of the runs in mm/s.")
    ] = None,
    out: Annotated[
        Path | None, typer.Option("-o", "--out", help="Project to write, with the extraction path and its run.")
    ] = None,
    as_json: Json = False,
    force: Force = False,
) -> None:
    """Find a way for parts to leave what they are in. Exit 1 when there is none."""
    from kestrav import scripting

    refuse_kept(out, force=force)
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
    print_as(data, text, as_json=as_json)
    if not result.found:
        raise typer.Exit(1)


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
    at: Annotated[float | None, typer.Option(callback=sensible, help="Time in s of a still.")] = None,
    sheet: Annotated[
        bool, typer.Option("--sheet", help="A contact sheet: small pictures of the shots on a .png.")
    ] = False,
    size: Annotated[
        str | None, typer.Option(help="Picture size, as 1280x720, or sd, hd, full hd, wqhd, uhd, square or upright.")
    ] = None,
    fps: Annotated[float | None, typer.Option(callback=sensible, help="Frames per second.")] = None,
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
    processes: Processes = None,
    cluster: ClusterAddress = None,
    certificates: Certificates = None,
    as_json: Json = False,
    force: Force = False,
) -> None:
    """Render shots to a film, a still or a folder of pictures."""
    from kestrav import scripting

    farm = cluster_of(cluster, certificates)
    if film and shot:
        raise BadInput("--film is all shots that are in the film; leave --shot out")
    opened = scripting.open(project)
    report = None if as_json or not sys.stderr.isatty() else Line()
    settings: dict[str, Any] = {
        "film": film, "size": size, "fps": fps, "look": look, "quality": quality, "samples": samples, "background": background,
        "span": span, "colourway": colourway, "progress": report, "overwrite": force,
    }  # fmt: skip
    if sheet:
        if at is not None:
            raise BadInput("--at belongs to a still, and --sheet to many pictures; leave one of them out")
        opened.contact_sheet(out, shot or None, **settings)
        print_as({"out": str(out), "shots": list(opened.rendered[-1].shots)}, f"made {out}", as_json=as_json)
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
            print_as(data, f"{one.file}: still at {one.time:g} s", as_json=as_json)
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
        print_as(
            data, f"{one.file}: {one.frames} frames at {one.fps:g} per second in {one.seconds:.1f} s", as_json=as_json
        )


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
        typer.Option(callback=sensible, help="Greatest error in mm between the keys of a .glb or OpenUSD scene."),
    ] = 0.05,
    simplify: Annotated[
        float,
        typer.Option(
            callback=sensible, help="By how much in mm the surfaces of a review page may be off, to make it smaller."
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
    tell = None if as_json or not sys.stderr.isatty() else share_line
    handed = opened.export(
        out, kind, tolerance=tolerance, simplify=simplify, sheet=sheet, progress=tell, overwrite=force
    )
    print_as({"out": [str(file) for file in handed.files], **handed.data}, f"made {handed.text}", as_json=as_json)


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

    refuse_kept(out, force=force)
    opened = scripting.open(project)
    names = opened.add_poses(table)
    opened.save(out)
    print_as({"out": str(out), "key_poses": list(names)}, f"made {out}: {', '.join(names)}", as_json=as_json)


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
    at: Annotated[float | None, typer.Option(callback=sensible, help="Time in s of the picture.")] = None,
    size: Annotated[str | None, typer.Option(help="Size of the picture, as 1280x720.")] = None,
    quality: Annotated[str | None, typer.Option(help="preview, good, best or finished.")] = None,
    processes: Processes = None,
    cluster: ClusterAddress = None,
    certificates: Certificates = None,
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
    farm = cluster_of(cluster, certificates)
    variants = read_variants(table)
    wanted = Wanted(certify, shot, at, size, quality, tuple(extract or ()))
    report = None if as_json or not sys.stderr.isatty() else Line("variant")
    results = run_variants(project, variants, out, wanted, processes or os.cpu_count() or 1, report, farm)
    lines = [f"{r.name}: {r.in_words}" for r in results]
    text = "\n".join([*lines, f"made {out / 'results.csv'} and {out / 'results.html'}"])
    print_as({"out": str(out), "variants": [msgspec.to_builtins(r) for r in results]}, text, as_json=as_json)
    if any(r.fault for r in results):
        raise typer.Exit(1)
