"""The stage's tools: selecting and dragging points, and drawing a path."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeyEvent
from vtkmodules.vtkRenderingCore import vtkActor

from kestrav.app.point_edits import insert_at_station
from kestrav.app.stage import Stage, Tool
from kestrav.core.document import edits
from kestrav.core.document.lookup import ancestors, new_id, new_name
from kestrav.core.document.records import Part, Path, PathPoint, PointShape, Project
from kestrav.core.geometry.curves import spline_through
from kestrav.core.motion.making import add_run
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.motion.poses import placement_matrix
from kestrav.core.units import show
from kestrav.render.marks import flat, free_handles, grid, handle_geometry
from kestrav.render.measure_marks import vertices
from kestrav.render.palette import PETROL
from kestrav.render.shapes import point_cloud, polyline, segments
from kestrav.render.viewpoint import angle_locked, facing, on_plane

Array = NDArray[np.float64]
Plane = Literal["floor", "upright"]

_UP = np.array([0.0, 0.0, 1.0])
_FLAT_VIEW = 0.26  # sine of the elevation below which a level plane is too slanted to drag in
STEP = 1.0  # mm to which drawn and dragged coordinates are rounded


def _vector(point: Array) -> tuple[float, float, float]:
    x, y, z = (float(round(v / STEP) * STEP) + 0.0 for v in point)
    return (x, y, z)


class SelectTool(Tool):
    """Click to select; drag a path's points and handles; drag elsewhere to turn the view."""

    hint = "Click selects, click again goes one level deeper · drag a point · Shift lifts it · drag elsewhere turns"

    def __init__(self, stage: Stage) -> None:
        super().__init__(stage)
        self._held: tuple[str, int, str] | None = None  # path, point, field
        self._start = np.zeros(3)
        self._drags = 0

    def press(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Take hold of a point or handle of the selected path."""
        self._held = None
        path = self.session.path
        if path is None or not isinstance(path.shape, PointShape):
            return
        points, _, ends = handle_geometry(path)
        hit = self.stage.near(position, ends)
        if hit is not None:
            index, field, _ = free_handles(path.shape)[hit]
            self._held, self._start = (path.id, index, field), ends[hit]
        else:
            hit = self.stage.near(position, points)
            if hit is None:
                return
            self._held, self._start = (path.id, hit, "position"), points[hit]
        self._drags += 1
        self.session.select(path.id, self._held[1])

    def drag(self, position: QPoint, keys: Qt.KeyboardModifier) -> bool:
        """Move what is held, in the level plane through it, or up and down with Shift."""
        if self._held is None:
            return False
        path_id, index, field = self._held
        view = self.stage.viewpoint
        lift = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        level = not lift and abs(view.forward[2]) > _FLAT_VIEW
        normal = _UP if level else facing(view.forward)
        place = on_plane(*self.stage.ray_at(position), self._start, normal)
        if place is None:
            return True
        if lift:
            place = np.array([self._start[0], self._start[1], place[2]])
        if field != "position":
            place = place - np.asarray(edits.point_shape(self.session.project, path_id).points[index].position)
        self.session.edit(
            "Move point" if field == "position" else "Move handle",
            lambda project: edits.set_point(project, path_id, index, **{field: _vector(place)}),
            merge=f"drag-{self._drags}",
        )
        self.stage.said.emit("  ".join(f"{a} {show(v, 'mm')}" for a, v in zip("xyz", _vector(place), strict=True)))
        return True

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
        meant = self.stage.click_part(hit.part, deepest)
        if keys & Qt.KeyboardModifier.ShiftModifier and self.session.chosen:
            self.session.toggle_part(self._beside(hit.part))
        else:
            self.session.select(meant)

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
        found = self.stage.path_under(position)
        if found is not None:
            insert_at_station(self.stage.session, *found)

    def key(self, event: QKeyEvent) -> bool:
        """Esc lets the selection go."""
        if event.key() == Qt.Key.Key_Escape:
            self.session.select(None)
            return True
        return False


class DrawTool(Tool):
    """Draw a path point by point on the floor or on an upright plane through the selection."""

    def __init__(self, stage: Stage, done: Callable[[], None]) -> None:
        super().__init__(stage)
        self.plane: Plane = "floor"
        self.points: list[Array] = []
        self._cursor: Array | None = None
        self._normal = _UP
        self._through = np.zeros(3)
        self._done = done
        self._rider: str | None = None
        self._actors: list[vtkActor] = []

    @property
    def hint(self) -> str:  # type: ignore[override]
        """What to do next, with the coordinates under the pointer."""
        where = ""
        if self._cursor is not None:
            where = "  ".join(f"{a} {show(v, 'mm')}" for a, v in zip("xyz", _vector(self._cursor), strict=True)) + " · "
        what = "click the path’s first point" if not self.points else "click the next point"
        return f"{where}{what} · Enter finishes · Backspace takes one back · Esc drops it"

    def begin(self) -> None:
        """Start a new path; with a part selected it is to ride along it."""
        self.points, self._cursor = [], None
        item = self.session.item
        self._rider = item.id if isinstance(item, Part) else None
        self._line = flat(polyline([[0, 0, 0], [0, 0, 1]]), PETROL, 2.5)
        self._dots = flat(point_cloud(np.empty((0, 3))), PETROL, 1.0)
        self._grid = flat(segments(np.empty((0, 2, 3))), PETROL, 1.0, 0.25)
        self._dots.GetProperty().SetPointSize(9)
        self._actors = [self._line, self._dots, self._grid]
        for actor in self._actors:
            self.stage.over.AddActor(actor)
        self.set_plane(self.plane)

    def end(self) -> None:
        """Take the preview away."""
        for actor in self._actors:
            self.stage.over.RemoveActor(actor)
        self._actors = []
        self.stage.schedule()

    def set_plane(self, plane: Plane) -> None:
        """Draw on the floor, or upright through the selection's pivot."""
        self.plane, self.points = plane, []
        pivot = self._pivot()
        if plane == "floor":
            self._normal, self._through = _UP, np.zeros(3)
        else:
            self._normal = facing(self.stage.viewpoint.forward)
            self._through = self.stage.viewpoint.focus if pivot is None else pivot
            if pivot is not None:
                self.points = [pivot]
        self._show()

    def _pivot(self) -> Array | None:
        if self._rider is None:
            return None
        rows = [p.id for p in self.session.shown.parts]
        part = self.session.shown.parts[rows.index(self._rider)]
        found: Array = (self.session.poses()[rows.index(self._rider)] @ placement_matrix(part.pivot))[:3, 3]
        return found

    def _place(self, position: QPoint, keys: Qt.KeyboardModifier) -> Array | None:
        place = on_plane(*self.stage.ray_at(position), self._through, self._normal)
        if place is None or np.linalg.norm(place - self.stage.viewpoint.position) > 100_000:
            return None
        place = np.round(place / STEP) * STEP
        place = place - np.dot(place - self._through, self._normal) * self._normal
        if keys & Qt.KeyboardModifier.ShiftModifier and self.points:
            place = angle_locked(self.points[-1], place, self._normal)
        return place

    def hover(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Show the path as it would be."""
        self._cursor = self._place(position, keys)
        self._show()

    def click(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Add a point."""
        place = self._place(position, keys)
        if place is None:
            self.session.refused.emit("the plane is not under the pointer there; turn the view, or draw upright")
            return
        if self.points and np.linalg.norm(place - self.points[-1]) < STEP:
            return
        self.points.append(place)
        self._show()

    def double_click(self, position: QPoint) -> None:
        """Finish."""
        self.finish()

    def key(self, event: QKeyEvent) -> bool:
        """Enter finishes, Backspace takes a point back, Esc drops the path."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.finish()
        elif event.key() == Qt.Key.Key_Backspace:
            self.points = self.points[:-1]
            self._show()
        elif event.key() == Qt.Key.Key_Escape:
            self.points = []
            self._done()
        else:
            return False
        return True

    def finish(self) -> None:
        """Make the path, and a run along it when a part was selected."""
        if len(self.points) < 2:
            self.session.refused.emit("a path needs two points or more; click them, then press Enter")
            return
        points, rider = [_vector(p) for p in self.points], self._rider
        made: list[str] = []

        def draw(project: Project) -> Project:
            name = new_name(project, Path, "Path 1" if not project.paths else f"Path {len(project.paths) + 1}")
            path = Path(new_id(project, Path), name, PointShape(tuple(PathPoint(p) for p in points)))
            made[:] = [path.id]
            project = edits.add(project, path)
            return project if rider is None else add_run(project, rider, path.id)

        if self.session.edit("Draw path", draw):
            self.points = []
            self._done()
            self.session.select(made[0])

    def _show(self) -> None:
        if not self._actors:
            return
        points = [*self.points, *([self._cursor] if self._cursor is not None else [])]
        kept = [p for i, p in enumerate(points) if i == 0 or np.linalg.norm(p - points[i - 1]) > 1e-6]
        if len(kept) > 1:
            curve = spline_through(kept, ["smooth"] * len(kept), [None] * len(kept), [None] * len(kept))
            line = curve.evaluate(np.linspace(curve.breaks[0], curve.breaks[-1], 24 * len(kept)))
            self._line.GetMapper().SetInputData(polyline(line))
        self._line.SetVisibility(len(kept) > 1)
        self._dots.GetMapper().SetInputData(vertices(np.array(points)))
        plane = "xy" if self._normal[2] else "yz" if self._normal[0] else "xz"
        centre = np.array(points[-1] if points else self._through)
        at = float(np.dot(self._through, self._normal))
        self._grid.GetMapper().SetInputData(grid(centre - 1000, centre + 1000, 100.0, plane, at))
        self.stage.said.emit(self.hint)
        self.stage.schedule()
