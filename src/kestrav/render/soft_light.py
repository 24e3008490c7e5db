"""Soft shadow, ambient occlusion, the shadow on the ground and its faint reflection, for pictures in the studio look.

VTK has passes for two of these. Its occlusion alone takes three times as long as all of this in software; its shadow maps do not work with
physically based surfaces (VTK 9.6: their shader does not compile).
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkFloatArray, vtkUnsignedCharArray
from vtkmodules.vtkCommonDataModel import vtkPlane
from vtkmodules.vtkRenderingCore import vtkCamera, vtkRenderer, vtkRenderWindow

from kestrav.core.document.lookup import shown_parts
from kestrav.core.document.records import FloorName, Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.ground import heights_below, standing
from kestrav.core.light.setups import key_share
from kestrav.core.parts.rest import top_bounds
from kestrav.core.processes import note_drawing
from kestrav.render.batches import DisplayMode
from kestrav.render.scene import Scene
from kestrav.render.scene_lights import ProjectLights
from kestrav.render.shading import Sight, Single, enlarged, normals, occlusion, shaded, smoothed
from kestrav.render.steady_light import key_direction, light

Array = NDArray[np.float64]
Picture = NDArray[Any]

_SUN = 1280  # pixels along the sides of the shadow's depth picture
_NEIGHBOURHOOD = 0.03  # of the size of all, within which things keep the light from each other
_SOFT = 0.006  # of the size of all: how soft shadows' edges are
_DARK, _SHADE = 1.35, 0.42  # how much occlusion and shadow take at most
_MIRRORS = 0.06  # share that the ground mirrors when looked down at
_MIRRORS_FLAT = 0.32  # and when looked along
_LEVEL = 2.0  # mm by which a floor may be uneven and be the floor
_GRID = 15  # places along either side of the footprint at which the floor is looked for
_OWN = 0.3  # share of them that a product's own floor takes


class Ground(msgspec.Struct, frozen=True):
    """What everything stands on: its height in mm, whether the product has a floor there itself, and the middle (3,) and half size of all."""

    level: float
    own: bool
    middle: Array
    size: float


def ground_of(project: Project, meshes: Mapping[str, Mesh]) -> Ground:
    """The commonest height that rays from above meet at still parts, where it is common enough, or else the lowest bound."""
    shown = shown_parts(project)
    boxes = [
        box
        for part, box in zip((p for p in project.parts if p.parent is None), top_bounds(project), strict=True)
        if part.id in shown
    ]
    if not boxes:
        return Ground(0.0, False, np.zeros(3), 1000.0)
    low, high = np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)
    x, y = (low[i] + (np.arange(_GRID) + 0.5) / _GRID * (high[i] - low[i]) for i in (0, 1))
    places = np.array([(a, b, high[2] + 1.0) for a in x for b in y])
    met = heights_below(project, meshes, places, standing(project))
    heights, counts = np.unique(np.round(met[np.isfinite(met)]), return_counts=True)
    middle, size = 0.5 * (low + high), 0.5 * float(np.linalg.norm(high - low))
    if len(counts) and counts.max() >= _OWN * len(places) and heights[counts.argmax()] < middle[2]:
        return Ground(float(heights[counts.argmax()]), True, middle, size)
    return Ground(float(low[2]), False, middle, size)


def off_screen(renderer: vtkRenderer, width: int, height: int) -> vtkRenderWindow:
    """A window of a size off screen, without multisampling."""
    note_drawing()
    window = vtkRenderWindow()
    window.SetOffScreenRendering(True)
    window.SetMultiSamples(0)
    window.SetSize(width, height)
    window.AddRenderer(renderer)
    return window


def sight_of(camera: vtkCamera) -> Sight:
    """What a VTK camera sees by."""
    ahead, up = np.array(camera.GetDirectionOfProjection()), np.array(camera.GetViewUp())
    right = np.cross(ahead, up)
    right /= np.linalg.norm(right)
    near, far = camera.GetClippingRange()
    parallel = bool(camera.GetParallelProjection())
    half = camera.GetParallelScale() if parallel else float(np.tan(np.radians(camera.GetViewAngle()) / 2))
    axes, (off_x, off_y) = np.stack([right, np.cross(right, ahead), ahead]), camera.GetWindowCenter()
    return Sight(np.array(camera.GetPosition()), axes, half, near, far, parallel, (off_x, off_y))


def depth_of(window: vtkRenderWindow, kept: vtkFloatArray, step: int = 1) -> Single:
    """The window's depth buffer, top row first, of every so-manieth pixel."""
    width, height = window.GetSize()
    window.GetZbufferData(0, 0, width - 1, height - 1, kept)
    flat = vtk_to_numpy(kept).reshape(height, width)
    return np.ascontiguousarray(flat[::-1][step // 2 :: step, step // 2 :: step])


class SoftLight:
    """Shades the pictures of one project; holds its own windows for what the far light and the mirroring ground see."""

    def __init__(
        self,
        project: Project,
        meshes: Mapping[str, Mesh],
        scene: Scene,
        width: int,
        height: int,
        *,
        fine: bool,
        floor: FloorName = "shadow",
    ) -> None:
        self.project, self.fine = project, fine
        self.ground = ground_of(project, meshes)
        self.floor = "own" if self.ground.own else floor
        self._depth = vtkFloatArray()
        self.sun_scene, self.sun_renderer = Scene(scene), vtkRenderer()
        self.sun_scene.update(project, meshes)
        # only how far everything is matters: no light, no edges
        for batch in self.sun_scene.batches:
            batch.final.GetProperty().SetLighting(False)
            batch.final.SetVisibility(batch.final.GetProperty().GetOpacity() >= 1)
        self.sun_scene.show_in(self.sun_renderer)
        self.sun_renderer.SetUseImageBasedLighting(False)
        self.sun = off_screen(self.sun_renderer, _SUN, _SUN)
        self.towards = key_direction(project.light_setup)
        # what shines not, or softly from all around, throws no shadow
        self.darkest = min(_SHADE, key_share(project.light_setup))
        self._aim_sun()
        self.mirror_scene, self.mirror_renderer = Scene(scene), vtkRenderer()
        self.mirror_scene.update(project, meshes)
        above = vtkPlane()
        above.SetOrigin(0.0, 0.0, self.ground.level + _LEVEL)
        above.SetNormal(0.0, 0.0, 1.0)
        self.mirror_scene.set_display_mode(DisplayMode(cut=above))
        for batch in self.mirror_scene.batches:
            batch.caps.SetVisibility(False)
        light(self.mirror_renderer, project.light_setup)
        self.mirror_scene.show_in(self.mirror_renderer)
        self.mirror_lights = ProjectLights([self.mirror_renderer])
        share = 1 if fine else 2
        self.mirror = off_screen(self.mirror_renderer, max(width // share, 8), max(height // share, 8))
        self._pixels = vtkUnsignedCharArray()

    def _aim_sun(self) -> None:
        camera, size = self.sun_renderer.GetActiveCamera(), self.ground.size
        camera.SetFocalPoint(*self.ground.middle)
        camera.SetPosition(*(self.ground.middle + 2 * size * self.towards))
        camera.SetViewUp(0.0, 0.0, 1.0)
        camera.SetParallelProjection(True)
        camera.SetParallelScale(size)
        camera.SetClippingRange(0.5 * size, 3.5 * size)

    def close(self) -> None:
        """Give the graphics memory back."""
        self.sun.Finalize()
        self.mirror.Finalize()

    def shade(
        self,
        picture: Picture,
        window: vtkRenderWindow,
        renderer: vtkRenderer,
        poses: Array,
        time: float,
        *,
        alpha: bool,
    ) -> Picture:
        """A picture (h, w, 3 or 4) with its shade, from the depth of the window that it was drawn in."""
        height, width = picture.shape[:2]
        top = np.float32(np.iinfo(picture.dtype).max)
        step = max(window.GetSize()[0] // width, 1)
        sight = sight_of(renderer.GetActiveCamera())
        ahead = sight.ahead(depth_of(window, self._depth, step))[:height, :width]
        empty = ~np.isfinite(ahead)
        fading = None
        if self.floor == "shadow":
            down = sight.to_ground(height, width, self.ground.level)
            x, y, _ = sight.places(np.where(empty, down, np.float32(0.0)))
            with np.errstate(invalid="ignore"):
                away = np.hypot(x - self.ground.middle[0], y - self.ground.middle[1]) / (1.6 * self.ground.size)
                fading = np.nan_to_num(np.clip(1.0 - away, 0.0, 1.0)).astype(np.float32) * (empty & np.isfinite(down))
            ahead = np.where(fading > 0, down, ahead)
        kept = self._kept(sight, ahead, poses)
        lit = picture[..., :3].astype(np.float32)
        mask = self._grounds(sight, ahead, fading)
        catcher = np.where(empty, np.float32(0.0) if fading is None else fading, np.float32(1.0))
        factor = 1.0 - (1.0 - kept) * catcher
        if mask is not None and not alpha:
            lit += mask[..., None] * (top / 255.0 * self._mirrored(renderer, poses, time, picture.shape) - lit)
        shaded = np.clip(np.rint(lit * factor[..., None]), 0, top).astype(picture.dtype)
        if not alpha:
            return shaded
        # where only the ground's shadow is, black lets through as much as is left of the light
        opaque = picture[..., 3].astype(np.float32) / top
        opacity = np.where(empty, 1.0 - factor, opaque)
        colour = np.where(empty[..., None], 0, shaded).astype(picture.dtype)
        return np.concatenate([colour, np.rint(top * opacity).astype(picture.dtype)[..., None]], axis=2)

    def _kept(self, sight: Sight, ahead: Single, poses: Array) -> Single:
        """The share of light that is left at each pixel (h, w)."""
        coarse = 1 if self.fine else 2
        small = np.ascontiguousarray(ahead[coarse // 2 :: coarse, coarse // 2 :: coarse])
        with np.errstate(invalid="ignore"):
            places = sight.places(small)
            eye = sight.place.astype(np.float32)
            back = [eye[i] - p for i, p in enumerate(places)]
            if sight.parallel:
                back = [np.full_like(small, -sight.axes[2][i]) for i in range(3)]
            facing = normals(places, back)
            scale = small.shape[0] / (2.0 * sight.half)
            pixels = np.full_like(small, scale) if sight.parallel else (scale / small).astype(np.float32)
            hidden = occlusion(places, facing, pixels, _NEIGHBOURHOOD * self.ground.size, 20 if self.fine else 12)
            self.sun_scene.pose(poses)
            self.sun.Render()
            sun = sight_of(self.sun_renderer.GetActiveCamera())
            met = sun.ahead(depth_of(self.sun, self._depth))
            shadow = shaded(places, facing, met, sun, _SOFT * self.ground.size, 24 if self.fine else 12)
            # what faces away from the light is dark already
            toward = sum(f * np.float32(t) for f, t in zip(facing, self.towards, strict=True))
            shadow *= np.clip(3.0 * toward, 0.0, 1.0)
        left = np.clip(1.0 - _DARK * hidden, 0.25, 1.0) * (1.0 - self.darkest * shadow)
        left = smoothed(left.astype(np.float32), small)
        return left if coarse == 1 else enlarged(left, small, ahead)

    def _grounds(self, sight: Sight, ahead: Single, fading: Single | None) -> Single | None:
        """The share that each pixel (h, w) shows of what the ground mirrors; none where there is no ground in the picture."""
        height, width = ahead.shape
        if self.floor in ("none", "sweep"):
            return None  # what is matt mirrors nothing
        if fading is None:
            down = sight.to_ground(height, width, self.ground.level)
            with np.errstate(invalid="ignore"):
                there = (np.abs(down - ahead) < np.maximum(_LEVEL, 2e-3 * ahead)).astype(np.float32)
        else:
            there = fading
        if not there.any():
            return None
        across, up = sight.rays(height, width)
        right, above, onward = (float(v) for v in sight.axes[:, 2])
        length = 1.0 if sight.parallel else np.sqrt(1.0 + across[None] ** 2 + up[:, None] ** 2)
        slope = np.abs(onward if sight.parallel else onward + across[None] * right + up[:, None] * above) / length
        # Schlick's approximation of Fresnel's equations (C. Schlick, Computer Graphics Forum 13, 1994)
        share = _MIRRORS + (_MIRRORS_FLAT - _MIRRORS) * (1.0 - slope) ** 5
        return (there * share).astype(np.float32)

    def _mirrored(self, renderer: vtkRenderer, poses: Array, time: float, shape: tuple[int, ...]) -> Single:
        """What the ground mirrors: seen from below it, upside down; (h, w, 3)."""
        own, camera, level = renderer.GetActiveCamera(), self.mirror_renderer.GetActiveCamera(), self.ground.level
        camera.DeepCopy(own)
        for read, write in (
            (own.GetPosition, camera.SetPosition),
            (own.GetFocalPoint, camera.SetFocalPoint),
        ):
            x, y, z = read()
            write(x, y, 2 * level - z)
        x, y, z = own.GetViewUp()
        camera.SetViewUp(x, y, -z)
        self.mirror_renderer.SetBackground(*renderer.GetBackground())
        self.mirror_renderer.SetBackground2(*renderer.GetBackground2())
        self.mirror_renderer.SetGradientBackground(renderer.GetGradientBackground())
        self.mirror_scene.pose(poses)
        self.mirror_lights.show(self.project, time)
        self.mirror.Render()
        wide, high = self.mirror.GetSize()
        self.mirror.GetPixelData(0, 0, wide - 1, high - 1, 0, self._pixels, 0)
        seen = vtk_to_numpy(self._pixels).reshape(high, wide, 3)[::-1, ::-1].astype(np.float32)
        # a floor is not polished: what it mirrors is blurred

        seen = scipy.ndimage.gaussian_filter(seen, (high / 300.0, high / 300.0, 0.0))
        rows = np.minimum(np.arange(shape[0]) * high // shape[0], high - 1)
        columns = np.minimum(np.arange(shape[1]) * wide // shape[1], wide - 1)
        return seen[np.ix_(rows, columns)]
