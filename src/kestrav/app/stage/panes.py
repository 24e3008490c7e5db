"""The views that the stage is made of."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QRect
from vtkmodules.vtkRenderingCore import vtkProp, vtkRenderer

from kestrav.render.viewpoint import Viewpoint


class Pane:
    """One view of the stage: the parts' renderer, the renderer of marks over it, and where the person stands."""

    def __init__(self, name: str, stand: tuple[float, float, float] | None = None) -> None:
        self.name, self.turnable = name, stand is None
        self.renderer, self.over = vtkRenderer(), vtkRenderer()
        self.over.SetActiveCamera(self.renderer.GetActiveCamera())
        self.over.InteractiveOff()
        self.viewpoint = Viewpoint()
        if stand is not None:
            self.viewpoint.look_from(stand)
            self.viewpoint.parallel = True
        self.rect = QRect()


class Everywhere:
    """Several renderers that show the same marks."""

    def __init__(self, renderers: Sequence[vtkRenderer]) -> None:
        self.renderers = tuple(renderers)

    def AddActor(self, actor: vtkProp) -> None:
        """Show in all of them, as VTK has it."""
        for renderer in self.renderers:
            renderer.AddActor(actor)

    def RemoveActor(self, actor: vtkProp) -> None:
        """Take out of all of them."""
        for renderer in self.renderers:
            renderer.RemoveActor(actor)
