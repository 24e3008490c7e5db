"""What is handed on and comes back: comments of reviewers, and step sheets."""

from __future__ import annotations

from typing import Any

from kestrav.app.cards.rows import Rows
from kestrav.core.document.lookup import find
from kestrav.core.document.records import Comment, Step, StepSheet
from kestrav.core.sheets import steps
from kestrav.core.units import show


class CommentRows(Rows):
    """What was said of a moment."""

    def build(self, comment: Comment) -> None:
        project, form = self.session.shown, self.form
        form.title = comment.author or "Comment"
        form.note(comment.text)
        named = [item.name for part in comment.parts if (item := find(project, part)) is not None]
        written = f"written {comment.made[:16].replace('T', ' ')}" if comment.made else ""
        form.worked(*filter(None, (f"at {show(comment.time, 's', 2)}", written, ", ".join(named))))
        form.buttons(
            ("Go there", lambda: self.card.moment_asked.emit(comment), "Show the moment from the comment's view")
        )
        self._fields(comment, "done")
        self._name(comment)
        self._fields(comment, "author", "text", "time")
        self._delete(comment)


class StepSheetRows(Rows):
    """The document and its steps."""

    def build(self, sheet: StepSheet) -> None:
        project, form = self.session.shown, self.form
        form.title = sheet.name
        stale = steps.is_stale(project, sheet)
        if stale:
            form.note("Out of date: parts or motions have changed since the steps were last looked through.")
            form.buttons(
                (
                    "Mark as up to date",
                    lambda: self.session.edit("Mark as up to date", lambda p: steps.current(p, sheet.id)),
                    "Confirm that the steps still tell the project as it is",
                )
            )
        form.buttons(
            ("Write …", lambda: self.card.export_asked.emit("Step sheet"), "Write the step sheet as PDF or HTML")
        )
        self._name(sheet)
        if form.section("Page"):
            self._page(sheet)
        for number, step in enumerate(sheet.steps):
            if form.section(f"Step {number + 1}", step.title):
                self._step(sheet, number, step)
        self._delete(sheet)

    def _page(self, sheet: StepSheet) -> None:
        form = self.form
        self._fields(sheet, "look", "paper")
        form.choice(
            "Direction",
            [("", "portrait"), ("landscape", "landscape")],
            "landscape" if sheet.landscape else "",
            lambda v: self._set(sheet.id, "Direction", landscape=bool(v)),
            "Direction of the paper",
        )
        self._fields(sheet, "number", "revision", "author")

    def _step(self, sheet: StepSheet, number: int, step: Step) -> None:
        form = self.form
        label = f"Step {number + 1}"

        def change(**fields: Any) -> None:
            self.session.edit(label, lambda p: steps.change(p, sheet.id, number, **fields))

        self._fields(step, "title", "text", "tools", "apart", change=change, prefix=label)
        motions = [item.name for m in step.motions if (item := find(self.session.shown, m)) is not None]
        form.note(f"Shows {', '.join(motions)}; {'own view' if step.view else 'automatic view'}.")
        form.buttons(
            ("Show", lambda: self.card.step_asked.emit(sheet.id, number), "Show the step in the stage"),
            (
                "Use stage view",
                lambda: self.card.view_asked.emit(sheet.id, number),
                "Take the stage's viewpoint for the picture",
            ),
        )
        if step.view is not None:
            form.buttons(("Automatic view", lambda: change(view=None), "Let Kestrav choose the view again"))
        form.buttons(
            (
                "Join with next",
                lambda: self._edit("Join steps", steps.join, sheet, number),
                "Join the step with the one after it",
            ),
            ("Split", lambda: self._edit("Split step", steps.split, sheet, number), "Make one step of each motion"),
            (
                "Earlier",
                lambda: self._edit("Move step", steps.move, sheet, number, -1),
                "Move the step before the one before it",
            ),
            (
                "Later",
                lambda: self._edit("Move step", steps.move, sheet, number, 1),
                "Move the step after the one after it",
            ),
        )

    def _edit(self, label: str, change: Any, sheet: StepSheet, *arguments: int) -> None:
        self.session.edit(label, lambda project: change(project, sheet.id, *arguments))
