"""Where a stage is looked at from: everything, what moves, what is selected, set views."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkActor

from kestrav.app.stage.panes import Pane
from kestrav.app.stage.stage_base import StageBase
from kestrav.core.document.lookup import find, get, named_parts
from kestrav.core.document.records import Attachment, Part, Path, PoseTrack, Run, Turner
from kestrav.core.kinematics.poses import mover_bounds
from kestrav.core.parts.rest import top_bounds, world_bounds
from kestrav.core.paths.path_curves import path_curve
from kestrav.render.marks import grid, tick_spacing
from kestrav.render.shapes import put_data
from kestrav.render.viewpoint import STANDS

Array = NDArray[np.float64]


class StageViews:
    """Turns a stage's viewpoints to what is to be seen."""

    def __init__(self, stage: StageBase, floor: vtkActor) -> None:
        self.stage, self.floor = stage, floor

    def show_all(self) -> None:
        """Frame what moves with where it comes from and goes to; the whole product while nothing moves."""
        boxes = top_bounds(self.stage.session.shown)
        if boxes:
            self.stage.panes["main"].viewpoint.frame(self.moving(), 1.06)
        self._fit_floor(boxes)
        self.stage.schedule()

    def moving(self) -> Array:
        """Bounds of what moves with where it comes from and goes to, or of everything."""
        kept = mover_bounds(self.stage.session.shown)
        if not kept:
            return self._whole()
        return np.array([np.min([b[0] for b in kept], axis=0), np.max([b[1] for b in kept], axis=0)])

    def _whole(self) -> Array:
        boxes = top_bounds(self.stage.session.shown) or [np.array([[-500.0, -500, 0], [500, 500, 500]])]
        return np.array([np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)])

    def fit_all(self) -> None:
        """Frame everything there is, in every pane on the screen."""
        for pane in self.stage.shown_panes():
            pane.viewpoint.frame(self._whole(), 1.06, _aspect_of(pane))
        self.stage.schedule()

    def _fit_floor(self, boxes: list[Array]) -> None:
        low = np.min([b[0] for b in boxes], axis=0) if boxes else np.full(3, -2500.0)
        high = np.max([b[1] for b in boxes], axis=0) if boxes else np.full(3, 2500.0)
        # as many lines for a pin as for a hall, on round lengths, a hair above the floor of either
        spacing = tick_spacing(float((high - low)[:2].max()))
        put_data(self.floor, grid(low, high, spacing, "xy", 0.001 * spacing))

    def look_at(self, bounds: Array) -> None:
        """Frame bounds (2, 3), in every pane on the screen."""
        for pane in self.stage.shown_panes():
            pane.viewpoint.frame(bounds, 1.15, _aspect_of(pane))
        self.stage.schedule()

    def look_at_selection(self) -> None:
        """Frame what is selected, or everything."""
        item, project = self.stage.session.item, self.stage.session.shown
        if isinstance(item, (PoseTrack, Attachment)):
            item = find(project, item.rider)
        elif isinstance(item, Turner):
            item = find(project, named_parts(item)[0])
        elif isinstance(item, Run):
            item = get(project, item.path)
        if isinstance(item, Part):
            poses = self.stage.session.poses()[None]
            boxes = [world_bounds(project, i, poses)[0] for i in self.stage.session.chosen or (item.id,)]
            self.look_at(np.array([np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)]))
        elif isinstance(item, Path):
            line = path_curve(item).curve
            points = line.position(np.linspace(0, line.length, 200))
            self.look_at(np.array([points.min(axis=0), points.max(axis=0)]))
        else:
            self.fit_all()

    def stand(self, where: str) -> None:
        """Take up a set view: front, back, left, right, top or bottom."""
        self.stage.viewpoint.look_from(STANDS[where])
        self.stage.schedule()

    def look_as(self, position: Array, target: Array, angle: float) -> None:
        """Look from a position at a target (3,) with a vertical angle in rad."""
        view, away = self.stage.viewpoint, np.asarray(position, float) - np.asarray(target, float)
        distance = max(float(np.linalg.norm(away)), 1.0)
        view.look_from(away / distance)
        view.focus, view.distance, view.parallel = np.asarray(target, float), distance, False
        # it keeps its own angle: what was seen with another is as large from nearer or farther off
        view.distance *= float(np.tan(angle / 2) / np.tan(view.angle / 2))
        self.stage.schedule()

    def set_parallel(self, parallel: bool) -> None:
        """Parallel or perspective."""
        self.stage.panes["main"].viewpoint.parallel = parallel
        self.stage.schedule()


def _aspect_of(pane: Pane) -> float:
    return max(pane.rect.width(), 1) / max(pane.rect.height(), 1)
