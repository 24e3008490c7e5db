"""Everything that a project is handed on as, one description for each: what goes along, what is lost, and how it is written."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.files.charts import Charted
from kestrav.core.findings.check import CheckResult
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.progress import Progress

TOLERANCE = 0.05  # mm between the keys of scenes


class ExportRequest(msgspec.Struct, frozen=True):
    """What is to be written, and how: ``tolerance`` in mm between keys of motion, ``simplify`` in mm that surfaces may be off, the
    ``sheet`` by name; a check's ``result``, and ``lanes`` with what their ``axis`` is, where there are some already. ``tell`` is told the
    share done."""

    project: Project
    meshes: Mapping[str, Mesh]
    target: Path
    overwrite: bool = False
    tolerance: float = TOLERANCE
    simplify: float = 0.0
    sheet: str | None = None
    result: CheckResult | None = None
    lanes: tuple[Charted, ...] | None = None
    axis: str = "time in s"
    tell: Progress | None = None


class Exported(msgspec.Struct, frozen=True):
    """What was written: the files, these and what is in them in words, and plain data for machines."""

    files: tuple[Path, ...]
    text: str
    data: dict[str, Any] = msgspec.field(default_factory=dict)


class Export(msgspec.Struct, frozen=True):
    """A way to hand a project on. ``stem`` is what its file is called if nothing is said, ``options`` are the names of the request's fields
    that count for it."""

    stem: str
    title: str
    endings: tuple[str, ...]
    holds: str
    loses: str
    write: Callable[[ExportRequest], Exported]
    options: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """A file's name to begin with."""
        return f"{self.stem}{self.endings[0]}"


def _review(request: ExportRequest) -> Exported:
    from kestrav.core.review.review_page import write_review_page

    page = write_review_page(
        request.project,
        request.meshes,
        request.target,
        overwrite=request.overwrite,
        simplify=request.simplify,
        result=request.result,
        progress=request.tell,
    )
    data = {"bytes": len(page.html), "parts": page.contents.parts, "triangles": page.contents.triangles}
    return Exported((request.target,), f"{request.target}: {page.text}", data | {"surfaces_off_mm": page.contents.off})


def _gltf(request: ExportRequest) -> Exported:
    from kestrav.core.files.gltf_export import write_animated

    note = write_animated(
        request.project, request.meshes, request.target, overwrite=request.overwrite, tolerance=request.tolerance
    )
    return _scene(request, note.size, note.moving, note.keys)


def _usd(request: ExportRequest) -> Exported:
    from kestrav.core.files.usd_export import write_usd

    note = write_usd(
        request.project, request.meshes, request.target, overwrite=request.overwrite, tolerance=request.tolerance
    )
    return _scene(request, note.size, note.moving, note.keys)


def _scene(request: ExportRequest, size: int, moving: int, keys: int) -> Exported:
    text = (
        f"{request.target}: {moving} moving nodes in {keys} keys, {size / 1e6:.1f} MB, within {request.tolerance:g} mm"
    )
    return Exported((request.target,), text, {"bytes": size, "moving": moving, "keys": keys})


def _sheets(request: ExportRequest) -> Exported:
    from kestrav.render.step_sheets import pick_sheet, write_step_sheet

    project, sheet = pick_sheet(request.project, request.sheet)
    files = write_step_sheet(
        project, request.meshes, sheet.id, request.target, overwrite=request.overwrite, progress=request.tell
    )
    text = f"{files.file}: {files.steps} steps on {files.pages} pages"
    return Exported((files.file,), text, {"sheet": sheet.name, "pages": files.pages, "steps": files.steps})


def _tables(request: ExportRequest) -> Exported:
    from kestrav.core.files.tables import write_tables

    files = write_tables(request.project, request.meshes, request.target, overwrite=request.overwrite)
    return Exported(tuple(files), ", ".join(map(str, files)))


def _lane_table(request: ExportRequest) -> Exported:
    from kestrav.core.files.charts import write_lane_table

    lanes = _lanes(request)
    write_lane_table(lanes, request.target, request.axis, overwrite=request.overwrite)
    return Exported(
        (request.target,), f"{request.target}: {len(lanes)} lanes", {"lanes": [lane.title for lane in lanes]}
    )


def _chart(request: ExportRequest) -> Exported:
    from kestrav.core.files.charts import write_chart
    from kestrav.core.files.writing import refuse_existing

    refuse_existing(request.target, force=request.overwrite)
    lanes = _lanes(request)
    write_chart(lanes, request.target, request.project.name, request.axis, overwrite=request.overwrite)
    return Exported(
        (request.target,), f"{request.target}: {len(lanes)} curves", {"lanes": [lane.title for lane in lanes]}
    )


def _lanes(request: ExportRequest) -> Sequence[Charted]:
    if request.lanes is not None:
        return request.lanes
    from kestrav.core.findings.charted import charted
    from kestrav.core.findings.check import check

    result = request.result or check(request.project, request.meshes, request.tell)
    return charted(request.project, request.meshes, result.clearance)


def _report(request: ExportRequest) -> Exported:
    from kestrav.render.report_files import write_project_report

    say = request.tell

    def tell(share: float, text: str = "") -> None:
        if say is not None:
            say(share)

    write_project_report(
        request.project, request.meshes, request.target, overwrite=request.overwrite, report=tell, result=request.result
    )
    return Exported((request.target,), str(request.target))


EXPORTS: tuple[Export, ...] = (
    Export(
        "review",
        "Review page",
        (".html",),
        "Product in 3D, motion, film cameras, findings, clearance, lanes, colourways, comments: one file for any browser",
        "Structures of finishes (pictures that came with a product are there), lights, soft shadows; parts that are hidden are left out",
        _review,
        ("simplify",),
    ),
    Export(
        "motion",
        "Animated glTF",
        (".glb",),
        "Parts with hierarchy, finishes with their pictures and structures, motion, cameras",
        "Lights, changing focal lengths, colourways but the shown one; hidden parts have no geometry",
        _gltf,
        ("tolerance",),
    ),
    Export(
        "scene",
        "OpenUSD",
        (".usdc", ".usdz", ".usda"),
        "Parts with hierarchy and instances, finishes with their pictures and structures (in a folder beside the file, in a .usdz within), colourways as variants, motion, cameras with lens and focus, lights; hidden parts as hidden",
        "Sheen and anisotropy; what finishes transmit is told as opacity",
        _usd,
        ("tolerance",),
    ),
    Export(
        "steps",
        "Step sheet",
        (".pdf", ".html"),
        "Numbered steps with drawings, parts list, notes and title block",
        "Motion: each step is one picture",
        _sheets,
        ("sheet",),
    ),
    Export(
        "motion",
        "Motion tables",
        (".csv",),
        "Poses of what moves, angles of what turns, camera tracks, frame by frame",
        "Geometry, and what happens between frames",
        _tables,
    ),
    Export(
        "lanes",
        "Table of the lanes",
        (".csv",),
        "The timeline's curves with their units, one column each",
        "Geometry and poses",
        _lane_table,
    ),
    Export(
        "chart",
        "Chart of the lanes",
        (".svg", ".png"),
        "The timeline's curves with limits and breaches, as a picture",
        "The numbers themselves",
        _chart,
    ),
    Export(
        "report",
        "Project report",
        (".html",),
        "Shots with pictures, paths, runs, wheels, clearance and findings on one page",
        "Motion and 3D",
        _report,
    ),
)
BY_TITLE: dict[str, Export] = {one.title: one for one in EXPORTS}
# what an ending stands for where nothing else is said
_USUAL = {".html": "Project report", ".csv": "Motion tables", ".pdf": "Step sheet"}


def export_for(target: Path, title: str | None = None) -> Export:
    """The way to hand on that a file's ending stands for, or that of a title. Raises BadInput where the two do not fit."""
    ending = target.suffix.lower()
    if title is not None:
        chosen = BY_TITLE[title]
        if ending not in chosen.endings:
            raise BadInput(
                f"“{target}” has an ending that a {title.lower()} cannot have: give {' or '.join(chosen.endings)}"
            )
        return chosen
    fitting = [one for one in EXPORTS if ending in one.endings]
    if not fitting:
        known = ", ".join(dict.fromkeys(e for one in EXPORTS for e in one.endings))
        raise BadInput(f"“{target}” has an ending that is not known: give one of {known}")
    return BY_TITLE[_USUAL[ending]] if ending in _USUAL else fitting[0]
