"""Depth of field: where a camera is sharp, how wide its lens is open, and from where to where that is so.

A thin lens: W. J. Smith, "Modern Optical Engineering", 4th ed., McGraw-Hill 2008, sections 2.4 and 9.6.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.camera.views import Views
from kestrav.core.document.records import Camera, Focus, FocusKey, Project
from kestrav.core.parts.rest import rows, world_bounds

Array = NDArray[np.float64]

NEAREST = 1.0  # mm before the lens


def aperture_diameter(camera: Camera, focal_length: ArrayLike) -> Array:
    """The diameter in mm of the lens's opening at focal lengths in mm; 0 where all is sharp."""
    lengths = np.asarray(focal_length, float)
    return lengths / camera.f_number if camera.f_number > 0 else np.zeros_like(lengths)


def focus_distances(project: Project, camera: Camera, times: ArrayLike, poses: Array, seen: Views) -> Array:
    """Distances (n,) in mm along a camera's axis that are sharp at times (n,), under world poses (n, parts, 4, 4) as it sees them."""
    focus, times = camera.focus, np.asarray(times, float)
    if focus.keys:
        distances = np.interp(times, [k.time for k in focus.keys], [k.distance for k in focus.keys])
    else:
        if focus.part and focus.part in rows(project):
            places = world_bounds(project, focus.part, poses).mean(axis=1)
        elif focus.point is not None:
            places = np.tile(np.asarray(focus.point, float), (len(times), 1))
        else:
            places = seen.target
        distances = np.einsum("ni,ni->n", places - seen.position, seen.forward)
    return np.asarray(np.maximum(distances, NEAREST))


def circle_of(camera: Camera) -> float:
    """The largest image of a point in mm that still counts as sharp: a 1500th of the sensor's diagonal (common practice, no source)."""
    return float(np.hypot(camera.sensor_width, camera.sensor_height)) / 1500.0


def keyed_focus(keys: Iterable[FocusKey], key: FocusKey) -> Focus:
    """A focus by keys and a further one, which takes the place of one at its time."""
    by_time = {one.time: one for one in (*keys, key)}
    return Focus(keys=tuple(by_time[time] for time in sorted(by_time)))


def sharp_span(camera: Camera, focal_length: float, focus: float, circle: float) -> tuple[float, float]:
    """The nearest and farthest distance in mm whose points are no larger on the sensor than a circle in mm; the farthest may be infinite.

    A point at d has an image of the diameter A f |d − s| / (d (s − f)), of a lens of an opening A focused at s.
    """
    aperture = float(aperture_diameter(camera, focal_length))
    if aperture <= 0:
        return 0.0, np.inf
    share = circle * (focus - focal_length) / (aperture * focal_length)
    return focus / (1.0 + share), focus / (1.0 - share) if share < 1 else np.inf


def open_times(time: float, fps: float, shutter: float, count: int) -> Array:
    """Times (count,) in s spread evenly over what a frame's shutter is open, in the middle of as many equal parts; ``shutter`` in
    degrees of a frame's 360."""
    if shutter <= 0:
        return np.array([time])
    return time + (np.arange(count) + 0.5) / count * shutter / 360.0 / fps
