"""What the window does about pictures and film: asking how, rendering in jobs, the whole film, stills and contact sheets."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog

from kestrav.app.actions.prompts import Actions, Prompts
from kestrav.app.dialogs.questions import answered, ask_picture
from kestrav.app.film.film_view import FilmView
from kestrav.app.film.render_dialog import SEE_THROUGH, RenderDialog
from kestrav.app.film.still_view import StillView
from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.app.player import Player
from kestrav.app.session import Session
from kestrav.core.document.records import Shot
from kestrav.core.editing.finishing import in_all_colourways
from kestrav.core.errors import BadInput
from kestrav.render.formats import PNG, Bits, Codec, beside_named, with_ending

if TYPE_CHECKING:
    from kestrav.render.render_queue import Entry, Request


_NO_SHOT = "there is no shot whose camera could take a still: add a camera and a shot first"


def _forgotten(held: Future[Entry]) -> None:
    """What was kept is not needed any more; where it could not be kept, nothing is there."""
    if not held.cancelled() and held.exception() is None:
        held.result().forget()


class FilmActions(Actions):
    """Renders in jobs; what is asked for while another renders waits for it, and goes on after a restart."""

    view_made = Signal(object)  # the film's view, which has no place yet
    _not_kept = Signal(str)

    def __init__(self, session: Session, prompts: Prompts, player: Player) -> None:
        super().__init__(session, prompts)
        self.player = player
        self.view: FilmView | None = None
        self.looks: list[StillView] = []
        self.queue_home: Path | None = None
        self.held: list[Future[Entry]] = []  # what is kept until it is done
        self._not_kept.connect(lambda text: prompts.say(text, 8000))
        self._keeping = ThreadPoolExecutor(1, "kestrav-queue")

    def folder(self) -> Path:
        """Where films go if nothing else is said: beside the project."""
        return self.session.file.parent if self.session.file else Path.cwd()

    def show_film(self) -> None:
        """Show the film: all shots in their order."""
        if self.view is None:
            self.view = FilmView(self.prompts.over, self.session, self.player)
            self.view.render_asked.connect(lambda: self.ask(None, whole=True))
            self.view.sheet_asked.connect(self.ask_sheet)
            self.view_made.emit(self.view)
        self.view.open()

    def ask(self, shot: Shot | None = None, *, whole: bool = False) -> None:
        """Ask how, and render a shot, or the whole film, in a job."""
        shot = shot or next((s for s in self.session.project.shots if whole and s.in_film), None) or self.session.shot
        if shot is None:
            self.prompts.complain(
                "there is no shot to render: select a part and choose “Orbit it”, or add a camera and a shot"
            )
            return
        dialog = RenderDialog(
            self.prompts.over, self.session.project, self.session.used_meshes(), shot, self.folder(), whole=whole
        )
        if answered(dialog):
            render = self.start_in_colourways if dialog.colourways else self.start
            alpha = dialog.alpha and dialog.kind in SEE_THROUGH
            render(dialog.shots(), dialog.chosen, codec=dialog.codec, alpha=alpha, bits=dialog.bits)

    def start(
        self,
        shots: list[Shot],
        target: Path,
        codec: Codec = "h264",
        *,
        alpha: bool = False,
        bits: Bits = 8,
    ) -> None:
        """Render shots to a target in a job, at once or after what is under way."""
        from kestrav.render.render_queue import Request

        name = f"“{shots[0].name}”" if len(shots) == 1 else f"the film of {len(shots)} shots"
        self._render(Request(f"Rendering {name}", tuple(shots), str(target), None, codec, alpha, bits))

    def start_in_colourways(self, shots: list[Shot], target: Path, **how: Any) -> None:
        """Render shots once in each colourway, whose name is added to the target's."""
        for name, dressed in in_all_colourways(self.session.project, shots):
            self.start(list(dressed), beside_named(target, name), **how)

    def _render(self, request: Request) -> None:
        """Keep a request until it is done, and do it in a job."""
        from kestrav.render.render_queue import keep

        project, meshes = self.session.project, self.session.used_meshes()
        held: Future[Entry] | None = None
        if self.queue_home is not None:
            held = self._keeping.submit(keep, self.queue_home, request, project, meshes)
            held.add_done_callback(self._look_whether_kept)
            self.held.append(held)
        self._queue(request, partial(Job, request.label, work.render_request, project, meshes, request), held)

    def _look_whether_kept(self, held: Future[Entry]) -> None:
        fault = held.exception()
        if fault is not None:
            # nobody is told any more when the window has gone meanwhile
            with contextlib.suppress(RuntimeError):
                self._not_kept.emit(str(fault))

    def _queue(self, request: Request, make: Callable[[], Job], held: Future[Entry] | None) -> None:
        def forget() -> None:
            if held is not None:
                self.held = [other for other in self.held if other is not held]
                held.add_done_callback(_forgotten)

        def begin() -> Job:
            from kestrav.render.film import frames_folder

            job = make()
            if request.time is None:
                job.pictures = frames_folder(Path(request.target))
            # not where the window is closed: it goes on with it the next time
            for outcome in (job.done, job.failed, job.cancelled):
                outcome.connect(forget)
            return job

        self.prompts.start_or_wait(request.label, begin, self._written, forget)

    def keep_queue(self, home: Path) -> None:
        """Keep what is to be rendered below a folder, and go on with what is left there."""
        from kestrav.render.render_queue import left_over

        self.queue_home = home
        left = left_over(home)
        for entry in left:
            make = partial(Job, entry.request.label, work.render_kept, entry.folder, entry.request)
            held: Future[Entry] = Future()
            held.set_result(entry)
            self.held.append(held)
            self._queue(entry.request, make, held)
        if left:
            names = ", ".join(Path(entry.request.target).name for entry in left)
            self.prompts.say(f"Rendering goes on where it was when Kestrav ended: {names}", 10_000)

    @property
    def busy(self) -> bool:
        """Whether a picture is being made in a window of its own."""
        return any(view.working for view in self.looks)

    def close_queue(self) -> None:
        """The window closes: what is not done is left for the next start."""
        for view in [*self.looks]:
            view.close()
        # what is being written must not be broken off
        self._keeping.shutdown(wait=True)
        for held in self.held:
            if held.exception() is None:
                held.result().let_go()
        self.held = []

    def ask_still(self, shot: Shot | None = None) -> None:
        """Ask where, and render a still at the playhead."""
        shot = shot or self.session.shot
        if shot is None:
            self.prompts.complain(_NO_SHOT)
            return
        chosen = ask_picture(self.prompts.over, "Still at the playhead", self.folder() / "still.png")
        if chosen is None:
            return
        from kestrav.render.studios import check_studio

        target, bits = chosen
        try:
            check_studio(shot, bits)
        except BadInput as fault:
            self.prompts.complain(str(fault))
        else:
            self.start_still(shot, target, bits)

    def start_still(self, shot: Shot, target: Path, bits: Bits = 8) -> None:
        """Render a still at the playhead in a job."""
        from kestrav.render.render_queue import Request

        self._render(Request("Rendering a still", (shot,), str(target), self.session.time, bits=bits))

    def look(self, shot: Shot | None = None) -> None:
        """Make the lens's picture at the playhead in a window of its own, where it is seen as it grows."""
        shot = shot or self.session.shot
        if shot is None:
            self.prompts.complain(_NO_SHOT)
            return
        view = StillView(self.prompts.over, self.session.project, self.session.used_meshes(), shot, self.session.time)
        view.folder = self.folder()
        self.looks.append(view)
        view.finished.connect(lambda: self.looks.remove(view))
        view.show()

    def ask_sheet(self) -> None:
        """Ask where, and make a contact sheet of the film's shots."""
        shots = [s for s in self.session.project.shots if s.in_film]
        if not shots:
            self.prompts.complain("there is no shot in the film: take one in, or add a camera and a shot")
            return
        name, _ = QFileDialog.getSaveFileName(
            self.prompts.over, "Contact sheet", str(self.folder() / "contact-sheet.png"), "Picture (*.png)"
        )
        if name:
            self.start_sheet(shots, with_ending(Path(name), PNG))

    def start_sheet(self, shots: list[Shot], target: Path) -> None:
        """Make a contact sheet in a job."""
        arguments = (self.session.project, self.session.used_meshes(), shots, target)
        label = "Making a contact sheet"
        self.prompts.start_or_wait(
            label,
            lambda: Job(label, work.write_sheet, *arguments),
            lambda text: self.prompts.say(str(text), 8000),
        )

    def _written(self, target: Path) -> None:
        self.prompts.say(f"Written: {target}", 8000)
