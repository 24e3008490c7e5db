"""The dialog before rendering: what, how, to where, and how long it will take."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.dialogs.questions import ask_overwrite
from kestrav.app.film.shot_rows import add_background, add_size
from kestrav.app.jobs import work
from kestrav.app.jobs.job_bar import duration
from kestrav.app.jobs.jobs import Job
from kestrav.app.widgets.form import LABEL_WIDTH, Form
from kestrav.app.widgets.sheet import Sheet
from kestrav.core.document.camera_checks import check_shot
from kestrav.core.document.records import Project, Shot
from kestrav.core.document.shots import film_frames, frame_count
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.formats import BITS, Bits, Codec, beside_named, file_name, with_ending

FORMATS = (
    ("mp4", "film, H.264 in MP4"),
    ("av1", "film, AV1 in MP4"),
    ("webm", "film, VP9 in WebM"),
    ("gif", "GIF"),
    ("webp", "animated WebP"),
    ("png", "PNG pictures in a folder"),
    ("exr", "OpenEXR with passes in a folder"),
)
_ENDINGS = {"mp4": ".mp4", "av1": ".mp4", "webm": ".webm", "gif": ".gif", "webp": ".webp", "png": "", "exr": ""}
SEE_THROUGH = ("webm", "gif", "webp", "png", "exr")  # that can leave the background out
_WHOLE = ""  # instead of a shot's id: the whole film
_TRIES_AFTER = 400  # ms without a change, after which a frame is made to see how long it takes
_SHARED = 0.85  # of the cores' work that several processes do


class RenderDialog(QDialog):
    """What to render, how, and to where."""

    def __init__(
        self,
        parent: QWidget | None,
        project: Project,
        meshes: Mapping[str, Mesh],
        shot: Shot,
        folder: Path,
        *,
        whole: bool = False,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Render a shot")
        self.setMinimumWidth(430)
        self.project, self.shot, self.kind = project, shot, "mp4"
        self.whole, self.alpha, self.colourways = whole, False, False
        self._bits: Bits = 8
        self._meshes = meshes
        self._takes: dict[Any, Any] = {}
        self._trial: Job | None = None
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(_TRIES_AFTER)
        self._soon.timeout.connect(self._try_a_frame)
        self.folder = folder
        column = QVBoxLayout(self)
        column.setContentsMargins(4, 4, 4, 10)
        title = QLabel("Render a shot")
        title.setObjectName("title")
        title.setContentsMargins(12, 8, 12, 0)
        column.addWidget(title)
        self.form = Form()
        self.form.refused.connect(self._complain)
        column.addWidget(self.form)
        row = QHBoxLayout()
        row.setContentsMargins(12, 0, 12, 0)
        self.target = QLineEdit()
        self.target.setObjectName("render-target")
        self.target.setAccessibleName("Output")
        self.target.setToolTip("The file or folder to write")
        browse = QPushButton("Choose …")
        browse.setToolTip("Choose the output file or folder")
        browse.clicked.connect(self._browse)
        where = QLabel("Output")
        where.setObjectName("muted")
        where.setMinimumWidth(LABEL_WIDTH + 2)
        row.addWidget(where)
        row.addWidget(self.target, 1)
        row.addWidget(browse)
        column.addLayout(row)
        self.fault = QLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.fault.hide()
        column.addWidget(self.fault)
        buttons = QDialogButtonBox()
        start = buttons.addButton("Render", QDialogButtonBox.ButtonRole.AcceptRole)
        start.setObjectName("main")
        start.setToolTip("Start rendering; the window stays usable")
        buttons.addButton("Close", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self._start)
        buttons.rejected.connect(self.reject)
        buttons.setContentsMargins(12, 4, 12, 0)
        column.addWidget(buttons)
        self._build()
        self._name_target()

    def _build(self) -> None:
        form, shot = Sheet(), self.shot
        options = [(s.id, s.name) for s in self.project.shots]
        filmed = [s for s in self.project.shots if s.in_film]
        if len(filmed) > 1:
            options.insert(0, (_WHOLE, f"the whole film, {len(filmed)} shots"))
        form.choice("Shot", options, _WHOLE if self.whole else shot.id, self._pick, "Shot to render, or the whole film")
        form.choice("Format", FORMATS, self.kind, self._set_kind, "File format of the film or pictures")
        if len(self._depths) > 1:
            depths = [(str(bits), f"{bits} bits") for bits in self._depths]
            form.choice("Colour depth", depths, str(self.bits), self._set_bits, "Bits for each of red, green and blue")
        if len(self.project.colourways) > 1:
            form.check(
                "Colourways",
                f"one for each of {len(self.project.colourways)}",
                self.colourways,
                self._set_colourways,
                "Render once in each colourway; its name is added to the output's",
            )
        if self.kind in SEE_THROUGH:
            form.check("Background", "transparent", self.alpha, self._set_alpha, "Transparent background")
        if not self.whole:
            form.fields(shot, "look", change=self._change)
        form.fields(shot, "quality", change=self._change)
        add_size(form, shot, self._change)
        form.fields(shot, "width", "height", "fps", change=self._change)
        if not self.whole:
            form.fields(shot, "start", "end", change=self._change)
            add_background(form, shot, self._change)
        form.worked(*self._summary(), self._cost())
        self.form.show_sheet(form)
        self._soon.start()

    def _key(self) -> tuple[object, ...]:
        shot = self.shot
        return shot.id, shot.look, shot.quality, shot.width, shot.height

    @property
    def tried(self) -> bool:
        """Whether it is known what a frame takes as it is asked for."""
        return self._key() in self._takes

    def _cost(self) -> str:
        """What a frame and all of them take, as tried out on one."""
        takes = self._takes.get(self._key())
        if takes is None:
            return "trying out how long a frame takes …"
        shots = self.shots()
        try:
            count = len(film_frames(shots, self.shot.fps)) if self.whole else frame_count(self.shot)
        except BadInput:
            return ""
        from kestrav.render.studios import is_traced

        if is_traced(self.shot):
            # each of them takes all cores
            return f"{takes:.1f}\u2009s a frame on all cores × {count}: <b>about {duration(count * takes)}</b>"
        cores = os.cpu_count() or 1
        whole = count * takes / max(1.0, cores * _SHARED)
        return f"{takes:.2f}\u2009s a frame on one core × {count}, on {cores} cores: <b>about {duration(whole)}</b>"

    def _try_a_frame(self) -> None:
        if self._key() in self._takes or not self.isVisible():
            return
        self._stop_trial()
        key = self._key()
        shot = msgspec.structs.replace(self.shot)
        self._trial = Job("Trying a frame", work.frame_takes, self.project, self._meshes, shot, tidies=False)

        def told(seconds: object) -> None:
            assert isinstance(seconds, float)
            self._takes[key] = seconds
            self._trial = None
            self._build()

        self._trial.done.connect(told)

    def _stop_trial(self) -> None:
        if self._trial is not None:
            self._trial.stop()
            self._trial = None

    def done(self, result: int) -> None:
        """Closed."""
        self._soon.stop()
        self._stop_trial()
        super().done(result)

    def shots(self) -> list[Shot]:
        """What is rendered: the shot, or all of the film at its size and rate."""
        if not self.whole:
            return [self.shot]
        like = {f: getattr(self.shot, f) for f in ("width", "height", "fps", "quality")}
        return [msgspec.structs.replace(s, **like) for s in self.project.shots if s.in_film]

    @property
    def codec(self) -> Codec:
        """The codec of an MP4."""
        return "av1" if self.kind == "av1" else "h264"

    @property
    def _depths(self) -> tuple[Bits, ...]:
        """The bits that the format can have: a folder's are those of its pictures."""
        return BITS[_ENDINGS[self.kind] or f".{self.kind}"]

    @property
    def bits(self) -> Bits:
        """The bits of each colour."""
        return self._bits if self._bits in self._depths else self._depths[0]

    def _set_bits(self, bits: str) -> None:
        self._bits = next(b for b in self._depths if str(b) == bits)

    def _set_colourways(self, colourways: bool) -> None:
        self.colourways = colourways

    def _summary(self) -> list[str]:
        shot = self.shot
        if self.whole:
            try:
                frames = film_frames(self.shots(), shot.fps)
            except BadInput as fault:
                return [str(fault)]
            return [
                f"{len(frames) / shot.fps:.2f}\u2009s × {shot.fps:g} fps = <b>{len(frames)} frames</b>, cross-fades taken off"
            ]
        return [f"({shot.end:.2f} − {shot.start:.2f})\u2009s × {shot.fps:g} fps = <b>{frame_count(shot)} frames</b>"]

    def _name_target(self) -> None:
        name = self.project.name if self.whole else self.shot.name
        safe = file_name(name).replace(" ", "-").replace(".", "-").lower()
        self.target.setText(str(self.folder / f"{safe}{_ENDINGS[self.kind]}"))

    def _pick(self, shot_id: str) -> None:
        self.whole = shot_id == _WHOLE
        if not self.whole:
            self.shot = next(s for s in self.project.shots if s.id == shot_id)
        self._build()
        self._name_target()

    def _set_kind(self, kind: str) -> None:
        self.kind = kind
        self._build()
        self._name_target()

    def _set_alpha(self, alpha: bool) -> None:
        self.alpha = alpha

    def _change(self, **fields: Any) -> None:
        changed = msgspec.structs.replace(self.shot, **fields)
        try:
            check_shot(changed)
        except BadInput as fault:
            self._complain(str(fault))
        else:
            self.fault.hide()
            self.shot = changed
        self._build()

    def _complain(self, text: str) -> None:
        self.fault.setText(text[:1].upper() + text[1:])
        self.fault.show()

    def _browse(self) -> None:
        ending = _ENDINGS[self.kind]
        if ending:
            name, _ = QFileDialog.getSaveFileName(self, "Render to", self.target.text(), f"Film (*{ending})")
        else:
            name = QFileDialog.getExistingDirectory(self, "Render into a new folder in", str(self.folder))
            name = str(Path(name) / Path(self.target.text()).name) if name else ""
        if name:
            self.target.setText(name)

    def _start(self) -> None:
        from kestrav.render.film import check_target, replaced_by
        from kestrav.render.studios import check_studio

        target = Path(self.target.text()).expanduser()
        if _ENDINGS[self.kind]:
            target = with_ending(target, _ENDINGS[self.kind])
        targets = [target]
        if self.colourways:
            targets = [beside_named(target, colourway.name) for colourway in self.project.colourways]
        try:
            for one in targets:
                check_target(one, overwrite=True)
            for shot in self.shots():
                check_studio(shot, self.bits)
        except BadInput as fault:
            self._complain(str(fault))
            return
        for one in targets:
            if one.exists() and not ask_overwrite(self, one, replaced_by(one)):
                return
        self.chosen = target
        self.accept()
