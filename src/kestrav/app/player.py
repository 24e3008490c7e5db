"""Playing: the playhead follows the clock."""

from __future__ import annotations

import math

from PySide6.QtCore import QElapsedTimer, QObject, QTimer, Signal

from kestrav.app.session import Session
from kestrav.core.document.shots import FilmFrame
from kestrav.core.kinematics.runs import span

_TICK = 15  # ms; a frame that takes longer to draw is simply followed by a later one


class Player(QObject):
    """Plays a session in real time, frame by frame, and begins anew at the end."""

    changed = Signal(bool)  # whether it plays
    at_frame = Signal(int)  # of the film, while that is played

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._from = 0.0
        self._film: tuple[list[FilmFrame], float] | None = None
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
        self.session.show_film(None)
        if self.session.time >= span(self.session.shown) - 1e-6:
            self.session.set_time(0.0)
        self._from = self.session.time
        self._clock.start()
        self._timer.start()
        self.changed.emit(True)

    def play_film(self, frames: list[FilmFrame], fps: float, first: int = 0) -> None:
        """Play the frames of a film, from one of them to the end."""
        self.stop()
        self._film, self._from = (frames, fps), first / fps
        self._clock.start()
        self._timer.start()
        self.changed.emit(True)

    def stop(self) -> None:
        """Stop on a frame; a film on its own."""
        if self.playing:
            self._timer.stop()
            filmed, self._film = self._film is not None, None
            self.changed.emit(False)
            if not filmed:
                self.session.step(0)

    def _tick(self) -> None:
        if self._film is not None:
            self._tick_film(*self._film)
            return
        project = self.session.shown
        time = self._from + self._clock.elapsed() / 1000.0
        if time >= span(project):
            self._from = time = 0.0
            self._clock.restart()
        fps = project.settings.fps
        self.session.set_time(math.floor(time * fps + 1e-9) / fps)

    def _tick_film(self, frames: list[FilmFrame], fps: float) -> None:
        frame = math.floor((self._from + self._clock.elapsed() / 1000.0) * fps + 1e-9)
        if frame >= len(frames):
            self.session.show_film(frames[-1])
            self.at_frame.emit(len(frames) - 1)
            self.stop()
            return
        self.session.show_film(frames[frame])
        self.at_frame.emit(frame)
