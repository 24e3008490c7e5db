"""Asking what a way out must keep to."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.widgets.quantity_edit import QuantityEdit
from kestrav.core.document.lookup import ancestors, get, qualified_name, subtree
from kestrav.core.document.records import Placement, Project
from kestrav.core.extraction.typed import AXES
from kestrav.core.extraction.ways import Wish
from kestrav.core.geometry.transforms import angles_from_quaternion, quaternion_from_angles
from kestrav.core.parts.placing import placement
from kestrav.core.parts.rest import rest_and_pivot, top_bounds

_ANY_TILT = 180.0
_ID = Qt.ItemDataRole.UserRole

_THOUSAND = 1000


class ExtractionDialog(QDialog):
    """Where things are to go, how near they may come, and what holds them back."""

    def __init__(self, parent: QWidget, project: Project, things: Sequence[str], wish: Wish) -> None:
        super().__init__(parent)
        self.setWindowTitle("Extraction path")
        self.project, self.things = project, list(things)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(10)
        names = " and ".join(get(project, thing).name for thing in things)
        column.addWidget(QLabel(f"<b>{names}</b>, with all parts at rest"))
        self.fault = QLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.fault.hide()
        self.form = QFormLayout()
        self.form.setHorizontalSpacing(12)
        self._where(wish)
        self._limits(wish)
        self._room(wish)
        self._aside(wish)
        self.effort = self._quantity(
            "effort",
            wish.checks / _THOUSAND,
            "thousand checks",
            0,
            "Number of distances each search stage measures before giving up; equal effort and seed give the same result",
        )
        self.seconds = self._quantity(
            "time limit",
            wish.seconds,
            "s",
            0,
            "Greatest duration of each search stage; a stage that is cut short is reported",
        )
        self.seed = self._quantity("seed", wish.seed, "", 0)
        column.addLayout(self.form)
        column.addWidget(self.fault)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Search")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)

    def _row(self, label: str, field: QWidget, tip: str = "") -> None:
        field.setAccessibleName(label)
        field.setToolTip(tip)
        self.form.addRow(label, field)

    def _quantity(self, label: str, value: float, unit: str, places: int, tip: str = "") -> QuantityEdit:
        field = QuantityEdit(value, unit, places)
        field.refused.connect(self._refuse)
        self._row(label, field, tip)
        return field

    def _three(self, label: str, values: Sequence[float], unit: str) -> tuple[QWidget, list[QuantityEdit]]:
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        fields = []
        for axis, value in zip("xyz", values, strict=True):
            field = QuantityEdit(value, unit, 1, bare=True)
            field.setAccessibleName(f"{label} {axis}")
            field.refused.connect(self._refuse)
            row.addWidget(field)
            fields.append(field)
        self._row(f"{label}, {unit}", holder, f"x, y and z in {unit}")
        return holder, fields

    def _refuse(self, why: str) -> None:
        self.fault.setText(why[:1].upper() + why[1:])
        self.fault.show()

    def _where(self, wish: Wish) -> None:
        self.where, self.carrier = QComboBox(), QComboBox()
        for key, text in (("out", "out of its surroundings"), ("place", "to a placement"), ("onto", "onto a part")):
            self.where.addItem(text, key)
        self._row(
            "destination",
            self.where,
            "Destination: out of the surroundings, a typed placement of the pivot, or the middle of another part",
        )
        mine = {i for thing in self.things for i in subtree(self.project, thing)}
        for part in self.project.parts:
            if part.id not in mine:
                self.carrier.addItem(qualified_name(self.project, part.id), part.id)
        self.carrier.setMaxVisibleItems(20)
        self._row("onto", self.carrier)
        rest, pivot = rest_and_pivot(self.project, self.things[0])
        target = wish.target if wish.target is not None else placement(rest @ pivot)
        self.place_row, self.place = self._three("pivot position", target.position, "mm")
        angles = angles_from_quaternion(target.rotation)
        self.turn_row, self.turn = self._three("turned", [float(v) for v in angles], "°")
        kind = "place" if wish.target is not None else "onto" if wish.onto is not None else "out"
        self.where.setCurrentIndex(self.where.findData(kind))
        if wish.onto is not None:
            self.carrier.setCurrentIndex(max(self.carrier.findData(wish.onto), 0))
        self.where.currentIndexChanged.connect(lambda _: self._show_where())
        self._show_where()

    def _show_where(self) -> None:
        kind = self.where.currentData()
        self.form.setRowVisible(self.carrier, kind == "onto")
        self.form.setRowVisible(self.place_row, kind == "place")
        self.form.setRowVisible(self.turn_row, kind == "place")
        self.adjustSize()

    def _limits(self, wish: Wish) -> None:
        required = self.project.settings.required_clearance if wish.required is None else wish.required
        self.required = self._quantity("clearance required", required, "mm", 2)
        self.margin = self._quantity(
            "margin beyond surroundings",
            wish.margin or 0.0,
            "mm",
            1,
            "Distance beyond the surroundings at which a part counts as out; 0 for a quarter of its size",
        )
        self.tilt = self._quantity(
            "maximum tilt",
            _ANY_TILT if wish.tilt is None else wish.tilt,
            "°",
            1,
            "Greatest tilt from upright; 0 keeps the orientation",
        )
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        self.directions = {}
        for name, axis in AXES.items():
            box = QCheckBox(name.replace("-", "−"))
            box.setChecked(not wish.allowed or axis in wish.allowed)
            box.setAccessibleName(f"along {name}")
            row.addWidget(box)
            self.directions[name] = box
        self._row("allowed directions", holder, "All six: any direction; fewer: straight pulls along these only")

    def _room(self, wish: Wish) -> None:
        boxes = np.array(top_bounds(self.project))
        bounds = (boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)) if wish.room is None else wish.room
        self.bounded = QCheckBox("limit to bounds")
        self.bounded.setChecked(wish.room is not None)
        self._row("room", self.bounded, "Bounds that the part must not leave")
        self.low_row, self.low = self._three("lowest", [float(v) for v in bounds[0]], "mm")
        self.high_row, self.high = self._three("highest", [float(v) for v in bounds[1]], "mm")

        def show() -> None:
            for row in (self.low_row, self.high_row):
                self.form.setRowVisible(row, self.bounded.isChecked())
            self.adjustSize()

        self.bounded.toggled.connect(lambda _: show())
        show()

    def _aside(self, wish: Wish) -> None:
        self.aside = QListWidget()
        self.aside.setMaximumHeight(96)
        mine = {i for thing in self.things for i in subtree(self.project, thing)}
        above = {i for thing in self.things for i in ancestors(self.project, thing)}
        for part in self.project.parts:
            if part.id in mine or part.id in above:
                continue
            item = QListWidgetItem(qualified_name(self.project, part.id))
            item.setData(_ID, part.id)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if part.id in wish.aside else Qt.CheckState.Unchecked)
            self.aside.addItem(item)
        self._row("removable parts", self.aside, "Parts that may be removed first if there is no other path")

    def wish(self) -> Wish:
        """What is asked for."""
        for field in (
            self.required,
            self.margin,
            self.tilt,
            self.effort,
            self.seconds,
            self.seed,
            *self.place,
            *self.turn,
            *self.low,
            *self.high,
        ):
            field.commit()
        kind, tilt = self.where.currentData(), self.tilt.value
        chosen = [axis for name, axis in AXES.items() if self.directions[name].isChecked()]
        x, y, z = (field.value for field in self.place)
        target = Placement((x, y, z), quaternion_from_angles([field.value for field in self.turn]))
        items = (self.aside.item(k) for k in range(self.aside.count()))
        low, high = ((f[0].value, f[1].value, f[2].value) for f in (self.low, self.high))
        return dataclasses.replace(
            Wish(),
            required=self.required.value,
            upright=tilt <= 0,
            tilt=None if tilt >= _ANY_TILT else tilt,
            allowed=() if len(chosen) == len(AXES) else tuple(chosen),
            room=(low, high) if self.bounded.isChecked() else None,
            target=target if kind == "place" else None,
            onto=self.carrier.currentData() if kind == "onto" else None,
            aside=tuple(item.data(_ID) for item in items if item.checkState() == Qt.CheckState.Checked),
            margin=self.margin.value if self.margin.value > 0 else None,
            checks=max(round(self.effort.value * _THOUSAND), 1),
            seconds=self.seconds.value,
            seed=max(round(self.seed.value), 1),
        )
