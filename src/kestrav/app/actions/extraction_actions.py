"""Looking for extraction paths, as the window offers it: asked for, worked out as a job, and made into a path and a run."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import msgspec
from PySide6.QtGui import QAction

from kestrav.app.actions.prompts import Actions, Prompts
from kestrav.app.dialogs.asking import ask_request
from kestrav.app.dialogs.extraction_dialog import ExtractionDialog
from kestrav.app.dialogs.questions import answered, ask_remedy, tell
from kestrav.app.dialogs.sequence_dialog import SequenceDialog
from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.app.session import Session
from kestrav.core.document.lookup import get, topmost
from kestrav.core.document.records import Part, Project
from kestrav.core.document.requests import ExplodedRequest
from kestrav.core.extraction.disassembly import Order, add_sequence, exploded, parts_of
from kestrav.core.extraction.extraction_report import as_text, order_as_text
from kestrav.core.extraction.search import ExtractionPath, ExtractionRequest, NoExtractionPath, add_extraction_path
from kestrav.core.extraction.snaps import allowed

Remedy = tuple[str, str, Callable[[], None]]  # a button, its tooltip and what it does
_LONGER = 4  # times as much effort


class ExtractionActions(Actions):
    """What the window does about extraction paths."""

    def __init__(self, session: Session, prompts: Prompts) -> None:
        super().__init__(session, prompts)
        self.request = ExtractionRequest()  # as it was asked for last
        self.outcome: ExtractionPath | NoExtractionPath | None = None
        self.order: Order | None = None

    def action(self, action: Callable[..., QAction]) -> QAction:
        """What the menu of motion offers."""
        return action(
            "Extraction path …",
            self.ask,
            "Shift+W",
            tip="Find a collision-free path for the selection out of its surroundings",
        )

    def actions(self, action: Callable[..., QAction]) -> list[QAction]:
        """What the menu of motion offers."""
        return [
            self.action(action),
            action(
                "Disassembly sequence …",
                self.disassemble,
                tip="Find the order in which the selected parts, or all of an assembly, can be removed",
            ),
            action(
                "Exploded view …",
                self.explode,
                tip="Move the selected parts, or all of an assembly, apart along their extraction directions",
            ),
        ]

    def _things(self, least: int) -> list[str]:
        project = self.session.project
        things = topmost(project, [i for i in self.session.chosen if isinstance(get(project, i), Part)])
        if len(things) < least:
            text = "select the part to extract first" if least == 1 else "select several parts first (Ctrl+click)"
            self.prompts.complain(text)
            return []
        return things

    def _several(self) -> list[str]:
        things = parts_of(self.session.project, self._things(1))
        if len(things) == 1:
            self.prompts.complain("select several parts first (Ctrl+click), or an assembly")
            return []
        return things

    def disassemble(self) -> None:
        """Look for the order in which the selected things come out, or the parts of one assembly; show it, and make runs of it."""
        self._in_order(self._sequence, "Disassembly sequence")

    def _sequence(self, project: Project, order: Order) -> Project:
        dialog = SequenceDialog(self.prompts.over, project, order)
        if not answered(dialog):
            return project
        asked = dialog.request
        return add_sequence(project, dialog.order, self.session.time, asked.speed, together=asked.motion == "together")

    def explode(self) -> None:
        """Look for that order, and move the selected things apart along it."""
        if not self._several():
            return
        request = ask_request(
            self.prompts.over,
            "Exploded view",
            ExplodedRequest(),
            text="Distance of the parts from each other, along their extraction directions",
            remember="spread",
        )
        if request is not None:
            self._in_order(lambda project, order: exploded(project, order, request.spread), "Exploded view")

    def _in_order(self, change: Callable[[Project, Order], Project], label: str) -> None:
        things = self._several()
        if not things:
            return
        project = self.session.project
        # what was found so far is kept when it is stopped
        job = Job("Finding the disassembly sequence", work.order_of, project, self.session.meshes, things)
        self.prompts.start(job, lambda order: self._take_order(project, order, change, label))

    def _take_order(
        self, project: Project, order: Order, change: Callable[[Project, Order], Project], label: str
    ) -> None:
        self.order = order
        if order.left and not order.stopped:
            tell(self.prompts.over, "Not every part comes out", order_as_text(project, order))
        if order.removals:
            self.session.edit(label, lambda p: change(p, order))

    def _take_no_path(self, project: Project, things: list[str], no_path: NoExtractionPath) -> None:
        """Say what blocks, and offer the changes that would help."""
        remedies = self._remedies(project, things, no_path)
        chosen = ask_remedy(
            self.prompts.over, "No extraction path", as_text(project, no_path, table=False), [r[:2] for r in remedies]
        )
        if chosen is not None:
            remedies[chosen][2]()

    def _remedies(self, project: Project, things: list[str], no_path: NoExtractionPath) -> list[Remedy]:
        """What would help, each as a button: its text, its tooltip and what it does."""
        request, remedies = self.request, list[Remedy]()

        def again(**changes: Any) -> Callable[[], None]:
            def search() -> None:
                self.request = msgspec.structs.replace(self.request, **changes)
                self._look(things)

            return search

        if no_path.snaps:
            remedies.append(
                (
                    "Allow snap fit",
                    "Allow the contacts to get as deep as needed, and search again",
                    lambda: self._allow(things, no_path),
                )
            )
        if no_path.blockers and no_path.direction is not None:
            names = ", ".join(get(project, one).name for one in no_path.blockers)
            aside = tuple(dict.fromkeys((*request.aside, *no_path.blockers)))
            remedies.append(
                ("Remove blocking parts first", f"Search again, with {names} removed first", again(aside=aside))
            )
            remedies.append(
                (
                    "Disassembly sequence",
                    f"Find the order in which {names} and the selection come out",
                    lambda: self._sequence_with(things, no_path),
                )
            )
        if request.allowed or request.room is not None or request.upright or request.tilt is not None:
            free = again(allowed=(), room=None, upright=False, tilt=None)
            tip = "Search again in any direction, at any tilt and beyond the bounds"
            remedies.append(("Search without limits", tip, free))
        if not request.allowed:
            more = _LONGER * request.checks
            tip = f"Search again with {more // 1000} thousand checks in each stage"
            remedies.append(
                ("Search longer", tip, again(checks=more, seconds=_LONGER * request.seconds, seed=request.seed + 1))
            )
        return remedies

    def _allow(self, things: list[str], no_path: NoExtractionPath) -> None:
        if self.session.edit("Allow a snap fit", lambda p: allowed(p, no_path.snaps)):
            self._look(things)

    def _sequence_with(self, things: list[str], no_path: NoExtractionPath) -> None:
        self.session.select_parts([*no_path.blockers, *things])
        self.disassemble()

    def ask(self) -> None:
        """Ask what the way must keep to, and look for it."""
        project, things = self.session.project, self._things(1)
        if not things:
            return
        dialog = ExtractionDialog(self.prompts.over, project, things, self.request)
        if not answered(dialog):
            return
        self.request = dialog.request
        self._look(things)

    def _look(self, things: list[str]) -> None:
        """Look for an extraction path by the request as it is."""
        project = self.session.project
        names = " and ".join(get(project, thing).name for thing in things)
        job = Job(
            f"Finding an extraction path for {names}",
            work.find_extraction_path,
            project,
            self.session.meshes,
            things,
            self.request,
            tidies=False,
        )
        self.prompts.start(job, lambda result: self._take(project, things, result))

    def _take(self, project: Project, things: list[str], result: ExtractionPath | NoExtractionPath) -> None:
        """Make a way that was found a path and a run, or say what blocks."""
        self.outcome = result
        if isinstance(result, NoExtractionPath):
            self._take_no_path(project, things, result)
            return
        time = self.session.time
        if self.session.edit("Extraction path", lambda p: add_extraction_path(p, things, result, time)):
            extracted = self.session.project
            self.session.select(
                (extracted.runs[-1] if len(extracted.runs) > len(project.runs) else extracted.pose_tracks[-1]).id
            )
            status = "not checked" if result.certificate is None else result.certificate.status
            text = (
                f"Extraction path by {result.stage}: {result.length:,.0f} mm, tilt {result.tilt:.0f}° at most, {status}"
            )
            if result.aside:
                text += f" · removed first: {', '.join(get(project, thing).name for thing in result.aside)}"
            self.prompts.say(f"{text} · tried {', '.join(result.tried)}")
