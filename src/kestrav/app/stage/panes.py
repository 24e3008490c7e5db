"""The views that the stage is made of."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

from PySide6.QtCore import QRect
from vtkmodules.vtkRenderingCore import vtkProp, vtkRenderer, vtkRenderWindow

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


def drawn_in(window: vtkRenderWindow) -> list[vtkRenderer]:
    """The renderers of a window that are drawn now."""
    collection: Any = window.GetRenderers()  # its stubs do not know that it can be gone through
    return [renderer for renderer in collection if renderer.GetDraw()]


@contextmanager
def alone(window: vtkRenderWindow, renderer: vtkRenderer) -> Iterator[None]:
    """While one renderer of a window is drawn and no other."""
    others = [other for other in drawn_in(window) if other is not renderer]
    for other in others:
        other.SetDraw(False)
    try:
        yield
    finally:
        for other in others:
            other.SetDraw(True)


@contextmanager
def unseen(window: vtkRenderWindow, *, on: bool = True) -> Iterator[None]:
    """While what a window draws is not shown on the screen."""
    window.SetSwapBuffers(not on)
    try:
        yield
    finally:
        window.SetSwapBuffers(True)


def is_software(window: vtkRenderWindow) -> bool:
    """Whether a window that has been drawn once is rendered by the processor."""
    report = window.ReportCapabilities().lower()
    return any(name in report for name in ("llvmpipe", "softpipe", "swrast", "swiftshader"))
