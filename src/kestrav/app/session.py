"""The open project as the window sees it: document, undo, selection, time."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QUndoCommand, QUndoStack

from kestrav.core.clearance.measuring import Reading, read
from kestrav.core.derive import derived
from kestrav.core.document.edits import settings
from kestrav.core.document.lookup import find, subtree
from kestrav.core.document.records import Camera, Feature, Item, Part, Path as PathRecord, Project, Shot
from kestrav.core.document.shots import FilmFrame
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.versions import keep_version
from kestrav.core.findings.model import Fix
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.poses import prefetch_lights, world_poses
from kestrav.core.kinematics.runs import shown_times, span
from kestrav.core.kinematics.traces import trace
from kestrav.core.memo import forget_projects
from kestrav.core.parts.rest import rest_poses

Edit = Callable[[Project], Project]


class _Change(QUndoCommand):
    """One edit: the documents before and after. Edits of one drag merge."""

    def __init__(self, session: Session, label: str, before: Project, after: Project, merge: str) -> None:
        super().__init__(label)
        self.session, self.before, self.after, self.merge = session, before, after, merge
        self.when = datetime.now()

    def id(self) -> int:
        return 1

    def mergeWith(self, other: QUndoCommand) -> bool:
        if not isinstance(other, _Change) or not self.merge or other.merge != self.merge:
            return False
        self.after = other.after
        return True

    def redo(self) -> None:
        self.session._show(self.after)

    def undo(self) -> None:
        self.session._show(self.before)


class Session(QObject):
    """What is open. Views read :attr:`shown` and listen; they never keep a document of their own."""

    edited = Signal()  # the shown document is another one
    opened = Signal()  # a whole new project
    selected = Signal()
    moved = Signal()  # the playhead
    refused = Signal(str)  # an edit that was not possible, and why
    previewing = Signal()
    pairing = Signal()  # another pair is looked at
    isolation = Signal()  # other parts are shown in the stage

    def __init__(self) -> None:
        super().__init__()
        self.project = Project()
        self.meshes: dict[str, Mesh] = {}
        self.file: Path | None = None
        self.saved = self.project  # as it was opened or saved last
        self._fingerprint: str | None = None
        self.undo = QUndoStack(self)
        self.selection: str | None = None
        self.chosen: tuple[str, ...] = ()  # all selected parts, the selection being the last of them
        self.point: int | None = None  # the chosen point of a selected path
        self.points: tuple[int, ...] = ()  # all its chosen points, the point being the last of them
        self.time = 0.0
        self.film: FilmFrame | None = None  # the frame of the film that the lens shows, when not what is selected
        self.camera_id: str | None = None
        self.isolated: frozenset[str] | None = None  # the parts to show in the stage, when not all
        self.pair: frozenset[str] | None = None  # two parts that are looked at; all else is faded in the stage
        self.traced: Feature | None = None  # the point of a part whose trace is shown
        self.versions: Path | None = None  # where earlier versions are kept, if they are
        self._trace: tuple[Project, Feature, NDArray[np.float64]] | None = None
        self._posed: tuple[Project, dict[float, int], NDArray[np.float64]] | None = None
        self.prefetch = 1  # frames whose poses are worked out at once
        self._readings: dict[bool, tuple[tuple[object, ...], dict[str, Reading]]] = {}
        self._others: tuple[str, ...] = ()  # all selected things, where they are not all parts
        self._gathering = False  # edits are made one by :meth:`together`
        self._steps = 0  # of stepped edits, so that those of one hand merge and no others
        self.stepping = False  # a value is stepped or dragged in a field
        self.fix: Fix | None = None
        self._mended: Project | None = None  # the project as the previewed fix would make it

    # documents

    @property
    def shown(self) -> Project:
        """The document to show: a fix being previewed, or the project."""
        return self.project if self._mended is None else self._mended

    def used_meshes(self) -> dict[str, Mesh]:
        """The meshes that the project uses, by content hash."""
        return {g.hash: self.meshes[g.hash] for g in self.project.geometry}

    def open(self, project: Project, meshes: Mapping[str, Mesh], file: Path | None) -> None:
        """Replace everything by another project."""
        if self.project.geometry:
            # what was worked out of the one that goes would be held as long as the program runs
            forget_projects()
        self.project, self.meshes, self.file = project, dict(meshes), file
        self._remember_saved()
        self.fix = self._mended = None
        self.undo.clear()
        self.selection, self.point, self.time = None, None, 0.0
        self.chosen, self.points, self.isolated, self.traced, self.pair = (), (), None, None, None
        self._others = ()
        self.camera_id = project.cameras[0].id if project.cameras else None
        self.opened.emit()
        self.edited.emit()
        self.selected.emit()
        self.moved.emit()

    def save(self, file: Path, lanes: Sequence[str] | None = None) -> None:
        """Save to a file, with the lanes that the timeline shows. Raises BadInput."""
        project = self.project if lanes is None else settings(self.project, lanes=tuple(lanes))
        if self.versions is not None:
            keep_version(self.versions, file)
        project_file.save(project, self.meshes, file)
        self.file = file
        self._remember_saved()
        self.undo.setClean()

    def _remember_saved(self) -> None:
        """What the file holds from here on, as far as this session knows."""
        self.saved = self.project
        self._fingerprint = None if self.file is None else project_file.fingerprint(self.file)

    def changed_elsewhere(self) -> bool:
        """Whether the file holds something else than when it was opened or saved last."""
        if self.file is None or not self.file.exists():
            return False
        return project_file.fingerprint(self.file) != self._fingerprint

    def edit(self, label: str, change: Edit, merge: str = "", meshes: Mapping[str, Mesh] | None = None) -> bool:
        """Apply an edit that can be undone; edits in a row with the same ``merge`` are one.

        ``meshes`` are those that the edit puts into the project.
        """
        if meshes:
            self.add_meshes(meshes)
        try:
            after = change(self.project) if self._gathering else self._derived(change(self.project))
        except BadInput as fault:
            self.refused.emit(str(fault))
            return False
        if after is self.project or after == self.project:
            return True
        if self._gathering:
            self.project = after
            return True
        self.fix = self._mended = None
        if self.stepping and not merge:
            merge = f"steps {self._steps} {label}"
        self.undo.push(_Change(self, label, self.project, after, merge))
        return True

    def edit_times(self) -> list[tuple[datetime, str]]:
        """When each edit was made that can be undone or redone, and what it is called."""
        commands = (self.undo.command(i) for i in range(self.undo.count()))
        return [(c.when, c.text()) for c in commands if isinstance(c, _Change)]

    def together(self, label: str, edits: Callable[[], None]) -> bool:
        """Make all edits of a function one; when one is refused, none is made."""
        before = self.project
        refusals: list[str] = []
        self.refused.connect(refusals.append)
        self._gathering = True
        try:
            edits()
            after = self.project
        finally:
            self._gathering = False
            self.project = before
            self.refused.disconnect(refusals.append)
        return not refusals and self.edit(label, lambda _: after)

    def step_edits(self, begins: bool) -> None:
        """From a step of a value to the end of stepping all edits of one label are one."""
        self.stepping = begins
        self._steps += begins

    def _derived(self, project: Project) -> Project:
        """An edited project with what is worked out of it."""
        return derived(project, self.meshes, self.project)

    def add_meshes(self, meshes: Mapping[str, Mesh]) -> None:
        """Make meshes known; they stay for undo."""
        self.meshes.update(meshes)

    def _show(self, project: Project) -> None:
        self.project = project
        self.film = None
        self.fix = self._mended = None
        if self.selection and find(project, self.selection) is None:
            self.selection, self.point, self.points = None, None, ()
        if any(find(project, i) is None for i in self.chosen):
            self.chosen = tuple(i for i in self.chosen if find(project, i) is not None)
        self._others = tuple(i for i in self._others if find(project, i) is not None)
        if len(self._others) < 2:
            self._others = ()
        if self.pair is not None and any(find(project, i) is None for i in self.pair):
            self.pair = None
        if self.traced is not None and find(project, self.traced.part or "") is None:
            self.traced = None
        if self.isolated is not None and not self.isolated & {p.id for p in project.parts}:
            self.isolated = None
        if self.camera_id is None or find(project, self.camera_id) is None:
            self.camera_id = project.cameras[0].id if project.cameras else None
        self.time = min(self.time, span(project))
        self.edited.emit()
        self.previewing.emit()

    # fixes

    def preview(self, fix: Fix | None) -> None:
        """Show what a fix would do to the project as it is, or stop showing it."""
        try:
            self._mended = self._derived(self._applied(fix)(self.project)) if fix else None
        except BadInput as fault:
            self.refused.emit(str(fault))
            return
        self.fix = fix
        self.edited.emit()
        self.previewing.emit()

    def _applied(self, fix: Fix) -> Callable[[Project], Project]:
        """What a fix does to a project; meshes that it needs are there afterwards."""

        def edit(project: Project) -> Project:
            fixed, meshes = fix.applied(project, self.meshes)
            self.add_meshes(meshes)
            return fixed

        return edit

    def describe(self, detail: str) -> None:
        """Say what the previewed fix comes to."""
        if self.fix is not None:
            self.fix = msgspec.structs.replace(self.fix, detail=detail)
            self.previewing.emit()

    def accept(self) -> None:
        """Make the previewed fix an edit."""
        fix = self.fix
        if fix is not None and self.edit(fix.label, self._applied(fix)) and self.fix is fix:
            self.preview(None)  # there was nothing left to fix

    # selection and time

    def select(self, item: str | None, point: int | None = None) -> None:
        """Choose an item, and for a path one of its points."""
        if (item, point) == (self.selection, self.point) and len(self.selected_ids) < 2 and len(self.points) < 2:
            return
        self.film = None
        self.selection, self.point = item, point
        self.points = () if point is None else (point,)
        self.look_at_pair(None)
        record = self.item
        self.chosen = (item,) if item is not None and isinstance(record, Part) else ()
        self._others = ()
        if isinstance(record, Camera):
            self.camera_id = record.id
        elif isinstance(record, Shot):
            self.camera_id = record.camera
        self.selected.emit()

    def select_parts(self, part_ids: Iterable[str]) -> None:
        """Choose several parts; the last one is the selection."""
        chosen = tuple(dict.fromkeys(part_ids))
        if len(chosen) < 2:
            self.select(chosen[0] if chosen else None)
            return
        if chosen == self.chosen:
            return
        self.chosen, self.selection, self.point, self.points = chosen, chosen[-1], None, ()
        self._others = ()
        self.selected.emit()

    def select_several(self, item_ids: Iterable[str]) -> None:
        """Choose several things of any kind; the last one is the selection."""
        ids = tuple(dict.fromkeys(item_ids))
        parts = {part.id for part in self.shown.parts}
        if len(ids) < 2 or parts.issuperset(ids):
            self.select_parts(ids)
            return
        if ids == self._others:
            return
        self.select(ids[-1])
        self._others = ids
        self.selected.emit()

    @property
    def selected_ids(self) -> tuple[str, ...]:
        """All that is selected, of whatever kind, the selection last."""
        return self._others or self.chosen or ((self.selection,) if self.selection is not None else ())

    def select_points(self, points: Iterable[int]) -> None:
        """Choose several points of the selected path; the last one is the point."""
        chosen = tuple(dict.fromkeys(points))
        if chosen != self.points:
            self.points, self.point = chosen, chosen[-1] if chosen else None
            self.selected.emit()

    def toggle_point(self, point: int) -> None:
        """Add a point to those chosen of the selected path, or take it out."""
        kept = [i for i in self.points if i != point]
        self.select_points(kept if point in self.points else [*kept, point])

    def toggle_part(self, part_id: str) -> None:
        """Add a part to what is chosen, or take it out."""
        kept = [i for i in self.chosen if i != part_id]
        self.select_parts(kept if part_id in self.chosen else [*kept, part_id])

    def isolate(self, part_ids: Iterable[str] | None) -> None:
        """Show only some parts and what lies in them in the stage; None shows all again."""
        project = self.shown
        if part_ids is None:
            only = None
        else:
            only = frozenset(inner for part_id in part_ids for inner in subtree(project, part_id))
        if only != self.isolated:
            self.isolated = only
            self.isolation.emit()

    def look_at_pair(self, part_ids: Iterable[str] | None) -> None:
        """Fade all but two parts in the stage; None shows all as it is again."""
        pair = None if part_ids is None else frozenset(part_ids)
        if pair != self.pair:
            self.pair = pair
            self.pairing.emit()

    def trace(self, point: Feature | None) -> None:
        """Show the trace of a point of a part, or none."""
        self.traced = point
        self.selected.emit()

    def trace_places(self) -> NDArray[np.float64] | None:
        """Where the traced point is at the frames: places (n, 3)."""
        point = self.traced
        if point is None or point.part is None:
            return None
        if self._trace is None or self._trace[0] is not self.shown or self._trace[1] is not point:
            self._trace = (self.shown, point, trace(self.shown, point.part, point.origin, shown_times(self.shown)))
        return self._trace[2]

    def part_now(self, part_id: str) -> NDArray[np.float64]:
        """World pose (4, 4) of a part at the playhead."""
        return self.poses()[[p.id for p in self.shown.parts].index(part_id)]

    def readings(self, at_rest: bool) -> dict[str, Reading]:
        """What the kept notes measure, at rest or at the playhead; those that cannot be measured are not in it."""
        project = self.shown
        key = (project.parts, project.notes, None if at_rest else self.time, None if at_rest else project.runs)
        known = self._readings.get(at_rest)
        if known is not None and all(
            a is b or (isinstance(a, float) and a == b) for a, b in zip(known[0], key, strict=True)
        ):
            return known[1]
        readings: dict[str, Reading] = {}
        if project.notes:
            poses = rest_poses(project) if at_rest else self.poses()
            for note in project.notes:
                with contextlib.suppress(BadInput):
                    readings[note.id] = read(note, project, self.meshes, poses)
        self._readings[at_rest] = (key, readings)
        return readings

    @property
    def item(self) -> Item | None:
        """The selected record."""
        return find(self.shown, self.selection) if self.selection else None

    @property
    def path(self) -> PathRecord | None:
        """The selected path."""
        return self.item if isinstance(self.item, PathRecord) else None

    @property
    def camera(self) -> Camera | None:
        """The camera of the lens."""
        camera_id = self.film.shot.camera if self.film is not None else self.camera_id
        camera = find(self.shown, camera_id) if camera_id else None
        return camera if isinstance(camera, Camera) else None

    @property
    def shot(self) -> Shot | None:
        """The selected shot, or the first of the lens's camera, or the first."""
        shots = self.shown.shots
        if self.film is not None:
            return self.film.shot
        if isinstance(self.item, Shot):
            return self.item
        return next((s for s in shots if s.camera == self.camera_id), shots[0] if shots else None)

    def show_film(self, frame: FilmFrame | None) -> None:
        """Let the lens show a frame of the film, with its shot; or again what is selected."""
        changed = frame != self.film
        self.film = frame
        if frame is not None:
            self.time = min(max(frame.time, 0.0), span(self.shown))
        if changed:
            self.moved.emit()

    def set_time(self, time: float) -> None:
        """Move the playhead, within the project."""
        filmed, self.film = self.film is not None, None
        time = min(max(time, 0.0), span(self.shown))
        if filmed or time != self.time:
            self.time = time
            self.moved.emit()

    @property
    def frame(self) -> int:
        """The frame at the playhead."""
        return round(self.time * self.shown.settings.fps)

    def step(self, frames: int) -> None:
        """Move the playhead by frames, onto a frame."""
        self.set_time((self.frame + frames) / self.shown.settings.fps)

    def poses(self) -> NDArray[np.float64]:
        """World poses (parts, 4, 4) at the playhead; not to be written to."""
        if self._posed is None or self._posed[0] is not self.shown or self.time not in self._posed[1]:
            fps = self.shown.settings.fps
            # as frames are told everywhere, so that the time of one is that number exactly
            later = [(self.frame + k) / fps for k in range(1, self.prefetch)]
            times = [self.time, *later]
            poses = world_poses(self.shown, times)
            poses.flags.writeable = False
            if later:
                prefetch_lights(self.shown, times)
            self._posed = self.shown, {time: row for row, time in reversed(list(enumerate(times)))}, poses
        return self._posed[2][self._posed[1][self.time]]
