"""What is asked when a camera is made: its orbit, or how it follows. The stage shows it meanwhile."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from PySide6.QtCore import QPoint, QSettings, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QLabel, QVBoxLayout, QWidget

from kestrav.app.widgets.form import Form
from kestrav.app.widgets.sheet import Sheet
from kestrav.core.camera.adjusting import fitted
from kestrav.core.camera.making import SIDES
from kestrav.core.camera.orbits import add_orbit_of, beginning_at, orbit_around
from kestrav.core.document.camera_checks import check_orbit
from kestrav.core.document.edits import update
from kestrav.core.document.records import OrbitShape, Path, Project
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Fix
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.parts.placing import bounds_of
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show

ORBIT_KINDS = [
    ("circle", "circle"),
    ("ellipse", "ellipse"),
    ("rectangle", "tightest rectangle"),
    ("hull", "own outline"),
]
Values = dict[str, Any]

_MARGIN, _SHORTEST = 0.12, 15.0  # of the frame left around a subject, and mm of a lens chosen for it


class Asking(QDialog):
    """A form of a few values; the stage shows what would be made, and worked lines tell it."""

    def __init__(
        self,
        parent: QWidget | None,
        title: str,
        values: Values,
        preview: Callable[[Fix | None], None],
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.values = values
        self._preview = preview
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(8)
        heading = QLabel(title)
        heading.setObjectName("title")
        column.addWidget(heading)
        self.column = column
        self.form = Form()
        self.form.refused.connect(self._refuse)
        column.addWidget(self.form)
        self.fault = QLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.fault.hide()
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column.addWidget(self.fault)
        column.addWidget(self.buttons)
        self.setMinimumWidth(320)
        self._fill()

    def showEvent(self, event: QShowEvent) -> None:
        """Beside the stage, in which is shown what would be made."""
        super().showEvent(event)
        parent = self.parentWidget()
        if parent is not None:
            self.move(parent.mapToGlobal(parent.rect().topLeft()) + QPoint(6, 76))

    def _fill(self) -> None:
        form = Sheet()
        self.rows(form)
        why = ""
        try:
            lines = self.summary()
        except BadInput as fault:
            lines, why = [], str(fault)
        if lines:
            form.worked(*lines)
        self.form.show_sheet(form)
        # once what is new in it is laid out
        QTimer.singleShot(0, self, self._fit)
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(not why)
        self._refuse(why)
        self._preview(None if why else Fix(self.windowTitle(), self.make))

    def _fit(self) -> None:
        """Be as high as all of it needs: lines that wrap need more than a layout takes for granted."""
        needed = self.column.totalHeightForWidth(self.width())
        if needed > self.height():
            self.resize(self.width(), needed)

    def _refuse(self, why: str) -> None:
        self.fault.setText(why[:1].upper() + why[1:])
        self.fault.setVisible(bool(why))

    def set(self, **fields: Any) -> None:
        """Change some of the values."""
        self.values.update(fields)
        QTimer.singleShot(0, self, self._fill)

    def number(
        self,
        form: Sheet,
        label: str,
        name: str,
        unit: str,
        tip: str,
        places: int = 0,
        step: float = 50.0,
        zero: str = "",
    ) -> None:
        """A number among the values."""
        form.number(label, self.values[name], unit, lambda v: self.set(**{name: v}), tip, places, step, zero=zero)

    def check(self, form: Sheet, label: str, name: str, text: str, tip: str) -> None:
        """A yes or no among the values."""
        form.check(label, text, self.values[name], lambda v: self.set(**{name: v}), tip)

    def rows(self, form: Sheet) -> None:
        """Fill the form."""
        raise NotImplementedError

    def summary(self) -> list[str]:
        """Worked lines. Raises BadInput where it cannot be made."""
        raise NotImplementedError

    def make(self, project: Project) -> Project:
        """Make it. Raises BadInput."""
        raise NotImplementedError


class OrbitDialog(Asking):
    """How an orbit goes."""

    def __init__(
        self,
        parent: QWidget | None,
        project: Project,
        meshes: Mapping[str, Mesh],
        things: list[str],
        viewpoint: np.ndarray,
        begin: float,
        preview: Callable[[Fix | None], None],
    ) -> None:
        self.project, self.meshes, self.things, self.viewpoint = project, meshes, things, viewpoint
        kind: Any = QSettings().value("orbit/kind", "circle")
        proposed = orbit_around(project, meshes, things, kind=kind)
        values: Values = {
            "kind": kind,
            "offset": proposed.offset,
            "height": round(proposed.height, 1),
            "rounding": 0.0,
            "tilt": 0.0,
            "toward": 90.0,
            "view": False,
            "start": -90.0,
            "clockwise": False,
            "laps": 1.0,
            "rise": 0.0,
            "duration": 12.0,
            "speed": 0.0,
            "slows": 0.0,
            "begin": begin,
        }
        super().__init__(parent, "Orbit", values, preview)

    def rows(self, form: Sheet) -> None:
        values = self.values
        form.choice(
            "Shape",
            ORBIT_KINDS,
            values["kind"],
            lambda v: self.set(kind=v),
            "Shape of the orbit around the selection, seen from above",
        )
        self.check(
            form,
            "Start point",
            "view",
            "at the present viewpoint",
            "Start the orbit at the present viewpoint, at its height and distance",
        )
        if not values["view"]:
            self.number(form, "Offset", "offset", "mm", "Distance of the orbit from the outline")
            self.number(form, "Height", "height", "mm", "Height above z = 0")
            self.number(form, "Start azimuth", "start", "°", "Azimuth of the start, counter-clockwise from +x", 1, 5)
        if values["kind"] in ("rectangle", "hull"):
            self.number(form, "Corner radius", "rounding", "mm", "Radius of the corners", zero="as offset")
        self.number(form, "Laps", "laps", "", "Number of laps; below 1 for a part of a lap", 2, 0.25)
        self.number(form, "Rise", "rise", "mm", "Height gained from start to end")
        self.number(form, "Tilt", "tilt", "°", "Tilt of the orbit's plane", 1, 1)
        if values["tilt"]:
            self.number(
                form, "Azimuth of highest point", "toward", "°", "Azimuth of the tilted orbit's highest point", 1, 5
            )
        self.check(form, "Direction", "clockwise", "clockwise seen from above", "Direction of travel")
        self.number(form, "Duration", "duration", "s", "Duration of the orbit", 2, 1, zero="from speed")
        self.number(form, "Speed", "speed", "mm/s", "Speed, instead of a duration", zero="from duration")
        self.number(
            form,
            "Lateral acceleration",
            "slows",
            "mm/s²",
            "Greatest lateral acceleration; the camera slows down in bends to keep it",
            zero="constant speed",
        )
        self.number(form, "Start time", "begin", "s", "Time at which the motion starts", 2, 0.5)

    def shape(self) -> OrbitShape:
        """The orbit as told."""
        v = self.values
        names = ("kind", "offset", "height", "tilt", "toward", "start", "laps", "rise", "clockwise")
        made = orbit_around(
            self.project, self.meshes, self.things, **{n: v[n] for n in names}, rounding=v["rounding"] or None
        )
        check_orbit(Path("", "Orbit", made), made)
        return beginning_at(made, self.viewpoint) if v["view"] else made

    def _pace(self) -> tuple[float | None, float | None]:
        v = self.values
        if v["speed"] > 0:
            return None, v["speed"]
        if v["duration"] <= 0:
            raise BadInput("an orbit needs a time or a speed; give one of them")
        return v["duration"], None

    def summary(self) -> list[str]:
        shape, (duration, speed) = self.shape(), self._pace()
        length = path_curve(Path("", "Orbit", shape)).length
        seconds = duration if duration is not None else length / (speed or 1.0)
        loops = shape.rise == 0 and abs(shape.laps - round(shape.laps)) < 1e-9
        return [
            f"{length:,.0f} mm ÷ {seconds:.2f} s = <b>{length / seconds:,.0f} mm/s</b>".replace(",", "\u2009"),
            f"offset {show(shape.offset, 'mm', 0)}, height {show(shape.height, 'mm', 0)}, start azimuth {show(shape.start, '°')}",
            "the orbit loops: its end joins its start" if loops else "the orbit does not close",
        ]

    def make(self, project: Project) -> Project:
        QSettings().setValue("orbit/kind", self.values["kind"])
        duration, speed = self._pace()
        made = add_orbit_of(
            project, self.meshes, self.shape(), duration, speed, self.values["begin"], self.values["slows"]
        )
        camera, shot = made.cameras[-1], made.shots[-1]
        with contextlib.suppress(BadInput):
            # a lens by which it has its subject whole from the first
            fitting = fitted(made, self.meshes, camera.id, shot.start, shot.width / shot.height, "lens", _MARGIN)
            lens = max(round(fitting.cameras[-1].focal_length), _SHORTEST)
            made = update(made, camera.id, focal_length=float(lens))
        return made


class FollowDialog(Asking):
    """How a camera follows what moves."""

    def __init__(
        self,
        parent: QWidget | None,
        project: Project,
        thing: str,
        runs: list[tuple[str, str]],
        make: Callable[[Project, Values], Project],
        told: Callable[[Values], list[str]],
        preview: Callable[[Fix | None], None],
        run: str = "",
    ) -> None:
        self.runs, self._make, self._summary = runs, make, told
        low, high = bounds_of(project, [thing])
        size = float(np.linalg.norm(high - low))
        values: Values = {
            "how": "ride",
            "side": "behind",
            "run": run or (runs[0][0] if runs else ""),
            "distance": max(round(1.8 * size / 50) * 50.0, 100.0),
            "height": round(0.7 * size / 50) * 50.0,
            "aside": 0.0,
            "place": 50.0,
            "lag": 0.35,
        }
        super().__init__(parent, "Follow", values, preview)

    def rows(self, form: Sheet) -> None:
        values = self.values
        ways = [("ride", "attached to the part")]
        if self.runs:
            ways += [("path", "along the part's path"), ("passing", "from a place beside the path")]
        form.choice("Mode", ways, values["how"], lambda v: self.set(how=v), "How the camera follows")
        if values["how"] != "ride":
            form.choice("Run", self.runs, values["run"], lambda v: self.set(run=v), "Run of the part to follow")
        if values["how"] == "ride":
            sides = [
                (
                    s,
                    {
                        "behind": "behind",
                        "ahead": "ahead",
                        "left": "left",
                        "right": "right",
                        "above": "above",
                    }[s],
                )
                for s in SIDES
            ]
            form.choice("Side", sides, values["side"], lambda v: self.set(side=v), "Side of the part")
            self.number(form, "Distance", "distance", "mm", "Distance from the middle of the part")
            if values["side"] != "above":
                self.number(form, "Height", "height", "mm", "Height above the middle of the part")
            self.number(form, "Lag", "lag", "s", "Delay with which the camera follows, smoothed", 2, 0.1, zero="none")
        elif values["how"] == "path":
            self.number(
                form, "Distance", "distance", "mm", "Distance behind the part along its path; negative is ahead"
            )
            self.number(form, "Height", "height", "mm", "Height above the path")
            self.number(form, "Left offset", "aside", "mm", "Distance beside the path")
        else:
            self.number(form, "Station", "place", "%", "Place along the path as a share of its length", 0, 5)
            self.number(form, "Distance", "distance", "mm", "Distance from the path; negative is to the right")
            self.number(form, "Height", "height", "mm", "Height above the path")

    def summary(self) -> list[str]:
        return self._summary(self.values)

    def make(self, project: Project) -> Project:
        return self._make(project, self.values)
