"""The stage's first tool: selecting things and dragging points."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtGui import QCursor, QKeyEvent
from PySide6.QtWidgets import QApplication, QToolTip

from kestrav.app.stage.point_edits import insert_at_station
from kestrav.app.stage.stage import Stage
from kestrav.app.stage.stage_tool import StageTool
from kestrav.core.document import edits
from kestrav.core.document.lookup import ancestors, get, get_as, subtree
from kestrav.core.document.records import Path, PointShape, PoseTrack, Project, SurfaceShape
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.parts.rest import own_bounds
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import moved_points
from kestrav.core.paths.surface_paths import reshaped
from kestrav.core.units import show
from kestrav.render.marks import free_handles, handle_geometry
from kestrav.render.pose_marks import key_handles, key_places
from kestrav.render.viewpoint import facing, on_plane

Array = NDArray[np.float64]

_UP = np.array([0.0, 0.0, 1.0])
_FLAT_VIEW = 0.26  # sine of the elevation below which a level plane is too slanted to drag in
_RESTS = 350  # ms that the pointer rests before what is under it is named
STEP = 1.0  # mm to which drawn and dragged coordinates are rounded


def _vector(point: Array) -> tuple[float, float, float]:
    x, y, z = (float(round(v / STEP) * STEP) + 0.0 for v in point)
    return (x, y, z)


def _exact(point: Array) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in point)
    return (x, y, z)


class SelectTool(StageTool):
    """Click to select; drag a path's points and handles; drag elsewhere to turn the view."""

    hint = "Click selects, click again goes one level deeper · drag a point · Shift lifts it · Ctrl takes several · drag elsewhere turns"

    draws = False

    def __init__(self, stage: Stage) -> None:
        super().__init__(stage)
        self._held: tuple[str, int, str] | None = None  # path, point, field
        self._start = np.zeros(3)
        self._drags = 0
        self._toggled = False
        self._at = QPoint()
        self._rest = QTimer(stage, singleShot=True, interval=_RESTS)
        self._rest.timeout.connect(self._tell_name)

    def end(self) -> None:
        """Laid down."""
        self._rest.stop()

    def hover(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Where the pointer rests, its place is named."""
        self._at = position
        self._rest.start()

    def _tell_name(self) -> None:
        # not of what the pointer has left meanwhile, nor while something is dragged
        at = self.stage.mapToGlobal(self._at)
        if self.stage.isVisible() and (at - QCursor.pos()).manhattanLength() < 3 and not QApplication.mouseButtons():
            text = self.name_at(self._at)
            if text:
                QToolTip.showText(at + QPoint(0, 4), text, self.stage)

    def name_at(self, position: QPoint) -> str:
        """What is under the pointer, and its size: a path, or a part with the assemblies that it belongs to."""
        project, path, hit = self.session.shown, self.stage.path_under(position), self.stage.pick(position)
        if path is not None and not self._hidden(path, hit.place if hit else None):
            record = get_as(project, path[0], Path)
            length = path_curve(record).length
            return f"{record.name}: {show(path[1], 'mm', 0)} of {show(length, 'mm', 0)}"
        if hit is None:
            return ""
        chain = [*ancestors(project, hit.part), hit.part]
        low, high = own_bounds(project, hit.part)
        size = " × ".join(show(float(v), "", 0) for v in high - low)
        return f"{' › '.join(get(project, i).name for i in chain)}\n{size}\u2009mm"

    def press(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Take hold of a point or handle of the selected path."""
        self._held, self._toggled = None, False
        if isinstance(self.session.item, PoseTrack):
            self._press_pose(self.session.item, position)
            return
        path = self.session.path
        if path is None or not isinstance(path.shape, (PointShape, SurfaceShape)):
            return
        points, _, ends = handle_geometry(path)
        hit = self.stage.near(position, ends)
        if hit is not None and isinstance(path.shape, PointShape):
            index, field, _ = free_handles(path.shape)[hit]
            self._held, self._start = (path.id, index, field), ends[hit]
        else:
            hit = self.stage.near(position, points)
            if hit is None:
                return
            self._held, self._start = (path.id, hit, "position"), points[hit]
        self._drags += 1
        index = self._held[1]
        if index in self.session.points and len(self.session.points) > 1:
            return  # all of them are held
        if keys & Qt.KeyboardModifier.ControlModifier and self._held[2] == "position":
            self.session.toggle_point(index)
            self._toggled = True
        else:
            self.session.select(path.id, index)

    def _press_pose(self, poses: PoseTrack, position: QPoint) -> None:
        """Take hold of a key pose, or of a handle of one."""
        fields, ends = key_handles(poses)
        hit = self.stage.near(position, ends)
        if hit is not None:
            index, field = fields[hit]
            self._held, self._start = (poses.id, index, field), ends[hit]
        else:
            spots = key_places(poses)
            hit = self.stage.near(position, spots)
            if hit is None:
                return
            self._held, self._start = (poses.id, hit, "position"), spots[hit]
        self._drags += 1
        self.session.select(poses.id, self._held[1])

    def _drag_pose(self, place: Array) -> None:
        """Bring the held key pose or handle to a place."""
        assert self._held is not None
        poses_id, index, field = self._held

        def bring(project: Project) -> Project:
            poses = get_as(project, poses_id, PoseTrack)
            keys = list(poses.keys)
            key = keys[index]
            if field == "position":
                held = msgspec.structs.replace(key.placement, position=_vector(place))
                keys[index] = msgspec.structs.replace(key, placement=held)
            else:
                handle = _vector(place - np.array(key.placement.position))
                keys[index] = msgspec.structs.replace(key, **{field: handle})
            return edits.update(project, poses_id, keys=tuple(keys))

        self.session.edit("Key pose", bring, merge=f"drag-{self._drags}")
        self.stage.said.emit("  ".join(f"{a} {show(v, 'mm')}" for a, v in zip("xyz", _vector(place), strict=True)))

    def drag(self, position: QPoint, keys: Qt.KeyboardModifier) -> bool:
        """Move what is held, in the level plane through it, or up and down with Shift."""
        if self._held is None:
            return False
        path_id, index, field = self._held
        if isinstance(self.session.path and self.session.path.shape, SurfaceShape):
            self._drag_on_surface(position)
            return True
        view = self.stage.viewpoint
        lift = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        level = not lift and abs(view.forward[2]) > _FLAT_VIEW
        normal = _UP if level else facing(view.forward)
        place = on_plane(*self.stage.ray_at(position), self._start, normal)
        if place is None:
            return True
        if lift:
            place = np.array([self._start[0], self._start[1], place[2]])
        if isinstance(self.session.item, PoseTrack):
            self._drag_pose(place)
            return True
        if field == "position" and len(self.session.points) > 1:
            self._drag_several(place)
            return True
        if field != "position":
            place = place - np.asarray(edits.point_shape(self.session.project, path_id).points[index].position)
        self.session.edit(
            "Move point" if field == "position" else "Move handle",
            lambda project: edits.set_point(project, path_id, index, **{field: _vector(place)}),
            merge=f"drag-{self._drags}",
        )
        self.stage.said.emit("  ".join(f"{a} {show(v, 'mm')}" for a, v in zip("xyz", _vector(place), strict=True)))
        return True

    def _drag_several(self, place: Array) -> None:
        """Move all chosen points as the held one goes."""
        assert self._held is not None
        path_id, index, _ = self._held
        here = np.array(edits.point_shape(self.session.project, path_id).points[index].position)
        step, chosen = np.array(_vector(place)) - here, self.session.points
        self.session.edit("Move points", lambda p: moved_points(p, path_id, chosen, step), merge=f"drag-{self._drags}")
        self.stage.said.emit(f"{len(chosen)} points")

    def _drag_on_surface(self, position: QPoint) -> None:
        """Move a point of a path on a surface to where the pointer meets that surface."""
        assert self._held is not None
        path_id, index, _ = self._held
        path, hit = self.session.path, self.stage.pick(position)
        if path is None or not isinstance(path.shape, SurfaceShape) or hit is None or hit.part != path.shape.part:
            return
        local = apply(inverse_rigid(self.session.part_now(hit.part)), hit.place[None])[0]
        points = [*path.shape.points]
        points[index] = _exact(local)
        meshes = self.session.meshes
        self.session.edit(
            "Move point", lambda p: reshaped(p, meshes, path_id, points=points), merge=f"drag-{self._drags}"
        )

    def drop(self) -> None:
        """Let go."""
        self._held = None
        self.stage.said.emit(self.hint)

    def click(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Select a point, a path, or a part."""
        if self._held is not None:
            return
        path = self.stage.path_under(position)
        hit = self.stage.pick(position)
        if path is not None and not self._hidden(path, hit.place if hit else None):
            self.session.select(path[0])
            return
        if hit is None:
            self.session.select(None)
            return
        deepest = bool(keys & Qt.KeyboardModifier.ControlModifier)
        meant = self.stage.click_part(hit.part, deepest=deepest)
        if keys & Qt.KeyboardModifier.ShiftModifier and self.session.chosen:
            self.session.toggle_part(self._beside(hit.part))
        else:
            self.session.select(meant)

    def select_at(self, position: QPoint) -> None:
        """Select what is under the pointer, unless it is selected already, with others perhaps."""
        path, hit = self.stage.path_under(position), self.stage.pick(position)
        if path is not None and not self._hidden(path, hit.place if hit else None):
            if self.session.selection != path[0]:
                self.session.select(path[0])
        elif hit is None:
            self.session.select(None)
        elif not any(hit.part in subtree(self.session.shown, i) for i in self.session.chosen):
            self.session.select(self.stage.click_part(hit.part, deepest=False))

    def _beside(self, part_id: str) -> str:
        """The thing at the level of the selection that a part belongs to, to be chosen with it."""
        project = self.session.shown
        chain = [*ancestors(project, part_id), part_id]
        chosen = next((i for i in chain if i in self.session.chosen), None)
        if chosen is not None:
            return chosen
        above = ancestors(project, self.session.chosen[-1])
        shared = next((i for i in reversed(above) if i in chain), None)
        return chain[chain.index(shared) + 1] if shared is not None else chain[0]

    def _hidden(self, path: tuple[str, float], place: Array | None) -> bool:
        """Whether a part's surface lies before a path's station."""
        if place is None:
            return False
        view = self.stage.viewpoint
        record = next(p for p in self.session.shown.paths if p.id == path[0])
        station = path_curve(record).curve.position([path[1]])[0]
        behind = float(np.dot(station - place, view.forward))
        return behind > 6 * view.pixel(self.stage.height())

    def double_click(self, position: QPoint) -> None:
        """Put a point into the path where it is pressed twice."""
        path = self.stage.path_under(position)
        if path is not None:
            insert_at_station(self.stage.session, *path)

    def key(self, event: QKeyEvent) -> bool:
        """Esc lets the selection go."""
        if event.key() == Qt.Key.Key_Escape:
            self.session.select(None)
            return True
        return False
