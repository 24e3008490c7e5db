"""What there is to stand on: the shown parts that nothing moves, and how high they are below a place. Lengths in mm."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import shown_parts
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, turned_bounds
from kestrav.core.geometry.rays import first_hits
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.kinematics.poses import moving_groups
from kestrav.core.parts.rest import rest_poses
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]


def heights_below(project: Project, meshes: Mapping[str, Mesh], places: Array, part_ids: Iterable[str]) -> Array:
    """Heights (n,) of the surfaces that lie straight below places (n, 3), of parts at rest; -inf where none does."""
    wanted = set(part_ids)
    rest = rest_poses(project)
    heights = np.full(len(places), -np.inf)
    down = np.array([0.0, 0.0, -1.0])
    for i, part in enumerate(project.parts):
        if part.geometry is None or part.id not in wanted:
            continue
        shape, back = solid_mesh(meshes, part), inverse_rigid(rest[i])
        box = turned_bounds(shape.bounds, rest[i])
        under = np.all((places[:, :2] >= box[0, :2]) & (places[:, :2] <= box[1, :2]), axis=1)
        under &= places[:, 2] >= box[0, 2]
        if not under.any():
            continue
        away, met = first_hits(shape, apply(back, places[under]), back[:3, :3] @ down)
        tops = np.where(met >= 0, places[under, 2] - away, -np.inf)
        heights[under] = np.maximum(heights[under], tops)
    return heights


def standing(project: Project) -> set[str]:
    """Ids of the shown parts that nothing moves; swept volumes are none to stand on."""
    swept = {part.id for part in project.parts if part.swept is not None}
    return shown_parts(project) - moving_groups(project).keys() - swept
