"""The curves of the timeline: one lane each, with its limit and breaches."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property
from typing import Literal

import msgspec
import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QBrush, QColor
from PySide6.QtWidgets import QLabel

from kestrav.app.timeline.drawn_curve import DrawnCurve
from kestrav.app.widgets.window_colours import CARD, INK, STRAW, VERMILION
from kestrav.core.files.charts import Charted

Array = NDArray[np.float64]


class Grip(msgspec.Struct, frozen=True):
    """A key, or a handle of one, that can be moved in a lane; ``of`` is the item that has it."""

    lane: str
    of: str
    index: int
    x: float
    y: float
    side: Literal["key", "handle"] = "key"


class Room(pg.AxisItem):  # type: ignore[misc]
    """The room for a lane's label: an axis that draws nothing."""

    def paint(self, *_: object) -> None:
        pass


class Lane:
    """One curve with its limit. Its plot is made when it is first shown: most lanes never are, and all would be half of a window's making."""

    def __init__(self, make: Callable[[], pg.PlotItem], label: QLabel, title: str, unit: str, colour: str) -> None:
        self._make, self.label, self.title, self.unit = make, label, title, unit
        self.curve = DrawnCurve(colour)
        # a limit is drawn below its curve, breaches below both
        self.breaches: list[pg.LinearRegionItem] = []
        self.held = False  # its scale stays as it is
        self._top: tuple[float, float] = (0.0, 1.0)
        self._scaled: tuple[float, float] | None = None  # as its plot is
        self.x: Array = np.empty(0)
        self.y: Array = np.empty(0)

    @cached_property
    def plot(self) -> pg.PlotItem:
        """Where it is drawn."""
        plot = self._make()
        plot.addItem(self.limit)
        plot.addItem(self.curve)
        return plot

    @cached_property
    def limit(self) -> pg.InfiniteLine:
        """Its limit, shown where it has one."""
        limit = pg.InfiniteLine(angle=0, pen=pg.mkPen(VERMILION, width=1.2, style=Qt.PenStyle.DashLine))
        limit.setVisible(False)
        return limit

    @cached_property
    def keys(self) -> KeyMarks:
        """The keys on it."""
        return KeyMarks(self.plot)

    def charted(self) -> Charted:
        """What it shows, to be drawn elsewhere."""
        limit = float(self.limit.value()) if self.limit.isVisible() else None
        spans = [tuple(float(v) for v in region.getRegion()) for region in self.breaches]
        low, span = self._top
        return Charted(self.title, self.unit, self.x, self.y, limit, spans, low + span)  # type: ignore[arg-type]

    def show(self, x: Array, y: Array, top: float | None = None, low: float = 0.0) -> None:
        """Show a curve, from zero or a lowest value up."""
        self.x, self.y = x, y
        highest = top if top is not None else float(np.nanmax(y, initial=low)) if len(y) else low
        span = highest - low
        span = span if np.isfinite(span) and span > 0 else 1.0
        if self.held:
            low, span = self._top
        else:
            self._top = (low, span)
        # what is far above the limit runs along the top, as on a strip chart
        self.curve.set_data(x, np.minimum(y, low + 1.04 * span))
        if self.held or self._scaled == (low, span):
            return
        self._scaled = (low, span)
        self.plot.setYRange(low - 0.06 * span, low + 1.12 * span, padding=0)

    def shade(self, spans: list[tuple[float, float]]) -> None:
        """Shade breaches over these spans of x."""
        for region in self.breaches:
            self.plot.removeItem(region)
        self.breaches = []
        for first, last in spans:
            region = pg.LinearRegionItem(
                (first, last), movable=False, brush=QBrush(QColor(214, 69, 43, 46)), pen=pg.mkPen(None)
            )
            region.setZValue(-10)
            self.plot.addItem(region)
            self.breaches.append(region)

    def places(self, value: float) -> int:
        """With how many places a value is told."""
        if self.unit in ("cd", "lx"):
            return 0
        if self.unit in ("%", "°/s"):
            return 1
        return 2 if self.unit != "mm" else 0 if abs(value) >= 100 else 1

    def value_at(self, x: float) -> float | None:
        """The curve at a place."""
        if not len(self.x) or not self.x[0] - 1e-9 <= x <= self.x[-1] + 1e-9:
            return None
        value = float(np.interp(x, self.x, self.y))
        return None if np.isnan(value) else value


class KeyMarks:
    """The keys of a lane: diamonds on its curve, the chosen one filled with straw, and its handle."""

    def __init__(self, plot: pg.PlotItem) -> None:
        self.keys = pg.ScatterPlotItem(symbol="d", size=11, pen=pg.mkPen(INK, width=1), brush=pg.mkBrush(CARD))
        self.handle = pg.PlotDataItem(pen=pg.mkPen(INK, width=1), symbol="o", symbolSize=7, symbolBrush=STRAW)
        for item in (self.handle, self.keys):
            item.setZValue(15)
            # what shows nothing takes as long to draw as what does
            item.setVisible(False)
            plot.addItem(item)

    def show(self, grips: Sequence[Grip], chosen: tuple[str, str, int] | None) -> None:
        """Show these keys."""
        keys = [g for g in grips if g.side == "key" and np.isfinite(g.x)]
        brushes = [pg.mkBrush(STRAW if (g.lane, g.of, g.index) == chosen else CARD) for g in keys]
        self.keys.setData([g.x for g in keys], [g.y for g in keys], brush=brushes)
        self.keys.setVisible(bool(keys))
        handle = next((g for g in grips if g.side == "handle"), None)
        mine = None if handle is None else next(g for g in keys if g.index == handle.index)
        self.handle.setVisible(mine is not None)
        if handle is None or mine is None:
            self.handle.setData([], [])
        else:
            self.handle.setData([mine.x, handle.x], [mine.y, handle.y])
