"""The deck: a strip chart of runs, shots and measured curves, with one playhead through everything."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import partial

import msgspec
import numpy as np
import pyqtgraph as pg
import qtawesome
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, QSettings, QSize, Qt, Signal
from PySide6.QtGui import QFont, QMouseEvent, QWheelEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QMenu,
    QPushButton,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.bars import Bar, in_rows, stacked
from kestrav.app.fields import QuantityEdit
from kestrav.app.lane_keys import Grip, added, grips, moved, removed
from kestrav.app.lanes import KeyMarks, Lane, Room
from kestrav.app.session import Session
from kestrav.app.style import FAMILY, MUTED
from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Camera, Carry, Light, Limited, Part, Path, Poses, Project, Run
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.on_paths import least_radius
from kestrav.core.motion.judging import bend_radii, tight_spans
from kestrav.core.motion.lane_values import headings
from kestrav.core.motion.leaning import lean
from kestrav.core.motion.legs import leg_of, thing_speeds
from kestrav.core.motion.lighting import state
from kestrav.core.motion.path_curves import PathCurve, path_curve
from kestrav.core.motion.resting import rows
from kestrav.core.motion.runs import Journey, frame_times, journey, span
from kestrav.core.motion.timing import moved as moved_in_time
from kestrav.core.motion.timing import set_span, snap_times, snapped, span_of
from kestrav.core.units import show
from kestrav.render.palette import CARD, INK, PETROL, RULE, SHOT

Array = NDArray[np.float64]

LABEL_WIDTH, LABEL_HEIGHT = 150, 36  # px; in a lane that is lower, title and value share a line
BAR_HEIGHT = 17
MOST_ROWS, FEW_ROWS = 8, 4  # of bars that are shown at once, and up to how many they are spaced
SNAP_PIXELS, GRAB_PIXELS = 8, 8
POSED, CARRIED = "#7a5a2e", "#5f6f52"  # bars of key poses and of rides, beside those of runs


class Deck(QWidget):
    """Transport row and chart."""

    play_toggled = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("deck")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.result: CheckResult | None = None
        self.current = False
        self.by_distance = False
        self.bar_drags = 0
        self._first_row, self.row_height = 0, BAR_HEIGHT + 3
        self.marked: tuple[str, ...] = ()  # bars taken together
        self.snapping = str(QSettings().value("deck/snap", "true")) == "true"
        self.chosen_key: tuple[str, str, int] | None = None  # lane, item and number of the chosen key
        self._range: tuple[float, float] | None = None  # what is shown, when not all
        self._steady: tuple[float, float] | None = None  # what is shown while a bar is dragged
        self._held: tuple[str, object] | None = None  # what is dragged: a key or a limit
        self._panned: float | None = None
        self._key_drags = 0
        self._grips: list[Grip] = []
        self._bars: list[Bar] = []
        self._rows = (1, 2)  # the first row of shots, and rows in all
        self._scrubbing = False
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._transport())
        self.chart = pg.GraphicsLayoutWidget()
        self.chart.setBackground(CARD)
        self.chart.setFrameShape(self.chart.Shape.NoFrame)
        self.chart.setOptimizationFlag(self.chart.OptimizationFlag.DontSavePainterState)
        self.chart.setOptimizationFlag(self.chart.OptimizationFlag.DontAdjustForAntialiasing)
        self.chart.viewport().installEventFilter(self)
        self.chart.setAccessibleName("Chart")
        grid = self.chart.ci.layout
        grid.setContentsMargins(0, 2, 12, 4)
        grid.setVerticalSpacing(3)
        grid.setHorizontalSpacing(0)
        self.plots: list[pg.PlotItem] = []
        self.playheads: list[pg.InfiniteLine] = []
        self.labels = QWidget(self.chart)
        self.labels.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.lanes: list[Lane] = []
        self.every: dict[str, Lane] = {}
        self.bars = self._plot("top")
        self.plots.append(self.bars)
        self.chart.addItem(self.bars, row=0, col=0)
        self.bars.getAxis("top").setHeight(20)
        # its ticks and grid change far less often than what lies before them
        self.bars.getAxis("top").setCacheMode(pg.QtWidgets.QGraphicsItem.CacheMode.DeviceCoordinateCache)
        self.bars.getViewBox().invertY(True)
        self.bar_labels = [self._label("Runs"), self._label("Shots")]
        self.clearance = Lane(self._plot(), self._label(), "Clearance", "mm", PETROL)
        self.speed = Lane(self._plot(), self._label(), "Speed", "m/s", INK)
        self.height = Lane(self._plot(), self._label(), "Height", "mm", INK)
        self.bend = Lane(self._plot(), self._label(), "Bend radius", "mm", PETROL)
        self.way = Lane(self._plot(), self._label(), "Distance", "mm", PETROL)
        self.gain = Lane(self._plot(), self._label(), "Acceleration", "m/s²", INK)
        self.sideways = Lane(self._plot(), self._label(), "Sideways", "m/s²", INK)
        self.roll = Lane(self._plot(), self._label(), "Lean", "°", PETROL)
        self.heading = Lane(self._plot(), self._label(), "Heading", "°", INK)
        self.strength = Lane(self._plot(), self._label(), "Light", "cd", "#8a6414")
        self.every = {
            "clearance": self.clearance,
            "distance": self.way,
            "speed": self.speed,
            "acceleration": self.gain,
            "sideways": self.sideways,
            "heading": self.heading,
            "lean": self.roll,
            "height": self.height,
            "bend": self.bend,
            "strength": self.strength,
        }
        self.keys_drawn = {name: KeyMarks(lane.plot) for name, lane in self.every.items()}
        self.pointer = QLabel(self.chart)
        self.pointer.setObjectName("pointer")
        self.pointer.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.pointer.hide()
        self.chart.viewport().setMouseTracking(True)
        self.show_lanes(session.project.settings.lanes)
        column.addWidget(self.chart, 1)
        session.opened.connect(self._on_opened)
        session.edited.connect(self.refresh)
        session.moved.connect(self.follow)
        session.selected.connect(self.refresh)

    # making

    def _transport(self) -> QWidget:
        holder = QWidget()
        holder.setObjectName("transport")
        holder.setFixedHeight(32)
        row = QHBoxLayout(holder)
        row.setContentsMargins(12, 0, 12, 0)
        row.setSpacing(4)
        self._icons = {name: qtawesome.icon(f"mdi6.{name}", color=PETROL) for name in ("play", "pause")}
        self.play = QPushButton()
        self.play.setObjectName("play")
        self.play.setIcon(self._icons["play"])
        self.play.setToolTip("Play or pause (Space)")
        self.play.setAccessibleName("Play or pause")
        self.play.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.play.clicked.connect(self.play_toggled)
        row.addWidget(self.play)
        for icon, tip, action in (
            ("skip-previous", "To the start (Home)", lambda: self.session.set_time(0.0)),
            ("chevron-left", "One frame back (Left)", lambda: self.session.step(-1)),
            ("chevron-right", "One frame on (Right)", lambda: self.session.step(1)),
            ("skip-next", "To the end (End)", lambda: self.session.set_time(span(self.session.shown))),
        ):
            row.addWidget(self._button(icon, tip, action))
        row.addSpacing(6)
        self.readout = QLabel()
        self.readout.setObjectName("readout")
        # where there is little room it is cut, and does not push the window apart
        self.readout.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(self.readout, 1)
        self._add_key_fields(row)
        self.axis_buttons = []
        self.snap = QPushButton("snap")
        self.snap.setObjectName("link")
        self.snap.setCheckable(True)
        self.snap.setChecked(self.snapping)
        self.snap.setToolTip("Bars and keys catch frames, other bars' ends and the playhead; Alt leaves it out once")
        self.snap.toggled.connect(self._set_snapping)
        row.addWidget(self.snap)
        row.addSpacing(4)
        for icon, tip, action in (
            ("magnify-minus-outline", "Show more time (Ctrl+−, or the wheel)", lambda: self.zoom(1.5)),
            ("magnify-plus-outline", "Show less time (Ctrl++, or the wheel)", lambda: self.zoom(1 / 1.5)),
            ("arrow-expand-horizontal", "Show all of it (Ctrl+0); drag with the middle button pans", self.show_all),
        ):
            row.addWidget(self._button(icon, tip, action))
        row.addSpacing(4)
        self.time_menu = QMenu(holder)
        times = QToolButton()
        times.setObjectName("plainmenu")
        times.setText("time")
        times.setToolTip("Stretch, move, reverse or split what is selected, or all")
        times.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        times.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        times.setMenu(self.time_menu)
        row.addWidget(times)
        lanes = QToolButton()
        lanes.setObjectName("plainmenu")
        lanes.setText("lanes")
        lanes.setToolTip("Which curves the chart shows")
        lanes.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        lanes.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        menu = QMenu(lanes)
        self.lane_actions = {}
        for name, text in (
            ("clearance", "Clearance"),
            ("distance", "Distance"),
            ("speed", "Speed"),
            ("acceleration", "Acceleration"),
            ("sideways", "Sideways acceleration"),
            ("heading", "Heading"),
            ("lean", "Lean"),
            ("height", "Height"),
            ("bend", "Bend radius"),
            ("strength", "Strength of the light"),
        ):
            action = menu.addAction(text)
            action.setCheckable(True)
            action.toggled.connect(partial(self._toggle_lane, name))
            self.lane_actions[name] = action
        lanes.setMenu(menu)
        row.addWidget(lanes)
        row.addSpacing(10)
        label = QLabel("axis:")
        label.setObjectName("muted")
        row.addWidget(label)
        for text, distance in (("time", False), ("distance", True)):
            button = QPushButton(text)
            button.setObjectName("link")
            button.setCheckable(True)
            button.setToolTip(f"Chart over {text} (X)")
            button.clicked.connect(lambda _=False, d=distance: self.set_axis(d))
            self.axis_buttons.append(button)
            row.addWidget(button)
        self.axis_buttons[0].setChecked(True)
        return holder

    def _button(self, icon: str, tip: str, action: Callable[[], object]) -> QPushButton:
        button = QPushButton()
        button.setObjectName("plain")
        button.setIcon(qtawesome.icon(f"mdi6.{icon}", color=PETROL))
        button.setIconSize(QSize(17, 17))
        button.setToolTip(tip)
        button.setAccessibleName(tip)
        button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        button.clicked.connect(lambda: action())
        return button

    def _plot(self, axis: str | None = None) -> pg.PlotItem:
        plot = pg.PlotItem(axisItems={"left": Room("left")})
        plot.setMenuEnabled(False)
        plot.hideButtons()
        view = plot.getViewBox()
        view.setMouseEnabled(False, False)
        view.setDefaultPadding(0)
        plot.hideAxis("bottom")
        left = plot.getAxis("left")
        left.setWidth(LABEL_WIDTH)
        left.setStyle(showValues=False, tickLength=0)
        left.setPen(pg.mkPen(None))
        if axis == "top":
            plot.showAxis("top")
            top = plot.getAxis("top")
            font = QFont(FAMILY)
            font.setPixelSize(11)
            top.setStyle(tickFont=font, tickLength=-4)
            top.setPen(pg.mkPen(RULE))
            top.setTextPen(pg.mkPen(INK))
            top.tickStrings = lambda values, scale, spacing: [self._tick(v, spacing) for v in values]
        else:
            view.setBorder(pg.mkPen(RULE))
        plot.showGrid(x=True, y=False, alpha=0.12)
        line = pg.InfiniteLine(angle=90, pen=pg.mkPen(INK, width=1.4))
        line.setZValue(20)
        plot.addItem(line)
        if self.plots:
            plot.setXLink(self.bars)
        # the chart lays itself out later than it is asked to
        view.sigResized.connect(lambda _: self.follow() if self.every else None)
        self.playheads.append(line)
        return plot

    def show_lanes(self, names: Sequence[str]) -> None:
        """Show these lanes and no others, in their own order; saved with the project."""
        for plot in self.plots[1:]:
            self.chart.removeItem(plot)
        wanted = [name for name in self.every if name in names]
        self.lanes = [self.every[name] for name in wanted]
        self.plots = [self.bars, *(lane.plot for lane in self.lanes)]
        for row, lane in enumerate(self.lanes, 1):
            self.chart.addItem(lane.plot, row=row, col=0)
        for name, lane in self.every.items():
            lane.label.setVisible(name in wanted)
        for name, action in self.lane_actions.items():
            action.setChecked(name in wanted)
        self.place_labels()
        self.refresh()

    def shown_lanes(self) -> list[str]:
        """The names of the lanes shown."""
        return [name for name, lane in self.every.items() if lane in self.lanes]

    def _toggle_lane(self, name: str, on: bool) -> None:
        shown = self.shown_lanes()
        if on != (name in shown):
            self.show_lanes([*shown, name] if on else [key for key in shown if key != name])

    def _label(self, text: str = "") -> QLabel:
        label = QLabel(text, self.labels)
        label.setTextFormat(Qt.TextFormat.RichText)
        return label

    def _tick(self, value: float, spacing: float) -> str:
        places = 0 if spacing >= 1 else 1 if spacing >= 0.1 else 2
        return show(value, "mm" if self.by_distance else "s", places)

    # the axis

    def axis_journey(self) -> Journey | None:
        """The run that the distance axis follows: the selected one, or the first of a part."""
        project, item = self.session.shown, self.session.item
        parts = rows(project)
        runs = [r for r in project.runs if r.rider in parts] or list(project.runs)
        if isinstance(item, Run):
            return self._known(journey(project, item))
        if isinstance(item, (Poses, Carry)):
            runs = [r for r in project.runs if r.rider == item.rider] or runs
        if isinstance(item, Path):
            # a path that nothing follows yet has its own distances all the same
            runs = [r for r in project.runs if r.path == item.id]
        elif isinstance(item, (Part, Light, Camera)):
            runs = [r for r in project.runs if r.rider == item.id] or runs
        return self._known(journey(project, runs[0])) if runs else None

    def _known(self, trip: Journey) -> Journey | None:
        """A journey that begins at some time."""
        return trip if np.isfinite(trip.start) else None

    def lane_light(self) -> Light | None:
        """The light that the chart is about: the selected one, or the first."""
        lights, item = self.session.shown.lights, self.session.item
        if isinstance(item, Light):
            return item
        return lights[0] if lights else None

    def _axis_path(self) -> tuple[PathCurve, float, float] | None:
        """The path that the chart is about, and the first and last station of it that it shows."""
        trip, path = self.axis_journey(), self.session.path
        if trip is not None:
            return trip.path, trip.first, trip.last
        if path is None:
            return None
        made = path_curve(path)
        return made, 0.0, made.length

    def set_axis(self, by_distance: bool) -> None:
        """Chart over distance or time."""
        if by_distance != self.by_distance:
            self._range = None
        self.by_distance = by_distance
        self.refresh()

    def to_x(self, times: Array) -> Array:
        """Times as places on the axis; outside its run the distance axis has none (nan)."""
        times = np.asarray(times, float)
        if not self.by_distance:
            return times
        trip = self.axis_journey()
        if trip is None:
            return np.full(times.shape, np.nan)
        inside = (times >= trip.start - 1e-9) & (times <= trip.shown_end + 1e-9)
        return np.where(inside, trip.stations(times), np.nan)

    def to_time(self, x: float) -> float:
        """A place on the axis as a time."""
        if not self.by_distance:
            return x
        trip = self.axis_journey()
        return self.session.time if trip is None else float(trip.times_at([x])[0])

    # following

    def show_result(self, result: CheckResult | None, current: bool) -> None:
        """Take a check's result; ``current`` says whether it is of the document shown."""
        if result is not None:
            self.result = result
        self.current = current
        self._fill_clearance()
        self.follow()

    def refresh(self) -> None:
        """Follow an edit: everything that needs no check at once."""
        project = self.session.shown
        along = self._axis_path()
        if self.by_distance and along is None:
            self.by_distance = False
        for button, on in zip(self.axis_buttons, (not self.by_distance, self.by_distance), strict=True):
            button.setChecked(on)
        low, high = self.shown_range()
        self.plots[0].getViewBox().setXRange(low, high, padding=0)
        self.rebuild_bars()
        self._fill_speed(project)
        self._fill_motion(project)
        self._fill_shape(along)
        self._fill_heading(project)
        self._fill_strength()
        self._fill_clearance()
        self._draw_keys()
        self.follow()

    def rebuild_bars(self) -> None:
        """Let the bars follow the document; those that stay are told what they are now."""
        project = self.session.shown
        wanted: list[tuple[object, ...]] = []
        along = self.axis_journey() if self.by_distance else None
        if self.by_distance and along is None:
            self._rows = (1, 2)
        elif along is not None:
            wanted = [(along.run.id, along.run.name, along.first, along.last, 0, PETROL)]
            self._rows = (1, 2)
        else:
            moving = [leg_of(project, item) for item in (*project.runs, *project.poses, *project.carries)]
            moving = [leg for leg in moving if np.isfinite(leg.start)]
            spans = [span_of(project, leg.item) for leg in moving]
            run_rows = in_rows([leg.item.rider for leg in moving], spans)
            shot_rows = stacked([(s.start, s.end) for s in project.shots])
            first = max(run_rows, default=0) + 1
            for leg, (start, end), row in zip(moving, spans, run_rows, strict=True):
                item = leg.item
                colour = PETROL if isinstance(item, Run) else POSED if isinstance(item, Poses) else CARRIED
                marks = tuple(start + k.time for k in item.keys) if isinstance(item, Poses) else ()
                wanted.append((item.id, item.name, start, end, row, colour, marks, not np.isfinite(leg.end)))
            wanted += [
                (s.id, s.name, s.start, s.end, first + r, SHOT) for s, r in zip(project.shots, shot_rows, strict=True)
            ]
            self._rows = (first, first + max(shot_rows, default=0) + 1)
        self._show_rows()
        if [bar.item_id for bar in self._bars] == [w[0] for w in wanted]:
            for bar, w in zip(self._bars, wanted, strict=True):
                bar.tell(*w[1:])
            return
        for bar in self._bars:
            self.bars.removeItem(bar)
        self._bars = [Bar(self, *w) for w in wanted]
        for bar in self._bars:
            self.bars.addItem(bar)

    def _show_rows(self) -> None:
        """Show as many rows of bars as there is room for; the wheel over their names goes through the rest."""
        rows = min(self._rows[1], MOST_ROWS)
        self._first_row = min(max(self._first_row, 0), self._rows[1] - rows)
        self.row_height = BAR_HEIGHT + 3 if rows <= FEW_ROWS else BAR_HEIGHT
        self.bars.getViewBox().setYRange(self._first_row, self._first_row + rows, padding=0)
        self.bars.setFixedHeight(20 + rows * self.row_height)

    def take_bar(self, item_id: str) -> None:
        """Select what a bar stands for; several that are marked stay together."""
        self._steady = self.shown_range()
        if item_id not in self.marked:
            self.marked = ()
        self.session.select(item_id)

    def let_go(self) -> None:
        """A bar is not held any more."""
        self._steady = None
        self.refresh()

    def mark(self, item_id: str) -> None:
        """Take a bar to those marked, or from them."""
        chosen = self.session.selection
        marked = self.marked or ((chosen,) if chosen in {bar.item_id for bar in self._bars} else ())
        self.marked = tuple(m for m in marked if m != item_id) if item_id in marked else (*marked, item_id)
        for bar in self._bars:
            bar.update()

    def row_of(self, item_id: str) -> int:
        """The row of a bar."""
        return next((bar.row for bar in self._bars if bar.item_id == item_id), 0)

    def drag_bar(self, item_id: str, grip: str, time: float, free: bool = False) -> None:
        """Bring a bar, or an end of it, to a time."""
        if self.by_distance:
            return
        merge = f"bar-{self.bar_drags}"
        if grip == "all":
            self.move_bar(item_id, time, free)
            return
        time = self._snapped(time, (item_id,), free)
        self.session.edit("Stretch", lambda p: set_span(p, item_id, **{grip: time}), merge=merge)

    def move_bar(self, item_id: str, start: float, free: bool = False) -> None:
        """Move a run, key poses, a ride or a shot, and what is marked with it, to begin at a time."""
        if self.by_distance:
            return
        ids = self.marked if item_id in self.marked else (item_id,)
        first, last = span_of(self.session.project, get(self.session.project, item_id))  # type: ignore[arg-type]
        start = max(start, 0.0)
        target = self._snapped(start, ids, free)
        # its end catches what another one does where its start does not
        begun, ended = (None if free else self._caught(t, ids) for t in (start, start + last - first))
        if begun is None and ended is not None and ended >= last - first:
            target = ended - (last - first)

        def move(project: Project) -> Project:
            now = span_of(project, get(project, item_id))[0]  # type: ignore[arg-type]
            return moved_in_time(project, ids, target - now)

        self.session.edit("Move in time", move, merge=f"bar-{self.bar_drags}")

    def _snapped(self, time: float, leaving: Sequence[str], free: bool) -> float:
        fps = self.session.project.settings.fps
        if free or not self.snapping:
            return round(time, 3)
        caught = self._caught(time, leaving)
        return snapped(time, fps) if caught is None else caught

    def _caught(self, time: float, leaving: Sequence[str]) -> float | None:
        """What else begins or ends near a time, or the playhead."""
        if not self.snapping:
            return None
        others = snap_times(self.session.project, leaving, [self.session.time])
        nearest = float(others[np.argmin(np.abs(others - time))])
        return nearest if abs(nearest - time) <= SNAP_PIXELS * self.pixel() else None

    def _set_snapping(self, on: bool) -> None:
        self.snapping = on
        QSettings().setValue("deck/snap", "true" if on else "false")

    # what is shown of the axis

    def whole(self) -> tuple[float, float]:
        """The whole axis with a little room, so that the first and last tick keep their numbers."""
        along = self._axis_path()
        low, high = along[1:] if self.by_distance and along is not None else (0.0, span(self.session.shown))
        room = 0.02 * (high - low)
        return low - room, high + room

    def shown_range(self) -> tuple[float, float]:
        """The part of the axis that is shown; while a bar is dragged it stays as it is."""
        return self._range or self._steady or self.whole()

    def shown_width(self) -> float:
        """How much of the axis is shown, in its unit."""
        low, high = self.shown_range()
        return high - low

    def pixel(self) -> float:
        """How much of the axis a pixel is."""
        return self.shown_width() / max(self.bars.getViewBox().width(), 1.0)

    def chart_left(self) -> float:
        """Where the chart begins, in the scene's pixels."""
        return float(self.bars.getViewBox().sceneBoundingRect().left())

    def chart_right(self) -> float:
        """Where the chart ends, in the scene's pixels."""
        return float(self.bars.getViewBox().sceneBoundingRect().right())

    def shows_row(self, row: int) -> bool:
        """Whether a row of bars is among those shown."""
        return self._first_row <= row < self._first_row + MOST_ROWS

    def show_range(self, low: float, high: float) -> None:
        """Show a part of the axis, not beyond its ends."""
        first, last = self.whole()
        width = min(max(high - low, 1e-3 * (last - first)), last - first)
        low = min(max(low, first), last - width)
        self._range = None if width >= (last - first) * (1 - 1e-9) else (low, low + width)
        self.refresh()

    def zoom(self, factor: float, about: float | None = None) -> None:
        """Show more or less of the axis about a place, or about the playhead."""
        low, high = self.shown_range()
        if about is None:
            at = float(self.to_x(np.array([self.session.time]))[0])
            about = at if np.isfinite(at) and low <= at <= high else 0.5 * (low + high)
        self.show_range(about - (about - low) * factor, about + (high - about) * factor)

    def show_all(self) -> None:
        """Show the whole axis."""
        self._range = None
        self.refresh()

    def _on_opened(self) -> None:
        self._range, self.marked, self.chosen_key = None, (), None
        self.show_lanes(self.session.project.settings.lanes)

    def _fill_speed(self, project: Project) -> None:
        times = np.union1d(frame_times(project), np.linspace(0, span(project), 400))
        trip = self.axis_journey()
        parts = rows(project)
        self.speed.title = "Speed" if trip is None or trip.run.rider in parts else "Camera speed"
        values = np.zeros_like(times) if trip is None else thing_speeds(project, trip.run.rider, times) / 1000.0
        x = self.to_x(times)
        keep = np.isfinite(x)
        self.speed.show(x[keep], values[keep])
        limit = self.limit_of("speed")
        self.speed.limit.setVisible(limit is not None)
        if limit is not None:
            self.speed.limit.setValue(limit)

    def _fill_motion(self, project: Project) -> None:
        """Distance and accelerations of the journey that the chart is about."""
        shown = [lane for lane in (self.way, self.gain, self.sideways, self.roll) if lane in self.lanes]
        trip = self.axis_journey()
        if not shown:
            return
        if trip is None:
            for lane in shown:
                lane.show(np.empty(0), np.empty(0))
            return
        times = np.linspace(trip.start, trip.shown_end, 800)
        x = self.to_x(times)
        ahead = trip.accelerations(times) / 1000.0
        across = trip.sideways(times) / 1000.0
        way = trip.profile.distance(times - trip.start)
        order = np.argsort(x, kind="stable")
        self.way.show(x[order], way[order])
        self.gain.show(x[order], ahead[order], low=float(min(ahead.min(), 0.0)))
        self.sideways.show(x[order], across[order])
        angle = np.degrees(lean(trip, trip.stations(times)))
        self.roll.show(x[order], angle[order], low=float(min(angle.min(), 0.0)))
        for lane, name in ((self.gain, "acceleration"), (self.sideways, "sideways")):
            limit = self.limit_of(name)
            lane.limit.setVisible(limit is not None)
            if limit is not None:
                lane.limit.setValue(limit)

    def limit_of(self, lane: str) -> float | None:
        """The limit that a lane shows, in the lane's unit: the run's own, or the project's."""
        settings, trip = self.session.shown.settings, self.axis_journey()
        pacing = trip.run.pacing if trip is not None and isinstance(trip.run.pacing, Limited) else None
        found = {
            "clearance": settings.required_clearance,
            "speed": (pacing.top if pacing else settings.speed_limit) / 1000.0,
            "acceleration": (pacing.forward if pacing else settings.acceleration_limit) / 1000.0,
            "sideways": (pacing.sideways if pacing else 0.0) / 1000.0,
        }.get(lane, 0.0)
        return found if found > 0 else None

    def set_limit(self, lane: str, value: float, merge: str = "") -> None:
        """Change the limit that a lane shows."""
        trip = self.axis_journey()
        pacing = trip.run.pacing if trip is not None and isinstance(trip.run.pacing, Limited) else None
        value = max(value, 1e-3)
        own = {"speed": "top", "acceleration": "forward", "sideways": "sideways"}.get(lane)
        whole = {"clearance": "required_clearance", "speed": "speed_limit", "acceleration": "acceleration_limit"}
        kept = round(value, 1) if lane == "clearance" else round(1000.0 * value)
        if pacing is not None and own is not None and trip is not None:
            run = trip.run
            fields: dict[str, object] = {"pacing": msgspec.structs.replace(pacing, **{own: max(kept, 1)})}
            if own == "top" and run.speed is not None:
                fields["speed"] = max(kept, 1)
            self.session.edit("Limit", lambda p: edits.update(p, run.id, **fields), merge=merge)
        elif lane in whole:
            self.session.edit("Limit", lambda p: edits.settings(p, **{whole[lane]: kept}), merge=merge)

    def _fill_heading(self, project: Project) -> None:
        """Where the front of the rider points."""
        trip = self.axis_journey()
        if self.heading not in self.lanes:
            return
        if trip is None:
            self.heading.show(np.empty(0), np.empty(0))
            return
        times = np.linspace(trip.start, trip.shown_end, 400)
        x, values = self.to_x(times), headings(project, trip.run.rider, times)
        order = np.argsort(x, kind="stable")
        self.heading.show(x[order], values[order], float(values.max()) + 5.0, float(values.min()) - 5.0)

    def _fill_strength(self) -> None:
        """The strength of a light in time."""
        light = self.lane_light()
        if self.strength not in self.lanes:
            return
        if light is None or self.by_distance:
            self.strength.show(np.empty(0), np.empty(0))
            return
        self.strength.title = light.name
        self.strength.unit = "lx" if light.kind == "sun" else "cd"
        times = np.unique([0.0, *np.linspace(0.0, span(self.session.shown), 200), *(k.time for k in light.keys)])
        values = np.array([state(light, t)[0] for t in times])
        self.strength.show(times, values)

    # keys

    def _draw_keys(self) -> None:
        self._grips = grips(self)
        for name, marks in self.keys_drawn.items():
            if self.every[name] in self.lanes:
                marks.show([g for g in self._grips if g.lane == name], self.chosen_key)
        self._show_key_fields()

    def _chosen_grip(self) -> Grip | None:
        keys = [g for g in self._grips if g.side == "key"]
        return next((g for g in keys if (g.lane, g.of, g.index) == self.chosen_key), None)

    def _add_key_fields(self, row: QHBoxLayout) -> None:
        """Where the chosen key is and what it says, to be typed."""
        self.key_at, self.key_value = QuantityEdit(0.0, "s", 3, 0.1), QuantityEdit(0.0, "mm", 1, 1.0)
        for field, name, tip in (
            (self.key_at, "Key at", "Where the chosen key is"),
            (self.key_value, "Key value", "What the chosen key says"),
        ):
            field.setAccessibleName(name)
            field.setObjectName("keyfield")
            field.setToolTip(f"{tip}; Delete takes it away")
            field.setFixedWidth(82)
            field.given.connect(lambda _: self._type_key())
            field.hide()
            row.addWidget(field)
        row.addSpacing(8)

    def _show_key_fields(self) -> None:
        grip = self._chosen_grip()
        for field in (self.key_at, self.key_value):
            field.setVisible(grip is not None and grip.lane != "bars")
        if grip is None or grip.lane == "bars":
            return
        lane = self.every[grip.lane]
        self.key_at.unit = self.key_at.shown_unit = "mm" if self.by_distance else "s"
        self.key_value.unit = self.key_value.shown_unit = lane.unit
        self.key_at.set_value(grip.x)
        self.key_value.set_value(grip.y)

    def _type_key(self) -> None:
        grip = self._chosen_grip()
        if grip is not None:
            x, y = self.key_at.value, self.key_value.value
            self.session.edit("Key", lambda p: moved(self, grip, x, y, p))

    def delete_key(self) -> bool:
        """Take the chosen key away; False when none is chosen."""
        grip = self._chosen_grip()
        if grip is None:
            return False
        self.chosen_key = None
        left: list[bool] = []

        def remove(project: Project) -> Project:
            found = removed(grip, project)
            left.append(found is None)
            return project if found is None else found

        self.session.edit("Delete key", remove)
        if left and left[-1]:
            self.session.refused.emit("the first and the last key stay, as the run needs them")
        return True

    def _fill_shape(self, along: tuple[PathCurve, float, float] | None) -> None:
        """The height and the bend radius of the path that the chart is about."""
        shown = [lane for lane in (self.height, self.bend) if lane in self.lanes]
        if not shown:
            return
        trip = self.axis_journey()
        if along is None or (not self.by_distance and trip is None):
            for lane in shown:
                lane.show(np.empty(0), np.empty(0))
                lane.shade([])
                lane.limit.setVisible(False)
            return
        made, first, last = along
        if self.by_distance:
            x = stations = np.union1d(np.linspace(first, last, 600), made.curve.breaks[:400])
            x = stations = stations[(stations >= first) & (stations <= last)]
        else:
            assert trip is not None
            x = np.linspace(trip.start, trip.shown_end, 600)
            stations = trip.stations(x)
        heights = made.curve.position(stations)[:, 2]
        low = float(heights.min())
        self.height.show(x, heights, low=0.0 if 0 <= low < 0.5 * float(heights.max()) else low)
        radius = bend_radii(made.curve, stations)
        project, path_id = self.session.shown, self._axis_path_id()
        needed = least_radius(project, path_id)[0] if path_id else 0.0
        tightest = float(radius.min())
        top = 5.0 * (needed or (tightest if np.isfinite(tightest) else 1000.0))
        self.bend.show(x, radius, top)
        self.bend.limit.setVisible(needed > 0)
        self.bend.limit.setValue(needed)
        spans = []
        for tight in tight_spans(made.curve, needed) if needed > 0 else []:
            inside = (stations >= tight.first - 1e-6) & (stations <= tight.last + 1e-6)
            if inside.any():
                half = 0.002 * float(x[-1] - x[0])
                spans.append((float(x[inside][0]) - half, float(x[inside][-1]) + half))
        self.bend.shade(spans)

    def _axis_path_id(self) -> str | None:
        trip, path = self.axis_journey(), self.session.path
        return trip.run.path if trip is not None else path.id if path is not None else None

    def _fill_clearance(self) -> None:
        result, lane = self.result, self.clearance
        if result is None:
            lane.show(np.empty(0), np.empty(0))
            lane.shade([])
            lane.limit.setVisible(False)
            return
        clearance = result.clearance
        x = self.to_x(result.times)
        keep = np.isfinite(x)
        values = np.where(np.isfinite(clearance.distance), clearance.distance, np.nan)
        finite = values[np.isfinite(values)]
        top = None
        if len(finite):
            top = float(np.clip(np.max(finite), 2.0 * clearance.required, max(5.0 * clearance.required, 10.0)))
        lane.curve.set_colour(PETROL if self.current else "#9fb4b5")
        lane.show(x[keep], values[keep], top)
        lane.limit.setVisible(bool(len(finite)))
        lane.limit.setValue(clearance.required)
        half = 0.5 / self.session.shown.settings.fps
        spans = []
        for first, last in clearance.intervals():
            ends = self.to_x(np.array([result.times[first] - half, result.times[last] + half]))
            inner = self.to_x(result.times[first : last + 1])
            inner = inner[np.isfinite(inner)]
            if len(inner):
                ends = np.where(np.isfinite(ends), ends, [inner[0], inner[-1]])
                spans.append((float(ends[0]), float(ends[1])))
        lane.shade(spans)

    def follow(self) -> None:
        """Follow the playhead."""
        time, project = self.session.time, self.session.shown
        x = float(self.to_x(np.array([time]))[0])
        for line in self.playheads:
            line.setVisible(math.isfinite(x))
            if np.isfinite(x):
                line.setValue(x)
        trip = self.axis_journey()
        where = ""
        if trip is not None:
            station = float(trip.stations([time])[0])
            where = f"&nbsp;&nbsp; {trip.run.name} at {show(station, 'mm', 0)} of {show(trip.path.length, 'mm', 0)}"
        self.readout.setText(
            f"<b>{time:.2f}\u2009s</b>&nbsp;&nbsp; frame {self.session.frame} · {project.settings.fps:g} fps{where}"
        )
        for lane in self.lanes:
            value = lane.value_at(x) if np.isfinite(x) else None
            if value is None:
                text = "–"
            elif not np.isfinite(value):
                text = "straight" if lane is self.bend else "–"
            else:
                text = show(value, lane.unit, 2 if lane.unit != "mm" else 0 if abs(value) >= 100 else 1)
            if lane is self.clearance:
                text = self._clearance_text(text)
            parting = "<br>" if lane.plot.sceneBoundingRect().height() >= LABEL_HEIGHT else " "
            lane.label.setText(f"<b>{lane.title}</b>{parting}<span style='color:{MUTED}'>{text}</span>")
        self.place_labels()

    def _clearance_text(self, value: str) -> str:
        if self.result is None:
            return "checking …"
        required = self.session.shown.settings.required_clearance
        return f"{value} · needs {show(required, 'mm', 1 if required % 1 else 0)}" + ("" if self.current else " · lags")

    def set_playing(self, playing: bool) -> None:
        """Show whether it plays."""
        self.play.setIcon(self._icons["pause" if playing else "play"])

    # layout and mouse

    def place_labels(self) -> None:
        """Put the labels beside their lanes."""
        if not self.every or len(self.plots) != len(self.lanes) + 1:
            return  # still being made
        self.labels.setGeometry(0, 0, LABEL_WIDTH - 4, self.chart.height())
        tops = [plot.sceneBoundingRect() for plot in self.plots]
        for i, label in enumerate(self.bar_labels):
            row = (0, self._rows[0])[i] - self._first_row
            label.setGeometry(12, int(tops[0].top()) + 20 + row * self.row_height, LABEL_WIDTH - 20, self.row_height)
            label.setVisible(0 <= row < MOST_ROWS)
        for lane, rect in zip(self.lanes, tops[1:], strict=True):
            height = LABEL_HEIGHT if rect.height() >= LABEL_HEIGHT else LABEL_HEIGHT // 2
            lane.label.setGeometry(12, int(rect.center().y()) - height // 2, LABEL_WIDTH - 13, height)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        kind = event.type()
        if kind == QEvent.Type.Resize:
            self.place_labels()
        elif kind == QEvent.Type.Leave:
            self.pointer.hide()
        elif isinstance(event, QWheelEvent) and kind == QEvent.Type.Wheel:
            return self._wheel(event)
        elif isinstance(event, QMouseEvent):
            position = event.position().toPoint()
            if kind == QEvent.Type.MouseButtonPress:
                return self._press(event, position)
            if kind == QEvent.Type.MouseMove:
                return self._move(event, position)
            if kind == QEvent.Type.MouseButtonRelease:
                return self._release()
            if kind == QEvent.Type.MouseButtonDblClick and event.button() == Qt.MouseButton.LeftButton:
                return self._double_click(position)
        return super().eventFilter(watched, event)

    def _press(self, event: QMouseEvent, position: QPoint) -> bool:
        scene = self.chart.mapToScene(position)
        if event.button() == Qt.MouseButton.MiddleButton:
            self._panned = self._x_at(position)
            return True
        if event.button() == Qt.MouseButton.RightButton:
            self._menu(position)
            return True
        if event.button() != Qt.MouseButton.LeftButton:
            return False
        grip = self._grip_at(scene)
        if grip is not None:
            self._key_drags += 1
            self._held = ("key", grip)
            self._hold_scales(True)
            self.chosen_key = (grip.lane, grip.of, grip.index)
            self.chart.setFocus()
            self._draw_keys()
            return True
        if self._bar_at(scene) is not None:
            return False
        self.chosen_key = None
        lane = self._limit_at(scene)
        if lane is not None:
            self._key_drags += 1
            self._held = ("limit", lane)
            self._hold_scales(True)
            return True
        self._draw_keys()
        self._scrubbing = True
        return self._scrub(position.x())

    def _move(self, event: QMouseEvent, position: QPoint) -> bool:
        if self._panned is not None:
            by = self._panned - self._x_at(position)
            low, high = self.shown_range()
            self.show_range(low + by, high + by)
            return True
        if self._held is not None:
            self._drag_held(position, bool(event.modifiers() & Qt.KeyboardModifier.AltModifier))
            return True
        if self._scrubbing:
            self.pointer.hide()
            return self._scrub(position.x())
        if not event.buttons():
            self._read_out(position)
        return False

    def _release(self) -> bool:
        done = self._scrubbing or self._held is not None or self._panned is not None
        dragged, self._held = self._held is not None, None
        self._scrubbing, self._panned = False, None
        if dragged:
            self._hold_scales(False)
        return done

    def _hold_scales(self, held: bool) -> None:
        """Keep the lanes' scales while something in them is dragged, so that it stays under the pointer."""
        for lane in self.lanes:
            lane.held = held
        if not held:
            self.refresh()

    def _drag_held(self, position: QPoint, free: bool) -> None:
        assert self._held is not None
        what, thing = self._held
        merge = f"key-{self._key_drags}"
        if what == "limit":
            lane = str(thing)
            self.set_limit(lane, self._y_at(self.every[lane].plot, position), merge)
            return
        assert isinstance(thing, Grip)
        x = self._x_at(position)
        if not self.by_distance and thing.side == "key":
            x = self._snapped(x, (), free)
        y = self._y_at(self.bars if thing.lane == "bars" else self.every[thing.lane].plot, position)
        if self.session.edit("Key", lambda p: moved(self, thing, x, y, p), merge=merge) and thing.lane == "heading":
            # its yaw is turned by steps, so the next one counts from here
            now = next(
                (g for g in self._grips if (g.lane, g.of, g.index) == (thing.lane, thing.of, thing.index)), thing
            )
            self._held = ("key", now)

    def _double_click(self, position: QPoint) -> bool:
        """Put a key where a lane that has keys is pressed twice."""
        scene = self.chart.mapToScene(position)
        for name, lane in self.every.items():
            if lane in self.lanes and lane.plot.sceneBoundingRect().contains(scene):
                return self.add_key(name, self._x_at(position), self._y_at(lane.plot, position))
        return False

    def add_key(self, lane: str, x: float, y: float) -> bool:
        """Put a key into a lane at a place; False where it takes none."""
        before = self.session.project
        self.session.edit("Add key", lambda p: added(self, lane, x, y, p) or p)
        return self.session.project is not before

    def _wheel(self, event: QWheelEvent) -> bool:
        turned, aside = event.angleDelta().y(), event.angleDelta().x()
        low, high = self.shown_range()
        scene = self.chart.mapToScene(event.position().toPoint())
        if scene.x() < self.chart_left() and self.bars.sceneBoundingRect().contains(scene):
            self._first_row += -1 if turned > 0 else 1
            self._show_rows()
            self.place_labels()
            return True
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier or abs(aside) > abs(turned):
            by = -(aside or turned) / 1200.0 * (high - low)
            self.show_range(low + by, high + by)
        elif turned:
            self.zoom(0.87 ** (turned / 120.0), self._x_at(event.position().toPoint()))
        return True

    def _x_at(self, position: QPoint) -> float:
        return float(self.bars.getViewBox().mapSceneToView(self.chart.mapToScene(position)).x())

    def _y_at(self, plot: pg.PlotItem, position: QPoint) -> float:
        return float(plot.getViewBox().mapSceneToView(self.chart.mapToScene(position)).y())

    def _grip_at(self, scene: QPointF) -> Grip | None:
        """The key or handle under a place of the scene."""
        best: tuple[float, Grip] | None = None
        for grip in self._grips:
            lane = self.every.get(grip.lane)
            if not np.isfinite(grip.x) or (grip.lane != "bars" and lane not in self.lanes):
                continue
            plot = self.bars if lane is None else lane.plot
            at = plot.getViewBox().mapViewToScene(QPointF(grip.x, grip.y))
            away = math.hypot(at.x() - scene.x(), at.y() - scene.y())
            if away <= GRAB_PIXELS and (best is None or away < best[0]):
                best = (away, grip)
        return None if best is None else best[1]

    def _bar_at(self, scene: QPointF) -> Bar | None:
        """The bar under a place of the scene; the chart's own frame lies over it."""
        if not self.bars.getViewBox().sceneBoundingRect().contains(scene):
            return None
        return next((bar for bar in self._bars if bar.on_screen().contains(scene)), None)

    def _limit_at(self, scene: QPointF) -> str | None:
        """The lane whose limit is under a place of the scene."""
        for name, lane in self.every.items():
            if lane not in self.lanes or not lane.limit.isVisible() or self.limit_of(name) is None:
                continue
            box = lane.plot.getViewBox()
            y = box.mapViewToScene(QPointF(0.0, float(lane.limit.value()))).y()
            if box.sceneBoundingRect().contains(scene) and abs(y - scene.y()) <= 4:
                return name
        return None

    def _read_out(self, position: QPoint) -> None:
        """Say what the curve under the pointer is there."""
        scene = self.chart.mapToScene(position)
        viewport = self.chart.viewport()
        if self._limit_at(scene) is not None:
            viewport.setCursor(Qt.CursorShape.SizeVerCursor)
        elif self._grip_at(scene) is not None:
            viewport.setCursor(Qt.CursorShape.SizeAllCursor)
        else:
            viewport.unsetCursor()
        lane = next((lane for lane in self.lanes if lane.plot.getViewBox().sceneBoundingRect().contains(scene)), None)
        if lane is None:
            self.pointer.hide()
            return
        x = self._x_at(position)
        value = lane.value_at(x)
        if value is None or not np.isfinite(value):
            self.pointer.hide()
            return
        where = show(x, "mm", 0) if self.by_distance else show(x, "s", 2)
        text = f"{where} · {show(value, lane.unit, 2 if lane.unit != 'mm' else 1)}"
        limit = lane.limit.value() if lane.limit.isVisible() else None
        if limit is not None:
            text += f" · limit {show(float(limit), lane.unit, 2 if lane.unit != 'mm' else 1)}"
        self.pointer.setText(text)
        self.pointer.adjustSize()
        left = min(position.x() + 14, self.chart.width() - self.pointer.width() - 4)
        self.pointer.move(left, max(position.y() - self.pointer.height() - 8, 0))
        self.pointer.show()

    def _scrub(self, pixel: int) -> bool:
        view = self.plots[0].getViewBox()
        x = view.mapSceneToView(self.chart.mapToScene(pixel, 0)).x()
        fps = self.session.shown.settings.fps
        self.session.set_time(round(self.to_time(x) * fps) / fps)
        return True

    def _menu(self, position: QPoint) -> None:
        """What can be done with the bar under the pointer, and with what is selected."""
        bar = self._bar_at(self.chart.mapToScene(position))
        if bar is not None:
            self.take_bar(bar.item_id)
            self.let_go()
        self.time_menu.exec(self.chart.viewport().mapToGlobal(position))
