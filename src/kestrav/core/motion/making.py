"""Edits that need to know the motion: new runs that follow the old ones, pivots in the middle."""

from __future__ import annotations

import numpy as np

from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import get, new_id, new_name
from kestrav.core.document.records import Part, Placement, Project, Run
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.motion.poses import rest_poses, world_bounds
from kestrav.core.motion.runs import journeys_of


def add_run(project: Project, rider: str, path: str) -> Project:
    """The project with a rider sent along a path, after all its runs so far; the new run is the last one.

    Raises BadInput when there is no such rider or path.
    """
    who, where = get(project, rider), get(project, path)
    start = max((trip.end for trip in journeys_of(project, rider)), default=0.0)
    name = new_name(project, Run, f"{who.name} on {where.name}")
    return add(project, Run(new_id(project, Run), name, rider, path, start=start))


def centre_pivot(project: Project, part_id: str) -> Project:
    """The project with a part's pivot in the middle of its bounds at rest, to 0.0001 mm."""
    part = get(project, part_id)
    assert isinstance(part, Part)
    rest = rest_poses(project)
    row = project.parts.index(part)
    middle = world_bounds(project, part_id, rest[None])[0].mean(axis=0)
    x, y, z = (float(v) for v in np.round(apply(inverse_rigid(rest[row]), middle[None])[0], 4) + 0.0)
    return update(project, part_id, pivot=Placement((x, y, z), part.pivot.rotation))
