"""A strip of small pictures of a shot, every so many frames, to choose a moment by."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLabel,
    QListView,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.app.widgets.images import qimage
from kestrav.app.widgets.quantity_edit import QuantityEdit
from kestrav.core.document.records import Project, Shot
from kestrav.core.document.shots import frame_count, frame_time
from kestrav.core.geometry.meshes import Mesh

WIDE = 164  # pixels of a picture
PICTURES = 24  # about how many there are at first


class FilmStrip(QDialog):
    """Pictures of one shot; a click goes to the moment."""

    went = Signal(float)

    def __init__(self, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Film strip")
        self.resize(940, 420)
        self.shot: Shot | None = None
        self.every = 1
        self.job: Job | None = None
        self._of: tuple[Project, Mapping[str, Mesh]] | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        head = QHBoxLayout()
        self.title = QLabel()
        self.title.setObjectName("title")
        head.addWidget(self.title, 1)
        head.addWidget(QLabel("every"))
        self.step = QuantityEdit(1, "", 0, 1)
        self.step.setAccessibleName("Frame interval")
        self.step.setToolTip("Frames from one picture to the next")
        self.step.setFixedWidth(70)
        self.step.given.connect(lambda v: self.show_every(round(v)))
        head.addWidget(self.step)
        head.addWidget(QLabel("frames"))
        column.addLayout(head)
        self.list = QListWidget()
        self.list.setViewMode(QListView.ViewMode.IconMode)
        self.list.setFlow(QListView.Flow.LeftToRight)
        self.list.setResizeMode(QListView.ResizeMode.Adjust)
        self.list.setMovement(QListView.Movement.Static)
        self.list.setSpacing(6)
        self.list.setAccessibleName("Pictures of the shot")
        self.list.currentItemChanged.connect(self._go)
        column.addWidget(self.list, 1)
        self.said = QLabel()
        self.said.setObjectName("muted")
        column.addWidget(self.said)

    def show_shot(self, project: Project, meshes: Mapping[str, Mesh], shot: Shot) -> None:
        """Make the pictures of a shot."""
        self._of, self.shot = (project, meshes), shot
        self.every = max(round(frame_count(shot) / PICTURES), 1)
        self.step.set_value(self.every)
        self._make()

    def show_every(self, every: int) -> None:
        """Make a picture of every so many frames."""
        self.every = max(every, 1)
        self._make()

    def frames(self) -> list[int]:
        """The frames of which there are pictures."""
        return [] if self.shot is None else list(range(0, frame_count(self.shot), self.every))

    def _make(self) -> None:
        if self.shot is None or self._of is None:
            return
        self.stop()
        shot, frames = self.shot, self.frames()
        self.title.setText(f"{shot.name} · {len(frames)} of {frame_count(shot)} frames")
        self.list.clear()
        high = max(round(WIDE * shot.height / shot.width), 1)
        self.list.setIconSize(QSize(WIDE, high))
        self.said.setText("making the pictures …")
        times = [frame_time(shot, frame) for frame in frames]
        project, meshes = self._of
        self.job = Job(
            f"Strip of “{shot.name}”", work.film_strip, project, dict(meshes), shot, times, WIDE, tidies=False
        )
        self.job.progress.connect(lambda share, left: self._tell(share, left))
        self.job.done.connect(self._show)
        self.job.failed.connect(self.said.setText)

    def _tell(self, share: float, left: float) -> None:
        wait = f", about {left:.0f}\u2009s" if np.isfinite(left) else ""
        self.said.setText(f"making the pictures: {share:.0%}{wait}")

    def _show(self, pictures: list[np.ndarray]) -> None:
        self.job = None
        assert self.shot is not None
        for frame, picture in zip(self.frames(), pictures, strict=False):
            time = frame_time(self.shot, frame)
            item = QListWidgetItem(QIcon(QPixmap.fromImage(qimage(picture))), f"{time:.2f}\u2009s · frame {frame}")
            item.setData(Qt.ItemDataRole.UserRole, time)
            item.setToolTip("Go to this time")
            self.list.addItem(item)
        self.said.setText("Click, or use the arrow keys, to go to a time")

    def _go(self, item: QListWidgetItem | None, _: object = None) -> None:
        if item is not None:
            self.went.emit(float(item.data(Qt.ItemDataRole.UserRole)))

    def stop(self) -> None:
        """Stop making pictures."""
        if self.job is not None:
            self.job.stop()
            self.job = None

    def done(self, result: int) -> None:
        """Closed."""
        self.stop()
        super().done(result)
