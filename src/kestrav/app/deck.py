"""The deck: a strip chart of runs, shots and measured curves, with one playhead through everything."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import partial

import numpy as np
import pyqtgraph as pg
import qtawesome
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QObject, QRectF, QSettings, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QPainter, QPen
from PySide6.QtWidgets import (
    QGraphicsSceneMouseEvent,
    QHBoxLayout,
    QLabel,
    QMenu,
    QPushButton,
    QStyleOptionGraphicsItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.lanes import Lane
from kestrav.app.session import Session
from kestrav.app.style import FAMILY, MUTED
from kestrav.core.document import edits
from kestrav.core.document.records import Limited, Part, Path, Project, Run
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.on_paths import least_radius
from kestrav.core.motion.judging import bend_radii, tight_spans
from kestrav.core.motion.leaning import lean
from kestrav.core.motion.legs import thing_speeds
from kestrav.core.motion.path_curves import PathCurve, path_curve
from kestrav.core.motion.runs import Journey, frame_times, journey, span
from kestrav.core.units import show
from kestrav.render.palette import CARD, INK, PETROL, RULE, SHOT

Array = NDArray[np.float64]

LABEL_WIDTH, LABEL_HEIGHT = 150, 36  # px; in a lane that is lower, title and value share a line
BAR_HEIGHT = 17


class _Bar(pg.GraphicsObject):  # type: ignore[misc]
    """A run or shot over its span; dragging it moves it in time."""

    def __init__(self, deck: Deck, item_id: str, name: str, start: float, end: float, row: int, colour: str) -> None:
        super().__init__()
        self.deck, self.item_id, self.name = deck, item_id, name
        self.start, self.end, self.row, self.colour = start, end, row, colour
        unit = "mm" if deck.by_distance else "s"
        self.setToolTip(f"{name}: {start:.2f} to {end:.2f} {unit}. Click selects, drag moves it in time")
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self._grabbed: tuple[float, float] | None = None

    def boundingRect(self) -> QRectF:
        return QRectF(self.start, self.row + 0.08, max(self.end - self.start, 1e-6), 0.84)

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        rect = painter.transform().mapRect(self.boundingRect())
        painter.save()
        painter.resetTransform()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        chosen = self.deck.session.selection == self.item_id
        painter.setPen(QPen(QColor(INK), 2) if chosen else Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self.colour))
        painter.drawRoundedRect(rect.adjusted(0.5, 0, -0.5, 0), 3, 3)
        font = QFont(FAMILY)
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor("white"))
        room = rect.adjusted(7, 0, -5, 0)
        text = painter.fontMetrics().elidedText(self.name, Qt.TextElideMode.ElideRight, max(int(room.width()), 0))
        painter.drawText(room, int(Qt.AlignmentFlag.AlignVCenter), text)
        painter.restore()

    def mousePressEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        self._grabbed = (event.pos().x(), self.start)
        self.deck.bar_drags += 1
        self.deck.session.select(self.item_id)
        event.accept()

    def mouseMoveEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        if self._grabbed is not None:
            held, start = self._grabbed
            self.deck.move_bar(self.item_id, start + event.pos().x() - held)

    def mouseReleaseEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        self._grabbed = None
        self.deck.rebuild_bars()


def stacked(spans: list[tuple[float, float]]) -> list[int]:
    """A row for each span, so that no two in a row overlap."""
    ends: list[float] = []
    rows = [0] * len(spans)
    for i in sorted(range(len(spans)), key=lambda k: spans[k][0]):
        start, end = spans[i]
        row = next((r for r, last in enumerate(ends) if last <= start + 1e-9), len(ends))
        ends[row : row + 1] = [end]
        rows[i] = row
    return rows


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
        self._bars: list[_Bar] = []
        self._rows = (1, 2)  # the first row of shots, and rows in all
        self._scrubbing = False
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._transport())
        self.chart = pg.GraphicsLayoutWidget()
        self.chart.setBackground(CARD)
        self.chart.setFrameShape(self.chart.Shape.NoFrame)
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
        self.every = {
            "clearance": self.clearance,
            "distance": self.way,
            "speed": self.speed,
            "acceleration": self.gain,
            "sideways": self.sideways,
            "lean": self.roll,
            "height": self.height,
            "bend": self.bend,
        }
        kept = str(QSettings().value("deck/lanes", "clearance,speed")).split(",")
        self.show_lanes([name for name in kept if name in self.every])
        column.addWidget(self.chart, 1)
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
        row.addWidget(self.readout)
        row.addStretch(1)
        self.axis_buttons = []
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
            ("lean", "Lean"),
            ("height", "Height"),
            ("bend", "Bend radius"),
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
        plot = pg.PlotItem()
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
        """Show these lanes and no others, in their own order; remembered."""
        for plot in self.plots[1:]:
            self.chart.removeItem(plot)
        wanted = [name for name in self.every if name in names]
        self.lanes = [self.every[name] for name in wanted]
        self.plots = [self.bars, *(lane.plot for lane in self.lanes)]
        for row, lane in enumerate(self.lanes, 1):
            self.chart.addItem(lane.plot, row=row, col=0)
        for name, lane in self.every.items():
            lane.label.setVisible(name in wanted)
        QSettings().setValue("deck/lanes", ",".join(wanted))
        for name, action in self.lane_actions.items():
            action.setChecked(name in wanted)
        self.place_labels()
        self.refresh()

    def _toggle_lane(self, name: str, on: bool) -> None:
        shown = [key for key, lane in self.every.items() if lane in self.lanes]
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
        parts = {p.id for p in project.parts}
        runs = [r for r in project.runs if r.rider in parts] or list(project.runs)
        if isinstance(item, Run):
            return journey(project, item)
        if isinstance(item, Path):
            # a path that nothing follows yet has its own distances all the same
            runs = [r for r in project.runs if r.path == item.id]
        elif isinstance(item, Part):
            runs = [r for r in project.runs if r.rider == item.id] or runs
        return journey(project, runs[0]) if runs else None

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
        inside = (times >= trip.start - 1e-9) & (times <= trip.end + 1e-9)
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
        low, high = along[1:] if self.by_distance and along is not None else (0.0, span(project))
        # a little room, so that the first and last tick keep their numbers
        room = 0.02 * (high - low)
        self.plots[0].getViewBox().setXRange(low - room, high + room, padding=0)
        self.rebuild_bars()
        self._fill_speed(project)
        self._fill_motion(project)
        self._fill_shape(along)
        self._fill_clearance()
        self.follow()

    def rebuild_bars(self) -> None:
        """Lay the run and shot bars anew, unless one is being dragged."""
        project = self.session.shown
        wanted: list[tuple[str, str, float, float, int, str]] = []
        along = self.axis_journey() if self.by_distance else None
        if self.by_distance and along is None:
            self._rows = (1, 2)
        elif along is not None:
            wanted = [(along.run.id, along.run.name, along.first, along.last, 0, PETROL)]
            self._rows = (1, 2)
        else:
            trips = [journey(project, run) for run in project.runs]
            run_rows = stacked([(t.start, t.end) for t in trips])
            shot_rows = stacked([(s.start, s.end) for s in project.shots])
            first = max(run_rows, default=0) + 1
            wanted = [(t.run.id, t.run.name, t.start, t.end, r, PETROL) for t, r in zip(trips, run_rows, strict=True)]
            wanted += [
                (s.id, s.name, s.start, s.end, first + r, SHOT) for s, r in zip(project.shots, shot_rows, strict=True)
            ]
            self._rows = (first, first + max(shot_rows, default=0) + 1)
        if any(bar._grabbed is not None for bar in self._bars):
            spans = {w[0]: (w[2], w[3]) for w in wanted}
            for bar in self._bars:
                if bar.item_id in spans:
                    bar.prepareGeometryChange()
                    bar.start, bar.end = spans[bar.item_id]
                    bar.update()
            return
        for bar in self._bars:
            self.bars.removeItem(bar)
        self.bars.getViewBox().setYRange(0, self._rows[1], padding=0)
        self.bars.setFixedHeight(20 + self._rows[1] * (BAR_HEIGHT + 3))
        self._bars = [_Bar(self, *w) for w in wanted]
        for bar in self._bars:
            self.bars.addItem(bar)

    def move_bar(self, item_id: str, start: float) -> None:
        """Move a run or shot to begin at a time, on a frame."""
        if self.by_distance:
            return
        fps = self.session.project.settings.fps
        start = max(round(start * fps) / fps, 0.0)

        def move(project: Project) -> Project:
            for shot in project.shots:
                if shot.id == item_id:
                    return edits.update(project, item_id, start=start, end=start + shot.end - shot.start)
            return edits.update(project, item_id, start=start)

        self.session.edit("Move in time", move, merge=f"bar-{self.bar_drags}")

    def _fill_speed(self, project: Project) -> None:
        times = np.union1d(frame_times(project), np.linspace(0, span(project), 400))
        trip = self.axis_journey()
        parts = {p.id for p in project.parts}
        self.speed.title = "Speed" if trip is None or trip.run.rider in parts else "Camera speed"
        values = np.zeros_like(times) if trip is None else thing_speeds(project, trip.run.rider, times) / 1000.0
        x = self.to_x(times)
        keep = np.isfinite(x)
        self.speed.show(x[keep], values[keep])

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
        times = np.linspace(trip.start, trip.end, 800)
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
        limits = trip.run.pacing if isinstance(trip.run.pacing, Limited) else None
        for lane, limit in (
            (self.gain, limits.forward if limits else 0.0),
            (self.sideways, limits.sideways if limits else 0.0),
        ):
            lane.limit.setVisible(limit > 0)
            lane.limit.setValue(limit / 1000.0)

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
            x = np.linspace(trip.start, trip.end, 600)
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
        lane.curve.setPen(pg.mkPen(PETROL if self.current else "#9fb4b5", width=1.8))
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
            top = int(tops[0].top()) + 20 + (0, self._rows[0])[i] * (BAR_HEIGHT + 3)
            label.setGeometry(12, top, LABEL_WIDTH - 20, BAR_HEIGHT + 3)
        for lane, rect in zip(self.lanes, tops[1:], strict=True):
            height = LABEL_HEIGHT if rect.height() >= LABEL_HEIGHT else LABEL_HEIGHT // 2
            lane.label.setGeometry(12, int(rect.center().y()) - height // 2, LABEL_WIDTH - 13, height)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        kind = event.type()
        if kind == QEvent.Type.Resize:
            self.place_labels()
        elif kind == QEvent.Type.MouseButtonPress and event.button() == Qt.MouseButton.LeftButton:  # type: ignore[attr-defined]
            position = event.position().toPoint()  # type: ignore[attr-defined]
            if not isinstance(self.chart.itemAt(position), _Bar):
                self._scrubbing = True
                return self._scrub(position.x())
        elif kind == QEvent.Type.MouseMove and self._scrubbing:
            return self._scrub(event.position().toPoint().x())  # type: ignore[attr-defined]
        elif kind == QEvent.Type.MouseButtonRelease and self._scrubbing:
            self._scrubbing = False
            return True
        return super().eventFilter(watched, event)

    def _scrub(self, pixel: int) -> bool:
        view = self.plots[0].getViewBox()
        x = view.mapSceneToView(self.chart.mapToScene(pixel, 0)).x()
        fps = self.session.shown.settings.fps
        self.session.set_time(round(self.to_time(x) * fps) / fps)
        return True
