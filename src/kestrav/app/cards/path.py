"""A path and its points."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any, Literal

import msgspec
import numpy as np

from kestrav.app.cards.rows import Rows
from kestrav.app.point_edits import delete_point, insert_after
from kestrav.core.document import edits
from kestrav.core.document.records import (
    ArcShape,
    EllipseShape,
    HelixShape,
    Path,
    PointShape,
    Project,
    RectangleShape,
)
from kestrav.core.motion import shaping
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.units import show

TABS = ("Shape", "Whole")


class PathRows(Rows):
    """The path as a whole and the chosen point."""

    def build(self, path: Path) -> None:
        form = self.form
        self.card.title.setText(f"{path.name} · {show(path_curve(path).length, 'mm')}")
        form.tabs(TABS, self.card.path_tab, self.card.show_path_tab, "Show")
        curve = path_curve(path)
        if self.card.path_tab == "Whole":
            self._whole(path)
        else:
            self._name(path)
            self._shape(path)
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

    def _shape(self, path: Path) -> None:
        shape = path.shape
        if isinstance(shape, PointShape):
            self._points(path, shape)
        elif isinstance(shape, EllipseShape):
            self._ellipse(path, shape)
        else:
            self._exact(path, shape)

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

    def _whole(self, path: Path) -> None:
        """What is done with the path as a whole."""
        form, state = self.form, self.card.shaping
        curve = path_curve(path).curve

        def edit(label: str, change: Callable[[Project], Project]) -> None:
            self.session.edit(label, change)

        keeps = [
            ("start", "scaled about its start"),
            ("middle", "scaled about its middle"),
            ("end", "scaled about its end"),
            ("last", "by its last segment"),
        ]
        form.number(
            "Length",
            curve.length,
            "mm",
            lambda v: edit("Set length", lambda p: shaping.set_length(p, path.id, v, state.anchor)),
            "Its exact length, got by the way below",
            3,
            10,
        )
        form.choice("Got by", keeps, state.anchor, state.set_anchor, "How a typed length is got")
        height = float(curve.position([0.0])[0, 2])
        form.number(
            "Height",
            height,
            "mm",
            lambda v: edit("Raise path", lambda p: shaping.raised(p, path.id, v)),
            "Height of its start; the whole goes up or down",
            1,
            10,
        )
        begin, end = path.trim
        form.number(
            "Begins at",
            begin * 100,
            "%",
            lambda v: self._set(path.id, "Trim", trim=(v / 100, end)),
            "Share of the shape's length that is cut off before",
            2,
            5,
        )
        form.number(
            "Ends at",
            end * 100,
            "%",
            lambda v: self._set(path.id, "Trim", trim=(begin, v / 100)),
            "Share of the shape's length at which it ends",
            2,
            5,
        )
        if isinstance(path.shape, PointShape):
            form.number(
                "Round all",
                0.0,
                "mm",
                lambda v: edit("Round corners", lambda p: shaping.round_corners(p, path.id, v)),
                "Round every corner between straight sides by a radius; each keeps it, to be edited",
                1,
                10,
            )
        form.buttons(
            ("Reverse", lambda: edit("Reverse path", lambda p: shaping.reverse(p, path.id)), "Travel it the other way"),
            (
                "Flatten",
                lambda: edit("Flatten path", lambda p: shaping.flattened(p, path.id, height)),
                "Bring all of it to the height of its start",
            ),
            (
                "Mirror left–right",
                lambda: edit("Mirror path", lambda p: self._mirror(p, path.id, "x")),
                "Mirror it about the plane across x through its start",
            ),
            (
                "Mirror front–back",
                lambda: edit("Mirror path", lambda p: self._mirror(p, path.id, "y")),
                "Mirror it about the plane across y through its start",
            ),
            (
                "Make it points",
                lambda: edit("Make points", lambda p: shaping.to_points(p, path.id)),
                f"Free points within {shaping.AS_POINTS:g} mm of the curve",
            ),
        )

    def _mirror(self, project: Project, path_id: str, axis: Literal["x", "y"]) -> Project:
        at = float(shaping.anchor_of(shaping.path_of(project, path_id), "start")["xy".index(axis)])
        return shaping.mirrored(project, path_id, axis, at)

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
        )

    def _handles(self, path: Path, index: int, both: bool) -> None:
        def change(project: Project) -> Project:
            point = edits.point_shape(project, path.id).points[index]
            out = point.handle_out or tuple(-v for v in point.handle_in or (50.0, 0.0, 0.0))
            mirrored = tuple(-v for v in out) if both else None
            return edits.set_point(project, path.id, index, handle_out=out, handle_in=mirrored)

        self.session.edit("Handles", change)
