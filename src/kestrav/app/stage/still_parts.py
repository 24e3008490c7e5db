"""While it plays, what does not move is drawn once, with its depths, and put below what does move for the frames after it."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkActor, vtkRenderer, vtkRenderWindow
from vtkmodules.vtkRenderingOpenGL2 import vtkOpenGLFramebufferObject

from kestrav.app.stage.panes import alone, unseen
from kestrav.render.batches import Batch
from kestrav.render.scene import Scene

Array = NDArray[np.float64]

# of OpenGL: the framebuffers that are read, drawn to, and both; colours and depths; pixel for pixel
_READ, _DRAW, _BOTH, _ALL, _NEAREST = 0x8CA8, 0x8CA9, 0x8D40, 0x4100, 0x2600
_COLOURS, _DEPTH_BITS = 3, 32  # VTK's unsigned char, and the bits of its own depths
_RESTS = 2  # frames that a body must have rested to count as still
_LIT_ANEW = 12  # frames after which what stands is drawn anew where a lamp moves
_FEWEST = 0.2  # share of the triangles that must be still for it to be worth it


class StillParts:
    """Draws a stage's parts in two goes: those that stand, kept from frame to frame, and the others."""

    def __init__(self, window: vtkRenderWindow, scene: Scene) -> None:
        self.window: Any = window  # its stubs do not know the window's framebuffers
        self.scene = scene
        self._kept: vtkOpenGLFramebufferObject | None = None
        self._size = (0, 0)
        self._of: Hashable = None
        self._places: dict[
            int, tuple[Array, int]
        ] = {}  # of each batch: where it is, and for how many frames it has been
        self._age = 0
        self._dark = False  # lamps have changed since

    def forget(self) -> None:
        """Keep nothing."""
        self._of, self._places = None, {}

    @contextmanager
    def below(
        self, view: vtkRenderer, of: Hashable, marks: Sequence[vtkActor], *, lamps_changed: bool
    ) -> Iterator[None]:
        """While drawing, put what stands below, as far as that is worth it; ``of`` is all that its picture depends on besides. ``marks`` stand
        too as long as what they show does."""
        still = self._standing()
        whole = sum(batch.triangles for batch in self.scene.batches)
        if sum(batch.triangles for batch in still) < _FEWEST * whole:
            self._of = None
            yield
            return
        size = tuple(self.window.GetSize())
        drawn = [mark for mark in marks if mark.GetVisibility()]
        key = (of, size, tuple(id(batch) for batch in still), tuple(_shown_since(mark) for mark in drawn))
        self._age += 1
        self._dark = self._dark or lamps_changed
        if key != self._of or (self._dark and self._age >= _LIT_ANEW):
            self._draw_still(view, {*drawn, *(actor for batch in still for actor in batch.actors)})
            self._of, self._age, self._dark = key, 0, False
        shown = [*drawn, *(a for batch in still for a in (batch.stage, batch.edges) if a.GetVisibility())]
        for actor in shown:
            actor.SetVisibility(False)
        kept = view.GetPreserveColorBuffer(), view.GetPreserveDepthBuffer()
        view.SetPreserveColorBuffer(True)
        view.SetPreserveDepthBuffer(True)
        tag = view.AddObserver("StartEvent", lambda *_: self._put_back())  # type: ignore[arg-type]
        try:
            yield
        finally:
            view.RemoveObserver(tag)
            view.SetPreserveColorBuffer(kept[0])
            view.SetPreserveDepthBuffer(kept[1])
            for actor in shown:
                actor.SetVisibility(True)

    def _standing(self) -> list[Batch]:
        """The batches that have not moved for some frames; what shows something through is drawn after all others, and is not among them."""
        batches = []
        for batch in self.scene.batches:
            place = self.scene.matrix_of(batch)
            before, rested = self._places.get(id(batch), (None, 0))
            rested = rested + 1 if before is not None and np.array_equal(before, place) else 0
            self._places[id(batch)] = place, rested
            if rested >= _RESTS and batch.opaque and not batch.kind.apart and not batch.kind.faded:
                batches.append(batch)
        return batches

    def _draw_still(self, view: vtkRenderer, mine: set[vtkActor]) -> None:
        """Draw what stands alone, and keep colours and depths."""
        props: Any = view.GetViewProps()
        hidden = [prop for prop in props if prop not in mine and prop.GetVisibility()]
        for prop in hidden:
            prop.SetVisibility(False)
        try:
            with alone(self.window, view), unseen(self.window):
                self.window.Render()
        finally:
            for prop in hidden:
                prop.SetVisibility(True)
        width, height = self.window.GetSize()
        if self._kept is None or self._size != (width, height):
            self._kept, self._size = vtkOpenGLFramebufferObject(), (width, height)
            self._kept.SetContext(self.window)
            stencil = bool(self.window.GetStencilCapable())
            self._kept.PopulateFramebuffer(width, height, True, 1, _COLOURS, True, _DEPTH_BITS, 0, stencil)
        self._copy(self.window.GetRenderFramebuffer(), self._kept)

    def _put_back(self) -> None:
        assert self._kept is not None
        self._copy(self._kept, self.window.GetRenderFramebuffer())

    def _copy(self, source: Any, target: Any) -> None:
        width, height = self._size
        source.Bind(_READ)
        source.ActivateReadBuffer(0)
        target.Bind(_DRAW)
        target.ActivateDrawBuffer(0)
        target.Blit((0, width, 0, height), (0, width, 0, height), _ALL, _NEAREST)
        drawn = self.window.GetRenderFramebuffer()
        drawn.Bind(_BOTH)
        drawn.ActivateDrawBuffer(0)
        drawn.ActivateReadBuffer(0)


def _shown_since(mark: vtkActor) -> tuple[int, int]:
    """By what a mark is known to show something else: itself, and when its data last changed."""
    return id(mark), mark.GetMapper().GetInputDataObject(0, 0).GetMTime()
