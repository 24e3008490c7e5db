"""The stage: the 3D view with the lens in its corner, and the mouse and keys in it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, QRect, QSettings, QTimer
from PySide6.QtGui import QResizeEvent
from vtkmodules.vtkRenderingCore import vtkRenderer, vtkRenderWindow

from kestrav.app.session import Session
from kestrav.app.stage.gradual_drawing import GradualDrawing
from kestrav.app.stage.lenses import WHOLE, Frame, LensView, Tile, Tiles, frame_within, keep_guides, kept_guides
from kestrav.app.stage.overlays import LensHead, PaneName, StageLabel
from kestrav.app.stage.panes import Everywhere, Pane, alone, unseen
from kestrav.app.stage.playing import Playing
from kestrav.app.stage.smooth_edges import SmoothEdges
from kestrav.app.stage.stage_base import SIDES, StageBase
from kestrav.app.stage.stage_mouse import StageMouse
from kestrav.app.stage.stage_view import StageView
from kestrav.app.stage.stage_views import StageViews
from kestrav.app.stage.view_compass import ViewCompass
from kestrav.app.widgets.window_colours import STAGE, STAGE_BACK, STAGE_SKY
from kestrav.core.camera.adjusting import camera_of
from kestrav.core.document.lookup import find, named_parts, subtree
from kestrav.core.document.records import (
    Attachment,
    FixedOrientation,
    Part,
    PoseTrack,
    Project,
    Run,
    Turner,
)
from kestrav.core.document.shots import FilmFrame
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.seating import body_axes
from kestrav.core.parts.rest import placement_matrix
from kestrav.render.finishes import Style
from kestrav.render.frame_marks import FrameGuides
from kestrav.render.judging_marks import JudgingMarks
from kestrav.render.marks import Dimension, Highlight, PathMarks, flat, frustum, grid
from kestrav.render.measure_marks import Caught, FrontArrow, NoteMarks
from kestrav.render.palette import INK, PETROL_DARK, SHOT, rgb
from kestrav.render.picture import REACH, KeptPicture, picture_of
from kestrav.render.pose_marks import PoseMarks
from kestrav.render.scene import aim_camera, is_software, light
from kestrav.render.scene_lights import LightMarks, ProjectLights
from kestrav.render.selection import SelectionOutline
from kestrav.render.shapes import put_data, segments
from kestrav.render.turn_marks import TurnMarks
from kestrav.render.viewpoint import to_display

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
        self._swaps_back = False
        self._aspect = 0.0
        self.mouse = StageMouse(self)
        self.mouse_holds = lambda: self.mouse.holds
        self._known = False  # whether the graphics are known
        self._kept_now = False
        self._make_renderers()
        self.view = StageView(self, self.mouse)
        window = self.view.GetRenderWindow()
        self.gradual = GradualDrawing(window, self.scene, self._keep_lens)
        self.smooth = SmoothEdges(window, self._draw_kept)
        self.play = Playing(self)
        for owned in (self.gradual, self.smooth, self.play.preview):
            owned.setParent(self)
        self.views = StageViews(self)
        # what the lens's picture on the screen was made from, if it is to be kept
        self._seen: tuple[object, ...] | None = None
        window.SetMultiSamples(0)
        self._order_renderers()
        self.lens_head = LensHead(self)
        self.lens_head.swap.connect(self.swap)
        self.lens_head.resized.connect(self._resize_lens)
        self.label = StageLabel(self)
        self.compass = ViewCompass(self)
        self.pane_names = {name: PaneName(self) for name in (*SIDES, "lens")}
        self.side_by_side = Tiles(self)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.draw)
        session.edited.connect(self.schedule)
        session.moved.connect(self.schedule)
        session.selected.connect(self.schedule)
        session.opened.connect(self.views.show_all)
        session.isolation.connect(self.schedule)

    # renderers

    def _make_renderers(self) -> None:
        self.back, self.rim = vtkRenderer(), vtkRenderer()
        self.lens_view = LensView()
        self.lens = self.lens_view.renderer
        self.kept = KeptPicture()
        panes = list(self.panes.values())
        self.all, self.over = Everywhere([p.renderer for p in panes]), Everywhere([p.over for p in panes])
        self.back.SetBackground(*rgb(STAGE_BACK))
        self.rim.SetBackground(*rgb(PETROL_DARK))
        for pane in panes:
            light(pane.over)
            pane.renderer.SetBackground(*rgb(STAGE))
            pane.renderer.SetBackground2(*rgb(STAGE_SKY))
            pane.renderer.SetGradientBackground(pane.turnable)
        for pane in panes:
            light(pane.renderer)
        self.floor = flat(grid([-5000, -5000, 0], [5000, 5000, 0], 500.0, "xy", 0.5), INK, 1.0, 0.10)
        self.all.AddActor(self.floor)
        self.marks = PathMarks(self.all, self.over)
        self.highlight = Highlight(self.all, self.scene)
        self.outline = SelectionOutline(self.scene)
        self.dimension = Dimension(self.over)
        self.notes = NoteMarks(self.over)
        self.front = FrontArrow(self.over)
        self.caught = Caught(self.over)
        self.judged = JudgingMarks(self.over)
        self.path_marks: frozenset[str] = frozenset()
        self.frustum = flat(segments(np.empty((0, 2, 3))), SHOT, 1.5)
        self.lights = ProjectLights([*(p.renderer for p in panes), self.lens])
        self.light_marks = LightMarks(self.over)
        self.pose_marks = PoseMarks(self.all, self.over)
        self.turn_marks = TurnMarks(self.over)
        self.all.AddActor(self.frustum)

    def _order_renderers(self) -> None:
        window = self.view.GetRenderWindow()
        panes = list(self.panes.values())
        for renderer in (self.back, self.rim, self.lens, self.kept.renderer, self.outline.mask):
            window.RemoveRenderer(renderer)
        window.RemoveRenderer(self.outline.picture.renderer)
        for pane in panes:
            window.RemoveRenderer(pane.renderer)
            window.RemoveRenderer(pane.over)
        window.SetNumberOfLayers(4)
        # marks lie over the stage and under the lens, wherever the two are
        big = 2 if self.swapped else 0
        # of those in one layer the later ones lie above: the rim is below what it goes round
        layers = [(self.back, 0), (self.rim, 1 if self.swapped else 2), *((p.renderer, big) for p in panes)]
        layers += [(self.kept.renderer, 1 if self.swapped else 2), (self.lens, 0 if self.swapped else 2)]
        layers += [(self.outline.mask, 0), (self.outline.picture.renderer, 1)]
        layers += [(p.over, 2 if self.swapped else 1) for p in panes]
        if self.swapped:
            # the stage is the inset: over the rim, under its marks
            layers = [(r, 1 if r is self.panes["main"].renderer else layer) for r, layer in layers]
        for renderer, layer in layers:
            renderer.SetLayer(layer)
            over = renderer is self.outline.picture.renderer or any(renderer is p.over for p in panes)
            renderer.SetPreserveColorBuffer(over)
            window.AddRenderer(renderer)
        for renderer in (self.smooth.renderer, self.play.preview.renderer):
            window.RemoveRenderer(renderer)
            renderer.SetLayer(3)
            window.AddRenderer(renderer)
        self.kept.forget()
        self._show_edges()

    def _show_edges(self) -> None:
        # lines a pixel wide would blacken a picture as small as the inset
        edges = self.edges_shown or self.parts_style == "wire"
        shown = self.shown_panes()
        for pane in self.panes.values():
            inset = self.swapped and pane.name == "main"
            if pane in shown or pane.name == "main":
                self.scene.show_in(pane.renderer, edges=edges and not inset, stage=True)
            else:
                self.scene.hide_in(pane.renderer)
        self.scene.show_in(self.lens)

    def set_style(self, style: Style) -> None:
        """Show the parts solid, see-through, as wires or finished; the lens shows its shot’s look."""
        self.parts_style = style
        self.scene.set_style(style, self.cut)
        self._show_edges()
        self.schedule()

    def set_edges(self, shown: bool) -> None:
        """Show the parts' sharp edges in the stage, or not."""
        self.edges_shown = shown
        self._show_edges()
        self.schedule()

    def set_cut(self, cut: tuple[Array, Array] | None) -> None:
        """Cut the view open: what lies on the side that the normal (3,) shows from a point (3,) is taken away."""
        self.cut = cut
        self.scene.set_style(self.parts_style, cut)
        self.schedule()

    def set_together(self, together: bool) -> None:
        """Show plan, front, side and lens at once, or one view."""
        if self.swapped:
            self.swap()
        self.side_by_side.show(False)
        self.together = together
        self.pane = self.shown_panes()[0] if together else self.panes["main"]
        if together:
            aspect = max(self.width(), 1) / max(self.height(), 1)
            for pane in self.panes.values():
                if not pane.turnable:
                    pane.viewpoint.frame(self.views.moving(), 1.2, aspect)
        for name, label in self.pane_names.items():
            label.setVisible(together)
            label.raise_()
            label.setText(name.capitalize())
            label.adjustSize()
        self._show_edges()
        self.arrange()

    def swap(self) -> None:
        """Let the lens and the stage change places."""
        if self.together:
            self.set_together(False)
        self.side_by_side.show(False)
        self.swapped = not self.swapped
        self.lens_alone = self.lens_alone and self.swapped
        self.pane = self.panes["main"]
        self._order_renderers()
        self.arrange()

    def show_lens_alone(self, alone: bool) -> None:
        """Show the lens large, without the stage in its inset, or both again as they were."""
        if alone == self.lens_alone:
            return
        self.lens_alone = alone
        if alone:
            self._swaps_back = not self.swapped
        if self.swapped != alone and self._swaps_back:
            self.swap()
        else:
            self.arrange()

    def set_guides(self, guides: FrameGuides) -> None:
        """Show these guides over the lens; they are remembered."""
        self.guides = guides
        keep_guides(guides)
        self.arrange()

    def set_tiles(self, shown: bool) -> None:
        """Show all cameras side by side, or the stage."""
        if self.together:
            self.set_together(False)
        if self.swapped:
            self.swap()
        self.side_by_side.show(shown)
        self.arrange()

    @property
    def tiles(self) -> list[Tile] | None:
        """The cameras that are shown side by side, or none."""
        return self.side_by_side.tiles

    def set_lens_shown(self, shown: bool) -> None:
        """Show or hide the inset."""
        self.lens_shown = shown
        if not shown and self.swapped:
            self.swap()
        self.arrange()

    @property
    def aspect(self) -> float:
        """Width by height of the output frame."""
        shot = self.session.shot
        return shot.width / shot.height if shot else 16 / 9

    @property
    def _has_inset(self) -> bool:
        """Whether one picture lies in the corner of the other."""
        one_of_two = self.session.camera is not None and self.lens_shown and not self.lens_alone
        return one_of_two and not self.together and self.tiles is None

    def inset(self) -> QRect:
        """Where the inset's picture is, in widget pixels."""
        width = min(self.lens_width, max(self.width() - 2 * MARGIN, SMALLEST_LENS))
        height = round(width / self.aspect)
        return QRect(self.width() - MARGIN - width, self.height() - MARGIN - height, width, height)

    def arrange(self) -> None:
        """Lay out the renderers and what lies over them."""
        if not self.alive:
            return
        self.view.setGeometry(self.rect())
        if self.swapped and self.session.camera is None:
            # the lens has nothing to show any more; the stage takes its place back
            self.swapped = self.lens_alone = False
            self._order_renderers()
        self._aspect = self.aspect
        rect = self.inset()
        lens_shown = (self.lens_shown or self.together) and self.session.camera is not None and self.tiles is None
        inset_shown = lens_shown and not self.lens_alone
        shown = self.shown_panes()
        for pane in self.panes.values():
            on = pane in shown and (inset_shown or not self.swapped) and self.tiles is None
            pane.renderer.SetDraw(on)
            pane.over.SetDraw(on)
        self.rim.SetDraw(inset_shown)
        self.lens.SetDraw(lens_shown or self.lens_alone)
        lens_at, frame = rect, WHOLE
        if self.swapped:
            lens_at, frame = frame_within(
                self.rect(), self.aspect, outside=self.guides.mask < 1.0 and not self.lens_alone
            )
        if self.together:
            lens_at = self._lay_together(shown)
        else:
            main = self.panes["main"]
            main.rect = rect if self.swapped else self.rect()
            self.place(main.renderer, main.rect)
        self.lens_view.frame = frame
        self.lens_rect = _part_of(lens_at, frame)
        for pane in shown:
            pane.over.SetViewport(pane.renderer.GetViewport())
        inset = self.panes["main"].rect if self.swapped else lens_at
        self.place(self.lens, lens_at)
        self.place(self.rim, inset.adjusted(-1, -1, 1, 1))
        self.place(self.kept.renderer, lens_at)
        self.kept.forget()
        self.side_by_side.lay()
        self.lens_head.setVisible(self._has_inset)
        self.compass.move(self.width() - self.compass.width() - 10, 10)
        self.compass.setVisible(not (self.together or self.swapped or self.tiles) and bool(self.session.shown.parts))
        self.lens_head.setGeometry(rect.x() - 1, rect.y() - HEAD, rect.width() + 2, HEAD)
        self.schedule()

    def _lay_together(self, shown: list[Pane]) -> QRect:
        """Lay out the panes in quarters; tells where in the last quarter the lens's frame is."""
        w, h = self.width() // 2, self.height() // 2
        quarters = [
            QRect(0, 0, w - 1, h - 1),
            QRect(w + 1, 0, self.width() - w - 1, h - 1),
            QRect(0, h + 1, w - 1, self.height() - h - 1),
            QRect(w + 1, h + 1, self.width() - w - 1, self.height() - h - 1),
        ]
        for pane, quarter in zip(shown, quarters, strict=False):
            pane.rect = quarter
            self.place(pane.renderer, quarter)
        for (name, label), quarter in zip(self.pane_names.items(), quarters, strict=True):
            label.setVisible(name != "lens" or self.session.camera is not None)
            label.move(quarter.right() - label.width() - 8, quarter.bottom() - label.height() - 8)
        return frame_within(quarters[3], self.aspect, outside=False)[0]

    def _resize_lens(self, change: int) -> None:
        self.lens_width = int(np.clip(self.lens_width + change, SMALLEST_LENS, max(self.width() * 0.8, SMALLEST_LENS)))
        QSettings().setValue("lens/width", self.lens_width)
        self.arrange()

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
        self.place_label()
        self.compass.follow(self.panes["main"].viewpoint)
        camera, seen = self.session.camera, self.lens_view.seen
        if camera is not None and seen is not None:
            self.lens_head.tell(
                camera.name, float(seen.focal_length[0]), parallel=camera.parallel, swapped=self.swapped
            )
        if self.scene.refining and not self._refining.isActive():
            self._refining.start()
        if self.marks.behind:
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
        path = self.session.path
        self.marks.update(project, path.id if path else None, self.session.points, pixel)
        self.judged.show(project, path, self.path_marks, pixel, self.main)
        self.judged.show_trace(self.session.trace_places())
        self.light_marks.show(project, self.session.time, pixel, self.session.selection)
        item = self.session.item
        posed = item if isinstance(item, PoseTrack) else None
        self.pose_marks.show(project, posed, self.session.point, pixel, self.main)
        self.turn_marks.show(project, item, poses, self.session.time)
        selected = self._highlighted(project)
        plain = self.swapped or self.together or self.tiles is not None
        # in an inset, and in several views at once, a line around would hide as much as it shows
        self.highlight.show(selected if plain else [], self.scene.cut)
        self.outline.choose([] if plain else selected, self.scene.cut)
        self.dimension.show(self.gap[0] if self.gap else None, pixel, breach=self.gap is not None and self.gap[2])
        self._draw_notes(project, poses, pixel)
        if self.tool is not None:
            self.tool.drawn(pixel)
        window = self.view.GetRenderWindow()
        self.side_by_side.aim(project, poses)
        # while only the person's viewpoint turns, the lens sees what it saw
        session = self.session
        seen = (project, session.time, session.camera, session.shot, self.guides, session.film, coarse)
        lens_shown = (self.lens_shown or self.together) and self.session.camera is not None and self.tiles is None
        reuse = not self.swapped and lens_shown and (play.lens_late or self.kept.holds(seen))
        self.kept.show(reuse)
        self.lens.SetDraw(self.session.camera is not None and (self.swapped or lens_shown) and not reuse)
        self._show_outline(window)
        of = play.of() if play.playing and not self.swapped else None
        if of is None:
            play.still.forget()
            whole = self.gradual.draw(self.software or not self._known)
        else:
            marks = [*self.marks.others.actors, *self.marks.chosen.actors, self.pose_marks.paths, self.floor]
            with play.still.below(self.main, of, marks, lamps_changed=self.lights.changed):
                whole = self.gradual.draw(True)
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

    def _draw_notes(self, project: Project, poses: Array, pixel: float) -> None:
        known = self.session.readings(at_rest=False)
        shown = [(n.name, r.text, r.drawn, r.place) for n in project.notes if (r := known.get(n.id)) is not None]
        self.notes.show(shown, pixel)
        item = self.session.item
        self.front.show(self._front_now(project, item, poses), pixel)

    def _front_now(self, project: Project, item: object, poses: Array) -> Array | None:
        """The pivot and axes of the chosen part, or of a chosen run's rider as the run faces it; none of anything else."""
        part = find(project, item.rider) if isinstance(item, Run) else item
        if not isinstance(part, Part):
            return None
        front: Array = poses[project.parts.index(part)] @ placement_matrix(part.pivot)
        if isinstance(item, Run) and not isinstance(item.orientation, FixedOrientation):
            orientation = item.orientation
            front = front.copy()
            front[:3, :3] = front[:3, :3] @ body_axes(
                orientation.forward, flip=orientation.flip, up_axis=orientation.up
            )
        return front

    def _show_outline(self, window: vtkRenderWindow) -> None:
        if self.outline.is_empty:
            self.outline.hide()
            return
        with alone(window, self.outline.mask), unseen(window):
            self.outline.show_in(window, self.main)

    def _highlighted(self, project: Project) -> list[str]:
        item = self.session.item
        if isinstance(item, (Run, PoseTrack, Attachment)):
            item = find(project, item.rider)
        elif isinstance(item, Turner):
            named = dict.fromkeys(named_parts(item))
            return list(dict.fromkeys(inner for one in named for inner in subtree(project, one)))
        if not isinstance(item, Part):
            return []
        chosen = self.session.chosen or (item.id,)
        return list(dict.fromkeys(inner for one in chosen for inner in subtree(project, one)))

    def _aim_stage(self) -> None:
        for pane in self.shown_panes():
            view = pane.viewpoint
            aim_camera(pane.renderer, view.position, view.focus, view.up, view.angle, REACH, parallel=view.parallel)

    def _aim_lens(self, project: Project, poses: Array) -> None:
        camera = self.session.camera
        self.frustum.SetVisibility(camera is not None)
        if camera is None:
            if self.lens_head.isVisible():
                self.arrange()
            return
        if self.lens_head.isHidden() == self._has_inset or self._aspect != self.aspect:
            self.arrange()
        shot, time = self.session.shot, self.session.time
        self.scene.set_display_mode(self.lens_view.display_mode(project, shot))
        angle = self.lens_view.show(self.scene, project, self.session.meshes, camera, shot, time, poses, self.guides)
        seen = self.lens_view.seen
        assert seen is not None
        lines = frustum(seen.position[0], seen.target[0], seen.up[0], angle, self.aspect, 320.0)
        put_data(self.frustum, segments(lines))

    def place_label(self) -> None:
        if (
            self.gap is None
            or self.swapped
            or self.together
            or self.tiles is not None
            or (self.tool is not None and self.tool.quiet)
        ):
            self.label.hide()
            return
        points, text, breach = self.gap
        x, y, depth = to_display(self.main, points.mean(axis=0))[0]
        ratio = self.devicePixelRatioF()
        self.label.show_at(
            QPoint(round(x / ratio) + 18, self.height() - round(y / ratio) - 40), text, breach=breach, visible=depth < 1
        )

    # the mouse

    def over_lens(self, position: QPoint) -> bool:
        """Whether a place is in the lens; of several cameras side by side the one there becomes the lens's."""
        if self.tiles is not None:
            tile = self.side_by_side.at(position)
            if tile is not None:
                self.lens_rect = tile.rect
                if self.mouse.holds and self.session.camera_id != tile.camera:
                    self.session.select(tile.camera)
            return True
        if self.session.camera is None or not (self.lens_shown or self.together or self.lens_alone):
            return False
        if self.swapped:
            return self.lens_alone or not self.panes["main"].rect.contains(position)
        return self.lens_rect.contains(position)

    def enter_pane(self, position: QPoint) -> None:
        """The pane under the pointer is the one that tools act in."""
        for pane in self.shown_panes():
            if pane.rect.contains(position):
                self.pane = pane

    def close_down(self) -> None:
        """Give the graphics memory back before the window goes."""
        self.alive = False
        self._timer.stop()
        self.gradual.stop()
        self.smooth.stop()
        self.view.Finalize()


def _part_of(rect: QRect, frame: Frame) -> QRect:
    """The part of a rectangle that a frame within it takes."""
    left, low, right, high = frame
    x, y = rect.x() + left * rect.width(), rect.y() + (1 - high) * rect.height()
    return QRect(round(x), round(y), round((right - left) * rect.width()), round((high - low) * rect.height()))
