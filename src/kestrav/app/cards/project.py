"""The project itself."""

from __future__ import annotations

from collections.abc import Callable
from html import escape

import msgspec
import numpy as np

from kestrav.app import settings
from kestrav.app.cards.rows import Rows
from kestrav.core.document import edits
from kestrav.core.document.light_setup import Daylight
from kestrav.core.document.records import LightSetup
from kestrav.core.kinematics.runs import span
from kestrav.core.light.daylight import level_illuminance, metered, sun_of
from kestrav.core.light.exposure import FULL
from kestrav.core.light.setups import SETUPS

PROJECT_FIELDS = (
    "Name",
    "Frame rate",
    "Clearance",
    "Tolerance",
    "Mesh up axis",
    "Light set-up",
    "Exposure",
    "White balance",
)
_SAID = {"daylight": "daylight by place and time", "environment": "surroundings of a file"}


class ProjectRows(Rows):
    """The project, when nothing is selected."""

    def build(self) -> None:
        project = self.session.shown
        self.form.title = "Project"
        form = self.form
        form.text(
            "Name",
            project.name,
            lambda text: self.session.edit("Rename project", lambda p: edits.rename_project(p, text)),
            "The project's name",
        )
        self._settings("fps", "required_clearance")
        form.number(
            "Tolerance",
            settings.chord() or 0.0,
            "mm",
            settings.set_chord,
            "Greatest distance of facets from curved CAD faces on import; automatic depends on the size of the largest part",
            3,
            0.01,
            "automatic",
        )
        form.choice(
            "Mesh up axis",
            [("", "format default"), ("z", "z"), ("y", "y"), ("x", "x")],
            settings.upward(),
            settings.set_upward,
            "Up axis of imported mesh files",
        )
        self._light(project.light_setup)
        end = span(project)
        frames = int(np.ceil(end * project.settings.fps - 1e-9))
        form.worked(f"{end:.2f} s × {project.settings.fps:g} fps = <b>{frames} frames</b>")
        if not project.parts:
            form.note("Add a product from the File menu (Ctrl+I), then click a part and draw its path.")
        else:
            form.note("Click a part in the stage or the contents to see its settings.")

    def _light(self, light: LightSetup) -> None:
        form = self.form

        def change(**fields: object) -> None:
            self.session.edit("Light", lambda p: edits.light(p, **fields))

        form.heading("Light")
        self._fields(light, "setup", change=change, options=[(name, _SAID.get(name, name)) for name in SETUPS])
        if light.setup == "daylight":
            self._daylight(
                light.daylight, lambda **fields: change(daylight=msgspec.structs.replace(light.daylight, **fields))
            )
        if light.setup == "environment":
            name = light.surroundings.name or "none: even light"
            tip = "Choose a .hdr or .exr picture of all that is around, twice as wide as high; the project keeps a copy"
            form.buttons(("Choose surroundings …", self.card.surroundings_asked.emit, tip))
            form.worked(
                f"Surroundings: <b>{escape(name)}</b>, exposed so that a level white surface shows just below white"
            )
        self._fields(light, "turn", "level", change=change)
        if light.setup not in ("daylight", "environment"):
            self._fields(light, "softness", change=change)
        self._fields(light, "exposure", "white", change=change)

    def _daylight(self, light: Daylight, change: Callable[..., None]) -> None:
        form = self.form
        form.text("Date", light.date, lambda v: change(date=v.strip()), "Date as year-month-day, such as 2026-06-21")
        form.text("Time of day", light.clock, lambda v: change(clock=v.strip()), "Local time, such as 14:30")
        self._fields(light, "utc", "latitude", "longitude", "turbidity", change=change)
        sun, (direct, diffuse) = sun_of(light), level_illuminance(light)
        whole = direct + diffuse
        form.worked(
            f"Sun {sun.elevation:.1f}° above the horizon, {sun.azimuth:.1f}° clockwise from north (+y)",
            f"On a level surface: sun {direct:,.0f} lx + sky {diffuse:,.0f} lx = <b>{whole:,.0f} lx</b>",
            f"Exposed for it: {np.log2(metered(light)):+.1f} EV against a studio of {FULL:g} lx",
        )
