"""What the cards of all things share."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from kestrav.core.document import edits
from kestrav.core.document.lookup import get, new_id, new_name
from kestrav.core.document.records import Camera, Part, Path, Project, Run, Shot
from kestrav.core.motion.runs import journey

if TYPE_CHECKING:
    from kestrav.app.cards.card import Card

Vector = tuple[float, float, float]


class Rows:
    """Fills a card's form for one kind of thing."""

    def __init__(self, card: Card) -> None:
        self.card, self.session, self.form = card, card.session, card.form

    def _name(self, item: Part | Path | Run | Camera | Shot) -> None:
        self.form.text("Name", item.name, lambda text: self._set(item.id, "Rename", name=text), "What it is called")

    def _set(self, item_id: str, label: str, **fields: Any) -> None:
        self.session.edit(label, lambda project: edits.update(project, item_id, **fields))

    def _add_run(self, rider: str, path: str) -> None:
        made: list[str] = []

        def add(project: Project) -> Project:
            who, where = get(project, rider), get(project, path)
            ends = [journey(project, r).end for r in project.runs if r.rider == rider]
            run = Run(
                new_id(project, Run),
                new_name(project, Run, f"{who.name} on {where.name}"),
                rider,
                path,
                start=max(ends, default=0.0),
            )
            made[:] = [run.id]
            return edits.add(project, run)

        if path and self.session.edit("Add run", add):
            self.session.select(made[0])

    def _delete(self, item_id: str, kind: str) -> None:
        def delete() -> None:
            if self.session.edit(f"Delete {kind}", lambda project: edits.remove(project, item_id)):
                self.session.select(None)

        self.form.buttons((f"Delete {kind}", delete, f"Delete this {kind} and what cannot be without it"))
