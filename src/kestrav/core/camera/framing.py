"""How a subject lies in the frame: its size, its margins, its distance. Lengths in mm; shares of the frame."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.lens import extent, in_camera, on_frame
from kestrav.core.camera.subject import Subject
from kestrav.core.camera.views import Views
from kestrav.core.document.records import Camera

Array = NDArray[np.float64]


class Framed(msgspec.Struct, frozen=True):
    """A subject in the frame at n times: the share ``size`` of the frame's height that it reaches over, the least ``margin`` to an
    edge as a share of the frame's width or height (below 0: beyond the edge), the ``distance`` to its middle, and the places
    ``low`` and ``high`` (n, 2) of its extent, −1 to 1 within the frame; and whether it is wholly ``behind`` the camera."""

    size: Array
    margin: Array
    distance: Array
    low: Array
    high: Array
    behind: NDArray[np.bool_]

    @property
    def outside(self) -> NDArray[np.bool_]:
        """Whether (n,) nothing of it is in the frame."""
        return np.asarray((self.low > 1).any(axis=1) | (self.high < -1).any(axis=1) | self.behind)

    @property
    def filling(self) -> Array:
        """The share (n,) of the frame's width or height, whichever is more, that it reaches over."""
        return np.asarray(0.5 * (self.high - self.low).max(axis=1))


def seen_places(
    subject: Subject,
    poses: Array,
    position: Array,
    forward: Array,
    up: Array,
    half_height: Array,
    aspect: float,
    *,
    parallel: bool,
) -> Array:
    """Where a subject's points are seen (n, k, 2) under world poses (n, parts, 4, 4)."""
    local = in_camera(position, forward, up, subject.places(poses))
    return on_frame(local, half_height, aspect, parallel=parallel)


def framed(camera: Camera, subject: Subject, seen: Views, poses: Array, aspect: float) -> Framed:
    """How a subject lies in a camera's frame at n times, under world poses (n, parts, 4, 4)."""
    half = seen.half_height(camera, aspect, 1.0)
    places = subject.places(poses)
    local = in_camera(seen.position, seen.forward, seen.up, places)
    shown = on_frame(local, half, aspect, parallel=camera.parallel)
    low, high = extent(shown)
    middle = 0.5 * np.add(*extent(places))
    distance = np.linalg.norm(middle - seen.position, axis=1)
    behind = np.full(len(distance), False) if camera.parallel else local[..., 2].max(axis=1) <= 0
    margin = np.where(behind, -1.0, 0.5 * np.minimum(low + 1.0, 1.0 - high).min(axis=1))
    size = np.where(behind, 0.0, 0.5 * (high - low)[:, 1])
    return Framed(size, margin, distance, low, high, behind)
