"""Playing: the playhead follows the clock."""

from __future__ import annotations

import math

from PySide6.QtCore import QElapsedTimer, QObject, QTimer, Signal

from kestrav.app.session import Session
from kestrav.core.motion.runs import span

_TICK = 15  # ms; a frame that takes longer to draw is simply followed by a later one


class Player(QObject):
    """Plays a session in real time, frame by frame, and begins anew at the end."""

    changed = Signal(bool)  # whether it plays

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._from = 0.0
        self._clock = QElapsedTimer()
        self._timer = QTimer(self)
        self._timer.setInterval(_TICK)
        self._timer.timeout.connect(self._tick)

    @property
    def playing(self) -> bool:
        """Whether it plays."""
        return self._timer.isActive()

    def toggle(self) -> None:
        """Play from the playhead, or stop."""
        if self.playing:
            self.stop()
            return
        if self.session.time >= span(self.session.shown) - 1e-6:
            self.session.set_time(0.0)
        self._from = self.session.time
        self._clock.start()
        self._timer.start()
        self.changed.emit(True)

    def stop(self) -> None:
        """Stop on a frame."""
        if self.playing:
            self._timer.stop()
            self.changed.emit(False)
            self.session.step(0)

    def _tick(self) -> None:
        project = self.session.shown
        time = self._from + self._clock.elapsed() / 1000.0
        if time >= span(project):
            self._from = time = 0.0
            self._clock.restart()
        fps = project.settings.fps
        self.session.set_time(math.floor(time * fps + 1e-9) / fps)
