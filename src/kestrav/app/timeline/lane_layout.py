"""How the lanes lie in the chart: in which order, how high, folded or not; by the mouse on their names, by keys of a menu, and kept."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtCore import QPoint, QPointF, QSettings
from PySide6.QtWidgets import QMenu

from kestrav.app.timeline.chart import Chart
from kestrav.app.timeline.lanes import Lane

LOWEST, FOLDED, HIGHEST = 25, 19, 400  # px of a lane
_FREE = 16_777_215  # px: what Qt takes for no limit
_EDGE = 4  # px beside a lane's lower edge that take hold of it
_STEP = 24  # px by which the menu makes a lane higher or lower


class LaneLayout:
    """Moves, sizes and folds the lanes of a timeline."""

    def __init__(self, timeline: Chart) -> None:
        self.timeline = timeline
        self._held: tuple[str, str, float] | None = None  # what is dragged (“edge” or “name”), the lane, where from

    # heights

    def height(self, name: str) -> int | None:
        """The height in px that a lane was given; none where it shares what is left."""
        kept: Any = QSettings().value(f"lanes/height/{name}")
        return None if kept is None else int(kept)

    def is_folded(self, name: str) -> bool:
        """Whether a lane shows its name and value only."""
        return QSettings().value(f"lanes/folded/{name}") == "true"

    def apply(self) -> None:
        """Give the lanes their heights, and the chart as much as they need at least."""
        needed = 6.0 + self.timeline.bars_height()
        for name, lane in self._shown():
            height = FOLDED if self.is_folded(name) else self.height(name)
            lane.plot.setMinimumHeight(height or LOWEST)
            lane.plot.setMaximumHeight(height or _FREE)
            lane.plot.getViewBox().setVisible(not self.is_folded(name))
            needed += 3 + (height or LOWEST)
        self.timeline.chart.setMinimumHeight(int(needed))

    def set_height(self, name: str, height: float) -> None:
        """Give a lane a height, and keep it."""
        QSettings().setValue(f"lanes/height/{name}", int(min(max(height, LOWEST), HIGHEST)))
        self.apply()

    def fold(self, name: str) -> None:
        """Fold a lane, or unfold it."""
        QSettings().setValue(f"lanes/folded/{name}", "false" if self.is_folded(name) else "true")
        self.apply()

    def reset(self) -> None:
        """Let all lanes share the height evenly."""
        QSettings().remove("lanes")
        self.apply()

    # order

    def move(self, name: str, to: int) -> None:
        """Put a lane in a place among those shown."""
        names = self.timeline.shown_lanes()
        if name in names:
            names.remove(name)
            names.insert(min(max(to, 0), len(names)), name)
            self.timeline.show_lanes(names)

    # the mouse on the names at the left

    def _shown(self) -> list[tuple[str, Lane]]:
        return [(name, self.timeline.every[name]) for name in self.timeline.shown_lanes()]

    def lane_at(self, scene: QPointF) -> str | None:
        """The lane whose name is under a place of the scene."""
        if scene.x() >= self.timeline.chart_left():
            return None
        for name, lane in self._shown():
            rect = lane.plot.sceneBoundingRect()
            if rect.top() <= scene.y() <= rect.bottom() + _EDGE:
                return name
        return None

    def on_edge(self, scene: QPointF) -> bool:
        """Whether a place is at the lower edge of a lane, to be dragged."""
        name = self.lane_at(scene)
        return (
            name is not None and abs(self.timeline.every[name].plot.sceneBoundingRect().bottom() - scene.y()) <= _EDGE
        )

    def press(self, scene: QPointF) -> bool:
        """Take hold of a lane's edge or name; False where there is none."""
        name = self.lane_at(scene)
        if name is None:
            return False
        self._held = ("edge" if self.on_edge(scene) else "name", name, scene.y())
        return True

    def drag(self, scene: QPointF) -> bool:
        """Size the lane whose edge is held, or put that whose name is held where the pointer is."""
        if self._held is None:
            return False
        what, name, _ = self._held
        if what == "edge":
            if not self.is_folded(name):
                self.set_height(name, scene.y() - self.timeline.every[name].plot.sceneBoundingRect().top())
            return True
        middles = [lane.plot.sceneBoundingRect().center().y() for other, lane in self._shown() if other != name]
        place = sum(middle < scene.y() for middle in middles)
        if place != self.timeline.shown_lanes().index(name):
            self.move(name, place)
        return True

    def release(self) -> bool:
        """Let go; tells whether something was held."""
        held, self._held = self._held is not None, None
        return held

    def double_click(self, scene: QPointF) -> bool:
        """Fold or unfold the lane whose name is pressed twice."""
        name = self.lane_at(scene)
        if name is not None:
            self.fold(name)
        return name is not None

    def show_menu(self, scene: QPointF, at: QPoint) -> bool:
        """What can be done with a lane by its name; False beside the names."""
        name = self.lane_at(scene)
        if name is None:
            return False
        menu = QMenu(self.timeline)
        place = self.timeline.shown_lanes().index(name)
        height = self.timeline.every[name].plot.sceneBoundingRect().height()
        actions: list[tuple[str, Callable[[], object]]] = [
            ("Unfold" if self.is_folded(name) else "Fold", partial(self.fold, name)),
            ("Move up", partial(self.move, name, place - 1)),
            ("Move down", partial(self.move, name, place + 1)),
            ("Taller", partial(self.set_height, name, height + _STEP)),
            ("Lower", partial(self.set_height, name, height - _STEP)),
            ("Same height for all", self.reset),
            ("Hide", partial(self.timeline.hide_lane, name)),
        ]
        for text, act in actions:
            menu.addAction(text).triggered.connect(lambda _=False, act=act: act())
        menu.exec(at)
        return True
