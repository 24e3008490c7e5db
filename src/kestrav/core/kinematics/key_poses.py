"""Key poses: a thing placed at times, and what it does in between. Lengths in mm, times in s."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import PoseTrack
from kestrav.core.geometry.transforms import rigid

Array = NDArray[np.float64]


def pivot_poses(poses: PoseTrack, times: ArrayLike) -> Array:
    """Matrices (n, 4, 4) of the pivot in the room at times (n,) since the first key, held before and after."""
    times = np.clip(np.asarray(times, float), 0.0, poses.keys[-1].time)
    return rigid(turns(poses, times), places(poses, times))


def _key_times(poses: PoseTrack) -> Array:
    return np.array([key.time for key in poses.keys])


def _slopes(times: Array, values: Array) -> Array:
    """Slopes (k, d) that neither overshoot (PCHIP) nor leave or arrive with a jerk."""
    slopes: Array = scipy.interpolate.PchipInterpolator(times, values).derivative()(times)
    slopes[[0, -1]] = 0.0
    return slopes


def places(poses: PoseTrack, times: ArrayLike) -> Array:
    """Places (n, 3) of the pivot at times (n,) since the first key."""
    times, keys = np.asarray(times, float), _key_times(poses)
    points = np.array([key.placement.position for key in poses.keys])
    if len(keys) == 1:
        return np.broadcast_to(points[0], (len(times), 3)).copy()
    if poses.between == "straight":
        places: Array = np.column_stack([np.interp(times, keys, points[:, k]) for k in range(3)])
        return places
    if poses.between == "smooth":
        places = scipy.interpolate.CubicHermiteSpline(keys, points, _slopes(keys, points))(times)
        return places
    at = np.clip(np.searchsorted(keys, times, side="right") - 1, 0, len(keys) - 2)
    u = ((times - keys[at]) / np.diff(keys)[at])[:, None]
    a, b, c, d = (control[at] for control in _controls(poses))
    places = (1 - u) ** 3 * a + 3 * u * (1 - u) ** 2 * b + 3 * u**2 * (1 - u) * c + u**3 * d
    return places


def _controls(poses: PoseTrack) -> tuple[Array, Array, Array, Array]:
    """The four points (k - 1, 3) of each Bézier cubic from key to key."""
    keys = _key_times(poses)
    points = np.array([key.placement.position for key in poses.keys])
    if poses.between == "straight":
        out = np.diff(points, axis=0) / 3
        return points[:-1], points[:-1] + out, points[1:] - out, points[1:]
    slopes, step = _slopes(keys, points), np.diff(keys)[:, None]
    out, back = slopes[:-1] * step / 3, -slopes[1:] * step / 3
    if poses.between == "by hand":
        for k, key in enumerate(poses.keys):
            if key.handle_out is not None and k < len(out):
                out[k] = key.handle_out
            if key.handle_in is not None and k > 0:
                back[k - 1] = key.handle_in
    return points[:-1], points[:-1] + out, points[1:] + back, points[1:]


def travelled(poses: PoseTrack, before: Array, after: Array) -> Array:
    """How far (n,) the pivot goes at most between times (n,) since the first key and later ones, with no key in between: a Bézier curve is
    no longer than the polygon of its points (G. Farin, Curves and Surfaces for CAGD, 5th ed. 2002, section 4.3), here of the piece asked
    for."""
    keys = _key_times(poses)
    if len(keys) == 1:
        return np.zeros(len(before))
    at = np.clip(np.searchsorted(keys, 0.5 * (before + after), side="right") - 1, 0, len(keys) - 2)
    u, v = (np.clip((t - keys[at]) / np.diff(keys)[at], 0.0, 1.0)[:, None] for t in (before, after))
    controls = [control[at] for control in _controls(poses)]

    def blossom(r: Array, s: Array, t: Array) -> Array:
        """The polar form of the cubics, which gives the points of their pieces."""
        row = controls
        for w in (r, s, t):
            row = [p + w * (q - p) for p, q in pairwise(row)]
        return row[0]

    piece = [blossom(u, u, u), blossom(u, u, v), blossom(u, v, v), blossom(v, v, v)]
    lengths: Array = sum(np.linalg.norm(q - p, axis=1) for p, q in pairwise(piece))
    return lengths


def turned_so_far(poses: PoseTrack, times: ArrayLike) -> Array:
    """By how much (n,) in rad the pivot has turned since the first key, all turns added up, at times (n,) since that."""
    times, keys = np.asarray(times, float), _key_times(poses)
    if len(keys) == 1:
        return np.zeros(len(times))
    every = scipy.spatial.transform.Rotation.from_quat(
        np.roll([key.placement.rotation for key in poses.keys], -1, axis=1)
    )
    far = np.concatenate([[0.0], np.cumsum((every[:-1].inv() * every[1:]).magnitude())])
    if poses.between == "straight":
        return np.asarray(np.interp(times, keys, far))
    turned_so_far: Array = scipy.interpolate.CubicHermiteSpline(keys, far, _slopes(keys, far[:, None])[:, 0])(
        np.clip(times, 0.0, keys[-1])
    )
    return turned_so_far


def turns(poses: PoseTrack, times: ArrayLike) -> Array:
    """Rotations (n, 3, 3) of the pivot at times (n,) since the first key: about one axis from key to key, at rates that
    neither overshoot nor jerk unless it goes straight."""
    times, keys = np.asarray(times, float), _key_times(poses)
    every = scipy.spatial.transform.Rotation.from_quat(
        np.roll([key.placement.rotation for key in poses.keys], -1, axis=1)
    )
    if len(keys) == 1:
        return np.broadcast_to(every.as_matrix()[0], (len(times), 3, 3))
    angles = (every[:-1].inv() * every[1:]).magnitude()
    if poses.between == "straight" or not angles.any():
        turns: Array = scipy.spatial.transform.Slerp(keys, every)(times).as_matrix()
        return turns
    # turned so far, by time; a key at which nothing turns is stepped over by next to nothing
    far, turned = np.concatenate([[0.0], np.cumsum(angles)]), turned_so_far(poses, times)
    k = np.clip(np.searchsorted(keys, times, side="right") - 1, 0, len(keys) - 2)
    share = np.where(angles[k] > 0, (turned - far[k]) / np.where(angles[k] > 0, angles[k], 1.0), 0.0)
    spans = np.arange(len(keys), dtype=float)
    turns = scipy.spatial.transform.Slerp(spans, every)(k + np.clip(share, 0.0, 1.0)).as_matrix()
    return turns


def velocities(poses: PoseTrack, times: ArrayLike) -> Array:
    """Velocities (n, 3) of the pivot in mm/s at times (n,) since the first key; none before and after."""
    times = np.asarray(times, float)
    end = poses.keys[-1].time
    if end == 0:
        return np.zeros((len(times), 3))
    step = 1e-5 * end
    before, after = np.clip(times - step, 0.0, end), np.clip(times + step, 0.0, end)
    velocity = (places(poses, after) - places(poses, before)) / np.maximum(after - before, 1e-12)[:, None]
    return np.where(((times >= 0) & (times <= end))[:, None], velocity, 0.0)
