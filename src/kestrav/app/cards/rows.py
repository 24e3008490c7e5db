"""What the cards of all things share."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from kestrav.core.document import edits
from kestrav.core.document.records import Camera, Note, Part, Path, Run, Shot
from kestrav.core.motion.making import add_run

if TYPE_CHECKING:
    from kestrav.app.cards.card import Card

Vector = tuple[float, float, float]


class Rows:
    """Fills a card's form for one kind of thing."""

    def __init__(self, card: Card) -> None:
        self.card, self.session, self.form = card, card.session, card.form

    def _name(self, item: Part | Path | Run | Camera | Shot | Note) -> None:
        self.form.text("Name", item.name, lambda text: self._set(item.id, "Rename", name=text), "What it is called")

    def _set(self, item_id: str, label: str, **fields: Any) -> None:
        self.session.edit(label, lambda project: edits.update(project, item_id, **fields))

    def _number(
        self, item: Run | Camera | Shot, label: str, field: str, unit: str, tip: str, places: int = 1, step: float = 1.0
    ) -> None:
        """A number of a record; a field of whole numbers takes the nearest one."""
        value = getattr(item, field)
        kind = type(value)

        def change(typed: float) -> None:
            self._set(item.id, label, **{field: round(typed) if kind is int else typed})

        self.form.number(label, value, unit, change, tip, places, step)

    def _setting(self, label: str, field: str, unit: str, tip: str, places: int = 1) -> None:
        """A number of the project's settings."""
        value = getattr(self.session.shown.settings, field)

        def change(typed: float) -> None:
            self.session.edit(label, lambda project: edits.settings(project, **{field: typed}))

        self.form.number(label, value, unit, change, tip, places)

    def _add_run(self, rider: str, path: str) -> None:
        if rider and path and self.session.edit("Add run", lambda project: add_run(project, rider, path)):
            self.session.select(self.session.project.runs[-1].id)

    def _delete(self, item_id: str, kind: str) -> None:
        def delete() -> None:
            if self.session.edit(f"Delete {kind}", lambda project: edits.remove(project, item_id)):
                self.session.select(None)

        self.form.buttons((f"Delete {kind}", delete, f"Delete this {kind} and what cannot be without it"))
