"""Edits that need to know the motion: new runs that follow the old ones."""

from __future__ import annotations

from kestrav.core.document.edits import add
from kestrav.core.document.lookup import get, new_id, new_name
from kestrav.core.document.records import Project, Run
from kestrav.core.motion.legs import journeys_of


def add_run(project: Project, rider: str, path: str) -> Project:
    """The project with a rider sent along a path, after all its runs so far; the new run is the last one.

    Raises BadInput when there is no such rider or path.
    """
    who, where = get(project, rider), get(project, path)
    start = max((trip.end for trip in journeys_of(project, rider)), default=0.0)
    name = new_name(project, Run, f"{who.name} on {where.name}")
    return add(project, Run(new_id(project, Run), name, rider, path, start=start))
