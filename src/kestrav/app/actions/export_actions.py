"""What the window hands on: everything that a project can be written as, and step sheets and comments that come and go with it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QFileDialog

from kestrav.app.dialogs.export_dialog import ExportDialog
from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.core.document.records import Comment, Viewpoint
from kestrav.core.errors import BadInput
from kestrav.core.files.pose_tables import read_poses, with_poses
from kestrav.core.review.comments import add_comments, read_comments
from kestrav.core.sheets.steps import change, make_sheet, motions_of
from kestrav.render.exports import BY_TITLE, EXPORTS, ExportRequest

if TYPE_CHECKING:
    from kestrav.app.shell.window import Window


class ExportActions(QObject):
    """What the window does about files for others."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.window, self.session = window, window.session

    def actions(self, action: Callable[..., QAction]) -> list[QAction]:
        """What the menu of export offers."""
        every = action(
            "Export …", self.ask, "Ctrl+E", tip="Choose from all kinds of files, with what each contains and leaves out"
        )
        each = [
            action(f"{one.title} …", partial(self.ask, one.title), tip=f"Write {one.holds.lower()}") for one in EXPORTS
        ]
        return [every, *each]

    def making_actions(self, action: Callable[..., QAction]) -> list[QAction]:
        """What makes or brings in what is handed on with a project."""
        return [
            action(
                "New step sheet", self.make_sheet, tip="Make a step sheet of the selected motions, or of all that moves"
            ),
            action(
                "Open poses …",
                self.ask_poses,
                tip="Read poses of parts, cameras or lights from a table (CSV) as key poses",
            ),
            action("Open comments …", self.ask_comments, tip="Read comments that a reviewer saved from a review page"),
        ]

    def ask(self, title: str = "") -> None:
        """Ask what and where, and write."""
        window = self.window
        dialog = ExportDialog(window, self.session.shown, window.used_meshes(), title)
        if not dialog.exec():
            return
        one = dialog.chosen
        endings = ";;".join(f"{one.title} (*{ending})" for ending in one.endings)
        folder = self.session.file.parent if self.session.file is not None else None
        name, kind = QFileDialog.getSaveFileName(window, one.title, dialog.start_name(folder), endings)
        if not name:
            return
        target = Path(name)
        if target.suffix.lower() not in one.endings:
            chosen = next((ending for ending in one.endings if f"*{ending}" in kind), one.endings[0])
            target = target.with_name(target.name + chosen)
        simplify, sheet = float(dialog.simplify.currentData()), str(dialog.sheet.currentData()) or None
        self.write(one.title, target, dialog.tolerance.value, simplify, sheet)

    def write(
        self, title: str, target: Path, tolerance: float = 0.05, simplify: float = 0.0, sheet: str | None = None
    ) -> None:
        """Write a kind of export in a job; the person has already agreed to overwrite."""
        timeline, session = self.window.timeline, self.session
        lanes = tuple(lane.charted() for lane in timeline.lanes)
        axis = "distance in mm" if timeline.by_distance else "time in s"
        result = self.window.checking.current_result
        request = ExportRequest(
            session.shown, self.window.used_meshes(), target, True, tolerance, simplify, sheet, result, lanes, axis
        )
        label = f"Writing {BY_TITLE[title].title.lower()}"
        self.window.start_or_wait(
            label,
            lambda: Job(label, work.hand_on, title, request),
            lambda told: self.window.tools.say_for(f"Made {told}".replace("Made made", "Made"), 8000),
        )

    def make_sheet(self) -> None:
        """Make a step sheet of the selected motions, or of all."""
        motions = {motion.id for motion in motions_of(self.session.project)}
        chosen = [item for item in self.session.chosen if item in motions]
        if self.session.edit("New step sheet", lambda project: make_sheet(project, chosen or None)):
            self.session.select(self.session.project.sheets[-1].id)

    def ask_poses(self) -> None:
        """Ask for a table of poses, and bring them in."""
        name, _ = QFileDialog.getOpenFileName(self.window, "Open poses", "", "Tables (*.csv)")
        if name:
            self.bring_poses(Path(name))

    def bring_poses(self, file: Path) -> None:
        """Bring in the poses of a table as key poses."""
        try:
            posed = read_poses(self.session.project, file)
        except BadInput as fault:
            self.window.card.complain(str(fault))
            return
        if self.session.edit("Open poses", lambda project: with_poses(project, posed)):
            self.session.select(self.session.project.pose_tracks[-1].id)
            what = "1 thing" if len(posed) == 1 else f"{len(posed)} things"
            self.window.tools.say_for(f"Key poses of {what} from “{file.name}”", 8000)

    def ask_comments(self) -> None:
        """Ask for a file of comments, and bring them in."""
        name, _ = QFileDialog.getOpenFileName(self.window, "Open comments", "", "Comments of a review page (*.json)")
        if name:
            self.bring_comments(Path(name))

    def bring_comments(self, file: Path) -> None:
        """Bring in what reviewers said."""
        try:
            comments = read_comments(file)
        except BadInput as fault:
            self.window.card.complain(str(fault))
            return
        _, count = add_comments(self.session.project, comments)
        if not count:
            self.window.tools.say_for(f"“{file.name}” has no comment that is not here already")
            return
        if self.session.edit("Open comments", lambda project: add_comments(project, comments)[0]):
            self.session.select(self.session.project.comments[-count].id)
            self.window.tools.say_for(f"{count} comment{'' if count == 1 else 's'} of “{file.name}”", 8000)

    def go_to(self, comment: Comment) -> None:
        """Show a moment from the view of what was said of it, with the parts that are meant."""
        self.session.set_time(comment.time)
        if comment.view is not None:
            self.window.stage.look_as(
                np.array(comment.view.position), np.array(comment.view.target), np.radians(comment.view.angle)
            )

    def take_view(self, sheet_id: str, number: int) -> None:
        """Let a step's picture be seen from where the stage is."""
        view = self.window.stage.viewpoint
        position, target = (tuple(map(float, v)) for v in (view.position, view.focus))
        taken = Viewpoint(position, target, angle=float(np.degrees(view.angle)))  # type: ignore[arg-type]
        self.session.edit(f"View of step {number + 1}", lambda p: change(p, sheet_id, number, view=taken))
