"""Where things are to go: to a placement, or onto something. Lengths in mm."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.drop import drop_height
from kestrav.core.document.lookup import get, solids, subtree
from kestrav.core.document.records import Placement, Project
from kestrav.core.editing.run_making import pivot_on_it
from kestrav.core.errors import BadInput
from kestrav.core.extraction.removal_poses import Pose, pose_of
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.parts.placing import shift
from kestrav.core.parts.rest import placement_matrix, rest_and_pivot, rest_poses, rows, world_bounds

Array = NDArray[np.float64]

_ABOVE = 1.0  # mm above everything, from where things are let down


def pose_at(project: Project, things: Sequence[str], target: Placement) -> Pose:
    """The pose that brings the first thing's pivot to a placement in the room."""
    rest, pivot = rest_and_pivot(project, things[0])
    return pose_of(placement_matrix(target) @ inverse_rigid(rest @ pivot), _turned_about(project, things[0]))


def pose_on(project: Project, meshes: Mapping[str, Mesh], things: Sequence[str], carrier: str) -> Pose:
    """The pose that puts things down, turned as they stand, onto the middle of another one.

    Raises BadInput when that has no geometry, or is one of the things.
    """
    mine = {inner for thing in things for inner in subtree(project, thing)}
    if mine & set(subtree(project, carrier)):
        raise BadInput(f"“{get(project, carrier).name}” is taken out itself; nothing can be put onto it")
    if not solids(project, carrier):
        raise BadInput(f"“{get(project, carrier).name}” has no geometry to put something onto")
    poses = rest_poses(project)
    there = world_bounds(project, carrier, poses[None])[0]
    boxes = [world_bounds(project, thing, poses[None])[0] for thing in things if solids(project, thing)]
    if not boxes:
        raise BadInput("what is to be taken out has no geometry")
    low, high = np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)
    offset = there.mean(axis=0) - 0.5 * (low + high)
    offset[2] = there[1, 2] + _ABOVE - low[2]
    row = rows(project)
    moved = poses.copy()
    for inner in mine:
        moved[row[inner]] = shift(offset) @ poses[row[inner]]
    offset[2] -= drop_height(project, meshes, things, moved)
    return pose_of(shift(offset), _turned_about(project, things[0]))


def _turned_about(project: Project, thing: str) -> Array:
    """The point (3,) that a thing is turned about when it is taken out."""
    rest, pivot = rest_and_pivot(pivot_on_it(project, thing), thing)
    origin: Array = (rest @ pivot)[:3, 3]
    return origin
