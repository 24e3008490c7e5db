"""The list of edits, with their names and times, to undo to any of them."""

from __future__ import annotations

from PySide6.QtGui import QColor
from PySide6.QtWidgets import QWidget

from kestrav.app.dialogs.questions import ListDialog
from kestrav.app.session import Session
from kestrav.app.widgets.window_colours import MUTED


class EditListDialog(ListDialog):
    """Shows what was done since the project was opened; the chosen state comes back."""

    def __init__(self, parent: QWidget, session: Session) -> None:
        edits = session.edit_times()
        entries: list[tuple[str, str, object]] = [("As opened", "Undo everything", 0)]
        entries += [
            (f"{when:%H:%M:%S}  {label}", f"The project after “{label}”", number)
            for number, (when, label) in enumerate(edits, 1)
        ]
        super().__init__(parent, "Edits", "Edits since the project was opened", entries)
        self.session = session
        now = session.undo.index()
        for number in range(self.list.count()):
            if number > now:
                self.list.item(number).setForeground(QColor(MUTED))
        clean = session.undo.cleanIndex()
        if 0 <= clean < self.list.count():
            item = self.list.item(clean)
            item.setText(f"{item.text()} · saved")
        self.note.setText("Edits below the chosen one are undone, and can be redone until the next edit.")
        self.list.setCurrentRow(now)
        self.list.scrollToItem(self.list.item(now))
        self.list.itemDoubleClicked.connect(lambda _: self._go())
        self.add_buttons(
            ("Close", "Leave the project as it is", self.reject),
            ("Go to this edit", "Undo or redo up to the chosen edit", self._go),
        )

    def _go(self) -> None:
        number = self.chosen()
        if isinstance(number, int):
            self.session.undo.setIndex(number)
        self.accept()
