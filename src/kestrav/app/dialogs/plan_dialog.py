"""The few choices of a starting point; the stage and the lens show what they make."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PySide6.QtWidgets import QWidget

from kestrav.app.dialogs.camera_dialogs import Asking, Values
from kestrav.app.widgets.sheet import Sheet
from kestrav.core.document.records import Project
from kestrav.core.findings.model import Fix


@dataclass(frozen=True)
class Choice:
    """A number that is asked for: its label, its name among the values, unit, tooltip, places, step and what 0 means."""

    label: str
    name: str
    unit: str
    tip: str
    places: int = 0
    step: float = 1.0
    zero: str = ""


class PlanDialog(Asking):
    """Asks for some numbers, and for one of several things where there is a choice."""

    def __init__(
        self,
        parent: QWidget | None,
        title: str,
        values: Values,
        choices: Sequence[Choice],
        make: Callable[[Project, Values], Project],
        told: Callable[[Values], list[str]],
        preview: Callable[[Fix | None], None],
        things: Sequence[tuple[str, str]] = (),
    ) -> None:
        self._choices, self._make, self._summary, self._things = tuple(choices), make, told, list(things)
        super().__init__(parent, title, values, preview)

    def rows(self, form: Sheet) -> None:
        """The numbers."""
        if len(self._things) > 1:
            form.choice("Part", self._things, self.values["thing"], lambda v: self.set(thing=v), "The part that moves")
        for c in self._choices:
            self.number(form, c.label, c.name, c.unit, c.tip, c.places, c.step, c.zero)

    def summary(self) -> list[str]:
        """What follows from them."""
        return self._summary(self.values)

    def make(self, project: Project) -> Project:
        """Make it."""
        return self._make(project, self.values)
