"""What the window hands on: animated glTF, tables of the motion, the report of the project."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QFileDialog

from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job

if TYPE_CHECKING:
    from kestrav.app.shell.window import Window

_KINDS = {
    "gltf": ("Animated glTF", "motion.glb", "Animated glTF 2.0 (*.glb)", work.write_gltf),
    "tables": ("Motion tables", "motion.csv", "Tables (*.csv)", work.write_motion_tables),
    "chart": ("Chart of the lanes", "chart.svg", "Pictures (*.svg *.png)", work.write_lanes),
    "report": ("Project report", "report.html", "Page with pictures (*.html)", work.write_project_page),
}


class ExportActions(QObject):
    """What the window does about files for others."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.window, self.session = window, window.session

    def actions(self, action: Callable[..., QAction]) -> list[QAction]:
        """What the menu of export offers."""
        tips = {
            "gltf": "Write parts, cameras and their motion with as few keys as keep it within 0.05 mm",
            "tables": "Write poses, wheel angles and camera tracks as CSV",
            "chart": "Write the timeline's lanes with their limits as SVG or PNG",
            "report": "Write shots, paths, wheels, clearance and open findings on one page with pictures",
        }
        return [action(f"{_KINDS[kind][0]} …", partial(self.ask, kind), tip=tip) for kind, tip in tips.items()]

    def ask(self, kind: str) -> None:
        """Ask where, and write."""
        title, name, endings, _ = _KINDS[kind]
        chosen, _ = QFileDialog.getSaveFileName(self.window, title, name, endings)
        if chosen:
            target = Path(chosen)
            self.write(kind, target if target.suffix else target.with_suffix(Path(name).suffix))

    def write(self, kind: str, target: Path) -> None:
        """Write a file of a kind in a job; the person has already agreed to overwrite."""
        title, _, _, made = _KINDS[kind]
        make: Any = made
        label = f"Writing {title.lower()}"
        arguments: tuple[object, ...] = (self.session.shown, self.window.used_meshes(), target)
        if kind == "chart":
            timeline = self.window.timeline
            axis = "distance in mm" if timeline.by_distance else "time in s"
            arguments = ([lane.charted() for lane in timeline.lanes], target, self.session.shown.name, axis)
        self.window.start_or_wait(
            label, lambda: Job(label, make, *arguments), lambda told: self.window.tools.say_for(str(told), 8000)
        )
