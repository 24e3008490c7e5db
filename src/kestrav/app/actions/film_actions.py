"""What the window does about pictures and film: asking how, rendering in jobs, the whole film, stills and contact sheets."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Literal

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QFileDialog

from kestrav.app.film.film_view import FilmView
from kestrav.app.film.render_dialog import SEE_THROUGH, RenderDialog
from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.core.document.records import Shot

if TYPE_CHECKING:
    from kestrav.app.shell.window import Window


class FilmActions(QObject):
    """Renders in jobs; what is asked for while another renders waits for it."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.window, self.session = window, window.session
        self.view: FilmView | None = None

    def folder(self) -> Path:
        """Where films go if nothing else is said: beside the project."""
        return self.session.file.parent if self.session.file else Path.cwd()

    def show_film(self) -> None:
        """Show the film: all shots in their order."""
        if self.view is None:
            self.view = FilmView(self.window)
        self.view.open()

    def ask(self, shot: Shot | None = None, whole: bool = False) -> None:
        """Ask how, and render a shot, or the whole film, in a job."""
        shot = shot or next((s for s in self.session.project.shots if whole and s.in_film), None) or self.session.shot
        if shot is None:
            self.window.card.complain(
                "there is no shot to render: select a part and choose “Orbit it”, or add a camera and a shot"
            )
            return
        dialog = RenderDialog(
            self.window, self.session.project, self.window.used_meshes(), shot, self.folder(), whole=whole
        )
        if dialog.exec():
            self.start(dialog.shots(), dialog.chosen, dialog.codec, dialog.alpha and dialog.kind in SEE_THROUGH)

    def start(
        self, shots: list[Shot], target: Path, codec: Literal["h264", "av1"] = "h264", alpha: bool = False
    ) -> None:
        """Render shots to a target in a job, at once or after what is under way."""
        arguments = (self.session.project, self.window.used_meshes(), shots, target, codec, alpha)
        name = f"“{shots[0].name}”" if len(shots) == 1 else f"the film of {len(shots)} shots"
        label = f"Rendering {name}"

        def make() -> Job:
            from kestrav.render.film import frames_folder

            job = Job(label, work.render_film, *arguments)
            job.pictures = frames_folder(target)
            return job

        self.window.start_or_wait(label, make, self._written)

    def ask_still(self, shot: Shot | None = None) -> None:
        """Ask where, and render a still at the playhead."""
        shot = shot or self.session.shot
        if shot is None:
            self.window.card.complain("there is no shot whose camera could take a still: add a camera and a shot first")
            return
        name, _ = QFileDialog.getSaveFileName(
            self.window, "Still at the playhead", str(self.folder() / "still.png"), "Picture (*.png)"
        )
        if name:
            self.start_still(shot, _as_png(name))

    def start_still(self, shot: Shot, target: Path) -> None:
        """Render a still at the playhead in a job."""
        arguments = (self.session.project, self.window.used_meshes(), shot, self.session.time, target)
        label = "Rendering a still"
        self.window.start_or_wait(label, lambda: Job(label, work.render_picture, *arguments), self._written)

    def ask_sheet(self) -> None:
        """Ask where, and make a contact sheet of the film's shots."""
        shots = [s for s in self.session.project.shots if s.in_film]
        if not shots:
            self.window.card.complain("there is no shot in the film: take one in, or add a camera and a shot")
            return
        name, _ = QFileDialog.getSaveFileName(
            self.window, "Contact sheet", str(self.folder() / "contact-sheet.png"), "Picture (*.png)"
        )
        if name:
            self.start_sheet(shots, _as_png(name))

    def start_sheet(self, shots: list[Shot], target: Path) -> None:
        """Make a contact sheet in a job."""
        arguments = (self.session.project, self.window.used_meshes(), shots, target)
        label = "Making a contact sheet"
        self.window.start_or_wait(
            label,
            lambda: Job(label, work.write_sheet, *arguments),
            lambda told: self.window.tools.say_for(str(told), 8000),
        )

    def _written(self, target: Path) -> None:
        self.window.tools.say_for(f"Written: {target}", 8000)


def _as_png(name: str) -> Path:
    return Path(name) if Path(name).suffix.lower() == ".png" else Path(name + ".png")
