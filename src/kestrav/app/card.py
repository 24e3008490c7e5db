"""The card: settings of what is selected, with its computed numbers as worked lines."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QLabel, QLineEdit, QScrollArea, QVBoxLayout, QWidget
from scipy.spatial.transform import Rotation

from kestrav.app.fields import Form
from kestrav.app.session import Session
from kestrav.app.tools import insert_at_station
from kestrav.core.camera.orbits import add_orbit
from kestrav.core.camera.views import vertical_angle, views
from kestrav.core.document import edits
from kestrav.core.document.lookup import ancestors, get, new_id, new_name, subtree
from kestrav.core.document.records import (
    AlongHeading,
    Camera,
    Eased,
    EllipseShape,
    Even,
    FixedHeading,
    Part,
    PartAim,
    Path,
    Placement,
    PointAim,
    PointShape,
    Project,
    Run,
    Shot,
)
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.model import name_of
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.motion.poses import rest_poses, world_bounds
from kestrav.core.motion.runs import journey, span
from kestrav.core.units import show

Vector = tuple[float, float, float]


class Card(QWidget):
    """Shows and edits the session's selection."""

    render_asked = Signal(object)
    still_asked = Signal(object)
    draw_asked = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 2, 0, 0)
        column.setSpacing(0)
        self.title = QLabel()
        self.title.setObjectName("title")
        self.title.setWordWrap(True)
        self.title.setContentsMargins(12, 8, 12, 0)
        self.title.linkActivated.connect(session.select)
        self.fault = QLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.fault.hide()
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column.addWidget(self.title)
        column.addWidget(self.area, 1)
        column.addWidget(self.fault)
        self.form = Form()
        self.result: CheckResult | None = None
        self.shows_checks = False
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.rebuild)
        self._fault_timer = QTimer(self)
        self._fault_timer.setSingleShot(True)
        self._fault_timer.timeout.connect(self.fault.hide)
        session.edited.connect(lambda: self._timer.start(25))
        session.selected.connect(self._on_selected)
        session.refused.connect(self.complain)

    def complain(self, text: str) -> None:
        """Say why something was not done."""
        self.fault.setText(text[:1].upper() + text[1:])
        self.fault.show()
        self._fault_timer.start(9000)
        self._timer.start(0)

    def _on_selected(self) -> None:
        self.shows_checks = False
        self.fault.hide()
        self.rebuild()

    def show_checks(self) -> None:
        """Show the settings of the checks."""
        self.shows_checks = True
        self.rebuild()

    def show_result(self, result: CheckResult | None) -> None:
        """Take a check's result."""
        self.result = result
        if self.shows_checks:
            self.rebuild()

    def rebuild(self) -> None:
        """Make the card anew, keeping the keyboard where it was."""
        focus = self.focusWidget()
        focused = focus.objectName() if focus is not None and focus.hasFocus() else ""
        scrolled = self.area.verticalScrollBar().value()
        old_title = self.title.text()
        self.form = Form()
        self.form.refused.connect(self.complain)
        item = self.session.item
        builders: dict[type, Callable[[Any], None]] = {
            Part: self._part,
            Path: self._path,
            Run: self._run,
            Camera: self._camera,
            Shot: self._shot,
        }
        if self.shows_checks:
            self._checks()
        elif item is None:
            self._project()
        else:
            builders[type(item)](item)
        self.form.finish()
        self.area.setWidget(self.form)
        if self.title.text() == old_title:
            self.area.verticalScrollBar().setValue(scrolled)
            again = self.form.findChild(QLineEdit, focused) if focused else None
            if again is not None:
                again.setFocus()

    def _name(self, item: Part | Path | Run | Camera | Shot) -> None:
        self.form.text("Name", item.name, lambda text: self._set(item.id, "Rename", name=text), "What it is called")

    def _set(self, item_id: str, label: str, **fields: Any) -> None:
        self.session.edit(label, lambda project: edits.update(project, item_id, **fields))

    # nothing selected

    def _project(self) -> None:
        project = self.session.shown
        self.title.setText("Project")
        form = self.form
        form.text(
            "Name",
            project.name,
            lambda text: self.session.edit("Rename project", lambda p: edits.rename_project(p, text)),
            "The project's name",
        )
        form.number(
            "Frame rate",
            project.settings.fps,
            "fps",
            lambda v: self.session.edit("Frame rate", lambda p: edits.settings(p, fps=v)),
            "Frames a second in which the project is checked and stepped through",
            places=0,
        )
        self._required()
        end = span(project)
        frames = int(np.ceil(end * project.settings.fps - 1e-9))
        form.worked(f"{end:.2f} s × {project.settings.fps:g} fps = <b>{frames} frames</b>")
        if not project.parts:
            form.note("Add a product (STEP or GLB) from the File menu, then click a part and draw its path.")
        else:
            form.note("Click a thing in the stage or the list to see its numbers.")

    def _required(self) -> None:
        self.form.number(
            "Clearance",
            self.session.shown.settings.required_clearance,
            "mm",
            lambda v: self.session.edit("Required clearance", lambda p: edits.settings(p, required_clearance=v)),
            "Required clearance between what moves and the rest",
        )

    # checks

    def _checks(self) -> None:
        project, result, form = self.session.shown, self.result, self.form
        self.title.setText("Checks")
        self._required()
        form.number(
            "Flip limit",
            project.settings.flip_angle,
            "°",
            lambda v: self.session.edit("Flip limit", lambda p: edits.settings(p, flip_angle=v)),
            "Largest turn of a rider between two frames",
            places=0,
        )
        form.number(
            "Kink limit",
            project.settings.kink_step,
            "mm/s",
            lambda v: self.session.edit("Kink limit", lambda p: edits.settings(p, kink_step=v)),
            "Largest jump of velocity where a path turns sharply",
            places=0,
        )
        if result is None:
            form.note("Checking …")
            return
        clearance, worst = result.clearance, result.clearance.worst
        if worst is None:
            form.note("Nothing moves past anything yet, so there is no clearance to measure.")
        else:
            pair = clearance.pairs[worst]
            assert pair is not None
            form.worked(
                f"least clearance <b>{show(float(clearance.distance[worst]), 'mm', 2)}</b> "
                f"at {clearance.times[worst]:.2f} s, frame {worst}",
                f"{name_of(project, pair.moving)} to {name_of(project, pair.other)}",
                f"sampled at {len(result.times)} frames",
            )
        if clearance.contacts:
            form.heading("Left out as intended contact")
            for contact in clearance.contacts:
                a, b = contact.moving, contact.other
                form.buttons(
                    (
                        f"Check: {name_of(project, a)} on {name_of(project, b)}",
                        lambda a=a, b=b: self.session.edit("Check a pair", lambda p: edits.set_contact(p, a, b, False)),
                        "They touch at rest. Click to check this pair after all",
                    )
                )
        turned_off = [c for c in project.contacts if not c.intended]
        if turned_off:
            form.heading("Touching pairs that are checked")
            for kept in turned_off:
                form.buttons(
                    (
                        f"Leave out: {name_of(project, kept.a)} on {name_of(project, kept.b)}",
                        lambda c=kept: self.session.edit(
                            "Accept a contact", lambda p: edits.set_contact(p, c.a, c.b, True)
                        ),
                        "Click to leave this pair out as intended contact",
                    )
                )

    # parts

    def _part(self, part: Part) -> None:
        project, form = self.session.shown, self.form
        chain = [get(project, i) for i in ancestors(project, part.id)]
        crumbs = [f'<a style="color:#0d6b74; text-decoration:none" href="{p.id}">{p.name}</a> ›' for p in chain]
        self.title.setText(" ".join([*crumbs, part.name]))
        self._name(part)
        placement, pivot = part.placement, part.pivot

        def place(position: Vector) -> None:
            self._set(part.id, "Move part", placement=Placement(position, placement.rotation))

        form.vector("Position", placement.position, "mm", place, "Where it stands in its assembly")
        angles = Rotation.from_quat(placement.rotation, scalar_first=True).as_euler("xyz", degrees=True)

        def turn(values: Vector) -> None:
            w, x, y, z = Rotation.from_euler("xyz", values, degrees=True).as_quat(scalar_first=True)
            rotation = (float(w), float(x), float(y), float(z))
            self._set(part.id, "Turn part", placement=Placement(placement.position, rotation))

        form.vector("Turned", [float(a) for a in angles], "°", turn, "Turned about its assembly's axes, x first")

        def set_pivot(position: Vector) -> None:
            self._set(part.id, "Move pivot", pivot=Placement(position, pivot.rotation))

        form.vector("Pivot", pivot.position, "mm", set_pivot, "The point carried along a path, in its own coordinates")
        form.check(
            "Shown",
            "visible and checked",
            part.shown,
            lambda v: self._set(part.id, "Show or hide", shown=v),
            "Hidden things are neither drawn nor checked",
        )
        bounds = world_bounds(project, part.id, self.session.poses()[None])[0]
        size = bounds[1] - bounds[0]
        solids = sum(
            isinstance(p := get(project, i), Part) and p.geometry is not None for i in subtree(project, part.id)
        )
        lines = [" × ".join(show(float(v)) for v in size) + "\u2009mm over all"]
        if part.geometry is None:
            lines.append(f"{solids} parts in the assembly")
        form.worked(*lines)
        form.buttons(
            ("Draw its path", self.draw_asked.emit, "Draw a path that it will run along (D)"),
            ("Centre pivot", lambda: self._centre_pivot(part), "Put the pivot in the middle of its bounds"),
            ("Orbit it", lambda: self._orbit(part), "Add a camera that orbits it on an ellipse, with a shot"),
        )
        if project.paths:
            options = [("", "choose …"), *((p.id, p.name) for p in project.paths)]
            form.choice("Run along", options, "", lambda path: self._add_run(part.id, path), "Let it run along a path")

    def _centre_pivot(self, part: Part) -> None:
        project = self.session.project
        rest = rest_poses(project)
        row = [p.id for p in project.parts].index(part.id)
        middle = world_bounds(project, part.id, rest[None])[0].mean(axis=0)
        x, y, z = (float(round(v, 4)) for v in apply(inverse_rigid(rest[row]), middle[None])[0])
        self._set(part.id, "Centre pivot", pivot=Placement((x, y, z), part.pivot.rotation))

    def _orbit(self, part: Part) -> None:
        before = {c.id for c in self.session.project.cameras}
        size = world_bounds(self.session.project, part.id, self.session.poses()[None])[0]
        offset = float(round(1.4 * np.linalg.norm(size[1] - size[0]) / 10) * 10)
        if self.session.edit("Orbit", lambda p: add_orbit(p, part.id, offset=max(offset, 100.0))):
            camera = next(c.id for c in self.session.project.cameras if c.id not in before)
            self.session.select(camera)

    def _add_run(self, rider: str, path: str) -> None:
        made: list[str] = []

        def add(project: Project) -> Project:
            who, where = get(project, rider), get(project, path)
            ends = [journey(project, r).end for r in project.runs if r.rider == rider]
            run = Run(
                new_id(project, Run),
                new_name(project, Run, f"{who.name} on {where.name}"),
                rider,
                path,
                start=max(ends, default=0.0),
            )
            made[:] = [run.id]
            return edits.add(project, run)

        if path and self.session.edit("Add run", add):
            self.session.select(made[0])

    # paths

    def _path(self, path: Path) -> None:
        form = self.form
        self.title.setText(path.name)
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
            ("Insert after", lambda: self._insert_after(path, index), "Put a point half way to the next one (Insert)"),
            ("Delete point", lambda: self.delete_point(), "Take this point out (Delete)"),
        )

    def _handles(self, path: Path, index: int, both: bool) -> None:
        def change(project: Project) -> Project:
            point = edits.point_shape(project, path.id).points[index]
            out = point.handle_out or tuple(-v for v in point.handle_in or (50.0, 0.0, 0.0))
            mirrored = tuple(-v for v in out) if both else None
            return edits.set_point(project, path.id, index, handle_out=out, handle_in=mirrored)

        self.session.edit("Handles", change)

    def _insert_after(self, path: Path, index: int) -> None:
        curve = path_curve(path)
        stations = np.append(curve.point_stations(), curve.length if curve.curve.closed else [])
        if index + 1 >= len(stations):
            self.complain("this is the last point; drag or draw on from it instead")
            return
        insert_at_station(self.session, path.id, float(stations[index] + stations[index + 1]) / 2)

    def delete_point(self) -> bool:
        """Take the chosen point out; False when none is chosen."""
        path, index = self.session.path, self.session.point
        if path is None or index is None:
            return False
        if self.session.edit("Delete point", lambda p: edits.delete_point(p, path.id, index)):
            self.session.select(path.id, None)
        return True

    def insert_point(self) -> None:
        """Insert after the chosen point."""
        if self.session.path is not None and self.session.point is not None:
            self._insert_after(self.session.path, self.session.point)

    def next_kind(self) -> None:
        """Turn the chosen point into the next kind."""
        path, index = self.session.path, self.session.point
        if path is None or index is None or not isinstance(path.shape, PointShape):
            return
        order = ("corner", "smooth", "free")
        kind = order[(order.index(path.shape.points[index].kind) + 1) % 3]
        self.session.edit("Kind of point", lambda p: edits.set_kind(p, path.id, index, kind))

    # runs

    def _run(self, run: Run) -> None:
        project, form = self.session.shown, self.form
        self.title.setText(run.name)
        trip = journey(project, run)
        riders = [(p.id, p.name) for p in project.parts if p.geometry is None or p.id == run.rider or p.parent is None]
        riders += [(c.id, f"camera {c.name}") for c in project.cameras]
        self._name(run)
        form.choice("Rider", riders, run.rider, lambda v: self._set(run.id, "Rider", rider=v), "What travels")
        paths = [(p.id, f"{p.name} ({show(path_curve(p).length, 'mm', 0)})") for p in project.paths]
        form.choice("Path", paths, run.path, lambda v: self._set(run.id, "Path", path=v), "Where it travels")
        form.number("Starts", run.start, "s", lambda v: self._set(run.id, "Start", start=v), "When it sets out", 3, 0.1)
        by = "duration" if run.duration is not None else "speed"

        def switch(kind: str) -> None:
            if kind == "speed":
                self._set(run.id, "Set by speed", duration=None, speed=trip.steady_speed)
            else:
                self._set(run.id, "Set by duration", duration=trip.duration, speed=None)

        form.choice("Set by", [("duration", "duration"), ("speed", "speed")], by, switch, "Which of the two is given")
        if run.duration is not None:
            form.number(
                "Duration",
                run.duration,
                "s",
                lambda v: self._set(run.id, "Duration", duration=v),
                "How long it takes",
                3,
                0.1,
            )
        elif run.speed is not None:
            form.number(
                "Speed",
                run.speed,
                "mm/s",
                lambda v: self._set(run.id, "Speed", speed=v),
                "Speed between start and stop",
                1,
                10,
            )
        form.number(
            "From",
            100 * run.begin,
            "%",
            lambda v: self._set(run.id, "Portion", begin=v / 100),
            "Where on the path it begins",
            2,
        )
        form.number("To", 100 * run.end, "%", lambda v: self._set(run.id, "Portion", end=v / 100), "Where it ends", 2)
        pacing = "eased" if isinstance(run.pacing, Eased) else "even"
        form.choice(
            "Pacing",
            [("even", "even"), ("eased", "soft start and stop")],
            pacing,
            lambda v: self._set(run.id, "Pacing", pacing=Eased() if v == "eased" else Even()),
            "How distance grows with time",
        )
        eased = run.pacing
        if isinstance(eased, Eased):
            for label, field in (("Soft start", "start_length"), ("Soft stop", "stop_length")):
                form.number(
                    label,
                    getattr(eased, field),
                    "mm",
                    lambda v, f=field, what=label: self._set(
                        run.id, what, pacing=msgspec.structs.replace(eased, **{f: v})
                    ),
                    "Distance over which it gathers or loses speed",
                    step=10,
                )
        if any(p.id == run.rider for p in project.parts):
            self._heading(run)
        start, stop = (eased.start_length, eased.stop_length) if isinstance(eased, Eased) else (0.0, 0.0)
        share = min(1.0, trip.length / (start + stop)) if start + stop else 1.0
        ramps = f" + {show(start * share)} + {show(stop * share)}" if start + stop else ""
        frames = trip.duration * project.settings.fps
        form.worked(
            f"({show(trip.length)}{ramps})\u2009mm ÷ {trip.duration:.3f}\u2009s = <b>{show(trip.steady_speed, 'mm/s')}</b>",
            f"{trip.duration:.3f}\u2009s × {project.settings.fps:g} fps = {frames:.1f} frames",
            f"arrives at {trip.end:.3f}\u2009s, {show(trip.last, 'mm')}",
        )
        self._delete(run.id, "run")

    def _heading(self, run: Run) -> None:
        form, heading = self.form, run.heading
        kind = "along" if isinstance(heading, AlongHeading) else "fixed"
        form.choice(
            "Heading",
            [("fixed", "fixed"), ("along", "along travel")],
            kind,
            lambda v: self._set(run.id, "Heading", heading=AlongHeading() if v == "along" else FixedHeading()),
            "How it is turned along the path",
        )
        if isinstance(heading, AlongHeading):
            axes = [(a, f"its {a}") for a in ("+x", "-x", "+y", "-y", "+z", "-z")]
            form.choice(
                "Forward",
                axes,
                heading.forward,
                lambda v: self._set(run.id, "Forward", heading=msgspec.structs.replace(heading, forward=v)),
                "Which of its axes looks ahead",
            )
            form.check(
                "Turn about",
                "flip to face backwards",
                heading.flip,
                lambda v: self._set(run.id, "Flip", heading=msgspec.structs.replace(heading, flip=v)),
                "Turn it half round",
            )
            form.check(
                "Upright",
                "left side stays level",
                heading.upright,
                lambda v: self._set(run.id, "Upright", heading=msgspec.structs.replace(heading, upright=v)),
                "Otherwise it is carried with the least rotation",
            )

    # cameras and shots

    def _camera(self, camera: Camera) -> None:
        project, form = self.session.shown, self.form
        self.title.setText(camera.name)
        self._name(camera)
        form.number(
            "Lens", camera.focal_length, "mm", lambda v: self._set(camera.id, "Lens", focal_length=v), "Focal length", 1
        )
        form.number(
            "Sensor width",
            camera.sensor_width,
            "mm",
            lambda v: self._set(camera.id, "Sensor", sensor_width=v),
            "Its width",
        )
        form.number(
            "Sensor height",
            camera.sensor_height,
            "mm",
            lambda v: self._set(camera.id, "Sensor", sensor_height=v),
            "Its height",
        )
        aims = [("", "a point"), *((p.id, p.name) for p in project.parts if p.geometry is None or p.parent is None)]
        aimed = camera.aim.part if isinstance(camera.aim, PartAim) else ""
        if aimed and aimed not in [a[0] for a in aims]:
            aims.append((aimed, name_of(project, aimed)))
        seen = views(project, camera, [self.session.time])

        def aim(part: str) -> None:
            x, y, z = (float(round(v, 1)) for v in seen.target[0])
            self._set(camera.id, "Aim", aim=PartAim(part) if part else PointAim((x, y, z)))

        form.choice("Aim", aims, aimed, aim, "What it looks at")
        if isinstance(camera.aim, PointAim):
            form.vector(
                "Aim at",
                camera.aim.point,
                "mm",
                lambda v: self._set(camera.id, "Aim", aim=PointAim(v)),
                "The point looked at",
            )
        runs = [r for r in project.runs if r.rider == camera.id]
        if not runs:
            form.vector(
                "Stands",
                camera.position,
                "mm",
                lambda v: self._set(camera.id, "Move camera", position=v),
                "Where it stands",
            )
        shot = self.session.shot
        width, height = (shot.width, shot.height) if shot else (16, 9)
        angle = vertical_angle(camera, width, height)
        used = 2 * camera.focal_length * np.tan(angle / 2)
        across = 2 * np.degrees(np.arctan(np.tan(angle / 2) * width / height))
        distance = float(np.linalg.norm(seen.target[0] - seen.position[0]))
        form.worked(
            f"2 · atan({used:.2f} ÷ (2 · {camera.focal_length:g})) = <b>{np.degrees(angle):.1f}°</b> high",
            f"{across:.1f}° wide",
            f"now {show(distance, 'mm', 0)} from its aim",
            *(f"rides on “{r.name}”" for r in runs),
        )
        if not any(s.camera == camera.id for s in project.shots):
            form.buttons(("Add a shot", lambda: self._add_shot(camera), "Film with this camera over the whole project"))
        self._delete(camera.id, "camera")

    def _add_shot(self, camera: Camera) -> None:
        made: list[str] = []

        def add(project: Project) -> Project:
            name = new_name(project, Shot, camera.name)
            shot = Shot(new_id(project, Shot), name, camera.id, 0.0, span(project), fps=project.settings.fps)
            made[:] = [shot.id]
            return edits.add(project, shot)

        if self.session.edit("Add shot", add):
            self.session.select(made[0])

    def _shot(self, shot: Shot) -> None:
        project, form = self.session.shown, self.form
        self.title.setText(shot.name)
        self._name(shot)
        cameras = [(c.id, c.name) for c in project.cameras]
        form.choice(
            "Camera", cameras, shot.camera, lambda v: self._set(shot.id, "Camera", camera=v), "Which camera films"
        )
        form.number("From", shot.start, "s", lambda v: self._set(shot.id, "Span", start=v), "First moment", 3, 0.1)
        form.number(
            "To", shot.end, "s", lambda v: self._set(shot.id, "Span", end=v), "End; its frame is not filmed", 3, 0.1
        )
        form.number(
            "Width", shot.width, "px", lambda v: self._set(shot.id, "Size", width=round(v)), "Picture width", 0, 2
        )
        form.number(
            "Height", shot.height, "px", lambda v: self._set(shot.id, "Size", height=round(v)), "Picture height", 0, 2
        )
        form.number(
            "Frame rate", shot.fps, "fps", lambda v: self._set(shot.id, "Frame rate", fps=v), "Frames a second", 0
        )
        form.text(
            "Background",
            shot.background,
            lambda v: self._set(shot.id, "Background", background=v.strip()),
            "Colour behind everything, as #rrggbb",
        )
        frames = max(1, round((shot.end - shot.start) * shot.fps))
        form.worked(
            f"({shot.end:.2f} − {shot.start:.2f})\u2009s × {shot.fps:g} fps = <b>{frames} frames</b>",
            f"{shot.width} × {shot.height} pixels, {shot.width / shot.height:.3f} : 1",
        )
        form.buttons(
            ("Render", lambda: self.render_asked.emit(shot), "Render this shot to a film or pictures (Ctrl+R)"),
            ("Still", lambda: self.still_asked.emit(shot), "One picture at the playhead (Ctrl+T)"),
        )
        self._delete(shot.id, "shot")

    def _delete(self, item_id: str, kind: str) -> None:
        def delete() -> None:
            if self.session.edit(f"Delete {kind}", lambda project: edits.remove(project, item_id)):
                self.session.select(None)

        self.form.buttons((f"Delete {kind}", delete, f"Delete this {kind} and what cannot be without it"))
