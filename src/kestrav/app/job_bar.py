"""The bar at the window's foot: what long work is under way, how far, how long still, and its cancel."""

from __future__ import annotations

import math

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QPushButton, QWidget

from kestrav.app.jobs import Job

_EARLY = 0.02  # of the work; an estimate made before says little


class JobBar(QWidget):
    """Shown while a job is under way."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("jobbar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.job: Job | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 4, 12, 4)
        self.label, self.left = QLabel(), QLabel()
        self.left.setObjectName("muted")
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setTextVisible(False)
        self.cancel = QPushButton("Cancel")
        self.cancel.setToolTip("Stop this work; nothing half done is left behind")
        self.cancel.clicked.connect(self._cancel)
        row.addWidget(self.label)
        row.addWidget(self.progress, 1)
        row.addWidget(self.left)
        row.addWidget(self.cancel)
        self.hide()

    def follow(self, job: Job) -> None:
        """Show a job until it ends."""
        self.job = job
        job.progress.connect(self._tell)
        job.said.connect(lambda text: self.label.setText(f"{job.label}: {text}"))
        job.ended.connect(self._end)
        self.label.setText(job.label)
        self.progress.setValue(0)
        self.left.setText("starting …")
        self.cancel.setEnabled(True)
        self.show()

    def _tell(self, share: float, seconds: float) -> None:
        self.progress.setValue(round(1000 * share))
        known = math.isfinite(seconds) and share > _EARLY
        self.left.setText(f"{share:.0%} · about {_duration(seconds)} left" if known else f"{share:.0%}")

    def _end(self) -> None:
        self.job = None
        self.hide()

    def _cancel(self) -> None:
        if self.job is not None:
            self.cancel.setEnabled(False)
            self.left.setText("stopping …")
            self.job.cancel()


def _duration(seconds: float) -> str:
    if seconds < 90:
        return f"{max(seconds, 1):.0f} s"
    return f"{seconds / 60:.0f} min"
