"""The project itself."""

from __future__ import annotations

import numpy as np

from kestrav.app import bringing
from kestrav.app.cards.rows import Rows
from kestrav.core.document import edits
from kestrav.core.motion.runs import span

REQUIRED_TIP = "Required clearance between what moves and the rest"


class ProjectRows(Rows):
    """The project, when nothing is selected."""

    def build(self) -> None:
        project = self.session.shown
        self.card.title.setText("Project")
        form = self.form
        form.text(
            "Name",
            project.name,
            lambda text: self.session.edit("Rename project", lambda p: edits.rename_project(p, text)),
            "The project's name",
        )
        tip = "Frames a second in which the project is checked and stepped through"
        self._setting("Frame rate", "fps", "fps", tip, places=0)
        self._setting("Clearance", "required_clearance", "mm", REQUIRED_TIP)
        form.number(
            "Tolerance",
            bringing.chord() or 0.0,
            "mm",
            bringing.set_chord,
            "How far facets may be from curved CAD faces when products are brought in; automatic goes by the size of the largest part",
            3,
            0.01,
            "automatic",
        )
        form.choice(
            "Mesh files’ up",
            [("", "as the format has it"), ("z", "z"), ("y", "y"), ("x", "x")],
            bringing.upward(),
            bringing.set_upward,
            "The upward axis of the mesh files that are brought in",
        )
        end = span(project)
        frames = int(np.ceil(end * project.settings.fps - 1e-9))
        form.worked(f"{end:.2f} s × {project.settings.fps:g} fps = <b>{frames} frames</b>")
        if not project.parts:
            form.note("Add a product from the File menu (Ctrl+I), then click a part and draw its path.")
        else:
            form.note("Click a thing in the stage or the list to see its numbers.")

    def _required(self) -> None:
        tip = "Required clearance between what moves and the rest"
        self._setting("Clearance", "required_clearance", "mm", tip)
