"""The set-up's light in hand: its soft boxes around the product, turned, sized and dimmed by dragging."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeyEvent

from kestrav.app.stage.stage import Stage
from kestrav.app.stage.stage_tool import StageTool
from kestrav.core.document import edits
from kestrav.core.document.light_setup import HARDEST, SOFTEST, STOPS
from kestrav.core.document.records import LightSetup, Project
from kestrav.core.light.setups import SoftBox, soft_boxes
from kestrav.core.memo import Memo
from kestrav.core.parts.placing import bounds_of
from kestrav.render.marks import flat
from kestrav.render.palette import SHOT, STRAW
from kestrav.render.shapes import put_data, segments

Array = NDArray[np.float64]

_AWAY = 1.25  # of the size of all, that the boxes are drawn from its middle
_TURNS = 0.4  # degrees by which a pixel turns
_SIZES, _DIMS = 200.0, 60.0  # pixels that double the size, and that are a stop
_LEAST_DRAWN = 1.5  # degrees of half a box, below which it could not be seen


_bounds: Memo[Array] = Memo(2)


def _bounds_of_all(project: Project) -> Array:
    """Bounds (2, 3) of all there is; a metre about the origin where nothing is."""
    tops = [part.id for part in project.parts if part.parent is None]
    return bounds_of(project, tops) if tops else np.array([np.full(3, -500.0), np.full(3, 500.0)])


class LightTool(StageTool):
    """Drag to turn, with Shift to size, with Ctrl to dim; keys do the same in steps."""

    quiet = True
    hint = (
        "drag: turn the light · Shift-drag: softness · Ctrl-drag: level · [ ] turn, ↑ ↓ soften, + − level · Esc leaves"
    )

    def __init__(self, stage: Stage, leave: Callable[[], None]) -> None:
        super().__init__(stage)
        self._leave = leave
        self._from: tuple[QPoint, LightSetup] | None = None
        self._drags = 0
        self._key = flat(segments(np.zeros((1, 2, 3))), STRAW, 3.0)
        self._others = flat(segments(np.zeros((1, 2, 3))), SHOT, 2.0)

    def begin(self) -> None:
        """Taken up: the card shows the light's numbers."""
        self.session.select(None)
        for actor in (self._key, self._others):
            self.stage.marks.over.AddActor(actor)
        self.stage.schedule()

    def end(self) -> None:
        """Laid down."""
        for actor in (self._key, self._others):
            self.stage.marks.over.RemoveActor(actor)
        self.stage.schedule()

    @property
    def _light(self) -> LightSetup:
        return self.session.project.light_setup

    def drawn(self, pixel: float) -> None:
        """The boxes around the product, with lines to its middle."""
        boxes = soft_boxes(self._light)
        low, high = _bounds.get((self.session.project.parts,), lambda: _bounds_of_all(self.session.project))
        middle, size = 0.5 * (low + high), max(0.5 * float(np.linalg.norm(high - low)), 1.0)
        put_data(self._key, segments(outline(boxes[0], middle, _AWAY * size)))
        rest = [outline(box, middle, _AWAY * size) for box in boxes[1:]]
        self._others.SetVisibility(bool(rest))
        if rest:
            put_data(self._others, segments(np.concatenate(rest)))

    def press(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Take hold."""
        self._from = (position, self._light)
        self._drags += 1

    def drag(self, position: QPoint, keys: Qt.KeyboardModifier) -> bool:
        """Turn, size or dim by how far it was dragged."""
        if self._from is None:
            return False
        start, light = self._from
        aside, up = position.x() - start.x(), start.y() - position.y()
        if keys & Qt.KeyboardModifier.ShiftModifier:
            self._change(light, softness=light.softness * 2.0 ** (up / _SIZES))
        elif keys & Qt.KeyboardModifier.ControlModifier:
            self._change(light, level=light.level + up / _DIMS)
        else:
            self._change(light, turn=light.turn + _TURNS * aside)
        return True

    def drop(self) -> None:
        """Let go."""
        self._from = None

    def key(self, event: QKeyEvent) -> bool:
        """[ and ] turn by 5°, up and down soften by a tenth, + and − are half a stop; Esc leaves."""
        light = self._light
        key = event.key()
        self._drags += 1
        if key == Qt.Key.Key_Escape:
            self._leave()
        elif key in (Qt.Key.Key_BracketLeft, Qt.Key.Key_BracketRight):
            self._change(light, turn=light.turn + (5.0 if key == Qt.Key.Key_BracketRight else -5.0))
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._change(light, softness=light.softness * (1.1 if key == Qt.Key.Key_Up else 1.0 / 1.1))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self._change(light, level=light.level + (-0.5 if key == Qt.Key.Key_Minus else 0.5))
        else:
            return False
        return True

    def _change(
        self, light: LightSetup, turn: float | None = None, softness: float = 0.0, level: float | None = None
    ) -> None:
        fields: dict[str, float] = {}
        if turn is not None:
            fields["turn"] = round((turn + 180.0) % 360.0 - 180.0, 1)
        if softness:
            fields["softness"] = round(float(np.clip(softness, HARDEST, SOFTEST)), 3)
        if level is not None:
            fields["level"] = round(float(np.clip(level, -STOPS, STOPS)), 2)
        self.session.edit("Light", lambda p: edits.light(p, **fields), merge=f"light-{self._drags}")


def outline(box: SoftBox, middle: Array, away: float) -> Array:
    """Lines (n, 2, 3) of a soft box's rim as it is seen from the middle (3,) at a distance in mm, and one from there towards it."""
    ahead = box.direction
    across = np.cross([0.0, 0.0, 1.0], ahead)
    across = np.array([1.0, 0.0, 0.0]) if np.linalg.norm(across) < 1e-6 else across / np.linalg.norm(across)
    above = np.cross(ahead, across)
    wide, high = (away * np.tan(np.radians(np.clip(side, _LEAST_DRAWN, 60.0))) for side in (box.width, box.height))
    centre = middle + away * ahead
    corners = [centre + u * wide * across + v * high * above for u, v in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
    rim = [[corners[k], corners[(k + 1) % 4]] for k in range(4)]
    return np.array([*rim, [corners[0], corners[2]], [corners[1], corners[3]], [middle + 0.35 * away * ahead, centre]])
