"""Where things are with nothing under way, and how far they reach."""

from __future__ import annotations

import itertools
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import find, subtree
from kestrav.core.document.records import Camera, Geometry, Light, Part, Placement, Project
from kestrav.core.geometry.meshes import turned_bounds
from kestrav.core.geometry.transforms import inverse_rigid, rigid, rotation_from_quaternion
from kestrav.core.memo import Memo
from kestrav.core.parts.solids import solid_box

Array = NDArray[np.float64]


@lru_cache(maxsize=4096)
def placement_matrix(placement: Placement) -> Array:
    """A placement as a (4, 4) matrix; read-only, as it is kept."""
    placement_matrix: Array = rigid(rotation_from_quaternion(placement.rotation), placement.position)
    placement_matrix.flags.writeable = False
    return placement_matrix


def rest_and_pivot(project: Project, thing: str) -> tuple[Array, Array]:
    """World matrix (4, 4) of a part, camera or light with nothing under way, and its pivot (4, 4) in its own coordinates."""
    item = find(project, thing)
    if isinstance(item, Part):
        return rest_poses(project)[row_of(project, thing)], placement_matrix(item.pivot)
    assert isinstance(item, Camera | Light)
    return rigid(np.eye(3), item.position), np.eye(4)


_KEPT = 4  # of the parts of so many documents, of which two or three are shown in turn
_rest: Memo[Array] = Memo(_KEPT)


def rest_poses(project: Project) -> Array:
    """World matrices (parts, 4, 4) with no run under way; read-only, as they are kept."""
    return _rest.get((project.parts,), lambda: _rest_poses(project))


def _rest_poses(project: Project) -> Array:
    """Level by level of the nesting, all parts of a level at once."""
    parts = project.parts
    if not parts:
        return np.empty((0, 4, 4))
    row = {part.id: i for i, part in enumerate(parts)}
    matrices: Array = rigid(
        rotation_from_quaternion([p.placement.rotation for p in parts]),
        np.array([p.placement.position for p in parts], float).reshape(-1, 3),
    )
    above = np.array([-1 if p.parent is None else row[p.parent] for p in parts], np.intp)
    depth = np.zeros(len(parts), int)
    for i, parent in enumerate(above.tolist()):
        if parent >= 0:
            depth[i] = depth[parent] + 1
    order = np.argsort(depth, kind="stable")
    starts = np.searchsorted(depth[order], np.arange(1, depth.max(initial=0) + 2))
    for first, last in itertools.pairwise(starts):
        level = order[first:last]
        matrices[level] = matrices[above[level]] @ matrices[level]
    matrices.flags.writeable = False
    return matrices


_own: Memo[Array] = Memo(64)


def own_bounds(project: Project, part_id: str) -> Array:
    """Bounds (2, 3) of a part or assembly in its own coordinates, as it is at rest; kept by the parts.

    Cameras and lights are points.
    """
    if part_id not in rows(project):
        return np.zeros((2, 3))
    return _own.get((project.parts,), lambda: _own_bounds(project, part_id), part_id)


def _own_bounds(project: Project, part_id: str) -> Array:
    rest = rest_poses(project)
    box: Array = world_bounds(project, part_id, (inverse_rigid(rest[row_of(project, part_id)]) @ rest)[None])[0]
    return box


def row_of(project: Project, part_id: str) -> int:
    """The place of a part among the parts."""
    return rows(project)[part_id]


_rows: Memo[dict[str, int]] = Memo(_KEPT)


def rows(project: Project) -> dict[str, int]:
    """The place of every part among the parts, by id; kept by the parts."""
    parts = project.parts
    return _rows.get((parts,), lambda: {part.id: i for i, part in enumerate(parts)})


_by_hash: Memo[dict[str, Geometry]] = Memo(_KEPT)


def _boxes(geometry: tuple[Geometry, ...]) -> dict[str, Geometry]:
    """What the document says of meshes, by hash; kept by the tuple."""
    return _by_hash.get((geometry,), lambda: {g.hash: g for g in geometry})


def world_bounds(project: Project, part_id: str, poses: Array) -> Array:
    """Bounds (n, 2, 3) in space of a part or assembly, from world poses (n, parts, 4, 4).

    A thing without any geometry is a point at its own origin.
    """
    boxes, row = _boxes(project.geometry), rows(project)
    inside = [row[inner] for inner in subtree(project, part_id)]
    solids = [(i, solid_box(boxes, project.parts[i])) for i in inside if project.parts[i].geometry is not None]
    if not solids:
        origin = poses[:, row[part_id], :3, 3]
        return np.stack([origin, origin], axis=1)
    bounds = turned_bounds(np.sort([box for _, box in solids], axis=1), poses[:, [i for i, _ in solids]])
    return np.stack([bounds[:, :, 0].min(axis=1), bounds[:, :, 1].max(axis=1)], axis=1)


def all_bounds(project: Project, rest: Array) -> dict[str, Array]:
    """Bounds (2, 3) under poses (parts, 4, 4) of every solid and of every assembly that holds one."""
    boxes = _boxes(project.geometry)
    solids = [(i, part) for i, part in enumerate(project.parts) if part.geometry is not None]
    if not solids:
        return {}
    own = np.sort([solid_box(boxes, part) for _, part in solids], axis=1)
    all_bounds = dict(zip((p.id for _, p in solids), turned_bounds(own, rest[[i for i, _ in solids]]), strict=True))
    for part in reversed(project.parts):
        if part.parent is None or part.id not in all_bounds:
            continue
        mine, above = all_bounds[part.id], all_bounds.get(part.parent)
        all_bounds[part.parent] = (
            mine.copy() if above is None else np.array([np.minimum(above[0], mine[0]), np.maximum(above[1], mine[1])])
        )
    return all_bounds


def top_bounds(project: Project) -> list[Array]:
    """Bounds (2, 3) at rest of every top-level thing."""
    rest = rest_poses(project)
    known = all_bounds(project, rest)
    return [
        known[part.id] if part.id in known else np.stack([rest[i, :3, 3]] * 2)
        for i, part in enumerate(project.parts)
        if part.parent is None
    ]
