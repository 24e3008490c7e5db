"""The drawing of products so large that a picture takes long: coarse at once, and whole in steps as soon as nothing moves."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from typing import Any

import msgspec
from PySide6.QtCore import QObject, QTimer
from vtkmodules.vtkRenderingCore import vtkRenderer, vtkRenderWindow

from kestrav.app.stage.panes import alone, drawn_in, unseen
from kestrav.render.batches import Batch
from kestrav.render.scene import Scene

# triangles from which a picture takes long, drawn by the processor or not
_LARGE_IN_SOFTWARE, _LARGE = 400_000, 10_000_000
_STEP = 500_000  # triangles of a step
_MAKING = 4  # times as long as drawing a batch takes what is drawn of it to be made and drawn first
_REST = 200  # ms without another drawing after which it is drawn whole


class GradualDrawing(QObject):
    """Draws a window. ``whole`` is called as a picture that was coarse at first is whole.

    The steps are drawn behind the coarse picture, which stays on the screen until they are through, and are given up when another drawing
    is asked for meanwhile.
    """

    def __init__(self, window: vtkRenderWindow, scene: Scene, whole: Callable[[], None]) -> None:
        super().__init__()
        self.window, self.scene, self._whole = window, scene, whole
        self._rest = QTimer(self, singleShot=True, interval=_REST)
        self._rest.timeout.connect(self.fill)
        self._next = QTimer(self, singleShot=True, interval=0)
        self._next.timeout.connect(self._step)
        self._steps: list[_Step] = []
        self._spent = self.took = 0.0  # s for the last picture that was whole

    @property
    def pending(self) -> bool:
        """Whether the picture on the screen is not whole yet."""
        return self._rest.isActive() or self._next.isActive()

    def stop(self) -> None:
        """Give up what is not drawn yet."""
        self._rest.stop()
        self._next.stop()
        self._steps = []

    def draw(self, software: bool) -> bool:
        """Draw; tells whether the picture is whole, or will be so later."""
        self.stop()
        large = self.scene.triangles > (_LARGE_IN_SOFTWARE if software else _LARGE)
        self.scene.set_coarse(large)
        began = time.perf_counter()
        self.window.Render()
        if large:
            self._rest.start()
        else:
            self.took = time.perf_counter() - began
        return not large

    def fill(self) -> None:
        """Draw whole what is coarse, in steps."""
        self.stop()
        self._steps = self._planned()
        self._spent = 0.0
        self._next.start()

    def _planned(self) -> list[_Step]:
        """The steps of the picture as it is now, from what lies below to what lies above."""
        parts, steps = _in_steps(self.scene.batches), list[_Step]()
        for renderer in sorted(drawn_in(self.window), key=lambda r: r.GetLayer()):
            begun = False
            if renderer in self.scene.renderers:
                for batches in parts:
                    steps.append(_Step(renderer, batches, begun))
                    begun = True
            steps.append(_Step(renderer, None, begun))
        return steps

    def _step(self) -> None:
        began = time.perf_counter()
        step = self._steps.pop(0)
        for batch in self.scene.batches if step.batches is None else step.batches:
            batch.set_coarse(False)
        self._draw(step)
        self._spent += time.perf_counter() - began
        if self._steps:
            self._next.start()
            return
        self.took = self._spent
        self._whole()

    def _draw(self, step: _Step) -> None:
        """Draw a step over those before it; nothing of them shows until the last."""
        renderer = step.renderer
        if step.batches is not None:
            now = {actor for batch in step.batches for actor in batch.actors}
            others: Any = renderer.GetViewProps()  # its stubs do not know that it can be gone through
            hidden = [p for p in others if p not in now and p.GetVisibility()]
        else:
            done = (b.actors for b in self.scene.batches if step.over and _in_step(b))
            hidden = [a for actors in done for a in actors if a.GetVisibility()]
        kept = renderer.GetPreserveColorBuffer()
        for prop in hidden:
            prop.SetVisibility(False)
        renderer.SetPreserveColorBuffer(kept or step.over)
        renderer.SetPreserveDepthBuffer(step.over)
        try:
            with alone(self.window, renderer), unseen(self.window, on=bool(self._steps)):
                self.window.Render()
        finally:
            renderer.SetPreserveColorBuffer(kept)
            renderer.SetPreserveDepthBuffer(False)
            for prop in hidden:
                prop.SetVisibility(True)


class _Step(msgspec.Struct, frozen=True):
    """What is drawn at once: some of a renderer's parts, or (none) all else of it; whether that is ``over`` what has been drawn of it."""

    renderer: vtkRenderer
    batches: list[Batch] | None
    over: bool


def _in_step(batch: Batch) -> bool:
    """Whether a batch can be drawn before others: what lets through or fades is drawn after all that does not."""
    return batch.opaque and not batch.kind.apart


def _in_steps(batches: Sequence[Batch]) -> list[list[Batch]]:
    """Batches as groups that are drawn in one step."""
    steps: list[list[Batch]] = []
    room = 0
    for batch in filter(_in_step, batches):
        weight = batch.triangles if batch.made else _MAKING * batch.triangles
        if weight > room:
            steps.append([])
            room = _STEP
        steps[-1].append(batch)
        room -= weight
    return steps
