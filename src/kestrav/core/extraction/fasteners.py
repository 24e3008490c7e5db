"""Which parts are fasteners: by their shape, a head wider than a round shank, and by that shank being in another part. Lengths in mm."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from kestrav.core.extraction.layers import Body
from kestrav.core.extraction.problem import Problem
from kestrav.core.extraction.pulls import shape_axes
from kestrav.core.geometry.meshes import Mesh, box_distances

Array = NDArray[np.float64]

# what follows is common practice, no source: it holds for screws, bolts and rivets with and without a socket
_WIDER = 1.2  # times as wide as the shank, that a head is
_HEAD = 0.5  # of the length, that the head is at most
_ROUND = 0.2  # of the shank's radius, that its vertices are from a circle at most: threads too
_LENGTH = 0.8  # times its own width, that a fastener is long at least
_BINS = 24


def fastener_axis(problem: Problem) -> Array | None:
    """The direction (3,) in which the thing, taken out alone, is pulled by its head, if it is a fastener; None if it is not."""
    if len(problem.movers) != 1:
        return None
    body = problem.movers[0]
    for axis in shape_axes(problem):
        head = head_along(body.shape, axis)
        if head is not None and _in_something(
            body, head, (o for j, o in enumerate(problem.obstacles) if j not in problem.ignored)
        ):
            return head
    return None


def head_along(shape: Mesh, axis: Array) -> Array | None:
    """The direction (3,) from the shank to the head of a solid that is a fastener along an axis; None if it is not one."""
    points = shape.vertices
    heights = points @ axis
    low, length = float(heights.min()), float(np.ptp(heights))
    across = points - heights[:, None] * axis
    middle = 0.5 * (across.min(axis=0) + across.max(axis=0))
    radii = np.linalg.norm(across - middle, axis=1)
    if length < _LENGTH * 2.0 * float(radii.max()) or length <= 0:
        return None
    # facets have no vertices between their ends, so that of each stretch is the wider one's of its edges
    ends = heights[shape.triangles]
    wide = radii[shape.triangles].max(axis=1)
    edges = low + length * np.linspace(0.0, 1.0, _BINS + 1)
    middles = 0.5 * (edges[:-1] + edges[1:])
    covers = (ends.min(axis=1)[:, None] <= middles) & (ends.max(axis=1)[:, None] >= middles)
    widths = np.where(covers, wide[:, None], 0.0).max(axis=0)
    for sense in (1.0, -1.0):
        # counted from the head
        mine = widths[::-1] if sense > 0 else widths
        shank = float(np.median(mine[_BINS // 2 :]))
        head = mine > _WIDER * shank
        count = int(np.argmin(head)) if not head.all() else _BINS
        if shank <= 0 or not 0 < count <= _HEAD * _BINS or head[count:].any():
            continue
        below = (
            (heights - low) < length * (1.0 - (count + 1) / _BINS)
            if sense > 0
            else (heights - low) > length * (count + 1) / _BINS
        )
        outer = below & (radii > 0.5 * shank)
        # at least six around, none of them far off the circle but for a tip
        if outer.sum() >= 6 and np.mean(radii[outer] > (1.0 - _ROUND) * shank) > 0.5:
            return sense * axis
    return None


def _in_something(body: Body, head: Array, others: Iterable[Body]) -> bool:
    """Whether the tip of a fastener is within the box of another part."""
    heights = body.shape.vertices @ head
    tip = body.shape.vertices[heights < heights.min() + 0.5 * np.ptp(heights)].mean(axis=0)
    return any(float(box_distances(np.array([tip, tip]), other.box)) <= 0 for other in others)
