"""What scripts do to a project: what it is made of, added and changed, each step as the window does it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path as FilePath
from typing import Any, Literal, TypeVar

import msgspec
import numpy as np
from numpy.typing import ArrayLike

from kestrav.core.document import edits
from kestrav.core.document.base import Record
from kestrav.core.document.lookup import called, find, get as item_of, get_as, new_id, new_name, part_called, subtree
from kestrav.core.document.records import (
    COLLECTIONS,
    KIND_WORDS,
    Attachment,
    Camera,
    Item,
    Path,
    PathPoint,
    PointShape,
    Project as Document,
    Run,
)
from kestrav.core.document.references import references, renamed
from kestrav.core.errors import BadInput as Error
from kestrav.core.geometry.meshes import Mesh
from kestrav.results import Delivery, File

R = TypeVar("R", bound=Record)
KINDS: dict[str, type[Item]] = {word: kind for kind, word in KIND_WORDS.items()}  # type: ignore[misc]


class ProjectEdits:
    """A document with its meshes, changed in place. The names that methods take may be ids too, which are unlike each other where names are
    not; what they return are names."""

    def __init__(self, document: Document, meshes: Mapping[str, Mesh], file: FilePath | None) -> None:
        self._document, self._meshes = document, dict(meshes)
        self._before: list[Document] = []
        self.file = file
        self.deliveries: list[Delivery] = []  # what was added to it here, file by file

    # any kind of thing

    def add(self, kind: str, name: str, /, **fields: Any) -> str:
        """Add a thing of a kind that the project's document has (``kestrav schema``): "attachment", "rod", "rotation", "light", "requirement" …

        Its fields are those of the document, as records or as plain values; where one names others, by name or id. Returns its name. Raises Error
        for a kind or field that is not there, a value of another type, and a name that nothing has.
        """
        record = _kind(kind)
        item: Any = _record(record, {**fields, "id": new_id(self._document, record), "name": name})
        self._change(edits.add(self._document, self._referring(item)))
        return self._named(item.id)

    def set(self, thing: str, /, **fields: Any) -> None:
        """Change fields of a part, path, run, wheel, camera, light, shot or finish, by its name or id; they are those of the project's
        document (``kestrav schema``), as for :meth:`add`."""
        item = item_of(self._document, called(self._document, thing))
        self._change(edits.replace(self._document, self._referring(_changed(item, fields))))

    def copy(self, thing: str, name: str, /, **fields: Any) -> str:
        """Add a thing like another, with some of its fields changed; returns its name."""
        item = item_of(self._document, called(self._document, thing))
        copied = _changed(item, {**fields, "id": new_id(self._document, type(item)), "name": name})
        self._change(edits.add(self._document, self._referring(copied)))
        return self._named(copied.id)

    def remove(self, thing: str) -> None:
        """Remove a thing, and what cannot be without it."""
        self._change(edits.remove(self._document, called(self._document, thing)))

    def id_of(self, name: str, kind: str) -> str:
        """The id of the one thing of a kind ("path", "shot" …) of a name, for where things of other kinds have that name too."""
        return called(self._document, name, _kind(kind))

    def find_parts(self, words: str, inside: str | None = None, *, solids: bool = False) -> tuple[str, ...]:
        """The ids of parts whose names are some words, a star standing for anything; of all parts, or of those in an assembly, and of
        ``solids`` alone."""
        from fnmatch import fnmatchcase

        below = None if inside is None else set(subtree(self._document, self._part(inside)))
        return tuple(
            part.id
            for part in self._document.parts
            if fnmatchcase(part.name, words)
            and (below is None or part.id in below)
            and (part.geometry is not None or not solids)
        )

    def set_settings(self, **fields: Any) -> None:
        """Change settings of the project, such as ``fps`` or ``required_clearance`` in mm."""
        self._change(edits.settings(self._document, **fields))

    def undo(self) -> None:
        """Take the last change back. Raises Error where there is none."""
        if not self._before:
            raise Error("nothing was changed since the project was opened")
        self._document = self._before.pop()

    # parts

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
        known = {part.id for part in self._document.parts}
        self._change(into_project(self._document, imported), imported.meshes)
        return tuple(p.name for p in self._document.parts if p.id not in known and p.parent is None)

    def add_box(self, name: str, size: Sequence[float], at: Sequence[float] = (0.0, 0.0, 0.0), **fields: Any) -> str:
        """Add a plain box, ``size`` being its width, depth and height in mm, with the middle of its underside ``at`` a place; ``fields`` as for
        :meth:`set`. Returns its name."""
        from kestrav.core.document.records import BoxForm
        from kestrav.core.parts.placeholders import add_form

        document, shape = add_form(self._document, BoxForm(*map(float, size)), at)
        box = _changed(document.parts[-1], {**fields, "name": name})
        self._change(edits.replace(document, self._referring(box)), {shape.hash: shape})
        return self._named(box.id)

    def replace_part(self, part: str, file: File, align: Literal["origin", "box"] = "origin") -> None:
        """Replace a part by a file's product, with all that is attached to it: by their origins, or the middle of their boxes' undersides."""
        from kestrav.core.files.product_import import read_in_units
        from kestrav.core.files.refresh import replace

        imported, _ = read_in_units(FilePath(file))
        self._change(replace(self._document, self._part(part), imported, align), imported.meshes)

    def allow_contact(self, parts: str | Sequence[str], others: str | Sequence[str], deeper: float = 0.0) -> None:
        """Say that parts touch others by intent, each of the ones each of the others (of assemblies, all that is in them); and by how much in mm
        they may get ``deeper`` than at rest."""
        one, two = (
            [self._part(p) for p in ([wanted] if isinstance(wanted, str) else wanted)] for wanted in (parts, others)
        )
        pairs = [(a, b) for a in one for b in two]
        self._change(edits.set_contacts(self._document, pairs, intended=True, deeper=deeper))

    # paths and runs

    def add_path(
        self,
        points: ArrayLike,
        name: str = "Path",
        kind: Literal["smooth", "corner"] = "smooth",
        radius: float = 0.0,
        *,
        closed: bool = False,
    ) -> str:
        """Add a path through points (n, 3) in mm, smooth or with corners, these rounded by a ``radius``; returns its name."""
        places = np.asarray(points, float).reshape(-1, 3)
        path_points = tuple(
            PathPoint((float(x), float(y), float(z)), kind, radius=radius if kind == "corner" else 0.0)
            for x, y, z in places
        )
        path = Path(
            new_id(self._document, Path),
            new_name(self._document, Path, name),
            PointShape(path_points, closed=closed),
        )
        self._change(edits.add(self._document, path))
        return path.name

    def raise_path(self, path: str, height: float) -> None:
        """Shift a path up or down, so that it begins at a height in mm."""
        from kestrav.core.paths.shaping import raised

        self._change(raised(self._document, self._path(path).id, height))

    def add_run(
        self,
        part: str,
        path: str,
        start: float | None = None,
        duration: float | None = None,
        speed: float | None = None,
        *,
        turned: bool = True,
    ) -> str:
        """Send a part along a path, from a start in s (after what moves it so far, if it is not given), in a duration in s or at a speed in
        mm/s; returns the run's name. Unless it is ``turned`` it keeps its orientation."""
        from kestrav.core.document.records import FixedOrientation
        from kestrav.core.editing.run_making import add_run

        if duration is not None and speed is not None:
            raise Error("a run has a duration or a speed; give one of them")
        document = add_run(self._document, self._part(part), self._path(path).id)
        run = document.runs[-1].id
        fields: dict[str, Any] = {}
        if start is not None:
            fields["start"] = start
        if duration is not None:
            fields |= {"duration": duration, "speed": None}
        if speed is not None:
            fields |= {"speed": speed, "duration": None}
        if not turned:
            fields["orientation"] = FixedOrientation()
        self._change(edits.update(document, run, **fields) if fields else document)
        return self._named(run)

    def stop_at_mark(self, run: str) -> None:
        """Let a run end so that the front of its rider stops at the run's mark."""
        from kestrav.core.editing.run_making import stop_at_mark

        self._change(stop_at_mark(self._document, called(self._document, run, Run)))

    def hold(self, run: str, share: float, seconds: float) -> None:
        """Let a run stop for some seconds at a share (0 to 1) of its path's length."""
        from kestrav.core.camera.walking import with_stop

        self._change(with_stop(self._document, called(self._document, run, Run), share, seconds))

    def put_down(self, attachment: str, time: float) -> str:
        """Let go at a time in s of what an attachment carries; what lies below carries it from there. Returns the name of that attachment."""
        from kestrav.core.clearance.putting import put_down

        self._change(put_down(self._document, self._meshes, called(self._document, attachment, Attachment), time))
        return self._document.attachments[-1].name

    def add_poses(self, file: File) -> tuple[str, ...]:
        """Give parts, cameras and lights the poses of a table (CSV, as :meth:`export` writes them) as key poses; returns the names of these."""
        from kestrav.core.files.pose_tables import keyed_poses, with_poses

        before = len(self._document.pose_tracks)
        self._change(with_poses(self._document, keyed_poses(self._document, FilePath(file))))
        return tuple(track.name for track in self._document.pose_tracks[before:])

    # wheels

    def add_wheels(self, *parts: str) -> tuple[str, ...]:
        """Let round parts roll with what carries them, by their widest cylinder; returns the names of the wheels."""
        from kestrav.core.editing.wheel_making import add_wheels

        before = {wheel.id for wheel in self._document.wheels}
        self._change(add_wheels(self._document, self._meshes, [self._part(part) for part in parts]))
        return tuple(wheel.name for wheel in self._document.wheels if wheel.id not in before)

    def add_castor(self, part: str) -> str:
        """Let the holder of a wheel swivel into the direction in which it goes; returns the castor's name."""
        from kestrav.core.editing.wheel_making import add_castor

        self._change(add_castor(self._document, self._part(part)))
        return self._document.castors[-1].name

    # cameras

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
        from kestrav.core.kinematics.runs import span

        target: Any = self._part(aim) if isinstance(aim, str) else np.asarray(aim, float)
        document = add_standing(self._document, position, target, **lens)
        shot = document.shots[-1]
        last = (span(self._document) or shot.end) if end is None else end
        self._change(edits.update(document, shot.id, start=start, end=last))
        return self._named(shot.id)

    def orbit(self, *parts: str, seconds: float = 12.0, **shape: Any) -> str:
        """A camera that goes around parts (or all there is), with a looping shot; returns its name. ``shape``: ``offset`` and ``height`` in
        mm, ``start`` in degrees, ``clockwise`` …"""
        from kestrav.core.camera.orbits import add_orbit

        things = self._things(parts)
        self._change(add_orbit(self._document, self._meshes, things, duration=seconds, **shape))
        return self._document.shots[-1].name

    def turntable(self, *parts: str, seconds: float = 12.0, turns: float = 1.0) -> str:
        """Parts (or all there is) that turn before a camera that sees all of them, with a looping shot; returns its name."""
        from kestrav.core.camera.plans import turntable

        self._change(turntable(self._document, self._meshes, self._things(parts), seconds, turns))
        return self._document.shots[-1].name

    def follow(
        self,
        part: str,
        side: Literal["behind", "ahead", "left", "right", "above"] = "behind",
        distance: float = 2500.0,
        height: float = 800.0,
        lag: float = 0.4,
    ) -> str:
        """A camera that goes with a moving part at its side, softly by a lag in s, with a shot; distance and height in mm. Returns the shot's
        name."""
        from kestrav.core.camera.making import add_follower

        self._change(add_follower(self._document, self._part(part), side, distance, height, lag))
        return self._document.shots[-1].name

    def walk(self, points: ArrayLike, speed: float = 1200.0, doors: Sequence[str] = (), **shape: Any) -> str:
        """A camera that walks over the floor by points (n, 3) in mm, around what stands in the way, through ``doors`` that will be open; with a
        shot, whose name is returned. ``shape``: ``eye_height``, ``distance`` from what is passed, ``ahead``, in mm."""
        from kestrav.core.camera.walking import add_walk

        through = [self._part(door) for door in doors]
        self._change(add_walk(self._document, self._meshes, points, speed=speed, doors=through, **shape))
        return self._document.shots[-1].name

    def open_door(self, run: str, door: str, angle: float = 90.0) -> None:
        """Let a door swing open by some degrees, away from what comes, as a run nears it."""
        from kestrav.core.camera.walking import open_door

        wanted = called(self._document, run, Run)
        self._change(open_door(self._document, self._meshes, wanted, self._part(door), angle))

    def fade(self, camera: str, part: str, *spans: tuple[float, float]) -> None:
        """Let a camera see through a part during spans in s."""
        from kestrav.core.camera.fixes import faded

        self._change(faded(self._document, called(self._document, camera, Camera), self._part(part), spans))

    def camera_of(self, shot: str) -> str:
        """The id of the camera of a shot."""
        from kestrav.core.document.records import Shot

        return get_as(self._document, called(self._document, shot, Shot), Shot).camera

    # finishes and light

    def set_light(self, **fields: Any) -> None:
        """Change the light set-up: ``setup``, ``turn``, ``level``, ``softness``, ``exposure``, ``white``."""
        self._change(edits.light(self._document, **fields))

    def give_finish(self, words: str, finish: str) -> None:
        """Give a finish of the shelf to all parts whose names hold some words, now and after a new delivery; a star stands for anything."""
        from kestrav.core.editing.finishing import with_rule
        from kestrav.core.finishes.shelf import named_finish

        self._change(with_rule(self._document, words, named_finish(finish)))

    def set_finish(self, finish: str, *parts: str) -> None:
        """Give a finish of the shelf to parts; in the colourway that is shown, if there is one."""
        from kestrav.core.editing.finishing import with_finish
        from kestrav.core.finishes.shelf import named_finish

        self._change(with_finish(self._document, self._things(parts), named_finish(finish)))

    def add_colourway(self, name: str) -> str:
        """Add a colourway like the one that is shown, and show it; returns its name."""
        from kestrav.core.editing.finishing import with_colourway

        self._change(with_colourway(self._document, name)[0])
        return self._document.colourways[-1].name

    def show_colourway(self, name: str) -> None:
        """Show a colourway, or the parts' own finishes where the name is empty."""
        from kestrav.core.document.shots import pick_colourway
        from kestrav.core.editing.finishing import shown_in

        self._change(shown_in(self._document, pick_colourway(self._document, name) if name else ""))

    # step sheets

    def add_step_sheet(self, name: str = "Step sheet", *motions: str) -> str:
        """Add a step sheet with a step for each of some motions, or for all; returns its name."""
        from kestrav.core.sheets.steps import make_sheet

        wanted = [called(self._document, one) for one in motions] or None
        self._change(make_sheet(self._document, wanted, name))
        return self._document.sheets[-1].name

    # within

    def _change(self, document: Document, meshes: Mapping[str, Mesh] | None = None) -> None:
        from kestrav.core.derive import derived

        self._meshes = {**self._meshes, **(meshes or {})}
        self._before.append(self._document)
        self._document = derived(document, self._meshes, self._document)

    def _referring(self, record: R) -> R:
        """A record that names others by name or id, by their ids alone."""
        ids = {}
        for one in references(record):
            if one.id and find(self._document, one.id) is None:
                kinds = [kind for kind, collection in COLLECTIONS.items() if collection in one.ref.kinds]
                ids[one.id] = self._of_kinds(one.id, kinds)
        return renamed(record, ids) if ids else record

    def _of_kinds(self, name: str, kinds: list[type[Item]]) -> str:
        """The id of the one thing of some kinds that a name is of."""
        fault = Error(f"the project holds nothing called “{name}”")
        for kind in kinds:
            try:
                return called(self._document, name, kind)
            except Error as one:
                fault = one
        raise fault

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


def _kind(word: str) -> type[Item]:
    """The kind of a word. Raises Error where there is none."""
    if word not in KINDS:
        raise Error(f"“{word}” is not a kind of thing; kinds are {', '.join(KINDS)}")
    return KINDS[word]


def _changed(item: R, fields: Mapping[str, Any]) -> R:
    """An item with some fields changed, these being records or plain values."""
    return _record(type(item), {**{name: getattr(item, name) for name in item.__struct_fields__}, **fields})


def _record(kind: type[R], fields: Mapping[str, Any]) -> R:
    """A record of a kind. Raises Error for a field that it has not, one that is missing, or a value of another type."""
    for field in fields:
        if field not in kind.__struct_fields__:
            known = ", ".join(kind.__struct_fields__)
            raise Error(f"a {KIND_WORDS.get(kind, kind.__name__.lower())} has no “{field}”; it has {known}")
    try:
        return msgspec.convert(msgspec.to_builtins(dict(fields)), kind)
    except (msgspec.ValidationError, TypeError) as fault:
        word = KIND_WORDS.get(kind, kind.__name__.lower())
        raise Error(f"a {word} cannot be made of that: {fault}") from fault
