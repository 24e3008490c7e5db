"""What the window does about clearance: what is required, the table of breaches, reports, swept volumes."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QFileDialog

from kestrav.app.actions.prompts import Actions, Checked, Prompts
from kestrav.app.cards.card import Card
from kestrav.app.dialogs.asking import ask_request
from kestrav.app.dialogs.breach_table import BreachTable
from kestrav.app.dialogs.fit_table import FitTable
from kestrav.app.dialogs.questions import answered, tell
from kestrav.app.dialogs.requirement_dialog import RequirementDialog
from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.app.session import Session
from kestrav.core.clearance.bodies import Pair
from kestrav.core.clearance.breaches import Row
from kestrav.core.clearance.fits import Fit
from kestrav.core.clearance.swept import SIZES, SweptVolume, add_swept, renew_swept
from kestrav.core.document.edits import set_contact, set_contacts
from kestrav.core.document.lookup import get, qualified_name, solids
from kestrav.core.document.records import Part, Project
from kestrav.core.document.requests import SweptRequest
from kestrav.core.errors import BadInput
from kestrav.core.files.part_files import write_part
from kestrav.core.files.writing import write_whole
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.model import Finding, Severity
from kestrav.core.findings.report import as_data, as_text, fits_as_csv, standing_in_words
from kestrav.core.findings.typed_requirements import required_between
from kestrav.core.geometry.faces import Vector, vector
from kestrav.core.kinematics.runs import span
from kestrav.core.units import show


class ClearanceActions(Actions):
    """What the window does about clearance."""

    def __init__(self, session: Session, prompts: Prompts, card: Card, checking: Checked) -> None:
        super().__init__(session, prompts)
        self.card, self.checking = card, checking
        self.table: BreachTable | None = None
        self.fits: FitTable | None = None

    def listen(self) -> None:
        """Listen to the card."""
        card = self.card
        card.breaches_asked.connect(self.show_table)
        card.requirement_asked.connect(self.ask_requirement)
        card.fits_asked.connect(self.ask_fits)
        card.swept_asked.connect(self.renew)

    def actions(self, action: Callable[..., QAction]) -> list[QAction]:
        """What the menu of motion offers."""
        return [
            action(
                "Table of breaches", self.show_table, "Ctrl+B", tip="List every pair closer than required, worst first"
            ),
            action(
                "Add requirement …",
                self.ask_requirement,
                "Shift+R",
                tip="Set a required clearance between chosen parts, or exclude them from the check",
            ),
            action(
                "Contacts at rest …",
                self.ask_fits,
                "Ctrl+Shift+B",
                tip="List the parts that touch, fit or interfere at rest, and by how much",
            ),
            action(
                "Intended contact",
                self.intend,
                tip="Allow contact of the two selected parts, with no more interference than at rest",
            ),
            action(
                "Swept volume …",
                self.ask_swept,
                "Shift+S",
                tip="Make the selected part's swept volume a part, to measure and to check against",
            ),
        ]

    # what is required

    def ask_requirement(self) -> None:
        """Ask what is to keep how far from what."""
        project = self.session.project
        chosen = [i for i in self.session.chosen if isinstance(get(project, i), Part)]
        if not project.parts:
            self.prompts.complain("there is no part yet to keep clear of others; add a product first")
            return
        dialog = RequirementDialog(self.prompts.over, project, chosen)
        if not answered(dialog):
            return
        asked = dialog.request
        is_checked = asked.kind == "own"
        required, others = asked.clearance if is_checked else None, [asked.other] if asked.other else []
        if self.session.edit(
            "Add requirement", lambda p: required_between(p, [asked.thing], others, required, checked=is_checked)
        ):
            self.session.select(self.session.project.requirements[-1].id)

    def intend(self) -> None:
        """Two selected parts are meant to touch."""
        if len(self.session.chosen) != 2:
            self.prompts.complain("select the two parts that are meant to touch first (Ctrl+click)")
            return
        one, two = self.session.chosen
        self.session.edit("Intended contact", lambda p: set_contact(p, one, two, intended=True))

    # how parts meet at rest

    def ask_fits(self) -> None:
        """Work out how parts meet as all stands at rest, and show it."""
        project = self.session.project
        if not project.parts:
            self.prompts.complain("there is no part yet that could touch another; add a product first")
            return
        job = Job("Finding contacts at rest", work.list_fits, project, self.session.meshes, tidies=False)
        self.prompts.start(job, self._show_fits)

    def _show_fits(self, fits: tuple[Fit, ...]) -> None:
        if self.fits is None:
            self.fits = FitTable(self.prompts.over)
            self.fits.went.connect(self._see_fit)
            self.fits.accepted_all.connect(self._accept)
            self.fits.export_asked.connect(self._export_fits)
        deep = sum(fit.depth > 0 for fit in fits)
        text = (
            f"{len(fits)} pair{'s' if len(fits) != 1 else ''} in contact at rest, {deep} of them interfere"
            if fits
            else "No parts touch"
        )
        self.fits.show_rows(self.session.project, fits, text)
        self.fits.show()
        self.fits.raise_()

    def _accept(self, rows: tuple[Fit, ...]) -> None:
        """Contacts are intended: one step to undo, however many."""
        assert self.fits is not None
        pairs = [(row.pair.moving, row.pair.other) for row in rows]
        if not self.session.edit("Accept contacts", lambda p: set_contacts(p, pairs, intended=True)):
            return
        taken = {row.pair for row in rows}
        fits = tuple(msgspec.structs.replace(r, accepted=r.accepted or r.pair in taken) for r in self.fits.rows)
        self.fits.show_rows(self.session.project, fits, self.fits.summary.text())

    def _see_fit(self, row: Fit) -> None:
        parts = {part.id for part in self.session.shown.parts}
        if {row.pair.moving, row.pair.other} <= parts:
            value = -row.depth if row.depth > 0 else row.gap
            self._look_at(row.pair, "contact", "note", row.text, self.session.time, value, 0.0, (row.place, row.place))
            self.prompts.say(row.text)

    def _export_fits(self) -> None:
        assert self.fits is not None
        start = str(Path.cwd() / f"{self.session.project.name} contacts.csv")
        name, _ = QFileDialog.getSaveFileName(self.prompts.over, "Export contacts", start, "Table (*.csv)")
        if not name:
            return
        try:
            write_whole(Path(name), fits_as_csv(self.session.project, self.fits.rows).encode())
        except BadInput as fault:
            tell(self.prompts.over, "The contacts were not written", str(fault))
            return
        self.prompts.say(f"Made {name}")

    # the table

    def show_table(self) -> None:
        """Show the breaches of the last check."""
        if self.checking.result is None:
            self.prompts.complain("the check is still under way; its breaches are shown when it is done")
            return
        if self.table is None:
            self.table = BreachTable(self.prompts.over)
            self.table.went.connect(self.go_to)
            self.table.report_asked.connect(self.ask_report)
        self._fill(self.checking.result)
        self.table.show()
        self.table.raise_()

    def show_result(self, result: CheckResult) -> None:
        """Follow a newer check."""
        if self.table is not None and self.table.isVisible():
            self._fill(result)

    def _fill(self, result: CheckResult) -> None:
        assert self.table is not None
        self.table.show_rows(self.session.shown, result.table, standing_in_words(result))

    def go_to(self, row: Row) -> None:
        """Show a breach: its time and place, both parts as they are and the rest faded."""
        text = show(row.least, "mm", 2)
        self._look_at(row.pair, "clearance-breach", "breach", text, row.time, row.least, row.required, row.points)

    def _look_at(
        self,
        pair: Pair,
        rule: str,
        severity: Severity,
        text: str,
        time: float,
        value: float,
        limit: float,
        points: tuple[Vector, Vector],
    ) -> None:
        """Look at a pair at a time, both parts as they are and the rest faded."""
        project = self.session.shown
        a, b = (qualified_name(project, i) for i in (pair.moving, pair.other))
        self.checking.go_to(
            Finding(
                rule=rule,
                severity=severity,
                subject=(pair.moving, pair.other),
                title=f"{a} to {b}",
                detail=text,
                time=time,
                value=value,
                unit="mm",
                limit=limit,
                place=vector(0.5 * np.sum(points, axis=0)),
                gap=points,
            )
        )

    # reports

    def ask_report(self) -> None:
        """Ask where, and write the check report."""
        if self.checking.result is None or not self.checking.current:
            self.prompts.complain("the check is still under way; the report can be written when it is done")
            return
        name, _ = QFileDialog.getSaveFileName(
            self.prompts.over,
            "Check report",
            "check.html",
            "Page with pictures (*.html);;Tables (*.csv);;Text (*.txt);;JSON (*.json)",
        )
        if name:
            self.write_report(Path(name))

    def write_report(self, target: Path) -> None:
        """Write the check report, as its name says; a page or tables in a job, as pictures take a while."""
        result, project = self.checking.result, self.session.shown
        assert result is not None
        if target.suffix in (".html", ".csv"):
            job = Job("Writing the report", work.write_report, project, self.session.meshes, result, target)
            self.prompts.start(job, lambda files: self.prompts.say(f"Made {', '.join(str(p) for p in files)}"))
            return
        if target.suffix == ".json":
            text = json.dumps(as_data(project, result), ensure_ascii=False, indent=1)
        else:
            text = as_text(project, result)
        try:
            write_whole(target, text.encode())
        except BadInput as fault:
            tell(self.prompts.over, "Not written", str(fault))

    def ask_write_part(self) -> None:
        """Ask where, and write the selected part as a mesh."""
        item = self.session.item
        if not isinstance(item, Part):
            self.prompts.complain("select the part that is to be written first")
            return
        name, _ = QFileDialog.getSaveFileName(
            self.prompts.over, "Write the part", f"{item.name}.stl", "STL (*.stl);;GLB (*.glb)"
        )
        if name:
            try:
                write_part(self.session.shown, self.session.meshes, item.id, Path(name), overwrite=True)
            except BadInput as fault:
                tell(self.prompts.over, "Not written", str(fault))

    # swept volumes

    def ask_swept(self) -> None:
        """Ask over which span, and work out the space that the selected thing sweeps."""
        project, item = self.session.project, self.session.item
        if not isinstance(item, Part) or not solids(project, item.id):
            self.prompts.complain("select a moving part first; its swept volume becomes a part")
            return
        request = ask_request(
            self.prompts.over,
            "Swept volume",
            SweptRequest(span(project)),
            text=f"The swept volume of {item.name}, as a translucent part; by its size the tolerance is one part in {SIZES}",
            remember="tolerance",
        )
        if request is not None:
            self.sweep(item.id, request.start, request.end, request.tolerance or None)

    def renew(self, part_id: str) -> None:
        """Work a swept volume out again."""
        part = get(self.session.project, part_id)
        assert isinstance(part, Part) and part.swept is not None
        swept = part.swept
        end = min(swept.end, span(self.session.project))
        self._sweep(swept.thing, swept.start, end, swept.tolerance, lambda p, volume: renew_swept(p, part_id, volume))

    def sweep(self, thing: str, start: float, end: float, tolerance: float | None) -> None:
        """Work out the space that a thing sweeps over a span, as a new part."""
        self._sweep(thing, start, end, tolerance, add_swept)

    def _sweep(
        self,
        thing: str,
        start: float,
        end: float,
        tolerance: float | None,
        change: Callable[[Project, SweptVolume], Project],
    ) -> None:
        project = self.session.project
        job = Job(
            f"Sweeping {get(project, thing).name}",
            work.swept_space,
            project,
            self.session.meshes,
            thing,
            start,
            end,
            tolerance,
            tidies=False,
        )
        self.prompts.start(job, lambda volume: self._take_swept(volume, change))

    def _take_swept(self, volume: SweptVolume, change: Callable[[Project, SweptVolume], Project]) -> None:
        meshes = {volume.solid.hash: volume.solid}
        if not self.session.edit("Swept volume", lambda p: change(p, volume), meshes=meshes):
            return
        part = next(p for p in reversed(self.session.project.parts) if p.geometry == volume.solid.hash)
        self.session.select(part.id)
        thick = (
            f" · thickened, as thinner than {volume.tolerance:.2g} mm: {', '.join(volume.thickened)}"
            if volume.thickened
            else ""
        )
        self.prompts.say(f"{part.name}: {volume.volume / 1e6:,.1f} dm³{thick}")
