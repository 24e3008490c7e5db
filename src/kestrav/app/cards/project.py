"""The project itself."""

from __future__ import annotations

import msgspec
import numpy as np

from kestrav.app import settings
from kestrav.app.cards.rows import Rows
from kestrav.core.document import edits
from kestrav.core.document.records import LightSetup
from kestrav.core.kinematics.runs import span
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
            self.session.edit(
                "Light", lambda p: msgspec.structs.replace(p, light_setup=msgspec.structs.replace(light, **fields))
            )

        form.heading("Light")
        form.choice(
            "Light set-up",
            [(name, name) for name in SETUPS],
            light.setup,
            lambda v: change(setup=v),
            "Soft boxes and surroundings that light the stage, the lens and all pictures",
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
        form.number(
            "Softness", 100 * light.softness, "%", lambda v: change(softness=v / 100), "Size of the soft boxes", 0, 10
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

    def _required(self) -> None:
        tip = "Required clearance between moving parts and all others"
        self._setting("Clearance", "required_clearance", "mm", tip)
