"""Asking for a clearance between things."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QWidget

from kestrav.app.dialogs.asking import RequestDialog
from kestrav.app.widgets.sheet import Sheet
from kestrav.core.document.lookup import qualified_name
from kestrav.core.document.records import Project
from kestrav.core.document.requests import RequirementRequest


class RequirementDialog(RequestDialog):
    """Which thing, from which other or all the rest, and how far."""

    def __init__(self, parent: QWidget, project: Project, chosen: Sequence[str]) -> None:
        self._parts = [(p.id, qualified_name(project, p.id)) for p in project.parts]
        thing = chosen[0] if chosen else project.parts[0].id
        other = chosen[-1] if len(chosen) > 1 else ""
        super().__init__(
            parent,
            "Add requirement",
            RequirementRequest(thing, other, project.settings.required_clearance),
            text="The requirement replaces the project's required clearance and is listed with the checks.",
        )

    def rows(self, form: Sheet) -> None:
        """The two sides, and how far."""
        form.fields(self.request, "thing", change=self.set, options=self._parts)
        form.fields(self.request, "other", change=self.set, options=[("", "all the rest"), *self._parts])
        form.fields(self.request, "kind", change=self.set)
        if self.request.kind == "own":
            form.fields(self.request, "clearance", change=self.set)
