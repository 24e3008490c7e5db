"""Drawing paths in the stage: on planes, faces and surfaces, by clicks, by hand and by typed numbers; picking edges."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QPoint, Qt, Signal
from PySide6.QtGui import QKeyEvent
from vtkmodules.vtkRenderingCore import vtkActor

from kestrav.app.stage.stage import Stage
from kestrav.app.stage.stage_base import GRAB_PIXELS
from kestrav.app.stage.stage_tool import StageTool
from kestrav.core.clearance.measuring import in_space, nearest_edge
from kestrav.core.document import edits
from kestrav.core.document.lookup import get_as, new_id, new_name, topmost
from kestrav.core.document.records import Part, Path, PathPoint, PointShape, Project, Shape
from kestrav.core.editing.joining import End
from kestrav.core.editing.path_making import add_edge_path, extended
from kestrav.core.editing.run_making import add_run, pivot_on_it
from kestrav.core.editing.sketching import PLACES, Draws, Plane, drawn_path, drawn_shape, named, path_ends
from kestrav.core.errors import BadInput
from kestrav.core.geometry.topology import topology
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.parts.rest import placement_matrix
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.paths.fitting import points_by_hand
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.surface_paths import surface_shape
from kestrav.core.units import show
from kestrav.render.marks import flat, plane_grid
from kestrav.render.palette import PETROL
from kestrav.render.shapes import point_cloud, polyline, put_data, segments, vertices
from kestrav.render.viewpoint import facing, on_plane

Array = NDArray[np.float64]
On = Literal["floor", "height", "upright", "view", "face", "surface"]

_UP = np.array([0.0, 0.0, 1.0])
_FARTHEST = 100_000.0  # mm from the eye
_HAND_PIXELS = 2.0  # how far a line drawn by hand may be from the hand
ON: tuple[tuple[On, str], ...] = (
    ("floor", "floor"),
    ("height", "height"),
    ("upright", "upright"),
    ("view", "facing the view"),
    ("face", "a picked face"),
    ("surface", "a part’s surface"),
)
DRAWS: tuple[tuple[Draws, str], ...] = (
    ("smooth", "smooth path"),
    ("corners", "straight sides"),
    ("hand", "by hand"),
    ("three", "arc, 3 points"),
    ("centre", "arc, by centre"),
    ("tangent", "arc, from an end"),
    ("circle", "circle"),
    ("ellipse", "ellipse"),
    ("rectangle", "rectangle"),
)
_ASKS: dict[Draws, tuple[str, ...]] = {
    "three": ("the arc’s start", "a place on the arc", "the arc’s end"),
    "centre": ("the arc’s centre", "its start", "where it ends"),
    "tangent": ("an end of a path", "where the arc ends"),
    "circle": ("the circle’s centre", "its rim"),
    "ellipse": ("the ellipse’s centre", "the end of its first half axis", "how far the other reaches"),
    "rectangle": ("a corner", "the corner opposite"),
}
CATCHES = {"grid": "Grid", "vertex": "Corners", "edge": "Edges", "centre": "Centres", "end": "Path ends"}


class DrawSettings(QObject):
    """What drawing goes by; the strip shows and sets it."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.on: On = "floor"
        self.draws: Draws = "smooth"
        self.height = 0.0  # mm
        self.grid = 1.0  # mm
        self.lift = 0.0  # mm above a surface
        self.length = 0.0  # mm to the next point; 0 for any
        self.catches = {"grid", "vertex", "centre", "end"}


class DrawTool(StageTool):
    """Draw a path on a plane, a face or a surface."""

    quiet = True

    def __init__(self, stage: Stage, done: Callable[[], None]) -> None:
        super().__init__(stage)
        self.settings = DrawSettings()
        self.settings.setParent(stage)
        self.points: list[Array] = []
        self.plane: Plane | None = Plane(np.zeros(3), _UP)
        self.extending: tuple[str, End] | None = None
        self._surface: str | None = None  # the part whose surface is drawn on
        self._under: str | None = None  # the part that the pointer met last
        self._leaving: Array | None = None
        self._caught = ""
        self._cursor: Array | None = None
        self._stroke: list[Array] = []
        self._done = done
        self._rider: str | None = None
        self._actors: list[vtkActor] = []

    @property
    def hint(self) -> str:  # type: ignore[override]
        """What to do next, with the coordinates under the pointer."""
        settings, where = self.settings, ""
        if self._cursor is not None:
            where = "  ".join(f"{a} {show(float(v), 'mm')}" for a, v in zip("xyz", self._cursor, strict=True))
            if self.points:
                where += f" · {show(float(np.linalg.norm(self._cursor - self.points[-1])), 'mm')} on"
            where += f" · {self._caught} · " if self._caught else " · "
        if self.plane is None and settings.on == "face":
            return "click the flat face to draw on · Esc leaves"
        asks = _ASKS.get(settings.draws)
        if asks is not None:
            return f"{where}click {asks[min(len(self.points), len(asks) - 1)]} · Shift locks angles · Esc discards"
        if settings.draws == "hand":
            return f"{where}draw with the button down · Enter finishes · Esc discards"
        what = "click the path’s first point" if not self.points else "click the next point"
        return f"{where}{what} · Shift locks angles · Enter finishes · Backspace removes the last · Esc discards"

    # taking up and laying down

    def begin(self) -> None:
        """Start a new path; with a part selected it is to ride along it."""
        self.points, self._cursor, self._stroke = [], None, []
        self._caught = ""
        item = self.session.item
        self._rider = item.id if isinstance(item, Part) and self.extending is None else None
        self._line = flat(polyline([[0, 0, 0], [0, 0, 1]]), PETROL, 2.5)
        self._dots = flat(point_cloud(np.empty((0, 3))), PETROL, 1.0)
        self._grid = flat(segments(np.empty((0, 2, 3))), PETROL, 1.0, 0.25)
        self._dots.GetProperty().SetPointSize(9)
        self._actors = [self._line, self._dots, self._grid]
        for actor in self._actors:
            self.stage.marks.over.AddActor(actor)
        self._restart()

    def begin_on(self, path_id: str, end: End) -> None:
        """Go on from an end of a path; to be called before the tool is taken up."""
        self.extending = (path_id, end)

    def end(self) -> None:
        """Take the preview away."""
        self.extending = None
        self.stage.marks.caught.catch(None, None)
        for actor in self._actors:
            self.stage.marks.over.RemoveActor(actor)
        self._actors = []
        self.stage.schedule()

    def set(self, **fields: object) -> None:
        """Change what drawing goes by; another plane or shape begins afresh."""
        afresh = any(name in fields and fields[name] != getattr(self.settings, name) for name in ("on", "draws"))
        for name, value in fields.items():
            setattr(self.settings, name, value)
        if self.settings.on == "surface" and self.settings.draws not in ("smooth", "hand"):
            self.settings.draws = "smooth"
        if afresh and self._actors:
            self._restart()
        elif "height" in fields and self.settings.on == "height":
            self.plane = Plane(np.array([0.0, 0.0, self.settings.height]), _UP)
        self.settings.changed.emit()
        self._show()

    def _restart(self) -> None:
        self.points, self._surface, self._under, self._leaving = [], None, None, None
        self.plane = self._plane()
        if self.extending is not None:
            path_id, end = self.extending
            ends = [e for e in path_ends(self.session.project) if e[0] == path_id and e[1] == end]
            if ends:
                self.points = [ends[0][2]]
                self.plane = None if self.plane is None else Plane(ends[0][2], self.plane.normal)
        elif self.settings.on == "upright" and self.settings.draws in ("smooth", "corners"):
            pivot = self._pivot()
            if pivot is not None:
                self.points = [pivot]
        self._show()

    def _plane(self) -> Plane | None:
        """The plane to draw on; none where a face or surface is to be picked first."""
        on, view = self.settings.on, self.stage.viewpoint
        if on in ("floor", "height"):
            return Plane(np.array([0.0, 0.0, self.settings.height if on == "height" else 0.0]), _UP)
        pivot = self._pivot()
        through = view.focus if pivot is None else pivot
        if on == "upright":
            return Plane(through, facing(view.forward))
        if on == "view":
            return Plane(through, -view.forward)
        return None

    def _pivot(self) -> Array | None:
        if self._rider is None:
            return None
        # where it will be when the part rides
        part = get_as(pivot_on_it(self.session.shown, self._rider), self._rider, Part)
        pivot: Array = (self.session.part_now(self._rider) @ placement_matrix(part.pivot))[:3, 3]
        return pivot

    # places

    def _place(self, position: QPoint, keys: Qt.KeyboardModifier) -> Array | None:
        """Where a click would put a point."""
        settings, self._caught = self.settings, ""
        self.stage.marks.caught.catch(None, None)
        if "end" in settings.catches:
            # an end of another path is taken as it is, so that the two meet
            ends = [e for e in path_ends(self.session.shown) if self.extending != (e[0], e[1])]
            hit = self.stage.near(position, np.array([e[2] for e in ends]).reshape(-1, 3), GRAB_PIXELS)
            if hit is not None and settings.on != "surface":
                path_id, end, end_place, _ = ends[hit]
                name = next(p.name for p in self.session.shown.paths if p.id == path_id)
                self._caught = f"{end} of {name}"
                self.stage.marks.caught.catch(end_place, None)
                return end_place
        if settings.on == "surface":
            return self._on_part(position)
        if self.plane is None:
            return None
        kinds = [k for k in ("vertex", "edge", "centre") if k in settings.catches]
        snap = self.stage.catch(position, kinds) if kinds else None
        if snap is not None and snap.kind != "place":
            self._caught = {"vertex": "corner", "circle": "centre", "edge": "edge"}.get(snap.kind, snap.kind)
            self.stage.marks.caught.catch(snap.place, snap.outline)
            return self.plane.brought(snap.place)
        met = on_plane(*self.stage.ray_at(position), self.plane.point, self.plane.normal)
        if met is None or np.linalg.norm(met - self.stage.viewpoint.position) > _FARTHEST:
            return None
        place: Array = met
        if "grid" in settings.catches:
            place = self.plane.on_grid(place, settings.grid)
        by_steps = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        if self.points and (by_steps or settings.length > 0):
            place = self.plane.locked(self.points[-1], place, settings.length, None, by_steps=by_steps)
        return place

    def _on_part(self, position: QPoint) -> Array | None:
        hit = self.stage.pick(position)
        if hit is None or (self._surface is not None and hit.part != self._surface):
            return None
        self._under = hit.part
        self._caught = next(p.name for p in self.session.shown.parts if p.id == hit.part)
        return hit.place

    # the mouse and keys

    def hover(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Show the path as it would be."""
        self._cursor = self._place(position, keys)
        self._show()

    def press(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Begin a stroke by hand."""
        self._stroke = []
        if self.settings.draws == "hand" and (self.plane is not None or self.settings.on == "surface"):
            place = self._place(position, keys)
            if place is not None:
                self._surface = self._surface or self._under
                self._stroke = [place]

    def drag(self, position: QPoint, keys: Qt.KeyboardModifier) -> bool:
        """Draw by hand; otherwise the view turns."""
        if not self._stroke:
            return False
        place = self._place(position, keys)
        if place is not None and np.linalg.norm(place - self._stroke[-1]) > 1e-6:
            self._stroke.append(place)
            self._show()
        return True

    def drop(self) -> None:
        """A stroke becomes the fewest points that stay near it."""
        stroke, self._stroke = self._stroke, []
        if len(stroke) < 2:
            return
        try:
            shape = points_by_hand(np.array(stroke), _HAND_PIXELS * self.stage.pixel())
        except ValueError:
            return  # it did not leave its place
        self.points += [np.array(p.position) for p in shape.points]
        self._cursor = None
        self._show()

    def click(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Add a point, or pick the face to draw on."""
        if self.settings.draws == "hand":
            return
        if self.plane is None and self.settings.on == "face":
            self._take_face(position)
            return
        place = self._place(position, keys)
        if place is None:
            self.session.refused.emit(self._why_not())
            return
        self._surface = self._surface or self._under
        if self.settings.draws == "tangent" and not self.points:
            ends = path_ends(self.session.shown)
            at = next((e for e in ends if np.linalg.norm(e[2] - place) < 1e-6), None)
            if at is None:
                self.session.refused.emit("click the end of a path first: the arc leaves it in its direction")
                return
            self._leaving = at[3]
        self.add_point(place)

    def _why_not(self) -> str:
        if self.settings.on == "surface":
            part = self._surface and next(p.name for p in self.session.shown.parts if p.id == self._surface)
            return f"the path lies on “{part}”; click on it" if part else "click on the surface of a part"
        return "the plane is not under the pointer there; turn the view, or draw on another plane"

    def _take_face(self, position: QPoint) -> None:
        snap = self.stage.catch(position, ("face",))
        if snap is None or snap.feature.kind != "plane":
            self.session.refused.emit("that is not a flat face; click one to draw on")
            return
        feature = in_space(self.session.shown, self.session.poses(), snap.feature)
        self.plane = Plane(np.array(feature.origin), np.array(feature.axis))
        self._show()

    def add_point(self, place: Array) -> None:
        """Put a point at a place; a shape made by so many places is finished by the last."""
        if self.points and np.linalg.norm(place - self.points[-1]) < 1e-3:
            return
        if not self.points and self.plane is not None:
            # begun beside the plane, at the end of a path or at typed coordinates, it goes through there
            self.plane = Plane(np.asarray(place, float), self.plane.normal)
        self.points.append(np.asarray(place, float))
        if len(self.points) == PLACES[self.settings.draws]:
            self.finish()
        else:
            self._show()

    def add_by_length(self, length: float, angle: float) -> bool:
        """Put a point at a length in mm and an angle in degrees in the plane from the last one."""
        if self.plane is None or not self.points or length <= 0:
            self.session.refused.emit("click the first point, then type how far on and in which direction")
            return False
        self.add_point(self.plane.locked(self.points[-1], self.points[-1], length, angle))
        return True

    def double_click(self, position: QPoint) -> None:
        """Finish."""
        if not PLACES[self.settings.draws]:
            self.finish()

    def key(self, event: QKeyEvent) -> bool:
        """Enter finishes, Backspace takes a point back, Esc drops the path."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.finish()
        elif event.key() == Qt.Key.Key_Backspace:
            if len(self.points) > (1 if self.extending else 0):
                self.points = self.points[:-1]
            self._show()
        elif event.key() == Qt.Key.Key_Escape:
            self.points = []
            self._done()
        else:
            return False
        return True

    # what comes of it

    def _shape(self, points: list[Array]) -> Shape:
        if self.settings.on == "surface":
            return self._surface_shape(points)
        plane = self.plane or Plane(np.zeros(3), _UP)
        return drawn_shape(self.settings.draws, points, plane, self._leaving)

    def _surface_shape(self, points: list[Array]) -> Shape:
        if len(points) < 2 or self._surface is None:
            raise BadInput("a path needs two points or more; click them, then press Enter")
        back = inverse_rigid(self.session.part_now(self._surface))
        local = apply(back, np.array(points))
        return surface_shape(self.session.project, self.session.meshes, self._surface, local, self.settings.lift)

    def finish(self) -> None:
        """Make the path, and a run along it when a part was selected; or draw on from a path's end."""
        if self.extending is not None:
            self._extend(*self.extending)
            return
        try:
            shape = self._shape(self.points)
        except BadInput as fault:
            self.session.refused.emit(str(fault))
            return
        rider, draws, chosen = self._rider, self.settings.draws, self.session.chosen
        paths: list[str] = []

        def draw(project: Project) -> Project:
            name = named(draws)
            first = f"Path {len(project.paths) + 1}" if name == "Path" else name
            path = Path(new_id(project, Path), new_name(project, Path, first), shape)
            paths[:] = [path.id]
            project = edits.add(project, path)
            # what is selected with the rider goes along
            others = tuple(i for i in topmost(project, chosen) if i != rider)
            return project if rider is None else add_run(project, rider, path.id, others)

        if self.session.edit("Draw path", draw):
            self.points = []
            self._done()
            self.session.select(paths[0])

    def _extend(self, path_id: str, end: End) -> None:
        if len(self.points) < 2:
            self.session.refused.emit("click where the path is to go on, then press Enter")
            return
        try:
            shape = self._shape(self.points)
        except BadInput as fault:
            self.session.refused.emit(str(fault))
            return
        if not isinstance(shape, PointShape):
            self.session.refused.emit("a path is drawn on by points: choose smooth, straight sides or by hand")
            return
        further = [PathPoint(p.position, p.kind) for p in shape.points[1:]]
        if self.session.edit("Draw on", lambda p: extended(p, path_id, end, further)):
            self.points = []
            self._done()
            self.session.select(path_id)

    def _show(self) -> None:
        if not self._actors:
            return
        points = [*self.points, *self._stroke]
        if self._cursor is not None and not self._stroke:
            points.append(self._cursor)
        kept = [p for i, p in enumerate(points) if i == 0 or np.linalg.norm(p - points[i - 1]) > 1e-6]
        line = self._drawn(kept)
        if line is not None:
            put_data(self._line, polyline(line))
        self._line.SetVisibility(line is not None)
        dots = [*self.points, *([self._cursor] if self._cursor is not None else [])]
        put_data(self._dots, vertices(np.array(dots)))
        self._grid.SetVisibility(self.plane is not None and self.settings.on != "surface")
        if self.plane is not None:
            centre = self.plane.brought(points[-1] if points else self.plane.point)
            put_data(self._grid, plane_grid(centre, *self.plane.axes, 1000.0, 100.0))
        self.stage.said.emit(self.hint)
        self.stage.schedule()

    def _drawn(self, places: list[Array]) -> Array | None:
        """The line of the path as it would be, or of its places when it would be none yet."""
        if len(places) < 2:
            return None
        if self._stroke:
            return np.array(places)
        try:
            curve = path_curve(drawn_path(self._shape(places))).curve
        except BadInput:
            return np.array(places)
        return curve.position(np.linspace(0.0, curve.length, int(np.clip(24 * len(places), 96, 800))))


class EdgeTool(StageTool):
    """Pick edges of parts, one after another; they become one path."""

    quiet = True

    def __init__(self, stage: Stage, done: Callable[[], None]) -> None:
        super().__init__(stage)
        self.edges: list[tuple[str, int]] = []
        self._done = done

    @property
    def hint(self) -> str:  # type: ignore[override]
        """How many there are and what to do."""
        count = len(self.edges)
        have = "" if not count else f"{count} edge{'s' if count > 1 else ''} · "
        return (
            f"{have}click edges that follow one another; click again to remove one · Enter makes the path · Esc leaves"
        )

    def begin(self) -> None:
        """Begin with none."""
        self.edges = []

    def end(self) -> None:
        """Take the marks away."""
        self.stage.marks.caught.clear()

    def _edge_at(self, position: QPoint) -> tuple[str, int] | None:
        hit = self.stage.pick(position)
        if hit is None:
            return None
        part = self.session.shown.parts[hit.row]
        local = apply(inverse_rigid(self.session.poses()[hit.row]), hit.place[None])[0]
        edge = nearest_edge(
            solid_mesh(self.session.meshes, part), hit.triangle, local, 3 * self.stage.snap_reach(hit.place)
        )
        return None if edge is None else (part.id, edge)

    def _lines(self, edges: list[tuple[str, int]]) -> Array:
        """Lines (n, 2, 3) of edges where they are now."""
        project, poses = self.session.shown, self.session.poses()
        row = {p.id: i for i, p in enumerate(project.parts)}
        pairs = []
        for part_id, number in edges:
            points = topology(solid_mesh(self.session.meshes, project.parts[row[part_id]])).edges[number].points
            placed = apply(poses[row[part_id]], points)
            pairs.append(np.stack([placed[:-1], placed[1:]], axis=1))
        return np.concatenate(pairs) if pairs else np.empty((0, 2, 3))

    def hover(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Show the edge that a click would take."""
        edge = self._edge_at(position)
        if edge is None:
            self.stage.marks.caught.catch(None, None)
        else:
            line = self._lines([edge])
            self.stage.marks.caught.catch(line[0, 0], np.concatenate([line[:, 0], line[-1:, 1]]))
        self.stage.schedule()

    def click(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Take an edge, or let it go."""
        edge = self._edge_at(position)
        if edge is None:
            self.session.refused.emit("no edge is there; click near an edge of a part")
            return
        self.edges = [e for e in self.edges if e != edge] if edge in self.edges else [*self.edges, edge]
        self.stage.marks.caught.pick([], self._lines(self.edges))
        self.stage.said.emit(self.hint)
        self.stage.schedule()

    def key(self, event: QKeyEvent) -> bool:
        """Enter makes the path, Esc leaves."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            edges, meshes, poses = list(self.edges), self.session.meshes, self.session.poses()
            if self.session.edit("Path along edges", lambda p: add_edge_path(p, meshes, edges, poses)):
                self._done()
                self.session.select(self.session.project.paths[-1].id)
        elif event.key() == Qt.Key.Key_Escape:
            self._done()
        else:
            return False
        return True
