"""The bar at the window's foot: what long work is under way, how far, how long still, what waits, and its pause and cancel."""

from __future__ import annotations

import contextlib
import math
import threading
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QProgressBar, QPushButton, QWidget

from kestrav.app.jobs.jobs import Job
from kestrav.app.widgets.images import qimage

_EARLY = 0.02  # of the work; an estimate made before says little
_LOOKS = 700  # ms between two looks for a new picture
_PICTURE = 84  # pixels of its height


class JobBar(QWidget):
    """Shown while a job is under way. Work that can wait is begun when the work before it has ended."""

    began = Signal(object)  # a Job that waited
    _read = Signal(object, object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("jobbar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.job: Job | None = None
        self.waiting: list[tuple[str, Callable[[], Job], Callable[[], object]]] = []
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 4, 12, 4)
        self.picture = QLabel()
        self.picture.setToolTip("Most recently finished picture")
        self.picture.setAccessibleName("Last picture")
        self.picture.hide()
        self.label, self.left = QLabel(), QLabel()
        self.left.setObjectName("muted")
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setTextVisible(False)
        self.queue = QPushButton()
        self.queue.setToolTip("Waiting jobs; click one to remove it")
        self.queue.clicked.connect(self._show_queue)
        self.queue.hide()
        self.rest = QPushButton("Pause")
        self.rest.setToolTip("Pause this job; finished frames stay")
        self.rest.clicked.connect(self.toggle_pause)
        self.cancel = QPushButton("Cancel")
        self.cancel.setToolTip("Cancel this job; finished frames of a film are kept")
        self.cancel.clicked.connect(self._cancel)
        row.addWidget(self.picture)
        row.addWidget(self.label)
        row.addWidget(self.progress, 1)
        for widget in (self.left, self.queue, self.rest, self.cancel):
            row.addWidget(widget)
        self._look = QTimer(self)
        self._look.setInterval(_LOOKS)
        self._look.timeout.connect(self._look_for_newest)
        self._reading = False
        self._read.connect(self._show_newest)
        self._seen: Path | None = None
        self.hide()

    def follow(self, job: Job) -> None:
        """Show a job until it ends."""
        self.job = job
        job.progress.connect(self._tell)
        job.said.connect(lambda text: self.label.setText(f"{job.label}: {text}"))
        job.shown.connect(lambda picture: self._put(_small(picture)))
        job.ended.connect(self._end)
        self.label.setText(job.label)
        self.progress.setValue(0)
        self.left.setText("starting …")
        self.cancel.setEnabled(True)
        self.rest.setText("Pause")
        self._seen = None
        if job.pictures is not None:
            self._look.start()
        self._count()
        self.show()

    def wait(self, label: str, make: Callable[[], Job], taken_out: Callable[[], object] = lambda: None) -> None:
        """Let work wait for what is under way; ``taken_out`` is called if it is not to be done after all."""
        self.waiting.append((label, make, taken_out))
        self._count()

    def toggle_pause(self) -> None:
        """Let the work rest, or go on."""
        if self.job is not None:
            self.job.pause(not self.job.paused)
            self.rest.setText("Resume" if self.job.paused else "Pause")
            if self.job.paused:
                self.left.setText("paused")

    def _tell(self, share: float, seconds: float) -> None:
        self.progress.setValue(round(1000 * share))
        if self.job is not None and self.job.paused:
            return
        known = math.isfinite(seconds) and share > _EARLY
        self.left.setText(f"{share:.0%} · about {duration(seconds)} left" if known else f"{share:.0%}")

    def _look_for_newest(self) -> None:
        # a large frame takes a tenth of a second to unpack, which the window must not wait for
        if self.job is not None and self.job.pictures is not None and not self._reading:
            self._reading = True
            threading.Thread(target=self._read_newest, args=(self.job.pictures, self._seen), daemon=True).start()

    def _read_newest(self, folder: Path, seen: Path | None) -> None:
        # what makes frames is loaded once there are some
        from kestrav.render.frames import FrameStore, read_frame

        dated = []
        for file in FrameStore(folder).files():
            # some are put away meanwhile
            with contextlib.suppress(OSError):
                dated.append((file.stat().st_mtime, file))
        newest = max(dated)[1] if dated else None
        picture = read_frame(newest) if newest is not None and newest != seen else None
        image = None
        if picture is not None:
            image = _small(picture)
        # nobody is told any more when the window has gone meanwhile
        with contextlib.suppress(RuntimeError):
            self._read.emit(newest, image)

    def _show_newest(self, newest: Path | None, image: QImage | None) -> None:
        self._reading = False
        if image is not None and self.job is not None and newest is not None and newest.parent == self.job.pictures:
            self._seen = newest
            self._put(image)

    def _put(self, image: QImage) -> None:
        self.picture.setPixmap(QPixmap.fromImage(image))
        self.picture.show()

    def _count(self) -> None:
        self.queue.setText(f"{len(self.waiting)} waiting")
        self.queue.setVisible(bool(self.waiting))

    def _show_queue(self) -> None:
        menu = QMenu(self)
        for k, (label, _, _) in enumerate(self.waiting):
            menu.addAction(f"Take out: {label}", partial(self.take_out, k))
        menu.exec(self.queue.mapToGlobal(self.queue.rect().topLeft()))

    def take_out(self, place: int) -> None:
        """Do not do what waits at a place."""
        if place < len(self.waiting):
            _, _, taken_out = self.waiting.pop(place)
            taken_out()
            self._count()

    def _end(self) -> None:
        self.job = None
        self._look.stop()
        self.picture.hide()
        self.hide()
        if self.waiting:
            # after those who wait for the outcome of this one
            QTimer.singleShot(0, self._begin_next)

    def _begin_next(self) -> None:
        if self.job is None and self.waiting:
            _, make, _ = self.waiting.pop(0)
            self.began.emit(make())

    def _cancel(self) -> None:
        if self.job is not None:
            self.cancel.setEnabled(False)
            self.left.setText("stopping …")
            self.job.cancel()


def _small(picture: NDArray[np.uint8]) -> QImage:
    return qimage(picture).scaledToHeight(_PICTURE, Qt.TransformationMode.SmoothTransformation)


def duration(seconds: float) -> str:
    """About how long, in words."""
    if seconds < 90:
        return f"{max(seconds, 1):.0f}\u2009s"
    return f"{seconds / 60:.0f}\u2009min" if seconds < 5400 else f"{seconds / 3600:.1f}\u2009h"
