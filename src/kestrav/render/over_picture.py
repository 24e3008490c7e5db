"""A see-through picture over a renderer's: what a shot writes, or the picture that fades away before it."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import vtkFloatArray, vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkImageData, vtkPolyData
from vtkmodules.vtkRenderingCore import vtkCoordinate, vtkPolyDataMapper2D, vtkTexture, vtkTexturedActor2D

Picture = NDArray[np.uint8]


class OverPicture:
    """A picture (h, w, 4) over a part of a renderer's."""

    def __init__(self, renderer: Any) -> None:
        self._image = vtkImageData()
        texture = vtkTexture()
        texture.SetInputData(self._image)
        texture.SetColorModeToDirectScalars()
        texture.InterpolateOn()
        self._points = vtkPoints()
        self._points.SetNumberOfPoints(4)
        corners, cells = vtkFloatArray(), vtkCellArray()
        corners.SetNumberOfComponents(2)
        for x, y in ((0, 0), (1, 0), (1, 1), (0, 1)):
            corners.InsertNextTuple2(x, y)
        cells.InsertNextCell(4, [0, 1, 2, 3])
        quad = vtkPolyData()
        quad.SetPoints(self._points)
        quad.SetPolys(cells)
        quad.GetPointData().SetTCoords(corners)
        mapper = vtkPolyDataMapper2D()
        place = vtkCoordinate()
        place.SetCoordinateSystemToNormalizedViewport()
        mapper.SetTransformCoordinate(place)
        mapper.SetInputData(quad)
        self._quad = quad
        self.actor = vtkTexturedActor2D()
        self.actor.SetTexture(texture)
        self.actor.SetMapper(mapper)
        self.actor.SetVisibility(False)
        renderer.AddViewProp(self.actor)

    def show(self, picture: Picture | None, frame: tuple[float, float, float, float] = (0.0, 0.0, 1.0, 1.0)) -> None:
        """Show a picture in a frame (left, bottom, right, top) of shares of the renderer, or none."""
        self.actor.SetVisibility(picture is not None)
        if picture is None:
            return
        height, width = picture.shape[:2]
        flat = np.ascontiguousarray(picture[::-1]).reshape(-1, 4)
        self._image.SetDimensions(width, height, 1)
        self._image.GetPointData().SetScalars(numpy_to_vtk(flat, deep=True))
        self._image.Modified()
        left, bottom, right, top = frame
        for k, (x, y) in enumerate(((left, bottom), (right, bottom), (right, top), (left, top))):
            self._points.SetPoint(k, x, y, 0.0)
        self._points.Modified()
        self._quad.Modified()
