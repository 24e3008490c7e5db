"""What the window hands on: everything that a project can be written as, and step sheets and comments that come and go with it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QFileDialog

from kestrav.app.actions.prompts import Actions, Checked, Prompts
from kestrav.app.dialogs.export_dialog import ExportDialog
from kestrav.app.dialogs.questions import answered
from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.app.session import Session
from kestrav.app.stage.stage import Stage
from kestrav.core.document.lookup import get_as
from kestrav.core.document.records import Comment, SavedView, StepSheet
from kestrav.core.files.pose_tables import Keyed, with_poses
from kestrav.core.review.comment_files import add_comments
from kestrav.core.sheets.steps import change, make_sheet, motions_of
from kestrav.render.exports import BY_TITLE, EXPORTS, ExportRequest

if TYPE_CHECKING:
    from kestrav.app.timeline.timeline import Timeline


class ExportActions(Actions):
    """What the window does about files for others."""

    def __init__(
        self, session: Session, prompts: Prompts, stage: Stage, timeline: Callable[[], Timeline], checking: Checked
    ) -> None:
        super().__init__(session, prompts)
        self.stage = stage
        self._timeline, self.checking = timeline, checking

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
        dialog = ExportDialog(self.prompts.over, self.session.shown, self.session.used_meshes(), title)
        if not answered(dialog):
            return
        one = dialog.chosen
        endings = ";;".join(f"{one.title} (*{ending})" for ending in one.endings)
        folder = self.session.file.parent if self.session.file is not None else None
        name, kind = QFileDialog.getSaveFileName(self.prompts.over, one.title, dialog.start_name(folder), endings)
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
        timeline, session = self._timeline(), self.session
        lanes = tuple(lane.charted() for lane in timeline.lanes)
        axis = "distance in mm" if timeline.by_distance else "time in s"
        result = self.checking.current_result
        request = ExportRequest(
            session.shown, self.session.used_meshes(), target, True, tolerance, simplify, sheet, result, lanes, axis
        )
        label = f"Writing {BY_TITLE[title].title.lower()}"
        self.prompts.start_or_wait(
            label,
            lambda: Job(label, work.hand_on, title, request),
            lambda text: self.prompts.say(f"Made {text}", 8000),
        )

    def make_sheet(self) -> None:
        """Make a step sheet of the selected motions, or of all."""
        motions = {motion.id for motion in motions_of(self.session.project)}
        chosen = [item for item in self.session.chosen if item in motions]
        if self.session.edit("New step sheet", lambda project: make_sheet(project, chosen or None)):
            self.session.select(self.session.project.sheets[-1].id)

    def ask_poses(self) -> None:
        """Ask for a table of poses, and bring them in."""
        name, _ = QFileDialog.getOpenFileName(self.prompts.over, "Open poses", "", "Tables (*.csv)")
        if name:
            self.bring_poses(Path(name))

    def bring_poses(self, file: Path) -> None:
        """Bring in the poses of a table as key poses; a long one is read for a while."""
        label, project = f"Reading {file.name}", self.session.project
        self.prompts.start_or_wait(
            label, lambda: Job(label, work.read_poses, project, file), partial(self._take_poses, file)
        )

    def _take_poses(self, file: Path, keyed: list[Keyed]) -> None:
        if self.session.edit("Open poses", lambda project: with_poses(project, keyed)):
            self.session.select(self.session.project.pose_tracks[-1].id)
            what = "1 thing" if len(keyed) == 1 else f"{len(keyed)} things"
            self.prompts.say(f"Key poses of {what} from “{file.name}”", 8000)

    def ask_comments(self) -> None:
        """Ask for a file of comments, and bring them in."""
        name, _ = QFileDialog.getOpenFileName(
            self.prompts.over, "Open comments", "", "Comments of a review page (*.json)"
        )
        if name:
            self.bring_comments(Path(name))

    def bring_comments(self, file: Path) -> None:
        """Bring in what reviewers said."""
        label = f"Reading {file.name}"
        self.prompts.start_or_wait(
            label, lambda: Job(label, work.read_comments, file), partial(self._take_comments, file)
        )

    def _take_comments(self, file: Path, comments: tuple[Comment, ...]) -> None:
        known = len(self.session.project.comments)
        with_comments, count = add_comments(self.session.project, comments)
        if not count:
            self.prompts.say(f"“{file.name}” has no comment that is not here already")
        elif self.session.edit("Open comments", lambda project: add_comments(project, comments)[0]):
            self.session.select(with_comments.comments[known].id)
            self.prompts.say(f"{count} comment{'' if count == 1 else 's'} of “{file.name}”", 8000)

    def show_step(self, sheet_id: str, number: int) -> None:
        """Show a step of a sheet in the stage; from where is looked for a while."""
        step = get_as(self.session.project, sheet_id, StepSheet).steps[number]
        job = Job(
            f"Looking at step {number + 1}", work.step_seen, self.session.project, self.session.used_meshes(), step
        )
        self.prompts.start(job, lambda result: self._look(*result))

    def go_to(self, comment: Comment) -> None:
        """Show a moment from the view of what was said of it."""
        self._look(comment.time, comment.view)

    def _look(self, time: float, view: SavedView | None) -> None:
        self.session.set_time(time)
        if view is not None:
            self.stage.views.look_as(np.array(view.position), np.array(view.target), np.radians(view.angle))

    def take_view(self, sheet_id: str, number: int) -> None:
        """Let a step's picture be seen from where the stage is."""
        view = self.stage.viewpoint
        position, target = (tuple(map(float, v)) for v in (view.position, view.focus))
        taken = SavedView(position, target, angle=float(np.degrees(view.angle)))  # type: ignore[arg-type]
        self.session.edit(f"View of step {number + 1}", lambda p: change(p, sheet_id, number, view=taken))
