"""A path and its points."""

from __future__ import annotations

from functools import partial
from typing import Any

import msgspec

from kestrav.app.cards.path_judge import JudgeRows
from kestrav.app.cards.path_table import TableRows
from kestrav.app.cards.path_whole import WholeRows
from kestrav.app.cards.rows import Rows
from kestrav.app.point_edits import delete_point, insert_after, insert_at_station
from kestrav.core.document import edits
from kestrav.core.document.records import (
    ArcShape,
    EllipseShape,
    HelixShape,
    OrbitShape,
    Path,
    PointShape,
    Project,
    RectangleShape,
    SurfaceShape,
)
from kestrav.core.findings.model import name_of
from kestrav.core.motion import joining, shaping
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.motion.surface_paths import reshaped
from kestrav.core.units import show

TABS = ("Shape", "Whole", "Table", "Judge")
ORBIT_KINDS = [
    ("circle", "circle"),
    ("ellipse", "ellipse"),
    ("rectangle", "tightest rectangle"),
    ("hull", "its own outline"),
]
MOST_LISTED = 60  # points; more are chosen by their number


class PathRows(Rows):
    """The path as a whole and the chosen point."""

    def build(self, path: Path) -> None:
        form, made = self.form, path_curve(path)
        self.card.title.setText(f"{path.name} · {show(made.length, 'mm')}")
        form.tabs(TABS, self.card.path_tab, self.card.show_path_tab, "Show")
        tab = self.card.path_tab
        if tab == "Whole":
            WholeRows(self.card).build(path)
        elif tab == "Table":
            TableRows(self.card).build(path)
        elif tab == "Judge":
            JudgeRows(self.card).build(path)
        else:
            self._name(path)
            self._shape(path)
            self._ends(path)
        self._delete(path.id, "path")

    def _ends(self, path: Path) -> None:
        """What goes on from here: drawing on, and riders."""
        form = self.form
        if not path_curve(path).curve.closed:
            form.buttons(
                (
                    "Draw on from start",
                    lambda: self.card.draw_on_asked.emit(path.id, "start"),
                    "Go on drawing from where the path begins",
                ),
                (
                    "Draw on from end",
                    lambda: self.card.draw_on_asked.emit(path.id, "end"),
                    "Go on drawing from where the path ends",
                ),
            )
        project = self.session.shown
        options = [("", "choose …"), *((p.id, p.name) for p in project.parts if p.parent is None or p.geometry is None)]
        options += [(c.id, f"camera {c.name}") for c in project.cameras]
        form.choice(
            "Rider", options, "", lambda rider: self._add_run(rider, path.id), "Let a thing run along this path"
        )

    def _shape(self, path: Path) -> None:
        shape = path.shape
        if isinstance(shape, PointShape):
            self._points(path, shape)
        elif isinstance(shape, EllipseShape):
            self._ellipse(path, shape)
        elif isinstance(shape, SurfaceShape):
            self._surface(path, shape)
        elif isinstance(shape, OrbitShape):
            self._orbit(path, shape)
        else:
            self._exact(path, shape)

    def _surface(self, path: Path, shape: SurfaceShape) -> None:
        """What a path on a surface goes by."""
        form, session = self.form, self.session
        part = next(p for p in session.shown.parts if p.id == shape.part)

        def change(label: str, **fields: Any) -> None:
            meshes = session.meshes
            session.edit(label, lambda p: reshaped(p, meshes, path.id, **fields))

        form.note(f"{len(shape.points)} points on “{part.name}”. Drag one: it stays on the surface.")
        form.number(
            "Lift", shape.lift, "mm", lambda v: change("Lift", lift=v), "How far above the surface, along its normal"
        )
        between = [("smooth", "smoothly"), ("shortest", "the shortest way")]
        form.choice(
            "Runs",
            between,
            shape.between,
            lambda k: change("Way between", between=k),
            "How it goes from point to point",
        )
        form.check(
            "Closed", "joined end to start", shape.closed, lambda v: change("Close path", closed=v), "Back to its start"
        )
        index = session.point
        if index is not None and index < len(shape.points):
            form.vector(
                f"Point {index + 1}",
                shape.points[index],
                "mm",
                lambda v: change("Move point", points=[*shape.points[:index], v, *shape.points[index + 1 :]]),
                "In the part's own coordinates; it goes to the surface's nearest place",
            )
            form.buttons(
                (
                    "Delete point",
                    lambda: change("Delete point", points=[*shape.points[:index], *shape.points[index + 1 :]]),
                    "Take this point out",
                )
            )

    def _change(self, path: Path, **fields: Any) -> None:
        self._set(path.id, "Change shape", shape=msgspec.structs.replace(path.shape, **fields))

    def _exact(self, path: Path, shape: ArcShape | RectangleShape | HelixShape) -> None:
        """The parameters of an arc, rectangle or helix."""
        form, change = self.form, partial(self._change, path)
        tip = "Middle of the circle" if isinstance(shape, ArcShape) else "Middle of it; z is its height"
        form.vector("Centre", shape.centre, "mm", lambda v: change(centre=v), tip)

        def number(label: str, field: str, unit: str, tip: str, step: float = 10.0, places: int = 1) -> None:
            form.number(label, getattr(shape, field), unit, lambda v: change(**{field: v}), tip, places, step)

        if isinstance(shape, ArcShape):
            form.vector("Start", shape.start, "mm", lambda v: change(start=v), "Where the arc begins")
            number("Sweep", "sweep", "°", "How far it goes round; negative the other way", 5)
            form.vector(
                "Axis", shape.axis, "", lambda v: change(axis=v), "The direction that it goes round, as a vector", 3
            )
            return
        if isinstance(shape, RectangleShape):
            number("Width", "width", "mm", "Over all along x before it is turned")
            number("Depth", "depth", "mm", "Over all along y before it is turned")
            number("Corners", "radius", "mm", "Radius of its corners; 0 for sharp ones")
            number("Exponent", "exponent", "", "2 for round corners, more for superelliptic ones", 0.5, 2)
            number("Turned", "turn", "°", "The whole turned about z", 5)
        else:
            number("Radius", "radius", "mm", "Radius of the helix")
            number("Pitch", "pitch", "mm", "Rise of one turn; negative downwards")
            number("Turns", "turns", "", "How many turns", 0.25, 3)
            number("Begins at", "start", "°", "Where it begins, from the x axis", 5)
        form.check(
            "Direction",
            "clockwise from above",
            shape.clockwise,
            lambda v: change(clockwise=v),
            "Which way it is travelled",
        )

    def _orbit(self, path: Path, shape: OrbitShape) -> None:
        """What an orbit goes around, and how."""
        form, change, project = self.form, partial(self._change, path), self.session.shown
        names = ", ".join(name_of(project, i) for i in shape.around)
        form.note(f"around {names}; it follows when that is moved" if names else "around what is not there any more")
        form.choice("Figure", ORBIT_KINDS, shape.kind, lambda v: change(kind=v), "The figure laid around it in plan")

        def number(label: str, field: str, unit: str, tip: str, step: float = 50.0, places: int = 0) -> None:
            form.number(label, getattr(shape, field), unit, lambda v: change(**{field: v}), tip, places, step)

        number("Offset", "offset", "mm", "How far from the outline it stays")
        number("Height", "height", "mm", "Above height 0 of the room")
        if shape.kind in ("rectangle", "hull"):
            rounding = shape.offset if shape.rounding is None else shape.rounding
            form.number(
                "Corners",
                rounding,
                "mm",
                lambda v: change(rounding=v),
                "Radius of its corners; as the offset, they keep it exactly",
                0,
                50,
            )
        number("Begins at", "start", "°", "Azimuth of its beginning, from +x to the left", 5, 1)
        number("Laps", "laps", "", "How many times around; below 1 a part of once", 0.25, 3)
        number("Rises by", "rise", "mm", "How much higher it ends than it begins")
        number("Tilt", "tilt", "°", "How steeply it leans", 1, 1)
        if shape.tilt:
            number("Highest at", "toward", "°", "The azimuth at which it is highest", 5, 1)
        form.check(
            "Direction",
            "clockwise from above",
            shape.clockwise,
            lambda v: change(clockwise=v),
            "Which way it is travelled",
        )
        form.buttons(
            (
                "Begin at the view",
                lambda: self.card.orbit_view_asked.emit(path.id),
                "Let it begin where the view stands, at its height and distance",
            )
        )

    def _ellipse(self, path: Path, shape: EllipseShape) -> None:
        form, change = self.form, partial(self._change, path)
        form.vector("Centre", shape.centre, "mm", lambda v: change(centre=v), "Centre of the ellipse; z is its height")
        form.number("Half width", shape.half_x, "mm", lambda v: change(half_x=v), "Half axis along x", step=10)
        form.number("Half depth", shape.half_y, "mm", lambda v: change(half_y=v), "Half axis along y", step=10)
        form.number("Turned", shape.turn, "°", lambda v: change(turn=v), "The whole ellipse turned about z")
        form.number(
            "Begins at", shape.start, "°", lambda v: change(start=v), "Where it begins, from its x axis", step=5
        )
        form.check(
            "Direction",
            "clockwise from above",
            shape.clockwise,
            lambda v: change(clockwise=v),
            "Which way it is travelled",
        )

    def _points(self, path: Path, shape: PointShape) -> None:
        form, index = self.form, self.session.point
        stations = path_curve(path).point_stations()
        if index is None or index >= len(shape.points):
            form.note(f"{len(shape.points)} points. Click a diamond in the stage, or choose one here.")
            index = None
        if len(shape.points) > MOST_LISTED:
            form.number(
                "Point",
                0 if index is None else index + 1,
                "",
                lambda v: self.session.select(path.id, min(max(round(v), 1), len(shape.points)) - 1),
                f"The point to edit, 1 to {len(shape.points)}",
                0,
            )
        else:
            options = [("", "none")] + [
                (str(i), f"{i + 1} of {len(shape.points)}, at {show(float(stations[i]), 'mm', 0)}")
                for i in range(len(shape.points))
            ]
            form.choice(
                "Point",
                options,
                "" if index is None else str(index),
                lambda key: self.session.select(path.id, int(key) if key else None),
                "The point to edit",
            )
        form.number(
            "Insert at",
            0.0,
            "mm",
            lambda v: insert_at_station(self.session, path.id, v),
            "Put a point into the path, so far from its start",
            1,
            10,
        )
        if len(self.session.points) > 1:
            self._several(path)
        elif index is not None:
            self._point(path, shape, index)
        form.check(
            "Closed",
            "joined end to start",
            shape.closed,
            lambda v: self._close(path, v),
            "Whether the path returns to its first point",
        )

    def _close(self, path: Path, on: bool) -> None:
        if on:
            self.session.edit("Close path", lambda p: joining.closed(p, path.id))
        else:
            self.session.edit("Open path", lambda p: _simply_opened(p, path.id))

    def _several(self, path: Path) -> None:
        """What is done with several points at once."""
        form, session, chosen = self.form, self.session, sorted(self.session.points)
        form.note(f"{len(chosen)} points chosen: {', '.join(str(i + 1) for i in chosen[:12])}")

        def kind(key: str) -> None:
            def change(project: Project) -> Project:
                for i in chosen:
                    project = edits.set_kind(project, path.id, i, key)  # type: ignore[arg-type]
                return project

            session.edit("Kind of points", change)

        kinds = [("", "as they are"), ("corner", "corners"), ("smooth", "smooth"), ("free", "free, own handles")]
        form.choice("Make them", kinds, "", kind, "One kind for all of them")
        form.vector(
            "Move by",
            (0.0, 0.0, 0.0),
            "mm",
            lambda v: session.edit("Move points", lambda p: shaping.moved_points(p, path.id, chosen, v)),
            "Move all of them together",
        )
        form.buttons(
            (
                "Merge them",
                lambda: (
                    session.edit("Merge points", lambda p: joining.merge_points(p, path.id, chosen))
                    and session.select(path.id, chosen[0])
                ),
                "Make neighbouring points one, in their middle",
            ),
            ("Delete them", lambda: delete_point(session), "Take them out (Delete)"),
        )

    def _point(self, path: Path, shape: PointShape, index: int) -> None:
        form, point, session = self.form, shape.points[index], self.session

        def change(label: str, **fields: Any) -> None:
            session.edit(label, lambda p: edits.set_point(p, path.id, index, **fields))

        kinds = [("corner", "corner"), ("smooth", "smooth"), ("free", "free, own handles")]
        form.choice(
            "Kind",
            kinds,
            point.kind,
            lambda kind: session.edit("Kind of point", lambda p: edits.set_kind(p, path.id, index, kind)),  # type: ignore[arg-type]
            "Corner: straight to the next corner. Smooth: curvature runs through. Free: by its handles (K: next kind)",
        )
        form.vector("At", point.position, "mm", lambda v: change("Move point", position=v), "Where the point is")
        if point.kind == "corner":
            form.number(
                "Radius",
                point.radius,
                "mm",
                lambda v: change("Round corner", radius=v),
                "Rounds the corner between two straight sides; 0 leaves it sharp",
                1,
                10,
            )
        if point.kind == "free":
            if point.handle_out is not None:
                form.vector("Out", point.handle_out, "mm", lambda v: change("Handle", handle_out=v), "Handle ahead")
            if point.handle_in is not None:
                form.vector("In", point.handle_in, "mm", lambda v: change("Handle", handle_in=v), "Handle behind")
            both = point.handle_in is not None and point.handle_out is not None
            form.check("Handles", "one on each side", both, lambda v: self._handles(path, index, v), "Unlink the sides")
        form.buttons(
            ("Insert after", lambda: insert_after(self.session), "Put a point half way to the next one (Insert)"),
            ("Delete point", lambda: delete_point(self.session), "Take this point out (Delete)"),
            ("Split here", lambda: self._split(path, index), "Make two paths of it, at this point"),
        )

    def _split(self, path: Path, index: int) -> None:
        station = float(path_curve(path).point_stations()[index])
        self.session.edit("Split path", lambda p: joining.split(p, path.id, station))

    def _handles(self, path: Path, index: int, both: bool) -> None:
        def change(project: Project) -> Project:
            point = edits.point_shape(project, path.id).points[index]
            out = point.handle_out or tuple(-v for v in point.handle_in or (50.0, 0.0, 0.0))
            mirrored = tuple(-v for v in out) if both else None
            return edits.set_point(project, path.id, index, handle_out=out, handle_in=mirrored)

        self.session.edit("Handles", change)


def _simply_opened(project: Project, path_id: str) -> Project:
    """A closed path of points without the piece back to its first one."""
    shape = edits.point_shape(project, path_id)
    return edits.update(project, path_id, shape=msgspec.structs.replace(shape, closed=False))
