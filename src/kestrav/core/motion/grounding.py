"""Letting paths down onto the surfaces below them. Lengths in mm."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import update
from kestrav.core.document.lookup import shown_parts, subtree
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, turned_bounds
from kestrav.core.geometry.rays import first_hits
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.motion.fitting import points_through
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.motion.resting import rest_poses
from kestrav.core.motion.shaping import path_of
from kestrav.core.motion.solids import solid_mesh

Array = NDArray[np.float64]

GROUND_TOLERANCE = 0.1  # mm between the ground and a path let down onto it
_GROUND_STEP, _MOST_RAYS = 5.0, 4000  # mm from ray to ray, and how many of them
_ON_GROUND = 1e-3  # mm


def projected_down(
    project: Project, meshes: Mapping[str, Mesh], path_id: str, lift: float = 0.0, over: Iterable[str] | None = None
) -> Project:
    """The project with a path let down onto the surfaces below it, and lifted by a height in mm.

    They are those of the shown parts (or of the parts ``over`` names) that nothing on this path moves, at rest, and
    the floor at height 0. Where the ground has a step the path climbs it.
    """
    path = path_of(project, path_id)
    curve = path_curve(path).curve
    riders = {inner for run in project.runs if run.path == path_id for inner in _subtree_of(project, run.rider)}
    wanted = shown_parts(project) if over is None else {i for p in over for i in subtree(project, p)}
    count = int(np.clip(np.ceil(curve.length / _GROUND_STEP), 200, _MOST_RAYS))
    stations = np.linspace(0.0, curve.length, count + 1)
    places = curve.position(stations)
    rest = rest_poses(project)
    heights = np.where(places[:, 2] >= 0, 0.0, places[:, 2])
    down = np.array([0.0, 0.0, -1.0])
    for i, part in enumerate(project.parts):
        if part.geometry is None or part.id in riders or part.id not in wanted:
            continue
        shape, back = solid_mesh(meshes, part), inverse_rigid(rest[i])
        box = turned_bounds(shape.bounds, rest[i])
        under = np.all((places[:, :2] >= box[0, :2]) & (places[:, :2] <= box[1, :2]), axis=1)
        if not under.any():
            continue
        # a place that lies on the surface already stays there
        starts = apply(back, places[under] + [0.0, 0.0, _ON_GROUND])
        away, met = first_hits(shape, starts, back[:3, :3] @ down)
        found = np.where(met >= 0, places[under, 2] + _ON_GROUND - away, -np.inf)
        heights[under] = np.maximum(heights[under], found)
    line = np.column_stack([places[:, :2], heights + lift])
    closed = curve.closed
    fitted = points_through(line[:-1] if closed else line, GROUND_TOLERANCE, closed)
    return update(project, path_id, shape=fitted, trim=(0.0, 1.0))


def _subtree_of(project: Project, rider: str) -> list[str]:
    return subtree(project, rider) if any(p.id == rider for p in project.parts) else []
