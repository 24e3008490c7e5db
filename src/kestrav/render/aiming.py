"""A renderer's camera pointed as a camera of the project looks, as a stage's viewpoint, or through a place of its lens."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkRenderer

from kestrav.core.camera.views import Views
from kestrav.core.document.records import Camera

Array = NDArray[np.float64]


def aim_lens(renderer: vtkRenderer, camera: Camera, seen: Views, width: float, height: float, reach: float) -> None:
    """Point a renderer's camera as a camera of the project looks in the first of some views, in a frame of width by height."""
    angle = float(seen.vertical_angle(camera, width, height)[0])
    aim_camera(renderer, seen.position[0], seen.target[0], seen.up[0], angle, reach, parallel=camera.parallel)


def aim_camera(
    renderer: vtkRenderer,
    position: Array,
    target: Array,
    up: Array,
    vertical_angle: float,
    reach: float,
    *,
    parallel: bool = False,
) -> None:
    """Point a renderer's camera; ``reach`` in mm is how far behind the target things may lie.

    A parallel one shows at the target what the angle would, and also what lies behind its own position.
    """
    camera = renderer.GetActiveCamera()
    camera.SetWindowCenter(0.0, 0.0)
    camera.SetPosition(*position)
    camera.SetFocalPoint(*target)
    camera.SetViewUp(*up)
    camera.SetViewAngle(float(np.degrees(vertical_angle)))
    away = float(np.linalg.norm(np.asarray(target) - np.asarray(position)))
    camera.SetParallelProjection(parallel)
    if parallel:
        camera.SetParallelScale(away * float(np.tan(vertical_angle / 2)))
        back = np.asarray(position) + (reach / 2 / away) * (np.asarray(position) - np.asarray(target))
        camera.SetPosition(*back)
        camera.SetClippingRange(1.0, away + 1.5 * reach)
        return
    camera.SetClippingRange(max(10.0, 0.002 * away), away + reach)


def look_through(renderer: vtkRenderer, lens: Array, aside: Array, focus: float, size: tuple[int, int]) -> None:
    """Let a renderer's camera look through a place of its lens (2,) in mm to the right and up, by a part of a pixel (2,) aside; what lies at
    a distance of ``focus`` mm stays where it is in a picture of a size in pixels."""
    camera, (width, height) = renderer.GetActiveCamera(), size
    centre = 2.0 * np.asarray(aside, float) / (width, height)
    if not camera.GetParallelProjection() and np.any(lens):
        ahead, up = np.array(camera.GetDirectionOfProjection()), np.array(camera.GetViewUp())
        right = np.cross(ahead, up)
        right /= np.linalg.norm(right)
        shift = lens[0] * right + lens[1] * np.cross(right, ahead)
        camera.SetPosition(*(np.array(camera.GetPosition()) + shift))
        camera.SetFocalPoint(*(np.array(camera.GetFocalPoint()) + shift))
        half = focus * np.tan(np.radians(camera.GetViewAngle()) / 2.0)
        centre = centre - lens / (half * width / height, half)
    camera.SetWindowCenter(*centre)
