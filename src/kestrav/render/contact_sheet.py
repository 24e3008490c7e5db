"""A contact sheet: small pictures of shots at even steps, with their times, on one page."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from kestrav.core.camera.adjusting import camera_of
from kestrav.core.document.records import OnPicture, Project, QualityName, Shot
from kestrav.core.document.shots import film_frames, frame_count, frame_time
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.later import later
from kestrav.render.film import check_target
from kestrav.render.inscriptions import LEGIBLE, font, one_line
from kestrav.render.palette import INK, PAPER, RULE
from kestrav.render.picture import Picture, Studio
from kestrav.render.sinks import save_png

if TYPE_CHECKING:
    from PIL import Image, ImageDraw
else:
    Image = later("PIL.Image")
    ImageDraw = later("PIL.ImageDraw")

_WIDE, _GAP, _EDGE = 380, 14, 40  # pixels of a picture's width, between pictures, around all
_HEAD, _LINE = 34, 22  # pixels of a shot's heading and of a caption
_COLUMNS = 4

Progress = Callable[[int, int], None]


def small_pictures(
    project: Project,
    meshes: Mapping[str, Mesh],
    shot: Shot,
    times: Sequence[float],
    width: int,
    tell: Callable[[int], None] | None = None,
    quality: QualityName = "preview",
) -> list[Picture]:
    """Pictures of a shot at times in s, of a width in pixels; very small ones without what could not be read on them."""
    height = max(round(width * shot.height / shot.width), 8)
    shows = shot.shows if width >= LEGIBLE else OnPicture()
    studio = Studio(
        project, meshes, msgspec.structs.replace(shot, quality=quality, shows=shows, shutter=0.0), width, height
    )
    camera, small_pictures = camera_of(project, shot.camera), []
    try:
        for number, time in enumerate(times):
            if tell is not None:
                tell(number)
            small_pictures.append(studio.picture(camera, time))
    finally:
        studio.close()
    return small_pictures


def even_times(shot: Shot, count: int) -> list[float]:
    """Times in s of so many of a shot's frames, from its first to its last in even steps."""
    frames = np.unique(np.rint(np.linspace(0, frame_count(shot) - 1, count)).astype(int))
    return [frame_time(shot, int(frame)) for frame in frames]


def contact_sheet(
    project: Project,
    meshes: Mapping[str, Mesh],
    shots: Sequence[Shot],
    target: Path,
    progress: Progress | None = None,
    *,
    overwrite: bool = False,
    rows: int = 2,
) -> Path:
    """Write a contact sheet of shots as PNG, with so many rows of pictures for each. Raises BadInput where it cannot be written."""
    check_target(target, overwrite=overwrite)
    if target.suffix.lower() != ".png":
        raise BadInput(f"“{target}” cannot be a contact sheet; end it in .png")
    if not shots:
        raise BadInput("there is no shot for the contact sheet; add one")
    wanted = [(shot, even_times(shot, rows * _COLUMNS)) for shot in shots]
    total, done = sum(len(times) for _, times in wanted), 0
    wide = 2 * _EDGE + _COLUMNS * _WIDE + (_COLUMNS - 1) * _GAP
    blocks = []
    for shot, times in wanted:
        tell = None if progress is None else lambda k, at=done: progress(at + k, total)
        blocks.append((shot, times, small_pictures(project, meshes, shot, times, _WIDE, tell, "good")))
        done += len(times)
    high = 2 * _EDGE + 60
    for _, times, pictures in blocks:
        high += _HEAD + -(-len(times) // _COLUMNS) * (pictures[0].shape[0] + _LINE + _GAP) + _GAP
    page = Image.new("RGB", (wide, high), PAPER)
    pen = ImageDraw.Draw(page)
    pen.text((_EDGE, _EDGE - 8), one_line(project.name), INK, font(30, strong=True), anchor="la")
    seconds = len(film_frames(list(shots), shots[0].fps)) / shots[0].fps
    pen.text(
        (wide - _EDGE, _EDGE + 4),
        f"{len(shots)} {'shot' if len(shots) == 1 else 'shots'} · {seconds:.2f} s",
        INK,
        font(17, strong=False),
        anchor="ra",
    )
    y = _EDGE + 60
    for shot, times, pictures in blocks:
        pen.line([(_EDGE, y - 8), (wide - _EDGE, y - 8)], RULE, 1)
        pen.text((_EDGE, y), one_line(shot.name), INK, font(18, strong=True), anchor="la")
        about = f"{shot.start:.2f} to {shot.end:.2f} s · {frame_count(shot)} frames · {shot.width} × {shot.height} · {shot.fps:g} fps"
        pen.text((wide - _EDGE, y + 2), about, INK, font(15, strong=False), anchor="ra")
        y += _HEAD
        for k, (time, picture) in enumerate(zip(times, pictures, strict=True)):
            row, column = divmod(k, _COLUMNS)
            at = _EDGE + column * (_WIDE + _GAP), y + row * (picture.shape[0] + _LINE + _GAP)
            image = Image.fromarray(picture)
            page.paste(image.convert("RGB"), at, image.getchannel("A") if image.mode == "RGBA" else None)
            pen.text((at[0], at[1] + picture.shape[0] + 3), f"{time:.2f} s", INK, font(14, strong=False), anchor="la")
        y += -(-len(times) // _COLUMNS) * (pictures[0].shape[0] + _LINE + _GAP) + _GAP
    try:
        save_png(np.asarray(page), target, {"title": project.name, "comment": f"contact sheet of {len(shots)} shots"})
    except OSError as fault:
        raise BadInput(f"“{target}” cannot be written: {fault.strerror or fault}") from fault
    if progress is not None:
        progress(total, total)
    return target
