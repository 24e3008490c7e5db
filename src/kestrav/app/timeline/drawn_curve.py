"""A curve of the timeline, drawn by columns of pixels: as fast for a million samples as for a few."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QStyleOptionGraphicsItem, QWidget

Array = NDArray[np.float64]

WIDTH = 1.8  # px


def columns(x: Array, y: Array, edges: Array) -> tuple[Array, Array]:
    """The least and the greatest value (w,) of a curve through samples (n,) in columns between edges (w + 1,).

    Where the curve has none (nan, or outside its samples) both are nan.
    """
    count = len(edges) - 1
    if len(x) < 2:
        return np.full(count, np.nan), np.full(count, np.nan)
    at = np.interp(edges, x, y, left=np.nan, right=np.nan)
    low, high = np.fmin(at[:-1], at[1:]), np.fmax(at[:-1], at[1:])
    first, last = np.searchsorted(x, edges[0]), np.searchsorted(x, edges[-1], side="right")
    if first < last:
        some, values = x[first:last], y[first:last]
        starts = np.searchsorted(some, edges[:-1])
        full = starts < np.append(starts[1:], len(some))
        places = starts[full]
        if len(places):
            # what lies before the first filled column belongs to none
            low[full] = np.fmin(low[full], np.fmin.reduceat(values, places))
            high[full] = np.fmax(high[full], np.fmax.reduceat(values, places))
    return low, high


class DrawnCurve(pg.GraphicsObject):  # type: ignore[misc]
    """One curve over the whole of its view."""

    def __init__(self, colour: str) -> None:
        super().__init__()
        self.across: Array = np.empty(0)
        self.values: Array = np.empty(0)
        self.colour = QColor(colour)
        self._shown: tuple[tuple[object, ...], QImage] | None = None
        self._version = 0
        self.setFlag(self.GraphicsItemFlag.ItemUsesExtendedStyleOption)

    def set_data(self, x: Array, y: Array) -> None:
        """Show samples (n,), x growing."""
        self.across, self.values = x, y
        self._version += 1
        self.prepareGeometryChange()
        self.update()

    def set_colour(self, colour: str) -> None:
        """Draw it in a colour."""
        self.colour = QColor(colour)
        self._version += 1
        self.update()

    def shown(self) -> QRectF:
        """What its view shows; the item's own answer to that can be older."""
        view = self.getViewBox()
        return QRectF() if view is None else view.viewRect()

    def boundingRect(self) -> QRectF:
        return self.shown()

    def viewTransformChanged(self) -> None:
        self.prepareGeometryChange()
        self.update()

    def dataBounds(self, axis: int, frac: float = 1.0, orthoRange: object = None) -> tuple[None, None]:
        """The view's range is set by its lane."""
        return (None, None)

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        transform = painter.transform()
        view = self.shown()
        rect = transform.mapRect(view)
        ratio = widget.devicePixelRatioF() if widget is not None else 1.0
        width, height = round(rect.width() * ratio), round(rect.height() * ratio)
        if width < 1 or height < 1 or not len(self.across):
            return
        key = (self._version, width, height, view.left(), view.right(), view.top(), view.bottom())
        if self._shown is None or self._shown[0] != key:
            self._shown = (key, self._image(view, width, height, WIDTH * ratio))
        painter.save()
        painter.resetTransform()
        image = self._shown[1]
        image.setDevicePixelRatio(ratio)
        painter.drawImage(QPointF(round(rect.left()), round(rect.top())), image)
        painter.restore()

    def _image(self, view: QRectF, width: int, height: int, thick: float) -> QImage:
        """The curve's coverage of every pixel, in its colour."""
        edges = np.linspace(view.left(), view.right(), width + 1)
        low, high = columns(self.across, self.values, edges)
        scale = height / (view.bottom() - view.top())
        # rows count from above
        top, bottom = height - (high - view.top()) * scale - thick / 2, height - (low - view.top()) * scale + thick / 2
        known = np.isfinite(top) & np.isfinite(bottom)
        top, bottom = np.where(known, top, 0.0), np.where(known, bottom, 0.0)
        # how much of each pixel lies between the two, in 255ths; a column is short, so all of it is worked out
        rows = np.arange(height, dtype=np.float32)[:, None]
        cover = np.minimum(rows + 1, bottom.astype(np.float32))
        cover -= np.maximum(rows, top.astype(np.float32))
        np.clip(cover, 0.0, 1.0, out=cover)
        cover *= 255.0
        pixels = _shades(self.colour.rgb())[cover.astype(np.uint8)]
        image = QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_ARGB32_Premultiplied)
        return image.copy()  # which owns its numbers


@lru_cache(maxsize=16)
def _shades(colour: int) -> NDArray[np.uint32]:
    """A colour (0xaarrggbb) at 256 shares of coverage, premultiplied."""
    shares = np.arange(256) / 255
    red, green, blue = (np.round(shares * ((colour >> shift) & 0xFF)).astype(np.uint32) for shift in (16, 8, 0))
    whole = (np.arange(256, dtype=np.uint32) << 24) | (red << 16) | (green << 8) | blue
    return whole.astype(np.uint32)
