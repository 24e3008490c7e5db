"""How finishes look: plain shading for paint, physically based shading for the rest, and what metal mirrors."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonDataModel import vtkImageData
from vtkmodules.vtkRenderingCore import vtkProperty, vtkRenderer, vtkTexture

from kestrav.core.document.finishes import FINISHES
from kestrav.core.document.records import FinishName

Style = Literal["solid", "see-through", "wire", "finished"]
STYLES: tuple[Style, ...] = ("solid", "see-through", "wire", "finished")
SEE_THROUGH = 0.32  # opacity of everything in that style

_ROOM_HEIGHT = 32  # pixels of the room that metal mirrors; its light is soft anyway


def opacity_of(finish: FinishName, opacity: float, style: Style) -> float:
    """How opaque a part is in a style."""
    known = FINISHES[finish]
    if style == "see-through":
        return min(opacity, SEE_THROUGH)
    if style == "finished" and known is not None:
        return min(opacity, known.opacity)
    return opacity


def apply_finish(look: vtkProperty, finish: FinishName, opacity: float, closed: bool, style: Style, cut: bool) -> bool:
    """Give a surface its look; tells whether it needs a room to mirror.

    ``closed`` solids show no back sides, unless one can see through or into them (``cut``).
    """
    known = FINISHES[finish] if style == "finished" else None
    shown = opacity_of(finish, opacity, style)
    look.SetOpacity(shown)
    look.SetBackfaceCulling(closed and shown >= 1 and not cut)
    if known is None:
        look.SetInterpolationToGouraud()
        look.SetAmbient(0.34)
        look.SetDiffuse(0.72)
        look.SetSpecular(0.12)
        look.SetSpecularPower(22)
        return False
    look.SetInterpolationToPBR()
    look.SetAmbient(0.0)
    look.SetDiffuse(1.0)
    look.SetSpecular(1.0)
    look.SetMetallic(known.metallic)
    look.SetRoughness(known.roughness)
    look.SetCoatStrength(known.coat)
    look.SetCoatRoughness(0.12)
    return True


def apply_flat_finish(look: vtkProperty, finish: FinishName, opacity: float, closed: bool, cut: bool) -> None:
    """Give a surface the flat tones of a technical picture: mostly its own colour, with little light and no gloss."""
    shown = opacity_of(finish, opacity, "finished")
    look.SetOpacity(shown)
    look.SetBackfaceCulling(closed and shown >= 1 and not cut)
    look.SetInterpolationToGouraud()
    look.SetAmbient(0.66)
    look.SetDiffuse(0.4)
    look.SetSpecular(0.0)


def has_room(finish: FinishName) -> bool:
    """Whether a finish mirrors what is around it."""
    return FINISHES[finish] is not None


def give_room(renderer: vtkRenderer) -> None:
    """Let a renderer's physically based surfaces mirror a calm workshop: a bright ceiling, a window, a dark floor."""
    if renderer.GetUseImageBasedLighting():
        return
    rows = np.linspace(1.0, -1.0, _ROOM_HEIGHT)[:, None]
    turn = np.linspace(0.0, 2.0 * np.pi, 2 * _ROOM_HEIGHT)[None]
    light: NDArray[np.float64] = np.where(rows > 0, 0.34 + 0.22 * rows, 0.24 + 0.1 * rows)
    light = light + 0.9 * np.exp(-((turn - 5.2) ** 2 / 0.3 + (rows - 0.5) ** 2 / 0.1))
    light = light + 0.4 * np.exp(-((turn - 2.4) ** 2 / 0.5 + (rows - 0.3) ** 2 / 0.3))
    colours = np.repeat(light[::-1, :, None], 3, axis=2).astype(np.float32)
    image = vtkImageData()
    image.SetDimensions(2 * _ROOM_HEIGHT, _ROOM_HEIGHT, 1)
    image.GetPointData().SetScalars(numpy_to_vtk(np.ascontiguousarray(colours.reshape(-1, 3)), deep=True))
    room = vtkTexture()
    room.SetInputData(image)
    room.MipmapOn()
    room.InterpolateOn()
    room.SetColorModeToDirectScalars()
    renderer.SetEnvironmentTexture(room, False)
    renderer.SetEnvironmentUp(0.0, 0.0, 1.0)
    renderer.SetEnvironmentRight(1.0, 0.0, 0.0)
    # the OpenGL renderer that it is has more than its base declares
    drawn: Any = renderer
    drawn.GetEnvMapPrefiltered().SetPrefilterMaxSamples(128)
    drawn.GetEnvMapPrefiltered().SetPrefilterLevels(4)
    drawn.GetEnvMapLookupTable().SetLUTSize(128)
    drawn.GetEnvMapLookupTable().SetLUTSamples(128)
    drawn.UseSphericalHarmonicsOn()
    renderer.UseImageBasedLightingOn()
