"""The strip under the tools: what the tool in hand goes by, and typed numbers for what the mouse would drag."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import partial

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLayoutItem,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.stage.drawing_tool import CATCHES, DRAWS, ON, DrawTool
from kestrav.app.stage.overlays import make_native
from kestrav.app.stage.part_tools import HandleSettings, MeasureTool, MoveTool, TurnTool
from kestrav.app.stage.stage import Stage
from kestrav.app.stage.tool import Tool
from kestrav.app.stage.walk_tool import WalkTool
from kestrav.app.widgets.quantity_edit import QuantityEdit
from kestrav.core.editing.sketching import PLACES


class Strip(QWidget):
    """Rows of small fields over the stage; each tool that has some has its own."""

    refused = Signal(str)

    def __init__(self, stage: Stage) -> None:
        super().__init__(stage)
        self.stage = stage
        self._drawn_for: tuple[str, str] = ("", "")
        self.setObjectName("strip")
        make_native(self)
        self.setCursor(Qt.CursorShape.ArrowCursor)
        self.rows = QVBoxLayout(self)
        self.rows.setContentsMargins(8, 4, 8, 4)
        self.rows.setSpacing(4)
        self.line = QHBoxLayout()
        self.hide()

    def _clear(self) -> None:
        while self.rows.count():
            line = self._line(self.rows.takeAt(0))
            while line.count():
                item = line.takeAt(0)
                widget = item.widget() if item is not None else None
                if widget is not None:
                    widget.hide()
                    widget.deleteLater()
            line.deleteLater()
        self._new_row()

    def _new_row(self) -> None:
        self.line = QHBoxLayout()
        self.line.setSpacing(5)
        self.rows.addLayout(self.line)

    def show_for(self, tool: Tool, keep: Callable[[], object], copy: Callable[[], object]) -> None:
        """Show what a tool goes by, or nothing."""
        self._clear()
        if isinstance(tool, MoveTool):
            self._move(tool)
        elif isinstance(tool, TurnTool):
            self._turn(tool)
        elif isinstance(tool, MeasureTool):
            self._measure(tool, keep, copy)
        elif isinstance(tool, DrawTool):
            self._draw(tool)
        elif isinstance(tool, WalkTool):
            self._walk(tool)
        self._settle(self.line.count() > 0)

    def show_cut(
        self,
        axis: str,
        at: float,
        *,
        other: bool,
        change: Callable[[str, float, bool], object],
        close: Callable[[], object],
    ) -> None:
        """Show the section plane's axis, place and side."""
        self._clear()
        state = {"axis": axis, "at": at, "other": other}

        def set_(**fields: object) -> None:
            state.update(fields)
            change(str(state["axis"]), float(state["at"]), bool(state["other"]))  # type: ignore[arg-type]

        self._text("Section across")
        self._choice(
            [("x", "x"), ("y", "y"), ("z", "z")],
            axis,
            lambda key: set_(axis=key),
            "Axis normal to the section plane",
            "section-axis",
        )
        self._text("at")
        self._number(
            at,
            "mm",
            lambda v: set_(at=v),
            "Position of the section along its axis; Up and Down move it",
            "section-at",
            width=92,
            step=10.0,
        )
        self._button("Other side", lambda: set_(other=not state["other"]), "Cut away the other side")
        self._button("Close", close, "Show everything again")
        self._settle(True)

    @staticmethod
    def _line(item: QLayoutItem | None) -> QLayout:
        """A line of the strip, of which it is made."""
        line = item.layout() if item is not None else None
        assert line is not None
        return line

    def _settle(self, shown: bool) -> None:
        """Take the size that the fields need, after the old ones have gone."""
        lines = [self._line(self.rows.itemAt(i)) for i in range(self.rows.count())]
        for line in lines:
            for i in range(line.count()):
                # a layout shows what it is given only when events are next handled
                item = line.itemAt(i)
                widget = item.widget() if item is not None else None
                if widget is not None:
                    widget.show()
        self.setVisible(shown)
        self.rows.activate()
        self.resize(self.rows.sizeHint())
        self.raise_()

    # the tools' own

    def _axes(self, settings: HandleSettings) -> None:
        def set_axes(key: str) -> None:
            settings.own_axes = key == "own"
            settings.changed.emit()

        self._choice(
            [("world", "world axes"), ("own", "own axes")],
            "own" if settings.own_axes else "world",
            set_axes,
            "Move along the room's axes, or along the part's own front, side and up axes",
            "strip-axes",
        )

    def _move(self, tool: MoveTool) -> None:
        settings = tool.settings
        self._axes(settings)
        self._text("step")

        def set_step(value: float) -> None:
            settings.step = max(value, 0.0)

        self._number(settings.step, "mm", set_step, "Step for dragging; 0 mm for none", "strip-step")
        self._text("by")
        fields = [self._number(0.0, "mm", None, f"How far along {a}", f"strip-by {a}", width=58) for a in "xyz"]

        def move() -> None:
            for field in fields:
                field.commit()
            if tool.move_by(*(f.value for f in fields)):
                for field in fields:
                    field.set_value(0.0)

        for field in fields:
            field.returnPressed.connect(move)
        self._button("Move", move, "Move by these lengths (Enter)")

    def _turn(self, tool: TurnTool) -> None:
        settings = tool.settings
        self._axes(settings)
        self._text("step")

        def set_step(value: float) -> None:
            settings.angle_step = max(value, 0.0)

        self._number(settings.angle_step, "°", set_step, "Step for dragging; 0° for none", "strip-angle-step")
        self._text("about")
        axis = self._choice([("0", "x"), ("1", "y"), ("2", "z")], "2", None, "The axis to turn about", "strip-about")
        self._text("by")
        angle = self._number(90.0, "°", None, "How far to turn", "strip-angle")

        def turn() -> None:
            angle.commit()
            tool.turn_by(int(axis.currentData()), angle.value)

        angle.returnPressed.connect(turn)
        self._button("Turn", turn, "Turn by this angle (Enter)")

    def _measure(self, tool: MeasureTool, keep: Callable[[], object], copy: Callable[[], object]) -> None:
        self._text("Measure")
        self._choice(
            tool.CHOICES,
            tool.measure,
            tool.set_measure,
            "Quantity to measure between the clicked features",
            "strip-measure",
        )
        self._button("Keep", keep, "Keep the measurement as a note (Ctrl+K)")
        self._button("Copy", copy, "Copy the value (Ctrl+C)")
        self._button("Clear", tool.clear, "Clear the measurement (Esc)")

    def _walk(self, tool: WalkTool) -> None:
        """How a walk goes, and a waypoint by its coordinates."""
        self._text("Eye height")
        self._number(
            tool.eye_height,
            "mm",
            lambda v: tool.set(eye_height=v),
            "Eye height above the floor",
            "walk-eyes",
            width=84,
            step=50.0,
        )
        self._text("speed")
        self._number(
            tool.speed,
            "mm/s",
            lambda v: tool.set(speed=v),
            "Walking speed; people walk at about 1200 mm/s",
            "walk-speed",
            width=100,
            step=100.0,
        )
        self._text("keeps")
        self._number(
            tool.distance,
            "mm",
            lambda v: tool.set(distance=v),
            "Distance kept from walls and furniture",
            "walk-distance",
            width=84,
            step=50.0,
        )
        around = QCheckBox("around obstacles")
        around.setChecked(tool.around)
        around.setToolTip("Go around obstacles between the waypoints, or straight from one to the next")
        around.toggled.connect(lambda on: tool.set(around=on))
        self.line.addWidget(around)
        self._new_row()
        spots = [0.0, 0.0]

        def put(index: int, value: float) -> None:
            spots[index] = value

        self._text("Waypoint at x")
        self._number(0.0, "mm", lambda v: put(0, v), "Position along x", "walk-x", width=92, step=100.0)
        self._text("y")
        self._number(0.0, "mm", lambda v: put(1, v), "Position along y", "walk-y", width=92, step=100.0)
        self._button("Add", lambda: tool.add(np.array([*spots, 0.0])), "Add the waypoint with these coordinates")
        self._button("Make walkthrough", tool.finish, "Make the walkthrough with its camera and shot (Enter)")

    def _draw(self, tool: DrawTool) -> None:
        settings = tool.settings

        set_ = tool.set
        self._drawn_for = (settings.on, settings.draws)
        self._text("Draw")
        self._choice(DRAWS, settings.draws, lambda k: set_(draws=k), "Shape that the clicks draw", "strip-draws")
        self._text("on")
        self._choice(ON, settings.on, lambda k: set_(on=k), "Surface that the clicks lie on", "strip-on")
        if settings.on == "height":
            self._text("at")
            self._number(
                settings.height, "mm", lambda v: tool.set(height=v), "Height of the plane", "strip-height", step=10
            )
        elif settings.on == "surface":
            self._text("lift")
            self._number(settings.lift, "mm", lambda v: tool.set(lift=v), "Height above the surface", "strip-lift")
        self._checks(
            "Snap", CATCHES, settings.catches, lambda kinds: tool.set(catches=kinds), "What the pointer snaps to"
        )
        if settings.on != "surface":
            self._text("grid")
            self._number(
                settings.grid, "mm", lambda v: tool.set(grid=max(v, 0.0)), "Grid step for points", "strip-grid", 64
            )
        self.line.addStretch(1)
        if settings.on == "surface" or PLACES[settings.draws]:
            return
        self._new_row()
        self._text("length")
        length = self._number(
            settings.length,
            "mm",
            lambda v: tool.set(length=max(v, 0.0)),
            "The next click lies at this length from the last point; 0 for any",
            "strip-length",
            zero="any",
        )
        self._text("angle")
        angle = self._number(0.0, "°", None, "The direction in the plane, from its first axis", "strip-draw-angle", 58)

        def add() -> None:
            length.commit()
            angle.commit()
            tool.add_by_length(length.value, angle.value)

        angle.returnPressed.connect(add)
        self._button("Add", add, "Add a point at this length and angle from the last one (Enter)")
        self._text("or at")
        fields = [self._number(0.0, "mm", None, f"The point’s {a}", f"strip-at {a}", width=62) for a in "xyz"]

        def add_at() -> None:
            for field in fields:
                field.commit()
            tool.add_point(np.array([field.value for field in fields]))

        for field in fields:
            field.returnPressed.connect(add_at)
        self._button("Add here", add_at, "Add a point at these coordinates (Enter)")
        self._button("Finish", tool.finish, "Make the path (Enter in the stage)")
        self.line.addStretch(1)

    def follow_drawing(self, tool: DrawTool) -> None:
        """Other planes and shapes ask for other numbers."""
        if tool is self.stage.tool and self._drawn_for != (tool.settings.on, tool.settings.draws):
            self._clear()
            self._draw(tool)
            self._settle(True)

    def show_contour(
        self,
        kind: str,
        offset: float,
        height: float,
        change: Callable[[str, float, float], object],
        close: Callable[[], object],
    ) -> None:
        """Show how a contour goes around what is selected."""
        self._clear()
        state = {"kind": kind, "offset": offset, "height": height}

        def set_(**fields: object) -> None:
            state.update(fields)
            change(str(state["kind"]), float(state["offset"]), float(state["height"]))  # type: ignore[arg-type]

        self._text("Around selection")
        kinds = [
            ("hull", "its outline"),
            ("rectangle", "a rectangle"),
            ("ellipse", "an ellipse"),
            ("circle", "a circle"),
        ]
        self._choice(kinds, kind, lambda k: set_(kind=k), "Shape around the selection in plan", "strip-contour")
        self._text("offset")
        self._number(
            offset, "mm", lambda v: set_(offset=v), "Least distance from the selection in plan", "strip-offset", step=10
        )
        self._text("height")
        self._number(height, "mm", lambda v: set_(height=v), "Height of the path", "strip-contour-height", step=10)
        self._button("Close", close, "Close without adding a path (Esc)")
        self._settle(True)

    # pieces

    def _checks(
        self, text: str, names: Mapping[str, str], chosen: set[str], change: Callable[[set[str]], object], tip: str
    ) -> None:
        """A button with a menu of things to switch on and off."""
        button = QPushButton(text)
        button.setToolTip(tip)
        button.setObjectName(f"strip-{text}")
        menu = QMenu(button)
        now = set(chosen)

        def flip(key: str, on: bool) -> None:
            (now.add if on else now.discard)(key)
            change(set(now))

        for key, name in names.items():
            action = menu.addAction(name)
            action.setCheckable(True)
            action.setChecked(key in chosen)
            action.toggled.connect(partial(flip, key))
        button.setMenu(menu)
        self.line.addWidget(button)

    def _text(self, text: str) -> None:
        label = QLabel(text)
        label.setObjectName("muted")
        self.line.addWidget(label)

    def _choice(
        self,
        options: Sequence[tuple[str, str]],
        value: str,
        change: Callable[[str], object] | None,
        tip: str,
        name: str,
    ) -> QComboBox:
        field = QComboBox()
        for key, shown in options:
            field.addItem(shown, key)
        field.setCurrentIndex(max(field.findData(value), 0))
        field.setToolTip(tip)
        field.setAccessibleName(tip)
        field.setObjectName(name)
        if change is not None:
            field.activated.connect(lambda index: change(field.itemData(index)))
        self.line.addWidget(field)
        return field

    def _number(
        self,
        value: float,
        unit: str,
        change: Callable[[float], object] | None,
        tip: str,
        name: str,
        width: int = 72,
        step: float = 1.0,
        zero: str = "",
    ) -> QuantityEdit:
        field = QuantityEdit(value, unit, 1, step, zero=zero)
        field.setFixedWidth(width)
        field.setToolTip(f"{tip}. Other units may be typed")
        field.setAccessibleName(tip)
        field.setObjectName(name)
        field.refused.connect(self.refused)
        if change is not None:
            field.given.connect(change)
        self.line.addWidget(field)
        return field

    def _button(self, text: str, action: Callable[[], object], tip: str) -> None:
        button = QPushButton(text)
        button.setToolTip(tip)
        button.clicked.connect(lambda _=False: action())
        self.line.addWidget(button)
