"""The work that jobs do, as functions a child process can be given."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from kestrav.app.jobs import Report
from kestrav.core.document.records import Project, Shot
from kestrav.core.files.product_import import Imported, read_product
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


def import_products(report: Report, files: list[Path]) -> list[Imported]:
    """Read product files."""
    found = []
    for number, file in enumerate(files):
        report(number / len(files))
        found.append(read_product(file))
    return found
