"""The steady light of a set-up in a renderer: a lamp for each of its soft boxes, and one at the viewer."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkLight, vtkRenderer

from kestrav.core.document.records import LightSetup
from kestrav.core.light.setups import gains, soft_boxes
from kestrav.render.finishes import SetupLamps

Array = NDArray[np.float64]

_OURS = "steady light"  # what our own lamps of a renderer are called
_WORKSHOP = 0.55 / 0.85  # of what they shine with on plain paint, that the workshop's lamps give
_FROM_VIEWER = 0.3


def key_direction(setup: LightSetup) -> Array:
    """The unit vector (3,) towards the key light of a set-up."""
    return soft_boxes(setup)[0].direction


def light(renderer: vtkRenderer, setup: LightSetup = LightSetup()) -> None:  # noqa: B008
    """Give a renderer the steady light of a set-up: a lamp for each of its soft boxes, and one at the viewer."""
    renderer.AutomaticLightCreationOff()
    renderer.RemoveAllLights()
    _put_lamps(renderer, setup)
    seen: Any = renderer  # its stubs know events by number only
    seen.AddObserver("StartEvent", lambda caller, _: _light_anew(caller))


def relight(renderer: vtkRenderer, setup: LightSetup) -> None:
    """Put the lamps of a set-up in place of those of another, where a renderer has such; lights of the project stay, after them."""
    lights = renderer.GetLights()
    lights.InitTraversal()
    held = []
    while (lamp := lights.GetNextItem()) is not None:
        held.append(lamp)
    if any(lamp.GetObjectName() == _OURS for lamp in held):
        renderer.RemoveAllLights()
        _put_lamps(renderer, setup)
        for lamp in held:
            if lamp.GetObjectName() != _OURS:
                renderer.AddLight(lamp)


def _put_lamps(renderer: vtkRenderer, setup: LightSetup) -> None:
    """Put in the lamp at the viewer, which physically based shading knows by being the first, and one for each box."""
    gain, dimmed = gains(setup), setup_lamps(setup).gain
    head = vtkLight()
    head.SetLightTypeToHeadlight()
    _shine(renderer, head, _FROM_VIEWER * gain * 2.0**setup.level)
    for box in soft_boxes(setup):
        lamp = vtkLight()
        lamp.SetLightTypeToSceneLight()
        lamp.SetPositional(False)
        lamp.SetPosition(*box.direction)
        lamp.SetFocalPoint(0.0, 0.0, 0.0)
        _shine(renderer, lamp, box.strength / dimmed * gain * box.colour)


def setup_lamps(setup: LightSetup) -> SetupLamps:
    """The lamps that stand for a set-up's boxes. On plain paint they shine in the workshop as strongly as makes it bright, elsewhere so that a white
    surface that faces them best is not beyond white.

    Plain shading has no film's shoulder: what is beyond white would lose its shape.
    """
    boxes = soft_boxes(setup)
    if setup.setup == "workshop":
        return SetupLamps(len(boxes), _WORKSHOP)
    towards = np.array([box.direction for box in boxes])
    strengths = np.array([box.strength for box in boxes]) / 2.0**setup.level
    facing = np.clip(towards @ towards.T, 0.0, None) @ strengths + _FROM_VIEWER
    return SetupLamps(len(boxes), max(float(facing.max()), 1.0))


def _shine(renderer: vtkRenderer, lamp: vtkLight, strength: Array) -> None:
    most = max(float(strength.max()), 1e-9)
    lamp.SetIntensity(most)
    lamp.SetColor(*(float(v) / most for v in strength))
    lamp.SetObjectName(_OURS)
    renderer.AddLight(lamp)


def _light_anew(renderer: vtkRenderer) -> None:
    """Let a renderer's lights shine from where they stand seen by its own camera.

    Renderers of one window share shaders; VTK gives them their lights' directions anew only where a light has changed since, or one
    renderer would be lit as the other's camera stands.
    """
    lights = renderer.GetLights()
    lights.InitTraversal()
    while (lamp := lights.GetNextItem()) is not None:
        lamp.Modified()
