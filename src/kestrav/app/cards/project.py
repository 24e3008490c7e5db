"""The project itself."""

from __future__ import annotations

import numpy as np

from kestrav.app import settings
from kestrav.app.cards.rows import Rows
from kestrav.core.document import edits
from kestrav.core.kinematics.runs import span

PROJECT_FIELDS = ("Name", "Frame rate", "Clearance", "Tolerance", "Mesh up axis")
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
        end = span(project)
        frames = int(np.ceil(end * project.settings.fps - 1e-9))
        form.worked(f"{end:.2f} s × {project.settings.fps:g} fps = <b>{frames} frames</b>")
        if not project.parts:
            form.note("Add a product from the File menu (Ctrl+I), then click a part and draw its path.")
        else:
            form.note("Click a part in the stage or the contents to see its settings.")

    def _required(self) -> None:
        tip = "Required clearance between moving parts and all others"
        self._setting("Clearance", "required_clearance", "mm", tip)
