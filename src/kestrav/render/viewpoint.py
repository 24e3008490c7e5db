"""The person's own viewpoint in the stage: turning, shifting, zooming, and rays through pixels."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray
from vtkmodules.vtkRenderingCore import vtkRenderer

Array = NDArray[np.float64]

_UP = np.array([0.0, 0.0, 1.0])
_STEEPEST = np.radians(89.0)  # by hand; the set views look straight down and up


class Viewpoint:
    """A camera on a sphere about a focus: azimuth and elevation in rad, distance in mm, Z up."""

    def __init__(self) -> None:
        self.focus = np.zeros(3)
        self.azimuth, self.elevation, self.distance = np.radians(-62.0), np.radians(24.0), 5000.0
        self.angle = np.radians(32.0)
        self.parallel = False

    @property
    def position(self) -> Array:
        """Where it stands."""
        c = np.cos(self.elevation)
        direction = np.array([c * np.cos(self.azimuth), c * np.sin(self.azimuth), np.sin(self.elevation)])
        position: Array = self.focus + self.distance * direction
        return position

    @property
    def forward(self) -> Array:
        """Unit vector of looking."""
        forward: Array = (self.focus - self.position) / self.distance
        return forward

    @property
    def right(self) -> Array:
        """Unit vector to the right, level."""
        return np.array([-np.sin(self.azimuth), np.cos(self.azimuth), 0.0])

    @property
    def up(self) -> Array:
        """Unit vector up in the picture."""
        axis: Array = np.cross(self.right, self.forward)
        return axis

    def turn(self, right: float, up: float) -> None:
        """Turn about the focus by angles in rad."""
        self.azimuth -= right
        self.elevation = float(np.clip(self.elevation + up, -_STEEPEST, _STEEPEST))

    def shift(self, right: float, up: float) -> None:
        """Shift sideways by lengths in mm."""
        self.focus = self.focus + right * self.right + up * self.up

    def zoom(self, factor: float, toward: ArrayLike | None = None) -> None:
        """Come nearer by a factor below 1; the point ``toward`` keeps its place in the picture."""
        factor = float(np.clip(factor * self.distance, 5.0, 5e6) / self.distance)
        if toward is not None:
            self.focus = np.asarray(toward, float) + factor * (self.focus - np.asarray(toward, float))
        self.distance *= factor

    def frame(self, bounds: ArrayLike, margin: float = 1.15, aspect: float | None = None) -> None:
        """Show bounds (2, 3) whole; a parallel view of a width by height ``aspect`` just as large as they are."""
        bounds = np.asarray(bounds, float)
        self.focus = bounds.mean(axis=0)
        if self.parallel and aspect is not None:
            half = 0.5 * (bounds[1] - bounds[0])
            wide, high = float(np.abs(self.right) @ half), float(np.abs(self.up) @ half)
            self.distance = max(margin * max(high, wide / aspect), 20.0) / np.tan(self.angle / 2)
            return
        radius = max(0.5 * float(np.linalg.norm(bounds[1] - bounds[0])), 20.0)
        self.distance = margin * radius / np.sin(self.angle / 2)

    def look_from(self, direction: ArrayLike) -> None:
        """Stand in a unit direction (3,) from the focus; from straight above or below, with y up in the picture."""
        x, y, z = np.asarray(direction, float)
        self.azimuth = float(np.arctan2(y, x)) if np.hypot(x, y) > 1e-9 else -np.pi / 2
        self.elevation = float(np.arcsin(np.clip(z, -1, 1)))

    def pixel(self, height: int) -> float:
        """Size in mm of a pixel at the focus in a picture of a height in pixels."""
        return float(2 * self.distance * np.tan(self.angle / 2) / max(height, 1))


def ray(renderer: vtkRenderer, x: float, y: float) -> tuple[Array, Array]:
    """Origin and unit direction of the ray through a display pixel (y upwards)."""
    ends = []
    for depth in (0.0, 1.0):
        renderer.SetDisplayPoint(x, y, depth)
        renderer.DisplayToWorld()
        world = np.array(renderer.GetWorldPoint())
        ends.append(world[:3] / world[3])
    direction = ends[1] - ends[0]
    return ends[0], direction / np.linalg.norm(direction)


# where the person stands for the set views: the front of a product looks along −y
STANDS: dict[str, tuple[float, float, float]] = {
    "front": (0.0, -1.0, 0.0),
    "back": (0.0, 1.0, 0.0),
    "left": (-1.0, 0.0, 0.0),
    "right": (1.0, 0.0, 0.0),
    "top": (0.0, 0.0, 1.0),
    "bottom": (0.0, 0.0, -1.0),
}


def on_plane(origin: Array, direction: Array, point: ArrayLike, normal: ArrayLike) -> Array | None:
    """Where a ray meets a plane ahead of it, or None when it runs along or away from it."""
    normal = np.asarray(normal, float)
    slope = float(np.dot(direction, normal))
    if abs(slope) < 1e-6:
        return None
    distance = float(np.dot(np.asarray(point, float) - origin, normal)) / slope
    return origin + distance * direction if distance > 0 else None


def facing(forward: Array) -> Array:
    """The level axis direction most along a line of sight: the normal of an upright plane facing the viewer."""
    axis = int(np.argmax(np.abs(forward[:2])))
    normal = np.zeros(3)
    normal[axis] = 1.0
    return normal


def to_display(renderer: vtkRenderer, points: ArrayLike) -> Array:
    """Display pixels and depth (n, 3) of points (n, 3); depth above 1 is behind the far end or the eye."""
    points = np.asarray(points, float).reshape(-1, 3)
    aspect = renderer.GetTiledAspectRatio()
    matrix = renderer.GetActiveCamera().GetCompositeProjectionTransformMatrix(aspect, 0.0, 1.0)
    m = np.array([[matrix.GetElement(i, j) for j in range(4)] for i in range(4)])
    clip = np.concatenate([points, np.ones((len(points), 1))], axis=1) @ m.T
    w = np.where(np.abs(clip[:, 3]) < 1e-12, 1e-12, clip[:, 3])
    unit = clip[:, :3] / w[:, None]
    unit[clip[:, 3] <= 0, 2] = 2.0
    width, height = renderer.GetSize()
    left, bottom = renderer.GetOrigin()
    unit[:, 0] = left + (unit[:, 0] + 1) / 2 * width
    unit[:, 1] = bottom + (unit[:, 1] + 1) / 2 * height
    return unit
