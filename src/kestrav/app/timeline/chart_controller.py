"""The mouse in the chart: the playhead, keys, limits and bars taken hold of; zooming, panning and reading."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent, QWheelEvent

from kestrav.app.timeline.bars import Bar
from kestrav.app.timeline.chart import Chart
from kestrav.app.timeline.lane_curves import Curves
from kestrav.app.timeline.lane_keys import added, moved
from kestrav.app.timeline.lane_layout import LaneLayout
from kestrav.app.timeline.lanes import Grip
from kestrav.core.units import show

GRAB_PIXELS = 8


class ChartController(QObject):
    """Sees what happens in the chart's viewport before the chart does."""

    def __init__(self, timeline: Chart, curves: Curves, layout: LaneLayout) -> None:
        super().__init__(timeline)
        self.timeline, self.curves, self.layout_ = timeline, curves, layout
        self._scrubbing = False
        self._held: tuple[str, object] | None = None  # what is dragged: a key or a limit
        self._panned: float | None = None
        self._key_drags = 0

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        kind = event.type()
        if kind == QEvent.Type.Resize:
            self.timeline.place_labels()
        elif kind == QEvent.Type.Leave:
            self.timeline.pointer.hide()
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
        scene = self.timeline.chart.mapToScene(position)
        if event.button() == Qt.MouseButton.MiddleButton:
            self._panned = self.x_at(position)
            return True
        if event.button() == Qt.MouseButton.RightButton:
            self._menu(position)
            return True
        if event.button() != Qt.MouseButton.LeftButton:
            return False
        if self.layout_.press(scene):
            return True
        grip = self.grip_at(scene)
        if grip is not None:
            self._key_drags += 1
            self._held = ("key", grip)
            self._hold_scales(True)
            self.timeline.chosen_key = (grip.lane, grip.of, grip.index)
            self.timeline.chart.setFocus()
            self.timeline.draw_keys()
            return True
        if self.bar_at(scene) is not None:
            return False
        self.timeline.chosen_key = None
        lane = self.limit_at(scene)
        if lane is not None:
            self._key_drags += 1
            self._held = ("limit", lane)
            self._hold_scales(True)
            return True
        self.timeline.draw_keys()
        self._scrubbing = True
        return self._scrub(position.x())

    def _move(self, event: QMouseEvent, position: QPoint) -> bool:
        if self._panned is not None:
            by = self._panned - self.x_at(position)
            low, high = self.timeline.shown_range()
            self.timeline.show_range(low + by, high + by)
            return True
        if self._held is not None:
            self._drag_held(position, free=bool(event.modifiers() & Qt.KeyboardModifier.AltModifier))
            return True
        if self.layout_.drag(self.timeline.chart.mapToScene(position)):
            return True
        if self._scrubbing:
            self.timeline.pointer.hide()
            return self._scrub(position.x())
        if not event.buttons():
            self._read_out(position)
        return False

    def _release(self) -> bool:
        if self.layout_.release():
            return True
        done = self._scrubbing or self._held is not None or self._panned is not None
        dragged, self._held = self._held is not None, None
        self._scrubbing, self._panned = False, None
        if dragged:
            self._hold_scales(False)
        return done

    def _hold_scales(self, held: bool) -> None:
        """Keep the lanes' scales while something in them is dragged, so that it stays under the pointer."""
        for lane in self.timeline.lanes:
            lane.held = held
        if not held:
            self.timeline.refresh()

    def _drag_held(self, position: QPoint, *, free: bool) -> None:
        assert self._held is not None
        what, thing = self._held
        merge = f"key-{self._key_drags}"
        if what == "limit":
            lane = str(thing)
            self.curves.set_limit(lane, self.y_at(self.timeline.every[lane].plot, position), merge)
            return
        assert isinstance(thing, Grip)
        x = self.x_at(position)
        if not self.timeline.by_distance and thing.side == "key":
            x = self.timeline.snapped_to(x, (), free=free)
        y = self.y_at(self.timeline.bars if thing.lane == "bars" else self.timeline.every[thing.lane].plot, position)
        if (
            self.timeline.session.edit("Key", lambda p: moved(self.timeline, thing, x, y, p), merge=merge)
            and thing.lane == "orientation"
        ):
            # its yaw is turned by steps, so the next one counts from here
            now = next(
                (
                    g
                    for g in self.timeline.grips_shown
                    if (g.lane, g.of, g.index) == (thing.lane, thing.of, thing.index)
                ),
                thing,
            )
            self._held = ("key", now)

    def _double_click(self, position: QPoint) -> bool:
        """Put a key where a lane that has keys is pressed twice."""
        scene = self.timeline.chart.mapToScene(position)
        if self.layout_.double_click(scene):
            return True
        for name, lane in self.timeline.every.items():
            if lane in self.timeline.lanes and lane.plot.sceneBoundingRect().contains(scene):
                return self.add_key(name, self.x_at(position), self.y_at(lane.plot, position))
        return False

    def add_key(self, lane: str, x: float, y: float) -> bool:
        """Put a key into a lane at a place; False where it takes none."""
        before = self.timeline.session.project
        self.timeline.session.edit("Add key", lambda p: added(self.timeline, lane, x, y, p) or p)
        return self.timeline.session.project is not before

    def _wheel(self, event: QWheelEvent) -> bool:
        turned, aside = event.angleDelta().y(), event.angleDelta().x()
        low, high = self.timeline.shown_range()
        scene = self.timeline.chart.mapToScene(event.position().toPoint())
        if scene.x() < self.timeline.chart_left() and self.timeline.bars.sceneBoundingRect().contains(scene):
            self.timeline.first_row += -1 if turned > 0 else 1
            self.timeline.show_rows()
            self.timeline.place_labels()
            return True
        if scene.x() < self.timeline.chart_left():
            return False  # over the names the lanes are scrolled
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier or abs(aside) > abs(turned):
            by = -(aside or turned) / 1200.0 * (high - low)
            self.timeline.show_range(low + by, high + by)
        elif turned:
            self.timeline.zoom(0.87 ** (turned / 120.0), self.x_at(event.position().toPoint()))
        return True

    def x_at(self, position: QPoint) -> float:
        return float(self.timeline.bars.getViewBox().mapSceneToView(self.timeline.chart.mapToScene(position)).x())

    def y_at(self, plot: pg.PlotItem, position: QPoint) -> float:
        return float(plot.getViewBox().mapSceneToView(self.timeline.chart.mapToScene(position)).y())

    def grip_at(self, scene: QPointF) -> Grip | None:
        """The key or handle under a place of the scene."""
        best: tuple[float, Grip] | None = None
        for grip in self.timeline.grips_shown:
            lane = self.timeline.every.get(grip.lane)
            if not np.isfinite(grip.x) or (grip.lane != "bars" and lane not in self.timeline.lanes):
                continue
            plot = self.timeline.bars if lane is None else lane.plot
            at = plot.getViewBox().mapViewToScene(QPointF(grip.x, grip.y))
            away = math.hypot(at.x() - scene.x(), at.y() - scene.y())
            if away <= GRAB_PIXELS and (best is None or away < best[0]):
                best = (away, grip)
        return None if best is None else best[1]

    def bar_at(self, scene: QPointF) -> Bar | None:
        """The bar under a place of the scene; the chart's own frame lies over it."""
        if not self.timeline.bars.getViewBox().sceneBoundingRect().contains(scene):
            return None
        return next((bar for bar in self.timeline.drawn_bars if bar.on_screen().contains(scene)), None)

    def limit_at(self, scene: QPointF) -> str | None:
        """The lane whose limit is under a place of the scene."""
        for name, lane in self.timeline.every.items():
            if lane not in self.timeline.lanes or not lane.limit.isVisible() or self.curves.limit_of(name) is None:
                continue
            box = lane.plot.getViewBox()
            y = box.mapViewToScene(QPointF(0.0, float(lane.limit.value()))).y()
            if box.sceneBoundingRect().contains(scene) and abs(y - scene.y()) <= 4:
                return name
        return None

    def _read_out(self, position: QPoint) -> None:
        """Say what the curve under the pointer is there."""
        scene = self.timeline.chart.mapToScene(position)
        viewport = self.timeline.chart.viewport()
        if self.limit_at(scene) is not None or self.layout_.on_edge(scene):
            viewport.setCursor(Qt.CursorShape.SizeVerCursor)
        elif self.layout_.lane_at(scene) is not None:
            viewport.setCursor(Qt.CursorShape.OpenHandCursor)
        elif self.grip_at(scene) is not None:
            viewport.setCursor(Qt.CursorShape.SizeAllCursor)
        else:
            viewport.unsetCursor()
        lane = next(
            (lane for lane in self.timeline.lanes if lane.plot.getViewBox().sceneBoundingRect().contains(scene)), None
        )
        if lane is None:
            self.timeline.pointer.hide()
            return
        x = self.x_at(position)
        value = lane.value_at(x)
        if value is None or not np.isfinite(value):
            self.timeline.pointer.hide()
            return
        where = show(x, "mm", 0) if self.timeline.by_distance else show(x, "s", 2)
        text = f"{where} · {show(value, lane.unit, lane.places(value))}"
        limit = lane.limit.value() if lane.limit.isVisible() else None
        if limit is not None:
            text += f" · limit {show(float(limit), lane.unit, lane.places(float(limit)))}"
        self.timeline.pointer.setText(text)
        self.timeline.pointer.adjustSize()
        left = min(position.x() + 14, self.timeline.chart.width() - self.timeline.pointer.width() - 4)
        self.timeline.pointer.move(left, max(position.y() - self.timeline.pointer.height() - 8, 0))
        self.timeline.pointer.show()

    def _scrub(self, pixel: int) -> bool:
        view = self.timeline.plots[0].getViewBox()
        x = view.mapSceneToView(self.timeline.chart.mapToScene(pixel, 0)).x()
        fps = self.timeline.session.shown.settings.fps
        self.timeline.session.set_time(round(self.timeline.to_time(x) * fps) / fps)
        return True

    def _menu(self, position: QPoint) -> None:
        """What can be done with the bar under the pointer, and with what is selected."""
        scene = self.timeline.chart.mapToScene(position)
        if self.layout_.show_menu(scene, self.timeline.chart.viewport().mapToGlobal(position)):
            return
        bar = self.bar_at(scene)
        if bar is not None:
            self.timeline.take_bar(bar.item_id)
            self.timeline.let_go()
            self.timeline.menu_asked.emit(self.timeline.chart.viewport().mapToGlobal(position))
            return
        self.timeline.transport.time_menu.exec(self.timeline.chart.viewport().mapToGlobal(position))
