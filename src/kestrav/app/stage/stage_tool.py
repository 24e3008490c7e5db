"""Tools that work on a stage."""

from __future__ import annotations

from kestrav.app.stage.stage import Stage
from kestrav.app.stage.tool import Tool


class StageTool(Tool):
    """A tool with the stage and session that it works on."""

    def __init__(self, stage: Stage) -> None:
        self.stage = stage
        self.session = stage.session
