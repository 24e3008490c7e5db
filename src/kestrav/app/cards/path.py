"""A path and its points."""

from __future__ import annotations

from functools import partial
from typing import Any

import msgspec

from kestrav.app.cards.path_analysis import AnalysisRows
from kestrav.app.cards.path_table import TableRows
from kestrav.app.cards.path_transform import TransformRows
from kestrav.app.cards.rows import Rows
from kestrav.app.stage.point_edits import delete_point, insert_after, insert_at_station
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
from kestrav.core.editing import joining
from kestrav.core.findings.model import name_of
from kestrav.core.paths import shaping
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.surface_paths import reshaped
from kestrav.core.units import show

MOST_LISTED = 60  # points; more are chosen by their number


class PathRows(Rows):
    """The path as a whole and the chosen point."""

    def build(self, path: Path) -> None:
        form, curve = self.form, path_curve(path)
        self.form.title = f"{path.name} · {show(curve.length, 'mm')}"
        if form.section("Shape"):
            self._name(path)
            self._shape(path)
            self._ends(path)
        TransformRows(self.card).build(path)
        if isinstance(path.shape, PointShape) and form.section("Table of points", f"{len(path.shape.points)} points"):
            TableRows(self.card).build(path)
        if form.section("Analysis", show(curve.length, "mm", 0)):
            AnalysisRows(self.card).build(path)
        self._delete(path)

    def _ends(self, path: Path) -> None:
        """What goes on from here: drawing on, and riders."""
        form = self.form
        if not path_curve(path).curve.closed:
            form.buttons(
                (
                    "Extend from start",
                    lambda: self.card.draw_on_asked.emit(path.id, "start"),
                    "Continue drawing from the path's start",
                ),
                (
                    "Extend from end",
                    lambda: self.card.draw_on_asked.emit(path.id, "end"),
                    "Continue drawing from the path's end",
                ),
            )
        project = self.session.shown
        options = [("", "choose …"), *((p.id, p.name) for p in project.parts if p.parent is None or p.geometry is None)]
        options += [(c.id, f"camera {c.name}") for c in project.cameras]
        form.choice(
            "Rider",
            options,
            "",
            lambda rider: self._add_run(rider, path.id),
            "Move a part, camera or light along this path",
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
            "Lift", shape.lift, "mm", lambda v: change("Lift", lift=v), "Height above the surface, along its normal"
        )
        between = [("smooth", "smoothly"), ("shortest", "shortest")]
        form.choice(
            "Segments",
            between,
            shape.between,
            lambda k: change("Route", between=k),
            "Route between points on the surface",
        )
        form.check(
            "Closed",
            "joined end to start",
            shape.closed,
            lambda v: change("Close path", closed=v),
            "Close the path to its start",
        )
        index = session.point
        if index is not None and index < len(shape.points):
            form.vector(
                f"Point {index + 1}",
                shape.points[index],
                "mm",
                lambda v: change("Move point", points=[*shape.points[:index], v, *shape.points[index + 1 :]]),
                "Point in the part's coordinates; moved to the nearest place on the surface",
            )
            form.buttons(
                (
                    "Delete point",
                    lambda: change("Delete point", points=[*shape.points[:index], *shape.points[index + 1 :]]),
                    "Delete this point",
                )
            )

    def _change(self, path: Path, **fields: Any) -> None:
        self._set(path.id, "Change shape", shape=msgspec.structs.replace(path.shape, **fields))

    def _exact(self, path: Path, shape: ArcShape | RectangleShape | HelixShape) -> None:
        """The parameters of an arc, rectangle or helix."""
        change = partial(self._change, path)
        self._fields(shape, "centre", change=change)
        if isinstance(shape, ArcShape):
            self._fields(shape, "start", "sweep", "axis", change=change)
            return
        if isinstance(shape, RectangleShape):
            self._fields(shape, "width", "depth", "radius", "exponent", "turn", change=change)
        else:
            self._fields(shape, "radius", "pitch", "turns", "start", change=change)
        self._fields(shape, "clockwise", change=change)

    def _orbit(self, path: Path, shape: OrbitShape) -> None:
        """What an orbit goes around, and how."""
        form, change, project = self.form, partial(self._change, path), self.session.shown
        names = ", ".join(name_of(project, i) for i in shape.around)
        form.note(f"around {names}; follows when they move" if names else "around parts that no longer exist")
        self._fields(shape, "kind", "offset", "height", change=change)
        if shape.kind in ("rectangle", "hull"):
            rounding = shape.offset if shape.rounding is None else shape.rounding
            form.number(
                "Corner radius",
                rounding,
                "mm",
                lambda v: change(rounding=v),
                "Radius of the corners; equal to the offset keeps the distance exactly",
                0,
                50,
            )
        self._fields(shape, "start", "laps", "rise", "tilt", change=change)
        if shape.tilt:
            self._fields(shape, "toward", change=change)
        self._fields(shape, "clockwise", change=change)
        form.buttons(
            (
                "Start at the view",
                lambda: self.card.orbit_view_asked.emit(path.id),
                "Start at the present viewpoint, at its height and distance",
            )
        )

    def _ellipse(self, path: Path, shape: EllipseShape) -> None:
        change = partial(self._change, path)
        self._fields(shape, "centre", "half_x", "half_y", "turn", "start", "clockwise", change=change)

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
            "Insert at station",
            0.0,
            "mm",
            lambda v: insert_at_station(self.session, path.id, v),
            "Insert a point at this distance from the start",
            1,
            10,
            acts=True,
        )
        if len(self.session.points) > 1:
            self._several(path)
        elif index is not None:
            self._point(path, shape, index)
        form.check(
            "Closed",
            "joined end to start",
            shape.closed,
            lambda v: self._close(path, on=v),
            "Whether the path returns to its first point",
        )

    def _close(self, path: Path, *, on: bool) -> None:
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

        kinds = [("", "keep"), ("corner", "corners"), ("smooth", "smooth"), ("free", "free, own handles")]
        form.choice("Set kind", kinds, "", kind, "Kind of all selected points")
        form.vector(
            "Move by",
            (0.0, 0.0, 0.0),
            "mm",
            lambda v: session.edit("Move points", lambda p: shaping.moved_points(p, path.id, chosen, v)),
            "Move all selected points together",
        )
        form.buttons(
            (
                "Merge points",
                lambda: (
                    session.edit("Merge points", lambda p: joining.merge_points(p, path.id, chosen))
                    and session.select(path.id, chosen[0])
                ),
                "Merge neighbouring points into one in the middle",
            ),
            ("Delete points", lambda: delete_point(session), "Delete the selected points (Delete)"),
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
        form.vector(
            "Position", point.position, "mm", lambda v: change("Move point", position=v), "Position of the point"
        )
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
            form.check("Handles", "independent sides", both, lambda v: self._handles(path, index, both=v), "Unlink")
        form.buttons(
            ("Insert after", lambda: insert_after(self.session), "Insert a point halfway to the next one (Insert)"),
            ("Delete point", lambda: delete_point(self.session), "Delete this point (Delete)"),
            ("Split here", lambda: self._split(path, index), "Split the path into two at this point"),
        )

    def _split(self, path: Path, index: int) -> None:
        station = float(path_curve(path).point_stations()[index])
        self.session.edit("Split path", lambda p: joining.split(p, path.id, station))

    def _handles(self, path: Path, index: int, *, both: bool) -> None:
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
