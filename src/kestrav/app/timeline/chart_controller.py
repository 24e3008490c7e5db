"""The mouse in the chart: the playhead, keys, limits and bars taken hold of; zooming, panning and reading."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent, QWheelEvent

from kestrav.app.timeline.bars import Bar
from kestrav.app.timeline.lane_keys import Grip, added, moved
from kestrav.core.units import show

if TYPE_CHECKING:
    from kestrav.app.timeline.timeline import Deck

GRAB_PIXELS = 8


class ChartHand(QObject):
    """Sees what happens in the chart's viewport before the chart does."""

    def __init__(self, deck: Deck) -> None:
        super().__init__(deck)
        self.deck = deck
        self._scrubbing = False
        self._held: tuple[str, object] | None = None  # what is dragged: a key or a limit
        self._panned: float | None = None
        self._key_drags = 0

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        kind = event.type()
        if kind == QEvent.Type.Resize:
            self.deck.place_labels()
        elif kind == QEvent.Type.Leave:
            self.deck.pointer.hide()
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
        scene = self.deck.chart.mapToScene(position)
        if event.button() == Qt.MouseButton.MiddleButton:
            self._panned = self.x_at(position)
            return True
        if event.button() == Qt.MouseButton.RightButton:
            self._menu(position)
            return True
        if event.button() != Qt.MouseButton.LeftButton:
            return False
        grip = self.grip_at(scene)
        if grip is not None:
            self._key_drags += 1
            self._held = ("key", grip)
            self._hold_scales(True)
            self.deck.chosen_key = (grip.lane, grip.of, grip.index)
            self.deck.chart.setFocus()
            self.deck.draw_keys()
            return True
        if self.bar_at(scene) is not None:
            return False
        self.deck.chosen_key = None
        lane = self.limit_at(scene)
        if lane is not None:
            self._key_drags += 1
            self._held = ("limit", lane)
            self._hold_scales(True)
            return True
        self.deck.draw_keys()
        self._scrubbing = True
        return self._scrub(position.x())

    def _move(self, event: QMouseEvent, position: QPoint) -> bool:
        if self._panned is not None:
            by = self._panned - self.x_at(position)
            low, high = self.deck.shown_range()
            self.deck.show_range(low + by, high + by)
            return True
        if self._held is not None:
            self._drag_held(position, bool(event.modifiers() & Qt.KeyboardModifier.AltModifier))
            return True
        if self._scrubbing:
            self.deck.pointer.hide()
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
        for lane in self.deck.lanes:
            lane.held = held
        if not held:
            self.deck.refresh()

    def _drag_held(self, position: QPoint, free: bool) -> None:
        assert self._held is not None
        what, thing = self._held
        merge = f"key-{self._key_drags}"
        if what == "limit":
            lane = str(thing)
            self.deck.curves.set_limit(lane, self.y_at(self.deck.every[lane].plot, position), merge)
            return
        assert isinstance(thing, Grip)
        x = self.x_at(position)
        if not self.deck.by_distance and thing.side == "key":
            x = self.deck.snapped_to(x, (), free)
        y = self.y_at(self.deck.bars if thing.lane == "bars" else self.deck.every[thing.lane].plot, position)
        if (
            self.deck.session.edit("Key", lambda p: moved(self.deck, thing, x, y, p), merge=merge)
            and thing.lane == "heading"
        ):
            # its yaw is turned by steps, so the next one counts from here
            now = next(
                (g for g in self.deck.grips_shown if (g.lane, g.of, g.index) == (thing.lane, thing.of, thing.index)),
                thing,
            )
            self._held = ("key", now)

    def _double_click(self, position: QPoint) -> bool:
        """Put a key where a lane that has keys is pressed twice."""
        scene = self.deck.chart.mapToScene(position)
        for name, lane in self.deck.every.items():
            if lane in self.deck.lanes and lane.plot.sceneBoundingRect().contains(scene):
                return self.add_key(name, self.x_at(position), self.y_at(lane.plot, position))
        return False

    def add_key(self, lane: str, x: float, y: float) -> bool:
        """Put a key into a lane at a place; False where it takes none."""
        before = self.deck.session.project
        self.deck.session.edit("Add key", lambda p: added(self.deck, lane, x, y, p) or p)
        return self.deck.session.project is not before

    def _wheel(self, event: QWheelEvent) -> bool:
        turned, aside = event.angleDelta().y(), event.angleDelta().x()
        low, high = self.deck.shown_range()
        scene = self.deck.chart.mapToScene(event.position().toPoint())
        if scene.x() < self.deck.chart_left() and self.deck.bars.sceneBoundingRect().contains(scene):
            self.deck.first_row += -1 if turned > 0 else 1
            self.deck.show_rows()
            self.deck.place_labels()
            return True
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier or abs(aside) > abs(turned):
            by = -(aside or turned) / 1200.0 * (high - low)
            self.deck.show_range(low + by, high + by)
        elif turned:
            self.deck.zoom(0.87 ** (turned / 120.0), self.x_at(event.position().toPoint()))
        return True

    def x_at(self, position: QPoint) -> float:
        return float(self.deck.bars.getViewBox().mapSceneToView(self.deck.chart.mapToScene(position)).x())

    def y_at(self, plot: pg.PlotItem, position: QPoint) -> float:
        return float(plot.getViewBox().mapSceneToView(self.deck.chart.mapToScene(position)).y())

    def grip_at(self, scene: QPointF) -> Grip | None:
        """The key or handle under a place of the scene."""
        best: tuple[float, Grip] | None = None
        for grip in self.deck.grips_shown:
            lane = self.deck.every.get(grip.lane)
            if not np.isfinite(grip.x) or (grip.lane != "bars" and lane not in self.deck.lanes):
                continue
            plot = self.deck.bars if lane is None else lane.plot
            at = plot.getViewBox().mapViewToScene(QPointF(grip.x, grip.y))
            away = math.hypot(at.x() - scene.x(), at.y() - scene.y())
            if away <= GRAB_PIXELS and (best is None or away < best[0]):
                best = (away, grip)
        return None if best is None else best[1]

    def bar_at(self, scene: QPointF) -> Bar | None:
        """The bar under a place of the scene; the chart's own frame lies over it."""
        if not self.deck.bars.getViewBox().sceneBoundingRect().contains(scene):
            return None
        return next((bar for bar in self.deck.drawn_bars if bar.on_screen().contains(scene)), None)

    def limit_at(self, scene: QPointF) -> str | None:
        """The lane whose limit is under a place of the scene."""
        for name, lane in self.deck.every.items():
            if lane not in self.deck.lanes or not lane.limit.isVisible() or self.deck.curves.limit_of(name) is None:
                continue
            box = lane.plot.getViewBox()
            y = box.mapViewToScene(QPointF(0.0, float(lane.limit.value()))).y()
            if box.sceneBoundingRect().contains(scene) and abs(y - scene.y()) <= 4:
                return name
        return None

    def _read_out(self, position: QPoint) -> None:
        """Say what the curve under the pointer is there."""
        scene = self.deck.chart.mapToScene(position)
        viewport = self.deck.chart.viewport()
        if self.limit_at(scene) is not None:
            viewport.setCursor(Qt.CursorShape.SizeVerCursor)
        elif self.grip_at(scene) is not None:
            viewport.setCursor(Qt.CursorShape.SizeAllCursor)
        else:
            viewport.unsetCursor()
        lane = next(
            (lane for lane in self.deck.lanes if lane.plot.getViewBox().sceneBoundingRect().contains(scene)), None
        )
        if lane is None:
            self.deck.pointer.hide()
            return
        x = self.x_at(position)
        value = lane.value_at(x)
        if value is None or not np.isfinite(value):
            self.deck.pointer.hide()
            return
        where = show(x, "mm", 0) if self.deck.by_distance else show(x, "s", 2)
        text = f"{where} · {show(value, lane.unit, lane.places(value))}"
        limit = lane.limit.value() if lane.limit.isVisible() else None
        if limit is not None:
            text += f" · limit {show(float(limit), lane.unit, lane.places(float(limit)))}"
        self.deck.pointer.setText(text)
        self.deck.pointer.adjustSize()
        left = min(position.x() + 14, self.deck.chart.width() - self.deck.pointer.width() - 4)
        self.deck.pointer.move(left, max(position.y() - self.deck.pointer.height() - 8, 0))
        self.deck.pointer.show()

    def _scrub(self, pixel: int) -> bool:
        view = self.deck.plots[0].getViewBox()
        x = view.mapSceneToView(self.deck.chart.mapToScene(pixel, 0)).x()
        fps = self.deck.session.shown.settings.fps
        self.deck.session.set_time(round(self.deck.to_time(x) * fps) / fps)
        return True

    def _menu(self, position: QPoint) -> None:
        """What can be done with the bar under the pointer, and with what is selected."""
        bar = self.bar_at(self.deck.chart.mapToScene(position))
        if bar is not None:
            self.deck.take_bar(bar.item_id)
            self.deck.let_go()
        self.deck.time_menu.exec(self.deck.chart.viewport().mapToGlobal(position))
