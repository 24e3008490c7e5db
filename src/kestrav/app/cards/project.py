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
REQUIRED_TIP = "Required clearance between moving parts and all others"


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
        tip = "Frames per second for checking and stepping"
        self._setting("Frame rate", "fps", "fps", tip, places=0)
        self._setting("Clearance", "required_clearance", "mm", REQUIRED_TIP)
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
        form.choice(
            "Light set-up",
            [(name, _SAID.get(name, name)) for name in SETUPS],
            light.setup,
            lambda v: change(setup=v),
            "Soft boxes, sky or surroundings that light the stage, the lens and all pictures",
        )
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
        form.number(
            "Light turned", light.turn, "°", lambda v: change(turn=v), "Turn of the light about the vertical", 0, 15
        )
        form.number(
            "Light level",
            light.level,
            "EV",
            lambda v: change(level=v),
            "Brightness of the set-up's lamps in stops",
            1,
            0.5,
        )
        if light.setup not in ("daylight", "environment"):
            form.number(
                "Softness",
                100 * light.softness,
                "%",
                lambda v: change(softness=v / 100),
                "Size of the soft boxes",
                0,
                10,
            )
        form.number(
            "Exposure", light.exposure, "EV", lambda v: change(exposure=v), "Exposure of pictures in stops", 1, 0.5
        )
        form.number(
            "White balance",
            light.white,
            "K",
            lambda v: change(white=v),
            "Colour temperature of light that shows as white",
            0,
            250,
        )

    def _daylight(self, light: Daylight, change: Callable[..., None]) -> None:
        form = self.form
        form.text("Date", light.date, lambda v: change(date=v.strip()), "Date as year-month-day, such as 2026-06-21")
        form.text("Time of day", light.clock, lambda v: change(clock=v.strip()), "Local time, such as 14:30")
        form.number(
            "Ahead of UTC", light.utc, "h", lambda v: change(utc=v), "Hours that local time is ahead of UTC", 2, 1
        )
        form.number(
            "Latitude", light.latitude, "°", lambda v: change(latitude=v), "Degrees north; negative is south", 3, 1
        )
        form.number(
            "Longitude", light.longitude, "°", lambda v: change(longitude=v), "Degrees east; negative is west", 3, 1
        )
        form.number(
            "Turbidity",
            light.turbidity,
            "",
            lambda v: change(turbidity=v),
            "Haze of the air: 2 very clear, 10 hazy",
            1,
            0.5,
        )
        sun, (direct, diffuse) = sun_of(light), level_illuminance(light)
        whole = direct + diffuse
        form.worked(
            f"Sun {sun.elevation:.1f}° above the horizon, {sun.azimuth:.1f}° clockwise from north (+y)",
            f"On a level surface: sun {direct:,.0f} lx + sky {diffuse:,.0f} lx = <b>{whole:,.0f} lx</b>",
            f"Exposed for it: {np.log2(metered(light)):+.1f} EV against a studio of {FULL:g} lx",
        )
