"""The project itself, and its checks."""

from __future__ import annotations

import numpy as np

from kestrav.app import bringing
from kestrav.app.cards.rows import Rows
from kestrav.core.document import edits
from kestrav.core.document.lookup import told_apart
from kestrav.core.findings.model import name_of
from kestrav.core.motion.runs import span
from kestrav.core.units import show

MOST_CONTACTS = 40  # that are listed


class ProjectRows(Rows):
    """The project, when nothing is selected."""

    def build(self) -> None:
        project = self.session.shown
        self.card.title.setText("Project")
        form = self.form
        form.text(
            "Name",
            project.name,
            lambda text: self.session.edit("Rename project", lambda p: edits.rename_project(p, text)),
            "The project's name",
        )
        tip = "Frames a second in which the project is checked and stepped through"
        self._setting("Frame rate", "fps", "fps", tip, places=0)
        self._required()
        form.number(
            "Tolerance",
            bringing.chord() or 0.0,
            "mm",
            bringing.set_chord,
            "How far facets may be from curved CAD faces when products are brought in; automatic goes by the size of the largest part",
            3,
            0.01,
            "automatic",
        )
        form.choice(
            "Mesh files’ up",
            [("", "as the format has it"), ("z", "z"), ("y", "y"), ("x", "x")],
            bringing.upward(),
            bringing.set_upward,
            "The upward axis of the mesh files that are brought in",
        )
        end = span(project)
        frames = int(np.ceil(end * project.settings.fps - 1e-9))
        form.worked(f"{end:.2f} s × {project.settings.fps:g} fps = <b>{frames} frames</b>")
        if not project.parts:
            form.note("Add a product from the File menu (Ctrl+I), then click a part and draw its path.")
        else:
            form.note("Click a thing in the stage or the list to see its numbers.")

    def _required(self) -> None:
        tip = "Required clearance between what moves and the rest"
        self._setting("Clearance", "required_clearance", "mm", tip)

    def build_checks(self) -> None:
        project, result, form = self.session.shown, self.card.result, self.form
        self.card.title.setText("Checks")
        self._required()
        self._setting("Flip limit", "flip_angle", "°", "Largest turn of a rider between two frames", 0)
        self._setting("Top speed", "speed_limit", "mm/s", "No part is to move faster; 0 for any", 0)
        self._setting(
            "Acceleration", "acceleration_limit", "mm/s²", "No part gathers or loses speed faster; 0 for any", 0
        )
        self._setting("Ground gap", "ground_gap", "mm", "Largest gap between what rides on the ground and the ground")
        self._setting("Dead time", "dead_time", "s", "Longest time in which nothing moves; 0 for any")
        self._setting("Kink limit", "kink_step", "mm/s", "Largest jump of velocity where a path turns sharply", 0)
        if result is None:
            form.note("Checking …")
            return
        clearance, worst = result.clearance, result.clearance.worst
        if worst is None:
            form.note("Nothing moves past anything yet, so there is no clearance to measure.")
        else:
            pair = clearance.pairs[worst]
            assert pair is not None
            form.worked(
                f"least clearance <b>{show(float(clearance.distance[worst]), 'mm', 2)}</b> "
                f"at {clearance.times[worst]:.2f} s, frame {worst}",
                f"{name_of(project, pair.moving)} to {name_of(project, pair.other)}",
                f"sampled at {len(result.times)} frames",
            )
        self._certificate()
        self._contacts()
        if clearance.contacts:
            form.heading("Left out as intended contact")
            for contact in clearance.contacts:
                a, b = contact.moving, contact.other
                form.buttons(
                    (
                        f"Check: {name_of(project, a)} on {name_of(project, b)}",
                        lambda a=a, b=b: self.session.edit("Check a pair", lambda p: edits.set_contact(p, a, b, False)),
                        "They touch at rest. Click to check this pair after all",
                    )
                )
        turned_off = [c for c in project.contacts if not c.intended]
        if turned_off:
            form.heading("Touching pairs that are checked")
            for kept in turned_off:
                form.buttons(
                    (
                        f"Leave out: {name_of(project, kept.a)} on {name_of(project, kept.b)}",
                        lambda c=kept: self.session.edit(
                            "Accept a contact", lambda p: edits.set_contact(p, c.a, c.b, True)
                        ),
                        "Click to leave this pair out as intended contact",
                    )
                )

    def _contacts(self) -> None:
        """The list of contacts, or how to get it."""
        form, known, project = self.form, self.card.contacts, self.session.shown
        assert known is not None
        form.heading("Contacts")
        if known.of is None or not known.current:
            if known.of is not None:
                form.note("The project has changed since they were listed.")
            form.buttons(
                (
                    "List contacts",
                    self.card.contacts_asked.emit,
                    "When, where and how fast what moves comes to touch something, between frames too",
                )
            )
            return
        if not known.found:
            form.note("Nothing that moves comes to touch anything.")
        for touch in known.found[:MOST_CONTACTS]:
            a, b = told_apart(project, touch.a), told_apart(project, touch.b)
            at = ", ".join(show(x, "", 0) for x in touch.place)
            form.note(f"{a} touches {b}: {touch.time:.4f}\u2009s, {show(touch.speed, 'mm/s', 0)}, at {at}\u2009mm")
            form.buttons(
                ("Go there", lambda t=touch: known.go_to(t), "Bring the playhead and the view there"),
                (
                    "Begin by it …",
                    lambda t=touch: known.start_by(t),
                    "Let a run, key poses, a ride or a spin begin then",
                ),
            )
        if len(known.found) > MOST_CONTACTS:
            form.note(f"and {len(known.found) - MOST_CONTACTS} more")

    def _certificate(self) -> None:
        """What is shown for the whole motion, between the frames too."""
        result, project, form = self.card.result, self.session.shown, self.form
        assert result is not None
        told = result.certificate
        if told is None:
            form.note("Sampled at the frames; what happens between them is being looked at …")
            return
        bound = show(told.at_least, "mm", 2) if np.isfinite(told.at_least) else "far apart"
        if told.standing == "certified":
            form.worked(
                f"<b>certified</b> for the whole motion: at least {bound}", f"{told.pairs} pairs, between frames too"
            )
            return
        form.worked(f"<b>{told.standing}</b>; everything else certified: at least {bound}")
        for stretch in told.stretches[:MOST_CONTACTS]:
            a, b = told_apart(project, stretch.pair.moving), told_apart(project, stretch.pair.other)
            form.note(
                f"{a} to {b}: {stretch.standing}, {stretch.start:.3f} to {stretch.end:.3f}\u2009s, "
                f"least {show(stretch.least, 'mm', 3)} at {stretch.time:.4f}\u2009s"
            )
