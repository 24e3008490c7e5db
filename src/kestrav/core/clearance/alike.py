"""Poses that stand for many others, as those of what turns round and round do. How far two of them are from each other is how far they
bring any point of a box apart, which is one of its corners. Lengths in mm.
"""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.geometry.meshes import box_corners

Array = NDArray[np.float64]

_MIXING = np.random.default_rng(5).integers(-(2**40), 2**40, 24) | 1
_SPREAD_OVER = 4000  # poses that some are chosen from


def unlike(seen: Array, box: Array, step: float = 1e-9) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """The numbers (k,) of poses among many (n, 4, 4), in their order, that stand for all, and for each which of them it is like (n,): the
    corners of a box (2, 3) are brought by both to places that differ by about a step in mm in each direction at most."""
    places = np.round(corners_at(seen, box).reshape(len(seen), -1) / step).astype(np.int64)
    # a number for each row, as it takes long to compare rows
    marks = places @ _MIXING
    _, first, which = np.unique(marks, return_index=True, return_inverse=True)
    order = np.argsort(first)
    place = np.empty(len(order), np.intp)
    place[order] = np.arange(len(order))
    return first[order], place[which.reshape(-1)]


def corners_at(seen: Array, box: Array) -> Array:
    """Where poses (n, 4, 4) bring the corners of a box (2, 3): (n, 8, 3)."""
    turned = (seen[:, :3, :3].reshape(-1, 3) @ box_corners(box).T).reshape(len(seen), 3, 8)
    return turned.swapaxes(1, 2) + seen[:, None, :3, 3]


def spread(poses: Array, box: Array, near: float, most: int) -> NDArray[np.intp]:
    """The numbers (k,) of so many of poses (n, 4, 4) at most that no other brings the corners of a box (2, 3) farther from all of them
    than is near in mm, or else than need be: each is the farthest from those before it, as T. F. Gonzalez, "Clustering to minimize the
    maximum intercluster distance", Theoretical Computer Science 38, 1985, has it."""
    few, step = np.arange(len(poses)), near
    while len(few) > _SPREAD_OVER:
        step *= 2.0
        few = unlike(poses, box, step)[0]
    if not len(few):
        return few
    places = corners_at(poses[few], box).reshape(len(few), 24)
    places -= places.mean(axis=0)
    squares = np.einsum("ij,ij->i", places, places)
    chosen, away, last = list[int](), np.full(len(few), np.inf), 0
    # of all eight corners together
    while len(chosen) < min(most, len(few)) and away.max(initial=0.0) > 8.0 * near**2:
        chosen.append(last)
        away = np.minimum(away, squares + squares[last] - 2.0 * (places @ places[last]))
        last = int(np.argmax(away))
    return few[chosen]


def off(poses: Array, chosen: Array, box: Array) -> Array:
    """How far (n,) poses (n, 4, 4) bring points within a box (2, 3) from where the nearest of chosen ones (k, 4, 4) has them at most."""
    if not len(chosen):
        return np.full(len(poses), np.inf)
    of = scipy.spatial.cKDTree(corners_at(chosen, box).reshape(len(chosen), 24)).query(
        corners_at(poses, box).reshape(len(poses), 24)
    )[1]
    return far(poses, chosen[of], box)


def far(one: Array, two: Array, box: Array) -> Array:
    """How far (n,) in mm points within a box (2, 3) are at poses (n, 4, 4) from where they are at others at most: it is one of the
    corners, as a linear map's largest length over a box is."""
    if not len(one):
        return np.empty(0)
    between = corners_at(one, box) - corners_at(two, box)
    return np.asarray(np.sqrt(np.einsum("nci,nci->nc", between, between).max(axis=1)))
