"""Looking something up: what the search box finds, and the guide."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtWidgets import QMenu, QWidget

from kestrav.app.cards.card import Card
from kestrav.app.cards.project import PROJECT_FIELDS
from kestrav.app.session import Session
from kestrav.app.shell.finder import Entry, of_actions, of_fields, of_things
from kestrav.app.shell.guide import GuideWindow, page_for, sheet
from kestrav.app.stage.stage import Stage


class LookUp:
    """Knows the menus by their names and the widgets that have actions of their own."""

    def __init__(
        self,
        session: Session,
        stage: Stage,
        card: Card,
        menus: Callable[[], Sequence[tuple[str, QMenu]]],
        widgets: Sequence[QWidget],
    ) -> None:
        self.session, self.stage, self.card, self._menus, self._widgets = session, stage, card, menus, tuple(widgets)
        self.guide: GuideWindow | None = None

    def entries(self) -> list[Entry]:
        """Actions, the settings of the project and of what is selected, and things."""
        item, mine = self.session.item, self.card.fields()
        return [
            *of_actions(self._menus(), [action for widget in self._widgets for action in widget.actions()]),
            *(of_fields(mine, item.name, self.card.take_keys) if item is not None else []),
            *of_fields(PROJECT_FIELDS, "Project", self._go_to_project_field),
            *of_fields(["Limits of the checks"], "Checks", lambda _: self.card.show_checks()),
            *of_things(self.session.shown, self._go_to_thing),
        ]

    def show_guide(self, page: str = "") -> None:
        """Open the guide at a page, or at that of what is selected."""
        if self.guide is None:
            self.guide = GuideWindow(self.card.window())
        self.guide.show_page(page or page_for(self.session.item, checks=self.card.shows_checks), sheet(self.entries()))

    def _go_to_project_field(self, name: str) -> None:
        self.session.select(None)
        self.card.take_keys(name)

    def _go_to_thing(self, thing: str) -> None:
        self.session.select(thing)
        self.stage.views.look_at_selection()
