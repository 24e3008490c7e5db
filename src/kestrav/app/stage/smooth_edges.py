"""Smooth edges while the view rests: the mean of pictures that are each moved by a part of a pixel."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QTimer
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkUnsignedCharArray
from vtkmodules.vtkCommonDataModel import vtkImageData
from vtkmodules.vtkRenderingCore import vtkActor2D, vtkImageMapper, vtkRenderer, vtkRenderWindow

from kestrav.render.picture import grab

PICTURES = 8
_REST = 350  # ms without another drawing after which they are begun


def offsets(count: int) -> NDArray[np.float64]:
    """Places (n, 2) spread evenly over a pixel, −0.5 to 0.5, the first in its middle (J. Halton, "On the efficiency of certain quasi-random
    sequences of points", Numerische Mathematik 2, 1960)."""

    def radical_inverse(number: int, base: int) -> float:
        found, share = 0.0, 1.0 / base
        while number:
            number, digit = divmod(number, base)
            found += digit * share
            share /= base
        return found

    made = np.array([[radical_inverse(k, 2), radical_inverse(k, 3)] for k in range(1, count + 1)])
    # the first Halton point of base 2 is a half, as it should be; of base 3 it is a third
    shift = np.array([0.0, 0.5 - 1.0 / 3.0])
    return np.asarray((made + shift) % 1.0 - 0.5)


class SmoothEdges(QObject):
    """Adds up pictures of a window as long as nothing changes, one each time that nothing else is to be done, and shows their mean.

    ``lively`` is called around each of them, with whether what is shown as kept pictures is to be drawn anew for it.
    """

    def __init__(self, window: vtkRenderWindow, lively: Callable[[bool], None]) -> None:
        super().__init__()
        self.window, self._lively = window, lively
        self.renderer = vtkRenderer()
        self.renderer.SetDraw(False)
        self.renderer.InteractiveOff()
        self._image = vtkImageData()
        mapper = vtkImageMapper()
        mapper.SetInputData(self._image)
        mapper.SetColorWindow(255.0)
        mapper.SetColorLevel(127.5)
        self.renderer.AddViewProp(vtkActor2D(mapper=mapper))
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

    def forget(self) -> None:
        """Something else is drawn: begin anew when that rests."""
        self.stop()
        self._rest.start()

    def stop(self) -> None:
        """Do nothing until it is begun anew."""
        self._rest.stop()
        self._next.stop()
        self.renderer.SetDraw(False)

    def _begin(self) -> None:
        self._sum, self._count = None, 0
        self._next.start()

    def _add(self) -> None:
        """One more picture, moved by a part of a pixel; the last shows their mean."""
        right, up = offsets(PICTURES)[self._count]
        drawn = [r for r in _renderers(self.window) if r.GetDraw() and r is not self.renderer]
        self._lively(True)
        self.window.SetSwapBuffers(False)
        try:
            for renderer in drawn:
                width, height = renderer.GetSize()
                renderer.GetActiveCamera().SetWindowCenter(2.0 * right / max(width, 1), 2.0 * up / max(height, 1))
            self.window.Render()
        finally:
            for renderer in drawn:
                renderer.GetActiveCamera().SetWindowCenter(0.0, 0.0)
            self.window.SetSwapBuffers(True)
            self._lively(False)
        picture = grab(self.window, self._pixels)
        if self._sum is None or self._sum.shape != picture.shape:
            self._sum = np.zeros(picture.shape, np.uint16)
        self._sum += picture
        self._count += 1
        if self._count < PICTURES:
            self._next.start()
        else:
            self._show((self._sum + PICTURES // 2) // PICTURES)

    def _show(self, mean: NDArray[np.uint16]) -> None:
        height, width, _ = mean.shape
        flat = np.ascontiguousarray(mean[::-1].astype(np.uint8)).reshape(-1, 3)
        self._image.SetDimensions(width, height, 1)
        self._image.GetPointData().SetScalars(numpy_to_vtk(flat, deep=True))
        self._image.Modified()
        others = [r for r in _renderers(self.window) if r.GetDraw() and r is not self.renderer]
        for other in others:
            other.SetDraw(False)
        self.renderer.SetDraw(True)
        try:
            self.window.Render()
        finally:
            for other in others:
                other.SetDraw(True)


def _renderers(window: vtkRenderWindow) -> list[vtkRenderer]:
    """A window's renderers; the stubs of VTK's collections do not know that they can be gone through."""
    collection: Any = window.GetRenderers()
    return list(collection)
