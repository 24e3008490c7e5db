"""The chart below the stage: its axis of time or distance, what of that is shown, and its lanes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, QSettings, Qt, Signal
from PySide6.QtGui import QFont
from PySide6.QtWidgets import (
    QLabel,
    QWidget,
)

from kestrav.app.session import Session
from kestrav.app.timeline.lanes import Grip, Lane, Room
from kestrav.app.timeline.transport import Transport
from kestrav.app.widgets.style import FAMILY
from kestrav.app.widgets.window_colours import CARD, INK, LAMP, PETROL, RULE, SHOT
from kestrav.core.camera.measured_curves import CURVES, CameraCurves
from kestrav.core.clearance.live import LiveClearance
from kestrav.core.document.lookup import ancestors, named_parts, turners
from kestrav.core.document.records import Attachment, Camera, Light, Part, Path, PoseTrack, Run, Turner
from kestrav.core.findings.check import CheckResult
from kestrav.core.kinematics.motion_segments import movers
from kestrav.core.kinematics.runs import RunCourse, course_of, span
from kestrav.core.mechanisms.joints import joints
from kestrav.core.parts.rest import rows
from kestrav.core.paths.path_curves import PathCurve, path_curve
from kestrav.core.units import show

Array = NDArray[np.float64]

LABEL_WIDTH, BAR_HEIGHT = 150, 17  # px
MOST_ROWS = 8  # of bars that are shown at once

# pyqtgraph leaves out moves that come soon after another, and so the last of a drag; the system itself leaves out what is too much
pg.setConfigOption("mouseRateLimit", -1)


class Chart(QWidget):
    """The axis, the lanes and the rows of bars, as those see them who draw and move what is in them."""

    menu_asked = Signal(QPoint)  # on the screen, for the bar there, which is selected

    transport: Transport

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.result: CheckResult | None = None
        self.current = False
        self.live: LiveClearance | None = None
        self.by_distance = False
        self.bar_drags = 0
        self.first_row, self.row_height = 0, BAR_HEIGHT + 3
        self.grouped = QSettings().value("timeline/grouped") == "true"  # bars lie by what they move
        self.group_names: dict[int, str] = {}  # by the first row of each
        self.marked: tuple[str, ...] = ()  # bars taken together
        self.snapping = str(QSettings().value("timeline/snap", "true")) == "true"
        self.chosen_key: tuple[str, str, int] | None = None  # lane, item and number of the chosen key
        self._range: tuple[float, float] | None = None  # what is shown, when not all
        self._steady: tuple[float, float] | None = None  # what is shown while a bar is dragged
        self.grips_shown: list[Grip] = []
        self.drawn_bars: list[Any] = []  # each a Bar, which knows this chart
        self._rows = (1, 2)  # the first row of shots, and rows in all
        self.chart = pg.GraphicsLayoutWidget()
        self.chart.setBackground(CARD)
        self.chart.setFrameShape(self.chart.Shape.NoFrame)
        self.chart.setOptimizationFlag(self.chart.OptimizationFlag.DontSavePainterState)
        self.chart.setOptimizationFlag(self.chart.OptimizationFlag.DontAdjustForAntialiasing)
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
        self.clearance = Lane(self._plot, self._label(), "Clearance", "mm", PETROL)
        self.speed = Lane(self._plot, self._label(), "Speed", "m/s", INK)
        self.height_lane = Lane(self._plot, self._label(), "Height", "mm", INK)
        self.bend = Lane(self._plot, self._label(), "Bend radius", "mm", PETROL)
        self.distance = Lane(self._plot, self._label(), "Distance", "mm", PETROL)
        self.gain = Lane(self._plot, self._label(), "Acceleration", "m/s²", INK)
        self.sideways = Lane(self._plot, self._label(), "Lateral", "m/s²", INK)
        self.roll = Lane(self._plot, self._label(), "Bank", "°", PETROL)
        self.orientation = Lane(self._plot, self._label(), "Orientation", "°", INK)
        self.strength = Lane(self._plot, self._label(), "Light", "cd", LAMP)
        self.wheel = Lane(self._plot, self._label(), "Wheel", "turns", INK)
        self.rolled = Lane(self._plot, self._label(), "Distance rolled", "mm", PETROL)
        self.slip = Lane(self._plot, self._label(), "Slip", "mm", INK)
        self.rate = Lane(self._plot, self._label(), "Rate", "rpm", PETROL)
        self.gap = Lane(self._plot, self._label(), "Ground gap", "mm", INK)
        self.mesh = Lane(self._plot, self._label(), "Mesh error", "tooth", INK)
        self.every = {
            "clearance": self.clearance,
            "distance": self.distance,
            "speed": self.speed,
            "acceleration": self.gain,
            "sideways": self.sideways,
            "orientation": self.orientation,
            "bank": self.roll,
            "height": self.height_lane,
            "bend": self.bend,
            "strength": self.strength,
            "wheel": self.wheel,
            "rolled": self.rolled,
            "slip": self.slip,
            "rate": self.rate,
            "gap": self.gap,
            "mesh": self.mesh,
        }
        # what is measured of the lens's camera
        for name, (title, unit) in CURVES.items():
            self.every[name] = Lane(self._plot, self._label(), title, unit, SHOT)
        self.camera_curves: CameraCurves | None = None
        self.camera_current = False  # whether they are of the document shown
        self.pointer = QLabel(self.chart)
        self.pointer.setObjectName("pointer")
        self.pointer.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.pointer.hide()

    # what those who show all of it do

    def refresh(self) -> None:
        """Follow an edit."""
        raise NotImplementedError

    def follow(self) -> None:
        """Follow the playhead."""
        raise NotImplementedError

    def show_lanes(self, names: Sequence[str]) -> None:
        """Show these lanes and no others."""
        raise NotImplementedError

    def place_labels(self) -> None:
        """Put the names beside their lanes."""
        raise NotImplementedError

    def draw_keys(self) -> None:
        """Draw the keys of the lanes."""
        raise NotImplementedError

    def bars_height(self) -> int:
        """How high the bars are with their axis, in px."""
        raise NotImplementedError

    def show_rows(self) -> None:
        """Show as many rows of bars as there is room for."""
        raise NotImplementedError

    def take_bar(self, item_id: str) -> None:
        """Select what a bar stands for."""
        raise NotImplementedError

    def let_go(self) -> None:
        """A bar is not held any more."""
        raise NotImplementedError

    def mark(self, item_id: str) -> None:
        """Take a bar to those marked, or from them."""
        raise NotImplementedError

    def drag_bar(self, item_id: str, grip: str, time: float, *, free: bool = False) -> None:
        """Bring a bar, or an end of it, to a time."""
        raise NotImplementedError

    def snapped_to(self, time: float, leaving: Sequence[str], *, free: bool) -> float:
        """A time on a frame, or where something else begins or ends."""
        raise NotImplementedError

    # lanes

    def _plot(self, axis: str | None = None) -> pg.PlotItem:
        plot = pg.PlotItem(axisItems={"left": Room("left")}, enableMenu=False)
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

    def _label(self, text: str = "") -> QLabel:
        label = QLabel(text, self.labels)
        label.setTextFormat(Qt.TextFormat.RichText)
        return label

    def _tick(self, value: float, spacing: float) -> str:
        places = 0 if spacing >= 1 else 1 if spacing >= 0.1 else 2
        return show(value, "mm" if self.by_distance else "s", places)

    def shown_lanes(self) -> list[str]:
        """The names of the lanes shown."""
        return [next(name for name, known in self.every.items() if known is lane) for lane in self.lanes]

    def hide_lane(self, name: str) -> None:
        """Show all lanes but one."""
        self.show_lanes([other for other in self.shown_lanes() if other != name])

    def shows_camera(self) -> bool:
        """Whether a lane of the lens's camera is shown."""
        return any(self.every[name] in self.lanes for name in CURVES)

    # the axis

    def axis_journey(self) -> RunCourse | None:
        """The run that the distance axis follows: the selected one, or the first of a part."""
        project, item = self.session.shown, self.session.item
        parts = rows(project)
        runs = [r for r in project.runs if r.rider in parts] or list(project.runs)
        if isinstance(item, Run):
            return self._if_it_begins(course_of(project, item))
        if isinstance(item, (PoseTrack, Attachment)):
            runs = [r for r in project.runs if r.rider == item.rider] or runs
        if isinstance(item, Path):
            # a path that nothing follows yet has its own distances all the same
            runs = [r for r in project.runs if r.path == item.id]
        elif isinstance(item, Turner):
            part = named_parts(item)[0]
            carriers = {part, *ancestors(project, part)}
            runs = [r for r in project.runs if r.rider in carriers] or runs
        elif isinstance(item, (Part, Light, Camera)):
            runs = [r for r in project.runs if r.rider == item.id] or runs
        return self._if_it_begins(course_of(project, runs[0])) if runs else None

    def _if_it_begins(self, course: RunCourse) -> RunCourse | None:
        """A run that begins at some time."""
        return course if np.isfinite(course.start) else None

    def axis_path_id(self) -> str | None:
        course, path = self.axis_journey(), self.session.path
        return course.run.path if course is not None else path.id if path is not None else None

    def lane_thing(self) -> str | None:
        """The thing whose speed and heading the chart shows: what is selected, if it moves, or the rider of its run."""
        item, course = self.session.item, self.axis_journey()
        thing = item.rider if isinstance(item, (Run, PoseTrack, Attachment)) else item.id if item is not None else None
        if thing is not None and thing in movers(self.session.shown):
            return thing
        return course.run.rider if course is not None else None

    def lane_turning(self) -> Turner | None:
        """The wheel, castor or rotation that the chart is about: the selected one or that of the selected part, or the first."""
        item, every = self.session.item, joints(self.session.shown)
        if isinstance(item, Turner):
            return item
        if item is not None and item.id in every:
            return every[item.id][-1].item
        project = self.session.shown
        return next(iter((*project.wheels, *project.rotations, *turners(project))), None)

    def lane_light(self) -> Light | None:
        """The light that the chart is about: the selected one, or the first."""
        lights, item = self.session.shown.lights, self.session.item
        if isinstance(item, Light):
            return item
        return lights[0] if lights else None

    def _axis_path(self) -> tuple[PathCurve, float, float] | None:
        """The path that the chart is about, and the first and last station of it that it shows."""
        course, path = self.axis_journey(), self.session.path
        if course is not None:
            return course.path, course.first, course.last
        if path is None:
            return None
        curve = path_curve(path)
        return curve, 0.0, curve.length

    def to_x(self, times: Array) -> Array:
        """Times as places on the axis; outside its run the distance axis has none (nan)."""
        times = np.asarray(times, float)
        if not self.by_distance:
            return times
        course = self.axis_journey()
        if course is None:
            return np.full(times.shape, np.nan)
        inside = (times >= course.start - 1e-9) & (times <= course.shown_end + 1e-9)
        return np.where(inside, course.stations(times), np.nan)

    def to_time(self, x: float) -> float:
        """A place on the axis as a time."""
        if not self.by_distance:
            return x
        course = self.axis_journey()
        return self.session.time if course is None else float(course.times_at([x])[0])

    # what is shown of it

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

    def row_of(self, item_id: str) -> int:
        """The row of a bar."""
        return next((bar.row for bar in self.drawn_bars if bar.item_id == item_id), 0)

    def shows_row(self, row: int) -> bool:
        """Whether a row of bars is among those shown."""
        return self.first_row <= row < self.first_row + MOST_ROWS
