"""The lens's picture in a window of its own: it is seen as it grows, a region of it made alone, made finer, and saved."""

from __future__ import annotations

import math
from collections.abc import Mapping
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, QRect, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QProgressBar, QPushButton, QVBoxLayout, QWidget

from kestrav.app.dialogs.questions import ask_picture
from kestrav.app.jobs.job_bar import duration
from kestrav.app.jobs.still_maker import StillMaker
from kestrav.app.widgets.images import qimage
from kestrav.core.document.records import Project, Shot
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.formats import Bits
from kestrav.render.palette import SHOT

_LEAST = 24  # pixels of the picture that a region has at least


class PictureBox(QWidget):
    """A picture fitted into the room that there is, on which a region can be drawn."""

    region_drawn = Signal(object)  # (left, top, right, bottom) in pixels of the picture, or none

    def __init__(self, width: int, height: int) -> None:
        super().__init__()
        self.image = QImage(width, height, QImage.Format.Format_RGB888)
        self.image.fill(QColor("#d8dede"))
        self.region: tuple[int, int, int, int] | None = None
        self._from: QPoint | None = None
        self.setMinimumSize(QSize(320, 180))
        self.setAccessibleName("Picture")
        self.setToolTip("Drag a rectangle to make only that region anew")
        self.setCursor(Qt.CursorShape.CrossCursor)

    def frame(self) -> QRect:
        """Where the picture is shown."""
        size = self.image.size().scaled(self.size(), Qt.AspectRatioMode.KeepAspectRatio)
        return QRect(QPoint((self.width() - size.width()) // 2, (self.height() - size.height()) // 2), size)

    def show_picture(self, picture: NDArray[np.uint8], region: tuple[int, int, int, int] | None) -> None:
        """Show a picture, or put what a region shows into its place."""
        if region is None:
            self.image = qimage(picture)
        else:
            painter = QPainter(self.image)
            painter.drawImage(QPoint(region[0], region[1]), qimage(picture))
            painter.end()
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the picture, and the region's rectangle."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        frame = self.frame()
        painter.drawImage(frame, self.image)
        if self.region is not None:
            left, top, right, bottom = self.region
            scale = frame.width() / self.image.width()
            box = QRect(
                frame.left() + round(left * scale),
                frame.top() + round(top * scale),
                round((right - left) * scale),
                round((bottom - top) * scale),
            )
            painter.setPen(QPen(QColor(SHOT), 2))
            painter.drawRect(box)
        painter.end()

    def _pixel(self, place: QPoint) -> tuple[int, int]:
        frame = self.frame()
        scale = self.image.width() / max(frame.width(), 1)
        x, y = (place.x() - frame.left()) * scale, (place.y() - frame.top()) * scale
        return int(min(max(x, 0), self.image.width())), int(min(max(y, 0), self.image.height()))

    def _draw_to(self, place: QPoint) -> None:
        if self._from is not None:
            (a, b), (c, d) = self._pixel(self._from), self._pixel(place)
            self.region = (min(a, c), min(b, d), max(a, c), max(b, d))
            self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Begin a region."""
        if event.button() == Qt.MouseButton.LeftButton:
            self._from = event.position().toPoint()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Draw it."""
        self._draw_to(event.position().toPoint())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """It is drawn; one that is too small is none."""
        if self._from is None or event.button() != Qt.MouseButton.LeftButton:
            return
        if self.region is not None or event.position().toPoint() != self._from:
            self._draw_to(event.position().toPoint())
        self._from = None
        if self.region is not None:
            left, top, right, bottom = self.region
            if right - left < _LEAST or bottom - top < _LEAST:
                self.region = None
        self.update()
        self.region_drawn.emit(self.region)


class StillView(QDialog):
    """Made of the project as it is when it opens; the work goes on beside it."""

    def __init__(
        self, parent: QWidget | None, project: Project, meshes: Mapping[str, Mesh], shot: Shot, time: float
    ) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle(f"{shot.name} at {time:.3f} s")
        self.resize(1000, 660)
        self.shot, self.folder = shot, Path.cwd()
        self.working, self.samples = True, 0
        self._wanted = shot.samples
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 12, 12, 12)
        self.box = PictureBox(shot.width, shot.height)
        self.box.region_drawn.connect(self._make_region)
        column.addWidget(self.box, 1)
        self.message = QLabel("starting …")
        self.message.setObjectName("muted")
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.bar.setFixedHeight(6)
        column.addWidget(self.bar)
        row = QHBoxLayout()
        row.addWidget(self.message, 1)
        self.pause_button = self._button(row, "Pause", self.toggle_pause, "Let the work rest, or go on (P)")
        self.pause_button.setShortcut("P")
        self.stop_button = self._button(row, "Stop here", self._stop, "Take the picture as far as it is")
        self.finer_button = self._button(
            row, "Finer", self._finer, "Take as many samples again: half the noise needs four times as many"
        )
        self.whole_button = self._button(row, "Whole picture", self._make_whole, "Make all of the picture anew")
        self.save_button = self._button(
            row, "Save as …", self._ask_save, "Save the picture as it is, as PNG or OpenEXR (Ctrl+S)"
        )
        self.save_button.setShortcut("Ctrl+S")
        self._button(row, "Close", self.close, "Close this picture (Esc)")
        column.addLayout(row)
        self.maker = StillMaker(project, meshes, shot, time)
        self.maker.shown.connect(self.box.show_picture)
        self.maker.progress.connect(self._tell)
        self.maker.done.connect(self._done)
        self.maker.saved.connect(lambda target: self.message.setText(f"Written: {target}"))
        self.maker.failed.connect(self._failed)
        self._start(self._wanted)

    def _button(self, row: QHBoxLayout, text: str, does: object, tip: str) -> QPushButton:
        button = QPushButton(text)
        button.setToolTip(tip)
        button.setAutoDefault(False)
        button.clicked.connect(does)
        row.addWidget(button)
        return button

    @property
    def _traced(self) -> bool:
        from kestrav.render.studios import is_traced

        return is_traced(self.shot)

    def _start(self, samples: int, region: tuple[int, int, int, int] | None = None, *, onward: bool = False) -> None:
        self.working, self.paused = True, False
        self._wanted = samples
        self.maker.make(samples, region, onward=onward)
        self._show_state()

    def _show_state(self) -> None:
        for button in (self.pause_button, self.stop_button, self.finer_button, self.whole_button):
            button.setVisible(self._traced)
            button.setEnabled(self.working == (button in (self.pause_button, self.stop_button)))
        self.pause_button.setText("Resume" if self.paused else "Pause")
        self.save_button.setEnabled(not self.working)
        self.bar.setVisible(self.working)

    def _tell(self, share: float, noise: float, left: float) -> None:
        self.bar.setValue(round(1000 * share))
        words = [f"{share:.0%} of {self._wanted} samples"]
        if math.isfinite(noise):
            words.append(f"noise {noise:.2f} % of white")
        if math.isfinite(left):
            words.append(f"about {duration(left)} left")
        self.message.setText(" · ".join(words))

    def _done(self, samples: int, noise: float, seconds: float) -> None:
        self.working, self.samples = False, samples
        taken = f"{samples} samples · " if samples else ""
        text = f"noise {noise:.2f} % of white before it was taken away · " if math.isfinite(noise) else ""
        self.message.setText(f"{taken}{text}{duration(seconds)}")
        self._show_state()

    def _failed(self, text: str) -> None:
        self.working = False
        self.message.setText(text[:1].upper() + text[1:])
        self.message.setWordWrap(True)
        self._show_state()

    def toggle_pause(self) -> None:
        """Let the work rest, or go on."""
        if self.working:
            self.paused = not self.paused
            self.maker.pause(self.paused)
            self._show_state()
            if self.paused:
                self.message.setText(f"{self.message.text()} · paused")

    def _stop(self) -> None:
        if self.paused:
            self.toggle_pause()
        self.maker.stop_here()

    def _finer(self) -> None:
        self._start(2 * max(self.samples, 1), self.box.region, onward=True)

    def _make_region(self, region: tuple[int, int, int, int] | None) -> None:
        if region is not None and self._traced:
            self._start(max(self._wanted, self.shot.samples), region)

    def _make_whole(self) -> None:
        self.box.region = None
        self.box.update()
        self._start(max(self._wanted, self.shot.samples))

    def _ask_save(self) -> None:
        chosen = ask_picture(self, "Save the picture", self.folder / "still.png", deep=self._traced)
        if chosen is not None:
            self.save(*chosen)

    def save(self, target: Path, bits: Bits = 8) -> None:
        """Write the picture as it is."""
        self.maker.save(target, bits)

    def done(self, result: int) -> None:
        """Closed: the work ends."""
        self.maker.pause(False)
        self.maker.close()
        super().done(result)
