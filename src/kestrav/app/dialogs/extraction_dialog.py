"""Asking what an extraction path must keep to."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QListWidget, QListWidgetItem, QWidget

from kestrav.app.dialogs.asking import RequestDialog
from kestrav.app.widgets.sheet import Own, Sheet
from kestrav.core.document.lookup import ancestors, get, qualified_name, subtree
from kestrav.core.document.records import Placement, Project
from kestrav.core.extraction.search import ExtractionRequest
from kestrav.core.extraction.typed import AXES
from kestrav.core.geometry.transforms import angles_from_quaternion, quaternion_from_angles
from kestrav.core.parts.placing import placement
from kestrav.core.parts.rest import rest_and_pivot, top_bounds

_ANY_TILT = 180.0
_ID = Qt.ItemDataRole.UserRole
_DESTINATIONS = (("out", "out of its surroundings"), ("place", "to a placement"), ("onto", "onto a part"))
Vector = tuple[float, float, float]


class ExtractionDialog(RequestDialog):
    """Where things are to go, how near they may come, and what holds them back."""

    def __init__(self, parent: QWidget, project: Project, things: Sequence[str], request: ExtractionRequest) -> None:
        self.project, self.things = project, list(things)
        mine = {i for thing in things for i in subtree(project, thing)}
        above = {i for thing in things for i in ancestors(project, thing)}
        self._others = [(p.id, qualified_name(project, p.id)) for p in project.parts if p.id not in mine]
        self._removable = [(key, name) for key, name in self._others if key not in above]
        # they stay while the rest of the form is written anew
        self._directions, self._aside = Own(self._direction_boxes), Own(self._removable_list)
        if request.required is None:
            request = msgspec.structs.replace(request, required=project.settings.required_clearance)
        names = " and ".join(get(project, thing).name for thing in things)
        super().__init__(
            parent, "Extraction path", request, text=f"<b>{names}</b>, with all parts at rest", button="Search"
        )

    def rows(self, form: Sheet) -> None:
        """Where to, within which limits, and how long to look for it."""
        request: ExtractionRequest = self.request
        self._destination(form, request)
        form.fields(request, "required", "margin", change=self.set)
        form.number(
            "Maximum tilt",
            0.0 if request.upright else _ANY_TILT if request.tilt is None else request.tilt,
            "°",
            lambda v: self.set(upright=v <= 0, tilt=None if v >= _ANY_TILT else max(v, 0.0)),
            "Greatest tilt from upright; 0 keeps the orientation",
            1,
            5,
        )
        self._bounds(form, request)
        form.heading("Allowed directions")
        form.rows.append(self._directions)
        if self._removable:
            form.heading("Removable parts")
            form.rows.append(self._aside)
        form.fields(request, "checks", "seconds", "seed", change=self.set)

    def _destination(self, form: Sheet, request: ExtractionRequest) -> None:
        here = self._at_rest() if request.target is None else request.target

        def choose(kind: str) -> None:
            first = self._others[0][0] if self._others else None
            self.set(target=here if kind == "place" else None, onto=first if kind == "onto" else None)

        def place(**fields: Any) -> None:
            self.set(target=msgspec.structs.replace(here, **fields))

        form.choice(
            "Destination",
            _DESTINATIONS if self._others else _DESTINATIONS[:2],
            "place" if request.target is not None else "onto" if request.onto is not None else "out",
            choose,
            "Out of the surroundings, a typed placement of the pivot, or the middle of another part",
        )
        if request.onto is not None:
            form.choice("Onto", self._others, request.onto, lambda v: self.set(onto=v), "Part to end on")
        if request.target is not None:
            angles = [float(v) for v in angles_from_quaternion(here.rotation)]
            form.vector("Position", here.position, "mm", lambda v: place(position=v), "Position of the pivot")
            form.vector(
                "Rotation",
                angles,
                "°",
                lambda v: place(rotation=quaternion_from_angles(v)),
                "Rotation about x, y and z",
            )

    def _at_rest(self) -> Placement:
        rest, pivot = rest_and_pivot(self.project, self.things[0])
        return placement(rest @ pivot)

    def _bounds(self, form: Sheet, request: ExtractionRequest) -> None:
        boxes = np.array(top_bounds(self.project))
        around: tuple[Vector, Vector] = (
            tuple(boxes[:, 0].min(axis=0).tolist()),
            tuple(boxes[:, 1].max(axis=0).tolist()),
        )
        form.check(
            "Bounds",
            "limit the motion",
            request.room is not None,
            lambda on: self.set(room=around if on else None),
            "Bounds that the part must not leave",
        )
        if request.room is not None:
            low, high = request.room
            form.vector("Lowest", low, "mm", lambda v: self.set(room=(v, high)), "Lowest corner of the bounds")
            form.vector("Highest", high, "mm", lambda v: self.set(room=(low, v)), "Highest corner of the bounds")

    def _direction_boxes(self) -> QWidget:
        holder = QWidget()
        holder.setToolTip("All six: any direction; fewer: straight pulls along these only")
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        self.directions: dict[str, QCheckBox] = {}
        for name, axis in AXES.items():
            box = QCheckBox(name.replace("-", "−"))
            box.setChecked(not self.request.allowed or axis in self.request.allowed)
            box.setAccessibleName(f"along {name}")
            box.toggled.connect(lambda _: self._take_directions())
            row.addWidget(box)
            self.directions[name] = box
        return holder

    def _take_directions(self) -> None:
        chosen = tuple(axis for name, axis in AXES.items() if self.directions[name].isChecked())
        self.set(allowed=() if len(chosen) == len(AXES) else chosen)

    def _removable_list(self) -> QWidget:
        listed = QListWidget()
        listed.setMaximumHeight(96)
        listed.setAccessibleName("Removable parts")
        listed.setToolTip("Parts that may be removed first if there is no other path")
        for key, name in self._removable:
            item = QListWidgetItem(name)
            item.setData(_ID, key)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if key in self.request.aside else Qt.CheckState.Unchecked)
            listed.addItem(item)
        listed.itemChanged.connect(lambda _: self._take_removable(listed))
        return listed

    def _take_removable(self, listed: QListWidget) -> None:
        items = (listed.item(k) for k in range(listed.count()))
        self.set(aside=tuple(item.data(_ID) for item in items if item.checkState() == Qt.CheckState.Checked))
