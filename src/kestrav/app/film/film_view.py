"""The film: its shots in order, each with a strip of small pictures, played from start to end and rendered."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QCloseEvent, QPainter, QPixmap
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.app.player import Player
from kestrav.app.session import Session
from kestrav.app.widgets.images import qimage
from kestrav.core.camera.filmed import film_trimmed
from kestrav.core.document import edits
from kestrav.core.document.records import Project, Shot
from kestrav.core.document.shots import FilmFrame, film_frames, frame_count
from kestrav.core.errors import BadInput

WIDE, PICTURES = 88, 6  # pixels of a small picture, and how many there are of a shot
_GAP = 2
HEIGHT = 352  # pixels, if the timeline was lower


class FilmView(QWidget):
    """Shots of the film, a slider over all of it, and what is done with it."""

    opened = Signal()
    left = Signal()
    lens_alone = Signal(bool)  # the lens is to be seen alone, as the film plays there
    render_asked = Signal()
    sheet_asked = Signal()

    def __init__(self, over: QWidget, session: Session, player: Player) -> None:
        super().__init__(over)
        self.setObjectName("film")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(230)
        self.session, self.player = session, player
        self.is_open = False
        self.frames: list[FilmFrame] = []
        self.rows: list[tuple[str, QLabel, QLabel]] = []
        self.job: Job | None = None
        self._of: object = None
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        self.title = QLabel()
        self.title.setObjectName("title")
        head = QHBoxLayout()
        head.addWidget(self.title, 1)
        self._button(head, "Back to timeline", self.close, "Close the film view (Esc)")
        column.addLayout(head)
        self.list = QListWidget()
        self.list.setAccessibleName("Shots of the film")
        self.list.setToolTip("Shots in their order; Ctrl+Up and Ctrl+Down move one")
        self.list.setObjectName("shots")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.currentRowChanged.connect(self._chosen)
        column.addWidget(self.list, 1)
        scrub = QHBoxLayout()
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setAccessibleName("Place in the film")
        self.slider.setToolTip("Drag, or use the arrow keys, to show any moment of the film in the lens")
        self.slider.valueChanged.connect(self._scrubbed)
        self.where = QLabel()
        self.where.setMinimumWidth(330)
        scrub.addWidget(self.slider, 1)
        scrub.addWidget(self.where)
        column.addLayout(scrub)
        buttons = QHBoxLayout()
        self.play = self._button(
            buttons, "Play", self.toggle, "Play the film in the lens, from here to its end (Space)"
        )
        self._button(buttons, "Earlier", lambda: self.move_shot(-1), "Move the shot earlier (Ctrl+Up)")
        self._button(buttons, "Later", lambda: self.move_shot(1), "Move the shot later (Ctrl+Down)")
        self._button(buttons, "Include or exclude", self.take_in_or_out, "Include the shot in the film, or exclude it")
        self._button(buttons, "Trim dead ends", self.trim, "Trim the ends of the shots that show no change")
        buttons.addStretch(1)
        self._button(buttons, "Contact sheet …", self.sheet_asked.emit, "Make a page with small pictures of all shots")
        render = self._button(buttons, "Render film …", self._render, "Set options and render the whole film")
        render.setObjectName("main")
        column.addLayout(buttons)
        self.fault = QLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.fault.hide()
        column.addWidget(self.fault)
        self.player.at_frame.connect(self._at_frame)
        self.player.changed.connect(self._played)
        self.session.edited.connect(self._edited)
        self.session.opened.connect(self._edited)

    def _button(self, row: QHBoxLayout, text: str, slot: Any, tip: str) -> QPushButton:
        button = QPushButton(text)
        button.setToolTip(tip)
        button.setAutoDefault(False)
        button.clicked.connect(lambda _=False: slot())
        row.addWidget(button)
        return button

    # what there is

    def open(self) -> None:
        """Show it, and the film in the lens."""
        if not self.is_open:
            self.is_open = True
            self.opened.emit()
            self.follow()
            self.lens_alone.emit(bool(self.frames))
        self.list.setFocus()

    def _edited(self) -> None:
        if self.isVisible():
            self.follow()

    def follow(self) -> None:
        """Show the film of the session's project."""
        project = self.session.shown
        of = (project.shots, project.cameras, project.parts, project.runs)
        if self._of == of:
            return
        self._of = of
        self.fault.hide()
        shots = list(project.shots)
        filmed = [s for s in shots if s.in_film]
        try:
            self.frames = film_frames(filmed, filmed[0].fps) if filmed else []
        except BadInput as fault:
            self.frames = []
            self.complain(str(fault))
        fps = filmed[0].fps if filmed else 1.0
        self.title.setText(
            f"Film · {len(filmed)} of {len(shots)} shots · {len(self.frames) / fps:.2f}\u2009s · {len(self.frames)} frames at {fps:g} fps"
        )
        self.slider.blockSignals(True)
        self.slider.setRange(0, max(len(self.frames) - 1, 0))
        self.slider.blockSignals(False)
        row = self.list.currentRow()
        self.list.blockSignals(True)
        self.list.clear()
        self.rows = []
        for k, shot in enumerate(shots):
            self._add_row(k, shot, first=not any(s.in_film for s in shots[:k]))
        self.list.setCurrentRow(min(max(row, 0), len(shots) - 1))
        self.list.blockSignals(False)
        self._tell_where()
        # what plays is the film as it was
        self.player.stop()
        self.session.show_film(self.frames[self.slider.value()] if self.frames else None)
        self._make_pictures(project)

    def _add_row(self, number: int, shot: Shot, *, first: bool) -> None:
        holder = QWidget()
        line = QHBoxLayout(holder)
        line.setContentsMargins(8, 3, 8, 3)
        comes = (
            "not in the film"
            if not shot.in_film
            else "first"
            if first
            else "cut"
            if not shot.fade
            else f"{shot.fade:g}\u2009s cross-fade"
        )
        words = QLabel(
            f"<b>{number + 1} {shot.name}</b><br>{shot.start:.2f} to {shot.end:.2f}\u2009s · {frame_count(shot)} frames · {comes}<br>"
            f"{shot.look}, {shot.quality} · {shot.width} × {shot.height} · {shot.fps:g} fps"
        )
        words.setFixedWidth(268)
        words.setEnabled(shot.in_film)
        dead = QLabel()
        dead.setObjectName("muted")
        dead.setWordWrap(True)
        dead.setMinimumWidth(60)
        strip = QLabel()
        high = max(round(WIDE * shot.height / shot.width), 8)
        strip.setFixedSize(PICTURES * (WIDE + _GAP), min(high, 2 * WIDE))
        line.addWidget(words)
        line.addWidget(strip)
        line.addWidget(dead, 1)
        item = QListWidgetItem()
        item.setSizeHint(QSize(100, max(strip.height(), 52) + 8))
        self.list.addItem(item)
        self.list.setItemWidget(item, holder)
        self.rows.append((shot.id, strip, dead))

    def _make_pictures(self, project: Project) -> None:
        self._stop_job()
        if not project.shots:
            return
        self.job = Job(
            "Pictures of the film",
            work.film_pictures,
            project,
            self.session.used_meshes(),
            WIDE,
            PICTURES,
            tidies=False,
        )
        self.job.done.connect(self._show_pictures)
        self.job.failed.connect(self.complain)

    def _show_pictures(self, drawn: dict[str, tuple[list[np.ndarray], float, float]]) -> None:
        self.job = None
        for shot_id, strip, dead in self.rows:
            if shot_id not in drawn:
                continue
            pictures, before, after = drawn[shot_id]
            sheet = QPixmap(strip.size())
            sheet.fill(Qt.GlobalColor.transparent)
            with QPainter(sheet) as pen:
                for k, picture in enumerate(pictures):
                    pen.drawImage(k * (WIDE + _GAP), 0, qimage(picture))
            strip.setPixmap(sheet)
            texts = [
                f"{t:.2f}\u2009s still at its {end}" for t, end in ((before, "beginning"), (after, "end")) if t > 0
            ]
            dead.setText("; ".join(texts))

    def complain(self, text: str) -> None:
        """Say what is wrong."""
        self.fault.setText(text[:1].upper() + text[1:])
        self.fault.show()

    # going about in it

    def toggle(self) -> None:
        """Play from here, or stop."""
        if self.player.playing:
            self.player.stop()
            return
        if not self.frames:
            self.complain("there is no shot in the film: take one in, or add a camera and a shot")
            return
        first = self.slider.value()
        self.lens_alone.emit(True)
        self.player.play_film(self.frames, self.frames[0].shot.fps, 0 if first >= len(self.frames) - 1 else first)

    def _at_frame(self, frame: int) -> None:
        self.slider.blockSignals(True)
        self.slider.setValue(frame)
        self.slider.blockSignals(False)
        self._tell_where()

    def _played(self, playing: bool) -> None:
        self.play.setText("Stop" if playing else "Play")

    def _scrubbed(self, frame: int) -> None:
        if self.frames:
            self.player.stop()
            self.lens_alone.emit(True)
            self.session.show_film(self.frames[frame])
            self._tell_where()

    def _tell_where(self) -> None:
        if not self.frames:
            self.where.setText("")
            return
        at = self.frames[min(self.slider.value(), len(self.frames) - 1)]
        fps = self.frames[0].shot.fps
        over = f" → {at.over.name}" if at.over is not None else ""
        self.where.setText(
            f"{self.slider.value() / fps:.2f} of {len(self.frames) / fps:.2f}\u2009s · {at.shot.name}{over}"
        )

    def _chosen(self, row: int) -> None:
        if not 0 <= row < len(self.rows):
            return
        shot_id = self.rows[row][0]
        first = next((k for k, f in enumerate(self.frames) if f.shot.id == shot_id), None)
        self.session.select(shot_id)
        if first is not None:
            self._at_frame(first)
            self.session.show_film(self.frames[first])

    # changing it

    def _shot_id(self) -> str | None:
        row = self.list.currentRow()
        return self.rows[row][0] if 0 <= row < len(self.rows) else None

    def move_shot(self, by: int) -> None:
        """Move the chosen shot in the order."""
        shot_id, row = self._shot_id(), self.list.currentRow()
        if shot_id is not None and self.session.edit("Order of shots", lambda p: edits.reordered(p, shot_id, by)):
            self.list.setCurrentRow(min(max(row + by, 0), len(self.rows) - 1))

    def take_in_or_out(self) -> None:
        """Take the chosen shot into the film, or out."""
        shot_id = self._shot_id()
        shot = next((s for s in self.session.project.shots if s.id == shot_id), None)
        if shot is not None:
            self.session.edit("Film", lambda p: edits.update(p, shot.id, in_film=not shot.in_film))

    def trim(self) -> None:
        """Take the dead time off at the ends of all shots of the film."""
        self.fault.hide()
        try:
            after = film_trimmed(self.session.project, self.session.meshes)
        except BadInput as fault:
            self.complain(str(fault))
            return
        self.session.edit("Trim dead ends", lambda _: after)

    def _render(self) -> None:
        self.player.stop()
        self.render_asked.emit()

    # leaving it

    def keyPressEvent(self, event: Any) -> None:
        """Space plays; Ctrl with up and down moves a shot."""
        moves = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        if event.key() == Qt.Key.Key_Space:
            self.toggle()
        elif event.key() in moves and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.move_shot(moves[event.key()])
        elif event.key() == Qt.Key.Key_Escape:
            self.close()
        else:
            super().keyPressEvent(event)

    def _stop_job(self) -> None:
        if self.job is not None:
            self.job.stop()
            self.job = None

    def closeEvent(self, event: QCloseEvent) -> None:
        """The lens shows again what is selected."""
        self._stop_job()
        self.player.stop()
        self._of = None
        if self.is_open:
            self.is_open = False
            self.session.show_film(None)
            self.lens_alone.emit(False)
            self.left.emit()
        super().closeEvent(event)
