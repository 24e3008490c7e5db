"""Finishes and colourways: the shelf, giving them, and which colourway is shown."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu

from kestrav.app.actions.prompts import Actions, Prompts
from kestrav.app.dialogs.finish_shelf import FinishShelf
from kestrav.app.session import Session
from kestrav.core.document.lookup import find
from kestrav.core.document.records import Finish, Part, Project
from kestrav.core.editing.finishing import shown_in, with_colourway, with_finish, with_rule, without_unused


class FinishActions(Actions):
    """What is done with finishes; ``say`` tells what was not done and why."""

    def __init__(self, session: Session, prompts: Prompts) -> None:
        super().__init__(session, prompts)
        self.shelf: FinishShelf | None = None
        self.colourways = QMenu("Colourway", prompts.over)
        self.colourways.aboutToShow.connect(self._fill_colourways)

    def menu(self, action: Callable[..., QAction]) -> QMenu:
        """The menu of finishes."""
        menu = QMenu("Finish", self.prompts.over)
        menu.addAction(
            action(
                "Finishes …",
                self.open_shelf,
                "Ctrl+Shift+M",
                tip="Open the shelf of finishes, to drag onto parts or give to the selection",
            )
        )
        menu.addMenu(self.colourways)
        self.new_action = action(
            "New colourway",
            self.new_colourway,
            tip="Add a colourway: a named set of finishes; finishes given then belong to it",
        )
        self.next_action = action("Next colourway", self.next_colourway, tip="Show the next colourway")
        self.tidy_action = action(
            "Remove unused finishes", self.tidy, tip="Remove finishes that no part, rule or colourway has"
        )
        menu.addActions([self.new_action, self.next_action, self.tidy_action])
        return menu

    def open_shelf(self) -> None:
        """Show the shelf beside the window's work."""
        if self.shelf is None:
            self.shelf = FinishShelf(self.prompts.over, self.session)
            self.shelf.given.connect(self.give)
            self.shelf.ruled.connect(self.give_by_name)
        else:
            self.shelf.fill()
        self.shelf.show()
        self.shelf.raise_()
        self.shelf.list.setFocus()

    def give(self, finish: Finish | str) -> None:
        """Give a finish to the selected parts."""
        ids = [i for i in self.session.selected_ids if isinstance(find(self.session.project, i), Part)]
        if not ids:
            self.prompts.say("Select the parts that are to have the finish")
            return
        self.give_to(ids, finish)

    def give_to(self, ids: list[str], finish: Finish | str) -> None:
        """Give a finish to parts or assemblies."""
        self.session.edit("Finish", lambda project: with_finish(project, ids, finish))

    def give_by_name(self, finish: Finish | str, words: str) -> None:
        """Add a rule that gives a finish to parts by their names."""
        if self.session.edit("Finish rule", lambda project: with_rule(project, words, finish)):
            self.session.select(self.session.project.finish_rules[-1].id)

    # colourways

    def _fill_colourways(self) -> None:
        self.colourways.clear()
        project = self.session.project
        for colourway_id, name in (
            ("", "Parts' own finishes"),
            *((colourway.id, colourway.name) for colourway in project.colourways),
        ):
            entry = self.colourways.addAction(name)
            entry.setCheckable(True)
            entry.setChecked(project.colourway == colourway_id)
            entry.triggered.connect(partial(self.show_colourway, colourway_id))

    def show_colourway(self, colourway_id: str, *_: object) -> None:
        """Show a colourway, or the parts' own finishes."""
        self.session.edit("Colourway", lambda project: shown_in(project, colourway_id))

    def new_colourway(self) -> None:
        """Add a colourway and show it."""
        names: list[str] = []

        def add(project: Project) -> Project:
            project, colourway_id = with_colourway(project)
            names[:] = [colourway_id]
            return project

        if self.session.edit("New colourway", add):
            self.session.select(names[0])

    def next_colourway(self) -> None:
        """Show the colourway after the one that is shown; after the last one the parts' own finishes."""
        project = self.session.project
        ids = ["", *(colourway.id for colourway in project.colourways)]
        if len(ids) == 1:
            self.prompts.say("The project has no colourway yet; add one from the menu View, Finish")
            return
        self.show_colourway(ids[(ids.index(project.colourway) + 1) % len(ids)])

    def tidy(self) -> None:
        """Remove what nothing has."""
        before = len(self.session.project.finishes)
        self.session.edit("Remove unused finishes", without_unused)
        removed = before - len(self.session.project.finishes)
        self.prompts.say(
            f"{removed} unused finish{'es' if removed != 1 else ''} removed" if removed else "Every finish is used"
        )
