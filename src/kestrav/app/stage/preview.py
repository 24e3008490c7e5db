"""The preview: pictures of the stage's frames, kept as they are drawn and made ahead while nothing else is to be done.

Where pictures are drawn by the processor alone, a product takes long to draw; what is kept plays at the full rate.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QObject, QTimer, Signal
from PySide6.QtGui import QImage
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkRenderingCore import vtkRenderWindow

from kestrav.render.picture import FlatPicture, grab

Picture = NDArray[np.uint8]

_REST = 1500  # ms without another drawing after which pictures are made ahead
_BETWEEN = 30  # ms between two of them, so that what a person does comes first
_QUALITY = 94  # of the JPEG pictures
_MOST_BYTES = 256 * 1024 * 1024


def packed(picture: Picture) -> bytes:
    """A picture (h, w, 3) as a JPEG file."""
    height, width, _ = picture.shape
    image = QImage(picture.data, width, height, 3 * width, QImage.Format.Format_RGB888)
    data = QByteArray()
    buffer = QBuffer(data)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "JPG", _QUALITY)  # type: ignore[call-overload]
    return bytes(data.data())


def unpacked(data: bytes) -> Picture:
    """The picture (h, w, 3) of a JPEG file."""
    image = QImage.fromData(QByteArray(data)).convertToFormat(QImage.Format.Format_RGB888)
    width, height, stride = image.width(), image.height(), image.bytesPerLine()
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(height, stride)[:, : 3 * width]
    return rows.reshape(height, width, 3)


class Preview(QObject):
    """Keeps the pictures of frames as long as all else that they show is the same.

    ``draw_unseen`` draws a frame that is not shown on the screen; False when it cannot now.
    """

    changed = Signal(int, int)  # frames that are kept, of how many

    def __init__(self, window: vtkRenderWindow, draw_unseen: Callable[[int], bool]) -> None:
        super().__init__()
        self.window, self._draw_unseen = window, draw_unseen
        self._flat = FlatPicture()
        self.renderer = self._flat.renderer
        self._of: Hashable = None
        self._kept: dict[int, Future[bytes]] = {}
        self._bytes = self._count = self._next = 0
        # packing takes as long as half of a drawing, and needs nothing of the window
        self._packing = ThreadPoolExecutor(1)
        self._rest = QTimer(self, singleShot=True, interval=_REST)
        self._rest.timeout.connect(self._fill)
        self._soon = QTimer(self, singleShot=True, interval=_BETWEEN)
        self._soon.timeout.connect(self._fill)

    def use(self, of: Hashable, count: int) -> None:
        """Keep pictures of a number of frames, made from these things; others that are kept go."""
        if of != self._of or count != self._count:
            self._of, self._count, self._bytes = of, count, 0
            self._kept = {}
            self.changed.emit(0, count)

    def hidden_by(self, of: Hashable) -> bool:
        """Whether the pictures that are kept are made from other things than these."""
        return of is None or of != self._of

    def hold(self) -> None:
        """Make nothing ahead until :meth:`rest` is called."""
        self._rest.stop()
        self._soon.stop()

    def rest(self, frame: int) -> None:
        """Make pictures ahead once nothing else has been drawn for a while, from a frame on."""
        self.hold()
        self._next = frame
        if self._missing() is not None:
            self._rest.start()

    def keep(self, frame: int) -> None:
        """Keep what the window shows as the picture of a frame."""
        if frame in self._kept or self._bytes > _MOST_BYTES:
            return
        kept = self._kept
        kept[frame] = self._packing.submit(packed, grab(self.window))
        kept[frame].add_done_callback(lambda done: self._count_bytes(kept, done))
        self.changed.emit(len(kept), self._count)

    def _count_bytes(self, kept: dict[int, Future[bytes]], done: Future[bytes]) -> None:
        if kept is self._kept:
            self._bytes += len(done.result())

    def show(self, frame: int) -> bool:
        """Put the picture of a frame over all else; False when there is none."""
        kept = self._kept.get(frame)
        if kept is None:
            return False
        picture = unpacked(kept.result())
        height, width, _ = picture.shape
        if (width, height) != tuple(self.window.GetSize()):
            return False
        self._flat.put(numpy_to_vtk(np.ascontiguousarray(picture[::-1]).reshape(-1, 3), deep=True), width, height)
        self._flat.show(True)
        return True

    def hide(self) -> None:
        """Show what is drawn."""
        self._flat.show(False)

    def _missing(self) -> int | None:
        """The first frame from the next on, and then from the first on, that is not kept; None where all are or no more can be."""
        if self._bytes > _MOST_BYTES:
            return None
        order = (*range(self._next, self._count), *range(min(self._next, self._count)))
        return next((frame for frame in order if frame not in self._kept), None)

    def _fill(self) -> None:
        frame = self._missing()
        if frame is None:
            return
        if not self._draw_unseen(frame):
            self._rest.start()  # something else is being done
            return
        self.keep(frame)
        self._next = frame + 1
        if self._missing() is not None:
            self._soon.start()
