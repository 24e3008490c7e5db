"""What can be done with what is selected, as a menu: actions by their keys, and the buttons of its card by sections."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QObject, QPoint, Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu, QWidget

from kestrav.app.cards.card import Card
from kestrav.app.session import Session
from kestrav.app.widgets.sheet import Buttons, Section, Sheet
from kestrav.core.document.records import Attachment, PoseTrack, Run, Shot, TimedRotation

_TIMED = (Run, PoseTrack, Attachment, TimedRotation, Shot)
_FLAT = 6  # buttons that still stand in the menu itself


class SelectionMenu(QObject):
    """Makes the menu of the selection."""

    def __init__(
        self,
        window: QWidget,
        session: Session,
        card: Card,
        of_parts: Callable[[], Sequence[QAction | None]],
        times: QMenu,
    ) -> None:
        """``of_parts`` are the actions for parts (None is a line between them), ``times`` those for what lasts some time."""
        super().__init__(window)
        self.window_, self.session, self.card = window, session, card
        self._of_parts, self._times = of_parts, times
        self.common: list[QAction] = []  # for whatever is selected
        self.free: list[QAction] = []  # where nothing is selected
        self.menu: QMenu | None = None

    def pop_up(self, at: QPoint | None = None) -> None:
        """Show the menu at a place on the screen, or beside the card's title."""
        menu = self.menu = self._menu()
        menu.popup(at if at is not None else self.card.title.mapToGlobal(self.card.title.rect().bottomLeft()))

    def _menu(self) -> QMenu:
        menu = QMenu(self.window_)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.setToolTipsVisible(True)
        if not self.session.selected_ids:
            menu.addActions(self.free)
            return menu
        menu.addActions(self.common)
        menu.addSeparator()
        if self.session.chosen:
            for action in self._of_parts():
                menu.addAction(action) if action is not None else menu.addSeparator()
        if isinstance(self.session.item, _TIMED):
            inner = menu.addMenu("Time")
            inner.addActions(self._times.actions())
        menu.addSeparator()
        sections = _by_section(self.card.whole_sheet())
        flat = sum(len(buttons) for _, buttons in sections) <= _FLAT
        for title, buttons in sections:
            inner = menu if flat or not title else menu.addMenu(title)
            for text, act, tip in buttons:
                action = inner.addAction(text)
                action.setToolTip(tip)
                action.triggered.connect(lambda _=False, act=act: act())
        return menu


def _by_section(sheet: Sheet) -> list[tuple[str, list[tuple[str, Callable[[], object], str]]]]:
    """The buttons of a sheet by its sections, without those that delete."""
    sections: list[tuple[str, list[tuple[str, Callable[[], object], str]]]] = []
    title = ""
    for row in sheet.rows:
        if isinstance(row, Section):
            title = row.label
        elif isinstance(row, Buttons):
            actions = [action for action in row.actions if not action[0].startswith("Delete")]
            if not actions:
                continue
            if not sections or sections[-1][0] != title:
                sections.append((title, []))
            sections[-1][1].extend(actions)
    return sections
