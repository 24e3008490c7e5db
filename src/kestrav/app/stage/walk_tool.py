"""Walks in the stage: waypoints clicked on the floor, joined to a smooth walk around what stands there."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeyEvent

from kestrav.app.stage.stage import Stage
from kestrav.app.stage.stage_tool import StageTool
from kestrav.core.camera import walking
from kestrav.core.document.records import Path, PathPoint, PointShape
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show
from kestrav.render.marks import flat
from kestrav.render.palette import PETROL, STRAW, VERMILION, rgb
from kestrav.render.shapes import point_cloud, polyline, put_data
from kestrav.render.viewpoint import on_plane

Array = NDArray[np.float64]


class WalkTool(StageTool):
    """Click waypoints on the floor; Enter makes the walkthrough with its camera and shot."""

    quiet = True

    def __init__(self, stage: Stage, done: Callable[[], None]) -> None:
        super().__init__(stage)
        self.points: list[Array] = []
        self.eye_height, self.speed, self.distance = walking.EYE_HEIGHT, walking.SPEED, walking.DISTANCE
        self.around = True
        self.summary = ""
        self._done = done
        self._line = flat(polyline(np.zeros((2, 3))), PETROL, 3.0)
        self._spots = flat(point_cloud(np.zeros((1, 3))), STRAW, 1.0)
        self._spots.GetProperty().SetPointSize(11)
        self._spots.GetProperty().SetRenderPointsAsSpheres(True)

    @property
    def hint(self) -> str:  # type: ignore[override]
        """What to do next."""
        if not self.points:
            return "click the walk’s first waypoint on the floor · Esc leaves"
        back = "Backspace removes the last · Esc leaves"
        if len(self.points) < 2:
            return f"click the next waypoint · {back}"
        return f"{self.summary} · Enter makes the walkthrough · {back}"

    def begin(self) -> None:
        """Taken up."""
        self.points = []
        for actor in (self._line, self._spots):
            self.stage.marks.over.AddActor(actor)
        self._plan()

    def end(self) -> None:
        """Laid down."""
        for actor in (self._line, self._spots):
            self.stage.marks.over.RemoveActor(actor)
        self.stage.schedule()

    def set(self, **fields: float | bool) -> None:
        """Change the eyes' height, the speed, the distance, or whether it goes around things."""
        for name, value in fields.items():
            setattr(self, name, value)
        self._plan()

    def click(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """A waypoint where the floor is seen."""
        hit = self.stage.pick(position)
        place = hit.place if hit is not None else on_plane(*self.stage.ray_at(position), np.zeros(3), [0.0, 0.0, 1.0])
        if place is None:
            self.stage.said.emit("there is no floor in that direction; look down on it")
            return
        self.add(place)

    def add(self, place: Array) -> None:
        """Add a waypoint."""
        self.points.append(np.round(np.asarray(place, float)))
        self._plan()

    def key(self, event: QKeyEvent) -> bool:
        """Enter ends, Backspace takes back, Escape leaves."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.finish()
        elif event.key() == Qt.Key.Key_Backspace and self.points:
            self.points.pop()
            self._plan()
        elif event.key() == Qt.Key.Key_Escape:
            self._done()
        else:
            return False
        return True

    def double_click(self, position: QPoint) -> None:
        """The last waypoint."""
        self.finish()

    def finish(self) -> None:
        """Make the walk."""
        if len(self.points) < 2:
            self.stage.said.emit("a walk needs two waypoints or more; click them on the floor")
            return
        session, points = self.session, np.array(self.points)
        accepted = session.edit(
            "Walkthrough",
            lambda p: walking.add_walk(
                p,
                session.meshes,
                points,
                self.eye_height,
                self.speed,
                self.distance,
                around=self.around,
                begin=0.0,
            ),
        )
        if accepted:
            session.select(session.project.cameras[-1].id)
            self._done()

    def _plan(self) -> None:
        """Show the walk as it would be."""
        self._spots.SetVisibility(bool(self.points))
        self._line.SetVisibility(len(self.points) > 1)
        self.summary = ""
        if self.points:
            put_data(self._spots, point_cloud(np.array(self.points) + np.array([0, 0, 20.0])))
        if len(self.points) > 1:
            colour, line = PETROL, np.array(self.points)
            try:
                planned = walking.plan_walk(
                    self.session.shown,
                    self.session.meshes,
                    line,
                    self.distance,
                    self.eye_height,
                    around=self.around,
                )
                shape = PointShape(
                    tuple(
                        PathPoint(vector(p), "corner", radius=float(r))
                        for p, r in zip(planned.points, planned.radii, strict=True)
                    )
                )
                curve = path_curve(Path("", "Walkthrough", shape)).curve
                line = curve.position(np.linspace(0.0, curve.length, 300))
                kept = f", {planned.clearance:,.0f} mm kept" if np.isfinite(planned.clearance) else ""
                self.summary = (
                    f"{show(curve.length / 1000, 'm', 1)}, about {curve.length / self.speed:.0f}\u2009s{kept}"
                )
            except BadInput as fault:
                colour, self.summary = VERMILION, str(fault)

            self._line.GetProperty().SetColor(*rgb(colour))
            put_data(self._line, polyline(line + np.array([0, 0, 12.0])))
        self.stage.said.emit(self.hint)
        self.stage.schedule()
