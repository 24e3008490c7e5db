"""The timeline: a strip chart of runs, shots and measured curves, with one playhead through everything."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QSettings, Qt, Signal
from PySide6.QtWidgets import (
    QLabel,
    QMenu,
    QScrollArea,
    QVBoxLayout,
)

from kestrav.app.session import Session
from kestrav.app.timeline.bars import Bar, in_rows, stacked
from kestrav.app.timeline.chart import BAR_HEIGHT, LABEL_WIDTH, MOST_ROWS, Chart
from kestrav.app.timeline.chart_controller import ChartController
from kestrav.app.timeline.lane_curves import Curves
from kestrav.app.timeline.lane_keys import grips, moved, removed
from kestrav.app.timeline.lane_layout import LaneLayout
from kestrav.app.timeline.lanes import Grip
from kestrav.app.timeline.transport import Transport
from kestrav.app.widgets.window_colours import CARRIED, INK, MUTED, PETROL, POSED, SHOT, SPUN, STRAW
from kestrav.core.camera.measured_curves import CameraCurves
from kestrav.core.clearance.live import LiveClearance
from kestrav.core.document.lookup import ancestors, find, get
from kestrav.core.document.records import Attachment, PoseTrack, Project, Run
from kestrav.core.editing.timing import moved as moved_in_time, set_span, snap_times, snapped, span_of
from kestrav.core.findings.check import CheckResult
from kestrav.core.kinematics.motion_segments import movers, segment_of
from kestrav.core.kinematics.runs import begins
from kestrav.core.parts.rest import rows
from kestrav.core.units import show

Array = NDArray[np.float64]

LABEL_HEIGHT = 36  # px; in a lane that is lower, title and value share a line
FEW_ROWS = 4  # of bars, up to which they are spaced
SNAP_PIXELS = 8


class Timeline(Chart):
    """Transport row and chart."""

    play_toggled = Signal()
    lanes_changed = Signal()
    step_asked = Signal(str)  # the first step that an empty chart offers

    def __init__(self, session: Session, times: QMenu) -> None:
        """``times`` is the menu of what can be done with what lasts some time."""
        super().__init__(session)
        self.setObjectName("timeline")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.layout_ = LaneLayout(self)
        transport = self.transport = Transport(session, times, snapping=self.snapping, grouped=self.grouped)
        transport.play_toggled.connect(self.play_toggled)
        transport.zoomed.connect(self.zoom)
        transport.all_asked.connect(self.show_all)
        transport.snapping_set.connect(self._set_snapping)
        transport.grouping_set.connect(self._set_grouped)
        transport.even_asked.connect(lambda: self.layout_.reset())
        transport.lane_toggled.connect(self._toggle_lane)
        transport.axis_asked.connect(self.set_axis)
        transport.key_typed.connect(self._type_key)
        column.addWidget(transport)
        self.curves = Curves(self)
        self.hand = ChartController(self, self.curves, self.layout_)
        self.chart.viewport().installEventFilter(self.hand)
        self.flags = pg.ScatterPlotItem(
            symbol="t",
            size=12,
            pen=pg.mkPen(INK),
            hoverable=True,
            tip=lambda x, y, data: getattr(find(self.session.shown, data), "text", ""),
        )
        self.flags.setZValue(25)
        self.flags.sigClicked.connect(self._on_flags)
        self.bars.addItem(self.flags)
        self.bars.getAxis("top").setHeight(20)
        # its ticks and grid change far less often than what lies before them
        self.bars.getAxis("top").setCacheMode(pg.QtWidgets.QGraphicsItem.CacheMode.DeviceCoordinateCache)
        self.bars.getViewBox().invertY(True)
        self.bar_labels = [self._label("Runs"), self._label("Shots")]
        self.chart.viewport().setMouseTracking(True)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.area.setWidget(self.chart)
        column.addWidget(self.area, 1)
        self.empty = QLabel(self.area)
        self.empty.setObjectName("emptychart")
        self.empty.setWordWrap(True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.empty.linkActivated.connect(self.step_asked)
        self.empty.hide()
        self.show_lanes(session.project.settings.lanes)
        session.opened.connect(self._on_opened)
        session.edited.connect(self.refresh)
        session.moved.connect(self.follow)
        session.selected.connect(self.refresh)

    # making

    def show_lanes(self, names: Sequence[str]) -> None:
        """Show these lanes and no others, in their own order; saved with the project."""
        for plot in self.plots[1:]:
            self.chart.removeItem(plot)
        wanted = [name for name in dict.fromkeys(names) if name in self.every]
        self.lanes = [self.every[name] for name in wanted]
        self.plots = [self.bars, *(lane.plot for lane in self.lanes)]
        for row, lane in enumerate(self.lanes, 1):
            self.chart.addItem(lane.plot, row=row, col=0)
        for name, lane in self.every.items():
            lane.label.setVisible(name in wanted)
        for name, choice in self.transport.lane_actions.items():
            choice.setChecked(name in wanted)
        self.layout_.apply()
        self.place_labels()
        self.refresh()
        self.lanes_changed.emit()

    def _toggle_lane(self, name: str, on: bool) -> None:
        shown = self.shown_lanes()
        if on != (name in shown):
            if not on:
                self.hide_lane(name)
                return
            # where it would stand among those that were never moved
            order = list(self.every)
            before = [key for key in shown if order.index(key) < order.index(name)]
            place = shown.index(before[-1]) + 1 if before else 0
            self.show_lanes([*shown[:place], name, *shown[place:]])

    # the axis

    def set_axis(self, by_distance: bool) -> None:
        """Chart over distance or time."""
        if by_distance != self.by_distance:
            self._range = None
        self.by_distance = by_distance
        self.refresh()

    # following

    def show_result(self, result: CheckResult | None, current: bool) -> None:
        """Take a check's result; ``current`` says whether it is of the document shown."""
        if result is not None:
            self.result = result
        self.current = current
        self.live = None
        self.curves.clearance()
        self.follow()

    def show_camera(self, curves: CameraCurves | None) -> None:
        """Take what is measured of the lens's camera; none where it is measured anew."""
        self.camera_current = curves is not None
        if curves is not None:
            self.camera_curves = curves
        self.curves.camera()
        self.follow()

    def show_live(self, live: LiveClearance) -> None:
        """Show the clearance at the playhead and along what an edit has changed, until all is checked."""
        self.live = live
        self.curves.clearance()
        self.follow()

    def refresh(self) -> None:
        """Follow an edit: everything that needs no check at once."""
        project = self.session.shown
        along = self._axis_path()
        if self.by_distance and along is None:
            self.by_distance = False
        for button, on in zip(self.transport.axis_buttons, (not self.by_distance, self.by_distance), strict=True):
            button.setChecked(on)
        low, high = self.shown_range()
        self.plots[0].getViewBox().setXRange(low, high, padding=0)
        self.rebuild_bars()
        self.curves.speed(project)
        self.curves.motion(project)
        self.curves.shape(along)
        self.curves.heading(project)
        self.curves.strength()
        self.curves.wheels(project)
        self.curves.clearance()
        self.curves.camera()
        self.draw_keys()
        self.follow()
        self._show_empty()

    def rebuild_bars(self) -> None:
        """Let the bars follow the document; those that stay are told what they are now."""
        project = self.session.shown
        wanted: list[tuple[Any, ...]] = []
        along = self.axis_journey() if self.by_distance else None
        if self.by_distance and along is None:
            self._rows = (1, 2)
        elif along is not None:
            wanted = [(along.run.id, along.run.name, along.first, along.last, 0, PETROL)]
            self._rows = (1, 2)
        else:
            items: tuple[Run | PoseTrack | Attachment, ...] = (
                *project.runs,
                *project.pose_tracks,
                *project.attachments,
            )
            moving = [segment_of(project, item) for item in items]
            moving = [segment for segment in moving if np.isfinite(segment.start)]
            rotations = [rotation for rotation in project.rotations if np.isfinite(begins(project, rotation))]
            spans = [span_of(project, item) for item in (*(segment.item for segment in moving), *rotations)]
            riders = [*(segment.item.rider for segment in moving), *(rotation.part for rotation in rotations)]
            run_rows = self._run_rows(riders, spans)
            shot_rows = stacked([(s.start, s.end) for s in project.shots])
            first = max(run_rows, default=0) + 1
            for segment, (start, end), row in zip(moving, spans, run_rows, strict=False):
                item = segment.item
                colour = PETROL if isinstance(item, Run) else POSED if isinstance(item, PoseTrack) else CARRIED
                marks = tuple(start + k.time for k in item.keys) if isinstance(item, PoseTrack) else ()
                wanted.append((item.id, item.name, start, end, row, colour, marks, not np.isfinite(segment.end)))
            for rotation, (start, end), row in zip(
                rotations, spans[len(moving) :], run_rows[len(moving) :], strict=True
            ):
                wanted.append((rotation.id, rotation.name, start, end, row, SPUN, (), rotation.end is None))
            wanted += [
                (s.id, s.name, s.start, s.end, first + r, SHOT) for s, r in zip(project.shots, shot_rows, strict=True)
            ]
            self._rows = (first, first + max(shot_rows, default=0) + 1)
        self._show_comments()
        self.show_rows()
        if [bar.item_id for bar in self.drawn_bars] == [w[0] for w in wanted]:
            for bar, w in zip(self.drawn_bars, wanted, strict=True):
                bar.tell(*w[1:])
            return
        for bar in self.drawn_bars:
            self.bars.removeItem(bar)
        self.drawn_bars = [Bar(self, *w) for w in wanted]
        for bar in self.drawn_bars:
            self.bars.addItem(bar)

    def _show_comments(self) -> None:
        """Flags at the moments of which something was said."""
        spots = [] if self.by_distance else self.session.shown.comments
        self.flags.setData(
            [c.time for c in spots],
            [0.06] * len(spots),
            data=[c.id for c in spots],
            brush=[pg.mkBrush(MUTED if c.done else STRAW) for c in spots],
        )

    def _on_flags(self, _: object, points: Sequence[Any]) -> None:
        self.session.select(points[0].data())

    def _run_rows(self, riders: list[str], spans: list[tuple[float, float]]) -> list[int]:
        """The rows of the runs' bars: as few as they need, or those of each mover below each other, with its name."""
        self.group_names = {}
        if not self.grouped:
            return in_rows(riders, spans)
        project = self.session.shown
        moving = movers(project)
        owners = [
            next((above for above in ancestors(project, r) if above in moving), r) if r in rows(project) else r
            for r in riders
        ]
        row_of = [0] * len(riders)
        first = 0
        for owner in dict.fromkeys(owners):
            mine = [i for i, one in enumerate(owners) if one == owner]
            inner = in_rows([riders[i] for i in mine], [spans[i] for i in mine])
            for i, row in zip(mine, inner, strict=True):
                row_of[i] = first + row
            record = find(project, owner)
            self.group_names[first] = record.name if record is not None else ""
            first += max(inner) + 1
        return row_of

    def _set_grouped(self, on: bool) -> None:
        self.grouped = on
        QSettings().setValue("timeline/grouped", "true" if on else "false")
        self.first_row = 0
        self.refresh()
        self.place_labels()

    def _show_empty(self) -> None:
        """Say what goes into the chart, and offer the first step, where nothing moves yet."""
        project = self.session.shown
        nothing = not (project.runs or project.pose_tracks or project.attachments or project.rotations or project.shots)
        self.empty.setVisible(nothing)
        if not nothing:
            return
        link = f'<a style="color:{PETROL}" href="{{}}">{{}}</a>'
        if not project.parts:
            steps = f"{link.format('add', 'Add a product')}, or {link.format('plan', 'begin from a plan')}."
        else:
            steps = (
                f"Select a part and {link.format('draw', 'draw its path')}, set a {link.format('pose', 'key pose')} "
                f"(P), or {link.format('orbit', 'let a camera orbit it')}."
            )
        self.empty.setText(f"Runs, shots and measured curves show here over time. Nothing moves yet. {steps}")
        self.empty.setFixedWidth(min(self.area.width() - LABEL_WIDTH - 40, 520))
        self.empty.adjustSize()
        self.empty.move(LABEL_WIDTH + 30, 34)
        self.empty.raise_()

    def bars_height(self) -> int:
        """How high the bars are with their axis, in px."""
        return 20 + min(self._rows[1], MOST_ROWS) * self.row_height

    def show_rows(self) -> None:
        """Show as many rows of bars as there is room for; the wheel over their names goes through the rest."""
        rows = min(self._rows[1], MOST_ROWS)
        self.first_row = min(max(self.first_row, 0), self._rows[1] - rows)
        self.row_height = BAR_HEIGHT + 3 if rows <= FEW_ROWS else BAR_HEIGHT
        self.bars.getViewBox().setYRange(self.first_row, self.first_row + rows, padding=0)
        self.bars.setFixedHeight(self.bars_height())
        self.layout_.apply()

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
        drawn = {bar.item_id for bar in self.drawn_bars}
        marked = self.marked or ((chosen,) if chosen is not None and chosen in drawn else ())
        self.marked = tuple(m for m in marked if m != item_id) if item_id in marked else (*marked, item_id)
        for bar in self.drawn_bars:
            bar.update()

    def drag_bar(self, item_id: str, grip: str, time: float, *, free: bool = False) -> None:
        """Bring a bar, or an end of it, to a time."""
        if self.by_distance:
            return
        merge = f"bar-{self.bar_drags}"
        if grip == "all":
            self.move_bar(item_id, time, free=free)
            return
        time = self.snapped_to(time, (item_id,), free=free)
        self.session.edit("Stretch", lambda p: set_span(p, item_id, **{grip: time}), merge=merge)

    def move_bar(self, item_id: str, start: float, *, free: bool = False) -> None:
        """Move a run, key poses, an attachment or a shot, and what is marked with it, to begin at a time."""
        if self.by_distance:
            return
        ids = self.marked if item_id in self.marked else (item_id,)
        first, last = span_of(self.session.project, get(self.session.project, item_id))  # type: ignore[arg-type]
        start = max(start, 0.0)
        target = self.snapped_to(start, ids, free=free)
        # its end catches what another one does where its start does not
        begun, ended = (None if free else self._caught(t, ids) for t in (start, start + last - first))
        if begun is None and ended is not None and ended >= last - first:
            target = ended - (last - first)

        def move(project: Project) -> Project:
            now = span_of(project, get(project, item_id))[0]  # type: ignore[arg-type]
            return moved_in_time(project, ids, target - now)

        self.session.edit("Move in time", move, merge=f"bar-{self.bar_drags}")

    def snapped_to(self, time: float, leaving: Sequence[str], *, free: bool) -> float:
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
        QSettings().setValue("timeline/snap", "true" if on else "false")

    # what is shown of the axis

    def _on_opened(self) -> None:
        self._range, self.marked, self.chosen_key = None, (), None
        self.result = self.live = None
        self.current = False
        self.show_lanes(self.session.project.settings.lanes)

    def follow(self) -> None:
        """Follow the playhead."""
        time, project = self.session.time, self.session.shown
        x = float(self.to_x(np.array([time]))[0])
        for line in self.playheads:
            line.setVisible(math.isfinite(x))
            if np.isfinite(x):
                line.setValue(x)
        course = self.axis_journey()
        where = ""
        if course is not None and not self.transport.key_at.isVisible():
            station = float(course.stations([time])[0])
            where = f"&nbsp;&nbsp; {course.run.name} at {show(station, 'mm', 0)} of {show(course.path.length, 'mm', 0)}"
        self.transport.readout.setText(
            f"<b>{time:.2f}\u2009s</b>&nbsp;&nbsp; frame {self.session.frame} · {project.settings.fps:g} fps{where}"
        )
        for lane in self.lanes:
            value = lane.value_at(x) if np.isfinite(x) else None
            if value is None:
                text = "–"
            elif not np.isfinite(value):
                text = "straight" if lane is self.bend else "–"
            else:
                text = show(value, lane.unit, lane.places(value))
            high = lane.plot.sceneBoundingRect().height() >= LABEL_HEIGHT
            if lane is self.clearance:
                text = self._clearance_text(text, whole=high)
            parting = "<br>" if high else " "
            lane.label.setText(f"<b>{lane.title}</b>{parting}<span style='color:{MUTED}'>{text}</span>")
        self.place_labels()

    def _clearance_text(self, value: str, *, whole: bool) -> str:
        if self.result is None:
            return "checking …"
        known = self.current or self.live is not None
        if not whole:
            return value if known else f"{value} · lags"
        required = self.session.shown.settings.required_clearance
        return f"{value} · needs {show(required, 'mm', 1 if required % 1 else 0)}" + ("" if known else " · lags")

    # keys

    def draw_keys(self) -> None:
        self.grips_shown = grips(self)
        for name, lane in self.every.items():
            if lane in self.lanes:
                lane.keys.show([g for g in self.grips_shown if g.lane == name], self.chosen_key)
        self._show_key_fields()

    def _chosen_grip(self) -> Grip | None:
        keys = [g for g in self.grips_shown if g.side == "key"]
        return next((g for g in keys if (g.lane, g.of, g.index) == self.chosen_key), None)

    def _show_key_fields(self) -> None:
        grip = self._chosen_grip()
        for field in (self.transport.key_at, self.transport.key_value):
            field.setVisible(grip is not None and grip.lane != "bars")
        if grip is None or grip.lane == "bars":
            return
        lane = self.every[grip.lane]
        self.transport.key_at.unit = "mm" if self.by_distance else "s"
        self.transport.key_value.unit = lane.unit
        self.transport.key_at.set_value(grip.x)
        self.transport.key_value.set_value(grip.y)

    def _type_key(self) -> None:
        grip = self._chosen_grip()
        if grip is not None:
            x, y = self.transport.key_at.value, self.transport.key_value.value
            self.session.edit("Key", lambda p: moved(self, grip, x, y, p))

    def delete_key(self) -> bool:
        """Take the chosen key away; False when none is chosen."""
        grip = self._chosen_grip()
        if grip is None:
            return False
        self.chosen_key = None
        left: list[bool] = []

        def remove(project: Project) -> Project:
            after = removed(grip, project)
            left.append(after is None)
            return project if after is None else after

        self.session.edit("Delete key", remove)
        if left and left[-1]:
            self.session.refused.emit("the first and the last key cannot be deleted; the run needs them")
        return True

    # layout

    def place_labels(self) -> None:
        """Put the labels beside their lanes."""
        if not self.every or len(self.plots) != len(self.lanes) + 1:
            return  # still being made
        self.labels.setGeometry(0, 0, LABEL_WIDTH - 4, self.chart.height())
        tops = [plot.sceneBoundingRect() for plot in self.plots]
        names = {0: "Runs"} if not self.group_names else self.group_names
        named = [*names.items(), (self._rows[0], "Shots")]
        while len(self.bar_labels) < len(named):
            self.bar_labels.append(self._label())
            self.bar_labels[-1].show()
        for label in self.bar_labels[len(named) :]:
            label.hide()
        for label, (at, name) in zip(self.bar_labels, named, strict=False):
            row = at - self.first_row
            label.setText(label.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, LABEL_WIDTH - 24))
            label.setGeometry(12, int(tops[0].top()) + 20 + row * self.row_height, LABEL_WIDTH - 20, self.row_height)
            label.setVisible(0 <= row < MOST_ROWS)
        for lane, rect in zip(self.lanes, tops[1:], strict=True):
            height = LABEL_HEIGHT if rect.height() >= LABEL_HEIGHT else LABEL_HEIGHT // 2
            lane.label.setGeometry(12, int(rect.center().y()) - height // 2, LABEL_WIDTH - 13, height)
