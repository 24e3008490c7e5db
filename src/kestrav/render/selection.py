"""What is selected: a line around its silhouette and a light tint, over whatever lies before it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkUnsignedCharArray
from vtkmodules.vtkCommonDataModel import vtkPlane
from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper, vtkRenderer, vtkRenderWindow

from kestrav.render.batches import Batch, surface_of
from kestrav.render.palette import PETROL, rgb
from kestrav.render.picture import FlatPicture
from kestrav.render.scene import Scene
from kestrav.render.shapes import vtk_matrix

NEAR, FAR, TINT = 255, 120, 34  # alpha of the line's inner pixels, its outer ones, and of what is inside
_MOST = 300_000  # triangles that are drawn whole; of more the coarse forms

Pixels = NDArray[np.uint8]


def grown(mask: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """A mask (h, w) with the pixels that are beside it, corners too. SciPy's dilation of any shape takes twenty times as long."""
    wide = mask.copy()
    wide[:, 1:] |= mask[:, :-1]
    wide[:, :-1] |= mask[:, 1:]
    tall = wide.copy()
    tall[1:] |= wide[:-1]
    tall[:-1] |= wide[1:]
    return tall


def outlined(mask: NDArray[np.bool_]) -> Pixels:
    """The picture (h, w, 4) of a line around a mask (h, w) and a tint over it, see-through elsewhere."""
    picture = np.zeros((*mask.shape, 4), np.uint8)
    if not mask.any():
        return picture
    near = grown(grown(mask))
    picture[..., :3] = np.rint(255 * np.array(rgb(PETROL))).astype(np.uint8)
    picture[..., 3] = np.where(mask, TINT, np.where(near, NEAR, np.where(grown(near), FAR, 0)))
    return picture


class SelectionOutline:
    """Draws the selected parts alone, unseen, and makes a picture of their outline, to be shown over the view."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        self.mask = vtkRenderer()
        self.mask.SetBackground(0.0, 0.0, 0.0)
        self.mask.SetDraw(False)
        self.mask.InteractiveOff()
        self.picture = FlatPicture(see_through=True)
        self.parts: list[str] = []
        self._of: object = None
        self._actors: list[tuple[Batch, vtkActor]] = []
        self._pixels = vtkUnsignedCharArray()

    def choose(self, part_ids: Sequence[str], cut: vtkPlane | None) -> None:
        """Take these parts and no others, where they are now, cut open as they are."""
        batches = self.scene.outlines_of(part_ids)
        of = tuple((id(batch), len(members), batch.rough) for batch, members in batches)
        if list(part_ids) != self.parts or of != self._of:
            for _, actor in self._actors:
                self.mask.RemoveActor(actor)
            self.parts, self._of, self._actors = list(part_ids), of, []
            count = sum(len(m.outline.triangles) for _, members in batches for m in members)
            for batch, members in batches:
                if count > _MOST:
                    members = [m if m.outline.coarse is None else m.coarse() for m in members]
                mapper = vtkPolyDataMapper()
                mapper.SetInputData(surface_of(members))
                mapper.ScalarVisibilityOff()
                actor = vtkActor(mapper=mapper)
                actor.GetProperty().SetLighting(False)
                actor.GetProperty().SetColor(1.0, 1.0, 1.0)
                actor.SetUserMatrix(vtk_matrix(np.eye(4)))
                self.mask.AddActor(actor)
                self._actors.append((batch, actor))
        for batch, actor in self._actors:
            actor.GetMapper().RemoveAllClippingPlanes()
            if cut is not None:
                actor.GetMapper().AddClippingPlane(cut)
            vtk_matrix(self.scene.matrix_of(batch), actor.GetUserMatrix())

    @property
    def is_empty(self) -> bool:
        """Whether nothing is selected that could be drawn."""
        return not self._actors

    def hide(self) -> None:
        """Show no outline."""
        self.picture.show(False)

    def show_in(self, window: vtkRenderWindow, view: vtkRenderer) -> None:
        """Show the outline over a view; the window draws the parts alone for it, and must be drawn anew afterwards."""
        self.mask.SetActiveCamera(view.GetActiveCamera())
        self.mask.SetViewport(view.GetViewport())
        (left, bottom), (width, height) = view.GetOrigin(), view.GetSize()
        if width < 1 or height < 1:
            self.hide()
            return
        self.mask.SetDraw(True)
        try:
            window.Render()
            window.GetPixelData(left, bottom, left + width - 1, bottom + height - 1, 0, self._pixels, 0)
        finally:
            self.mask.SetDraw(False)
        seen = vtk_to_numpy(self._pixels).reshape(height, width, 3)[..., 0] > 127
        self.picture.renderer.SetViewport(view.GetViewport())
        self.picture.put(numpy_to_vtk(outlined(seen).reshape(-1, 4), deep=True), width, height)
        self.picture.show(True)
