"""Asking for a clearance between things."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QFormLayout, QLabel, QVBoxLayout, QWidget

from kestrav.app.widgets.quantity_edit import QuantityEdit
from kestrav.core.document.lookup import qualified_name
from kestrav.core.document.records import Project

Asked = tuple[list[str], list[str], float | None, bool]


class RequirementDialog(QDialog):
    """Which thing, from which other or all the rest, and how far in mm."""

    def __init__(self, parent: QWidget, project: Project, chosen: Sequence[str]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Add requirement")
        self._chosen = list(chosen)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(10)
        note = QLabel("The requirement replaces the project's required clearance and is listed with the checks.")
        note.setObjectName("muted")
        column.addWidget(note)
        rows = QFormLayout()
        names = [(p.id, qualified_name(project, p.id)) for p in project.parts]
        self.thing, self.other, self.kind = QComboBox(), QComboBox(), QComboBox()
        self.other.addItem("all the rest", "")
        for box in (self.thing, self.other):
            box.setMaxVisibleItems(20)
            for key, name in names:
                box.addItem(name, key)
        if chosen:
            self.thing.setCurrentIndex(self.thing.findData(chosen[0]))
        if len(chosen) > 1:
            self.other.setCurrentIndex(self.other.findData(chosen[-1]))
        for key, text in (("own", "keep this far apart"), ("off", "are not checked")):
            self.kind.addItem(text, key)
        self.amount = QuantityEdit(project.settings.required_clearance, "mm", 2)
        self.kind.activated.connect(lambda _: self.amount.setEnabled(self.kind.currentData() == "own"))
        for label, field in (
            ("thing", self.thing),
            ("from", self.other),
            ("they", self.kind),
            ("clearance", self.amount),
        ):
            field.setAccessibleName(label)
            rows.addRow(label, field)
        column.addLayout(rows)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)

    def asked(self) -> Asked:
        """Things, others (none: all the rest), the clearance in mm, and whether it is checked at all."""
        self.amount.commit()
        other = self.other.currentData()
        own = self.kind.currentData() == "own"
        return [self.thing.currentData()], [other] if other else [], self.amount.value if own else None, own
