"""Placing parts: moving, turning, aligning, scaling. Each edit takes a project and returns a new one.

Points, axes and steps are in space, at rest; lengths in mm, angles in rad.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.edits import update_parts
from kestrav.core.document.lookup import get, get_as, subtree, topmost
from kestrav.core.document.records import Part, Placement, Project
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import apply, inverse_rigid, quaternion_from_rotation, rigid
from kestrav.core.parts.rest import placement_matrix, rest_poses, world_bounds
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

_SMALL = 1e-9


def placement(matrix: ArrayLike) -> Placement:
    """A rigid (4, 4) matrix as a placement, to all its digits."""
    matrix = np.asarray(matrix, float)
    w, x, y, z = (float(v) + 0.0 for v in quaternion_from_rotation(matrix[:3, :3]))
    return Placement(vector(matrix[:3, 3]), (w, x, y, z))


def rest_of(project: Project, part_id: str) -> Array:
    """World matrix (4, 4) of a part at rest."""
    rest: Array = rest_poses(project)[row_of(project, part_id)]
    return rest


def row_of(project: Project, part_id: str) -> int:
    """A part's row in the document. Raises BadInput when it is not a part."""
    part = get(project, part_id)
    if not isinstance(part, Part):
        raise BadInput(f"“{part.name}” is not a part")
    return project.parts.index(part)


def bounds_of(project: Project, part_ids: Iterable[str]) -> Array:
    """Bounds (2, 3) of parts together, at rest."""
    rest = rest_poses(project)[None]
    boxes = [world_bounds(project, part_id, rest)[0] for part_id in part_ids]
    if not boxes:
        raise BadInput("nothing is selected")
    return np.array([np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)])


def refuse_fixed(project: Project, part_ids: Iterable[str]) -> None:
    """Raise BadInput when one of some parts, or a part above it, is meant to stay where it is."""
    parts = {part.id: part for part in project.parts}
    for part_id in part_ids:
        here: str | None = part_id
        while here is not None:
            part = parts[here]
            if part.role == "fixed":
                raise BadInput(f"“{part.name}” is marked as fixed; clear the mark in its card to move it")
            here = part.parent


def transform(project: Project, part_ids: Iterable[str], matrix: ArrayLike) -> Project:
    """The project with parts, and all below them, moved by a rigid (4, 4) matrix in space."""
    ids = topmost(project, part_ids)
    refuse_fixed(project, ids)
    matrix = np.asarray(matrix, float)
    rest = rest_poses(project)
    rows = {part.id: i for i, part in enumerate(project.parts)}
    changes = {}
    for part_id in ids:
        part = project.parts[rows[part_id]]
        above = np.eye(4) if part.parent is None else rest[rows[part.parent]]
        local = inverse_rigid(above) @ matrix @ rest[rows[part_id]]
        changes[part_id] = {"placement": placement(local)}
    return update_parts(project, changes)


def shift(step: ArrayLike) -> Array:
    """The (4, 4) matrix of a step (3,)."""
    return rigid(np.eye(3), step)


def turn_about(point: ArrayLike, axis: ArrayLike, angle: float) -> Array:
    """The (4, 4) matrix of a turn by an angle about an axis (3,) through a point (3,).

    Raises BadInput for an axis without direction.
    """
    axis, point = np.asarray(axis, float), np.asarray(point, float)
    length = float(np.linalg.norm(axis))
    if length < _SMALL:
        raise BadInput("the axis has no direction")
    rotation = scipy.spatial.transform.Rotation.from_rotvec(angle * axis / length).as_matrix()
    return rigid(rotation, point - rotation @ point)


def turn_between(first: ArrayLike, second: ArrayLike) -> Array:
    """The smallest rotation (3, 3) that takes one direction (3,) into another."""
    a, b = (np.asarray(v, float) / np.linalg.norm(v) for v in (first, second))
    axis, cosine = np.cross(a, b), float(np.clip(a @ b, -1.0, 1.0))
    sine = float(np.linalg.norm(axis))
    if sine < _SMALL:
        if cosine > 0:
            return np.eye(3)
        # any axis across them will do; the upright one keeps most things upright
        axis = np.cross(a, np.eye(3)[int(np.argmin(np.abs(a)))])
        sine = float(np.linalg.norm(axis))
    turn: Array = scipy.spatial.transform.Rotation.from_rotvec(
        np.arctan2(float(np.linalg.norm(np.cross(a, b))), cosine) * axis / sine
    ).as_matrix()
    return turn


# aligning


def face_onto(
    point: ArrayLike, normal: ArrayLike, target: ArrayLike, target_normal: ArrayLike, *, flip: bool = False
) -> Array:
    """The matrix that lays one face on another: outward normals face each other, or agree when flipped.

    It turns about the own face's point and shifts along the target's normal only.
    """
    point, target = np.asarray(point, float), np.asarray(target, float)
    aim = np.asarray(target_normal, float) * (1.0 if flip else -1.0)
    rotation = turn_between(normal, aim)
    height = float((target - point) @ np.asarray(target_normal, float)) * np.asarray(target_normal, float)
    return rigid(rotation, point + height - rotation @ point)


def axis_onto(point: ArrayLike, axis: ArrayLike, target: ArrayLike, target_axis: ArrayLike) -> Array:
    """The matrix that lays one axis on another with the least turn, shifting across it only."""
    point, target, line = np.asarray(point, float), np.asarray(target, float), np.asarray(target_axis, float)
    line = line / np.linalg.norm(line)
    aim = line if float(np.asarray(axis, float) @ line) >= 0 else -line
    rotation = turn_between(axis, aim)
    across = (target - point) - float((target - point) @ line) * line
    return rigid(rotation, point + across - rotation @ point)


def points_onto(first: Sequence[ArrayLike], second: Sequence[ArrayLike]) -> Array:
    """The rigid matrix that takes one to three points to their partners, the first exactly.

    The second gives the direction, the third the side: lengths need not agree. Raises BadInput for points
    that give no direction.
    """
    if not 1 <= len(first) <= 3 or len(first) != len(second):
        raise BadInput("aligning takes one, two or three pairs of points")
    a, b = np.asarray(first, float), np.asarray(second, float)
    rotation = np.eye(3)
    if len(a) > 1:
        for points in (a, b):
            if np.linalg.norm(points[1] - points[0]) < 1e-6:
                raise BadInput("the first two points lie in one place; pick others")
        rotation = turn_between(a[1] - a[0], b[1] - b[0])
    if len(a) > 2:
        along = (b[1] - b[0]) / np.linalg.norm(b[1] - b[0])
        sides = []
        for side in (rotation @ (a[2] - a[0]), b[2] - b[0]):
            across = side - (side @ along) * along
            if np.linalg.norm(across) < 1e-6:
                raise BadInput("the three points lie on a line; pick a third one beside it")
            sides.append(across / np.linalg.norm(across))
        angle = float(np.arctan2(np.cross(sides[0], sides[1]) @ along, sides[0] @ sides[1]))
        rotation = scipy.spatial.transform.Rotation.from_rotvec(angle * along).as_matrix() @ rotation
    return rigid(rotation, b[0] - rotation @ a[0])


# scaling


def scale(project: Project, part_id: str, factor: float, about: ArrayLike | None = None) -> Project:
    """The project with a part or assembly scaled evenly about a point in space, its pivot if none is given.

    Raises BadInput for a factor that is not above 0.
    """
    if not factor > 0 or not np.isfinite(factor):
        raise BadInput(f"the scale factor is {factor:g}; it must be above 0")
    refuse_fixed(project, [part_id])
    part = get_as(project, part_id, Part)
    rest = rest_of(project, part_id)
    centre = (rest @ placement_matrix(part.pivot))[:3, 3] if about is None else np.asarray(about, float)
    changes: dict[str, dict[str, Any]] = {}
    for inner in subtree(project, part_id):
        record = get_as(project, inner, Part)
        fields: dict[str, Any] = {"pivot": _grown(record.pivot, factor)}
        if inner != part_id:
            fields["placement"] = _grown(record.placement, factor)
        if record.geometry is not None:
            fields["scale"] = vector(np.array(record.scale) * factor)
        changes[inner] = fields
    above = np.eye(4) if part.parent is None else rest_of(project, part.parent)
    moved = rest.copy()
    moved[:3, 3] = centre + factor * (rest[:3, 3] - centre)
    changes[part_id]["placement"] = placement(inverse_rigid(above) @ moved)
    return update_parts(project, changes)


def scale_axes(project: Project, part_id: str, factors: ArrayLike) -> Project:
    """The project with the scale of one solid along its own axes set. Raises BadInput for an assembly."""
    part = get(project, part_id)
    if not isinstance(part, Part) or part.geometry is None:
        raise BadInput(f"“{part.name}” is an assembly; scale it evenly, or its parts one by one")
    refuse_fixed(project, [part_id])
    return update_parts(project, {part_id: {"scale": vector(factors)}})


def scale_to(project: Project, part_id: str, measured: float, wanted: float) -> Project:
    """The project with a part scaled so that something measured on it gets a wanted length."""
    if not measured > 0 or not wanted > 0:
        raise BadInput("both lengths must be above 0")
    return scale(project, part_id, wanted / measured)


def _grown(placement: Placement, factor: float) -> Placement:
    return msgspec.structs.replace(placement, position=vector(np.array(placement.position) * factor))


# pivots and fronts


def pivot_at(project: Project, part_id: str, point: ArrayLike) -> Project:
    """The project with a part's pivot at a point in space; the part stays where it is."""
    part = get_as(project, part_id, Part)
    local = apply(inverse_rigid(rest_of(project, part_id)), np.asarray(point, float)[None])[0]
    place = vector(np.round(local, 6))
    return update_parts(project, {part_id: {"pivot": Placement(place, part.pivot.rotation)}})


def centre_of_gravity(project: Project, meshes: Mapping[str, Mesh], part_id: str) -> Array:
    """The centre of gravity (3,) in space of a part or assembly of one density, at rest.

    Solids weigh by their volume; where one is not closed, all weigh by their surface. Raises BadInput for a
    thing without geometry.
    """
    inside = set(subtree(project, part_id))
    rest = rest_poses(project)
    solids = [
        (rest[i], solid_mesh(meshes, p))
        for i, p in enumerate(project.parts)
        if p.id in inside and p.geometry is not None
    ]
    if not solids:
        raise BadInput(f"“{get(project, part_id).name}” has no geometry")
    closed = all(shape.watertight for _, shape in solids)
    weights = np.array([shape.volume if closed else shape.area for _, shape in solids])
    centres = np.array([apply(pose, shape.centroid[None])[0] for pose, shape in solids])
    centre: Array = (weights[:, None] * centres).sum(axis=0) / weights.sum()
    return centre


BOX_SIDES: dict[str, tuple[float, float, float]] = {
    "middle": (0.5, 0.5, 0.5),
    "bottom": (0.5, 0.5, 0.0),
    "top": (0.5, 0.5, 1.0),
    "front": (0.5, 0.0, 0.5),
    "back": (0.5, 1.0, 0.5),
    "left": (0.0, 0.5, 0.5),
    "right": (1.0, 0.5, 0.5),
}


def pivot_at_side(project: Project, part_id: str, side: str) -> Project:
    """The project with a part's pivot in the middle of a side of its box at rest, or of the whole box."""
    low, high = bounds_of(project, [part_id])
    return pivot_at(project, part_id, low + np.array(BOX_SIDES[side]) * (high - low))


def front_of(project: Project, part_id: str) -> tuple[Array, Array, Array]:
    """A part's pivot, front and upward directions (3,) in space, at rest."""
    part = get_as(project, part_id, Part)
    pose = rest_of(project, part_id) @ placement_matrix(part.pivot)
    return pose[:3, 3], pose[:3, 0], pose[:3, 2]


def set_front(project: Project, part_id: str, front: ArrayLike | None = None, up: ArrayLike | None = None) -> Project:
    """The project with a part's front or upward axis along a direction in space; the other stays as near as can be.

    Both are kept as the axes of the pivot. Raises BadInput when both are given and run along each other.
    """
    _, old_front, old_up = front_of(project, part_id)
    part = get_as(project, part_id, Part)
    first = np.asarray(front if front is not None else up, float)
    first = first / np.linalg.norm(first)
    second = (
        np.asarray(up, float) if front is not None and up is not None else (old_up if front is not None else old_front)
    )
    second = second - (second @ first) * first
    if np.linalg.norm(second) < 1e-6:
        if front is not None and up is not None:
            raise BadInput("front and upward run along each other; pick another face for one of them")
        # the axis that was kept lay along the new one; the third takes its part
        other = np.cross(old_up, old_front)
        second = other - (other @ first) * first
    second = second / np.linalg.norm(second)
    x, z = (first, second) if front is not None else (second, first)
    world = np.stack([x, np.cross(z, x), z], axis=-1)
    local = rest_of(project, part_id)[:3, :3].T @ world
    turned = placement(rigid(local, part.pivot.position))
    return update_parts(project, {part_id: {"pivot": turned}})


def square_axes(project: Project, part_id: str) -> Project:
    """The project with a part's front along x and its upside along z in space."""
    return set_front(project, part_id, (1.0, 0.0, 0.0), (0.0, 0.0, 1.0))
