"""A path and its points."""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np

from kestrav.app.cards.rows import Rows
from kestrav.app.point_edits import delete_point, insert_after
from kestrav.core.document import edits
from kestrav.core.document.records import (
    EllipseShape,
    Path,
    PointShape,
    Project,
)
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.units import show


class PathRows(Rows):
    """The path as a whole and the chosen point."""

    def build(self, path: Path) -> None:
        form = self.form
        self.card.title.setText(path.name)
        self._name(path)
        curve = path_curve(path)
        if isinstance(path.shape, EllipseShape):
            self._ellipse(path, path.shape)
        else:
            self._points(path, path.shape)
        straight = float(np.linalg.norm(np.subtract(*curve.curve.position([0.0, curve.length]))))
        stations = np.linspace(0.0, curve.length, 801)
        tightest = float(curve.curve.curvature(stations).max())
        lines = [f"length <b>{show(curve.length, 'mm')}</b>"]
        if not curve.curve.closed:
            lines.append(f"ends {show(straight, 'mm')} apart")
        if tightest > 1e-7:
            lines.append(f"tightest bend 1 ÷ {tightest:.6f} = {show(1 / tightest, 'mm', 0)} radius")
        if len(curve.curve.kink_stations):
            sharpest = int(np.argmax(curve.curve.kink_angles))
            lines.append(
                f"sharpest kink {np.degrees(curve.curve.kink_angles[sharpest]):.0f}° "
                f"at {show(float(curve.curve.kink_stations[sharpest]), 'mm')}"
            )
        form.worked(*lines)
        project = self.session.shown
        options = [("", "choose …"), *((p.id, p.name) for p in project.parts if p.parent is None or p.geometry is None)]
        options += [(c.id, f"camera {c.name}") for c in project.cameras]
        form.choice(
            "Rider", options, "", lambda rider: self._add_run(rider, path.id), "Let a thing run along this path"
        )
        self._delete(path.id, "path")

    def _ellipse(self, path: Path, shape: EllipseShape) -> None:
        def change(**fields: Any) -> None:
            self._set(path.id, "Change ellipse", shape=msgspec.structs.replace(shape, **fields))

        form = self.form
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
        if index is not None:
            self._point(path, shape, index)
        form.check(
            "Closed",
            "joined end to start",
            shape.closed,
            lambda v: self._set(path.id, "Close path", shape=msgspec.structs.replace(shape, closed=v)),
            "Whether the path returns to its first point",
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
        )

    def _handles(self, path: Path, index: int, both: bool) -> None:
        def change(project: Project) -> Project:
            point = edits.point_shape(project, path.id).points[index]
            out = point.handle_out or tuple(-v for v in point.handle_in or (50.0, 0.0, 0.0))
            mirrored = tuple(-v for v in out) if both else None
            return edits.set_point(project, path.id, index, handle_out=out, handle_in=mirrored)

        self.session.edit("Handles", change)
