"""Kestrav without a window: ``import kestrav`` and work with projects.

    project = kestrav.new("cabinet.step")
    project.turntable(seconds=12)
    project.render("turntable.mp4")

Everything here is meant to last; all else is internal. Things are named as in the window, or by their ids. Lengths are mm, times s, angles
degrees; arrays are NumPy's. What cannot be done raises :class:`kestrav.Error` with a sentence that says what and why.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path as FilePath
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import ArrayLike

from kestrav.core.document import edits
from kestrav.core.document.lookup import called, get_as, new_id, new_name, part_called
from kestrav.core.document.lookup import get as item_of
from kestrav.core.document.records import Path, PathPoint, PointShape
from kestrav.core.document.records import Project as Document
from kestrav.core.errors import BadInput as Error
from kestrav.core.files import project_file
from kestrav.core.geometry.meshes import Mesh
from kestrav.results import Array, Check, Delivery, Extraction, File, Finding, Rendered

if TYPE_CHECKING:
    from kestrav.core.document.records import Shot
    from kestrav.render.cluster import Cluster

__all__ = ["Check", "Delivery", "Error", "Extraction", "Finding", "Project", "Rendered", "new", "open"]


def open(file: File) -> Project:
    """Open a project. Raises Error naming the file."""
    place = FilePath(file)
    opened = project_file.load(place)
    return Project(opened.project, opened.meshes, place)


def new(
    *products: File, name: str = "", unit: str | None = None, tolerance: float | None = None, up: str | None = None
) -> Project:
    """A new project of CAD or mesh files; see :meth:`Project.add_product`."""
    made = Project(Document(name=name or (FilePath(products[0]).stem if products else "Project")), {}, None)
    for product in products:
        made.add_product(product, unit, tolerance, up)
    return made


class Project:
    """An open project. Its methods change it in place; :meth:`undo` takes the last change back."""

    def __init__(self, document: Document, meshes: Any, file: FilePath | None) -> None:
        self._document, self._meshes = document, dict(meshes)
        self._before: list[Document] = []
        self.file = file
        self.deliveries: list[Delivery] = []  # what was added to it here, file by file
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

    def path_length(self, path: str) -> float:
        """How long a path is, in mm."""
        from kestrav.core.paths.path_curves import path_curve

        return float(path_curve(self._path(path)).length)

    def wheel_turns(self, time: float | None = None) -> dict[str, float]:
        """The turns of each wheel, by its name, until a time in s or in all."""
        from kestrav.core.editing.wheel_making import turns_of

        return {wheel.name: float(turns_of(self._document, wheel, time)) for wheel in self._document.wheels}

    # making and changing it

    def add_product(
        self, file: File, unit: str | None = None, tolerance: float | None = None, up: str | None = None
    ) -> tuple[str, ...]:
        """Add a CAD or mesh file; returns the names of what is new at the outermost.

        ``unit`` is that of a file that has none (by its size, if it is not given), ``tolerance`` in mm how far facets may be from curved
        faces, ``up`` the upward axis where it is not the format's own.
        """
        from kestrav.core.files.product_import import into_project, read_in_units

        imported, by_size = read_in_units(FilePath(file), tolerance, unit, up)
        declared = imported.declared
        if by_size:
            declared = f"not in the file: taken for {by_size} by its size"
        elif not declared.strip() or declared == "not in the file":
            declared = f"{unit}, as given"
        self.deliveries.append(
            Delivery(
                FilePath(file),
                imported.solids,
                len(imported.meshes),
                imported.triangles,
                declared,
                imported.chord or None,
                tuple(imported.left_out),
            )
        )
        known = set(self.part_ids)
        meshes = {**self._meshes, **imported.meshes}
        self._change(into_project(self._document, imported), meshes)
        return tuple(p.name for p in self._document.parts if p.id not in known and p.parent is None)

    def add_path(
        self,
        points: ArrayLike,
        name: str = "Path",
        kind: Literal["smooth", "corner"] = "smooth",
        radius: float = 0.0,
        closed: bool = False,
    ) -> str:
        """Add a path through points (n, 3) in mm, smooth or with corners, these rounded by a ``radius``; returns its name."""
        places = np.asarray(points, float).reshape(-1, 3)
        made = tuple(
            PathPoint((float(x), float(y), float(z)), kind, radius=radius if kind == "corner" else 0.0)
            for x, y, z in places
        )
        path = Path(
            new_id(self._document, Path),
            new_name(self._document, Path, name),
            PointShape(made, closed=closed),
        )
        self._change(edits.add(self._document, path))
        return path.name

    def add_run(
        self,
        part: str,
        path: str,
        start: float | None = None,
        duration: float | None = None,
        speed: float | None = None,
        turned: bool = True,
    ) -> str:
        """Send a part along a path, from a start in s (after what moves it so far, if it is not given), in a duration in s or at a speed in
        mm/s; returns the run's name. Unless it is ``turned`` it keeps its orientation."""
        from kestrav.core.document.records import FixedOrientation
        from kestrav.core.editing.run_making import add_run

        if duration is not None and speed is not None:
            raise Error("a run has a duration or a speed; give one of them")
        made = add_run(self._document, self._part(part), self._path(path).id)
        run = made.runs[-1].id
        fields: dict[str, Any] = {}
        if start is not None:
            fields["start"] = start
        if duration is not None:
            fields |= {"duration": duration, "speed": None}
        if speed is not None:
            fields |= {"speed": speed, "duration": None}
        if not turned:
            fields["orientation"] = FixedOrientation()
        self._change(edits.update(made, run, **fields) if fields else made)
        return self._named(run)

    def add_poses(self, file: File) -> tuple[str, ...]:
        """Give parts, cameras and lights the poses of a table (CSV, as :meth:`export` writes them) as key poses; returns the names of these."""
        from kestrav.core.files.pose_tables import keyed_poses, with_poses

        before = len(self._document.pose_tracks)
        self._change(with_poses(self._document, keyed_poses(self._document, FilePath(file))))
        return tuple(track.name for track in self._document.pose_tracks[before:])

    def add_wheels(self, *parts: str) -> tuple[str, ...]:
        """Let round parts roll with what carries them, by their widest cylinder; returns the names of the wheels."""
        from kestrav.core.editing.wheel_making import add_rolls

        before = {wheel.id for wheel in self._document.wheels}
        self._change(add_rolls(self._document, self._meshes, [self._part(part) for part in parts]))
        return tuple(wheel.name for wheel in self._document.wheels if wheel.id not in before)

    def add_camera(
        self,
        position: Sequence[float],
        aim: str | Sequence[float],
        start: float = 0.0,
        end: float | None = None,
        **lens: Any,
    ) -> str:
        """A camera at a place that aims at a part or point, with a shot of all the motion; returns the shot's name. ``lens`` are fields of
        the camera: ``focal_length`` in mm, ``f_number`` …"""
        from kestrav.core.camera.making import add_standing

        target: Any = self._part(aim) if isinstance(aim, str) else np.asarray(aim, float)
        made = add_standing(self._document, position, target, **lens)
        shot = made.shots[-1]
        self._change(edits.update(made, shot.id, start=start, end=self.duration or shot.end if end is None else end))
        return self._named(shot.id)

    def orbit(self, *parts: str, seconds: float = 12.0, **shape: Any) -> str:
        """A camera that goes around parts (or all there is), with a looping shot; returns its name. ``shape``: ``offset`` and ``height`` in
        mm, ``start`` in degrees, ``clockwise`` …"""
        from kestrav.core.camera.orbits import add_orbit

        things = self._things(parts)
        self._change(add_orbit(self._document, self._meshes, things, duration=seconds, **shape))
        return self.shots[-1]

    def turntable(self, *parts: str, seconds: float = 12.0, turns: float = 1.0) -> str:
        """Parts (or all there is) that turn before a camera that sees all of them, with a looping shot; returns its name."""
        from kestrav.core.camera.plans import turntable

        self._change(turntable(self._document, self._meshes, self._things(parts), seconds, turns))
        return self.shots[-1]

    def set(self, thing: str, **fields: Any) -> None:
        """Change fields of a part, path, run, wheel, camera, light, shot or finish, by its name or id; they are those of the project's
        document (``kestrav schema``)."""
        self._change(edits.update(self._document, called(self._document, thing), **fields))

    def set_settings(self, **fields: Any) -> None:
        """Change settings of the project, such as ``fps`` or ``required_clearance`` in mm."""
        self._change(edits.settings(self._document, **fields))

    def set_light(self, **fields: Any) -> None:
        """Change the light set-up: ``setup``, ``turn``, ``level``, ``softness``, ``exposure``, ``white``."""
        self._change(edits.light(self._document, **fields))

    def give_finish(self, words: str, finish: str) -> None:
        """Give a finish of the shelf to all parts whose names hold some words, now and after a new delivery; a star stands for anything."""
        from kestrav.core.editing.finishing import with_rule
        from kestrav.core.finishes.shelf import BY_NAME

        if finish not in BY_NAME:
            raise Error(f"the shelf has no finish “{finish}”; it has {', '.join(sorted(BY_NAME))}")
        self._change(with_rule(self._document, words, BY_NAME[finish]))

    def show_colourway(self, name: str) -> None:
        """Show a colourway, or the parts' own finishes where the name is empty."""
        from kestrav.core.document.shots import pick_colourway
        from kestrav.core.editing.finishing import shown_in

        self._change(shown_in(self._document, pick_colourway(self._document, name) if name else ""))

    def replace_part(self, part: str, file: File, align: Literal["origin", "box"] = "origin") -> None:
        """Replace a part by a file's product, with all that is attached to it: by their origins, or the middle of their boxes' undersides."""
        from kestrav.core.files.product_import import read_in_units
        from kestrav.core.files.refresh import replace

        imported, _ = read_in_units(FilePath(file))
        meshes = {**self._meshes, **imported.meshes}
        self._change(replace(self._document, self._part(part), imported, align), meshes)

    def undo(self) -> None:
        """Take the last change back. Raises Error where there is none."""
        if not self._before:
            raise Error("nothing was changed since the project was opened")
        self._document = self._before.pop()

    # asking, and handing on

    def check(
        self,
        certify: bool = True,
        span: tuple[float, float] | None = None,
        *,
        required: float | None = None,
        pairs: Sequence[str] = (),
        only_pairs: bool = False,
    ) -> Check:
        """Find every fault, and measure the clearance over the whole motion or a span in s; between the frames too if it is to ``certify``.

        ``required`` is the clearance in mm in place of the project's; ``pairs`` ask for others: “PART:PART=MM”, “PART=MM” or “…=off”, and
        ``only_pairs`` for these alone.
        """
        from kestrav.core.findings.asking import with_pairs
        from kestrav.core.findings.check import certified, check

        document = self._document
        if required is not None:
            document = edits.settings(document, required_clearance=required)
        document = with_pairs(document, list(pairs), only_pairs)
        result = check(document, self._meshes, over=span)
        return Check(document, self._meshes, certified(document, self._meshes, result) if certify else result)

    def extract(self, *parts: str, keep: bool = True, deeper: float = 0.0, **wish: Any) -> Extraction:
        """Find a way for parts to leave what they are in, and add it to the project if it is to be kept. ``wish``: ``required`` clearance in mm,
        ``upright``, ``tilt`` in degrees, ``seconds`` at most for a stage; ``allowed`` directions, ``room``, ``target``, as ``kestrav extract``
        has them in words; ``onto`` and ``aside`` name parts. Contacts may get ``deeper`` by some mm on the way."""
        from kestrav.core.extraction.report import as_data, as_text
        from kestrav.core.extraction.snaps import contacts_deeper
        from kestrav.core.extraction.typed import read_direction, read_room, target_at
        from kestrav.core.extraction.ways import WayOut, Wish, add_way, find_way

        things = [self._part(part) for part in parts]
        if not things:
            raise Error("name the parts that are to leave")
        if wish.get("onto") is not None:
            wish["onto"] = self._part(wish["onto"])
        wish["aside"] = tuple(self._part(name) for name in wish.get("aside") or ())
        wish["allowed"] = tuple(read_direction(d) if isinstance(d, str) else d for d in wish.get("allowed") or ())
        if isinstance(wish.get("room"), str):
            wish["room"] = read_room(wish["room"])
        if isinstance(wish.get("target"), str):
            wish["target"] = target_at(self._document, things[0], wish["target"])
        try:
            asked = Wish(**wish)
        except TypeError as fault:
            raise Error(f"a way out cannot be asked for so: {fault}") from fault
        document = contacts_deeper(self._document, self._meshes, things, deeper) if deeper > 0 else self._document
        found = find_way(document, self._meshes, things, asked)
        told = Extraction(isinstance(found, WayOut), as_text(document, found), as_data(document, found))
        if keep and isinstance(found, WayOut):
            self._change(add_way(document, things, found))
        return told

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
        shots = self._picked(shot, film, settings, colourway)
        when = (shots[0].start if at is None else at) if still else None
        if when is not None and when < 0:
            raise Error(f"a still at {when:g} s is not possible; time begins at 0")
        if at is not None and not still:
            raise Error("a time belongs to a still; end the output in .png or .exr")
        outputs = [(target, shots)]
        if all_colourways:
            from kestrav.core.editing.finishing import in_all_colourways

            ways = in_all_colourways(self._document, shots)
            outputs = [(beside_named(target, name), dressed) for name, dressed in ways]
        for file, wanted in outputs:
            began, first = time.monotonic(), wanted[0]
            if when is not None:
                render_still(self._document, self._meshes, first, when, file, overwrite, transparent, progress, deep)
                frames = 1
            else:
                options: dict[str, Any] = {"alpha": transparent, "codec": codec, "bits": deep, "resume": resume}
                options |= {"processes": processes, "cluster": cluster}
                render_film(self._document, self._meshes, wanted, file, progress, overwrite, **options)
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
        shots = self._picked(shot, film, tuple(settings.get(name) for name in names), settings.get("colourway"))
        contact_sheet(self._document, self._meshes, shots, FilePath(out), progress, overwrite)
        self.rendered.append(Rendered(FilePath(out), tuple(one.name for one in shots), 0, 0.0, (0, 0), 0.0, None))
        return FilePath(out)

    def _picked(
        self, shot: str | Iterable[str] | None, film: bool, settings: tuple[Any, ...], colourway: str | None
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
        way = pick_colourway(self._document, colourway)
        return [msgspec.structs.replace(one, colourway=way) for one in shots]

    def export(
        self,
        out: File,
        kind: str | None = None,
        *,
        tolerance: float = 0.05,
        simplify: float = 0.0,
        sheet: str | None = None,
        overwrite: bool = False,
    ) -> FilePath:
        """Hand it on, as the ending says: animated glTF (.glb) or OpenUSD (.usdc, .usda, .usdz) within a ``tolerance`` in mm, a step sheet
        (.pdf), tables of the motion (.csv), charts (.svg, .png), a report (.html); or as a ``kind``: “Review page” (.html, its surfaces off by
        no more than ``simplify`` mm), “Step sheet” (.html), “Table of the lanes” (.csv). ``sheet`` is a step sheet's name."""
        from kestrav.render.exports import BY_TITLE, ExportRequest, export_for

        if kind is not None and kind not in BY_TITLE:
            raise Error(f"“{kind}” is not a kind of export; kinds are {', '.join(BY_TITLE)}")
        target = FilePath(out)
        request = ExportRequest(self._document, self._meshes, target, overwrite, tolerance, simplify, sheet)
        export_for(target, kind).write(request)
        return target

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

    # within

    def _change(self, document: Document, meshes: dict[str, Mesh] | None = None) -> None:
        from kestrav.core.derive import derived

        self._meshes = self._meshes if meshes is None else meshes
        self._before.append(self._document)
        self._document = derived(document, self._meshes, self._document)

    def _part(self, name: str) -> str:
        return part_called(self._document, name)

    def _things(self, names: Sequence[str]) -> list[str]:
        if names:
            return [self._part(name) for name in names]
        return [part.id for part in self._document.parts if part.parent is None]

    def _path(self, name: str) -> Path:
        return get_as(self._document, called(self._document, name, Path), Path)

    def _named(self, item: str) -> str:
        return item_of(self._document, item).name


__all__ = ["Check", "Error", "Extraction", "Finding", "Project", "new", "open"]
