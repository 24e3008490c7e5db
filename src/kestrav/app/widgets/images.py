"""Pictures as Qt shows them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QImage


def qimage(picture: NDArray[np.uint8]) -> QImage:
    """A picture (h, w, 3 or 4) without its opacity."""
    rgb = np.ascontiguousarray(picture[..., :3])
    high, wide = rgb.shape[:2]
    return QImage(rgb.data, wide, high, 3 * wide, QImage.Format.Format_RGB888).copy()
