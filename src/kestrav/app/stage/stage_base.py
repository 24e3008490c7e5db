"""What a stage shows, where that is on the screen, and what is under the pointer there."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, QRect, QSettings, Signal
from PySide6.QtWidgets import QWidget
from vtkmodules.qt.QVTKRenderWindowInteractor import QVTKRenderWindowInteractor
from vtkmodules.vtkRenderingCore import vtkRenderer

from kestrav.app.session import Session
from kestrav.app.stage.gradual_drawing import GradualDrawing
from kestrav.app.stage.lens_controller import LensController
from kestrav.app.stage.panes import Pane
from kestrav.app.stage.smooth_edges import SmoothEdges
from kestrav.app.stage.tool import Tool
from kestrav.core.clearance.measuring import Snap, snaps_near
from kestrav.core.document.lookup import ancestors
from kestrav.core.document.records import (
    Feature,
    Part,
)
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.parts.picking import Pick, Pickable
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.paths.path_curves import path_curve
from kestrav.render.finishes import Style
from kestrav.render.frame_marks import FrameGuides
from kestrav.render.scene import Scene
from kestrav.render.viewpoint import STANDS, Viewpoint, ray, to_display

Array = NDArray[np.float64]

GRAB_PIXELS = 11.0  # how near a press must be to a point to take hold of it
SNAP_PIXELS = 9.0  # how near the pointer must be to a corner or edge to catch it
SNAPS = ("vertex", "edge", "centre", "face")
MOST_FOR_SNAPS = 400_000  # triangles
LENS_WIDTH = 264
SIDES = {"plan": "top", "front": "front", "side": "right"}


class StageBase(QWidget):
    """A stage as its tools, its mouse and what draws into it see it."""

    drawn = Signal()
    menu_asked = Signal(QPoint)  # a right click, in widget pixels
    said = Signal(str)  # what the pointer does here, for the hint line

    view: QVTKRenderWindowInteractor
    mouse_holds: Callable[[], bool]  # whether a button is down in it
    gradual: GradualDrawing
    smooth: SmoothEdges
    guides: FrameGuides

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.scene = Scene(patient=True)
        self.panes = {"main": Pane("main"), **{name: Pane(name, STANDS[at]) for name, at in SIDES.items()}}
        self.pane = self.panes["main"]  # the one that the pointer is in
        self.together = False  # plan, front and side and the lens at once
        self.lens_rect = QRect()  # where the lens's output frame is, in widget pixels
        self.swapped = False
        self.lens_shown = True
        kept: Any = QSettings().value("lens/width", LENS_WIDTH)
        self.lens_width = int(kept)
        self.tool: Tool | None = None
        self.gap: tuple[Array, str, bool] | None = None  # two points, its label, whether it is a breach
        self._pickable: Pickable | None = None
        self.parts_style: Style = "solid"
        self.edges_shown = True
        self.cut: tuple[Array, Array] | None = None  # point and normal of the section plane
        self.drawings = 0  # how often it was drawn
        self.alive = True
        self.whole_now = True  # what is drawn is not coarse
        self.software = False
        self.lens_hand = LensController(session)
        self.gap_at: Callable[[int], tuple[Array, str, bool] | None] = lambda _: None  # that of a frame
        self.gap_of: object = None  # what gaps are told from
        self.lens_alone = False  # large, without the stage in its inset
        self.path_marks: frozenset[str] = frozenset()  # of the selected path: numbers, seconds, comb

    def shown_panes(self) -> list[Pane]:
        """The panes that are on the screen."""
        if not self.together:
            return [self.panes["main"]]
        sides = [self.panes[name] for name in SIDES]
        return sides if self.session.camera is not None else [*sides, self.panes["main"]]

    def enter_pane(self, position: QPoint) -> None:
        """The pane under the pointer is the one that tools act in."""
        for pane in self.shown_panes():
            if pane.rect.contains(position):
                self.pane = pane

    # what those who draw it do

    def draw(self) -> None:
        """Draw the session's document at its time."""
        raise NotImplementedError

    def draw_frame(self) -> None:
        """Draw the document at its time into the window."""
        raise NotImplementedError

    def arrange(self) -> None:
        """Lay out the renderers and what lies over them."""
        raise NotImplementedError

    def schedule(self) -> None:
        """Draw soon."""
        raise NotImplementedError

    def over_lens(self, position: QPoint) -> bool:
        """Whether a place is in the lens."""
        raise NotImplementedError

    @property
    def waiting(self) -> bool:
        """Whether it is to be drawn soon."""
        raise NotImplementedError

    @property
    def tiles(self) -> Sequence[object] | None:
        """The cameras side by side, where these are shown."""
        raise NotImplementedError

    # where things are

    @property
    def main(self) -> vtkRenderer:
        """The renderer of the pane that the pointer is in."""
        return self.pane.renderer

    @property
    def viewpoint(self) -> Viewpoint:
        """Where the person stands in the pane that the pointer is in."""
        return self.pane.viewpoint

    def place(self, renderer: vtkRenderer, rect: QRect) -> None:
        """Let a renderer draw in a rectangle of the widget."""
        w, h = max(self.width(), 1), max(self.height(), 1)
        renderer.SetViewport(
            max(rect.left() / w, 0.0),
            max(1 - (rect.bottom() + 1) / h, 0.0),
            min((rect.right() + 1) / w, 1.0),
            min(1 - rect.top() / h, 1.0),
        )

    def pixel(self, pane: Pane | None = None) -> float:
        """Size in mm of a pixel at the focus of a pane, or of the one that the pointer is in."""
        pane = pane or self.pane
        return pane.viewpoint.pixel(pane.renderer.GetSize()[1] or self.height())

    def display(self, position: QPoint) -> tuple[float, float]:
        """A widget position as VTK's display pixels."""
        ratio = self.devicePixelRatioF()
        return position.x() * ratio, (self.height() - position.y() - 1) * ratio

    def position_of(self, place: Array) -> QPoint:
        """The widget position at which a place (3,) is seen."""
        x, y, _ = to_display(self.main, place)[0]
        ratio = self.devicePixelRatioF()
        return QPoint(round(x / ratio), self.height() - 1 - round(y / ratio))

    def snap_reach(self, place: Array) -> float:
        """How far from a place (3,) the pointer catches things, in mm."""
        away = float(np.dot(place - self.viewpoint.position, self.viewpoint.forward))
        return SNAP_PIXELS * self.pixel() * (1.0 if self.viewpoint.parallel else away / self.viewpoint.distance)

    def ray_at(self, position: QPoint) -> tuple[Array, Array]:
        """Origin and direction of the sight ray through a widget position."""
        return ray(self.main, *self.display(position))

    def pick(self, position: QPoint) -> Pick | None:
        """What is under a widget position, of the parts that are shown and not locked."""
        project = self.session.shown
        only = self.session.isolated
        if self._pickable is None or self._pickable.of[0] is not project.parts or self._pickable.of[1] != only:
            self._pickable = Pickable(project, self.session.meshes, only)
        return self._pickable.pick(self.session.poses(), *self.ray_at(position), clip=self.cut)

    def near(self, position: QPoint, points: Array, reach: float = GRAB_PIXELS) -> int | None:
        """Which of points (n, 3) is nearest to a widget position on the screen, within reach pixels."""
        if not len(points):
            return None
        shown = to_display(self.main, points)
        x, y = self.display(position)
        away = np.hypot(shown[:, 0] - x, shown[:, 1] - y)
        away[shown[:, 2] > 1] = np.inf
        best = int(np.argmin(away))
        return best if away[best] <= reach * self.devicePixelRatioF() else None

    def path_under(self, position: QPoint) -> tuple[str, float] | None:
        """The path near a widget position, and the station there."""
        best: tuple[float, str, float] | None = None
        x, y = self.display(position)
        for path in self.session.shown.paths:
            curve = path_curve(path).curve
            stations = np.linspace(0.0, curve.length, 400)
            shown = to_display(self.main, curve.position(stations))
            a, b = shown[:-1, :2], shown[1:, :2]
            along = b - a
            share = np.clip(
                np.einsum("ij,ij->i", np.array([x, y]) - a, along) / np.maximum((along**2).sum(axis=1), 1e-9), 0, 1
            )
            away = np.hypot(*(a + share[:, None] * along - [x, y]).T)
            away[(shown[:-1, 2] > 1) | (shown[1:, 2] > 1)] = np.inf
            k = int(np.argmin(away))
            if away[k] <= 7 * self.devicePixelRatioF() and (best is None or away[k] < best[0]):
                best = (float(away[k]), path.id, float(stations[k] + share[k] * (stations[k + 1] - stations[k])))
        return (best[1], best[2]) if best else None

    def click_part(self, part_id: str, *, deepest: bool) -> str:
        """Which thing a click on a part means: in the assembly that the person works in, else the outermost.

        A click inside the selection goes one level deeper; one beside it stays at its level.
        """
        project, here = self.session.shown, self.session.selection
        chain = [*ancestors(project, part_id), part_id]
        if deepest:
            return chain[-1]
        if here in chain:
            return chain[min(chain.index(here) + 1, len(chain) - 1)]
        if isinstance(self.session.item, Part):
            for above in reversed(ancestors(project, self.session.item.id)):
                if above in chain:
                    return chain[chain.index(above) + 1]
        return chain[0]

    def catch(self, position: QPoint, kinds: Sequence[str] = SNAPS, rank: int = 0) -> Snap | None:
        """What the pointer catches on a part, in space: its best snap, or with ``rank`` one of the next.

        On a mesh of very many triangles whose faces and edges would take long to find, the place alone.
        """
        hit = self.pick(position)
        if hit is None:
            return None
        project, poses = self.session.shown, self.session.poses()
        part = project.parts[hit.row]
        shape = solid_mesh(self.session.meshes, part)
        pose = poses[hit.row]
        local = apply(inverse_rigid(pose), hit.place[None])[0]
        if len(shape.triangles) > MOST_FOR_SNAPS:
            spot = Feature("point", part.id, vector(local), exact=False)
            return Snap("place", hit.place, spot, hit.place[None])
        snaps = snaps_near(shape, part.id, hit.triangle, local, self.snap_reach(hit.place), kinds)
        if not snaps:
            return None
        snap = snaps[rank % len(snaps)]
        return Snap(snap.kind, apply(pose, snap.place[None])[0], snap.feature, apply(pose, snap.outline))
