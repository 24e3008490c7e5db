"""What is asked when a camera is made: its orbit, or how it follows. The stage shows it meanwhile."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QWidget

from kestrav.app.dialogs.asking import Preview, PreviewedDialog
from kestrav.app.widgets.sheet import Sheet
from kestrav.core.camera.adjusting import fitted
from kestrav.core.camera.orbits import add_orbit_of, beginning_at, orbit_around
from kestrav.core.document.camera_checks import check_orbit
from kestrav.core.document.edits import update
from kestrav.core.document.records import OrbitShape, Path, Project
from kestrav.core.document.requests import FollowRequest, OrbitRequest
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.parts.placing import bounds_of
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show

_MARGIN, _SHORTEST = 0.12, 15.0  # of the frame left around a subject, and mm of a lens chosen for it
_GIVEN = ("kind", "offset", "height", "tilt", "toward", "start", "laps", "rise", "clockwise")


class OrbitDialog(PreviewedDialog):
    """How an orbit goes."""

    def __init__(
        self,
        parent: QWidget | None,
        project: Project,
        meshes: Mapping[str, Mesh],
        things: Sequence[str],
        viewpoint: np.ndarray,
        begin: float,
        preview: Preview,
    ) -> None:
        self.project, self.meshes, self.things, self.viewpoint = project, meshes, things, viewpoint
        kind: Any = QSettings().value("orbit/kind", "circle")
        shape = orbit_around(project, meshes, things, kind=kind)
        shape = msgspec.structs.replace(shape, height=round(shape.height, 1), toward=90.0)
        super().__init__(parent, "Orbit", OrbitRequest(shape, begin=begin), preview)

    def set_shape(self, **fields: Any) -> None:
        """Change some fields of the orbit's shape."""
        self.set(shape=msgspec.structs.replace(self.request.shape, **fields))

    def rows(self, form: Sheet) -> None:
        """What matters of the shape and the pace as it is."""
        request: OrbitRequest = self.request

        def shape(*names: str) -> None:
            form.fields(request.shape, *names, change=self.set_shape)

        shape("kind")
        form.fields(request, "from_view", change=self.set)
        if not request.from_view:
            shape("offset", "height", "start")
        if request.shape.kind in ("rectangle", "hull"):
            form.fields(request, "rounding", change=self.set)
        shape("laps", "rise", "tilt", *(["toward"] if request.shape.tilt else []), "clockwise")
        form.fields(request, "duration", "speed", "lateral", "begin", change=self.set)

    def shape(self) -> OrbitShape:
        """The orbit as told."""
        given = self.request.shape
        fields = {name: getattr(given, name) for name in _GIVEN}
        shape = orbit_around(self.project, self.meshes, self.things, **fields, rounding=self.request.rounding or None)
        check_orbit(Path("", "Orbit", shape), shape)
        return beginning_at(shape, self.viewpoint) if self.request.from_view else shape

    def _pace(self) -> tuple[float | None, float | None]:
        request: OrbitRequest = self.request
        if request.speed > 0:
            return None, request.speed
        if request.duration <= 0:
            raise BadInput("an orbit needs a time or a speed; give one of them")
        return request.duration, None

    def summary(self) -> list[str]:
        """Speed, place and whether it loops."""
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
        """The orbit with its camera and shot."""
        request: OrbitRequest = self.request
        QSettings().setValue("orbit/kind", request.shape.kind)
        duration, speed = self._pace()
        edited = add_orbit_of(project, self.meshes, self.shape(), duration, speed, request.begin, request.lateral)
        camera, shot = edited.cameras[-1], edited.shots[-1]
        with contextlib.suppress(BadInput):
            # a lens by which it has its subject whole from the first
            fitting = fitted(edited, self.meshes, camera.id, shot.start, shot.width / shot.height, "lens", _MARGIN)
            lens = max(round(fitting.cameras[-1].focal_length), _SHORTEST)
            edited = update(edited, camera.id, focal_length=float(lens))
        return edited


class FollowDialog(PreviewedDialog):
    """How a camera follows what moves."""

    def __init__(
        self,
        parent: QWidget | None,
        project: Project,
        thing: str,
        runs: Sequence[tuple[str, str]],
        make: Callable[[Project, FollowRequest], Project],
        summarize: Callable[[FollowRequest], list[str]],
        preview: Preview,
        run: str = "",
    ) -> None:
        self.runs, self._make, self._summarize = tuple(runs), make, summarize
        low, high = bounds_of(project, [thing])
        size = float(np.linalg.norm(high - low))
        request = FollowRequest(
            run=run or (runs[0][0] if runs else ""),
            distance=max(round(1.8 * size / 50) * 50.0, 100.0),
            height=round(0.7 * size / 50) * 50.0,
        )
        super().__init__(parent, "Follow", request, preview)

    def rows(self, form: Sheet) -> None:
        """What matters in a mode."""
        request: FollowRequest = self.request

        def fields(*names: str, options: Sequence[tuple[str, str]] = ()) -> None:
            form.fields(request, *names, change=self.set, options=options)

        # what has no run can only be ridden on
        fields("mode", options=() if self.runs else (("ride", "attached to the part"),))
        if request.mode != "ride":
            fields("run", options=self.runs)
        if request.mode == "ride":
            fields("side", "distance", *(["height"] if request.side != "above" else []), "lag")
        elif request.mode == "path":
            fields("distance", "height", "left")
        else:
            fields("place", "distance", "height")

    def summary(self) -> list[str]:
        """What follows."""
        return self._summarize(self.request)

    def make(self, project: Project) -> Project:
        """The camera."""
        return self._make(project, self.request)
