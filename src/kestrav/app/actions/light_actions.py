"""What the window does about the light set-up: taking it in hand, and reading surroundings."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QFileDialog

from kestrav.app.actions.prompts import Actions, Prompts
from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.app.session import Session
from kestrav.app.stage.light_tool import LightTool
from kestrav.app.stage.stage import Stage
from kestrav.app.stage.toolbox import Toolbox
from kestrav.core.document import edits
from kestrav.core.document.light_setup import Surroundings
from kestrav.core.files.environment_files import ENDINGS


class LightActions(Actions):
    """Adjusts the light in the stage, and reads what is around from files."""

    def __init__(self, session: Session, prompts: Prompts, stage: Stage, tools: Toolbox) -> None:
        super().__init__(session, prompts)
        self.stage, self.tools = stage, tools
        self.tool = LightTool(stage, lambda: tools.use("select"))

    def action(self, action: Callable[..., QAction]) -> QAction:
        """The menu's action."""
        tip = "Turn, soften and dim the light set-up by dragging in the stage"
        return action("Adjust light", lambda: self.tools.take_up(self.tool), "Ctrl+Shift+L", tip=tip)

    def choose_surroundings(self) -> None:
        """Ask for a picture of what is around, and read it in a job: a large one takes a while."""
        kinds = f"Surroundings ({' '.join('*' + ending for ending in ENDINGS)})"
        name, _ = QFileDialog.getOpenFileName(self.prompts.over, "Choose surroundings", "", kinds)
        if name:
            self.prompts.start(Job("Reading surroundings", work.read_surroundings, Path(name)), self._take)

    def _take(self, surroundings: Surroundings) -> None:
        self.session.edit("Surroundings", lambda p: edits.light(p, surroundings=surroundings))
