"""What the rows of a card work with: what they ask for, what is remembered from one use to the next, and the sheet that they are written to."""

from __future__ import annotations

from typing import Protocol

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from kestrav.app.cards.memory import Copying, Leading, PathMarkChoice, Repeating, Shaping
from kestrav.app.session import Session
from kestrav.app.widgets.sheet import Sheet
from kestrav.core.camera.adjusting import MARGIN
from kestrav.core.clearance.contacts import Touch
from kestrav.core.document.records import Project
from kestrav.core.findings.check import CheckResult


class FoundContacts(Protocol):
    """The contacts that were looked for last, and what can be done with them."""

    touches: tuple[Touch, ...]
    of: Project | None

    @property
    def current(self) -> bool:
        """Whether they are of the project as it is."""

    def go_to(self, touch: Touch) -> None:
        """Show a contact: its time, and its place in the stage."""

    def start_by(self, touch: Touch) -> None:
        """Let something begin by a contact."""


class CardBase(QWidget):
    """A card as its rows see it."""

    render_asked = Signal(object)
    still_asked = Signal(object)
    surroundings_asked = Signal()
    film_strip_asked = Signal(object)
    complained = Signal(str)  # why something was not done
    film_asked = Signal()
    orbit_view_asked = Signal(str)
    orbit_asked = Signal()
    draw_asked = Signal()
    draw_on_asked = Signal(str, str)  # a path and which of its ends
    replace_asked = Signal(str)  # a part, by a file
    reload_asked = Signal(str)  # a source
    place_asked = Signal(str)  # what to pick: face, axis, points, pivot, front, up
    keep_asked = Signal()
    copy_asked = Signal()
    trace_asked = Signal()
    axle_asked = Signal(str)  # what is to turn about what is picked
    put_down_asked = Signal(str)  # an attachment
    contacts_asked = Signal()
    breaches_asked = Signal()
    fits_asked = Signal()
    requirement_asked = Signal()
    swept_asked = Signal(str)  # a swept volume, to be worked out again
    moment_asked = Signal(object)  # a comment, to be gone to
    step_asked = Signal(str, int)  # a step sheet and the number of a step, to be shown
    view_asked = Signal(str, int)  # a step sheet and the number of a step that takes the stage's view
    export_asked = Signal(str)  # the title of a kind of export

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.sheet = Sheet()  # what the rows are written to
        self.result: CheckResult | None = None
        self.fit_margin = MARGIN
        self.ramps: dict[str, str] = {}  # what soft starts and stops are measured by, where it is a time
        self.copying = Copying()
        self.shaping = Shaping()
        self.leading = Leading()
        self.repeating = Repeating()
        self.contacts: FoundContacts | None = None
        self.path_marks = PathMarkChoice(self)

    def rebuild(self) -> None:
        """Show what is selected as it is now."""
        raise NotImplementedError

    def complain(self, text: str) -> None:
        """Say why something was not done."""
        raise NotImplementedError
