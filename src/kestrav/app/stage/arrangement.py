"""Which views are on the stage's screen, and where: the stage, the lens in its corner or in its place, four at once, all cameras."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPoint, QRect, QSettings
from vtkmodules.vtkRenderingCore import vtkRenderer

from kestrav.app.stage.lenses import WHOLE, Frame, LensView, Tiles, frame_within, keep_guides
from kestrav.app.stage.overlays import LensHead, PaneName
from kestrav.app.stage.panes import Pane
from kestrav.app.stage.stage_base import SIDES, StageBase
from kestrav.app.stage.stage_views import StageViews
from kestrav.app.stage.view_compass import ViewCompass
from kestrav.app.widgets.window_colours import STAGE_BACK
from kestrav.render.frame_marks import FrameGuides
from kestrav.render.palette import PETROL_DARK, rgb
from kestrav.render.picture import KeptPicture
from kestrav.render.selection import SelectionOutline

_MARGIN, _HEAD = 12, 26  # px round the inset, and of its heading
_SMALLEST_LENS = 160  # px


class Arrangement:
    """Lays out a stage's renderers and what lies over them."""

    def __init__(
        self, stage: StageBase, views: StageViews, lens: LensView, kept: KeptPicture, outline: SelectionOutline
    ) -> None:
        self.stage, self.views, self.lens_view, self.kept, self.outline = stage, views, lens, kept, outline
        self.back, self.rim = vtkRenderer(), vtkRenderer()
        self.back.SetBackground(*rgb(STAGE_BACK))
        self.rim.SetBackground(*rgb(PETROL_DARK))
        self._top: Sequence[vtkRenderer] = ()
        self._swaps_back = False
        self._aspect = 0.0
        self.lens_head = LensHead(stage)
        self.lens_head.swap.connect(self.swap)
        self.lens_head.resized.connect(self._resize_lens)
        self.compass = ViewCompass(stage)
        self.pane_names = {name: PaneName(stage) for name in (*SIDES, "lens")}
        self.side_by_side = Tiles(stage)

    def put_on_top(self, renderers: Sequence[vtkRenderer]) -> None:
        """Take the renderers of pictures that cover all others."""
        self._top = renderers
        self._order_renderers()

    def _order_renderers(self) -> None:
        stage, outline, lens = self.stage, self.outline, self.lens_view.renderer
        window = stage.view.GetRenderWindow()
        panes = list(stage.panes.values())
        for renderer in (self.back, self.rim, lens, self.kept.renderer, outline.mask, outline.picture.renderer):
            window.RemoveRenderer(renderer)
        for pane in panes:
            window.RemoveRenderer(pane.renderer)
            window.RemoveRenderer(pane.over)
        window.SetNumberOfLayers(4)
        # marks lie over the stage and under the lens, wherever the two are
        big = 2 if stage.swapped else 0
        # of those in one layer the later ones lie above: the rim is below what it goes round
        layers = [(self.back, 0), (self.rim, 1 if stage.swapped else 2), *((p.renderer, big) for p in panes)]
        layers += [(self.kept.renderer, 1 if stage.swapped else 2), (lens, 0 if stage.swapped else 2)]
        layers += [(outline.mask, 0), (outline.picture.renderer, 1)]
        layers += [(p.over, 2 if stage.swapped else 1) for p in panes]
        if stage.swapped:
            # the stage is the inset: over the rim, under its marks
            layers = [(r, 1 if r is stage.panes["main"].renderer else layer) for r, layer in layers]
        for renderer, layer in layers:
            renderer.SetLayer(layer)
            over = renderer is outline.picture.renderer or any(renderer is p.over for p in panes)
            renderer.SetPreserveColorBuffer(over)
            window.AddRenderer(renderer)
        for renderer in self._top:
            window.RemoveRenderer(renderer)
            renderer.SetLayer(3)
            window.AddRenderer(renderer)
        self.kept.forget()
        self.show_edges()

    def show_edges(self) -> None:
        """Show the parts' edges, or not, in each view on the screen."""
        stage = self.stage
        # lines a pixel wide would blacken a picture as small as the inset
        edges = stage.edges_shown or stage.parts_style == "wire"
        shown = stage.shown_panes()
        for pane in stage.panes.values():
            inset = stage.swapped and pane.name == "main"
            if pane in shown or pane.name == "main":
                stage.scene.show_in(pane.renderer, edges=edges and not inset, stage=True)
            else:
                stage.scene.hide_in(pane.renderer)
        stage.scene.show_in(self.lens_view.renderer)

    # which views there are

    def set_together(self, together: bool) -> None:
        """Show plan, front, side and lens at once, or one view."""
        stage = self.stage
        if stage.swapped:
            self.swap()
        self.side_by_side.show(False)
        stage.together = together
        stage.pane = stage.shown_panes()[0] if together else stage.panes["main"]
        if together:
            aspect = max(stage.width(), 1) / max(stage.height(), 1)
            for pane in stage.panes.values():
                if not pane.turnable:
                    pane.viewpoint.frame(self.views.moving(), 1.2, aspect)
        for name, label in self.pane_names.items():
            label.setVisible(together)
            label.raise_()
            label.setText(name.capitalize())
            label.adjustSize()
        self.show_edges()
        self.arrange()

    def swap(self) -> None:
        """Let the lens and the stage change places."""
        stage = self.stage
        if stage.together:
            self.set_together(False)
        self.side_by_side.show(False)
        stage.swapped = not stage.swapped
        stage.lens_alone = stage.lens_alone and stage.swapped
        stage.pane = stage.panes["main"]
        self._order_renderers()
        self.arrange()

    def show_lens_alone(self, alone: bool) -> None:
        """Show the lens large, without the stage in its inset, or both again as they were."""
        stage = self.stage
        if alone == stage.lens_alone:
            return
        stage.lens_alone = alone
        if alone:
            self._swaps_back = not stage.swapped
        if stage.swapped != alone and self._swaps_back:
            self.swap()
        else:
            self.arrange()

    def set_guides(self, guides: FrameGuides) -> None:
        """Show these guides over the lens; they are remembered."""
        self.stage.guides = guides
        keep_guides(guides)
        self.arrange()

    def set_tiles(self, shown: bool) -> None:
        """Show all cameras side by side, or the stage."""
        if self.stage.together:
            self.set_together(False)
        if self.stage.swapped:
            self.swap()
        self.side_by_side.show(shown)
        self.arrange()

    def set_lens_shown(self, shown: bool) -> None:
        """Show or hide the inset."""
        self.stage.lens_shown = shown
        if not shown and self.stage.swapped:
            self.swap()
        self.arrange()

    # where they are

    @property
    def aspect(self) -> float:
        """Width by height of the output frame."""
        shot = self.stage.session.shot
        return shot.width / shot.height if shot else 16 / 9

    @property
    def _is_tiled(self) -> bool:
        return self.side_by_side.tiles is not None

    @property
    def _has_inset(self) -> bool:
        """Whether one picture lies in the corner of the other."""
        stage = self.stage
        one_of_two = stage.session.camera is not None and stage.lens_shown and not stage.lens_alone
        return one_of_two and not stage.together and not self._is_tiled

    @property
    def lens_is_beside(self) -> bool:
        """Whether the lens is on the screen beside the stage or in its corner, as far as it is not large."""
        stage = self.stage
        return (stage.lens_shown or stage.together) and stage.session.camera is not None and not self._is_tiled

    def inset(self) -> QRect:
        """Where the inset's picture is, in widget pixels."""
        stage = self.stage
        width = min(stage.lens_width, max(stage.width() - 2 * _MARGIN, _SMALLEST_LENS))
        height = round(width / self.aspect)
        return QRect(stage.width() - _MARGIN - width, stage.height() - _MARGIN - height, width, height)

    def follow(self) -> None:
        """Lay out anew when the lens has come or gone, or its frame has another shape."""
        if self.stage.session.camera is None:
            outdated = self.lens_head.isVisible()
        else:
            outdated = self.lens_head.isHidden() == self._has_inset or self._aspect != self.aspect
        if outdated:
            self.arrange()

    def arrange(self) -> None:
        """Lay out the renderers and what lies over them."""
        stage, lens = self.stage, self.lens_view.renderer
        if not stage.alive:
            return
        stage.view.setGeometry(stage.rect())
        if stage.swapped and stage.session.camera is None:
            # the lens has nothing to show any more; the stage takes its place back
            stage.swapped = stage.lens_alone = False
            self._order_renderers()
        self._aspect = self.aspect
        rect = self.inset()
        lens_shown = self.lens_is_beside
        inset_shown = lens_shown and not stage.lens_alone
        shown = stage.shown_panes()
        for pane in stage.panes.values():
            on = pane in shown and (inset_shown or not stage.swapped) and not self._is_tiled
            pane.renderer.SetDraw(on)
            pane.over.SetDraw(on)
        self.rim.SetDraw(inset_shown)
        lens.SetDraw(lens_shown or stage.lens_alone)
        lens_at, frame = rect, WHOLE
        if stage.swapped:
            outside = stage.guides.mask < 1.0 and not stage.lens_alone
            lens_at, frame = frame_within(stage.rect(), self.aspect, outside=outside)
        if stage.together:
            lens_at = self._lay_together(shown)
        else:
            main = stage.panes["main"]
            main.rect = rect if stage.swapped else stage.rect()
            stage.place(main.renderer, main.rect)
        self.lens_view.frame = frame
        stage.lens_rect = _part_of(lens_at, frame)
        for pane in shown:
            pane.over.SetViewport(pane.renderer.GetViewport())
        inset = stage.panes["main"].rect if stage.swapped else lens_at
        stage.place(lens, lens_at)
        stage.place(self.rim, inset.adjusted(-1, -1, 1, 1))
        stage.place(self.kept.renderer, lens_at)
        self.kept.forget()
        self.side_by_side.lay()
        self.lens_head.setVisible(self._has_inset)
        self.compass.move(stage.width() - self.compass.width() - 10, 10)
        alone = not (stage.together or stage.swapped or self.side_by_side.tiles)
        self.compass.setVisible(alone and bool(stage.session.shown.parts))
        self.lens_head.setGeometry(rect.x() - 1, rect.y() - _HEAD, rect.width() + 2, _HEAD)
        stage.schedule()

    def _lay_together(self, shown: list[Pane]) -> QRect:
        """Lay out the panes in quarters; tells where in the last quarter the lens's frame is."""
        stage = self.stage
        w, h = stage.width() // 2, stage.height() // 2
        quarters = [
            QRect(0, 0, w - 1, h - 1),
            QRect(w + 1, 0, stage.width() - w - 1, h - 1),
            QRect(0, h + 1, w - 1, stage.height() - h - 1),
            QRect(w + 1, h + 1, stage.width() - w - 1, stage.height() - h - 1),
        ]
        for pane, quarter in zip(shown, quarters, strict=False):
            pane.rect = quarter
            stage.place(pane.renderer, quarter)
        for (name, label), quarter in zip(self.pane_names.items(), quarters, strict=True):
            label.setVisible(name != "lens" or stage.session.camera is not None)
            label.move(quarter.right() - label.width() - 8, quarter.bottom() - label.height() - 8)
        return frame_within(quarters[3], self.aspect, outside=False)[0]

    def _resize_lens(self, change: int) -> None:
        stage = self.stage
        widest = max(stage.width() * 0.8, _SMALLEST_LENS)
        stage.lens_width = int(np.clip(stage.lens_width + change, _SMALLEST_LENS, widest))
        QSettings().setValue("lens/width", stage.lens_width)
        self.arrange()

    # what is where

    def over_lens(self, position: QPoint) -> bool:
        """Whether a place is in the lens; of several cameras side by side the one there becomes the lens's."""
        stage = self.stage
        if self._is_tiled:
            tile = self.side_by_side.at(position)
            if tile is not None:
                stage.lens_rect = tile.rect
                if stage.mouse_holds() and stage.session.camera_id != tile.camera:
                    stage.session.select(tile.camera)
            return True
        if stage.session.camera is None or not (stage.lens_shown or stage.together or stage.lens_alone):
            return False
        if stage.swapped:
            return stage.lens_alone or not stage.panes["main"].rect.contains(position)
        return stage.lens_rect.contains(position)

    def tell_lens(self) -> None:
        """Say beside the views what is seen in each, as it was drawn."""
        stage = self.stage
        self.compass.follow(stage.panes["main"].viewpoint)
        camera, seen = stage.session.camera, self.lens_view.seen
        if camera is not None and seen is not None:
            focal_length = float(seen.focal_length[0])
            self.lens_head.tell(camera.name, focal_length, parallel=camera.parallel, swapped=stage.swapped)


def _part_of(rect: QRect, frame: Frame) -> QRect:
    """The part of a rectangle that a frame within it takes."""
    left, low, right, high = frame
    x, y = rect.x() + left * rect.width(), rect.y() + (1 - high) * rect.height()
    return QRect(round(x), round(y), round((right - left) * rect.width()), round((high - low) * rect.height()))
