"""Smooth edges while the view rests: the mean of pictures that are each moved by a part of a pixel."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QTimer
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkUnsignedCharArray
from vtkmodules.vtkRenderingCore import vtkRenderWindow

from kestrav.app.stage.panes import alone, drawn_in, unseen
from kestrav.render.picture import FlatPicture, grab

# places in a pixel, from its middle, by which the pictures are moved: the first Halton points of bases 2 and 3 (J. Halton, "On the efficiency
# of certain quasi-random sequences of points", Numerische Mathematik 2, 1960), the first shifted to the middle
_HALVES = np.array([1 / 2, 1 / 4, 3 / 4, 1 / 8, 5 / 8, 3 / 8, 7 / 8, 1 / 16])
_THIRDS = np.array([1 / 3, 2 / 3, 1 / 9, 4 / 9, 7 / 9, 2 / 9, 5 / 9, 8 / 9])
OFFSETS = np.stack([_HALVES, (_THIRDS + 1 / 6) % 1.0], axis=1) - 0.5
_REST = 350  # ms without another drawing after which they are begun


class SmoothEdges(QObject):
    """Adds up pictures of a window as long as nothing changes, one each time that nothing else is to be done, and shows their mean.

    ``lively`` is called around each of them, with whether what is shown as kept pictures is to be drawn anew for it.
    """

    def __init__(self, window: vtkRenderWindow, lively: Callable[[bool], None]) -> None:
        super().__init__()
        self.window, self._lively = window, lively
        self._mean = FlatPicture()
        self.renderer = self._mean.renderer
        self._rest = QTimer(self, singleShot=True, interval=_REST)
        self._rest.timeout.connect(self._begin)
        self._next = QTimer(self, singleShot=True, interval=0)
        self._next.timeout.connect(self._add)
        self._sum: NDArray[np.uint16] | None = None
        self._count = 0
        self._pixels = vtkUnsignedCharArray()

    @property
    def shown(self) -> bool:
        """Whether the mean is on the screen."""
        return bool(self.renderer.GetDraw())

    @property
    def busy(self) -> bool:
        """Whether pictures are being added up, or will be."""
        return self._rest.isActive() or self._next.isActive()

    def forget(self) -> None:
        """Something else is drawn: begin anew when that rests."""
        self.stop()
        self._rest.start()

    def stop(self) -> None:
        """Do nothing until it is begun anew."""
        self._rest.stop()
        self._next.stop()
        self._mean.show(False)

    def _begin(self) -> None:
        self._sum, self._count = None, 0
        self._next.start()

    def _add(self) -> None:
        """One more picture, moved by a part of a pixel; the last shows their mean."""
        right, up = OFFSETS[self._count]
        self._lively(True)
        drawn = drawn_in(self.window)
        try:
            for renderer in drawn:
                width, height = renderer.GetSize()
                renderer.GetActiveCamera().SetWindowCenter(2.0 * right / max(width, 1), 2.0 * up / max(height, 1))
            with unseen(self.window):
                self.window.Render()
        finally:
            for renderer in drawn:
                renderer.GetActiveCamera().SetWindowCenter(0.0, 0.0)
            self._lively(False)
        picture = grab(self.window, self._pixels)
        if self._sum is None or self._sum.shape != picture.shape:
            self._sum = np.zeros(picture.shape, np.uint16)
        self._sum += picture
        self._count += 1
        if self._count < len(OFFSETS):
            self._next.start()
        else:
            self._show((self._sum + len(OFFSETS) // 2) // len(OFFSETS))

    def _show(self, mean: NDArray[np.uint16]) -> None:
        height, width, _ = mean.shape
        flat = np.ascontiguousarray(mean[::-1].astype(np.uint8)).reshape(-1, 3)
        self._mean.put(numpy_to_vtk(flat, deep=True), width, height)
        self._mean.show(True)
        with alone(self.window, self.renderer):
            self.window.Render()
