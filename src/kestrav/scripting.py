"""Kestrav without a window: ``import kestrav`` and work with projects.

    project = kestrav.new("cabinet.step")
    project.turntable(seconds=12)
    project.render("turntable.mp4")

Everything here is meant to last; all else is internal. Things are named as in the window, or by their ids. Lengths are mm, times s, angles
degrees; arrays are NumPy's. What cannot be done raises :class:`kestrav.Error` with a sentence that says what and why.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path as FilePath
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike

from kestrav.core.document import edits
from kestrav.core.document.records import Project as Document
from kestrav.core.errors import BadInput as Error
from kestrav.core.files import project_file
from kestrav.core.geometry.meshes import Mesh
from kestrav.project_edits import ProjectEdits
from kestrav.results import Array, Check, Contents, Delivery, Extraction, File, Finding, Rendered

if TYPE_CHECKING:
    from kestrav.core.document.records import Shot
    from kestrav.render.cluster import Cluster
    from kestrav.render.exports import Exported

__all__ = [
    "Check",
    "Contents",
    "Delivery",
    "Error",
    "Extraction",
    "Finding",
    "Project",
    "Rendered",
    "info",
    "new",
    "open",
]


def open(file: File) -> Project:
    """Open a project. Raises Error naming the file."""
    place = FilePath(file)
    opened = project_file.load(place)
    return Project(opened.project, opened.meshes, place)


def info(file: File) -> Contents:
    """What a project or a CAD or mesh file holds. Raises Error where it is neither."""
    from kestrav.core.files.info import describe

    data, text = describe(FilePath(file))
    return Contents(text, data)


def new(
    *products: File, name: str = "", unit: str | None = None, tolerance: float | None = None, up: str | None = None
) -> Project:
    """A new project of CAD or mesh files; see :meth:`Project.add_product`."""
    edited = Project(Document(name=name or (FilePath(products[0]).stem if products else "Project")), {}, None)
    for product in products:
        edited.add_product(product, unit, tolerance, up)
    return edited


class Project(ProjectEdits):
    """An open project. Its methods change it in place; :meth:`undo` takes the last change back."""

    def __init__(self, document: Document, meshes: Mapping[str, Mesh], file: FilePath | None) -> None:
        super().__init__(document, meshes, file)
        self.rendered: list[Rendered] = []  # what was rendered of it here

    # what it holds

    @property
    def name(self) -> str:
        """Its name."""
        return self._document.name

    @property
    def parts(self) -> tuple[str, ...]:
        """The names of its parts and assemblies, in the order of :meth:`poses`."""
        return tuple(part.name for part in self._document.parts)

    @property
    def part_ids(self) -> tuple[str, ...]:
        """Their ids, which are unlike each other where names are not."""
        return tuple(part.id for part in self._document.parts)

    @property
    def products(self) -> tuple[str, ...]:
        """The names of the outermost of them."""
        return tuple(part.name for part in self._document.parts if part.parent is None)

    @property
    def paths(self) -> tuple[str, ...]:
        """The names of its paths."""
        return tuple(path.name for path in self._document.paths)

    @property
    def runs(self) -> tuple[str, ...]:
        """The names of its runs."""
        return tuple(run.name for run in self._document.runs)

    @property
    def cameras(self) -> tuple[str, ...]:
        """The names of its cameras."""
        return tuple(camera.name for camera in self._document.cameras)

    @property
    def shots(self) -> tuple[str, ...]:
        """The names of its shots, in the order of the film."""
        return tuple(shot.name for shot in self._document.shots)

    @property
    def duration(self) -> float:
        """When the last motion ends, in s."""
        from kestrav.core.kinematics.runs import span

        return span(self._document)

    def poses(self, times: ArrayLike) -> Array:
        """World matrices (n, parts, 4, 4) of all parts at times (n,) in s."""
        from kestrav.core.kinematics.poses import world_poses

        return np.array(world_poses(self._document, np.atleast_1d(np.asarray(times, float))))

    def span_of(self, motion: str) -> tuple[float, float]:
        """When a run, attachment or pose track begins and ends, in s; infinite where it never does."""
        from kestrav.core.document.lookup import called, get
        from kestrav.core.document.records import Attachment, PoseTrack, Run
        from kestrav.core.kinematics.motion_segments import segment_of

        item = get(self._document, called(self._document, motion))
        if not isinstance(item, Run | Attachment | PoseTrack):
            raise Error(f"“{item.name}” is no run, attachment or pose track")
        segment = segment_of(self._document, item)
        return float(segment.start), float(segment.end)

    def pivot(self, part: str, time: float = 0.0) -> dict[str, tuple[float, ...]]:
        """Where a part's pivot is at a time in s: its ``position`` in mm and its ``rotation`` as a quaternion (w, x, y, z), as key poses have
        them."""
        import msgspec

        from kestrav.core.kinematics.motion import Motion
        from kestrav.core.parts.placing import placement
        from kestrav.core.parts.rest import rest_and_pivot

        wanted = self._part(part)
        matrix = Motion(self._document).poses(wanted, [time])[0] @ rest_and_pivot(self._document, wanted)[1]
        return msgspec.structs.asdict(placement(matrix))

    def path_length(self, path: str) -> float:
        """How long a path is, in mm."""
        from kestrav.core.paths.path_curves import path_curve

        return float(path_curve(self._path(path)).length)

    def wheel_turns(self, time: float | None = None) -> dict[str, float]:
        """The turns of each wheel, by its name, until a time in s or in all."""
        from kestrav.core.editing.wheel_making import turns_of

        return {wheel.name: float(turns_of(self._document, wheel, time)) for wheel in self._document.wheels}

    # asking, and handing on

    def check(
        self,
        span: tuple[float, float] | None = None,
        *,
        certify: bool = True,
        required: float | None = None,
        pairs: Sequence[str] = (),
        only_pairs: bool = False,
    ) -> Check:
        """Find every fault, and measure the clearance over the whole motion or a span in s; between the frames too if it is to ``certify``.

        ``required`` is the clearance in mm in place of the project's; ``pairs`` ask for others: “PART:PART=MM”, “PART=MM” or “…=off”, and
        ``only_pairs`` for these alone.
        """
        from kestrav.core.findings.check import certified, check
        from kestrav.core.findings.typed_requirements import with_pairs

        document = self._document
        if required is not None:
            document = edits.settings(document, required_clearance=required)
        document = with_pairs(document, list(pairs), only=only_pairs)
        result = check(document, self._meshes, over=span)
        return Check(document, self._meshes, certified(document, self._meshes, result) if certify else result)

    def extract(self, *parts: str, keep: bool = True, deeper: float = 0.0, **request: Any) -> Extraction:
        """Find a way for parts to leave what they are in, and add it to the project if it is to be kept. ``request``: ``required`` clearance in mm,
        ``upright``, ``tilt`` in degrees, ``seconds`` at most for a stage; ``allowed`` directions, ``room``, ``target``, as ``kestrav extract``
        has them in words; ``onto`` and ``aside`` name parts. Contacts may get ``deeper`` by some mm on the way."""
        from kestrav.core.extraction.extraction_report import as_data, as_text
        from kestrav.core.extraction.search import (
            ExtractionPath,
            ExtractionRequest,
            add_extraction_path,
            find_extraction_path,
        )
        from kestrav.core.extraction.snaps import contacts_deeper
        from kestrav.core.extraction.typed import read_direction, read_room, target_at

        things = [self._part(part) for part in parts]
        if not things:
            raise Error("name the parts that are to leave")
        if request.get("onto") is not None:
            request["onto"] = self._part(request["onto"])
        request["aside"] = tuple(self._part(name) for name in request.get("aside") or ())
        request["allowed"] = tuple(read_direction(d) if isinstance(d, str) else d for d in request.get("allowed") or ())
        if isinstance(request.get("room"), str):
            request["room"] = read_room(request["room"])
        if isinstance(request.get("target"), str):
            request["target"] = target_at(self._document, things[0], request["target"])
        try:
            asked = ExtractionRequest(**request)
        except TypeError as fault:
            raise Error(f"an extraction path cannot be asked for so: {fault}") from fault
        document = contacts_deeper(self._document, self._meshes, things, deeper) if deeper > 0 else self._document
        result = find_extraction_path(document, self._meshes, things, asked)
        extract = Extraction(isinstance(result, ExtractionPath), as_text(document, result), as_data(document, result))
        if keep and isinstance(result, ExtractionPath):
            self._change(add_extraction_path(document, things, result))
        return extract

    def disassemble(
        self,
        *parts: str,
        required: float | None = None,
        speed: float | None = None,
        together: bool = False,
        start: float = 0.0,
        keep: bool = True,
    ) -> Extraction:
        """Find the order in which parts, or all in one assembly, come out, and add the runs to the project if they are to be kept: from a ``start``
        in s at a ``speed`` in mm/s, or ``together``, so that they assemble. ``required`` is the clearance in mm in place of the project's."""
        from kestrav.core.extraction.disassembly import add_sequence, order_of, parts_of
        from kestrav.core.extraction.extraction_report import order_as_data, order_as_text

        if speed is not None and speed <= 0:
            raise Error(f"a speed of {speed:g} mm/s is not possible; give more than 0")
        things = [self._part(part) for part in parts]
        order = order_of(self._document, self._meshes, parts_of(self._document, things), required)
        document = self._document
        if keep and order.removals:
            self._change(add_sequence(document, order, start, speed, together=together))
        return Extraction(not order.left, order_as_text(document, order), order_as_data(document, order))

    def contacts(self, out: File | None = None, *, overwrite: bool = False) -> Contents:
        """Which parts touch, fit or interfere at rest, and by how much; as a table in a .csv too, if one is named."""
        from kestrav.core.clearance.fits import fits_at_rest
        from kestrav.core.files.writing import refuse_existing, write_whole
        from kestrav.core.findings.report import fits_as_csv, fits_as_data, fits_as_text

        if out is not None:
            refuse_existing(FilePath(out), force=overwrite, otherwise="overwrite=True to replace it")
        fits = fits_at_rest(self._document, self._meshes)
        if out is not None:
            write_whole(FilePath(out), fits_as_csv(self._document, fits).encode())
        return Contents(fits_as_text(self._document, fits), {"contacts": fits_as_data(self._document, fits)})

    def render(
        self,
        out: File,
        shot: str | Iterable[str] | None = None,
        at: float | None = None,
        *,
        film: bool | None = None,
        size: str | None = None,
        fps: float | None = None,
        look: str | None = None,
        quality: str | None = None,
        samples: int | None = None,
        background: str | None = None,
        span: str | None = None,
        colourway: str | None = None,
        all_colourways: bool = False,
        bits: int = 8,
        codec: str = "h264",
        transparent: bool = False,
        resume: bool = False,
        processes: int | None = None,
        cluster: Cluster | None = None,
        progress: Callable[[int, int], None] | None = None,
        overwrite: bool = False,
    ) -> FilePath:
        """Render shots, one after another, to a film or a folder; or a still at a time in s, where ``out`` is a .png or .exr.

        Without a name it is the first shot, or for a film all shots that are in it unless ``film`` is False. ``size`` as 1280x720, ``span`` as
        first:last in s of one shot, ``background`` as #rrggbb, #rrggbb:#rrggbb or clear. With ``all_colourways`` it is made once in each, its name
        added to the file's. ``resume`` goes on with an earlier attempt; ``progress`` is told frames done and in all. What was made is noted in
        :attr:`rendered`. Returns the (first) file.
        """
        from kestrav.core.document.shots import film_frames
        from kestrav.render.film import render_film, render_still
        from kestrav.render.formats import beside_named, is_still, read_bits

        target, deep = FilePath(out), read_bits(bits)
        if codec not in ("h264", "av1"):
            raise Error(f"the codec “{codec}” is not known: give h264 or av1")
        if processes is not None and processes < 1:
            raise Error(f"{processes} processes cannot work at it; give 1 or more")
        still = is_still(target)
        settings = (size, fps, background, span, look, quality, samples)
        if film is None:
            film = not still and any(one.in_film for one in self._document.shots)
        shots = self._picked(shot, film=film, settings=settings, colourway=colourway)
        when = (shots[0].start if at is None else at) if still else None
        if when is not None and when < 0:
            raise Error(f"a still at {when:g} s is not possible; time begins at 0")
        if at is not None and not still:
            raise Error("a time belongs to a still; end the output in .png or .exr")
        outputs = [(target, shots)]
        if all_colourways:
            from kestrav.core.editing.finishing import in_all_colourways

            targets = in_all_colourways(self._document, shots)
            outputs = [(beside_named(target, name), dressed) for name, dressed in targets]
        for file, wanted in outputs:
            began, first = time.monotonic(), wanted[0]
            if when is not None:
                render_still(
                    self._document,
                    self._meshes,
                    first,
                    when,
                    file,
                    overwrite=overwrite,
                    alpha=transparent,
                    progress=progress,
                    bits=deep,
                )
                frames = 1
            else:
                options: dict[str, Any] = {"alpha": transparent, "codec": codec, "bits": deep, "resume": resume}
                options |= {"processes": processes, "cluster": cluster}
                render_film(self._document, self._meshes, wanted, file, progress, overwrite=overwrite, **options)
                frames = len(film_frames(wanted, first.fps))
            names = tuple(one.name for one in wanted)
            took = time.monotonic() - began
            self.rendered.append(Rendered(file, names, frames, first.fps, (first.width, first.height), took, when))
        return outputs[0][0]

    def contact_sheet(
        self,
        out: File,
        shot: str | Iterable[str] | None = None,
        *,
        film: bool = True,
        progress: Callable[[int, int], None] | None = None,
        overwrite: bool = False,
        **settings: Any,
    ) -> FilePath:
        """Write small pictures of shots (all that are in the film, if none are named) on one .png; ``settings`` as for :meth:`render`."""
        from kestrav.render.contact_sheet import contact_sheet

        names = ("size", "fps", "background", "span", "look", "quality", "samples")
        shots = self._picked(
            shot, film=film, settings=tuple(settings.get(name) for name in names), colourway=settings.get("colourway")
        )
        contact_sheet(self._document, self._meshes, shots, FilePath(out), progress, overwrite=overwrite)
        self.rendered.append(Rendered(FilePath(out), tuple(one.name for one in shots), 0, 0.0, (0, 0), 0.0, None))
        return FilePath(out)

    def _picked(
        self, shot: str | Iterable[str] | None, *, film: bool, settings: tuple[Any, ...], colourway: str | None
    ) -> list[Shot]:
        """The shots that are meant, with settings of their own."""
        import msgspec

        from kestrav.core.document.shots import pick_colourway, pick_shot, with_settings

        if shot is None and film:
            picked = [s for s in self._document.shots if s.in_film]
            if not picked:
                raise Error(f"no shot of “{self.name}” is in the film")
        else:
            names: list[str | None] = [shot] if shot is None or isinstance(shot, str) else [*shot] or [None]
            picked = [pick_shot(self._document, name) for name in names]
        if settings[3] is not None and len(picked) > 1:
            raise Error("a span belongs to one shot; leave it out for a film")
        shots = [with_settings(one, *settings) for one in picked]
        if colourway is None:
            return shots
        colourway_id = pick_colourway(self._document, colourway)
        return [msgspec.structs.replace(one, colourway=colourway_id) for one in shots]

    def export(
        self,
        out: File,
        kind: str | None = None,
        *,
        tolerance: float = 0.05,
        simplify: float = 0.0,
        sheet: str | None = None,
        progress: Callable[[float], None] | None = None,
        overwrite: bool = False,
    ) -> Exported:
        """Hand it on, as the ending says: animated glTF (.glb) or OpenUSD (.usdc, .usda, .usdz) within a ``tolerance`` in mm, a step sheet
        (.pdf), tables of the motion (.csv), charts (.svg, .png), a report (.html); or as a ``kind``: “Review page” (.html, its surfaces off by
        no more than ``simplify`` mm), “Step sheet” (.html), “Table of the lanes” (.csv). ``sheet`` is a step sheet's name; ``progress`` is told the
        share that is done. Returns what was written: its ``files``, ``told`` in words, and what else there is to know as plain ``data``."""
        from kestrav.render.exports import BY_TITLE, ExportRequest, export_for

        if kind is not None and kind not in BY_TITLE:
            raise Error(f"“{kind}” is not a kind of export; kinds are {', '.join(BY_TITLE)}")
        target = FilePath(out)
        request = ExportRequest(
            self._document, self._meshes, target, overwrite, tolerance, simplify, sheet, tell=progress
        )
        return export_for(target, kind).write(request)

    def save(self, file: File | None = None) -> FilePath:
        """Save it, where it was opened or to another file."""
        target = FilePath(file) if file is not None else self.file
        if target is None:
            raise Error("the project has no file yet; name one")
        if target.suffix != project_file.SUFFIX:
            raise Error(f"“{target}” should end in {project_file.SUFFIX}")
        project_file.save(self._document, self._meshes, target)
        self.file = target
        return target
