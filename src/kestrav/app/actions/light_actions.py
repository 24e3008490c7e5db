"""What the window does about the light set-up: taking it in hand, and reading surroundings."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QFileDialog

from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.app.stage.light_tool import LightTool
from kestrav.core.document import edits
from kestrav.core.document.light_setup import Surroundings
from kestrav.core.files.surroundings import ENDINGS

if TYPE_CHECKING:
    from kestrav.app.shell.window import Window


class LightActions(QObject):
    """Adjusts the light in the stage, and reads what is around from files."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.window, self.session = window, window.session
        self.tool = LightTool(window.stage, lambda: window.tools.use("select"))

    def action(self, action: Callable[..., QAction]) -> QAction:
        """The menu's action."""
        tip = "Turn, soften and dim the light set-up by dragging in the stage"
        return action("Adjust light", lambda: self.window.tools.take_up(self.tool), "Ctrl+Shift+L", tip=tip)

    def choose_surroundings(self) -> None:
        """Ask for a picture of what is around, and read it in a job: a large one takes a while."""
        kinds = f"Surroundings ({' '.join('*' + ending for ending in ENDINGS)})"
        name, _ = QFileDialog.getOpenFileName(self.window, "Choose surroundings", "", kinds)
        if name:
            self.window.start_job(Job("Reading surroundings", work.read_surroundings, Path(name)), self._take)

    def _take(self, found: Surroundings) -> None:
        self.session.edit("Surroundings", lambda p: edits.light(p, surroundings=found))
