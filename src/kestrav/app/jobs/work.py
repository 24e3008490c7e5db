"""The work that jobs do, as functions a child process can be given."""

from __future__ import annotations

import time as clock
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.app.jobs.jobs import Report
from kestrav.core.clearance.contacts import Touch
from kestrav.core.clearance.fits import Fit, fits_at_rest
from kestrav.core.clearance.swept import SweptVolume
from kestrav.core.clearance.triggers import all_touches
from kestrav.core.document.light_setup import Surroundings
from kestrav.core.document.records import Comment, Project, SavedView, Shot, Step
from kestrav.core.extraction.disassembly import Order
from kestrav.core.extraction.search import ExtractionPath, ExtractionRequest, NoExtractionPath
from kestrav.core.files.path_files import PathsFile, read_paths
from kestrav.core.files.product_import import Imported, read_product
from kestrav.core.files.product_tree import Upward
from kestrav.core.findings.check import CheckResult
from kestrav.core.geometry.meshes import Mesh

if TYPE_CHECKING:
    from kestrav.core.files.pose_tables import Keyed
    from kestrav.render.exports import ExportRequest
    from kestrav.render.render_queue import Request


def render_request(report: Report, project: Project, meshes: Mapping[str, Mesh], request: Request) -> Path:
    """Render shots or a still, going on from frames of an earlier try; the person has already agreed to overwrite."""
    from kestrav.render.render_queue import render

    return render(project, meshes, request, *_progress(report, request))


def render_kept(report: Report, folder: Path, request: Request) -> Path:
    """The same with a project that was kept before the last start."""
    from kestrav.render.render_queue import render_kept as render

    return render(folder, request, *_progress(report, request))


def _progress(report: Report, request: Request) -> tuple[Callable[[int, int], None], Callable[[float, object], None]]:
    """What is told while a request is done: how far, and a still as far as it is."""

    def tell(done: int, total: int) -> None:
        report(min(done / total, 0.999), "" if request.time is not None else f"frame {done} of {total}")

    return tell, lambda share, picture: report(min(share, 0.999), picture=picture)


def frame_takes(report: Report, project: Project, meshes: Mapping[str, Mesh], shot: Shot) -> float:
    """Seconds that a frame of a shot takes, made by one process, in the shot's middle."""
    import os

    os.environ |= {"LP_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    from kestrav.core.camera.adjusting import camera_of
    from kestrav.render.studios import studio_of

    report(0.0)
    studio = studio_of(project, meshes, shot, shot.width, shot.height)
    camera, middle = camera_of(project, shot.camera), 0.5 * (shot.start + shot.end)
    # the first one also fills what is kept
    studio.picture(camera, middle)
    began = clock.perf_counter()
    studio.picture(camera, middle)
    took = clock.perf_counter() - began
    studio.close()
    return took


def read_surroundings(report: Report, file: Path) -> Surroundings:
    """Read a picture of what is around."""
    from kestrav.core.files.environment_files import read_surroundings as read

    report(0.0)
    return read(file)


def read_poses(report: Report, project: Project, file: Path) -> list[Keyed]:
    """Read a table of poses as key poses of things of a project."""
    from kestrav.core.files.pose_tables import keyed_poses

    report(0.0)
    return keyed_poses(project, file)


def read_comments(report: Report, file: Path) -> tuple[Comment, ...]:
    """Read comments that a review page saved."""
    from kestrav.core.review.comment_files import read_comments as read

    report(0.0)
    return read(file)


def step_seen(report: Report, project: Project, meshes: Mapping[str, Mesh], step: Step) -> tuple[float, SavedView]:
    """When a step of a sheet is shown, and from where."""
    from kestrav.core.sheets.steps import shown_in, view_of

    report(0.0)
    shown = shown_in(project, meshes, step)
    return shown.time, view_of(project, meshes, step, shown, 4 / 3)


def review_sizes(
    report: Report, project: Project, meshes: Mapping[str, Mesh], levels: Sequence[float]
) -> dict[float, int]:
    """About how many bytes a review page has whose surfaces may be off by these distances in mm."""
    from kestrav.core.review.packed_scene import about_bytes

    sizes = {}
    for k, level in enumerate(levels):
        report(k / len(levels))
        sizes[level] = about_bytes(project, meshes, level)
    return sizes


def hand_on(report: Report, title: str, request: ExportRequest) -> str:
    """Write what a project is handed on as; the person has already agreed to overwrite."""
    from kestrav.render.exports import BY_TITLE

    report(0.0)
    return BY_TITLE[title].write(msgspec.structs.replace(request, tell=report)).text


def film_strip(
    report: Report,
    project: Project,
    meshes: Mapping[str, Mesh],
    shot: Shot,
    times: list[float],
    width: int,
) -> list[NDArray[np.uint8]]:
    """Small pictures (height, width, 3) of a shot at times in s."""
    from kestrav.render.contact_sheet import small_pictures

    return small_pictures(project, meshes, shot, times, width, lambda number: report(number / len(times)))


def film_pictures(
    report: Report, project: Project, meshes: Mapping[str, Mesh], width: int, count: int
) -> dict[str, tuple[list[NDArray[np.uint8]], float, float]]:
    """For each shot, by its id: so many small pictures, and the dead time in s at its beginning and its end."""
    from kestrav.core.camera.filmed import live_span
    from kestrav.render.contact_sheet import even_times, small_pictures

    film_pictures = {}
    for k, shot in enumerate(project.shots):
        report(k / len(project.shots))
        first, last = live_span(project, meshes, shot)
        pictures = small_pictures(project, meshes, shot, even_times(shot, count), width)
        film_pictures[shot.id] = (pictures, first - shot.start, shot.end - last)
    return film_pictures


def write_sheet(report: Report, project: Project, meshes: Mapping[str, Mesh], shots: list[Shot], target: Path) -> str:
    """Write a contact sheet; the person has already agreed to overwrite."""
    from kestrav.render.contact_sheet import contact_sheet

    return f"Written: {contact_sheet(project, meshes, shots, target, lambda done, total: report(done / total), overwrite=True)}"


def import_paths(report: Report, files: list[Path]) -> list[PathsFile]:
    """Read the curves of path files."""
    files_read = []
    for number, file in enumerate(files):
        report(number / len(files))
        files_read.append(read_paths(file))
    return files_read


def import_products(
    report: Report, files: list[Path], chord: float | None = None, up: Upward | None = None, unit: float | None = None
) -> list[Imported]:
    """Read product files; ``unit`` is for files that do not say theirs."""
    # larger files take longer; progress goes by their sizes
    sizes = [max(file.stat().st_size, 1) if file.exists() else 1 for file in files]
    done, total = 0, sum(sizes)
    products = []
    for file, size in zip(files, sizes, strict=True):
        report(done / total)
        products.append(
            read_product(
                file, chord, unit, up, partial(lambda at, of, share: report((at + share * of) / total), done, size)
            )
        )
        done += size
    return products


def list_contacts(report: Report, project: Project, meshes: Mapping[str, Mesh]) -> tuple[Touch, ...]:
    """Every coming together of what moves with the rest."""
    return all_touches(project, meshes, report)


def list_fits(report: Report, project: Project, meshes: Mapping[str, Mesh]) -> tuple[Fit, ...]:
    """How parts meet as all stands at rest."""
    return fits_at_rest(project, meshes, report)


def swept_space(
    report: Report,
    project: Project,
    meshes: Mapping[str, Mesh],
    thing: str,
    start: float,
    end: float,
    tolerance: float | None,
) -> SweptVolume:
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


def find_extraction_path(
    report: Report, project: Project, meshes: Mapping[str, Mesh], things: list[str], request: ExtractionRequest
) -> ExtractionPath | NoExtractionPath:
    """A way for things to leave what they are in."""
    from kestrav.core.extraction.search import find_extraction_path as look

    def tell(stage: str, share: float, best: str) -> None:
        report(share, f"{stage} · best so far: {best}" if best else stage)

    return look(project, meshes, things, request, tell)


def order_of(report: Report, project: Project, meshes: Mapping[str, Mesh], things: list[str]) -> Order:
    """The order in which things come out; what was found so far when it is stopped."""
    from kestrav.core.extraction.disassembly import order_of as look

    return look(project, meshes, things, tick=report)
