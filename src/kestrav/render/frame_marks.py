"""Guides over the lens's picture: mask, thirds, grid, cross, centre, safe areas, horizon."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray
from vtkmodules.vtkRenderingCore import vtkActor2D, vtkCoordinate, vtkPolyDataMapper2D, vtkRenderer

from kestrav.core.camera.lens import ACTION_SAFE, TITLE_SAFE
from kestrav.render.palette import INK, OCHRE, rgb
from kestrav.render.shapes import polygons_2d, put_data, segments

Array = NDArray[np.float64]

OUTSIDE = 0.07  # of the frame's width and height that is seen around it where the mask lets through


class FrameGuides(msgspec.Struct, frozen=True):
    """Which guides are shown. ``mask`` is how strongly what is outside the frame is darkened, 0 to 1; ``grid`` how many columns
    and rows a free grid has, 0 for none."""

    mask: float = 0.75
    thirds: bool = False
    grid: tuple[int, int] = (0, 0)
    cross: bool = False
    centre: bool = False
    action: bool = False
    title: bool = False
    horizon: bool = False


def guide_lines(guides: FrameGuides) -> Array:
    """The lines (n, 2, 2) of the guides but for the horizon, −1 to 1 within the frame."""
    lines: list[list[list[float]]] = []
    if guides.thirds:
        lines += _dividing(3, 3)
    if guides.grid[0] > 0 and guides.grid[1] > 0:
        lines += _dividing(*guides.grid)
    if guides.cross:
        lines += [[[-1, -1], [1, 1]], [[-1, 1], [1, -1]]]
    if guides.centre:
        lines += [[[-0.05, 0], [0.05, 0]], [[0, -0.08], [0, 0.08]]]
    for shown, share in ((guides.action, ACTION_SAFE), (guides.title, TITLE_SAFE)):
        if shown:
            corners = [[-share, -share], [share, -share], [share, share], [-share, share]]
            lines += [[corners[k], corners[(k + 1) % 4]] for k in range(4)]
    return np.array(lines, float).reshape(-1, 2, 2)


def _dividing(columns: int, rows: int) -> list[list[list[float]]]:
    across = [[[x, -1.0], [x, 1.0]] for x in np.linspace(-1, 1, columns + 1)[1:-1].tolist()]
    return across + [[[-1.0, y], [1.0, y]] for y in np.linspace(-1, 1, rows + 1)[1:-1].tolist()]


def horizon_line(forward: ArrayLike, up: ArrayLike, half_height: float, aspect: float) -> Array:
    """Where the horizon is seen (1, 2, 2), −1 to 1 within the frame; (0, 2, 2) where it is not.

    ``half_height`` is half the frame's height as a slope of sight.
    """
    forward, up = np.asarray(forward, float), np.asarray(up, float)
    right = np.cross(forward, up)
    # what is seen at (x, y) lies level where its direction has no height
    across, along, offset = right[2] * half_height * aspect, up[2] * half_height, forward[2]
    none = np.empty((0, 2, 2))
    crossings = []
    if abs(along) > 1e-12:
        crossings += [[x, -(across * x + offset) / along] for x in (-1.0, 1.0)]
    if abs(across) > 1e-12:
        crossings += [[-(along * y + offset) / across, y] for y in (-1.0, 1.0)]
    inside = [p for p in crossings if max(abs(p[0]), abs(p[1])) <= 1 + 1e-9]
    if len(inside) < 2:
        return none
    ends = max(((a, b) for a in inside for b in inside), key=lambda pair: np.hypot(*np.subtract(*pair)))
    return np.array([ends])


def mask_areas(frame: tuple[float, float, float, float]) -> Array:
    """Four rectangles (4, 4, 2) around a frame (left, low, right, high) within a viewport of 0 to 1."""
    left, low, right, high = frame
    boxes = ((0, 0, 1, low), (0, high, 1, 1), (0, low, left, high), (right, low, 1, high))
    return np.array([[[a, b], [c, b], [c, d], [a, d]] for a, b, c, d in boxes], float)


class FrameMarks:
    """The guides in one renderer."""

    def __init__(self, renderer: vtkRenderer) -> None:
        self.renderer = renderer
        self._mask = _actor(polygons_2d(np.empty((0, 4, 2))), "#0e181b", 0.75)
        # a dark line in a light one is seen on everything
        self._light = _actor(segments(np.empty((0, 2, 3))), "#fffdf8", 0.4, 3.0)
        self._dark = _actor(segments(np.empty((0, 2, 3))), INK, 0.7, 1.0)
        self._horizon = _actor(segments(np.empty((0, 2, 3))), OCHRE, 1.0, 1.6)
        for actor in (self._mask, self._light, self._dark, self._horizon):
            renderer.AddViewProp(actor)

    def show(self, guides: FrameGuides, frame: tuple[float, float, float, float], horizon: Array | None = None) -> None:
        """Show guides in a frame (left, low, right, high) within the renderer's viewport of 0 to 1."""
        left, low, right, high = frame

        def placed(lines: Array) -> Array:
            flat = np.zeros((len(lines), 2, 3))
            flat[..., 0] = left + (lines[..., 0] + 1) / 2 * (right - left)
            flat[..., 1] = low + (lines[..., 1] + 1) / 2 * (high - low)
            return flat

        full = frame == (0.0, 0.0, 1.0, 1.0)
        self._mask.SetVisibility(not full and guides.mask > 0)
        if not full:
            put_data(self._mask, polygons_2d(mask_areas(frame)))
            self._mask.GetProperty().SetOpacity(guides.mask)
        lines = placed(guide_lines(guides))
        for actor in (self._dark, self._light):
            actor.SetVisibility(len(lines) > 0)
            put_data(actor, segments(lines))
        shown = guides.horizon and horizon is not None and len(horizon) > 0
        self._horizon.SetVisibility(shown)
        if shown:
            assert horizon is not None
            put_data(self._horizon, segments(placed(horizon)))


def _actor(data: object, colour: str, opacity: float, width: float = 1.0) -> vtkActor2D:
    mapper = vtkPolyDataMapper2D()
    mapper.SetInputData(data)
    place = vtkCoordinate()
    place.SetCoordinateSystemToNormalizedViewport()
    mapper.SetTransformCoordinate(place)
    actor = vtkActor2D()
    actor.SetMapper(mapper)
    actor.GetProperty().SetColor(*rgb(colour))
    actor.GetProperty().SetOpacity(opacity)
    actor.GetProperty().SetLineWidth(width)
    return actor
