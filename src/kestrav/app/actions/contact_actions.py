"""The list of contacts: worked out as a job, shown on the card of the checks, each to go to and to start things by."""

from __future__ import annotations

from kestrav.app.actions.prompts import Actions, Checked, Prompts
from kestrav.app.cards.card import Card
from kestrav.app.dialogs.questions import ask_choice
from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.app.session import Session
from kestrav.core.clearance.contacts import Touch
from kestrav.core.document.edits import update
from kestrav.core.document.lookup import ancestors, get, qualified_name
from kestrav.core.document.records import ContactTrigger, Project
from kestrav.core.findings.model import Finding
from kestrav.core.kinematics.motion_segments import movers


class ContactActions(Actions):
    """The contacts of the project as it was when they were asked for."""

    def __init__(self, session: Session, prompts: Prompts, card: Card, checking: Checked) -> None:
        super().__init__(session, prompts)
        self.card, self.checking = card, checking
        self.of: Project | None = None
        self.touches: tuple[Touch, ...] = ()
        card.contacts = self
        self.session.opened.connect(self._forget)

    @property
    def current(self) -> bool:
        """Whether what was found is of the project as it is."""
        return self.of is self.session.project

    def _forget(self) -> None:
        self.of, self.touches = None, ()

    def ask(self) -> None:
        """List the contacts: when, where and how fast what moves comes to touch something."""
        project = self.session.project
        job = Job("Looking for contacts", work.list_contacts, project, self.session.meshes, tidies=False)
        self.prompts.start(job, lambda touches: self._take(project, touches))

    def _take(self, project: Project, touches: tuple[Touch, ...]) -> None:
        self.of, self.touches = project, touches
        self.card.show_checks()

    def go_to(self, touch: Touch) -> None:
        """Show a contact: its time, and its place in the stage."""
        a, b = (qualified_name(self.session.project, part) for part in (touch.a, touch.b))
        spoken = f"{touch.speed:,.0f} mm/s at {touch.time:.4f} s"
        self.checking.go_to(
            Finding(
                rule="contact",
                severity="note",
                subject=(touch.a, touch.b),
                title=f"{a} touches {b}",
                detail=spoken,
                time=touch.time,
                value=touch.speed,
                unit="mm/s",
                limit=0.0,
                place=touch.place,
            )
        )
        self.prompts.say(f"{a} touches {b} · {spoken}")

    def start_by(self, touch: Touch) -> None:
        """Let something begin by a contact."""
        project = self.session.project
        options = [
            (item.id, item.name)
            for items in (project.runs, project.pose_tracks, project.attachments, project.rotations)
            for item in items
        ]
        if not options:
            self.prompts.complain(
                "there is nothing yet to start at this contact; add a run, pose track, attachment or rotation"
            )
            return
        one, two = self._thing(touch.a), self._thing(touch.b)
        text = f"When {get(project, one).name} touches {get(project, two).name}, this starts"
        chosen = ask_choice(self.prompts.over, "Use contact as trigger", text, options)
        if chosen is None:
            return
        trigger = ContactTrigger(one, two)
        if self.session.edit("Use contact as trigger", lambda p: update(p, chosen, trigger=trigger)):
            self.session.select(chosen)

    def _thing(self, part: str) -> str:
        """The outermost thing that moves and holds a part, or the part itself."""
        moved = movers(self.session.project)
        return next((i for i in (*ancestors(self.session.project, part), part) if i in moved), part)
