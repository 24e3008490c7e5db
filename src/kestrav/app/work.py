"""The work that jobs do, as functions a child process can be given."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from kestrav.app.jobs import Report
from kestrav.core.clearance.contacts import Touch
from kestrav.core.clearance.cues import all_touches
from kestrav.core.clearance.swept import SweptSpace
from kestrav.core.document.records import Project, Shot
from kestrav.core.extraction.taking_apart import Order
from kestrav.core.extraction.ways import NoWay, WayOut, Wish
from kestrav.core.files.path_files import PathsFile, read_paths
from kestrav.core.files.product_import import Imported, read_product
from kestrav.core.files.product_tree import Upward
from kestrav.core.findings.check import CheckResult
from kestrav.core.geometry.meshes import Mesh


def render_film(report: Report, project: Project, meshes: Mapping[str, Mesh], shot: Shot, target: Path) -> Path:
    """Render a shot; the person has already agreed to overwrite."""
    from kestrav.render.film import render_shot

    return render_shot(project, meshes, shot, target, lambda done, total: report(done / total), overwrite=True)


def render_picture(
    report: Report, project: Project, meshes: Mapping[str, Mesh], shot: Shot, time: float, target: Path
) -> Path:
    """Render a still."""
    from kestrav.render.film import render_still

    report(0.0)
    return render_still(project, meshes, shot, time, target, overwrite=True)


def import_paths(report: Report, files: list[Path]) -> list[PathsFile]:
    """Read the curves of path files."""
    found = []
    for number, file in enumerate(files):
        report(number / len(files))
        found.append(read_paths(file))
    return found


def import_products(
    report: Report, files: list[Path], chord: float | None = None, up: Upward | None = None, unit: float | None = None
) -> list[Imported]:
    """Read product files; ``unit`` is for files that do not say theirs."""
    # larger files take longer; progress goes by their sizes
    sizes = [max(file.stat().st_size, 1) if file.exists() else 1 for file in files]
    done, total = 0, sum(sizes)
    found = []
    for file, size in zip(files, sizes, strict=True):
        report(done / total)
        found.append(
            read_product(file, chord, unit, up, lambda share, at=done, of=size: report((at + share * of) / total))
        )
        done += size
    return found


def list_contacts(report: Report, project: Project, meshes: Mapping[str, Mesh]) -> tuple[Touch, ...]:
    """Every coming together of what moves with the rest."""
    return all_touches(project, meshes, report)


def swept_space(
    report: Report,
    project: Project,
    meshes: Mapping[str, Mesh],
    thing: str,
    start: float,
    end: float,
    tolerance: float | None,
) -> SweptSpace:
    """The space that a thing sweeps."""
    from kestrav.core.clearance.swept import swept_space as work_out

    return work_out(project, meshes, thing, start, end, tolerance, report)


def write_report(
    report: Report, project: Project, meshes: Mapping[str, Mesh], result: CheckResult, target: Path
) -> list[Path]:
    """Write a check's report; the person has already agreed to overwrite."""
    from kestrav.render.clearance_report import write_report as write

    report(0.0)
    return write(project, meshes, result, target)


def find_way(
    report: Report, project: Project, meshes: Mapping[str, Mesh], things: list[str], wish: Wish
) -> WayOut | NoWay:
    """A way for things to leave what they are in."""
    from kestrav.core.extraction.ways import find_way as look

    def tell(stage: str, share: float, best: str) -> None:
        report(share, f"{stage} · best so far: {best}" if best else stage)

    return look(project, meshes, things, wish, tell)


def order_of(report: Report, project: Project, meshes: Mapping[str, Mesh], things: list[str]) -> Order:
    """The order in which things come out."""
    from kestrav.core.extraction.taking_apart import order_of as look

    return look(project, meshes, things, tick=report)
