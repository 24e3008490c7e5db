"""Step sheets as files: their pictures, by lines or as quick pictures, on pages of PDF or HTML."""

from __future__ import annotations

import datetime
import io
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from kestrav.core.document.comments import SavedView
from kestrav.core.document.edits import add
from kestrav.core.document.lookup import get_as, new_id
from kestrav.core.document.records import Camera, PointAim, Project, Shot, StepSheet
from kestrav.core.errors import BadInput
from kestrav.core.files.writing import refuse_existing, write_whole
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.later import later
from kestrav.core.progress import Progress
from kestrav.core.sheets.layout import pages_of
from kestrav.core.sheets.paper import as_html, as_pdf
from kestrav.core.sheets.steps import make_sheet
from kestrav.render.picture import Studio

if TYPE_CHECKING:
    from PIL import Image
else:
    Image = later("PIL.Image")

ENDINGS = (".pdf", ".html")
_TALL = 620  # pixels of a shaded picture


class SheetFile(msgspec.Struct, frozen=True):
    """A step sheet that was written: where, its pages and its steps."""

    file: Path
    pages: int
    steps: int


def pick_sheet(project: Project, name: str | None) -> tuple[Project, StepSheet]:
    """A project's step sheet by its name or id, or its only one; one of all that moves is made where it has none.

    Raises BadInput for a name that is not there, or where there are several and none is named.
    """
    if name is None and not project.sheets:
        project = make_sheet(project, name=project.name or "Step sheet")
    sheets = [one for one in project.sheets if name is None or name in (one.name, one.id)]
    if len(sheets) == 1:
        return project, sheets[0]
    names = ", ".join(f"“{one.name}”" for one in project.sheets)
    if not sheets:
        raise BadInput(f"no step sheet is called “{name}”; there are {names or 'none'}")
    raise BadInput(f"there are several step sheets; name one of {names}")


def write_step_sheet(
    project: Project,
    meshes: Mapping[str, Mesh],
    sheet_id: str,
    target: Path,
    *,
    overwrite: bool = False,
    progress: Progress | None = None,
    date: str | None = None,
) -> SheetFile:
    """Write a step sheet as ``.pdf`` or ``.html``, with a date (today, if none is given). Raises BadInput for another ending, or a file that
    is there or cannot be written."""
    ending = target.suffix.lower()
    if ending not in ENDINGS:
        raise BadInput(f"“{target}” has an ending that is not known: give {' or '.join(ENDINGS)}")
    refuse_existing(target, force=overwrite)
    sheet = get_as(project, sheet_id, StepSheet)
    day = date if date is not None else datetime.date.today().isoformat()
    pictures = _Pictures(project, meshes)
    try:
        shaded = pictures if sheet.look == "shaded" else None
        pages = pages_of(project, meshes, sheet, day, shaded, progress)
    finally:
        pictures.close()
    data = as_pdf(pages, sheet.name, sheet.author) if ending == ".pdf" else as_html(pages, sheet.name)
    write_whole(target, data)
    if progress is not None:
        progress(1.0)
    return SheetFile(target, len(pages), len(sheet.steps))


class _Pictures:
    """Makes quick pictures of a project from any viewpoint; a studio for each size."""

    def __init__(self, project: Project, meshes: Mapping[str, Mesh]) -> None:
        self._project, self._meshes = project, meshes
        self._studios: dict[int, Studio] = {}

    def __call__(self, time: float, view: SavedView, aspect: float) -> bytes:
        """A picture (PNG) at a time in s, from a viewpoint, of an aspect (width by height)."""
        wide = round(_TALL * aspect)
        if wide not in self._studios:
            # a studio is one of a shot's camera, though it looks from elsewhere here
            camera = Camera(new_id(self._project, Camera), "View", PointAim(view.target))
            shot = Shot(new_id(self._project, Shot), "View", camera.id, background="#ffffff", floor="none")
            self._studios[wide] = Studio(add(self._project, camera, shot), self._meshes, shot, wide, _TALL)
        place, target, up = (np.array(v) for v in (view.position, view.target, view.up))
        poses = world_poses(self._project, [time])[0]
        picture = self._studios[wide].picture_from(place, target, up, float(np.radians(view.angle)), poses, time)
        out = io.BytesIO()
        Image.fromarray(picture[..., :3]).save(out, format="PNG", optimize=True)
        return out.getvalue()

    def close(self) -> None:
        """Let go of the studios."""
        for studio in self._studios.values():
            studio.close()
