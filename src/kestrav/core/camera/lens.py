"""Lenses: angles of view, and where points are seen in the frame. Lengths in mm, angles in rad."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Camera
from kestrav.core.errors import BadInput

Array = NDArray[np.float64]

# shares of width and height: SMPTE ST 2046-1:2009, "Specification for Safe Action and Safe Title Areas"
ACTION_SAFE, TITLE_SAFE = 0.93, 0.90

_NEAREST = 1e-3  # mm before the lens, within which nothing is projected


def frame_on_sensor(camera: Camera, width: float, height: float) -> tuple[float, float]:
    """Width and height in mm of the output frame on the sensor: the largest of its aspect that fits there."""
    aspect = width / height
    high = min(camera.sensor_height, camera.sensor_width / aspect)
    return high * aspect, high


def angle_of_view(extent: float, focal_length: float) -> float:
    """The angle that an extent on the sensor sees: 2 atan(extent / 2f) (pinhole model)."""
    return float(2.0 * np.arctan(extent / (2.0 * focal_length)))


def vertical_angle(camera: Camera, width: float, height: float, focal_length: float | None = None) -> float:
    """Vertical angle of view of an output frame of width by height pixels; glTF's ``yfov`` of a perspective camera."""
    return angle_of_view(frame_on_sensor(camera, width, height)[1], focal_length or camera.focal_length)


def angles(camera: Camera, width: float, height: float) -> tuple[float, float, float]:
    """Horizontal, vertical and diagonal angle of view of an output frame."""
    wide, high = frame_on_sensor(camera, width, height)
    return (
        angle_of_view(wide, camera.focal_length),
        angle_of_view(high, camera.focal_length),
        angle_of_view(float(np.hypot(wide, high)), camera.focal_length),
    )


def focal_length_for(
    camera: Camera, width: float, height: float, angle: float, across: Literal["width", "height", "diagonal"]
) -> float:
    """The focal length in mm by which an output frame has an angle across it. Raises BadInput for one that no lens has."""
    if not 0 < angle < np.pi:
        raise BadInput(f"an angle of view of {np.degrees(angle):g}° is not possible; give above 0 and below 180")
    wide, high = frame_on_sensor(camera, width, height)
    extent = {"width": wide, "height": high, "diagonal": float(np.hypot(wide, high))}[across]
    return float(extent / (2.0 * np.tan(angle / 2.0)))


def in_camera(position: ArrayLike, forward: ArrayLike, up: ArrayLike, points: ArrayLike) -> Array:
    """Points (n, k, 3) as a camera has them at n times: to the right, up and ahead, in mm."""
    forward, up = np.asarray(forward, float), np.asarray(up, float)
    axes = np.stack([np.cross(forward, up), up, forward], axis=-1)
    offset = np.asarray(points, float) - np.asarray(position, float)[:, None, :]
    seen: Array = offset @ axes
    return seen


def on_frame(local: ArrayLike, half_height: ArrayLike, aspect: float, *, parallel: bool) -> Array:
    """Where points (n, k, 3) of a camera's own coordinates are seen (n, k, 2): −1 to 1 to the right and up within the frame.

    ``half_height`` (n,) is half the frame's height: as a slope of sight, or in mm of a parallel view. What is behind
    is seen as just before the lens, far out of the frame.
    """
    local = np.asarray(local, float)
    depth = np.ones(local.shape[:-1]) if parallel else np.maximum(local[..., 2], _NEAREST)
    half = np.asarray(half_height, float)[:, None]
    return np.stack([local[..., 0] / (depth * half * aspect), local[..., 1] / (depth * half)], axis=-1)


def extent(places: ArrayLike) -> tuple[Array, Array]:
    """The least and the greatest coordinates (n, d) of places (n, k, d)."""
    places = np.asarray(places, float)
    # one coordinate after another, as that is many times faster than all of them over a middle axis
    columns = [places[..., i] for i in range(places.shape[-1])]
    return np.stack([c.min(axis=1) for c in columns], axis=1), np.stack([c.max(axis=1) for c in columns], axis=1)


def to_pixels(seen: ArrayLike, width: float, height: float) -> Array:
    """Places in the frame (..., 2) as pixels from its upper left corner, to the right and down."""
    seen = np.asarray(seen, float)
    return np.stack([(seen[..., 0] + 1.0) / 2.0 * width, (1.0 - seen[..., 1]) / 2.0 * height], axis=-1)
