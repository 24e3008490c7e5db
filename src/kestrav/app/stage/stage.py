"""The stage: the 3D view with the lens in its corner, and the mouse and keys in it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, QTimer
from PySide6.QtGui import QResizeEvent

from kestrav.app.session import Session
from kestrav.app.stage.arrangement import Arrangement
from kestrav.app.stage.gradual_drawing import GradualDrawing
from kestrav.app.stage.lenses import LensView, Tile, kept_guides
from kestrav.app.stage.panes import is_software
from kestrav.app.stage.playing import Playing
from kestrav.app.stage.smooth_edges import SmoothEdges
from kestrav.app.stage.stage_base import StageBase
from kestrav.app.stage.stage_marks import StageMarks
from kestrav.app.stage.stage_mouse import StageMouse
from kestrav.app.stage.stage_view import StageView
from kestrav.app.stage.stage_views import StageViews
from kestrav.app.widgets.window_colours import STAGE, STAGE_SKY
from kestrav.core.camera.adjusting import camera_of
from kestrav.core.document.records import (
    Project,
)
from kestrav.core.document.shots import FilmFrame
from kestrav.core.kinematics.poses import world_poses
from kestrav.render.aiming import aim_camera
from kestrav.render.finishes import Style
from kestrav.render.palette import rgb
from kestrav.render.picture import REACH, KeptPicture, picture_of
from kestrav.render.scene_lights import ProjectLights
from kestrav.render.steady_light import light

Array = NDArray[np.float64]

_SMALL_LENS = 420  # px of a lens that may be drawn coarsely while it plays
_REFINED = 400  # ms between looks at what of a large product is worked out, at least
MARGIN, HEAD = 12, 26
SMALLEST_LENS = 160


class Stage(StageBase):
    """Shows the session's document at its time; what the mouse does is a tool's business."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.guides = kept_guides()
        self._refining = QTimer(self, singleShot=True, interval=_REFINED)
        self._refining.timeout.connect(self._refine)
        self._known = False  # whether the graphics are known
        self._kept_now = False
        self._light_panes()
        self.lens_view, self.kept = LensView(), KeptPicture()
        self.lens = self.lens_view.renderer
        self.marks = StageMarks(self)
        self.lights = ProjectLights([*(p.renderer for p in self.panes.values()), self.lens])
        self.views = StageViews(self, self.marks.floor)
        self.mouse = StageMouse(self)
        self.mouse_holds = lambda: self.mouse.holds
        self.view = StageView(self, self.mouse)
        window = self.view.GetRenderWindow()
        self.gradual = GradualDrawing(window, self.scene, self._keep_lens)
        self.smooth = SmoothEdges(window, self._draw_kept)
        self.play = Playing(self, self.marks)
        for owned in (self.gradual, self.smooth, self.play.preview):
            owned.setParent(self)
        # what the lens's picture on the screen was made from, if it is to be kept
        self._seen: tuple[object, ...] | None = None
        window.SetMultiSamples(0)
        self.arrangement = Arrangement(self, self.views, self.lens_view, self.kept, self.marks.outline)
        self.arrangement.put_on_top([self.smooth.renderer, self.play.preview.renderer])
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.draw)
        session.edited.connect(self.schedule)
        session.moved.connect(self.schedule)
        session.selected.connect(self.schedule)
        session.opened.connect(self.views.show_all)
        session.isolation.connect(self.schedule)

    # renderers

    def _light_panes(self) -> None:
        panes = list(self.panes.values())
        for pane in panes:
            light(pane.over)
            pane.renderer.SetBackground(*rgb(STAGE))
            pane.renderer.SetBackground2(*rgb(STAGE_SKY))
            pane.renderer.SetGradientBackground(pane.turnable)
        for pane in panes:
            light(pane.renderer)

    def set_style(self, style: Style) -> None:
        """Show the parts solid, see-through, as wires or finished; the lens shows its shot’s look."""
        self.parts_style = style
        self.scene.set_style(style, self.cut)
        self.arrangement.show_edges()
        self.schedule()

    def set_edges(self, shown: bool) -> None:
        """Show the parts' sharp edges in the stage, or not."""
        self.edges_shown = shown
        self.arrangement.show_edges()
        self.schedule()

    def set_cut(self, cut: tuple[Array, Array] | None) -> None:
        """Cut the view open: what lies on the side that the normal (3,) shows from a point (3,) is taken away."""
        self.cut = cut
        self.scene.set_style(self.parts_style, cut)
        self.schedule()

    @property
    def tiles(self) -> list[Tile] | None:
        """The cameras that are shown side by side, or none."""
        return self.arrangement.side_by_side.tiles

    def arrange(self) -> None:
        """Lay out the renderers and what lies over them."""
        self.arrangement.arrange()

    def over_lens(self, position: QPoint) -> bool:
        """Whether a place is in the lens."""
        return self.arrangement.over_lens(position)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.arrange()

    # drawing

    @property
    def waiting(self) -> bool:
        """Whether it is to be drawn soon."""
        return self._timer.isActive()

    def schedule(self) -> None:
        """Draw soon; many calls are one drawing."""
        if not self._timer.isActive():
            self._timer.start(0)

    def draw(self) -> None:
        """Draw the session's document at its time."""
        if not self.alive or not self.isVisible():
            return
        if self.play.show_frame():
            return
        # it is drawn now
        self._timer.stop()
        self.smooth.stop()
        self.draw_frame()
        self.marks.place_label()
        self.arrangement.tell_lens()
        if self.scene.refining and not self._refining.isActive():
            self._refining.start()
        if self.marks.paths.behind:
            self.schedule()
        film = self.session.film
        # where the graphics smooth edges themselves, and of what takes long to draw, one picture is enough
        if (
            self.whole_now
            and self.software
            and not self.play.playing
            and not (film is not None and film.over is not None)
        ):
            self.smooth.forget()
        self.play.go_on()
        self.drawings += 1
        self.drawn.emit()

    def draw_frame(self) -> None:
        """Draw the document at its time into the window."""
        project = self.session.shown
        self.scene.update(project, self.session.meshes, self.session.isolated, self.session.pair)
        poses = self.session.poses()
        self.scene.pose(poses)
        self.lights.show(project, self.session.time)
        self._aim_stage()
        play = self.play
        # while it plays without the graphics' help the lens follows at half the rate
        # and its last picture stands for the next
        rests = not self.swapped and self.session.film is None and self.kept.is_there
        play.lens_late = play.playing and self.software and not play.lens_late and rests
        # so small a picture shows no difference, where it shows no edges
        shot = self.session.shot
        small = self.lens_rect.width() <= _SMALL_LENS and (shot is None or shot.look == "studio")
        coarse = play.playing and self.software and rests and small
        self.scene.set_final_coarse(coarse)
        # of several clear parts before one another it is then a little off, which does not show in motion
        self.scene.set_blended(self.software and (play.playing or play.ahead))
        if not play.lens_late:
            self._aim_lens(project, poses)
        pixel = self.pixel()
        self.marks.show(project, poses, pixel)
        if self.tool is not None:
            self.tool.drawn(pixel)
        window = self.view.GetRenderWindow()
        self.arrangement.side_by_side.aim(project, poses)
        # while only the person's viewpoint turns, the lens sees what it saw
        session = self.session
        seen = (project, session.time, session.camera, session.shot, self.guides, session.film, coarse)
        lens_shown = self.arrangement.lens_is_beside
        reuse = not self.swapped and lens_shown and (play.lens_late or self.kept.holds(seen))
        self.kept.show(reuse)
        self.lens.SetDraw(self.session.camera is not None and (self.swapped or lens_shown) and not reuse)
        self.marks.show_outline()
        of = play.of() if play.playing and not self.swapped else None
        if of is None:
            play.still.forget()
            whole = self.gradual.draw(self.software or not self._known)
        else:
            with play.still.below(self.main, of, self.marks.steady, lamps_changed=self.lights.changed):
                whole = self.gradual.draw(True)
        if not self._refining.isActive():  # it would begin anew with each picture, and never end while it plays
            # where a picture takes long, there are to be few more of them
            self._refining.setInterval(int(max(_REFINED, 4000 * self.gradual.took)))
        film = self.session.film
        if film is not None and film.over is not None and self.lens.GetDraw():
            self._fade_over(film)
        self._seen = None
        if not self.swapped and not reuse and self.lens.GetDraw():
            self._seen = seen
            if whole:
                self._keep_lens()
        if not self._known:
            self._known = True
            self.software = is_software(window)
            if not self.software:
                window.SetMultiSamples(8)
        self.whole_now = whole

    def _draw_kept(self, lively: bool) -> None:
        """Draw the lens itself where it is shown by a kept picture, or show that again."""
        if lively:
            self._kept_now = bool(self.kept.renderer.GetDraw())
        if self._kept_now:
            self.kept.show(not lively)
            self.lens.SetDraw(lively)

    def _keep_lens(self) -> None:
        """Keep the lens's picture, which is whole now, as long as it shows the same."""
        if self.alive and self._seen is not None:
            self.kept.keep(self.view.GetRenderWindow(), self.lens, self._seen)

    def _refine(self) -> None:
        """Show more of a large product as it will look, and come back until all of it does."""
        if self.alive and self.scene.refine():
            self.kept.forget()
            self.schedule()
        elif self.alive and self.scene.refining:
            self._refining.start()

    def _fade_over(self, film: FilmFrame) -> None:
        """Draw the shot that comes in a cross-fade, with what has been drawn of the other over it."""
        project, window, over = self.session.shown, self.view.GetRenderWindow(), film.over
        assert over is not None
        before = picture_of(window, self.lens, 1.0 - film.share)
        poses = world_poses(project, [film.over_time])[0]
        self.scene.pose(poses)
        self.lights.show(project, film.over_time)
        self.scene.set_display_mode(self.lens_view.display_mode(project, over))
        camera, view = camera_of(project, over.camera), self.lens_view
        view.show(self.scene, project, self.session.meshes, camera, over, film.over_time, poses, self.guides)
        view.fading.show(before)
        window.Render()
        view.fading.show(None)

    def show_path_marks(self, wanted: frozenset[str]) -> None:
        """Show these marks of the selected path: numbers, seconds, comb."""
        self.path_marks = wanted
        self.schedule()

    def _aim_stage(self) -> None:
        for pane in self.shown_panes():
            view = pane.viewpoint
            aim_camera(pane.renderer, view.position, view.focus, view.up, view.angle, REACH, parallel=view.parallel)

    def _aim_lens(self, project: Project, poses: Array) -> None:
        camera = self.session.camera
        self.arrangement.follow()
        if camera is None:
            self.marks.show_frustum(None, 0.0, 1.0)
            return
        shot, time = self.session.shot, self.session.time
        self.scene.set_display_mode(self.lens_view.display_mode(project, shot))
        angle = self.lens_view.show(self.scene, project, self.session.meshes, camera, shot, time, poses, self.guides)
        self.marks.show_frustum(self.lens_view.seen, angle, self.arrangement.aspect)

    def close_down(self) -> None:
        """Give the graphics memory back before the window goes."""
        self.alive = False
        self._timer.stop()
        self.gradual.stop()
        self.smooth.stop()
        self.view.Finalize()
