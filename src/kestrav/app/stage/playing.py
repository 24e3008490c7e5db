"""Drawing while it plays: kept pictures where there are some, what stands drawn once, the lens at half the rate."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from kestrav.app.stage.panes import alone, unseen
from kestrav.app.stage.preview import Preview
from kestrav.app.stage.stage_base import StageBase
from kestrav.app.stage.stage_marks import StageMarks
from kestrav.app.stage.still_parts import StillParts
from kestrav.core.kinematics.runs import span

_AHEAD = 24  # frames whose poses are worked out at once while it plays
_LONGEST = 0.2  # s that a picture may take to be made ahead: a person's next click waits for it


class Playing:
    """Knows whether a stage plays, and what of its frames is kept."""

    def __init__(self, stage: StageBase, marks: StageMarks) -> None:
        self.stage, self.marks = stage, marks
        window = stage.view.GetRenderWindow()
        self.preview = Preview(window, self._draw_ahead)
        self.still = StillParts(window, stage.scene)
        self.playing = False
        self.ahead = False  # a picture is made before it is played
        self.lens_late = False  # the lens shows what it saw a frame ago
        self.busy: Callable[[], bool] = lambda: False  # whether long work is under way
        self._previewed: tuple[object, ...] = ()

    def set_playing(self, playing: bool) -> None:
        """Be told that it plays, or does not any more."""
        self.playing = playing
        self.stage.session.prefetch = _AHEAD if playing else 1
        self.preview.hold()
        self.stage.schedule()

    def of(self) -> tuple[object, ...] | None:
        """What a frame's picture shows besides its time; None where no pictures are kept: where the graphics are quick, of films,
        and while a fix is previewed or another tool than that for selecting is in hand."""
        stage, session, view = self.stage, self.stage.session, self.stage.panes["main"].viewpoint
        busy = session.film is not None or session.fix is not None or stage.together or stage.tiles is not None
        # what another tool than that for selecting draws changes with each of its clicks
        busy = busy or (stage.tool is not None and stage.tool.draws)
        if not stage.software or busy or not session.shown.parts:
            return None
        gap_of = None if stage.gap_of is None else id(stage.gap_of)
        place = (*view.focus, view.azimuth, view.elevation, view.distance, view.parallel)
        size = (stage.view.width(), stage.view.height(), stage.devicePixelRatioF(), stage.lens_width)
        shown = (stage.swapped, stage.lens_shown, stage.lens_alone, stage.parts_style, stage.edges_shown, stage.guides)
        chosen = (session.selected_ids, session.points, session.isolated, session.pair, id(session.traced))
        cut = None if stage.cut is None else tuple(np.concatenate(stage.cut))
        of = (id(session.shown), session.camera_id, gap_of)
        return (*of, place, size, shown, chosen, cut, stage.path_marks, stage.scene.refining)

    def _use(self) -> bool:
        of = self.of()
        if of is None:
            self.preview.use(None, 0)
            return False
        project = self.stage.session.shown
        # kept along, so that what they are told apart by is not used again for others
        self._previewed = (project, self.stage.gap_of, self.stage.session.traced)
        self.preview.use(of, max(round(span(project) * project.settings.fps), 1))
        return True

    def show_frame(self) -> bool:
        """While it plays, show the kept picture of the frame if there is one."""
        self.preview.hide()
        if not self.playing or not self._use() or not self.preview.show(self.stage.session.frame):
            return False
        self.stage.smooth.stop()
        window = self.stage.view.GetRenderWindow()
        with alone(window, self.preview.renderer):
            window.Render()
        self.marks.place_label()
        self.stage.drawings += 1
        self.stage.drawn.emit()
        return True

    def go_on(self) -> None:
        """Keep the picture of a frame that was drawn while it plays; otherwise make them ahead as soon as nothing is to be done."""
        self.preview.hold()
        if not self.stage.whole_now or self.stage.scene.refining or not self._use():
            return
        if self.playing and not self.lens_late:
            self.preview.keep(self.stage.session.frame)
        elif not self.playing and span(self.stage.session.shown) > 0 and self.stage.gradual.took < _LONGEST:
            self.preview.rest(self.stage.session.frame)

    def _draw_ahead(self, frame: int) -> bool:
        """Draw a frame without showing it, and leave all as it was."""
        session = self.stage.session
        if not self.stage.alive or not self.stage.isVisible() or self.playing or self.stage.mouse_holds():
            return False
        if self.busy():
            return False  # the cores are wanted for what somebody waits for
        # its pictures are of what the stage shows now
        if self.stage.smooth.busy or self.stage.gradual.pending or self.stage.waiting:
            return False
        if self.preview.hidden_by(self.of()):
            return False
        time, gap, prefetch = session.time, self.stage.gap, session.prefetch
        smooth = self.stage.smooth.shown
        self.stage.smooth.renderer.SetDraw(False)
        try:
            session.time = frame / session.shown.settings.fps
            session.prefetch = _AHEAD
            self.stage.gap = self.stage.gap_at(frame)
            self.ahead = True
            with unseen(self.stage.view.GetRenderWindow()):
                self.stage.draw_frame()
        finally:
            self.ahead = False
            session.time, self.stage.gap, session.prefetch = time, gap, prefetch
            self.stage.smooth.renderer.SetDraw(smooth)
        return self.stage.whole_now
