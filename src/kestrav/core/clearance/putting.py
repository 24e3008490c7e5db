"""Putting down what is attached: onto what is below it, or where it is told to go. Lengths in mm, times in s."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.drop import drop_height
from kestrav.core.document.edits import add, change, replace, update
from kestrav.core.document.lookup import ancestors, get, get_as, new_id, new_name, shown_parts, subtree
from kestrav.core.document.records import Attachment, Part, Placement, Project
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh, box_distances, turned_bounds
from kestrav.core.geometry.models import model, nearest, placed
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import movers, segments_of
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import begins
from kestrav.core.parts.placing import placement, shift
from kestrav.core.parts.rest import rest_and_pivot, rows
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

_RESTING = 0.05  # mm within which something rests on another
_AT_ONCE = 1e-3  # s


def put_down(project: Project, meshes: Mapping[str, Mesh], attachment_id: str, time: float) -> Project:
    """The project with an attachment that ends at a time with its rider put down, straight below, onto what lies there then.

    Where that moves by itself the rider goes on riding with it. Raises BadInput when the attachment has not begun by then, or its
    rider has no geometry.
    """
    attachment = _attachment(project, attachment_id)
    start = begins(project, attachment)
    if not time > start:
        raise BadInput(f"“{attachment.name}” begins at {start:.2f} s; put its rider down after that")
    if not isinstance(get(project, attachment.rider), Part):
        raise BadInput(f"“{get(project, attachment.rider).name}” is no part, so it cannot be set down onto something")
    # as it rides on, with all else as it is then
    riding = replace(project, change(attachment, end=time, put=None, onto=None))
    segments = [segment for segment in segments_of(riding, attachment.rider) if segment.start <= start]
    poses = world_poses(riding, [time])[0]
    held = Motion(riding).by_segments(attachment.rider, segments, np.array([time]))[0]
    row = rows(riding)
    back = inverse_rigid(poses[row[attachment.rider]])
    for inner in subtree(riding, attachment.rider):
        poses[row[inner]] = held @ back @ poses[row[inner]]
    distance = drop_height(riding, meshes, [attachment.rider], poses)
    down = shift(np.array([0.0, 0.0, -distance])) @ poses[row[attachment.rider]]
    for inner in subtree(riding, attachment.rider):
        poses[row[inner]] = shift(np.array([0.0, 0.0, -distance])) @ poses[row[inner]]
    below = _moving_below(riding, meshes, attachment.rider, poses)
    pivot = rest_and_pivot(riding, attachment.rider)[1]
    frame = np.eye(4) if below is None else poses[row[below]]
    put = placement(inverse_rigid(frame) @ down @ pivot)
    lowering = min(attachment.lowering, time - start)
    project = update(riding, attachment_id, end=time, put=put, onto=below, lowering=lowering)
    if below is None or any(0 <= segment.start - time < _AT_ONCE for segment in segments_of(project, attachment.rider)):
        return project
    name = new_name(
        project, Attachment, f"{get(project, attachment.rider).name} is attached to {get(project, below).name}"
    )
    return add(project, Attachment(new_id(project, Attachment), name, attachment.rider, below, time))


def put_at(project: Project, attachment_id: str, target: Placement) -> Project:
    """The project with an attachment that ends with its rider's pivot at a placement in the room."""
    return update(project, attachment_id, put=target, onto=None)


def as_it_is(project: Project, attachment_id: str) -> Project:
    """The project with an attachment that ends as its rider is then."""
    return update(project, attachment_id, put=None, onto=None)


def target_placement(project: Project, attachment: Attachment) -> Placement | None:
    """Where an attachment puts its rider's pivot down, in the room."""
    if attachment.put is None or attachment.onto is None or attachment.end is None:
        return attachment.put
    pose = Motion(project).poses(attachment.rider, [attachment.end])[0] @ rest_and_pivot(project, attachment.rider)[1]
    return placement(pose)


def _attachment(project: Project, attachment_id: str) -> Attachment:
    attachment = get_as(project, attachment_id, Attachment)
    return attachment


def _moving_below(project: Project, meshes: Mapping[str, Mesh], rider: str, poses: Array) -> str | None:
    """The moving thing that one rests on under world poses (parts, 4, 4): the uppermost one of that which something moves."""
    mine, row, moved, shown = set(subtree(project, rider)), rows(project), movers(project), shown_parts(project)
    solids = [p for p in project.parts if p.geometry is not None]
    boxes = {p.id: turned_bounds(solid_mesh(meshes, p).bounds, poses[row[p.id]]) for p in solids}
    for other in solids:
        if other.id in mine or other.id not in shown:
            continue
        leaders = [i for i in (*ancestors(project, other.id), other.id) if i in moved]
        if not leaders:
            continue
        for part in solids:
            if part.id not in mine:
                continue
            if box_distances(boxes[part.id], boxes[other.id]) > _RESTING:
                continue
            one, two = solid_mesh(meshes, part), solid_mesh(meshes, other)
            near = nearest(model(one), placed(poses[row[part.id]]), model(two), placed(poses[row[other.id]]), _RESTING)
            if near is not None:
                return leaders[0]
    return None
