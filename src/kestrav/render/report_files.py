"""The report of a project as a file: pictures of its shots, its check, and the page."""

from __future__ import annotations

import io
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from kestrav.core.camera.adjusting import camera_of
from kestrav.core.document.records import Project, Shot
from kestrav.core.document.shots import frame_count, frame_time
from kestrav.core.errors import BadInput
from kestrav.core.files.writing import write_whole
from kestrav.core.findings.check import CheckResult, certified, check
from kestrav.core.findings.page import Figure
from kestrav.core.findings.project_report import as_page
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.later import later
from kestrav.render.picture import Studio

if TYPE_CHECKING:
    from PIL import Image
else:
    Image = later("PIL.Image")

_WIDE = 480  # pixels of a picture
_PICTURES = 3  # of each shot
Report = Callable[..., None]


def write_project_report(
    project: Project,
    meshes: Mapping[str, Mesh],
    target: Path,
    *,
    overwrite: bool = False,
    report: Report | None = None,
    result: CheckResult | None = None,
) -> Path:
    """Write a project's report; checks it first where no result is handed in. ``report`` is told the share done and what is
    done. Raises BadInput for another ending, or a file that is there or cannot be written."""
    if target.suffix.lower() != ".html":
        raise BadInput(f"“{target}” has an ending that is not known: give .html")
    if target.exists() and not overwrite:
        raise BadInput(f"“{target}” is there already; give another name, or allow it to be overwritten")
    tell = report or (lambda share, text="": None)
    if result is None:
        tell(0.0, "checking")
        checked = check(project, meshes, lambda share: tell(0.4 * share, "checking"))
        result = certified(
            project, meshes, checked, lambda share: tell(0.4 + 0.3 * share, "looking between the frames")
        )
    pictures: dict[str, list[Figure]] = {}
    for k, shot in enumerate(project.shots):
        tell(0.7 + 0.3 * k / len(project.shots), f"pictures of {shot.name}")
        pictures[shot.id] = _pictures(project, meshes, shot)
    write_whole(target, as_page(project, result, pictures).encode("utf-8"))
    tell(1.0, "")
    return target


def _pictures(project: Project, meshes: Mapping[str, Mesh], shot: Shot) -> list[Figure]:
    height = max(round(_WIDE * shot.height / shot.width), 16)
    studio = Studio(project, meshes, shot, _WIDE, height)
    pictures = []
    try:
        for frame in np.unique(np.linspace(0, frame_count(shot) - 1, _PICTURES).astype(int)).tolist():
            time = frame_time(shot, frame)
            out = io.BytesIO()
            Image.fromarray(studio.picture(camera_of(project, shot.camera), time)).save(out, format="PNG")
            pictures.append(Figure(out.getvalue(), f"{shot.name} at {time:.2f} s, frame {frame}"))
    finally:
        studio.close()
    return pictures
