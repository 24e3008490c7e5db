"""Paths on the surfaces of parts: worked out, worked out again, and carried along when the part is placed elsewhere."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import get, get_as, new_id, new_name
from kestrav.core.document.records import Part, Path, Project, SurfaceShape
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.on_surface import brought_onto, surface_line
from kestrav.core.geometry.rays import first_hits
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.parts.placing import placement
from kestrav.core.parts.rest import placement_matrix, rest_poses
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.paths.path_curves import check_curves

Array = NDArray[np.float64]

# 26 directions: one of them meets the surface near any point that lies on it
_AROUND = np.array([[x, y, z] for x in (-1, 0, 1) for y in (-1, 0, 1) for z in (-1, 0, 1) if x or y or z], float)
_AROUND /= np.linalg.norm(_AROUND, axis=1)[:, None]


def surface_shape(
    project: Project,
    meshes: Mapping[str, Mesh],
    part_id: str,
    points: ArrayLike,
    lift: float = 0.0,
    between: Literal["smooth", "shortest"] = "smooth",
    *,
    closed: bool = False,
) -> SurfaceShape:
    """The shape of a path on a part's surface through points (k, 3) in the part's own coordinates, near it.

    Raises BadInput when the part is not a solid or its surface cannot be followed.
    """
    part = get(project, part_id)
    if not isinstance(part, Part) or part.geometry is None:
        raise BadInput(f"“{part.name}” has no surface of its own; pick one of its parts")
    shape = solid_mesh(meshes, part)
    points = np.asarray(points, float).reshape(-1, 3)
    if len(points) < (3 if closed else 2):
        raise BadInput(f"a path on a surface needs {3 if closed else 2} points or more")
    if not np.isfinite(points).all():
        raise BadInput("a point holds a number that is not finite")
    points, normals = nearest_on(shape, points)
    try:
        line = surface_line(shape, points, normals, between, closed=closed)
    except ValueError as fault:
        raise BadInput(f"on “{part.name}”: {fault}") from fault
    pose = rest_poses(project)[project.parts.index(part)]
    return SurfaceShape(
        part_id,
        tuple(vector(p) for p in points),
        lift,
        between,
        closed,
        tuple(vector(p) for p in apply(pose, line.lifted(lift))),
        line.marks,
        shape.hash,
        placement(pose),
    )


def nearest_on(shape: Mesh, points: Array) -> tuple[Array, Array]:
    """Places (k, 3) of a mesh's surface near points (k, 3), the nearest in 26 directions and then along the normal
    there, with the normals."""
    origins, directions = np.repeat(points, len(_AROUND), axis=0), np.tile(_AROUND, (len(points), 1))
    back = 1e-6 * float(np.linalg.norm(np.ptp(shape.bounds, axis=0)))
    away, met = first_hits(shape, origins - back * directions, directions)
    away = np.where(met >= 0, np.abs(away - back), np.inf).reshape(len(points), -1)
    best = np.argmin(away, axis=1)
    which = np.arange(len(points))
    normals = np.tile([0.0, 0.0, 1.0], (len(points), 1))
    places = points.copy()
    hit = np.isfinite(away[which, best])
    triangle = met.reshape(len(points), -1)[which, best]
    places[hit] += away[which, best][hit, None] * _AROUND[best[hit]]
    corners = shape.vertices[shape.triangles[triangle[hit]]]
    facing = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals[hit] = facing / np.linalg.norm(facing, axis=1)[:, None]
    # from there the foot of the normal is nearer still, and on the closed form where there is one
    feet, turned, met_again = brought_onto(shape, np.where(hit[:, None], points, places), normals)
    nearer = met_again & (np.linalg.norm(feet - points, axis=1) <= np.linalg.norm(places - points, axis=1) + 1e-6)
    snapped, at_place, _ = brought_onto(shape, places, normals)
    return np.where(nearer[:, None], feet, snapped), np.where(nearer[:, None], turned, at_place)


def add_surface_path(
    project: Project,
    meshes: Mapping[str, Mesh],
    part_id: str,
    points: Sequence[Sequence[float]] | Array,
    lift: float = 0.0,
) -> Project:
    """The project with a smooth path on a part's surface through points in the part's own coordinates."""
    shape = surface_shape(project, meshes, part_id, points, lift)
    name = new_name(project, Path, f"On {get(project, part_id).name}")
    return add(project, Path(new_id(project, Path), name, shape))


def reshaped(project: Project, meshes: Mapping[str, Mesh], path_id: str, **fields: object) -> Project:
    """The project with a surface path worked out again, with some of part, points, lift, between and closed changed."""
    path = get(project, path_id)
    if not isinstance(path, Path) or not isinstance(path.shape, SurfaceShape):
        raise BadInput(f"“{path.name}” does not lie on a surface")
    kept = {name: getattr(path.shape, name) for name in ("points", "lift", "between", "closed")}
    shape = surface_shape(project, meshes, path.shape.part, **(kept | fields))
    return update(project, path_id, shape=shape)


def is_replaced(project: Project, meshes: Mapping[str, Mesh], shape: SurfaceShape) -> bool:
    """Whether the part of a surface path is another solid than the one that it was worked out on."""
    part = get_as(project, shape.part, Part)
    return part.geometry is None or solid_mesh(meshes, part).hash != shape.solid


def derive_surface_paths(project: Project, since: Project | None = None) -> Project:
    """An edited project as it is to be shown: surface paths carried along, and all paths fit to be travelled.

    Raises BadInput as :func:`check_curves`.
    """
    return check_curves(settled(project), since)


def settled(project: Project) -> Project:
    """The project with the surface paths of parts that are placed otherwise than before carried along."""
    lying = [path for path in project.paths if isinstance(path.shape, SurfaceShape)]
    if not lying:
        return project
    row = {part.id: i for i, part in enumerate(project.parts)}
    rest = rest_poses(project)
    moved: dict[str, Path] = {}
    for path in lying:
        shape = path.shape
        assert isinstance(shape, SurfaceShape)
        pose = rest[row[shape.part]]
        before = placement_matrix(shape.at)
        if np.allclose(pose, before, rtol=0, atol=1e-9):
            continue
        samples = tuple(vector(p) for p in apply(pose @ inverse_rigid(before), np.array(shape.samples)))
        moved[path.id] = msgspec.structs.replace(
            path, shape=msgspec.structs.replace(shape, samples=samples, at=placement(pose))
        )
    if not moved:
        return project
    return msgspec.structs.replace(project, paths=tuple(moved.get(p.id, p) for p in project.paths))
