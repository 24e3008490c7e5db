"""The checks: what is required, what came of it, contacts, and what is required of single pairs."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import numpy as np

from kestrav.app.cards.rows import Rows
from kestrav.app.widgets.sheet import Sheet
from kestrav.core.clearance.breaches import Outcome, outcomes
from kestrav.core.clearance.contact_history import Contact
from kestrav.core.document import edits
from kestrav.core.document.lookup import qualified_name
from kestrav.core.document.records import Project, Requirement
from kestrav.core.findings.model import name_of
from kestrav.core.findings.report import contacts_in_words, nearer_in_words, title_of
from kestrav.core.units import show

MOST_CONTACTS = 40  # that are listed


class ChecksRows(Rows):
    """The limits that are checked, and what came of them."""

    def build(self) -> None:
        project, result, form = self.session.shown, self.card.result, self.form
        self.form.title = "Checks"
        self._settings(
            "required_clearance",
            "only_listed",
            "interference_tolerance",
            "flip_angle",
            "speed_limit",
            "acceleration_limit",
            "ground_gap",
            "dead_time",
            "kink_step",
        )
        if result is None:
            form.note("Checking …")
            return
        clearance = result.clearance
        for outcome in outcomes(project, clearance, result.certificate):
            _show_outcome(form, project, outcome)
        self._requirements()
        self._certificate()
        if result.table:
            count = len(result.table)
            form.buttons(
                (
                    f"Table of {count} breach{'es' if count > 1 else ''}",
                    self.card.breaches_asked.emit,
                    "List the breaches with times, clearances and places, worst first (B)",
                )
            )
        self._contacts()
        if clearance.unchecked:
            form.note(f"{clearance.unchecked} pairs are not checked, as they are not asked for")
        self._in_contact(result.contacts)

    def _in_contact(self, contacts: Sequence[Contact]) -> None:
        """The pairs in contact: how long, how deep they are and may be, and which are to be checked like all others."""
        project, form = self.session.shown, self.form
        form.buttons(
            (
                "Contacts at rest …",
                self.card.fits_asked.emit,
                "List the parts that touch, fit or interfere at rest (Ctrl+Shift+B)",
            )
        )
        if contacts:
            form.heading("In contact")
            form.note("Parts in contact may slide and part, but not interfere more")
        for contact in contacts[:MOST_CONTACTS]:
            a, b = contact.pair.moving, contact.pair.other
            names = f"{qualified_name(project, a)} on {qualified_name(project, b)}"
            deep = f"{show(contact.deep, 'mm', 2)} deep, {show(contact.allowed, 'mm', 2)} allowed"
            form.note(f"{names}: {contact.text}; {deep}")
            form.buttons(
                (
                    "Require clearance",
                    partial(self._set_contact, "Require clearance", a, b, intended=False),
                    f"Check {names} like all others from the start, with no contact allowed",
                )
            )
        if len(contacts) > MOST_CONTACTS:
            form.note(f"and {len(contacts) - MOST_CONTACTS} more")
        turned_off = [c for c in project.contacts if not c.intended]
        if turned_off:
            form.heading("Contact not allowed")
        for kept in turned_off:
            form.buttons(
                (
                    f"Allow contact: {name_of(project, kept.a)} on {name_of(project, kept.b)}",
                    partial(self._set_contact, "Allow contact", kept.a, kept.b, intended=True),
                    "Allow contact of these parts, with no more interference than at rest",
                )
            )

    def _set_contact(self, label: str, a: str, b: str, *, intended: bool) -> None:
        self.session.edit(label, lambda p: edits.set_contact(p, a, b, intended=intended))

    def _contacts(self) -> None:
        """The list of contacts, or how to get it."""
        form, known, project = self.form, self.card.contacts, self.session.shown
        assert known is not None
        form.heading("Contacts")
        if known.of is None or not known.current:
            if known.of is not None:
                form.note("The project has changed since the contacts were listed.")
            form.buttons(
                (
                    "List contacts",
                    self.card.contacts_asked.emit,
                    "List when, where and at what speed moving parts touch others, also between frames",
                )
            )
            return
        if not known.touches:
            form.note("No moving part touches another.")
        for touch in known.touches[:MOST_CONTACTS]:
            a, b = qualified_name(project, touch.a), qualified_name(project, touch.b)
            at = ", ".join(show(x, "", 0) for x in touch.place)
            form.note(f"{a} touches {b}: {touch.time:.4f}\u2009s, {show(touch.speed, 'mm/s', 0)}, at {at}\u2009mm")
            form.buttons(
                (
                    "Go there",
                    partial(known.go_to, touch),
                    "Move the playhead and the view to this contact",
                ),
                (
                    "Use as trigger …",
                    partial(known.start_by, touch),
                    "Start a run, pose track, attachment or rotation at this contact",
                ),
            )
        if len(known.touches) > MOST_CONTACTS:
            form.note(f"and {len(known.touches) - MOST_CONTACTS} more")

    def _certificate(self) -> None:
        """What is shown for the whole motion, between the frames too."""
        result, form = self.card.result, self.form
        assert result is not None
        certificate = result.certificate
        if certificate is None:
            form.note("Sampled at the frames; the motion between frames is being checked …")
            return
        bound = show(certificate.at_least, "mm", 2) if np.isfinite(certificate.at_least) else "far apart"
        if certificate.status == "certified":
            form.worked(
                f"<b>certified</b> for the whole motion: at least {bound}",
                f"{certificate.pairs} pairs, between frames too",
                *((contacts_in_words(certificate),) if certificate.contacts else ()),
                *((nearer_in_words(certificate),) if certificate.nearer else ()),
            )
            return
        form.worked(f"<b>{certificate.status}</b>; everything else certified: at least {bound}")

    def _requirements(self) -> None:
        self.form.buttons(
            (
                "Add requirement …",
                self.card.requirement_asked.emit,
                "Set a required clearance between chosen parts, or exclude them from the check",
            )
        )


def _show_outcome(form: Sheet, project: Project, outcome: Outcome) -> None:
    """What came of one requirement, or of the general one."""
    if outcome.status == "not checked":
        form.worked(f"{title_of(project, outcome)}: <b>not checked</b>")
        return
    lines = [f"{title_of(project, outcome)}: <b>{outcome.status}</b>, {show(outcome.required, 'mm', 1)} required"]
    if outcome.pair is not None and outcome.least is not None and outcome.time is not None:
        a, b = (qualified_name(project, i) for i in (outcome.pair.moving, outcome.pair.other))
        near = f"{show(-outcome.least, 'mm', 2)} deep" if outcome.least < 0 else show(outcome.least, "mm", 2)
        lines += [f"least at the frames <b>{near}</b> at {outcome.time:.2f}\u2009s", f"{a} to {b}"]
    form.worked(*lines)


class RequirementRows(Rows):
    """What is asked of some things and others."""

    def build(self, item: Requirement) -> None:
        form, project = self.form, self.session.shown
        self.form.title = item.name
        self._name(item)
        asked = "off" if not item.checked else "project" if item.required is None else "own"
        form.choice(
            "Required",
            [
                ("project", f"the project’s, {show(project.settings.required_clearance, 'mm', 1)}"),
                ("own", "own clearance"),
                ("off", "not checked"),
            ],
            asked,
            lambda key: self._ask(item, key),
            "Clearance required between these parts",
        )
        if asked == "own":
            assert item.required is not None
            self._fields(item, "required")
        self._side(item, "Parts", "things")
        self._side(item, "Against", "others")
        result = self.card.result
        if result is not None:
            for outcome in outcomes(project, result.clearance, result.certificate):
                if outcome.item is not None and outcome.item.id == item.id:
                    _show_outcome(form, project, outcome)
        self._delete(item)

    def _ask(self, item: Requirement, key: str) -> None:
        own = item.required if item.required is not None else self.session.shown.settings.required_clearance
        self._set(item.id, "Required clearance", required=own if key == "own" else None, checked=key != "off")

    def _side(self, item: Requirement, label: str, field: str) -> None:
        """The things of one side, to be added and taken out."""
        project, form = self.session.shown, self.form
        mine: tuple[str, ...] = getattr(item, field)
        other = item.others if field == "things" else item.things
        form.heading(label if mine else f"{label}: all the rest")
        for thing in mine:
            left = tuple(i for i in mine if i != thing)
            take = (
                f"Remove {qualified_name(project, thing)}",
                lambda left=left: self._set(item.id, "Remove", **{field: left}),
                "Remove this part from the requirement",
            )
            if left or field == "others":
                form.buttons(take)
            else:
                form.note(qualified_name(project, thing))
        options = [("", "choose …")]
        options += [(p.id, qualified_name(project, p.id)) for p in project.parts if p.id not in (*mine, *other)]
        form.choice(
            "Add",
            options,
            "",
            lambda key: self._set(item.id, "Add to a requirement", **{field: (*mine, key)}),
            "Add a part to the requirement",
        )
