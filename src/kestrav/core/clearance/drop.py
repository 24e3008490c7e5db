"""Letting things down onto what lies below them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import get, shown_parts, subtree
from kestrav.core.document.records import Part, Project
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh, turned_bounds
from kestrav.core.geometry.models import model, nearest, placed
from kestrav.core.geometry.rays import first_hits
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.parts.placing import shift, transform
from kestrav.core.parts.rest import rest_poses
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

_DOWN = np.array([0.0, 0.0, -1.0])
_TOUCH = 1e-3  # mm; nearer than this is resting on it
_MOST_STEPS = 200


def drop_height(
    project: Project, meshes: Mapping[str, Mesh], part_ids: Iterable[str], poses: Array | None = None
) -> float:
    """How far parts can go straight down, in mm, until they touch a shown part below or the floor at height 0; at rest, or
    under world poses (parts, 4, 4).

    Negative when they are below the floor with nothing under them: they are lifted onto it. Vertices are let down
    on faces and faces on vertices by rays; edges that cross are met by halving with coal's distances. Raises
    BadInput for parts without geometry.
    """
    ids = {inner for part_id in part_ids for inner in subtree(project, part_id)}
    rest = rest_poses(project) if poses is None else poses
    shown = shown_parts(project)
    solids = [(i, p) for i, p in enumerate(project.parts) if p.geometry is not None and p.id in shown | ids]
    mine = [(rest[i], solid_mesh(meshes, p)) for i, p in solids if p.id in ids]
    if not mine:
        raise BadInput("what is selected has no geometry that could be lowered")
    boxes = [turned_bounds(shape.bounds, pose) for pose, shape in mine]
    low, high = np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)
    others = []
    for i, part in solids:
        if part.id in ids:
            continue
        shape = solid_mesh(meshes, part)
        box = turned_bounds(shape.bounds, rest[i])
        apart = (box[0, :2] > high[:2]) | (box[1, :2] < low[:2])
        if not apart.any() and box[0, 2] < high[2]:
            others.append((rest[i], shape))
    floor = float(low[2])
    reach = min((_vertical(a, b) for a in mine for b in others), default=np.inf)
    if floor > 0:
        reach = min(reach, floor)
    if not np.isfinite(reach):
        # below the floor, and nothing there that it could rest on
        return floor
    return _without_crossing(mine, others, reach) if others else reach


def _vertical(above: tuple[Array, Mesh], below: tuple[Array, Mesh]) -> float:
    """The least vertical way from one body's surface down to another's, by rays from the vertices of both."""
    (pose_a, a), (pose_b, b) = above, below
    drop = np.inf
    for pose_from, from_, pose_to, to, direction in ((pose_a, a, pose_b, b, _DOWN), (pose_b, b, pose_a, a, -_DOWN)):
        back = inverse_rigid(pose_to)
        starts = apply(back @ pose_from, from_.vertices)
        distances, _ = first_hits(to, starts - _TOUCH * (back[:3, :3] @ direction), back[:3, :3] @ direction)
        if len(distances):
            drop = min(drop, float(distances.min()) - _TOUCH)
    return max(drop, 0.0)


def _without_crossing(mine: list[tuple[Array, Mesh]], others: list[tuple[Array, Mesh]], reach: float) -> float:
    """The way down, shortened where edges would meet first."""
    pairs: list[tuple[Any, Array, Any, Array]] = [(model(a), pa, model(b), pb) for pa, a in mine for pb, b in others]

    def gap(distance: float) -> float:
        down = shift(distance * _DOWN)
        best = np.inf
        for first, at, second, there in pairs:
            near = nearest(first, placed(down @ at), second, placed(there), best)
            if near is not None:
                best = near.distance
        return best

    if reach <= _TOUCH or gap(reach - _TOUCH) > 0:
        return reach
    # edges meet on the way: go on by the distance that is surely free, until it is used up
    distance = 0.0
    for _ in range(_MOST_STEPS):
        free = gap(distance)
        if free < _TOUCH or distance + free >= reach:
            break
        distance += free
    return min(distance, reach)


def drop(project: Project, meshes: Mapping[str, Mesh], part_ids: Iterable[str]) -> Project:
    """The project with parts let down, as one, onto what lies below them."""
    ids = list(part_ids)
    for part_id in ids:
        if not isinstance(get(project, part_id), Part):
            raise BadInput("only parts can be lowered")
    return transform(project, ids, shift(drop_height(project, meshes, ids) * _DOWN))
