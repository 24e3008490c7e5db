"""Pictures of a project through a camera, off screen."""

from __future__ import annotations

import os
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkUnsignedCharArray
from vtkmodules.vtkCommonDataModel import vtkImageData
from vtkmodules.vtkRenderingCore import vtkActor2D, vtkImageMapper, vtkRenderer, vtkRenderWindow

from kestrav.core.camera.views import vertical_angle, views
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Camera, Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.motion.poses import world_poses
from kestrav.render.lights import ProjectLights
from kestrav.render.marks import PathLines
from kestrav.render.palette import rgb
from kestrav.render.scene import Scene, aim_camera, is_software, light

Array = NDArray[np.float64]
Picture = NDArray[np.uint8]

REACH = 200_000.0  # mm behind the aim that are still drawn
_SAMPLES = 8  # multisampling where a graphics processor does it; too slow and switched off without one


class Studio:
    """An off-screen window of a size, showing one project."""

    def __init__(
        self,
        project: Project,
        meshes: Mapping[str, Mesh],
        width: int,
        height: int,
        background: str,
        paths: bool = False,
    ) -> None:
        self.project, self.width, self.height = project, width, height
        self.scene = Scene()
        self.scene.update(project, meshes)
        self.renderer = vtkRenderer()
        self.renderer.SetBackground(*rgb(background))
        light(self.renderer)
        self.scene.show_in(self.renderer)
        self.lights = ProjectLights([self.renderer])
        if paths:
            PathLines(self.renderer).show(project.paths, path_width(height))
        if not os.environ.get("DISPLAY"):
            # without a display VTK would first try one, and complain
            os.environ.setdefault("VTK_DEFAULT_OPENGL_WINDOW", "vtkEGLRenderWindow")
        self.window = vtkRenderWindow()
        self.window.SetOffScreenRendering(True)
        self.window.SetMultiSamples(0)
        self.window.SetSize(width, height)
        self.window.AddRenderer(self.renderer)
        self.window.Render()
        if is_software(self.window):
            self.renderer.UseFXAAOn()
        else:
            self.window.SetMultiSamples(_SAMPLES)
        self._pixels = vtkUnsignedCharArray()

    def picture(self, camera: Camera, time: float) -> Picture:
        """The picture (height, width, 3) that a camera sees at a time in s."""
        poses = world_poses(self.project, [time])
        view = views(self.project, camera, [time], poses)
        angle = vertical_angle(camera, self.width, self.height)
        return self.picture_from(view.position[0], view.target[0], view.up[0], angle, poses[0], time)

    def picture_from(self, place: Array, target: Array, up: Array, angle: float, poses: Array, time: float) -> Picture:
        """The picture from a place towards a target (3,), of a height in rad, with the parts at world poses (parts, 4, 4)."""
        self.scene.pose(poses)
        self.lights.show(self.project, time)
        aim_camera(self.renderer, place, target, up, angle, REACH)
        self.window.Render()
        return grab(self.window, self._pixels)

    def close(self) -> None:
        """Give the graphics memory back."""
        self.window.Finalize()


def path_width(height: int) -> float:
    """How wide in pixels a path is in a picture of a height in pixels."""
    return max(1.0, height / 360.0)


def grab(window: vtkRenderWindow, pixels: vtkUnsignedCharArray | None = None) -> Picture:
    """The window's back buffer (height, width, 3), top row first."""
    width, height = window.GetSize()
    pixels = vtkUnsignedCharArray() if pixels is None else pixels
    window.GetPixelData(0, 0, width - 1, height - 1, 0, pixels, 0)
    flat = vtk_to_numpy(pixels).reshape(height, width, 3)
    return np.ascontiguousarray(flat[::-1])


class KeptPicture:
    """A renderer's last picture, to be shown again as long as what it was made from is the same."""

    def __init__(self) -> None:
        self.renderer = vtkRenderer()
        self.renderer.SetDraw(False)
        self.renderer.InteractiveOff()
        self._image = vtkImageData()
        mapper = vtkImageMapper()
        mapper.SetInputData(self._image)
        mapper.SetColorWindow(255.0)
        mapper.SetColorLevel(127.5)
        self.renderer.AddViewProp(vtkActor2D(mapper=mapper))
        self._of: tuple[object, ...] | None = None

    def keep(self, window: vtkRenderWindow, renderer: vtkRenderer, of: tuple[object, ...]) -> None:
        """Keep what a renderer has just drawn, with the things it was made from."""
        (left, bottom), (width, height) = renderer.GetOrigin(), renderer.GetSize()
        if width < 1 or height < 1:
            return
        pixels = vtkUnsignedCharArray()
        window.GetPixelData(left, bottom, left + width - 1, bottom + height - 1, 0, pixels, 0)
        self._image.SetDimensions(width, height, 1)
        self._image.GetPointData().SetScalars(pixels)
        self._image.Modified()
        self._of = of

    def holds(self, of: tuple[object, ...]) -> bool:
        """Whether the picture kept was made from just these things."""
        if self._of is None:
            return False
        return all(a is b or (isinstance(a, float) and a == b) for a, b in zip(self._of, of, strict=True))

    def forget(self) -> None:
        """The picture is of no use any more."""
        self._of = None

    def show(self, shown: bool) -> None:
        """Draw the kept picture, or not."""
        self.renderer.SetDraw(shown)


def camera_of(project: Project, camera_id: str) -> Camera:
    """The camera of an id."""
    camera = get(project, camera_id)
    assert isinstance(camera, Camera)
    return camera
