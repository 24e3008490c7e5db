"""Pictures of a project through a camera, off screen."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from functools import reduce
from typing import Any

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkUnsignedCharArray
from vtkmodules.vtkCommonDataModel import vtkImageData, vtkPlane
from vtkmodules.vtkRenderingCore import vtkActor2D, vtkImageMapper, vtkRenderer, vtkRenderWindow

from kestrav.core.camera.adjusting import camera_of
from kestrav.core.camera.filmed import faint_things, kept_solid
from kestrav.core.camera.focusing import aperture_diameter, focus_distances, open_times
from kestrav.core.camera.views import Views, views
from kestrav.core.colours import LUMA, to_linear, to_srgb
from kestrav.core.document.records import Camera, Project, QualityName, Shot
from kestrav.core.finishes.applied import in_colourway
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.poses import world_poses
from kestrav.render.aiming import aim_camera, aim_lens, look_through
from kestrav.render.batches import DisplayMode
from kestrav.render.formats import Bits
from kestrav.render.inscriptions import Inscriber
from kestrav.render.marks import PathLines
from kestrav.render.palette import rgb
from kestrav.render.passing import Passing
from kestrav.render.scene import Scene
from kestrav.render.scene_lights import ProjectLights
from kestrav.render.soft_light import SoftLight, off_screen
from kestrav.render.steady_light import light
from kestrav.render.sweeps import sweep_actor, sweep_of

Array = NDArray[np.float64]
Picture = NDArray[Any]  # 8 or 16 bits for each colour; linear light with its layers in single precision

REACH = 200_000.0  # mm behind the aim that are still drawn
_BLURRED: dict[QualityName, int] = {"good": 16, "best": 32}  # pictures that a blurred one is the mean of
_TOGETHER = 32  # pictures whose motion is worked out at once
SIDES: dict[QualityName, int] = {
    "preview": 1,
    "good": 2,
    "best": 4,
    "finished": 4,
}  # samples of a pixel along either side, by quality


class Studio:
    """An off-screen window that takes a shot's pictures, in a size of its own.

    Each pixel is the mean of a square of samples, so that edges neither step nor crawl when they move. ``alpha`` leaves the background
    out.
    """

    def __init__(
        self,
        project: Project,
        meshes: Mapping[str, Mesh],
        shot: Shot,
        width: int,
        height: int,
        *,
        alpha: bool = False,
        bits: Bits = 8,
    ) -> None:
        if shot.look == "ghost" and shot not in project.shots:
            # what stays solid is drawn apart from the rest, as the project's shots say
            project = msgspec.structs.replace(project, shots=(shot,))
        project = in_colourway(project, shot.colourway)
        self.project, self.meshes, self.shot, self.width, self.height = project, meshes, shot, width, height
        self.alpha = alpha or shot.clear
        self.top = top_of(bits)
        # what is blurred is the mean of many pictures, which smooths its edges as well
        self.blurs = _BLURRED[shot.quality] if is_blurred(project, shot) else 1
        self.sides = 1 if self.blurs > 1 else SIDES[shot.quality]
        self.scene = Scene()
        self.scene.update(project, meshes)
        self.scene.set_display_mode(display_mode_of(project, shot, line=self.sides * line_width(height)))
        self.renderer = vtkRenderer()
        backdrop(self.renderer, shot)
        light(self.renderer, project.light_setup)
        self.scene.show_in(self.renderer)
        self.lights = ProjectLights([self.renderer])
        if shot.paths:
            PathLines(self.renderer).show(project.paths, self.sides * path_width(height))
        self.passing = Passing(self.renderer, self.scene, project, shot, self.sides * path_width(height))
        if not os.environ.get("DISPLAY"):
            # without a display VTK would first try one, and complain
            os.environ.setdefault("VTK_DEFAULT_OPENGL_WINDOW", "vtkEGLRenderWindow")
        self.window = off_screen(self.renderer, self.sides * width, self.sides * height)
        if self.alpha:
            self.window.SetAlphaBitPlanes(1)
            self.renderer.SetBackgroundAlpha(0.0)
        self.soft: SoftLight | None = None
        if shot.look == "studio" and shot.quality != "preview" and shot.section is None:
            fine = shot.quality in ("best", "finished")
            self.soft = SoftLight(project, meshes, self.scene, width, height, fine=fine, floor=shot.floor)
            if self.soft.floor == "sweep":
                self.renderer.AddActor(sweep_actor(sweep_of(project, meshes, shot, self.soft.ground), shot.background))
        self.inscriber = Inscriber(project, meshes, shot)
        self._pixels = vtkUnsignedCharArray()
        self._camera: Camera | None = None
        self._coming: list[float] = []
        self._known: dict[float, tuple[Array, Views]] = {}

    def prefetch(self, times: Sequence[float]) -> None:
        """Be ready for pictures at these times in this order: their motion is worked out many at once, which costs little more."""
        self._coming = list(times)

    def _motion(self, camera: Camera, time: float) -> tuple[Array, Views]:
        """World poses (parts, 4, 4) and the view at a time."""
        if self._camera is not camera or time not in self._known:
            first = self._coming.index(time) if time in self._coming else None
            some = [time] if first is None else self._coming[first : first + _TOGETHER]
            poses = world_poses(self.project, some)
            seen = views(self.project, self.meshes, camera, some, poses, self.width / self.height)
            self._camera, self._known = camera, {t: (poses[k], seen.at(k)) for k, t in enumerate(some)}
        return self._known[time]

    def picture(self, camera: Camera, time: float) -> Picture:
        """The picture (height, width, 3) that a camera sees at a time in s, with what the shot writes on it."""
        poses, seen = self._motion(camera, time)
        taken = self._sharp(camera, time, poses, seen) if self.blurs == 1 else self._blurred(camera, time)
        return self.inscriber.inscribed(taken, time, seen, poses)

    def _sharp(
        self,
        camera: Camera,
        time: float,
        poses: Array,
        seen: Views,
        through: tuple[Array, Array] | None = None,
    ) -> Picture:
        """The picture of an instant; ``through`` a place of the lens (2,) in mm, and by a part of a pixel (2,) aside."""
        self._place(poses, time)
        self.passing.show(time)
        self.scene.fade(self.renderer, faint_things(camera, time))
        aim_lens(self.renderer, camera, seen, self.width, self.height, REACH)
        if through is not None:
            focus = focus_distances(self.project, camera, [time], poses[None], seen)[0]
            look_through(self.renderer, *through, float(focus), (self.width, self.height))
        taken = self._taken(self.top)
        if self.soft is None:
            return taken
        return self.soft.shade(taken, self.window, self.renderer, poses, time, alpha=self.alpha)

    def _blurred(self, camera: Camera, time: float) -> Picture:
        """The mean light of instants while the shutter is open, each through another place of the lens."""
        # one time where the shutter is open for an instant only, seen through all of the lens
        times = np.resize(open_times(time, self.shot.fps, self.shot.shutter, self.blurs), self.blurs)
        poses = world_poses(self.project, times)
        seen = views(self.project, self.meshes, camera, times, poses, self.width / self.height)
        open_by = np.zeros(len(times)) if camera.parallel else aperture_diameter(camera, seen.focal_length)
        asides, places = spread(self.blurs)
        light: Any = 0.0
        cover: Any = 0.0
        for k, instant in enumerate(times.tolist()):
            through = (0.5 * open_by[k] * places[k], asides[k] - 0.5)
            picture = self._sharp(camera, instant, poses[k], seen.at(k), through)
            share = picture[..., 3:] / self.top if self.alpha else np.ones((1, 1, 1))
            light, cover = light + share * to_linear(picture[..., :3] / self.top), cover + share
        colours = to_srgb(light / np.maximum(cover, 1e-6))
        if self.alpha:
            colours = np.concatenate([colours, cover / len(times)], axis=2)
        return in_numbers(colours, self.top)

    def picture_from(self, place: Array, target: Array, up: Array, angle: float, poses: Array, time: float) -> Picture:
        """The picture from a place towards a target (3,), of a height in rad, with the parts at world poses (parts, 4, 4)."""
        self._place(poses, time)
        aim_camera(self.renderer, place, target, up, angle, REACH)
        return self._taken()

    def _place(self, poses: Array, time: float) -> None:
        self.scene.pose(poses)
        self.lights.show(self.project, time)

    def _taken(self, top: int = 255) -> Picture:
        self.window.Render()
        return averaged(grab(self.window, self._pixels, alpha=self.alpha), self.sides, top)

    def close(self) -> None:
        """Give the graphics memory back."""
        self.window.Finalize()
        if self.soft is not None:
            self.soft.close()


def is_blurred(project: Project, shot: Shot) -> bool:
    """Whether a shot's quick pictures show how long the shutter is open, or how wide the lens is."""
    return shot.quality in _BLURRED and (shot.shutter > 0 or camera_of(project, shot.camera).f_number > 0)


def spread(count: int) -> tuple[Array, Array]:
    """Places (count, 2) in a square from 0 to 1 and in a disc of radius 1, spread evenly and independently.

    Halton's points (J. H. Halton, "On the efficiency of certain quasi-random sequences of points", Numerische Mathematik 2, 1960), and
    the sunflower's (H. Vogel, Mathematical Biosciences 44, 1979) in another order.
    """

    square = np.asarray(scipy.stats.qmc.Halton(2, scramble=False).random(count + 1)[1:])
    turns = np.arange(count) * np.pi * (3.0 - np.sqrt(5.0))
    radii = np.sqrt((np.arange(count) + 0.5) / count)
    disc = np.stack([radii * np.cos(turns), radii * np.sin(turns)], axis=1)
    # instants follow each other: their places on the lens must not go from its middle to its rim with them
    return square, disc[np.argsort(square[:, 1], kind="stable")]


def plain_studio(
    project: Project, meshes: Mapping[str, Mesh], width: int, height: int, background: str, *, paths: bool = False
) -> Studio:
    """A studio for pictures of no shot: the finished product before a colour, one sample a pixel."""
    shot = Shot("", "", "", 0.0, 1.0, width, height, background=background, paths=paths, quality="preview")
    return Studio(project, meshes, shot, width, height)


def display_mode_of(project: Project, shot: Shot, line: float = 1.0) -> DisplayMode:
    """How a shot shows the parts, its edges being lines of a width in pixels."""
    cut = None
    if shot.section is not None:
        cut = vtkPlane()
        cut.SetOrigin(*shot.section.point)
        cut.SetNormal(*(-v for v in shot.section.normal))
    solid = kept_solid(project, shot) if shot.look == "ghost" else frozenset()
    return DisplayMode(shot.look, solid, cut, line, dark=_brightness(shot.background) < 0.5)


def _brightness(colour: str) -> float:
    """The luma of a colour, 0 to 1 (ITU-R BT.709-6)."""
    return float(np.dot(rgb(colour), LUMA))


def backdrop(renderer: vtkRenderer, shot: Shot) -> None:
    """Give a renderer the background of a shot."""
    renderer.SetBackground(*rgb(shot.background))
    renderer.SetGradientBackground(bool(shot.background_top))
    if shot.background_top:
        renderer.SetBackground2(*rgb(shot.background_top))
        renderer.SetDitherGradient(False)


def top_of(bits: Bits) -> int:
    """The number of full white where colours are written with so many bits. Raises ValueError for linear light, which has none."""
    if bits == 32:
        raise ValueError("linear light has no top")
    return 255 if bits == 8 else 65535


def in_numbers(shown: NDArray[Any], top: int) -> Picture:
    """Values from 0 to 1 as the whole numbers of a picture, whose full white is 255 or 65535."""
    return np.rint(top * np.clip(shown, 0.0, 1.0)).astype(np.uint8 if top == 255 else np.uint16)


def averaged(picture: NDArray[np.uint8], sides: int, top: int = 255) -> Picture:
    """A picture whose pixels are the means of squares of so many samples by side; colours by their opacity where there is one.

    With a ``top`` of 65535 the means keep what they have beyond 8 bits.
    """
    if sides == 1:
        return picture if top == 255 else picture.astype(np.uint16) * np.uint16(257)
    height, width, channels = picture.shape
    cells = picture.reshape(height // sides, sides, width // sides, sides, channels)
    if channels == 3 and top == 255:
        # pairs of columns and rows one after the other are many times faster than a mean over two axes
        rows = reduce(np.add, [cells[:, k].astype(np.uint16) for k in range(sides)])
        whole = reduce(np.add, [rows[:, :, k] for k in range(sides)])
        return ((whole + sides**2 // 2) // sides**2).astype(np.uint8)
    shown = cells.astype(np.float32) / np.float32(255.0)
    if channels == 3:
        return in_numbers(shown.mean(axis=(1, 3)), top)
    total = shown[..., 3:].sum(axis=(1, 3))
    colour = (shown[..., :3] * shown[..., 3:]).sum(axis=(1, 3)) / np.maximum(total, 1e-6)
    return in_numbers(np.concatenate([colour, total / sides**2], axis=2), top)


def line_width(height: int) -> float:
    """How wide in pixels an edge is in a picture of a height in pixels."""
    return max(1.0, height / 720.0)


def path_width(height: int) -> float:
    """How wide in pixels a path is in a picture of a height in pixels."""
    return max(1.0, height / 360.0)


def grab(
    window: vtkRenderWindow, pixels: vtkUnsignedCharArray | None = None, *, alpha: bool = False
) -> NDArray[np.uint8]:
    """The window's back buffer (height, width, 3 or with alpha 4), top row first."""
    width, height = window.GetSize()
    pixels = vtkUnsignedCharArray() if pixels is None else pixels
    if alpha:
        window.GetRGBACharPixelData(0, 0, width - 1, height - 1, 0, pixels, 0)
    else:
        window.GetPixelData(0, 0, width - 1, height - 1, 0, pixels, 0)
    flat = vtk_to_numpy(pixels).reshape(height, width, 4 if alpha else 3)
    return np.ascontiguousarray(flat[::-1])


def picture_of(window: vtkRenderWindow, renderer: vtkRenderer, opacity: float) -> Picture:
    """What a renderer has drawn (height, width, 4), to be laid over others with an opacity."""
    (left, bottom), (width, height) = renderer.GetOrigin(), renderer.GetSize()
    pixels = vtkUnsignedCharArray()
    window.GetPixelData(left, bottom, left + width - 1, bottom + height - 1, 0, pixels, 0)
    flat = vtk_to_numpy(pixels).reshape(height, width, 3)[::-1]
    return np.concatenate([flat, np.full((height, width, 1), round(255 * opacity), np.uint8)], axis=2)


class FlatPicture:
    """A renderer that shows a picture of its size, pixel for pixel; over what is drawn below where it is see-through."""

    def __init__(self, *, see_through: bool = False) -> None:
        self.renderer = vtkRenderer()
        self.renderer.SetDraw(False)
        self.renderer.InteractiveOff()
        self._image = vtkImageData()
        mapper = vtkImageMapper()
        mapper.SetInputData(self._image)
        mapper.SetColorWindow(255.0)
        mapper.SetColorLevel(127.5)
        self.renderer.AddViewProp(vtkActor2D(mapper=mapper))
        self.renderer.SetPreserveColorBuffer(see_through)

    def put(self, pixels: vtkUnsignedCharArray, width: int, height: int) -> None:
        """Take a picture's pixels, three numbers each (or four with their opacity), the lowest row first."""
        self._image.SetDimensions(width, height, 1)
        self._image.GetPointData().SetScalars(pixels)
        self._image.Modified()

    def show(self, shown: bool) -> None:
        """Draw the picture, or not."""
        self.renderer.SetDraw(shown)


class KeptPicture(FlatPicture):
    """A renderer's last picture, to be shown again as long as what it was made from is the same."""

    def __init__(self) -> None:
        super().__init__()
        self._of: tuple[object, ...] | None = None

    def keep(self, window: vtkRenderWindow, renderer: vtkRenderer, of: tuple[object, ...]) -> None:
        """Keep what a renderer has just drawn, with the things it was made from."""
        (left, bottom), (width, height) = renderer.GetOrigin(), renderer.GetSize()
        if width < 1 or height < 1:
            return
        pixels = vtkUnsignedCharArray()
        window.GetPixelData(left, bottom, left + width - 1, bottom + height - 1, 0, pixels, 0)
        self.put(pixels, width, height)
        self._of = of

    @property
    def is_there(self) -> bool:
        """Whether a picture is kept."""
        return self._of is not None

    def holds(self, of: tuple[object, ...]) -> bool:
        """Whether the picture kept was made from just these things."""
        if self._of is None:
            return False
        return all(a is b or (isinstance(a, float) and a == b) for a, b in zip(self._of, of, strict=True))

    def forget(self) -> None:
        """The picture is of no use any more."""
        self._of = None
