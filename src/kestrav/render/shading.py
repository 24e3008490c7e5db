"""Soft shade worked out from depth pictures: ambient occlusion, the shadow of a far light, and the ground. Arrays only, no VTK.

Ambient occlusion: how much of what is near a point rises over its tangent plane, after M. McGuire et al.,
"The Alchemy Screen-Space Ambient Obscurance Algorithm", HPG 2011. Shadows: percentage-closer filtering of a depth map, W. Reeves,
D. Salesin, R. Cook, "Rendering Antialiased Shadows with Depth Maps", SIGGRAPH 1987. Places on a spiral by the golden angle: H. Vogel, "A
better way to construct the sunflower head", Mathematical Biosciences 44, 1979.
"""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Single = NDArray[np.float32]

_GOLDEN = np.pi * (3.0 - np.sqrt(5.0))
_PATTERN = 4  # pixels after which the turns of the spirals are the same again
_RISES = 0.12  # of a neighbour over the tangent plane, that counts as none
_WIDEST = 0.12  # of the picture's height that a spiral may reach


class Sight(msgspec.Struct, frozen=True):
    """What a depth picture was taken by: a place, the axes (3, 3) to the right, up and ahead, half the height (a slope, or mm where it
    is parallel), the nearest and farthest distance ahead in mm, and by how many halves of the picture its middle is off the axis."""

    place: Array
    axes: Array
    half: float
    near: float
    far: float
    parallel: bool = False
    off: tuple[float, float] = (0.0, 0.0)

    def ahead(self, depth: NDArray[np.floating]) -> Single:
        """Distances ahead in mm of a depth buffer's values (h, w) from 0 to 1; infinite where nothing is."""
        depth = np.asarray(depth, np.float64)
        if self.parallel:
            distance = self.near + depth * (self.far - self.near)
        else:
            # OpenGL 4.6 core specification, 13.6 and 13.8.1: perspective division and depth range
            distance = self.near * self.far / (self.far - depth * (self.far - self.near))
        return np.where(depth < 1.0, distance, np.inf).astype(np.float32)

    def rays(self, height: int, width: int) -> tuple[Single, Single]:
        """How far to the right (w,) and up (h,) pixels lie, per mm ahead or in mm where it is parallel."""
        across = ((np.arange(width) + 0.5) / width * 2.0 - 1.0 + self.off[0]) * self.half * width / height
        up = (1.0 - (np.arange(height) + 0.5) / height * 2.0 + self.off[1]) * self.half
        return across.astype(np.float32), up.astype(np.float32)

    def places(self, ahead: Single) -> list[Single]:
        """The places x, y, z (each h, w) in the room that a picture of distances ahead shows."""
        across, up = self.rays(*ahead.shape)
        right, above, onward = self.axes.astype(np.float32)
        away = np.float32(1.0) if self.parallel else ahead
        with np.errstate(invalid="ignore"):
            x, y = across[None, :] * away, up[:, None] * away
        start = self.place.astype(np.float32)
        with np.errstate(invalid="ignore"):
            # where nothing is, there is no place
            return [start[i] + x * right[i] + y * above[i] + ahead * onward[i] for i in range(3)]

    def to_ground(self, height: int, width: int, level: float) -> Single:
        """Distances ahead (h, w) at which pixels' rays come down to a level; infinite where they do not."""
        across, up = self.rays(height, width)
        right, above, onward = (float(v) for v in self.axes[:, 2])
        if self.parallel:
            begins, falls = self.place[2] + across[None, :] * right + up[:, None] * above, np.asarray(onward)
        else:
            begins, falls = np.asarray(self.place[2]), onward + across[None, :] * right + up[:, None] * above
        with np.errstate(divide="ignore", invalid="ignore"):
            distance = (level - begins) / falls
        distance = np.broadcast_to(distance, (height, width))
        return np.where(np.isfinite(distance) & (distance > self.near), distance, np.inf).astype(np.float32)


def turns(height: int, width: int) -> Single:
    """By how far (h, w) in rad the spiral of each pixel is turned: sixteen turns in a pattern whose neighbours differ much."""
    order = np.array([0, 8, 2, 10, 12, 4, 14, 6, 3, 11, 1, 9, 15, 7, 13, 5]).reshape(_PATTERN, _PATTERN)  # Bayer's
    tiled = np.tile(order, (height // _PATTERN + 1, width // _PATTERN + 1))[:height, :width]
    return (tiled * (2.0 * np.pi / _PATTERN**2)).astype(np.float32)


def normals(places: list[Single], towards: list[Single]) -> list[Single]:
    """Unit normals x, y, z (each h, w) of the surfaces at places, on the side of vectors ``towards`` the eye.

    Of the neighbours on two sides the nearer is taken, so that an edge before a far background keeps its own normal.
    """
    along = [_nearer(p, axis) for p in places for axis in (1, 0)]
    across, down = [along[0], along[2], along[4]], [along[1], along[3], along[5]]
    axes = [
        across[1] * down[2] - across[2] * down[1],
        across[2] * down[0] - across[0] * down[2],
        across[0] * down[1] - across[1] * down[0],
    ]
    length = np.sqrt(axes[0] ** 2 + axes[1] ** 2 + axes[2] ** 2)
    side = np.where(sum(f * t for f, t in zip(axes, towards, strict=True)) < 0, -1.0, 1.0)
    with np.errstate(divide="ignore", invalid="ignore"):
        scale = np.where(length > 0, side / length, 0.0).astype(np.float32)
    return [np.nan_to_num(f * scale) for f in axes]


def _nearer(values: Single, axis: int) -> Single:
    step = np.diff(values, axis=axis)
    first, last = np.take(step, [0], axis=axis), np.take(step, [-1], axis=axis)
    before, after = np.concatenate([first, step], axis=axis), np.concatenate([step, last], axis=axis)
    return np.where(np.abs(before) < np.abs(after), before, after)


def occlusion(places: list[Single], facing: list[Single], pixels: Single, radius: float, samples: int) -> Single:
    """How much of the light from all around is kept away (h, w), 0 to 1, by what is within a radius in mm.

    ``pixels`` (h, w) is how many pixels a mm takes there.
    """
    height, width = places[0].shape
    rows, columns = np.indices((height, width), dtype=np.int32)
    reach = np.clip(radius * np.nan_to_num(pixels, posinf=0.0), 1.5, _WIDEST * height)
    turn = turns(height, width)
    flat = [p.ravel() for p in places]
    total = np.zeros((height, width), np.float32)
    for k in range(samples):
        away = reach * np.float32(((k + 0.5) / samples) ** 0.75)
        angle = turn + np.float32(k * _GOLDEN)
        row = np.clip(rows + np.rint(away * np.sin(angle)).astype(np.int32), 0, height - 1)
        column = np.clip(columns + np.rint(away * np.cos(angle)).astype(np.int32), 0, width - 1)
        at = row * width + column
        with np.errstate(invalid="ignore", over="ignore"):
            offset = [f.take(at) - p for f, p in zip(flat, places, strict=True)]
            square = offset[0] ** 2 + offset[1] ** 2 + offset[2] ** 2 + np.float32(1e-3)
            rise = offset[0] * facing[0] + offset[1] * facing[1] + offset[2] * facing[2]
            share = np.maximum(rise / np.sqrt(square) - _RISES, 0.0) / (1.0 - _RISES)
            near = np.maximum(1.0 - square / np.float32(radius * radius), 0.0)
            total += np.nan_to_num(share * near)
    return np.clip(total / samples, 0.0, 1.0)


def shaded(
    places: list[Single],
    facing: list[Single],
    map_of: Single,
    sun: Sight,
    softness: float,
    samples: int,
) -> Single:
    """How much of a far light is kept away (h, w), 0 to 1, by what its depth picture ``map_of`` (distances ahead, from a parallel
    sight) shows before a place. A shadow's edge is as soft as ``softness`` in mm."""
    height, width = places[0].shape
    high, wide = map_of.shape
    mm = 2.0 * sun.half / high  # of one of its pixels
    # a place is looked up a little in front of its surface, or it would shade itself
    off = 1.5 * mm + 0.5 * softness * 0.25
    moved = [p + np.float32(off) * n for p, n in zip(places, facing, strict=True)]
    offset = [m - np.float32(s) for m, s in zip(moved, sun.place, strict=True)]
    right, above, onward = (sum(o * np.float32(axis[i]) for i, o in enumerate(offset)) for axis in sun.axes)
    column = (right / np.float32(sun.half * wide / high) + 1.0) * (wide / 2.0) - 0.5
    row = (1.0 - above / np.float32(sun.half)) * (high / 2.0) - 0.5
    reach, turn, flat = softness / mm, turns(height, width), map_of.ravel()
    total = np.zeros((height, width), np.float32)
    known = np.isfinite(right)
    for k in range(samples):
        away, angle = np.float32(reach * np.sqrt((k + 0.5) / samples)), turn + np.float32(k * _GOLDEN)
        with np.errstate(invalid="ignore"):
            i = np.nan_to_num(np.rint(row + away * np.sin(angle)), nan=-1, posinf=-1, neginf=-1).astype(np.int32)
            j = np.nan_to_num(np.rint(column + away * np.cos(angle)), nan=-1, posinf=-1, neginf=-1).astype(np.int32)
        inside = known & (i >= 0) & (i < high) & (j >= 0) & (j < wide)
        met = flat.take(np.where(inside, i * wide + j, 0))
        total += inside & (met < onward - np.float32(mm))
    return total / np.float32(samples)


def smoothed(values: Single, ahead: Single) -> Single:
    """Values (h, w) smoothed over the pattern of :func:`turns`, but not over steps of the distance ahead."""
    for axis in (0, 1):
        total, weight = np.zeros_like(values), np.zeros_like(values)
        for step in range(_PATTERN):
            shift = step - _PATTERN // 2 + (axis and 1)
            other, there = np.roll(values, shift, axis), np.roll(ahead, shift, axis)
            with np.errstate(invalid="ignore"):
                alike = np.abs(there - ahead) < 0.02 * ahead
            total += np.where(alike, other, 0.0)
            weight += alike
        values = np.where(weight > 0, total / np.maximum(weight, 1), values).astype(np.float32)
    return values


def enlarged(values: Single, ahead: Single, whole: Single) -> Single:
    """Values (h, w) of a smaller picture at the pixels of the whole one (H, W), each from those of its four neighbours there that are as
    far ahead: J. Kopf et al., "Joint Bilateral Upsampling", SIGGRAPH 2007."""
    height, width = whole.shape
    small_h, small_w = values.shape
    rows = np.clip((np.arange(height) + 0.5) * small_h / height - 0.5, 0, small_h - 1)
    columns = np.clip((np.arange(width) + 0.5) * small_w / width - 0.5, 0, small_w - 1)
    i, j = np.floor(rows).astype(int), np.floor(columns).astype(int)
    u, v = (rows - i).astype(np.float32)[:, None], (columns - j).astype(np.float32)[None]
    total, weight = np.zeros((height, width), np.float32), np.zeros((height, width), np.float32)
    far = np.float32(1e9)
    own = np.minimum(whole, far)
    capped = np.minimum(ahead, far)
    for di, share_i in ((0, 1.0 - u), (1, u)):
        for dj, share_j in ((0, 1.0 - v), (1, v)):
            at = np.ix_(np.minimum(i + di, small_h - 1), np.minimum(j + dj, small_w - 1))
            apart = np.abs(capped[at] - own) / own
            share = share_i * share_j / (np.float32(1e-3) + apart)
            total += share * values[at]
            weight += share
    picture: Single = (total / np.maximum(weight, np.float32(1e-12))).astype(np.float32, copy=False)
    return picture
